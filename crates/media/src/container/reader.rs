//! A place in a file, moved by reading.

use super::Source;
use super::block::BlockReader;
use crate::error::{Error, Result};
use crate::limits::MAX_PACKET_BYTES;
use std::io::SeekFrom;

pub struct Reader {
    block: BlockReader,
    at: u64,
    len: u64,
}

impl Reader {
    pub fn new(mut source: Box<dyn Source>) -> Result<Self> {
        let len = source.seek(SeekFrom::End(0))?;
        Ok(Reader { block: BlockReader::new(source), at: 0, len })
    }
    pub fn into_source(self) -> Box<dyn Source> {
        self.block.into_source()
    }
    pub fn at(&self) -> u64 {
        self.at
    }
    pub fn len(&self) -> u64 {
        self.len
    }
    /// Bytes from here to the end of the file.
    pub fn left(&self) -> u64 {
        self.len.saturating_sub(self.at)
    }
    pub fn go(&mut self, to: u64) {
        self.at = to;
    }
    pub fn skip(&mut self, n: u64) {
        self.at = self.at.saturating_add(n);
    }
    /// Up to `n` bytes from here, without moving; fewer only at the end of the file.
    pub fn peek(&mut self, n: usize) -> Result<Vec<u8>> {
        let n = (n as u64).min(self.left()) as usize;
        self.block.read(self.at, n)
    }
    /// Fills a few bytes from here, which must be there, without moving.
    pub fn look(&mut self, out: &mut [u8]) -> Result<()> {
        self.block.read_into(self.at, out)
    }
    /// Exactly `n` bytes. `what` names them where they are not all there.
    pub fn take(&mut self, n: u64, what: &str) -> Result<Vec<u8>> {
        if n > MAX_PACKET_BYTES {
            return Err(Error::damaged_at(what, self.at, format!("{n} bytes; up to {MAX_PACKET_BYTES}")));
        }
        if n > self.left() {
            return Err(Error::damaged_at(
                what,
                self.at,
                format!("{n} bytes, but the file ends at {}", self.len),
            ));
        }
        let bytes = self.block.read(self.at, n as usize)?;
        self.at += n;
        Ok(bytes)
    }
    /// A few bytes into a fixed array; `None` at the end of the file.
    pub fn array<const N: usize>(&mut self) -> Result<Option<[u8; N]>> {
        if self.left() < N as u64 {
            return Ok(None);
        }
        let mut out = [0; N];
        self.block.read_into(self.at, &mut out)?;
        self.at += N as u64;
        Ok(Some(out))
    }
    /// Moves to the first place from here where `want` holds for the bytes that start there (`window` of them are
    /// shown, fewer at the end). At most `most` bytes are looked through. `false`: nothing found, and the
    /// place is behind what was looked through.
    pub fn find(&mut self, window: usize, most: u64, mut want: impl FnMut(&[u8]) -> bool) -> Result<bool> {
        const PIECE: usize = 64 << 10;
        let end = self.at.saturating_add(most).min(self.len);
        while self.at < end {
            let piece = self.peek(PIECE + window)?;
            let upto =
                piece.len().saturating_sub(window.saturating_sub(1)).max(1).min((end - self.at) as usize);
            for i in 0..upto {
                if want(&piece[i..(i + window).min(piece.len())]) {
                    self.at += i as u64;
                    return Ok(true);
                }
            }
            self.at += upto as u64;
            if self.left() < window as u64 {
                self.at = self.len;
            }
        }
        Ok(false)
    }
}

impl Reader {
    /// As [`Self::find`]; what starts in the last bytes of the file, where fewer than `window` can be shown, is found
    /// as well.
    pub fn find_to_end(
        &mut self,
        window: usize,
        most: u64,
        mut want: impl FnMut(&[u8]) -> bool,
    ) -> Result<bool> {
        let start = self.at;
        if self.find(window, most, &mut want)? {
            return Ok(true);
        }
        let end = start.saturating_add(most).min(self.len);
        let tail = self.len.saturating_sub(window.saturating_sub(1) as u64).max(start);
        for at in tail..end {
            self.at = at;
            if want(&self.peek(window)?) {
                return Ok(true);
            }
        }
        self.at = end;
        Ok(false)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    fn reader(bytes: Vec<u8>) -> Reader {
        Reader::new(Box::new(Cursor::new(bytes))).unwrap()
    }

    #[test]
    fn found_across_pieces_and_not_found_ends() {
        let mut bytes = vec![0u8; 200_000];
        bytes[65_535..65_539].copy_from_slice(b"here");
        bytes[199_996..].copy_from_slice(b"last");
        let mut r = reader(bytes);
        assert!(r.find(4, u64::MAX, |b| b == b"here").unwrap());
        assert_eq!(r.at(), 65_535);
        assert!(r.find(4, u64::MAX, |b| b == b"last").unwrap());
        assert_eq!(r.at(), 199_996);
        r.go(0);
        assert!(!r.find(4, 1000, |b| b == b"here").unwrap());
        assert!(!r.find(4, u64::MAX, |b| b == b"none").unwrap());
        assert_eq!(r.left(), 0);
    }

    #[test]
    fn what_starts_in_the_last_bytes_is_found() {
        let mut r = reader(b"0123456789ab".to_vec());
        assert!(r.find_to_end(8, u64::MAX, |b| b == b"ab").unwrap());
        assert_eq!(r.at(), 10);
        r.go(0);
        assert!(!r.find_to_end(8, 9, |b| b == b"ab").unwrap());
        assert_eq!(r.at(), 9);
    }

    #[test]
    fn sizes_past_the_end_name_the_place() {
        let mut r = reader(vec![1, 2, 3]);
        assert_eq!(r.array::<2>().unwrap(), Some([1, 2]));
        let e = r.take(9, "block").unwrap_err().to_string();
        assert!(e.contains("block at byte 2") && e.contains("ends at 3"), "{e}");
        assert_eq!((r.array::<2>().unwrap(), r.take(u64::MAX, "x").is_err()), (None, true));
    }
}
