//! A stream of pictures without a container: MPEG-1 and MPEG-2 video, H.264 and HEVC byte streams.

use super::es::{Framer, Kind, describe};
use crate::codec::{h264, hevc};
use crate::container::reader::Reader;
use crate::container::stream::{Look, Parts, Raw, Streamed};
use crate::container::{About, Demux, Format, Media, Source, Tried};
use crate::error::{Error, Result};

pub static FORMAT: Format = Format { name: "plain picture stream", score, open, tried: Tried::Files };

/// Such a stream is looked through whole, up to this.
const LOOK: u64 = 1 << 30;
const PIECE: usize = 64 << 10;

fn kind(head: &[u8]) -> Option<Kind> {
    let zeros = head.iter().take_while(|&&b| b == 0).count();
    if zeros < 2 || head.get(zeros) != Some(&1) {
        return None;
    }
    let (first, second) = (*head.get(zeros + 1)?, *head.get(zeros + 2)?);
    if first == 0xb3 {
        return Some(Kind::MpegVideo);
    }
    // A delimiter or a parameter set comes first, and a set must be there to tell what the stream is.
    let sets = |kind: u8, shift: u8, mask: u8| h264::stream_units(head).any(|u| u[0] >> shift & mask == kind);
    if first & 0x80 == 0 && matches!(first & 31, 7 | 9) && sets(h264::NAL_SPS, 0, 31) {
        return Some(Kind::H264);
    }
    (first & 0x81 == 0 && matches!(first >> 1 & 63, 32..=35) && second & 7 > 0 && sets(hevc::NAL_SPS, 1, 63))
        .then_some(Kind::Hevc)
}

fn score(head: &[u8]) -> u8 {
    if kind(head).is_some() { 60 } else { 0 }
}

pub struct Plain {
    r: Reader,
    framer: Framer,
    ended: bool,
    /// Ticks of one frame.
    frame: i64,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let head = r.peek(crate::container::PROBE_BYTES)?;
    let kind =
        kind(&head).ok_or_else(|| Error::damaged(FORMAT.name, "it does not start with a picture header"))?;
    let mut p = Plain { r, framer: Framer::new(kind, 0), ended: false, frame: 1 };
    // Times count in frames, at the stated rate.
    let mut described = None;
    while described.is_none() && p.r.at() < 8 << 20 {
        if p.next()?.is_none() {
            break;
        }
        described = describe(kind, 1, &p.framer.samples, 1);
    }
    let described = described.or_else(|| describe(kind, 1, &p.framer.samples, 1));
    let mut d = described.ok_or_else(|| Error::damaged(FORMAT.name, "no header that says what it is"))?;
    let mut about = About::default();
    d.track.decode_times = true;
    if let Media::Video(v) = &mut d.track.media {
        let rate = v.rate.unwrap_or(crate::units::Ratio { num: 25, den: 1 });
        if v.rate.is_none() {
            about.remarks.push("the stream states no frame rate; 25 frames/s is taken".into());
            v.rate = Some(rate);
        }
        // One tick is a frame's part.
        d.scale = rate.num;
        p.frame = rate.den.into();
        d.track.timescale = rate.num;
    }
    p.rewind();
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: true };
    Ok(Box::new(Streamed::open(p, vec![d], about, look)?))
}

impl Parts for Plain {
    fn next(&mut self) -> Result<Option<Raw>> {
        loop {
            if let Some(raw) = self.framer.pop() {
                return Ok(Some(Raw { duration: Some(self.frame), ..raw }));
            }
            if self.ended {
                return Ok(None);
            }
            let piece = self.r.peek(PIECE)?;
            self.r.skip(piece.len() as u64);
            if piece.is_empty() {
                self.framer.end();
                self.ended = true;
            } else {
                self.framer.feed(&piece, None);
            }
        }
    }
    fn rewind(&mut self) {
        self.r.go(0);
        self.framer.clear();
        self.ended = false;
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
}
