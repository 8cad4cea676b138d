//! Names that not every disk takes: those of cards and of other systems refuse some signs, and what is not UTF-8.

use super::Dir;
use rustix::io::Errno;
use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::io::{self, ErrorKind};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Component, Path, PathBuf};

/// What FAT, exFAT and NTFS do not take, control characters aside.
const REFUSED: &[u8] = b"\\:*?\"<>|";

/// In tests: as on a disk that refuses them.
pub fn refuses(name: &OsStr) -> bool {
    cfg!(feature = "stops")
        && std::env::var_os("DEFT_PORTER_TEST_COMMON_NAMES").is_some()
        && !odd(Path::new(name)).is_empty()
}

fn is_refused(byte: u8) -> bool {
    byte < 0x20 || byte == 0x7f || REFUSED.contains(&byte)
}

/// The bytes of a path that some disks refuse, each once.
fn odd(path: &Path) -> BTreeSet<u8> {
    let bytes = path.as_os_str().as_bytes();
    let is_text = path.to_str().is_some();
    bytes.iter().copied().filter(|b| is_refused(*b) || !is_text && !b.is_ascii()).collect()
}

/// The name with `_` for what some disks refuse, `-` for a colon, as in names of outputs.
pub fn common(name: &OsStr) -> OsString {
    let text = name.to_string_lossy();
    let swapped = text.chars().map(|c| match u8::try_from(c) {
        Ok(b':') => '-',
        Ok(byte) if is_refused(byte) => '_',
        _ if c == char::REPLACEMENT_CHARACTER => '_',
        _ => c,
    });
    OsString::from(swapped.collect::<String>())
}

/// Whether the disk under a folder takes all the signs of a path. It is asked only where some disks would not.
pub fn takes(folder: &Dir, path: &Path) -> io::Result<bool> {
    takes_all(folder, odd(path))
}

fn takes_all(folder: &Dir, odd: BTreeSet<u8>) -> io::Result<bool> {
    if odd.is_empty() {
        return Ok(true);
    }
    let of_us = format!(".deft-porter-{}-", std::process::id());
    let name = OsString::from_vec([of_us.as_bytes(), &Vec::from_iter(odd)].concat());
    match folder.create(&name) {
        Ok(_) => folder.remove(&name).map(|_| true),
        Err(e) if e.kind() == ErrorKind::AlreadyExists => Ok(true),
        // Which of these it is, is the system's; that there is no room or no right is told by what comes next.
        Err(e) => {
            let refused = [Errno::NOENT, Errno::INVAL, Errno::ILSEQ, Errno::PERM];
            Ok(!Errno::from_io_error(&e).is_some_and(|e| refused.contains(&e)))
        }
    }
}

/// Why a path cannot be on the disk under a folder, if it is for its name.
pub fn refusal(folder: &Dir, path: &Path) -> Option<String> {
    if takes(folder, path).unwrap_or(true) {
        return None;
    }
    let odd = odd(path);
    if odd.iter().any(|b| !b.is_ascii()) {
        return Some("the disk there does not take a name that is not UTF-8".into());
    }
    let signs = odd.iter().filter(|b| !b.is_ascii_control()).map(|b| char::from(*b).to_string());
    let signs: Vec<String> = signs.collect();
    Some(match signs.as_slice() {
        [] => "the disk there does not take a name with control characters".into(),
        signs => format!("the disk there does not take a name with {}", signs.join(" ")),
    })
}

/// The first of many that cannot be on the disk under a folder, and why. It is asked once where it takes them all.
pub fn first_refused<'a>(
    folder: &Dir,
    paths: impl Iterator<Item = &'a Path> + Clone,
) -> Option<(&'a Path, String)> {
    let all = paths.clone().flat_map(odd).collect();
    if takes_all(folder, all).unwrap_or(true) {
        return None;
    }
    paths.into_iter().find_map(|path| refusal(folder, path).map(|why| (path, why)))
}

/// A path as it is or, where the disk under the folder does not take it, one like it that every disk takes.
pub fn fitting(folder: &Dir, path: &Path) -> io::Result<PathBuf> {
    if takes(folder, path)? {
        return Ok(path.to_owned());
    }
    let parts = path.components().map(|part| match part {
        Component::Normal(name) => common(name),
        other => other.as_os_str().to_owned(),
    });
    Ok(parts.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_some_disks_refuse_is_replaced_and_nothing_else() {
        let same = |name: &str, want: &str| assert_eq!(common(OsStr::new(name)), OsStr::new(want));
        same("12:30 take?.wav", "12-30 take_.wav");
        same("tab\tand \"quotes\"", "tab_and _quotes_");
        same("über – 潮 🌊.mov", "über – 潮 🌊.mov");
        let bytes = OsStr::from_bytes(b"caf\xe9.mov");
        assert_eq!(common(bytes), OsStr::new("caf_.mov"));
        assert_eq!(odd(Path::new(bytes)), BTreeSet::from([0xe9]));
        assert!(odd(Path::new("day 1/über.mov")).is_empty());
    }

    #[test]
    fn a_disk_that_takes_every_name_keeps_it_and_nothing_is_left_there() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Dir::open(dir.path()).unwrap();
        let path = Path::new("day: 1/take?.wav");
        assert_eq!(fitting(&folder, path).unwrap(), path);
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 0);
    }
}
