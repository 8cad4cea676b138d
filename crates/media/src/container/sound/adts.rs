//! Plain AAC: frames with a header each (ISO/IEC 14496-3, 1.A.2).

use super::frames::{Frame, Frames, behind_junk};
use super::id3;
use crate::codec::aac::{Config, adts::Header};
use crate::container::reader::Reader;
use crate::container::stream::{Described, Look, Streamed};
use crate::container::{About, AudioTrack, Codec, Demux, Format, Media, Source, Track, Tried};
use crate::error::{Error, Result};

pub static FORMAT: Format = Format { name: "ADTS", score, open, tried: Tried::Files };

const LOOK: u64 = 1 << 30;

fn parse(b: &[u8]) -> Option<Frame> {
    // How many samples it is, the configuration says.
    Header::parse(b).map(|h| Frame { header: h.header, len: h.len, samples: 0 })
}

/// Does a frame start here?
pub fn follows(b: &[u8]) -> bool {
    Header::parse(b).is_some()
}

fn score(head: &[u8]) -> u8 {
    let Some(first) = Header::parse(head) else {
        return if behind_junk(head, Header::parse, |h| h.len, |a, b| a.alike(b)) { 12 } else { 0 };
    };
    match head.get(first.len..).and_then(Header::parse) {
        Some(second) if second.alike(&first) => 80,
        None if head.len() < first.len + Header::BYTES => 20,
        _ => 0,
    }
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    open_at(Reader::new(source)?, About::default())
}

/// Opens from where the reader stands: behind a tag.
pub fn open_at(mut r: Reader, mut about: About) -> Result<Box<dyn Demux>> {
    if r.at() == 0 {
        let tag = id3::size(&r.peek(10)?);
        let body = r.peek(tag.min(1 << 20) as usize)?;
        id3::read(&body, &mut about);
        r.go(tag);
    }
    if !Frames::sync(&mut r, parse, Header::BYTES, 1 << 20)? {
        return Err(Error::damaged("ADTS", "no frame of sound within the first megabyte"));
    }
    let start = r.at();
    let h =
        Header::parse(&r.peek(Header::BYTES)?).ok_or_else(|| Error::damaged_at("ADTS", start, "no frame"))?;
    let config = Config::parse(&h.setup())?;
    let media = Media::Audio(AudioTrack {
        rate: config.rate,
        channels: config.channels.unwrap_or(2),
        profile: Some(config.profile.into()),
    });
    let mut track = Track::new(1, Codec::Aac, media, config.rate);
    track.setup = h.setup();
    let end = r.len();
    let frames = Frames::new(r, parse, Header::BYTES, start, end);
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: false };
    Ok(Box::new(Streamed::open(frames, vec![Described::new(track, config.rate)], about, look)?))
}
