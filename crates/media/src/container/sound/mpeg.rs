//! Plain MPEG audio: MP3 and its older layers (ISO/IEC 11172-3), with the information frame that states the
//! number of frames and, in the field's common extension, how many samples at both ends are no sound.

use super::frames::{Frame, Frames, behind_junk};
use super::id3;
use crate::bits::be32;
use crate::codec::mpeg_audio::Header;
use crate::container::reader::Reader;
use crate::container::stream::{Described, Look, Streamed};
use crate::container::{About, AudioTrack, Codec, Demux, Format, Media, Source, Track, Tried};
use crate::error::{Error, Result};
use crate::units::Time;

pub static FORMAT: Format = Format { name: "MPEG audio", score, open, tried: Tried::Files };

/// Frames are counted through the whole file up to this; behind it, what is stated counts.
const LOOK: u64 = 1 << 30;
/// A decoder gives this many samples before the first that was coded (the delay of its filter bank).
const DECODER_DELAY: i64 = 529;

pub fn parse(b: &[u8]) -> Option<Frame> {
    Header::parse(b).map(|h| Frame { header: 0, len: h.len, samples: h.samples() })
}

fn score(head: &[u8]) -> u8 {
    if id3::size(head) > 0 {
        // A tag stands in front of other formats as well: they look for it themselves.
        return 40;
    }
    let Some(first) = Header::parse(head) else {
        return if behind_junk(head, Header::parse, |h| h.len, |a, b| a.alike(b)) { 10 } else { 0 };
    };
    match head.get(first.len..).and_then(Header::parse) {
        Some(second) if second.alike(&first) => 70,
        None if head.len() < first.len + Header::BYTES => 20,
        _ => 0,
    }
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let mut about = About::default();
    let tag = id3::size(&r.peek(10)?);
    if tag > 0 {
        let body = r.peek(tag.min(1 << 20) as usize)?;
        id3::read(&body, &mut about);
    }
    r.go(tag);
    if super::flac::follows(&r.peek(4)?) {
        return super::flac::open_at(r, about);
    }
    if super::adts::follows(&r.peek(16)?) {
        return super::adts::open_at(r, about);
    }
    if !Frames::sync(&mut r, parse, Header::BYTES, 1 << 20)? {
        return Err(Error::damaged(FORMAT.name, "no frame of sound within the first megabyte"));
    }
    let start = r.at();
    let first = r.peek(4096)?;
    let h = Header::parse(&first).ok_or_else(|| Error::damaged_at(FORMAT.name, start, "no frame"))?;
    // A tag of 128 bytes may stand at the end, and one of key and value pairs before it.
    let mut end = r.len();
    if end > start + 128 {
        r.go(end - 128);
        if r.peek(3)? == b"TAG" {
            end -= 128;
        }
    }
    if end > start + 32 {
        r.go(end - 32);
        let footer = r.peek(32)?;
        if footer.starts_with(b"APETAGEX") {
            let size = u64::from(crate::bits::le32(&footer, 12).unwrap_or(0));
            let head = if footer[23] & 0x80 != 0 { 32 } else { 0 };
            end = end.saturating_sub(size + head).max(start);
        }
    }
    let info = information(&first[..h.len.min(first.len())], &h);
    let begin = if info.is_some() { start + h.len as u64 } else { start };
    let track = Track::new(
        1,
        Codec::MpegAudio(h.layer),
        Media::Audio(AudioTrack { rate: h.rate, channels: h.channels, profile: None }),
        h.rate,
    );
    let mut d = Described::new(track, h.rate);
    if let Some(i) = &info {
        let mut samples = i.frames.map(|f| i64::from(f) * i64::from(h.samples()));
        if let Some((delay, padding)) = i.gap {
            d.lead = i64::from(delay) + DECODER_DELAY;
            samples = samples.map(|s| (s - i64::from(delay) - i64::from(padding)).max(0));
            d.heard_until = samples;
        }
        d.stated = samples.map(|s| Time::new(s, h.rate));
    }
    let frames = Frames::new(r, parse, Header::BYTES, begin, end);
    let look = Look { format: if h.layer == 3 { "MP3" } else { FORMAT.name }, bytes: LOOK, from_zero: false };
    Ok(Box::new(Streamed::open(frames, vec![d], about, look)?))
}

struct Information {
    frames: Option<u32>,
    /// Samples without sound at the start and at the end.
    gap: Option<(u16, u16)>,
}

/// The frame that carries no sound, but counts ("Xing", "Info" or "VBRI" in it).
fn information(frame: &[u8], h: &Header) -> Option<Information> {
    if h.layer != 3 {
        return None;
    }
    if frame.get(36..40) == Some(b"VBRI") {
        return Some(Information { frames: be32(frame, 50), gap: None });
    }
    let at = h.side_end();
    if !matches!(frame.get(at..at + 4)?, b"Xing" | b"Info") {
        return None;
    }
    let flags = be32(frame, at + 4)?;
    let mut next = at + 8;
    let frames = (flags & 1 != 0).then(|| be32(frame, next)).flatten();
    for (bit, bytes) in [(1, 4), (2, 4), (4, 100), (8, 4)] {
        if flags & bit != 0 {
            next += bytes;
        }
    }
    // The encoder's name in 9 bytes, then 12 more; the two counts of 12 bits stand in three bytes.
    let gap = match frame.get(next + 21..next + 24) {
        Some(&[a, b, c]) if frame.get(next).is_some_and(|&c| c.is_ascii_alphabetic()) => {
            Some((u16::from(a) << 4 | u16::from(b) >> 4, u16::from(b & 15) << 8 | u16::from(c)))
        }
        _ => None,
    };
    Some(Information { frames, gap: gap.filter(|g| *g != (0, 0)) })
}
