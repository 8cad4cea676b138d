//! An encode that goes on where it was broken off. Pictures are coded in segments, each by an encoder of its own, whether
//! anything is kept or not; what a segment came to is written beside the output, and ended with its checksum. Whoever makes
//! the same output once more takes the whole segments from there and codes what is behind them: the result is the same.

use crate::codec::Coded;
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use xxhash_rust::xxh3::Xxh3;

/// Where segments are kept.
pub trait KeptFile: Read + Write + Seek + Send {
    /// What was written is on the disk.
    fn sync(&mut self) -> io::Result<()>;
}

impl KeptFile for std::fs::File {
    fn sync(&mut self) -> io::Result<()> {
        self.sync_data()
    }
}

impl KeptFile for io::Cursor<Vec<u8>> {
    fn sync(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// At least so many seconds are coded by one encoder.
pub const SEGMENT_SECONDS: f64 = 20.0;

const MAGIC: &[u8; 8] = b"segment3";
const PACKET: u8 = 1;
const END: u8 = 2;
/// A packet longer than this is none.
const LONGEST: u32 = 256 << 20;

/// What a segment ended with, and all before it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Whole {
    pub frames: u64,
    /// When the first picture of all is shown, and when the one behind the last.
    pub first: i64,
    pub end: i64,
    pub setup: Vec<u8>,
    /// What its encoder hands on to the next.
    pub memory: Vec<u8>,
}

/// What is kept of one output: its pictures, and each sound track by itself.
#[derive(Default)]
pub struct Keeps {
    pub pictures: Option<Kept>,
    pub sounds: Vec<Option<Kept>>,
}

impl Keeps {
    /// Takes what is kept of a sound track.
    pub fn sound(&mut self, n: usize) -> Option<Kept> {
        self.sounds.get_mut(n).and_then(Option::take)
    }
}

pub struct Kept {
    file: Box<dyn KeptFile>,
    whole: Whole,
    /// Where the whole segments end, and where what is being written does.
    end: u64,
    at: u64,
    /// Packets of the whole segments that were not given yet.
    given: u64,
    next: Option<Coded>,
    of: u128,
    hash: Xxh3,
    first: Option<i64>,
}

/// The checksum of a segment is of what it is of as well: what lies behind the head may be another output's.
fn fresh(of: u128) -> Xxh3 {
    let mut hash = Xxh3::new();
    hash.update(&of.to_le_bytes());
    hash
}

fn number<const N: usize>(from: &mut impl Read, hash: &mut Xxh3) -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    from.read_exact(&mut bytes)?;
    hash.update(&bytes);
    Ok(bytes)
}

/// One record; the packet, or at the end of a segment nothing and what it says of all so far.
enum Record {
    Packet(Coded),
    End(Whole),
}

fn record(from: &mut impl Read, hash: &mut Xxh3) -> io::Result<Record> {
    let wrong = || io::Error::from(io::ErrorKind::InvalidData);
    let [tag] = number::<1>(from, hash)?;
    let long = |from: &mut dyn Read, hash: &mut Xxh3| -> io::Result<Vec<u8>> {
        let mut from = from;
        let length = u32::from_le_bytes(number(&mut from, hash)?);
        if length > LONGEST {
            return Err(wrong());
        }
        let mut data = Vec::new();
        from.take(length.into()).read_to_end(&mut data)?;
        if data.len() != length as usize {
            return Err(wrong());
        }
        hash.update(&data);
        Ok(data)
    };
    match tag {
        PACKET => {
            let pts = i64::from_le_bytes(number(from, hash)?);
            let duration = i64::from_le_bytes(number(from, hash)?);
            let key = number::<1>(from, hash)? == [1];
            let data = long(from, hash)?;
            Ok(Record::Packet(Coded { beside: long(from, hash)?, ..Coded::new(pts, duration, key, data) }))
        }
        END => {
            let frames = u64::from_le_bytes(number(from, hash)?);
            let first = i64::from_le_bytes(number(from, hash)?);
            let end = i64::from_le_bytes(number(from, hash)?);
            let setup = long(from, hash)?;
            let memory = long(from, hash)?;
            let wanted = hash.digest();
            let mut sum = [0; 8];
            from.read_exact(&mut sum)?;
            if u64::from_le_bytes(sum) != wanted {
                return Err(wrong());
            }
            Ok(Record::End(Whole { frames, first, end, setup, memory }))
        }
        _ => Err(wrong()),
    }
}

impl Kept {
    /// What was kept by a run of the same; of another one nothing is taken. `of` says of what it is: all that decides what
    /// the packets are.
    pub fn open(mut file: Box<dyn KeptFile>, of: u128) -> io::Result<Kept> {
        let head = [&MAGIC[..], &of.to_le_bytes()].concat();
        file.seek(SeekFrom::Start(0))?;
        let (mut whole, mut end) = (Whole::default(), head.len() as u64);
        {
            let mut from = BufReader::with_capacity(1 << 20, &mut file);
            let mut found = vec![0; head.len()];
            if from.read_exact(&mut found).is_ok() && found == head {
                let mut hash = fresh(of);
                while let Ok(record) = record(&mut from, &mut hash) {
                    if let Record::End(w) = record {
                        (whole, end) = (w, from.stream_position()?);
                        hash = fresh(of);
                    }
                }
            } else {
                drop(from);
                file.seek(SeekFrom::Start(0))?;
                file.write_all(&head)?;
            }
        }
        let given = head.len() as u64;
        let first = (whole.frames > 0).then_some(whole.first);
        Ok(Kept { file, whole, end, at: end, given, next: None, of, hash: fresh(of), first })
    }

    /// What need not be made again.
    pub fn whole(&self) -> &Whole {
        &self.whole
    }

    /// The next packet of it that is shown before this moment; `None` for all.
    pub fn next(&mut self, before: Option<i64>) -> io::Result<Option<Coded>> {
        while self.next.is_none() && self.given < self.end {
            self.file.seek(SeekFrom::Start(self.given))?;
            // Checked when it was opened.
            let mut counted = Counted { from: &mut self.file, bytes: 0 };
            let read = record_unchecked(&mut counted)?;
            self.given += counted.bytes;
            self.next = read;
        }
        match &self.next {
            Some(c) if before.is_none_or(|b| c.pts < b) => Ok(self.next.take()),
            _ => Ok(None),
        }
    }

    /// A packet of the segment that is being coded.
    pub fn add(&mut self, c: &Coded) -> io::Result<()> {
        self.first.get_or_insert(c.pts);
        let mut head = vec![PACKET];
        head.extend(c.pts.to_le_bytes());
        head.extend(c.duration.to_le_bytes());
        head.push(u8::from(c.key));
        head.extend((c.data.len() as u32).to_le_bytes());
        self.put(&head)?;
        self.put(&c.data)?;
        self.put(&(c.beside.len() as u32).to_le_bytes())?;
        self.put(&c.beside)
    }

    /// The segment is whole: up to this moment nothing is made again from now on.
    pub fn end_segment(&mut self, frames: u64, end: i64, (setup, memory): (&[u8], &[u8])) -> io::Result<()> {
        let mut head = vec![END];
        head.extend(frames.to_le_bytes());
        head.extend(self.first.unwrap_or(0).to_le_bytes());
        head.extend(end.to_le_bytes());
        for part in [setup, memory] {
            head.extend((part.len() as u32).to_le_bytes());
            head.extend(part);
        }
        self.put(&head)?;
        let sum = self.hash.digest().to_le_bytes();
        self.file.write_all(&sum)?;
        self.at += sum.len() as u64;
        self.file.sync()?;
        self.hash = fresh(self.of);
        Ok(())
    }

    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.file.seek(SeekFrom::Start(self.at))?;
        self.file.write_all(bytes)?;
        self.at += bytes.len() as u64;
        self.hash.update(bytes);
        Ok(())
    }
}

struct Counted<'a> {
    from: &'a mut Box<dyn KeptFile>,
    bytes: u64,
}

impl Read for Counted<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        let n = self.from.read(to)?;
        self.bytes += n as u64;
        Ok(n)
    }
}

/// A packet, or nothing for the end of a segment.
fn record_unchecked(from: &mut impl Read) -> io::Result<Option<Coded>> {
    let mut hash = Xxh3::new();
    // The checksum is of the whole segment, not of what is read here: its bytes are passed over.
    let mut tag = [0];
    from.read_exact(&mut tag)?;
    match tag {
        [PACKET] => match record(&mut tag.chain(from), &mut hash)? {
            Record::Packet(c) => Ok(Some(c)),
            Record::End(_) => Ok(None),
        },
        _ => {
            io::copy(&mut from.take(24), &mut io::sink())?;
            for _ in 0..2 {
                let mut length = [0; 4];
                from.read_exact(&mut length)?;
                io::copy(&mut from.take(u32::from_le_bytes(length).into()), &mut io::sink())?;
            }
            // The checksum.
            io::copy(&mut from.take(8), &mut io::sink())?;
            Ok(None)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::sync::{Arc, Mutex};

    /// A file that outlives whoever writes to it.
    #[derive(Clone, Default)]
    struct Shared(Arc<Mutex<Vec<u8>>>, u64);

    impl Read for Shared {
        fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
            let all = self.0.lock().unwrap();
            let from = (self.1 as usize).min(all.len());
            let n = to.len().min(all.len() - from);
            to[..n].copy_from_slice(&all[from..from + n]);
            self.1 += n as u64;
            Ok(n)
        }
    }
    impl Write for Shared {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            let mut all = self.0.lock().unwrap();
            let end = self.1 as usize + bytes.len();
            let length = all.len().max(end);
            all.resize(length, 0);
            all[self.1 as usize..end].copy_from_slice(bytes);
            self.1 = end as u64;
            Ok(bytes.len())
        }
        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }
    impl Seek for Shared {
        fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
            self.1 = match to {
                SeekFrom::Start(n) => n,
                SeekFrom::Current(by) => self.1.saturating_add_signed(by),
                SeekFrom::End(by) => (self.0.lock().unwrap().len() as u64).saturating_add_signed(by),
            };
            Ok(self.1)
        }
    }
    impl KeptFile for Shared {
        fn sync(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    fn coded(n: i64) -> Coded {
        let data = vec![n as u8; 10 + n as usize * 7];
        Coded { beside: vec![n as u8; n as usize % 3], ..Coded::new(100 + n * 40, 40, n % 5 == 0, data) }
    }

    /// Two segments of five, and three packets of the third.
    fn written() -> Shared {
        let file = Shared::default();
        let mut kept = Kept::open(Box::new(file.clone()), 7).unwrap();
        assert_eq!(kept.whole(), &Whole::default());
        for n in 0..13 {
            if n > 0 && n % 5 == 0 {
                kept.end_segment(n as u64, 100 + n * 40, (b"setup", b"memory")).unwrap();
            }
            kept.add(&coded(n)).unwrap();
        }
        file
    }

    fn all(kept: &mut Kept) -> Vec<Coded> {
        std::iter::from_fn(|| kept.next(None).unwrap()).collect()
    }

    #[test]
    fn whole_segments_come_back_and_the_broken_one_is_written_over() {
        let file = written();
        let mut kept = Kept::open(Box::new(file.clone()), 7).unwrap();
        let whole =
            Whole { frames: 10, first: 100, end: 500, setup: b"setup".to_vec(), memory: b"memory".to_vec() };
        assert_eq!(kept.whole(), &whole);
        // As far as sound came, and no further.
        let early: Vec<i64> = std::iter::from_fn(|| kept.next(Some(180)).unwrap()).map(|c| c.pts).collect();
        assert_eq!(early, [100, 140]);
        let rest = all(&mut kept);
        assert_eq!((rest.len(), &rest[7]), (8, &coded(9)));
        for n in 10..15 {
            kept.add(&Coded { data: vec![9], ..coded(n) }).unwrap();
        }
        kept.end_segment(15, 700, (b"setup", b"memory")).unwrap();
        let mut kept = Kept::open(Box::new(file), 7).unwrap();
        assert_eq!((kept.whole().frames, kept.whole().first, all(&mut kept).len()), (15, 100, 15));
    }

    #[test]
    fn what_was_kept_of_another_output_is_not_taken() {
        let file = written();
        let mut kept = Kept::open(Box::new(file.clone()), 8).unwrap();
        assert_eq!((kept.whole().frames, all(&mut kept).len()), (0, 0));
        // The old segments still lie behind the new head.
        let mut again = Kept::open(Box::new(file.clone()), 8).unwrap();
        assert_eq!((again.whole().frames, all(&mut again).len()), (0, 0));
        again.add(&coded(0)).unwrap();
        assert_eq!(Kept::open(Box::new(file.clone()), 8).unwrap().whole().frames, 0);
        assert_eq!(Kept::open(Box::new(file), 9).unwrap().whole().frames, 0);
    }

    /// Wherever it was cut or changed: the segments before are whole, and nothing else comes of it.
    #[rstest]
    fn damage_ends_what_is_kept(
        #[values(0, 5, 24, 25, 60, 200, 400, 700)] at: usize,
        #[values(true, false)] cut: bool,
    ) {
        let good = written().0.lock().unwrap().clone();
        let mut bytes = good.clone();
        if cut {
            bytes.truncate(at)
        } else {
            bytes[at] ^= 0x40
        }
        let mut kept = Kept::open(Box::new(io::Cursor::new(bytes)), 7).unwrap();
        let frames = kept.whole().frames;
        assert!(frames.is_multiple_of(5) && frames <= 10);
        let packets = all(&mut kept);
        assert_eq!(packets.len() as u64, frames);
        assert!(packets.iter().enumerate().all(|(n, c)| *c == coded(n as i64)));
    }
}
