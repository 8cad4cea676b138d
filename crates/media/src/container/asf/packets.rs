//! Packets, and the media objects whose pieces are in them (section 5.2).

use super::head::{Head, Stream};
use crate::bits::{le16, le32};
use crate::codec::h264;
use crate::container::Codec;
use crate::container::mpeg_frames::MpegFrames;
use crate::container::reader::Reader;
use crate::container::stream::{Parts, Raw};
use crate::error::{Error, Result};
use crate::limits::MAX_PACKET_BYTES;
use std::collections::VecDeque;

/// A stream and the object of it that is not whole yet.
struct Line {
    stream: Stream,
    object: Option<Object>,
    frames: MpegFrames,
    /// The frames of its sound do not keep to objects; the first of them has the time of its object.
    began: bool,
}

struct Object {
    number: u32,
    size: usize,
    pts: i64,
    key: bool,
    bytes: Vec<u8>,
}

pub struct Packets {
    r: Reader,
    first: u64,
    packet: u64,
    preroll: i64,
    lines: Vec<Line>,
    ready: VecDeque<Raw>,
    cut: Option<String>,
}

/// Numbers of 0, 1, 2 or 4 bytes, one behind the other.
struct Fields<'a> {
    b: &'a [u8],
    at: usize,
}

impl<'a> Fields<'a> {
    fn sized(&mut self, kind: u8) -> Option<u32> {
        let n = match kind & 3 {
            0 => return Some(0),
            1 => u32::from(*self.b.get(self.at)?),
            2 => le16(self.b, self.at)?.into(),
            _ => le32(self.b, self.at)?,
        };
        self.at += [0, 1, 2, 4][usize::from(kind & 3)];
        Some(n)
    }
    fn byte(&mut self) -> Option<u8> {
        self.sized(1).map(|n| n as u8)
    }
    fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let out = self.b.get(self.at..self.at.checked_add(n)?)?;
        self.at += n;
        Some(out)
    }
}

impl Packets {
    pub fn new(head: Head) -> Packets {
        let line = |stream| Line { stream, object: None, frames: MpegFrames::default(), began: false };
        let Head { r, first, packet, preroll, streams, cut, .. } = head;
        let lines = streams.into_iter().map(line).collect();
        let mut packets = Packets { r, first, packet, preroll, lines, ready: VecDeque::new(), cut };
        packets.rewind();
        packets
    }

    /// Reads one packet; `None` where it does not keep to the form.
    fn read(&mut self, b: &[u8]) -> Option<()> {
        let mut f = Fields { b, at: 0 };
        let first = *b.first()?;
        if first & 0x80 != 0 {
            // Error correction of so many bytes.
            f.at = 1 + usize::from(first & 15);
        }
        let kinds = f.byte()?;
        let of_payload = f.byte()?;
        let length = f.sized(kinds >> 5)?;
        f.sized(kinds >> 1)?;
        let padding = f.sized(kinds >> 3)? as usize;
        // When it is sent, and for how long.
        f.take(6)?;
        let end = if kinds >> 5 & 3 == 0 { b.len() } else { (length as usize).min(b.len()) };
        let end = end.checked_sub(padding)?;
        let several = kinds & 1 == 1;
        let (count, size) = if several { f.byte().map(|n| (n & 63, n >> 6))? } else { (1, 0) };
        for _ in 0..count {
            self.payload(&mut f, of_payload, end, several.then_some(size))?;
        }
        Some(())
    }

    /// One piece. `size`: how its length is written, where there are several.
    fn payload(&mut self, f: &mut Fields<'_>, kinds: u8, end: usize, size: Option<u8>) -> Option<()> {
        let head = f.byte()?;
        let number = f.sized(kinds >> 4)?;
        let offset = f.sized(kinds >> 2)?;
        let replicated = f.sized(kinds)? as usize;
        let is_packed = replicated == 1;
        let (mut whole, mut pts, mut step) = (0, i64::from(offset), 0);
        if is_packed {
            step = i64::from(f.byte()?);
        } else {
            let told = f.take(replicated)?;
            whole = le32(told, 0).unwrap_or(0);
            pts = le32(told, 4).map_or(0, i64::from);
        }
        let bytes = match size {
            Some(kind) => f.sized(kind)? as usize,
            None => end.checked_sub(f.at)?,
        };
        let data = f.take(bytes)?;
        let key = head & 0x80 != 0;
        let line = self.lines.iter_mut().find(|l| l.stream.number == head & 0x7f);
        let Some(line) = line else { return Some(()) };
        pts -= self.preroll;
        if is_packed {
            // Whole objects, each with its length in front.
            let mut rest = data;
            while let Some((&n, after)) = rest.split_first() {
                let object = after.get(..n.into())?;
                line.give(object.to_vec(), pts, key, &mut self.ready);
                rest = &after[n.into()..];
                pts += step;
            }
            return Some(());
        }
        if whole == 0 || u64::from(whole) > MAX_PACKET_BYTES {
            return None;
        }
        line.piece(number, offset as usize, whole as usize, pts, key, data, &mut self.ready);
        Some(())
    }
}

impl Line {
    #[allow(clippy::too_many_arguments)]
    fn piece(
        &mut self,
        number: u32,
        offset: usize,
        size: usize,
        pts: i64,
        key: bool,
        data: &[u8],
        ready: &mut VecDeque<Raw>,
    ) {
        if offset == 0 {
            self.object = Some(Object { number, size, pts, key, bytes: Vec::new() });
        }
        // A piece whose neighbours are lost is of no use.
        let Some(object) = self.object.as_mut().filter(|o| o.number == number && o.bytes.len() == offset)
        else {
            self.object = None;
            return;
        };
        object.bytes.extend_from_slice(data);
        if object.bytes.len() >= object.size
            && let Some(mut object) = self.object.take()
        {
            object.bytes.truncate(object.size);
            self.give(object.bytes, object.pts, object.key, ready);
        }
    }

    fn give(&mut self, data: Vec<u8>, pts: i64, key: bool, ready: &mut VecDeque<Raw>) {
        let track = self.stream.track;
        let raw = Raw { track, pts: Some(pts), key, ..Raw::default() };
        match &self.stream.codec {
            _ if data.is_empty() => (),
            Codec::MpegAudio(_) => {
                self.frames.feed(&data);
                while let Some(data) = self.frames.pop() {
                    let pts = (!self.began).then_some(pts);
                    self.began = true;
                    ready.push_back(Raw { pts, key: true, data, ..raw.clone() });
                }
            }
            Codec::H264 | Codec::Hevc => ready.push_back(Raw { data: h264::with_lengths(&data), ..raw }),
            _ => ready.push_back(Raw { data, ..raw }),
        }
    }
}

impl Parts for Packets {
    fn next(&mut self) -> Result<Option<Raw>> {
        loop {
            if let Some(raw) = self.ready.pop_front() {
                return Ok(Some(raw));
            }
            let at = self.r.at();
            if self.r.left() == 0 {
                return Ok(None);
            }
            let n = self.packet.min(self.r.left());
            // What follows the packets is the index: it begins as an object does, not as a packet.
            let b = self.r.take(n, "ASF packet")?;
            if b.starts_with(&INDEX) || b.starts_with(&SIMPLE_INDEX) {
                self.r.go(self.r.len());
                return Ok(None);
            }
            if n < self.packet {
                self.cut.get_or_insert(format!(
                    "cut off, or still being copied: a packet of {} bytes at byte {at}, but the file ends after {n}",
                    self.packet
                ));
            }
            if self.read(&b).is_none() && n == self.packet {
                return Err(Error::damaged_at("ASF packet", at, "it does not keep to the form"));
            }
        }
    }

    fn rewind(&mut self) {
        self.r.go(self.first);
        self.ready.clear();
        for line in &mut self.lines {
            (line.object, line.frames, line.began) = (None, MpegFrames::default(), false);
        }
    }

    fn at(&self) -> u64 {
        self.r.at()
    }

    fn cut(&self) -> Option<String> {
        self.cut.clone()
    }
}

/// The first bytes of the index objects (D6E229D3-35DA-11D1-9034-00A0C90349BE, 33000890-E5B1-11CF-89F4-00A0C90349CB).
const INDEX: [u8; 8] = [0xd3, 0x29, 0xe2, 0xd6, 0xda, 0x35, 0xd1, 0x11];
const SIMPLE_INDEX: [u8; 8] = [0x90, 0x08, 0x00, 0x33, 0xb1, 0xe5, 0xcf, 0x11];
