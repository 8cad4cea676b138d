//! What is sent, with its checksum on the way.

use super::super::Trouble;
use crate::files::Watching;
use crate::files::copy::show;
use crate::files::known::plain;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use xxhash_rust::xxh3::Xxh3;

/// A made file on its way out.
pub struct Feed<'a> {
    file: File,
    path: &'a Path,
    hash: Xxh3,
    watching: &'a dyn Watching,
    left: u64,
    failed: Option<Trouble>,
}

impl<'a> Feed<'a> {
    /// Of a file of so many bytes, all of it.
    pub fn open(path: &'a Path, bytes: u64, watching: &'a dyn Watching) -> Result<Feed<'a>, Trouble> {
        let file = File::open(path).map_err(|e| changed(path, &e))?;
        Ok(Feed { file, path, hash: Xxh3::new(), watching, left: bytes, failed: None })
    }

    /// Passes over what is there already.
    pub fn skip(&mut self, bytes: u64) -> Result<(), Trouble> {
        let mut block = vec![0; 1 << 18];
        let mut left = bytes;
        while left > 0 {
            let n = left.min(block.len() as u64) as usize;
            match self.read(&mut block[..n]) {
                Ok(0) => return Err(self.failed.take().unwrap_or_else(|| self.short())),
                Ok(n) => left -= n as u64,
                Err(e) => return Err(self.failed.take().unwrap_or_else(|| changed(self.path, &e))),
            }
        }
        Ok(())
    }

    fn short(&self) -> Trouble {
        Trouble::Changed(format!("{} is shorter than what was made", media::show::path(self.path)))
    }

    /// What went wrong here, not at the other end.
    pub fn failure(&mut self) -> Option<Trouble> {
        self.failed.take()
    }

    pub fn left(&self) -> u64 {
        self.left
    }

    /// All was read, and is what was made.
    pub fn verify(&self, wanted: &str) -> Result<(), Trouble> {
        if self.left > 0 {
            return Err(self.short());
        }
        let found = show(&self.hash);
        match found == wanted {
            true => Ok(()),
            false => Err(Trouble::Changed(format!(
                "{} is not what was made (checksum {found}, expected {wanted})",
                media::show::path(self.path)
            ))),
        }
    }
}

fn changed(path: &Path, e: &io::Error) -> Trouble {
    Trouble::Changed(format!("cannot read {}: {}", media::show::path(path), plain(e)))
}

impl Read for Feed<'_> {
    fn read(&mut self, block: &mut [u8]) -> io::Result<usize> {
        if self.watching.stopping() {
            self.failed = Some(Trouble::Stopped);
            return Err(io::Error::other("stopped"));
        }
        let n = (block.len() as u64).min(self.left) as usize;
        let n = match self.file.read(&mut block[..n]) {
            Ok(n) => n,
            Err(e) => {
                self.failed = Some(changed(self.path, &e));
                return Err(e);
            }
        };
        self.hash.update(&block[..n]);
        self.left -= n as u64;
        self.watching.passed(n as u64);
        Ok(n)
    }
}

/// The checksum of what comes back: as much as was sent, and not a byte more.
pub struct Back<'a> {
    hash: Xxh3,
    left: u64,
    watching: &'a dyn Watching,
}

impl<'a> Back<'a> {
    pub fn new(bytes: u64, watching: &'a dyn Watching) -> Back<'a> {
        Back { hash: Xxh3::new(), left: bytes, watching }
    }

    pub fn take(&mut self, block: &[u8]) -> Result<(), Trouble> {
        if self.watching.stopping() {
            return Err(Trouble::Stopped);
        }
        let more = || Trouble::Away("more comes back from there than was sent".into());
        self.left = self.left.checked_sub(block.len() as u64).ok_or_else(more)?;
        self.hash.update(block);
        self.watching.passed(block.len() as u64);
        Ok(())
    }

    pub fn digest(&self) -> String {
        show(&self.hash)
    }
}
