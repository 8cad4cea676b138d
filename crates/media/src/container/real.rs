//! RealMedia ("RealMedia File Format", the Helix community's description): opened as far as it says which streams are in it.
//! None of their codecs is decoded here, so no packet is read.

use super::reader::Reader;
use super::{About, AudioTrack, Codec, Demux, Format, Media, Packet, Source, Track, Tried, VideoTrack};
use crate::bits::{be16, be32};
use crate::error::{Error, Result};
use crate::frame::video::check_size;
use crate::limits::{MAX_BOXES, MAX_CHANNELS, MAX_SAMPLE_RATE, MAX_TRACKS, MIN_SAMPLE_RATE};
use crate::units::{Ratio, Time};

pub static FORMAT: Format = Format { name: "RealMedia", score, open, tried: Tried::Made };

const SCALE: u32 = 1000;

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b".RMF\0\0\0") { 100 } else { 0 }
}

struct Real {
    tracks: Vec<Track>,
    about: About,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let mut real = Real { tracks: Vec::new(), about: About::default() };
    for _ in 0..MAX_BOXES {
        let at = r.at();
        let Some(head) = r.array::<10>()? else { break };
        let size = be32(&head, 4).unwrap_or(0).max(10);
        let end = at + u64::from(size);
        let known = [&b".RMF"[..], b"PROP", b"CONT", b"MDPR", b"DATA", b"INDX"].contains(&&head[..4]);
        if &head[..4] == b"DATA" && end > r.len() {
            real.about.damage = Some(format!(
                "cut off, or still being copied: its data should reach to byte {end}, but the file ends at {}",
                r.len()
            ));
        }
        if !known || &head[..4] == b"DATA" {
            break;
        }
        let body = r.take(u64::from(size - 10).min(r.left()).min(1 << 20), "RealMedia head")?;
        match &head[..4] {
            b"CONT" => real.content(&body),
            b"MDPR" if real.tracks.len() < MAX_TRACKS => real.stream(&body),
            _ => (),
        }
        r.go(end);
    }
    if real.tracks.is_empty() {
        return Err(Error::damaged(FORMAT.name, "cut off: no stream is described"));
    }
    Ok(Box::new(real))
}

impl Real {
    fn content(&mut self, b: &[u8]) {
        let mut at = 0;
        for key in ["title", "artist", "copyright", "comment"] {
            let size = usize::from(be16(b, at).unwrap_or(0));
            let value = b.get(at + 2..at + 2 + size).unwrap_or(&[]);
            if let Some(text) = crate::bits::text(value) {
                self.about.note(key, text);
            }
            at += 2 + size;
        }
    }

    fn stream(&mut self, b: &[u8]) {
        let number = be16(b, 0).unwrap_or(0);
        let length = be32(b, 26).unwrap_or(0);
        // Behind it two texts, each with its length in a byte: the stream's name, and its kind.
        let mut at = 30;
        let mut text = || {
            let size = usize::from(*b.get(at)?);
            let text = String::from_utf8_lossy(b.get(at + 1..at + 1 + size)?).into_owned();
            at += 1 + size;
            Some(text)
        };
        let _name = text();
        let kind = text().unwrap_or_default();
        let own = b.get(at + 4..).unwrap_or(&[]);
        let track = match own.get(4..8) {
            Some(b"VIDO") => pictures(own),
            _ if own.starts_with(b".ra\xfd") => sound(own),
            _ => Some((Codec::Other { code: kind, name: None }, Media::Other)),
        };
        let Some((codec, media)) = track else {
            self.about.remarks.push(format!("stream {number} cannot be used: its description is damaged"));
            return;
        };
        let scale = if let Media::Audio(a) = &media { a.rate } else { SCALE };
        let mut track = Track::new(u32::from(number) + 1, codec, media, scale);
        track.duration = Time::new(Time::new(length.into(), SCALE).ticks_at(scale), scale);
        self.about.note_stated("duration");
        self.tracks.push(track);
    }
}

fn four(b: &[u8], at: usize) -> Option<[u8; 4]> {
    b.get(at..at + 4)?.try_into().ok()
}

fn pictures(b: &[u8]) -> Option<(Codec, Media)> {
    let code = four(b, 8)?;
    let (width, height) = (be16(b, 12)?.into(), be16(b, 14)?.into());
    check_size("VIDO", width, height).ok()?;
    let mut v = VideoTrack::sized(width, height);
    // In units of 1/65536.
    v.rate = Ratio::new(be32(b, 22)?.into(), 65_536).filter(|r| r.value() > 0.1 && r.value() < 1000.0);
    let name = code.starts_with(b"RV").then_some("RealVideo");
    Some((Codec::Other { code: super::codes::show(&code), name }, Media::Video(v)))
}

fn sound(b: &[u8]) -> Option<(Codec, Media)> {
    let (rate, channels, code) = match be16(b, 4)? {
        3 => (8_000, 1, *b"14_4"),
        4 => {
            // Two texts with their lengths in front: how it is interleaved, and the codec.
            let at = 57 + usize::from(*b.get(56)?);
            (be16(b, 48)?, be16(b, 54)?, four(b, at + 1)?)
        }
        5 => (be16(b, 54)?, be16(b, 60)?, four(b, 66)?),
        _ => return None,
    };
    let rate = u32::from(rate);
    if channels == 0 || channels > MAX_CHANNELS || !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&rate) {
        return None;
    }
    let name = match &code {
        b"dnet" => "AC-3",
        b"raac" | b"racp" => "AAC in RealMedia",
        _ => "RealAudio",
    };
    let codec = Codec::Other { code: super::codes::show(&code), name: Some(name) };
    Some((codec, Media::Audio(AudioTrack { rate, channels, profile: None })))
}

impl Demux for Real {
    fn format(&self) -> &'static str {
        FORMAT.name
    }
    fn tracks(&self) -> &[Track] {
        &self.tracks
    }
    fn about(&self) -> &About {
        &self.about
    }
    fn choose(&mut self, _: &[usize]) {}
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        Ok(None)
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use std::io::Cursor;

    fn chunk(name: &[u8; 4], body: &[u8]) -> Vec<u8> {
        [&name[..], &(body.len() as u32 + 10).to_be_bytes(), &[0, 0], body].concat()
    }

    fn stream(number: u8, kind: &str, own: &[u8]) -> Vec<u8> {
        let mut b = vec![0u8; 30];
        b[1] = number;
        b[26..30].copy_from_slice(&4_000u32.to_be_bytes());
        b.push(0);
        b.push(kind.len() as u8);
        b.extend(kind.bytes());
        b.extend((own.len() as u32).to_be_bytes());
        b.extend(own);
        chunk(b"MDPR", &b)
    }

    pub(crate) fn sample() -> Vec<u8> {
        let mut picture = [&[0, 0, 0, 34][..], b"VIDORV40", &[1, 64, 0, 240, 0, 12, 0, 0, 0, 0]].concat();
        picture.extend((25u32 << 16).to_be_bytes());
        let mut sound = [&b".ra\xfd"[..], &[0, 5]].concat();
        sound.resize(54, 0);
        sound.extend([0xac, 0x44, 0, 0, 0, 16, 0, 2]);
        sound.extend(b"genrcook");
        let title = "Ferry at dusk";
        let content = [&[0, title.len() as u8][..], title.as_bytes(), &[0; 6]].concat();
        [
            chunk(b".RMF", &[0, 0, 0, 0, 0, 0, 0, 4]),
            chunk(b"PROP", &[0; 40]),
            chunk(b"CONT", &content),
            stream(0, "video/x-pn-realvideo", &picture),
            stream(1, "audio/x-pn-realaudio", &sound),
            chunk(b"DATA", &[0; 100]),
        ]
        .concat()
    }

    #[test]
    fn every_stream_is_named() {
        let d = super::super::open(Box::new(Cursor::new(sample()))).unwrap();
        let v = d.tracks()[0].video().unwrap();
        assert_eq!((v.width, v.height, v.rate), (320, 240, Some(Ratio { num: 25, den: 1 })));
        let names: Vec<String> = d.tracks().iter().map(|t| t.codec.name()).collect();
        assert_eq!(names, ["RealVideo", "RealAudio"]);
        let a = d.tracks()[1].audio().unwrap();
        assert_eq!((a.rate, a.channels, d.tracks()[1].duration.seconds()), (44_100, 2, 4.0));
        assert_eq!(d.about().tags, [("title".to_owned(), "Ferry at dusk".to_owned())]);
        let cut = sample()[..sample().len() - 30].to_vec();
        let d = super::super::open(Box::new(Cursor::new(cut))).unwrap();
        assert!(d.about().damage.as_deref().is_some_and(|d| d.contains("cut off")));
    }

    #[test]
    fn whatever_the_bytes_are_it_ends() {
        let whole = sample();
        for at in 0..whole.len() {
            for value in [0, 0xff, whole[at] ^ 1] {
                let mut bytes = whole.clone();
                bytes[at] = value;
                crate::testkit::hostile::use_file(&bytes);
            }
        }
    }
}
