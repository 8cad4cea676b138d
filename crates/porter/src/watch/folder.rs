//! Looking at real folders, through their handles: what stands in the folder that was opened, and never behind a link.

use crate::files::dir::entry_of;
use crate::files::{Dir, Seen};
use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// Deepest nesting of folders that is looked into.
pub const MAX_DEPTH: usize = 32;

/// One thing found in a watch folder, by its path inside it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    pub path: PathBuf,
    pub seen: Seen,
    pub is_file: bool,
}

/// Everything in the folder. A subfolder that cannot be read is passed over; the folder itself must be
/// readable, for an empty list would mean that all files are gone.
pub fn look_through(folder: &Dir, deepest: usize) -> io::Result<Vec<Found>> {
    look_at_all(folder, deepest).map(|(found, _)| found)
}

/// The same, and whether all of it lies on one disk.
pub fn look_at_all(folder: &Dir, deepest: usize) -> io::Result<(Vec<Found>, bool)> {
    let device = entry_of(folder.fd())?.device;
    let mut one = true;
    let mut out = Vec::new();
    let mut open = vec![(PathBuf::new(), 0)];
    while let Some((inside, depth)) = open.pop() {
        let here = match folder.inside(&inside) {
            Ok(here) => here,
            Err(e) if depth == 0 => return Err(e),
            Err(_) => continue,
        };
        let mut names = match here.names() {
            Ok(names) => names,
            Err(e) if depth == 0 => return Err(e),
            Err(_) => continue,
        };
        // In the order in which they are kept: neighbours are found beside each other.
        names.sort_unstable();
        for name in names {
            // The house's own mark, not something that arrived.
            if depth == 0 && name == crate::files::known::MARKER {
                continue;
            }
            let Ok(Some(entry)) = here.look(&name) else { continue };
            let path = inside.join(&name);
            one &= entry.device == device;
            if entry.is_folder() {
                if depth < deepest.min(MAX_DEPTH) {
                    open.push((path, depth + 1));
                }
                continue;
            }
            out.push(Found { path, seen: entry.seen, is_file: entry.is_file() });
        }
    }
    Ok((out, one))
}

/// A look at one path. `None`: nothing is there, or a folder.
pub fn look_at(folder: &Dir, path: &Path) -> Option<Found> {
    let entry = folder.look_at(path).ok()??;
    (!entry.is_folder()).then(|| Found { path: path.to_owned(), seen: entry.seen, is_file: entry.is_file() })
}

/// What systems, disk stations and programs that show files put into shared folders by themselves, in small letters: bins, states of
/// the past, thumbnails, how a window is drawn. Nobody dropped it there, and what was thrown away is not to be delivered.
const OF_SYSTEMS: [&str; 16] = [
    "$recycle.bin",
    "recycler",
    "recycled",
    "#recycle",
    "@recycle",
    "system volume information",
    "lost+found",
    "network trash folder",
    "temporary items",
    "thumbs.db",
    "ehthumbs.db",
    "desktop.ini",
    "@eadir",
    "#snapshot",
    "@snapshot",
    "~snapshot",
];

/// Whether a part of a path is the name of something like that.
pub fn is_of_system(path: &Path) -> bool {
    let is = |name: &OsStr| OF_SYSTEMS.iter().any(|s| name.eq_ignore_ascii_case(s));
    path.iter().any(is)
}

/// True for a reason that the porter wrote beside a file it turned away.
pub fn is_reason(folder: &Dir, path: &Path) -> bool {
    let name = path.file_name().unwrap_or_default();
    if !name.to_string_lossy().ends_with(crate::jobs::REASON_ENDING) {
        return false;
    }
    let read = |name: &OsStr, dir: Dir| -> io::Result<String> {
        let mut text = String::new();
        dir.read(name)?.take(1_000_000).read_to_string(&mut text)?;
        Ok(text)
    };
    let text = folder.holder(path, false).and_then(|(dir, name)| read(name, dir));
    text.is_ok_and(|t| t.trim_end().ends_with(crate::jobs::REASON_LAST_LINE))
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
        std::os::unix::fs::symlink("/etc", dir.path().join("linked folder")).unwrap();
        let folder = Dir::open(dir.path()).unwrap();
        crate::files::known::mark(&folder, "a1").unwrap();
        let mut found = look_through(&folder, MAX_DEPTH).unwrap();
        found.sort_by(|a, b| a.path.cmp(&b.path));
        let told: Vec<_> = found.iter().map(|f| (f.path.to_str().unwrap(), f.is_file)).collect();
        assert_eq!(told, [("day1/a.mp4", true), ("link.mp4", false), ("linked folder", false)]);
        assert_eq!(found[0].seen.size, 5);
        assert_eq!(look_through(&folder, 0).unwrap().len(), 2);
        assert!(look_at(&folder, Path::new("day1")).is_none());
        assert!(look_at(&folder, Path::new("linked folder/hostname")).is_none());
    }

    #[test]
    fn what_systems_put_there_is_known_by_its_names() {
        let of_system = |p: &str| is_of_system(Path::new(p));
        assert!(
            of_system("day 1/Thumbs.db")
                && of_system("$RECYCLE.BIN/S-1-5/$R1.mp4")
                && of_system("#recycle/a.mov")
        );
        assert!(of_system("day 1/@eaDir/a.mov/thumbnail.jpg") && of_system("lost+found/#123"));
        assert!(!of_system("thumbs.db.mp4") && !of_system("recycle/a.mov") && !of_system("snapshot/a.mov"));
    }

    #[test]
    fn a_reason_is_known_by_its_last_line() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Dir::open(dir.path()).unwrap();
        let text = format!("damaged\n\n{}\n", crate::jobs::REASON_LAST_LINE);
        std::fs::write(dir.path().join("a.mp4.why.txt"), &text).unwrap();
        std::fs::write(dir.path().join("b.why.txt"), "a poem").unwrap();
        std::fs::write(dir.path().join("c.txt"), &text).unwrap();
        let known: Vec<bool> = ["a.mp4.why.txt", "b.why.txt", "c.txt"]
            .iter()
            .map(|n| is_reason(&folder, Path::new(n)))
            .collect();
        assert_eq!(known, [true, false, false]);
    }
}
