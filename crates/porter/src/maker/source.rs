//! The source in a child: the file that the porter opened, read by as many readers as there are, each at its own
//! place, and no further than it may.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::FileExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// One reader.
pub struct Reader {
    file: Arc<File>,
    at: u64,
    /// Bytes that may still be read, by all who share it.
    left: Arc<AtomicU64>,
}

impl Reader {
    pub fn new(file: Arc<File>, most: u64) -> Reader {
        Reader::counted(file, Arc::new(AtomicU64::new(most)))
    }

    /// `left`: bytes that may still be read, counted down.
    pub fn counted(file: Arc<File>, left: Arc<AtomicU64>) -> Reader {
        Reader { file, at: 0, left }
    }
}

impl Read for Reader {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let n = self.file.read_at(to, self.at)?;
        let left = self.left.load(Ordering::Relaxed);
        if n as u64 > left {
            return Err(io::Error::new(io::ErrorKind::QuotaExceeded, super::child::TOO_MUCH));
        }
        self.left.store(left - n as u64, Ordering::Relaxed);
        self.at += n as u64;
        Ok(n)
    }
}

impl Seek for Reader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let (base, by) = match to {
            SeekFrom::Start(n) => (n, 0),
            SeekFrom::Current(by) => (self.at, by),
            SeekFrom::End(by) => (self.file.metadata()?.len(), by),
        };
        self.at = base.checked_add_signed(by).ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn readers_have_their_own_places_and_an_end_of_what_they_may() {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(b"0123456789").unwrap();
        let file = Arc::new(file);
        let (mut a, mut b) = (Reader::new(file.clone(), 100), Reader::new(file, 6));
        a.seek(SeekFrom::End(-2)).unwrap();
        let mut two = [0; 2];
        b.read_exact(&mut two).unwrap();
        assert_eq!(&two, b"01");
        a.read_exact(&mut two).unwrap();
        assert_eq!(&two, b"89");
        let mut rest = Vec::new();
        assert_eq!(b.read_to_end(&mut rest).unwrap_err().kind(), io::ErrorKind::QuotaExceeded);
        assert!(a.seek(SeekFrom::Current(-99)).is_err());
    }
}
