//! Program streams of both generations (ISO/IEC 11172-1; ISO/IEC 13818-1, 2.5), as on discs.

use super::es::{Framer, Kind, describe, private_kind};
use super::pes::{self, SCALE, Unwrap};
use crate::container::reader::Reader;
use crate::container::stream::{Look, Parts, Raw, Streamed};
use crate::container::{About, Demux, Format, Source, Tried};
use crate::error::{Error, Result};
use crate::limits::MAX_TRACKS;

pub static FORMAT: Format = Format { name: "MPEG program stream", score, open, tried: Tried::Files };

const LOOK: u64 = 12 << 20;

fn score(head: &[u8]) -> u8 {
    match head {
        [0, 0, 1, 0xba, v, ..] if v >> 6 == 1 || v >> 4 == 2 => 95,
        _ => 0,
    }
}

struct Stream {
    /// Stream number, and the private stream's own.
    id: (u8, u8),
    framer: Framer,
}

pub struct Program {
    r: Reader,
    streams: Vec<Stream>,
    time: Unwrap,
    /// Types of streams from the map, where there is one.
    map: Vec<(u8, u8)>,
    /// Streams that appear are noted.
    learning: bool,
    ended: bool,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let r = Reader::new(source)?;
    let mut p = Program {
        r,
        streams: Vec::new(),
        time: Unwrap::default(),
        map: Vec::new(),
        learning: true,
        ended: false,
    };
    while p.r.at() < LOOK {
        match p.next() {
            Ok(Some(_)) | Err(Error::Damaged(_)) => (),
            Ok(None) => break,
            Err(e) => return Err(e),
        }
    }
    p.learning = false;
    let mut about = About::default();
    let mut described = Vec::new();
    // Pictures first, then sound, in the order of their numbers.
    p.streams.sort_by_key(|s| (!matches!(s.framer.kind, Kind::MpegVideo | Kind::H264 | Kind::Hevc), s.id));
    p.streams.retain_mut(|s| {
        let id = u32::from(s.id.0) << 8 | u32::from(s.id.1);
        let found = describe(s.framer.kind, id, &s.framer.samples, SCALE);
        if found.is_none() {
            about.remarks.push(format!("stream {:#x} has no packet that tells what it is", s.id.0));
        }
        s.framer = Framer::new(s.framer.kind, described.len());
        let known = found.is_some();
        described.extend(found);
        known
    });
    if described.is_empty() {
        return Err(Error::damaged(FORMAT.name, "none of its streams has a packet that tells what it is"));
    }
    p.rewind();
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: true };
    Ok(Box::new(Streamed::open(p, described, about, look)?))
}

impl Program {
    fn kind(&self, id: u8) -> Option<Kind> {
        let mapped = self.map.iter().find(|m| m.0 == id).map(|m| m.1);
        match (id, mapped) {
            (_, Some(0x1b)) => Some(Kind::H264),
            (_, Some(0x24)) => Some(Kind::Hevc),
            (_, Some(0x0f)) => Some(Kind::Adts),
            (_, Some(0x81)) => Some(Kind::Ac3),
            (0xe0..=0xef, _) => Some(Kind::MpegVideo),
            (0xc0..=0xdf, _) => Some(Kind::MpegAudio),
            _ => None,
        }
    }

    /// One packet; `false` at the end.
    fn step(&mut self) -> Result<bool> {
        let at = self.r.at();
        let Some([a, b, c, id]) = self.r.array::<4>()? else { return Ok(false) };
        if [a, b, c] != [0, 0, 1] || id < 0xb9 {
            self.r.go(at + 1);
            let found = self.r.find(4, u64::MAX, |b| matches!(b, [0, 0, 1, 0xb9..=0xff]))?;
            // Zeros between packets are allowed.
            if [a, b, c, id] == [0; 4] || !found {
                return Ok(found);
            }
            return Err(Error::damaged_at(
                FORMAT.name,
                at,
                format!("{} bytes that are no packet", self.r.at() - at),
            ));
        }
        match id {
            0xb9 => return Ok(true),
            0xba => {
                let head = self.r.peek(10)?;
                let len = match head.first() {
                    Some(v) if v >> 6 == 1 => 10 + u64::from(head.get(9).copied().unwrap_or(0) & 7),
                    _ => 8,
                };
                self.r.skip(len);
                return Ok(true);
            }
            _ => (),
        }
        let Some(len) = self.r.array::<2>()? else { return Ok(false) };
        let len = u64::from(u16::from_be_bytes(len));
        let there = len.min(self.r.left());
        let body = self.r.take(there, "packet")?;
        match id {
            0xbc => {
                let info = body.get(2..4).map_or(0, |b| usize::from(u16::from_be_bytes([b[0], b[1]])));
                let mut rest = body.get(6 + info..).unwrap_or(&[]);
                while let &[kind, number, l0, l1, ref more @ ..] = rest {
                    if self.map.len() < MAX_TRACKS && !self.map.iter().any(|m| m.0 == number) {
                        self.map.push((number, kind));
                    }
                    rest = more.get(usize::from(u16::from_be_bytes([l0, l1]))..).unwrap_or(&[]);
                }
            }
            0xbd | 0xc0..=0xef => self.take(id, &body),
            _ => (),
        }
        Ok(true)
    }

    fn take(&mut self, id: u8, body: &[u8]) {
        let Some(h) = pes::parse(body) else { return };
        let Some(mut content) = body.get(h.body..) else { return };
        let (sub, kind) = if id == 0xbd {
            let Some((kind, skip)) = private_kind(content) else { return };
            let sub = content[0];
            content = content.get(skip..).unwrap_or(&[]);
            (sub, Some(kind))
        } else {
            (0, self.kind(id))
        };
        let pts = h.pts.map(|p| self.time.place(p));
        if let Some(s) = self.streams.iter_mut().find(|s| s.id == (id, sub)) {
            s.framer.feed(content, pts);
        } else if self.learning
            && self.streams.len() < MAX_TRACKS
            && let Some(kind) = kind
        {
            let mut framer = Framer::new(kind, self.streams.len());
            framer.feed(content, pts);
            self.streams.push(Stream { id: (id, sub), framer });
        }
    }
}

impl Parts for Program {
    fn next(&mut self) -> Result<Option<Raw>> {
        loop {
            for s in &mut self.streams {
                if let Some(raw) = s.framer.pop() {
                    return Ok(Some(raw));
                }
            }
            if self.ended {
                return Ok(None);
            }
            if !self.step()? {
                self.streams.iter_mut().for_each(|s| s.framer.end());
                self.ended = true;
            }
        }
    }
    fn rewind(&mut self) {
        self.r.go(0);
        self.time.reset();
        self.ended = false;
        self.streams.iter_mut().for_each(|s| s.framer.clear());
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn to_tail(&mut self) -> Result<bool> {
        let time = self.time;
        self.rewind();
        self.time = time;
        self.r.go(self.r.len().saturating_sub(4 << 20));
        self.r.find(4, u64::MAX, |b| b == [0, 0, 1, 0xba])
    }
}
