//! Looking at real folders.

use super::steady::Seen;
use std::collections::BTreeSet;
use std::fs::Metadata;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Deepest nesting of folders that is looked into.
const MAX_DEPTH: usize = 32;

/// One thing found in a watch folder, by its path inside it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    pub path: PathBuf,
    pub seen: Seen,
    pub is_file: bool,
}

pub fn seen(meta: &Metadata) -> Seen {
    Seen { size: meta.len(), modified: meta.mtime() * 1_000_000_000 + meta.mtime_nsec(), inode: meta.ino() }
}

/// Everything in the folder. A subfolder that cannot be read is passed over; the folder itself must be
/// readable, for an empty list would mean that all files are gone.
pub fn look_through(folder: &Path, subfolders: bool) -> io::Result<Vec<Found>> {
    let mut out = Vec::new();
    let mut open = vec![(PathBuf::new(), 0)];
    while let Some((inside, depth)) = open.pop() {
        let entries = match std::fs::read_dir(folder.join(&inside)) {
            Ok(entries) => entries,
            Err(e) if depth == 0 => return Err(e),
            Err(_) => continue,
        };
        for entry in entries {
            let Ok(entry) = entry else { continue };
            let path = inside.join(entry.file_name());
            // A link is not followed: what it points to may be outside, or not there.
            let Ok(meta) = entry.metadata() else { continue };
            if meta.is_dir() {
                if subfolders && depth < MAX_DEPTH {
                    open.push((path, depth + 1));
                }
                continue;
            }
            out.push(Found { seen: seen(&meta), is_file: meta.is_file(), path });
        }
    }
    Ok(out)
}

/// A look at one path. `None`: nothing is there, or a folder.
pub fn look_at(folder: &Path, path: &Path) -> Option<Found> {
    let meta = std::fs::symlink_metadata(folder.join(path)).ok()?;
    (!meta.is_dir()).then(|| Found { path: path.to_owned(), seen: seen(&meta), is_file: meta.is_file() })
}

pub fn paths(found: &[Found]) -> BTreeSet<PathBuf> {
    found.iter().map(|f| f.path.clone()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_found_and_links_are_not_followed() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("day1/x.mp4")).unwrap();
        std::fs::write(dir.path().join("day1/a.mp4"), b"12345").unwrap();
        std::os::unix::fs::symlink("/etc/hostname", dir.path().join("link.mp4")).unwrap();
        let mut found = look_through(dir.path(), true).unwrap();
        found.sort_by(|a, b| a.path.cmp(&b.path));
        let told: Vec<_> = found.iter().map(|f| (f.path.to_str().unwrap(), f.is_file)).collect();
        assert_eq!(told, [("day1/a.mp4", true), ("link.mp4", false)]);
        assert_eq!(found[0].seen.size, 5);
        assert_eq!(look_through(dir.path(), false).unwrap().len(), 1);
        assert!(look_at(dir.path(), Path::new("day1")).is_none());
        assert!(look_through(&dir.path().join("gone"), true).is_err());
    }
}
