//! Transport streams (ISO/IEC 13818-1, 2.4), in packets of 188 bytes, of 192 with a time in front and of 204
//! with a check sum behind.

use super::es::{Framer, Kind, What, describe};
use super::pes::{self, SCALE, Unwrap};
use crate::bits::{be16, text};
use crate::container::reader::Reader;
use crate::container::stream::{Look, Parts, Raw, Streamed};
use crate::container::{About, Demux, Format, Source, Tried};
use crate::error::{Error, Result};
use crate::limits::MAX_TRACKS;

pub static FORMAT: Format = Format { name: "MPEG transport stream", score, open, tried: Tried::Made };

const PACKET: usize = 188;
const SYNC: u8 = 0x47;
/// Bytes of a file looked through for its streams, rates and counts.
const LOOK: u64 = 12 << 20;
/// Bytes looked through for the tables, and read again at the end.
const TABLES: u64 = 4 << 20;

/// Distance between packets and where the first begins: at least this many in a row must fit.
fn layout(b: &[u8]) -> Option<(usize, usize)> {
    let wanted = (b.len() / 204).clamp(1, 5);
    [PACKET, 192, 204].into_iter().find_map(|step| {
        (0..step.min(b.len()))
            .find(|&from| {
                b[from] == SYNC
                    && (b.len() - from).div_ceil(step) >= wanted
                    && b[from..].iter().step_by(step).take(8).all(|&s| s == SYNC)
            })
            .map(|from| (step, from))
    })
}

fn score(head: &[u8]) -> u8 {
    match layout(head) {
        Some((_, from)) if from <= 4 && head.len() >= PACKET * 5 => 90,
        Some((_, 0 | 4)) if head.len() >= PACKET => 50,
        Some(_) if head.len() >= PACKET * 10 => 30,
        _ => 0,
    }
}

struct Stream {
    pid: u16,
    framer: Framer,
    /// The packet being collected: header and all.
    pes: Vec<u8>,
    started: bool,
    language: Option<String>,
}

pub struct Transport {
    r: Reader,
    step: usize,
    from: u64,
    streams: Vec<Stream>,
    time: Unwrap,
    ended: bool,
    lost_sync: u64,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let head = r.peek(PACKET * 20)?;
    let (step, from) =
        layout(&head).ok_or_else(|| Error::damaged(FORMAT.name, "no regular packets at its start"))?;
    let mut about = About::default();
    let mut t = Transport {
        r,
        step,
        from: from as u64,
        streams: Vec::new(),
        time: Unwrap::default(),
        ended: false,
        lost_sync: 0,
    };
    t.tables(&mut about)?;
    if t.streams.is_empty() {
        return Err(Error::damaged(
            FORMAT.name,
            "no program table within the first 4 MB, so its streams are not known",
        ));
    }
    t.rewind();
    // Enough of each stream to describe it.
    while t.r.at() < LOOK && t.streams.iter().any(|s| !s.described()) {
        match t.next() {
            Ok(Some(_)) | Err(Error::Damaged(_)) => (),
            Ok(None) => break,
            Err(e) => return Err(e),
        }
    }
    let mut described = Vec::new();
    for s in &mut t.streams {
        let Some(mut d) = describe(s.framer.kind, s.pid.into(), &s.framer.samples, SCALE) else {
            about.remarks.push(format!("stream {:#x} has no packet that tells what it is", s.pid));
            continue;
        };
        d.track.language = s.language.clone();
        s.framer = Framer::new(s.framer.kind, described.len());
        s.pes.clear();
        s.started = true;
        described.push((s.pid, d));
    }
    t.streams.retain(|s| described.iter().any(|(pid, _)| *pid == s.pid));
    if described.is_empty() {
        return Err(Error::damaged(FORMAT.name, "none of its streams has a packet that tells what it is"));
    }
    t.rewind();
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: true };
    Ok(Box::new(Streamed::open(t, described.into_iter().map(|(_, d)| d).collect(), about, look)?))
}

impl Stream {
    fn described(&self) -> bool {
        matches!(self.framer.kind, Kind::Named(..))
            || describe(self.framer.kind, 0, &self.framer.samples, SCALE).is_some()
    }
}

/// The payload of a packet and whether a unit starts in it.
fn payload(p: &[u8]) -> Option<(&[u8], bool)> {
    let control = p.get(3)? >> 4 & 3;
    let start = p[1] & 0x40 != 0;
    let at = match control {
        1 => 4,
        3 => 5 + usize::from(*p.get(4)?),
        _ => return None,
    };
    // Damaged on the way, or scrambled: of no use.
    if p[1] & 0x80 != 0 || p[3] >> 6 != 0 {
        return None;
    }
    Some((p.get(at..PACKET)?, start))
}

impl Transport {
    /// The next packet's 188 bytes; finds its place again behind damage.
    fn packet(&mut self) -> Result<Option<[u8; PACKET]>> {
        let at = self.r.at();
        let Some(p) = self.r.array::<PACKET>()? else { return Ok(None) };
        if p[0] == SYNC {
            self.r.go(at + self.step as u64);
            return Ok(Some(p));
        }
        self.r.go(at);
        self.lost_sync += 1;
        self.r.skip(1);
        let step = self.step;
        let found =
            self.r.find(step + 1, u64::MAX, |b| b[0] == SYNC && b.get(step).is_none_or(|&s| s == SYNC))?;
        if !found {
            return Ok(None);
        }
        Err(Error::damaged_at(FORMAT.name, at, format!("{} bytes that are no packet", self.r.at() - at)))
    }

    /// Program association and program maps (2.4.4.3 and 2.4.4.8).
    fn tables(&mut self, about: &mut About) -> Result<()> {
        self.r.go(self.from);
        let mut maps: Vec<(u16, Vec<u8>, bool)> = Vec::new();
        let mut scrambled = 0u64;
        while self.r.at() < TABLES {
            let p = match self.packet() {
                Ok(Some(p)) => p,
                Ok(None) => break,
                Err(Error::Damaged(_)) => continue,
                Err(e) => return Err(e),
            };
            scrambled += u64::from(p[3] >> 6 != 0);
            let pid = be16(&p, 1).unwrap_or(0) & 0x1fff;
            let Some((body, start)) = payload(&p) else { continue };
            if pid == 0 && start && maps.is_empty() {
                let section = body.get(1 + usize::from(body[0])..).unwrap_or(&[]);
                let len = usize::from(be16(section, 1).unwrap_or(0) & 0xfff);
                let entries = section.get(8..(3 + len).saturating_sub(4).min(section.len())).unwrap_or(&[]);
                for e in entries.chunks_exact(4) {
                    if be16(e, 0) != Some(0) && maps.len() < MAX_TRACKS {
                        maps.push((be16(e, 2).unwrap_or(0) & 0x1fff, Vec::new(), false));
                    }
                }
            } else if let Some((_, section, done)) = maps.iter_mut().find(|m| m.0 == pid && !m.2) {
                if start {
                    section.clear();
                    section.extend_from_slice(body.get(1 + usize::from(body[0])..).unwrap_or(&[]));
                } else if !section.is_empty() {
                    section.extend_from_slice(body);
                }
                let len = 3 + usize::from(be16(section, 1).unwrap_or(0xfff) & 0xfff);
                if section.len() >= len && section.first() == Some(&2) {
                    *done = true;
                    let section = section[..len].to_vec();
                    self.program(&section);
                }
            }
            if !maps.is_empty() && maps.iter().all(|m| m.2) {
                break;
            }
        }
        if maps.len() > 1 {
            about
                .remarks
                .push(format!("{} programs in one stream; the tracks of all are listed", maps.len()));
        }
        if scrambled > 0 {
            about.remarks.push("parts are scrambled and cannot be read".into());
        }
        Ok(())
    }

    fn program(&mut self, section: &[u8]) {
        let info = usize::from(be16(section, 10).unwrap_or(0) & 0xfff);
        let mut b = section.get(12 + info..section.len().saturating_sub(4)).unwrap_or(&[]);
        while let &[kind, p0, p1, l0, l1, ref rest @ ..] = b {
            let pid = u16::from_be_bytes([p0, p1]) & 0x1fff;
            let len = (usize::from(u16::from_be_bytes([l0, l1])) & 0xfff).min(rest.len());
            let (descriptors, more) = rest.split_at(len);
            b = more;
            if self.streams.len() >= MAX_TRACKS || self.streams.iter().any(|s| s.pid == pid) {
                continue;
            }
            let (kind, language) = stream_kind(kind, descriptors);
            let framer = Framer::new(kind, self.streams.len());
            self.streams.push(Stream { pid, framer, pes: Vec::new(), started: false, language });
        }
    }

    /// A whole packet of a stream was collected.
    fn finish(&mut self, index: usize) {
        let s = &mut self.streams[index];
        let pes = std::mem::take(&mut s.pes);
        if pes.len() < 9 || pes[..3] != [0, 0, 1] {
            return;
        }
        let (pts, body) = if pes::is_bare(pes[3]) {
            (None, 6)
        } else {
            match pes::parse(&pes[6..]) {
                Some(h) => (h.pts, 6 + h.body),
                None => return,
            }
        };
        let stated = 6 + usize::from(be16(&pes, 4).unwrap_or(0));
        let end = if stated > 6 { stated.min(pes.len()) } else { pes.len() };
        let pts = pts.map(|p| self.time.place(p));
        s.framer.feed(pes.get(body..end).unwrap_or(&[]), pts);
    }
}

/// Stream types (13818-1, table 2-34) and the descriptors that tell private ones apart (ETSI EN 300 468, 6.1).
fn stream_kind(kind: u8, mut descriptors: &[u8]) -> (Kind, Option<String>) {
    let mut language = None;
    let mut private = None;
    while let &[tag, len, ref rest @ ..] = descriptors {
        let (body, more) = rest.split_at(usize::from(len).min(rest.len()));
        descriptors = more;
        match tag {
            0x0a => language = body.get(..3).and_then(text).filter(|l| l != "und"),
            0x05 => {
                private = match body.get(..4) {
                    Some(b"AC-3") => Some(Kind::Ac3),
                    Some(b"EAC3") => Some(Kind::Ac3),
                    Some(b"HEVC") => Some(Kind::Hevc),
                    Some(b"Opus") => Some(Kind::Named("Opus in a transport stream", What::Sound)),
                    Some(b"BSSD") => Some(Kind::Named("AES3 sound (SMPTE ST 302)", What::Sound)),
                    Some(b"KLVA") => Some(Kind::Named("metadata", What::Other)),
                    _ => private,
                }
            }
            0x6a | 0x7a => private = Some(Kind::Ac3),
            0x7b => private = Some(Kind::Named("DTS", What::Sound)),
            0x56 => private = Some(Kind::Named("teletext", What::Text)),
            0x59 => {
                private = Some(Kind::Named("caption pictures", What::Text));
                language = language.or(body.get(..3).and_then(text));
            }
            _ => (),
        }
    }
    let kind = match kind {
        0x01 | 0x02 => Kind::MpegVideo,
        0x03 | 0x04 => Kind::MpegAudio,
        0x0f => Kind::Adts,
        0x10 => Kind::Named("MPEG-4 part 2", What::Picture),
        0x11 => Kind::Named("AAC in LATM", What::Sound),
        0x1b => Kind::H264,
        0x24 => Kind::Hevc,
        0x81 | 0x84 | 0x87 | 0xa1 => Kind::Ac3,
        0x80 => Kind::Named("PCM of a disc", What::Sound),
        0x82 | 0x85 | 0x86 if private.is_none() && kind != 0x86 => Kind::Named("DTS", What::Sound),
        0x83 => Kind::Named("TrueHD", What::Sound),
        0x86 => Kind::Named("splice cues", What::Other),
        0x90 => Kind::Named("caption pictures", What::Text),
        0x42 => Kind::Named("AVS video", What::Picture),
        0x21 => Kind::Named("JPEG 2000", What::Picture),
        0xea => Kind::Named("VC-1", What::Picture),
        0x06 => private.unwrap_or(Kind::Named("private data", What::Other)),
        0x15 => Kind::Named("metadata", What::Other),
        _ => private.unwrap_or(Kind::Named("data of an unknown type", What::Other)),
    };
    (kind, language)
}

impl Parts for Transport {
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
            let Some(p) = self.packet()? else {
                for i in 0..self.streams.len() {
                    self.finish(i);
                    self.streams[i].framer.end();
                }
                self.ended = true;
                continue;
            };
            let pid = be16(&p, 1).unwrap_or(0) & 0x1fff;
            let Some(i) = self.streams.iter().position(|s| s.pid == pid) else { continue };
            let Some((body, start)) = payload(&p) else { continue };
            if start {
                self.finish(i);
                self.streams[i].started = true;
            }
            let s = &mut self.streams[i];
            if s.started && s.pes.len() < crate::limits::MAX_PACKET_BYTES as usize {
                s.pes.extend_from_slice(body);
            }
            // A packet whose length is stated and reached need not wait for the next.
            let stated = be16(&s.pes, 4).map_or(0, usize::from);
            if stated > 0 && s.pes.len() >= 6 + stated {
                self.finish(i);
                self.streams[i].started = false;
            }
        }
    }
    fn rewind(&mut self) {
        self.r.go(self.from);
        self.time.reset();
        self.ended = false;
        for s in &mut self.streams {
            s.framer.clear();
            s.pes.clear();
            s.started = false;
        }
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn to_tail(&mut self) -> Result<bool> {
        let time = self.time;
        self.rewind();
        self.time = time;
        let back = (self.r.len() - self.from).min(TABLES) / self.step as u64;
        let all = (self.r.len() - self.from) / self.step as u64;
        self.r.go(self.from + (all - back) * self.step as u64);
        Ok(true)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packets_of_every_length_are_recognised_and_noise_is_not() {
        for (step, from) in [(188, 0), (192, 4), (204, 0)] {
            let mut b = vec![1u8; step * 12];
            (0..12).for_each(|i| b[i * step + from] = SYNC);
            assert_eq!(layout(&b), Some((step, from)));
            assert!(score(&b) >= 90);
        }
        assert_eq!(layout(&[SYNC; 3]).map(|l| l.0), Some(188));
        assert_eq!(score(&[0u8; 4096]), 0);
    }

    #[test]
    fn descriptors_tell_private_streams() {
        assert_eq!(stream_kind(0x06, &[0x6a, 0]).0, Kind::Ac3);
        let (kind, language) = stream_kind(0x0f, &[0x0a, 4, b'd', b'e', b'u', 0]);
        assert_eq!((kind, language.as_deref()), (Kind::Adts, Some("deu")));
        assert_eq!(stream_kind(0x06, &[0x05, 200, b'A']).0, Kind::Named("private data", What::Other));
    }
}
