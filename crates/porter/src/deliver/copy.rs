//! Copying with a checksum, reading back, and moving without overwriting.

use crate::error::{Error, Result};
use rustix::fs::{Advice, CWD, RenameFlags, fadvise, renameat_with};
use rustix::io::Errno;
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use xxhash_rust::xxh3::Xxh3;

const BLOCK: usize = 1 << 20;

/// Digest of some bytes as written in records: XXH3, 128 bits.
pub fn show(hash: &Xxh3) -> String {
    format!("xxh3-128:{:032x}", hash.digest128())
}

/// Digest of a file. `fresh` drops the system's cached pages first, so that the disk is read.
pub fn digest(path: &Path, fresh: bool) -> Result<String> {
    digest_counted(path, fresh, |_| ())
}

/// The same; `read` is told the bytes of each block.
pub fn digest_counted(path: &Path, fresh: bool, read: impl Fn(u64)) -> Result<String> {
    let mut file = File::open(path).map_err(Error::path("cannot read", path))?;
    if fresh {
        // Advice only: a file system that has no cache to drop may refuse it.
        let _ = fadvise(&file, 0, None, Advice::DontNeed);
    }
    let mut hash = Xxh3::new();
    let mut block = vec![0; BLOCK];
    loop {
        let n = file.read(&mut block).map_err(Error::path("cannot read", path))?;
        if n == 0 {
            return Ok(show(&hash));
        }
        hash.update(&block[..n]);
        read(n as u64);
    }
}

/// Copies to a file that is created or overwritten, synced to disk; gives the digest of what was read.
pub fn copy(from: &Path, to: &Path) -> Result<String> {
    let mut source = File::open(from).map_err(Error::path("cannot read", from))?;
    let mut target = File::create(to).map_err(Error::path("cannot write", to))?;
    let mut hash = Xxh3::new();
    let mut block = vec![0; BLOCK];
    loop {
        let n = source.read(&mut block).map_err(Error::path("cannot read", from))?;
        if n == 0 {
            break;
        }
        hash.update(&block[..n]);
        target.write_all(&block[..n]).map_err(Error::path("cannot write", to))?;
    }
    target.sync_all().map_err(Error::path("cannot write", to))?;
    Ok(show(&hash))
}

/// Copies, reads the copy back from disk and compares. A bad copy is removed.
pub fn copy_verified(from: &Path, to: &Path) -> Result<String> {
    let result = copy(from, to).and_then(|wanted| {
        let found = digest(to, true)?;
        if found == wanted { Ok(wanted) } else { Err(Error::Differs { path: to.to_owned(), found, wanted }) }
    });
    if result.is_err() {
        let _ = std::fs::remove_file(to);
    }
    result
}

/// Renames unless something has the new name: false then.
pub fn rename_if_free(from: &Path, to: &Path) -> Result<bool> {
    let done = match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        Ok(()) => true,
        Err(Errno::EXIST) => false,
        // File systems without that flag: a link is refused if the name is taken.
        Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => match std::fs::hard_link(from, to) {
            Ok(()) => {
                std::fs::remove_file(from).map_err(Error::path("cannot remove", from))?;
                true
            }
            Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => false,
            // Neither: look, then rename.
            Err(_) if to.symlink_metadata().is_ok() => false,
            Err(_) => {
                std::fs::rename(from, to).map_err(Error::path("cannot rename to", to))?;
                true
            }
        },
        Err(e) => return Err(Error::path("cannot rename to", to)(e.into())),
    };
    if done {
        sync_folder_of(to);
    }
    Ok(done)
}

/// Makes a rename last over a power cut, where the file system allows to ask for it.
pub fn sync_folder_of(path: &Path) {
    if let Some(folder) = path.parent()
        && let Ok(f) = File::open(folder)
    {
        let _ = f.sync_all();
    }
}

/// Moves a file without overwriting, to another disk if need be: copied, verified, then removed. False if
/// the name is taken.
pub fn move_if_free(from: &Path, to: &Path, tag: &str) -> Result<bool> {
    match rename_if_free(from, to) {
        Err(Error::Path { source, .. }) if source.raw_os_error() == Some(Errno::XDEV.raw_os_error()) => {
            let stage = staged(to, tag);
            copy_verified(from, &stage)?;
            if !rename_if_free(&stage, to)? {
                let _ = std::fs::remove_file(&stage);
                return Ok(false);
            }
            std::fs::remove_file(from).map_err(Error::path("cannot remove", from))?;
            Ok(true)
        }
        other => other,
    }
}

/// The hidden name beside `path` that is used until it is whole.
pub fn staged(path: &Path, tag: &str) -> PathBuf {
    path.with_file_name(format!(".{tag}.deft-porter-part"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn copies_have_the_digest_of_what_was_read() {
        let dir = tempfile::tempdir().unwrap();
        let (a, b) = (dir.path().join("a"), dir.path().join("b"));
        std::fs::write(&a, vec![7u8; 3 * BLOCK + 5]).unwrap();
        let d = copy_verified(&a, &b).unwrap();
        assert_eq!((d.clone(), d), (digest(&a, false).unwrap(), digest(&b, true).unwrap()));
        std::fs::write(&b, b"other").unwrap();
        assert_ne!(digest(&a, false).unwrap(), digest(&b, false).unwrap());
    }

    #[test]
    fn a_taken_name_is_never_overwritten() {
        let dir = tempfile::tempdir().unwrap();
        let (a, b) = (dir.path().join("a"), dir.path().join("b"));
        std::fs::write(&a, b"new").unwrap();
        std::fs::write(&b, b"old").unwrap();
        assert!(!rename_if_free(&a, &b).unwrap());
        assert_eq!(std::fs::read(&b).unwrap(), b"old");
        assert!(move_if_free(&a, &dir.path().join("c"), "t").unwrap());
        assert!(!a.exists());
    }
}
