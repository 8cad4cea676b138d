//! AVI (Microsoft's RIFF media file format) with the long files of OpenDML (AVI File Format Extensions, 1.02).
//!
//! Chunks of media are read in the order of the file, so no index is needed, and a broken one does no harm.

use super::codes::{self, Wave};
use super::mpeg_frames::MpegFrames;
use super::reader::Reader;
use super::stream::{Described, Look, Parts, Raw, Streamed, take_setups};
use super::{About, AudioTrack, Codec, Demux, Format, Media, Source, Track, Tried, VideoTrack};
use crate::bits::{le32, text};
use crate::codec::{h264, mpeg_video};
use crate::error::{Error, Result};
use crate::frame::video::check_size;
use crate::limits::{
    MAX_BOXES, MAX_CHANNELS, MAX_PACKET_BYTES, MAX_SAMPLE_RATE, MAX_TRACKS, MIN_SAMPLE_RATE,
};
use crate::units::{Ratio, Time};
use std::collections::VecDeque;

pub static FORMAT: Format = Format { name: "AVI", score, open, tried: Tried::Files };

const LOOK: u64 = 8 << 20;

fn score(head: &[u8]) -> u8 {
    match (head.get(..4), head.get(8..12)) {
        (Some(b"RIFF"), Some(b"AVI ")) => 100,
        _ => 0,
    }
}

/// How a stream's chunks count.
enum Count {
    /// Each chunk is a picture of this many ticks.
    Pictures {
        next: i64,
        each: i64,
        annex_b: bool,
    },
    /// Chunks hold whole samples or packets whose length is known from their content.
    Sound,
    /// Frames of MPEG audio that do not keep to the chunks.
    Frames(MpegFrames),
    Other,
}

struct Stream {
    count: Count,
    /// Index of its track; none if it could not be used.
    track: Option<usize>,
}

struct Avi {
    r: Reader,
    first: u64,
    /// End of the list that is being read, and of the file's last part.
    streams: Vec<Stream>,
    ready: VecDeque<Raw>,
    cut: Option<String>,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let mut about = About::default();
    let head = r.take(12, "RIFF")?;
    let stated = u64::from(le32(&head, 4).unwrap_or(0)) + 8;
    let cut = (stated > r.len() && stated < u64::from(u32::MAX)).then(|| {
        format!(
            "cut off, or still being copied: the file should have {stated} bytes, but ends at {}",
            r.len()
        )
    });
    let mut avi = Avi { first: r.len(), r, streams: Vec::new(), ready: VecDeque::new(), cut };
    let mut described = Vec::new();
    for _ in 0..MAX_BOXES {
        let Some((kind, size, list)) = avi.chunk()? else { break };
        match (&kind, list.as_ref()) {
            (b"LIST", Some(b"movi")) => {
                avi.first = avi.r.at();
                break;
            }
            (b"LIST", Some(b"hdrl")) => {
                let body = avi.r.take(size.min(1 << 20), "hdrl")?;
                avi.headers(&body, &mut described, &mut about);
                avi.r.skip(size.saturating_sub(1 << 20) + (size & 1));
            }
            (b"LIST", Some(b"INFO")) => {
                let body = avi.r.take(size.min(1 << 16), "INFO")?;
                for (key, value) in chunks(&body) {
                    let name = match key {
                        b"INAM" => "title",
                        b"IART" => "artist",
                        b"ICMT" => "comment",
                        b"ISFT" => "software",
                        b"ICRD" => "date",
                        _ => continue,
                    };
                    if let Some(t) = text(value) {
                        about.note(name, t);
                    }
                }
                avi.r.skip(size.saturating_sub(1 << 16) + (size & 1));
            }
            _ => avi.r.skip(size + (size & 1)),
        }
    }
    if described.is_empty() {
        let why = about.remarks.first().cloned().unwrap_or_else(|| "no stream is described".into());
        return Err(Error::damaged("AVI", why));
    }
    if avi.first >= avi.r.len() {
        let why = avi.cut.clone().unwrap_or_else(|| "no media ('movi' list)".into());
        return Err(Error::damaged("AVI", why));
    }
    take_setups(&mut avi, &mut described);
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: false };
    Ok(Box::new(Streamed::open(avi, described, about, look)?))
}

/// Chunks in memory; a cut last one is shortened.
fn chunks(mut b: &[u8]) -> impl Iterator<Item = (&[u8; 4], &[u8])> {
    std::iter::from_fn(move || {
        let (kind, rest) = b.split_first_chunk::<4>()?;
        let size = le32(rest, 0)? as usize;
        let rest = &rest[4..];
        let body = &rest[..size.min(rest.len())];
        b = rest.get(size.saturating_add(size & 1)..).unwrap_or(&[]);
        Some((kind, body))
    })
}

impl Avi {
    /// Head of the chunk here: kind, size of what follows, and the kind of a list.
    #[allow(clippy::type_complexity)]
    fn chunk(&mut self) -> Result<Option<([u8; 4], u64, Option<[u8; 4]>)>> {
        let Some(h) = self.r.array::<8>()? else { return Ok(None) };
        let kind = [h[0], h[1], h[2], h[3]];
        let size = u64::from(le32(&h, 4).unwrap_or(0));
        if (&kind == b"LIST" || &kind == b"RIFF") && size >= 4 {
            let Some(list) = self.r.array::<4>()? else { return Ok(None) };
            return Ok(Some((kind, size - 4, Some(list))));
        }
        Ok(Some((kind, size, None)))
    }

    fn headers(&mut self, hdrl: &[u8], described: &mut Vec<Described>, about: &mut About) {
        for (kind, body) in chunks(hdrl) {
            if kind == b"LIST" && body.starts_with(b"strl") && self.streams.len() < MAX_TRACKS {
                let number = self.streams.len();
                let mut stream = Stream { count: Count::Other, track: None };
                match read_stream(&body[4..], number as u32) {
                    Ok((d, count)) => {
                        stream = Stream { count, track: Some(described.len()) };
                        described.push(d);
                    }
                    Err(e) => about.remarks.push(format!("stream {number} cannot be used: {e}")),
                }
                self.streams.push(stream);
            }
        }
    }

    fn take(&mut self, stream: usize, data: Vec<u8>, compressed: bool) {
        let Some(s) = self.streams.get_mut(stream) else { return };
        let Some(track) = s.track else { return };
        match &mut s.count {
            Count::Pictures { next, each, annex_b } => {
                let pts = *next;
                *next = next.saturating_add(*each);
                // An empty chunk shows the picture before it for longer.
                if data.is_empty() {
                    return;
                }
                let data = if *annex_b { h264::with_lengths(&data) } else { data };
                let key = !compressed || self.ready.is_empty();
                self.ready.push_back(Raw {
                    track,
                    pts: Some(pts),
                    duration: Some(*each),
                    key,
                    data,
                    ..Raw::default()
                });
            }
            Count::Sound if !data.is_empty() => {
                self.ready.push_back(Raw { track, key: true, data, ..Raw::default() });
            }
            Count::Frames(f) => {
                f.feed(&data);
                while let Some(data) = f.pop() {
                    self.ready.push_back(Raw { track, key: true, data, ..Raw::default() });
                }
            }
            _ => (),
        }
    }
}

fn read_stream(strl: &[u8], number: u32) -> Result<(Described, Count)> {
    let find = |kind: &[u8; 4]| chunks(strl).find(|(k, _)| *k == kind).map(|(_, b)| b);
    let missing = |what: &str| Error::damaged("strl", format!("no '{what}' chunk"));
    let strh = find(b"strh").ok_or_else(|| missing("strh"))?;
    let strf = find(b"strf").ok_or_else(|| missing("strf"))?;
    let (scale, rate) = (le32(strh, 20).unwrap_or(0), le32(strh, 24).unwrap_or(0));
    let length = le32(strh, 32).unwrap_or(0);
    let ticks = Ratio::new(rate.into(), scale.into());
    match strh.get(..4) {
        Some(b"vids") => {
            let (w, h, mut codec, extra) =
                codes::bitmap(strf).ok_or_else(|| Error::damaged("strf", "it is cut short"))?;
            check_size("strf", w, h)?;
            let rate = ticks
                .filter(|r| r.value() <= 1000.0)
                .ok_or_else(|| Error::damaged("strh", format!("{rate} frames in {scale} seconds")))?;
            let mut v = VideoTrack::sized(w, h);
            (v.rate, v.constant_rate) = (Some(rate), true);
            if let Codec::Other { name: Some("MPEG-4 part 2"), .. } = &codec {
                v.profile = mpeg_video::part2_profile(&extra).map(String::from);
            }
            // Where the header leaves it open, the stream's handler tells.
            if let (Codec::Other { name: None, .. }, Some(code)) = (&codec, strh.get(4..8)) {
                codec = codes::picture(code.try_into().unwrap_or(&[0; 4]));
            }
            let annex_b = codec.has_units();
            let mut track = Track::new(number, codec, Media::Video(v), rate.num);
            track.decode_times = annex_b || matches!(track.codec.name().as_str(), "MPEG-2" | "MPEG-1 video");
            let mut d = Described::new(track, rate.num);
            d.stated = Some(Time::new(i64::from(length).saturating_mul(rate.den.into()), rate.num));
            d.stated_frames = Some(length.into());
            let start = i64::from(le32(strh, 28).unwrap_or(0)).saturating_mul(rate.den.into());
            Ok((d, Count::Pictures { next: start, each: rate.den.into(), annex_b }))
        }
        Some(b"auds") => {
            let Wave { codec, setup, rate, channels, .. } =
                codes::wave(strf).ok_or_else(|| Error::damaged("strf", "it is cut short"))?;
            if channels == 0
                || channels > MAX_CHANNELS
                || !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&rate)
            {
                return Err(Error::damaged("strf", format!("{channels} channels at {rate} Hz")));
            }
            let count = if let Codec::MpegAudio(_) = codec {
                Count::Frames(MpegFrames::default())
            } else {
                Count::Sound
            };
            let mut a = AudioTrack { rate, channels, profile: None };
            if let (Codec::Aac, Ok(c)) = (&codec, crate::codec::aac::Config::parse(&setup)) {
                (a.rate, a.profile) = (c.rate, Some(c.profile.into()));
            }
            let rate = a.rate;
            let mut track = Track::new(number, codec, Media::Audio(a), rate);
            track.setup = setup;
            let mut d = Described::new(track, rate);
            if let Some(r) = ticks {
                let ms = u128::from(length) * u128::from(r.den) * 1000 / u128::from(r.num);
                d.stated = Some(Time::new(i64::try_from(ms).unwrap_or(i64::MAX), 1000));
            }
            Ok((d, count))
        }
        Some(kind) => {
            let code = codes::show(kind.try_into().unwrap_or(&[0; 4]));
            let media = if kind == b"txts" { Media::Text } else { Media::Other };
            Ok((
                Described::new(Track::new(number, Codec::Other { code, name: None }, media, 1), 1),
                Count::Other,
            ))
        }
        None => Err(Error::damaged("strh", "it is cut short")),
    }
}

impl Parts for Avi {
    fn next(&mut self) -> Result<Option<Raw>> {
        loop {
            if let Some(raw) = self.ready.pop_front() {
                return Ok(Some(raw));
            }
            let at = self.r.at();
            let Some((kind, size, list)) = self.chunk()? else { return Ok(None) };
            // Lists of records and further parts of long files are looked into.
            if list.is_some_and(|l| matches!(&l, b"rec " | b"movi" | b"AVIX" | b"AVI ")) {
                continue;
            }
            let digits = kind[..2].iter().all(u8::is_ascii_digit);
            if list.is_none() && digits && matches!(&kind[2..], b"dc" | b"db" | b"wb" | b"tx") {
                if size > self.r.left() || size > MAX_PACKET_BYTES {
                    let left = self.r.left();
                    self.cut.get_or_insert(format!(
                        "cut off, or still being copied: a chunk at byte {at} has {size} bytes, but the file ends after {left}"
                    ));
                    self.r.go(self.r.len());
                    return Ok(None);
                }
                let data = self.r.take(size, "chunk")?;
                self.r.skip(size & 1);
                let stream = usize::from(kind[0] - b'0') * 10 + usize::from(kind[1] - b'0');
                self.take(stream, data, kind[2..] == *b"dc");
                continue;
            }
            let known = kind.iter().all(|b| b.is_ascii_alphanumeric() || *b == b' ' || *b == b'_');
            if !known {
                // Damage: the next chunk of media begins where its name can be read.
                self.r.go(at + 1);
                self.r.find(4, u64::MAX, |b| {
                    b.len() == 4
                        && b[..2].iter().all(u8::is_ascii_digit)
                        && matches!(&b[2..], b"dc" | b"db" | b"wb")
                })?;
                return Err(Error::damaged_at("AVI", at, "no chunk starts here"));
            }
            self.r.skip(size + (size & 1));
        }
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
        self.ready.clear();
        for s in &mut self.streams {
            match &mut s.count {
                Count::Pictures { next, .. } => *next = 0,
                Count::Frames(f) => *f = MpegFrames::default(),
                _ => (),
            }
        }
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn cut(&self) -> Option<String> {
        self.cut.clone()
    }
}
