//! FLAC's own file format (RFC 9639, 8). A frame does not state its length: the next header that checks out and
//! carries on the count ends it.

use super::id3;
use crate::bits::be32;
use crate::codec::flac::{FrameHeader, Info};
use crate::codec::vorbis;
use crate::container::reader::Reader;
use crate::container::stream::{Described, Look, Parts, Raw, Streamed};
use crate::container::{About, AudioTrack, Codec, Demux, Format, Media, Source, Track, Tried};
use crate::error::{Error, Result};
use crate::limits::{MAX_SAMPLE_RATE, MIN_SAMPLE_RATE};
use crate::units::Time;

pub static FORMAT: Format = Format { name: "FLAC", score, open, tried: Tried::Writers };

const LOOK: u64 = 16 << 20;
/// Longest frame looked for: 65,535 samples of 8 channels of 32 bits, and its heads.
const MAX_FRAME: u64 = 65_535 * 8 * 4 + 1024;
/// Frames (or samples, where frames are counted so) that may be missing between two that are there.
const MAX_LOST: u64 = 1 << 24;

fn score(head: &[u8]) -> u8 {
    if follows(head) { 100 } else { 0 }
}

/// Does the file's marker stand here?
pub fn follows(b: &[u8]) -> bool {
    b.starts_with(b"fLaC")
}

struct Flac {
    r: Reader,
    first: u64,
    channels: u16,
    /// Samples of a frame where all but the last are as long; 0 where that is not stated.
    usual: u64,
    /// Moment of the first frame: a stream that was cut out of a longer one does not begin at 0.
    base: Option<i64>,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    open_at(Reader::new(source)?, About::default())
}

/// Opens from where the reader stands: behind a tag.
pub fn open_at(mut r: Reader, mut about: About) -> Result<Box<dyn Demux>> {
    if r.at() == 0 {
        let tag = id3::size(&r.peek(10)?);
        r.go(tag);
    }
    r.skip(4);
    let mut setup = None;
    loop {
        let head = r.take(4, "FLAC metadata block")?;
        let len = u64::from(be32(&head, 0).unwrap_or(0) & 0xff_ffff);
        match head[0] & 0x7f {
            0 => setup = Some(r.take(len, "FLAC stream information")?),
            4 => {
                let body = r.take(len.min(1 << 20), "FLAC comments")?;
                r.skip(len.saturating_sub(1 << 20));
                for (key, value) in vorbis::comments(&body) {
                    about.note(&key, value);
                }
            }
            6 => {
                about.remarks.push("a cover picture is inside".into());
                r.skip(len);
            }
            _ => r.skip(len),
        }
        if head[0] & 0x80 != 0 {
            break;
        }
    }
    let setup = setup.ok_or_else(|| Error::damaged("FLAC", "no stream information"))?;
    let info =
        Info::parse(&setup).ok_or_else(|| Error::damaged("FLAC", "the stream information is cut short"))?;
    if !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&info.rate) {
        return Err(Error::damaged(
            "FLAC",
            format!("sample rate {} Hz; {MIN_SAMPLE_RATE} to {MAX_SAMPLE_RATE}", info.rate),
        ));
    }
    let form = Media::Audio(AudioTrack {
        rate: info.rate,
        channels: info.channels,
        profile: Some(format!("{}-bit", info.bits)),
    });
    let mut track = Track::new(1, Codec::Flac, form, info.rate);
    track.setup = setup[..Info::BYTES].to_vec();
    let mut d = Described::new(track, info.rate);
    if info.total > 0 {
        let total = i64::try_from(info.total).unwrap_or(i64::MAX);
        d.stated = Some(Time::new(total, info.rate));
    }
    let first = r.at();
    let usual = u64::from(crate::bits::be16(&setup, 0).unwrap_or(0));
    let flac = Flac { r, first, channels: info.channels, usual, base: None };
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: false };
    let mut opened = Streamed::open(flac, vec![d], about, look)?;
    opened.compare_stated(info.total);
    Ok(Box::new(opened))
}

impl Parts for Flac {
    fn next(&mut self) -> Result<Option<Raw>> {
        let at = self.r.at();
        let head = self.r.peek(FrameHeader::MOST)?;
        let channels = self.channels;
        let fits = |h: &FrameHeader| h.channels == channels;
        let Some(h) = FrameHeader::parse(&head).filter(fits) else {
            if self.r.left() == 0 {
                return Ok(None);
            }
            self.r.go(at + 1);
            let found = self
                .r
                .find_to_end(FrameHeader::MOST, u64::MAX, |b| FrameHeader::parse(b).filter(fits).is_some())?;
            // Tags may stand behind the last frame.
            return if found {
                Err(Error::damaged_at("FLAC", at, format!("{} bytes that are no frame", self.r.at() - at)))
            } else {
                Ok(None)
            };
        };
        let next = h.number + if h.variable { u64::from(h.samples) } else { 1 };
        let mut follows = |least: u64, most: u64| {
            self.r.go(at + 6);
            self.r.find_to_end(FrameHeader::MOST, MAX_FRAME, |b| {
                b.first() == Some(&0xff)
                    && FrameHeader::parse(b).is_some_and(|f| {
                        fits(&f) && f.variable == h.variable && (least..=most).contains(&f.number)
                    })
            })
        };
        // Where the next frame is damaged, a later one ends this.
        let found = follows(next, next)? || follows(next, next.saturating_add(MAX_LOST))?;
        let end = if found { self.r.at() } else { self.r.len().min(at + MAX_FRAME) };
        self.r.go(at);
        let data = self.r.take(end - at, "FLAC frame")?;
        // Fixed lengths: the frame's number times the usual length; only the last frame is shorter.
        let pts = match (h.variable, self.usual) {
            (true, _) => i64::try_from(h.number).ok(),
            (false, 0) => None,
            (false, n) => i64::try_from(h.number.saturating_mul(n)).ok(),
        };
        let base = *self.base.get_or_insert(pts.unwrap_or(0));
        let pts = pts.map(|p| p.saturating_sub(base));
        Ok(Some(Raw { pts, duration: Some(h.samples.into()), key: true, data, ..Raw::default() }))
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
}
