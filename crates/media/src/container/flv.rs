//! FLV ("Video File Format Specification", version 10, annex E; the longer codes of pictures by "Enhanced RTMP", 2023):
//! tags one behind the other, each with its time in milliseconds.

use super::codes;
use super::reader::Reader;
use super::stream::{Described, Look, Parts, Raw, Streamed};
use super::{
    About, AudioTrack, Codec, Demux, Format, Media, PcmKind, PcmLayout, Source, Track, Tried, VideoTrack,
};
use crate::bits::be32;
use crate::error::{Error, Result};

pub static FORMAT: Format = Format { name: "FLV", score, open, tried: Tried::Made };

const LOOK: u64 = 16 << 20;
/// Tags that are looked through for both kinds of track and their setup.
const MOST_TAGS: usize = 2_000;
const SCALE: u32 = 1000;
const SOUND: u8 = 8;
const PICTURE: u8 = 9;

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"FLV\x01") { 100 } else { 0 }
}

struct Flv {
    r: Reader,
    first: u64,
    /// Tracks by what a tag says it is of.
    sound: Option<usize>,
    picture: Option<usize>,
    has_units: bool,
    aac: bool,
    cut: Option<String>,
}

/// One tag: what it is, when, and what is in it.
struct Tag {
    kind: u8,
    at: i64,
    body: Vec<u8>,
}

impl Flv {
    fn tag(&mut self) -> Result<Option<Tag>> {
        let from = self.r.at();
        // In front of each stands the length of the one before it.
        let Some(h) = self.r.array::<15>()? else { return Ok(None) };
        let size = be32(&h, 4).unwrap_or(0) & 0xff_ffff;
        let kind = h[4] & 0x1f;
        let time = u32::from(h[11]) << 24 | be32(&h, 7).unwrap_or(0) & 0xff_ffff;
        if u64::from(size) > self.r.left() {
            self.cut.get_or_insert(format!(
                "cut off, or still being copied: a tag of {size} bytes at byte {from}, but the file ends after {}",
                self.r.left()
            ));
            self.r.go(self.r.len());
            return Ok(None);
        }
        let body = self.r.take(size.into(), "FLV tag")?;
        Ok(Some(Tag { kind, at: i64::from(time as i32), body }))
    }
}

/// A picture tag: its codec, whether it is a key picture, whether it is the setup, and where its packet begins and how much
/// later it is shown.
fn picture(b: &[u8]) -> Option<(Codec, bool, bool, usize, i64)> {
    let first = *b.first()?;
    let later = |at: usize| be32(b, at).map(|v| i64::from((v as i32) >> 8));
    if first & 0x80 != 0 {
        // The longer form: what kind of packet, then four letters.
        let code: [u8; 4] = b.get(1..5)?.try_into().ok()?;
        let codec = codes::picture(&code);
        let key = first >> 4 & 7 == 1;
        return Some(match first & 15 {
            0 => (codec, key, true, 5, 0),
            1 if matches!(&code, b"avc1" | b"hvc1") => (codec, key, false, 8, later(5)?),
            1 | 3 => (codec, key, false, 5, 0),
            _ => return None,
        });
    }
    let key = first >> 4 == 1;
    let named = |name| Codec::Other { code: (first & 15).to_string(), name: Some(name) };
    Some(match first & 15 {
        7 => match *b.get(1)? {
            0 => (Codec::H264, key, true, 5, 0),
            1 => (Codec::H264, key, false, 5, later(2)?),
            _ => return None,
        },
        2 => (named("H.263"), key, false, 1, 0),
        3 | 6 => (named("screen pictures"), key, false, 1, 0),
        4 | 5 => (named("VP6"), key, false, 2, 0),
        12 => (Codec::Hevc, key, *b.get(1)? == 0, 5, later(2).unwrap_or(0)),
        _ => (Codec::Other { code: (first & 15).to_string(), name: None }, key, false, 1, 0),
    })
}

/// A sound tag: its track, and where its packet begins.
fn sound(b: &[u8]) -> Option<(Codec, u32, u16, usize)> {
    let first = *b.first()?;
    let rate = [5_512, 11_025, 22_050, 44_100][usize::from(first >> 2 & 3)];
    let channels = u16::from(first & 1) + 1;
    let bytes = 1 + (first >> 1 & 1);
    let pcm = |bytes: u8, kind| Codec::Pcm(PcmLayout { bits: bytes * 8, bytes, big_endian: false, kind });
    let named = |name| Codec::Other { code: (first >> 4).to_string(), name: Some(name) };
    Some(match first >> 4 {
        2 => (Codec::MpegAudio(3), rate, channels, 1),
        14 => (Codec::MpegAudio(3), 8_000, channels, 1),
        10 => (Codec::Aac, rate, channels, 2),
        0 | 3 if bytes == 1 => (pcm(1, PcmKind::Unsigned), rate, channels, 1),
        0 | 3 => (pcm(2, PcmKind::Signed), rate, channels, 1),
        7 => (pcm(1, PcmKind::Alaw), 8_000, channels, 1),
        8 => (pcm(1, PcmKind::Mulaw), 8_000, channels, 1),
        1 => (named("ADPCM"), rate, channels, 1),
        11 => (named("Speex"), 16_000, 1, 1),
        _ => (Codec::Other { code: (first >> 4).to_string(), name: None }, rate, channels, 1),
    })
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let head = r.take(9.min(r.left()), "FLV head")?;
    let first = be32(&head, 5).ok_or_else(|| Error::damaged("FLV", "cut off: the head is not whole"))?;
    r.go(first.into());
    let (has_units, aac) = (false, false);
    let mut flv = Flv { r, first: first.into(), sound: None, picture: None, has_units, aac, cut: None };
    let mut all: Vec<Described> = Vec::new();
    // What the head says is there need not be, and the other way round.
    let mut needs_setup = [false; 2];
    for _ in 0..MOST_TAGS {
        let Some(tag) = flv.tag()? else { break };
        match tag.kind {
            PICTURE => {
                let Some((codec, _, is_setup, at, _)) = picture(&tag.body) else { continue };
                if flv.picture.is_none() {
                    needs_setup[0] = codec.has_units();
                    flv.has_units = codec.has_units();
                    let v = VideoTrack::sized(0, 0);
                    flv.picture = Some(all.len());
                    all.push(Described::new(Track::new(1, codec, Media::Video(v), SCALE), SCALE));
                }
                if let Some(d) =
                    flv.picture.map(|n| &mut all[n]).filter(|d| is_setup && d.track.setup.is_empty())
                {
                    d.track.setup = tag.body.get(at..).unwrap_or(&[]).to_vec();
                    crate::codec::describe_setup(&mut d.track);
                    needs_setup[0] = false;
                }
            }
            SOUND => {
                let Some((codec, rate, channels, at)) = sound(&tag.body) else { continue };
                if flv.sound.is_none() {
                    flv.aac = codec == Codec::Aac;
                    needs_setup[1] = flv.aac;
                    flv.sound = Some(all.len());
                    let media = Media::Audio(AudioTrack { rate, channels, profile: None });
                    all.push(Described::new(Track::new(2, codec, media, rate), SCALE));
                }
                if let Some(d) = flv.sound.map(|n| &mut all[n])
                    && flv.aac
                    && tag.body.get(1) == Some(&0)
                    && d.track.setup.is_empty()
                {
                    d.track.setup = tag.body.get(at..).unwrap_or(&[]).to_vec();
                    if let Ok(c) = crate::codec::aac::Config::parse(&d.track.setup) {
                        let (rate, channels) = (c.rate, c.channels.unwrap_or(channels));
                        d.track.media = Media::Audio(AudioTrack { rate, channels, profile: None });
                        d.track.timescale = rate;
                    }
                    needs_setup[1] = false;
                }
            }
            _ => (),
        }
        let is_stated = |bit: u8| head.get(4).is_some_and(|flags| flags & bit != 0);
        if (flv.picture.is_some() || !is_stated(1))
            && (flv.sound.is_some() || !is_stated(4))
            && needs_setup == [false; 2]
        {
            break;
        }
    }
    flv.rewind();
    if all.is_empty() {
        return Err(Error::damaged("FLV", "no picture and no sound in it"));
    }
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: true };
    Ok(Box::new(Streamed::open(flv, all, About::default(), look)?))
}

impl Parts for Flv {
    fn next(&mut self) -> Result<Option<Raw>> {
        loop {
            let Some(tag) = self.tag()? else { return Ok(None) };
            match (tag.kind, self.picture, self.sound) {
                (PICTURE, Some(track), _) => {
                    let Some((_, key, false, at, later)) = picture(&tag.body) else { continue };
                    let data = tag.body.get(at..).unwrap_or(&[]).to_vec();
                    if data.is_empty() {
                        continue;
                    }
                    return Ok(Some(Raw { track, pts: Some(tag.at + later), key, data, ..Raw::default() }));
                }
                (SOUND, _, Some(track)) => {
                    let Some((_, _, _, at)) = sound(&tag.body) else { continue };
                    let data = tag.body.get(at..).unwrap_or(&[]).to_vec();
                    if data.is_empty() || self.aac && tag.body.get(1) == Some(&0) {
                        continue;
                    }
                    return Ok(Some(Raw { track, pts: Some(tag.at), key: true, data, ..Raw::default() }));
                }
                _ => (),
            }
        }
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn cut(&self) -> Option<String> {
        self.cut.clone()
    }
}
