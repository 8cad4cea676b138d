//! Copying with a checksum, and reading back.

use crate::error::{Error, Result};
use rustix::fs::{Advice, fadvise};
use std::fs::File;
use std::io::{Read, Seek, Write};
use std::num::NonZeroU64;
use std::path::Path;
use xxhash_rust::xxh3::Xxh3;

const BLOCK: usize = 1 << 20;
/// What was written goes to the disk in steps of so many bytes while more is written.
const STEP: u64 = 16 << 20;
/// So much is asked of the disk ahead of what is read.
const AHEAD: u64 = 32 << 20;

/// Lets what is written go to the disk at once, and not at the end all together.
#[derive(Default)]
pub struct Behind {
    written: u64,
    told: u64,
}

impl Behind {
    pub fn wrote(&mut self, file: &File, bytes: usize) {
        self.written += bytes as u64;
        if self.written - self.told >= STEP {
            // Advice only. Pages that are not on the disk yet are begun with, and stay until they are.
            let _ = fadvise(file, self.told, NonZeroU64::new(self.written - self.told), Advice::DontNeed);
            self.told = self.written;
        }
    }
}

/// Asks the disk for what will be read.
#[derive(Default)]
pub struct Ahead {
    read: u64,
    asked: u64,
}

impl Ahead {
    pub fn read(&mut self, file: &File, bytes: usize) {
        self.read += bytes as u64;
        if self.asked < self.read + AHEAD / 2 {
            let from = self.asked.max(self.read);
            let _ = fadvise(file, from, NonZeroU64::new(self.read + AHEAD - from), Advice::WillNeed);
            self.asked = self.read + AHEAD;
        }
    }
}

/// What is read comes from the disk, and not from what the system remembers of it.
pub fn forget_pages(file: &File) {
    // A file system that has no memory to drop may refuse it.
    let _ = fadvise(file, 0, None, Advice::DontNeed);
}

/// Told how far a long piece of work is, and asked whether it should end.
pub trait Watching: Sync {
    fn stopping(&self) -> bool;
    /// So many bytes more.
    fn passed(&self, bytes: u64);
}

/// Nobody looks on.
pub struct Quiet;

impl Watching for Quiet {
    fn stopping(&self) -> bool {
        false
    }
    fn passed(&self, _: u64) {}
}

/// Digest of some bytes as written in records: XXH3, 128 bits.
pub fn show(hash: &Xxh3) -> String {
    format!("xxh3-128:{:032x}", hash.digest128())
}

/// Digest of a file. `fresh` drops the system's cached pages first, so that the disk is read.
pub fn digest(path: &Path, fresh: bool) -> Result<String> {
    let mut file = File::open(path).map_err(Error::path("cannot read", path))?;
    digest_of(&mut file, path, fresh, &Quiet)
}

/// Digest of what an open file still has to give; `path` is for messages.
pub fn digest_of(file: &mut File, path: &Path, fresh: bool, watching: &dyn Watching) -> Result<String> {
    if fresh {
        forget_pages(file);
    }
    pass(file, path, watching, |_| Ok(()))
}

/// Copies what an open file still has to give, synced to disk; gives the digest of what was read.
pub fn copy(
    from: &mut File,
    from_path: &Path,
    to: &mut File,
    to_path: &Path,
    w: &dyn Watching,
) -> Result<String> {
    let digest = match shares_blocks(from, to) {
        // Read all the same: what is wanted is known by its checksum.
        true => pass(from, from_path, w, |_| Ok(()))?,
        false => copy_unsynced(from, from_path, to, to_path, w)?,
    };
    to.sync_all().map_err(Error::path("cannot write", to_path))?;
    Ok(digest)
}

/// A whole file on one file system that can do so gets the blocks of the other, and none of its own until one of them is
/// written to.
fn shares_blocks(from: &mut File, to: &File) -> bool {
    let at_start =
        from.stream_position().is_ok_and(|at| at == 0) && to.metadata().is_ok_and(|m| m.len() == 0);
    at_start && rustix::fs::ioctl_ficlone(to, &*from).is_ok()
}

/// The same, where many are synced together.
pub fn copy_unsynced(
    from: &mut File,
    from_path: &Path,
    to: &mut File,
    to_path: &Path,
    w: &dyn Watching,
) -> Result<String> {
    let mut behind = Behind::default();
    pass(from, from_path, w, |block| {
        to.write_all(block).map_err(Error::path("cannot write", to_path))?;
        behind.wrote(to, block.len());
        Ok(())
    })
}

fn pass(
    file: &mut File,
    path: &Path,
    watching: &dyn Watching,
    mut take: impl FnMut(&[u8]) -> Result<()>,
) -> Result<String> {
    let mut hash = Xxh3::new();
    // A small file needs no large block.
    let size = file.metadata().map_or(BLOCK as u64, |m| m.len() + 1);
    let mut block = vec![0; size.clamp(4096, BLOCK as u64) as usize];
    let mut ahead = Ahead::default();
    loop {
        if watching.stopping() {
            return Err(Error::Stopped);
        }
        let n = match file.read(&mut block) {
            Ok(n) => n,
            Err(e) if e.kind() == std::io::ErrorKind::Interrupted => continue,
            Err(e) => return Err(Error::path("cannot read", path)(e)),
        };
        if n == 0 {
            return Ok(show(&hash));
        }
        ahead.read(file, n);
        hash.update(&block[..n]);
        take(&block[..n])?;
        watching.passed(n as u64);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU64, Ordering};

    struct StopsAfter(u64, AtomicU64);
    impl Watching for StopsAfter {
        fn stopping(&self) -> bool {
            self.1.load(Ordering::Relaxed) >= self.0
        }
        fn passed(&self, n: u64) {
            self.1.fetch_add(n, Ordering::Relaxed);
        }
    }

    fn copied(from: &Path, to: &Path, w: &dyn Watching) -> Result<String> {
        copy(&mut File::open(from).unwrap(), from, &mut File::create(to).unwrap(), to, w)
    }

    #[test]
    fn copies_have_the_digest_of_what_was_read() {
        let dir = tempfile::tempdir().unwrap();
        let (a, b) = (dir.path().join("a"), dir.path().join("b"));
        std::fs::write(&a, vec![7u8; 3 * BLOCK + 5]).unwrap();
        let d = copied(&a, &b, &Quiet).unwrap();
        assert_eq!((d.clone(), d), (digest(&a, false).unwrap(), digest(&b, true).unwrap()));
        std::fs::write(&b, b"other").unwrap();
        assert_ne!(digest(&a, false).unwrap(), digest(&b, false).unwrap());
    }

    #[test]
    fn the_digest_is_the_published_one() {
        // XXH3, 128 bits, of "abc" with seed 0: the test value of the algorithm's own description.
        let dir = tempfile::tempdir().unwrap();
        let a = dir.path().join("a");
        std::fs::write(&a, b"abc").unwrap();
        assert_eq!(digest(&a, false).unwrap(), "xxh3-128:06b05ab6733a618578af5f94892f3950");
    }

    #[test]
    fn a_copy_stops_within_a_block() {
        let dir = tempfile::tempdir().unwrap();
        let (a, b) = (dir.path().join("a"), dir.path().join("b"));
        std::fs::write(&a, vec![7u8; 9 * BLOCK]).unwrap();
        let w = StopsAfter(2 * BLOCK as u64, AtomicU64::new(0));
        assert!(matches!(copied(&a, &b, &w), Err(Error::Stopped)));
        assert_eq!(w.1.load(Ordering::Relaxed), 2 * BLOCK as u64);
    }
}
