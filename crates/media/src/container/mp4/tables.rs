//! The sample tables of a track (14496-12, 8.6 and 8.7), kept as they are in the file and walked by a
//! cursor: no count from the file allocates anything.

use super::boxes::{be32, be64, find};
use crate::error::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// A table's entries inside the index.
#[derive(Clone, Debug, Default)]
struct Table {
    index: Arc<[u8]>,
    range: Range<usize>,
    /// Entries that are both stated and there.
    count: u32,
}

impl Table {
    /// `header` bytes come before the entries, the last four of them the count.
    fn find(index: &Arc<[u8]>, stbl: &[u8], kind: &[u8; 4], header: usize, entry: usize) -> Option<Table> {
        let body = find(stbl, kind)?;
        let stated = be32(body, header - 4)? as usize;
        let there = (body.len() - header) / entry;
        let base = body.as_ptr() as usize - index.as_ptr() as usize + header;
        let count = stated.min(there);
        Some(Table { index: index.clone(), range: base..base + count * entry, count: count as u32 })
    }
    fn bytes(&self) -> &[u8] {
        &self.index[self.range.clone()]
    }
    fn u32(&self, at: usize) -> u32 {
        be32(self.bytes(), at).unwrap_or(0)
    }
}

/// Sample tables of one track.
#[derive(Clone, Debug)]
pub struct Tables {
    /// (count, delta)
    stts: Table,
    /// (count, offset), and whether offsets are signed
    ctts: Option<Table>,
    /// (first chunk from 1, samples a chunk, entry)
    stsc: Table,
    /// size of each, or all the same
    sizes: Table,
    same_size: u32,
    /// bytes of `co64` are 8 wide
    chunks: Table,
    wide_chunks: bool,
    /// sample numbers from 1; no table means each is a sync sample
    stss: Option<Table>,
    pub samples: u32,
}

/// Where one sample is and when. Times are media ticks before edits.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sample {
    pub number: u32,
    pub offset: u64,
    pub size: u32,
    pub dts: i64,
    pub pts: i64,
    pub duration: u32,
    pub key: bool,
}

impl Tables {
    pub fn parse(index: &Arc<[u8]>, stbl: &[u8]) -> Result<Tables> {
        let missing = |k: &str| Error::damaged("moov/trak/mdia/minf/stbl", format!("no '{k}' table"));
        let stts = Table::find(index, stbl, b"stts", 8, 8).ok_or_else(|| missing("stts"))?;
        let stsc = Table::find(index, stbl, b"stsc", 8, 12).ok_or_else(|| missing("stsc"))?;
        let ctts = Table::find(index, stbl, b"ctts", 8, 8).filter(|t| t.count > 0);
        let stss = Table::find(index, stbl, b"stss", 8, 4);
        let stsz = find(stbl, b"stsz").ok_or_else(|| missing("stsz"))?;
        let same_size = be32(stsz, 4).unwrap_or(0);
        let stated = be32(stsz, 8).unwrap_or(0);
        let (sizes, samples) = if same_size != 0 {
            (Table::default(), stated)
        } else {
            let t = Table::find(index, stbl, b"stsz", 12, 4).ok_or_else(|| missing("stsz"))?;
            let n = t.count;
            (t, n)
        };
        let (chunks, wide_chunks) = match Table::find(index, stbl, b"stco", 8, 4) {
            Some(t) => (t, false),
            None => (Table::find(index, stbl, b"co64", 8, 8).ok_or_else(|| missing("stco or co64"))?, true),
        };
        let mut tables = Tables { stts, ctts, stsc, sizes, same_size, chunks, wide_chunks, stss, samples };
        // A size that is the same for all needs no bytes for a count: hold it to what the chunks can carry.
        if same_size != 0 && samples > 0 {
            tables.samples = tables.samples_in_chunks().min(u64::from(samples)) as u32;
        }
        Ok(tables)
    }

    fn samples_in_chunks(&self) -> u64 {
        let mut total = 0u64;
        for i in 0..self.stsc.count as usize {
            let first = self.stsc.u32(i * 12).max(1);
            let next = if i + 1 < self.stsc.count as usize {
                self.stsc.u32((i + 1) * 12)
            } else {
                self.chunks.count + 1
            };
            let chunks = next.min(self.chunks.count + 1).saturating_sub(first);
            total = total.saturating_add(u64::from(chunks) * u64::from(self.stsc.u32(i * 12 + 4)));
        }
        total
    }

    /// Ticks of all samples together, from the samples and not from a header.
    pub fn media_length(&self) -> i64 {
        let mut left = u64::from(self.samples);
        let mut total = 0i64;
        for i in 0..self.stts.count as usize {
            let n = u64::from(self.stts.u32(i * 8)).min(left);
            left -= n;
            total = total.saturating_add((n as i64).saturating_mul(i64::from(self.stts.u32(i * 8 + 4))));
        }
        total
    }

    /// First and last moment of presentation before edits: earliest start, latest end.
    pub fn presented(&self) -> (i64, i64) {
        if self.ctts.is_none() {
            return (0, self.media_length());
        }
        let mut cursor = self.cursor();
        let (mut first, mut last) = (i64::MAX, 0);
        while let Some(s) = cursor.next(self) {
            first = first.min(s.pts);
            last = last.max(s.pts.saturating_add(i64::from(s.duration)));
        }
        (first.min(last), last)
    }

    /// The delta of the samples if they all last as long; the last one may differ.
    pub fn constant_delta(&self) -> Option<u32> {
        let mut left = self.samples;
        let mut delta = None;
        for i in 0..self.stts.count as usize {
            let n = self.stts.u32(i * 8).min(left);
            let d = self.stts.u32(i * 8 + 4);
            match delta {
                _ if n == 0 => continue,
                None => delta = Some(d),
                Some(first) if first == d => (),
                Some(_) if n == 1 && left == 1 => (),
                Some(_) => return None,
            }
            left -= n;
        }
        delta.filter(|&d| d > 0)
    }

    /// Bytes of all samples together.
    pub fn total_bytes(&self) -> u64 {
        if self.same_size != 0 {
            return u64::from(self.same_size) * u64::from(self.samples);
        }
        self.sizes
            .bytes()
            .chunks_exact(4)
            .map(|b| u64::from(u32::from_be_bytes([b[0], b[1], b[2], b[3]])))
            .sum()
    }

    /// Number of the last sync sample at or before `number` (0-based both).
    pub fn sync_before(&self, number: u32) -> u32 {
        let Some(stss) = &self.stss else { return number };
        let (mut low, mut high) = (0usize, stss.count as usize);
        while low < high {
            let mid = (low + high) / 2;
            if stss.u32(mid * 4) <= number + 1 { low = mid + 1 } else { high = mid }
        }
        if low == 0 { 0 } else { stss.u32((low - 1) * 4).saturating_sub(1) }
    }

    /// Uncompressed sound: every sample is `bytes` long, whatever the table says. Old writers state 1
    /// there, or the size of one channel.
    pub fn make_uniform(&mut self, bytes: u32) {
        if self.same_size != 0 {
            self.same_size = bytes;
        }
    }

    /// Where the first packet of the furthest chunk ends: a file that is shorter is not whole.
    pub fn furthest_chunk(&self) -> u64 {
        let size = if self.wide_chunks { 8 } else { 4 };
        let offset = |i: usize| {
            if self.wide_chunks {
                be64(self.chunks.bytes(), i * 8).unwrap_or(0)
            } else {
                u64::from(self.chunks.u32(i * 4))
            }
        };
        let last = (0..self.chunks.bytes().len() / size).map(offset).max().unwrap_or(0);
        let tail = if self.same_size != 0 {
            self.same_size
        } else {
            self.sizes.u32((self.samples as usize).saturating_sub(1) * 4)
        };
        if self.samples == 0 { 0 } else { last.saturating_add(u64::from(tail)) }
    }

    pub fn cursor(&self) -> Cursor {
        Cursor::default()
    }
}

/// A walk over the samples in decoding order. Each step is constant work; `stss` is followed in step.
#[derive(Clone, Debug, Default)]
pub struct Cursor {
    number: u32,
    dts: i64,
    stts_entry: u32,
    stts_used: u32,
    ctts_entry: u32,
    ctts_used: u32,
    stsc_entry: u32,
    chunk: u32,
    in_chunk: u32,
    chunk_offset: u64,
    stss_entry: u32,
}

impl Cursor {
    /// Samples passed so far.
    pub fn number(&self) -> u32 {
        self.number
    }

    /// The next sample, or `None` when a table ends.
    pub fn next(&mut self, t: &Tables) -> Option<Sample> {
        if self.number >= t.samples {
            return None;
        }
        // Time to sample; runs of zero count are passed over.
        while self.stts_entry < t.stts.count && self.stts_used >= t.stts.u32(self.stts_entry as usize * 8) {
            self.stts_entry += 1;
            self.stts_used = 0;
        }
        let duration =
            if self.stts_entry < t.stts.count { t.stts.u32(self.stts_entry as usize * 8 + 4) } else { 0 };
        self.stts_used += 1;
        let mut shift = 0i64;
        if let Some(ctts) = &t.ctts {
            while self.ctts_entry < ctts.count && self.ctts_used >= ctts.u32(self.ctts_entry as usize * 8) {
                self.ctts_entry += 1;
                self.ctts_used = 0;
            }
            if self.ctts_entry < ctts.count {
                // Version 0 is unsigned, but writers put signed values there as well (QuickTime does).
                shift = i64::from(ctts.u32(self.ctts_entry as usize * 8 + 4) as i32);
            }
            self.ctts_used += 1;
        }
        // Chunk.
        if self.in_chunk == 0 {
            if self.chunk >= t.chunks.count {
                return None;
            }
            while self.stsc_entry + 1 < t.stsc.count
                && t.stsc.u32((self.stsc_entry as usize + 1) * 12) <= self.chunk + 1
            {
                self.stsc_entry += 1;
            }
            let at = self.chunk as usize;
            self.chunk_offset = if t.wide_chunks {
                be64(t.chunks.bytes(), at * 8).unwrap_or(0)
            } else {
                u64::from(t.chunks.u32(at * 4))
            };
        }
        let size = if t.same_size != 0 { t.same_size } else { t.sizes.u32(self.number as usize * 4) };
        let key = match &t.stss {
            None => true,
            Some(stss) => {
                while self.stss_entry < stss.count && stss.u32(self.stss_entry as usize * 4) < self.number + 1
                {
                    self.stss_entry += 1;
                }
                self.stss_entry < stss.count && stss.u32(self.stss_entry as usize * 4) == self.number + 1
            }
        };
        let sample = Sample {
            number: self.number,
            offset: self.chunk_offset,
            size,
            dts: self.dts,
            pts: self.dts.saturating_add(shift),
            duration,
            key,
        };
        self.chunk_offset = self.chunk_offset.saturating_add(u64::from(size));
        self.in_chunk += 1;
        if self.in_chunk >= t.stsc.u32(self.stsc_entry as usize * 12 + 4) {
            self.in_chunk = 0;
            self.chunk += 1;
        }
        self.number += 1;
        self.dts = self.dts.saturating_add(i64::from(duration));
        Some(sample)
    }

    /// The next sample and how many that follow it are alike and lie right behind it, at most `most` in
    /// all. For uncompressed sound, whose samples are a few bytes each.
    pub fn next_run(&mut self, t: &Tables, most: u32) -> Option<(Sample, u32)> {
        let first = self.next(t)?;
        if t.same_size == 0 || t.ctts.is_some() || self.in_chunk == 0 {
            return Some((first, 1));
        }
        let in_chunk = t.stsc.u32(self.stsc_entry as usize * 12 + 4) - self.in_chunk;
        let in_time = t.stts.u32(self.stts_entry as usize * 8).saturating_sub(self.stts_used);
        let more = in_chunk.min(in_time).min(t.samples - self.number).min(most.saturating_sub(1));
        self.number += more;
        self.stts_used += more;
        self.dts = self.dts.saturating_add(i64::from(more).saturating_mul(first.duration.into()));
        self.chunk_offset = self.chunk_offset.saturating_add(u64::from(more) * u64::from(t.same_size));
        self.in_chunk += more;
        if more == in_chunk {
            self.in_chunk = 0;
            self.chunk += 1;
        }
        Some((first, more + 1))
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::super::boxes::Builder;
    use super::*;

    /// Tables of 5 samples: 3 + 2 in two chunks.
    pub(crate) fn stbl(wide: bool) -> Vec<u8> {
        let mut b = Builder::new();
        b.full(b"stts", 0, 0, |b| [2u32, 4, 10, 1, 7].iter().for_each(|v| b.u32(*v)));
        b.full(b"ctts", 0, 0, |b| [2u32, 1, 20, 4, 0].iter().for_each(|v| b.u32(*v)));
        b.full(b"stsc", 0, 0, |b| [2u32, 1, 3, 1, 2, 2, 1].iter().for_each(|v| b.u32(*v)));
        b.full(b"stsz", 0, 0, |b| [0u32, 5, 100, 200, 300, 400, 500].iter().for_each(|v| b.u32(*v)));
        b.full(b"stss", 0, 0, |b| [2u32, 1, 4].iter().for_each(|v| b.u32(*v)));
        if wide {
            b.full(b"co64", 0, 0, |b| {
                b.u32(2);
                b.u64(1000);
                b.u64(1 << 40);
            });
        } else {
            b.full(b"stco", 0, 0, |b| [2u32, 1000, 5000].iter().for_each(|v| b.u32(*v)));
        }
        b.bytes
    }

    fn walk(bytes: Vec<u8>) -> Vec<Sample> {
        let index: Arc<[u8]> = bytes.into();
        let tables = Tables::parse(&index, &index).unwrap();
        let mut c = tables.cursor();
        std::iter::from_fn(|| c.next(&tables)).collect()
    }

    #[test]
    fn samples_come_with_place_and_time() {
        let s = walk(stbl(false));
        assert_eq!(s.iter().map(|s| s.offset).collect::<Vec<_>>(), [1000, 1100, 1300, 5000, 5400]);
        assert_eq!(s.iter().map(|s| s.pts).collect::<Vec<_>>(), [20, 10, 20, 30, 40]);
        assert_eq!(s.iter().map(|s| s.key).collect::<Vec<_>>(), [true, false, false, true, false]);
        assert_eq!(s[4].duration, 7);
    }

    #[test]
    fn offsets_past_four_gigabytes_hold() {
        assert_eq!(walk(stbl(true))[3].offset, 1 << 40);
    }

    #[test]
    fn totals_and_constant_rate() {
        let index: Arc<[u8]> = stbl(false).into();
        let t = Tables::parse(&index, &index).unwrap();
        assert_eq!((t.media_length(), t.total_bytes(), t.constant_delta()), (47, 1500, Some(10)));
        assert_eq!([0, 2, 3, 4].map(|n| t.sync_before(n)), [0, 0, 3, 3]);
    }

    #[test]
    fn a_uniform_size_with_a_false_count_is_held_to_the_chunks() {
        let mut b = Builder::new();
        b.full(b"stts", 0, 0, |b| [1u32, u32::MAX, 1].iter().for_each(|v| b.u32(*v)));
        b.full(b"stsc", 0, 0, |b| [1u32, 1, 8, 1].iter().for_each(|v| b.u32(*v)));
        b.full(b"stsz", 0, 0, |b| [4u32, u32::MAX].iter().for_each(|v| b.u32(*v)));
        b.full(b"stco", 0, 0, |b| [2u32, 0, 64].iter().for_each(|v| b.u32(*v)));
        assert_eq!(walk(b.bytes).len(), 16);
    }

    #[test]
    fn runs_cover_every_sample_once() {
        let mut b = Builder::new();
        b.full(b"stts", 0, 0, |b| [2u32, 11, 1, 9, 1].iter().for_each(|v| b.u32(*v)));
        b.full(b"stsc", 0, 0, |b| [2u32, 1, 8, 1, 3, 4, 1].iter().for_each(|v| b.u32(*v)));
        b.full(b"stsz", 0, 0, |b| [4u32, 20].iter().for_each(|v| b.u32(*v)));
        b.full(b"stco", 0, 0, |b| [3u32, 0, 64, 200].iter().for_each(|v| b.u32(*v)));
        let index: Arc<[u8]> = b.bytes.into();
        let t = Tables::parse(&index, &index).unwrap();
        let mut c = t.cursor();
        let runs: Vec<_> =
            std::iter::from_fn(|| c.next_run(&t, 5)).map(|(s, n)| (s.number, s.offset, s.dts, n)).collect();
        assert_eq!(runs, [(0, 0, 0, 5), (5, 20, 5, 3), (8, 64, 8, 3), (11, 76, 11, 5), (16, 200, 16, 4)]);
    }

    #[test]
    fn missing_tables_are_named() {
        let index: Arc<[u8]> = Vec::new().into();
        assert!(Tables::parse(&index, &index).unwrap_err().to_string().contains("stts"));
    }
}
