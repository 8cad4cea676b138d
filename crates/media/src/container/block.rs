//! Reading at places: a few blocks are kept, so that tracks that lie side by side do not read the same
//! bytes again and again, and tracks that lie far apart each keep their own block.

use super::Source;
use crate::error::Result;
use std::io::SeekFrom;

const BLOCK: u64 = 256 << 10;
const KEPT: usize = 8;

struct Block {
    number: u64,
    bytes: Vec<u8>,
    used: u64,
}

pub struct BlockReader {
    source: Box<dyn Source>,
    blocks: Vec<Block>,
    /// The block read last, which is nearly always the one read next.
    last: usize,
    clock: u64,
    /// Where the source stands, to save seeks.
    at: Option<u64>,
}

impl BlockReader {
    pub fn new(source: Box<dyn Source>) -> Self {
        BlockReader { source, blocks: Vec::new(), last: 0, clock: 0, at: None }
    }

    pub fn into_source(self) -> Box<dyn Source> {
        self.source
    }

    /// `len` bytes from `offset`. The caller has checked both against the file's length and the limits.
    pub fn read(&mut self, offset: u64, len: usize) -> Result<Vec<u8>> {
        let mut out = Vec::with_capacity(len);
        if len as u64 >= BLOCK {
            out.resize(len, 0);
            self.seek(offset)?;
            self.source.read_exact(&mut out)?;
            self.at = Some(offset + len as u64);
            return Ok(out);
        }
        while out.len() < len {
            let at = offset + out.len() as u64;
            let wanted = len - out.len();
            let within = (at % BLOCK) as usize;
            let block = self.block(at / BLOCK)?;
            let piece = block.get(within..).unwrap_or(&[]);
            if piece.is_empty() {
                return Err(std::io::Error::from(std::io::ErrorKind::UnexpectedEof).into());
            }
            out.extend_from_slice(&piece[..wanted.min(piece.len())]);
        }
        Ok(out)
    }

    /// As `read`, for few bytes.
    pub fn read_into(&mut self, offset: u64, out: &mut [u8]) -> Result<()> {
        let mut done = 0;
        while done < out.len() {
            let at = offset + done as u64;
            let piece = self.block(at / BLOCK)?.get((at % BLOCK) as usize..).unwrap_or(&[]);
            let n = piece.len().min(out.len() - done);
            if n == 0 {
                return Err(std::io::Error::from(std::io::ErrorKind::UnexpectedEof).into());
            }
            out[done..done + n].copy_from_slice(&piece[..n]);
            done += n;
        }
        Ok(())
    }

    fn seek(&mut self, to: u64) -> Result<()> {
        if self.at != Some(to) {
            self.source.seek(SeekFrom::Start(to))?;
        }
        self.at = None;
        Ok(())
    }

    fn block(&mut self, number: u64) -> Result<&[u8]> {
        if self.blocks.get(self.last).is_none_or(|b| b.number != number) {
            self.change_block(number)?;
        }
        Ok(&self.blocks[self.last].bytes)
    }

    fn change_block(&mut self, number: u64) -> Result<()> {
        self.clock += 1;
        if let Some(i) = self.blocks.iter().position(|b| b.number == number) {
            self.blocks[i].used = self.clock;
            self.last = i;
            return Ok(());
        }
        // Who reads on in order does not come back to what was two blocks before: its memory is still near the processor.
        let passed = self.blocks.get(self.last).filter(|b| b.number + 1 == number);
        let passed = passed.and_then(|b| self.blocks.iter().position(|p| p.number + 1 == b.number));
        let mut bytes = match passed {
            Some(passed) => self.blocks.swap_remove(passed).bytes,
            None if self.blocks.len() < KEPT => Vec::with_capacity(BLOCK as usize),
            None => {
                let oldest = (0..self.blocks.len()).min_by_key(|&i| self.blocks[i].used).unwrap_or(0);
                self.blocks.swap_remove(oldest).bytes
            }
        };
        bytes.clear();
        self.seek(number * BLOCK)?;
        let read = std::io::Read::take(&mut self.source, BLOCK).read_to_end_into(&mut bytes)?;
        self.at = Some(number * BLOCK + read as u64);
        self.blocks.push(Block { number, bytes, used: self.clock });
        self.last = self.blocks.len() - 1;
        Ok(())
    }
}

trait ReadInto {
    fn read_to_end_into(self, bytes: &mut Vec<u8>) -> std::io::Result<usize>;
}
impl<R: std::io::Read> ReadInto for R {
    fn read_to_end_into(mut self, bytes: &mut Vec<u8>) -> std::io::Result<usize> {
        self.read_to_end(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    #[test]
    fn any_place_reads_what_is_there() {
        let data: Vec<u8> = (0..1_000_000u32).map(|i| (i * 7 % 251) as u8).collect();
        let mut r = BlockReader::new(Box::new(Cursor::new(data.clone())));
        for (at, len) in
            [(0, 10), (262_100, 100), (999_990, 10), (5, 400_000), (262_144, 1), (700_000, 262_144)]
        {
            assert_eq!(r.read(at as u64, len).unwrap(), data[at..at + len], "{at} {len}");
        }
        assert!(r.read(999_995, 10).is_err());
    }
}
