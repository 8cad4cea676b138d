//! Ogg (RFC 3533) with Vorbis, Opus (RFC 7845), FLAC (RFC 9639, 10.1), Theora and others.

mod mux;

pub use mux::Writer;

use super::reader::Reader;
use super::stream::{Described, Look, Parts, Raw, Streamed};
use super::timing::PacketLength;
use super::{About, AudioTrack, Codec, Demux, Format, Media, Source, Track, Tried, VideoTrack};
use crate::bits::{be16, be32, le32, le64};
use crate::codec::{flac, opus, vorbis};
use crate::error::{Error, Result};
use crate::limits::{MAX_CHANNELS, MAX_PACKET_BYTES, MAX_SAMPLE_RATE, MAX_TRACKS, MIN_SAMPLE_RATE};
use crate::units::Ratio;
use std::collections::VecDeque;

pub static FORMAT: Format = Format { name: "Ogg", score, open, tried: Tried::Files };

/// Looked through for rates and counts.
const LOOK: u64 = 8 << 20;

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"OggS\0") { 100 } else { 0 }
}

struct Stream {
    serial: u32,
    track: usize,
    /// The packet that goes on on the next page.
    part: Vec<u8>,
    length: PacketLength,
    /// Samples given so far, on the line of granules.
    at: Option<i64>,
    /// Header packets in all, and how many of them are still to be passed over.
    headers: u32,
    left: u32,
    skip: u32,
    sound: bool,
    frames: i64,
}

struct Ogg {
    r: Reader,
    streams: Vec<Stream>,
    ready: VecDeque<Raw>,
    tail: bool,
    cut: Option<String>,
}

struct Page {
    serial: u32,
    granule: i64,
    continued: bool,
    last: bool,
    /// Whole packets, the first of them the end of one from the page before if `continued`.
    packets: Vec<Vec<u8>>,
    /// Begins a packet that goes on on the next page.
    part: Option<Vec<u8>>,
}

/// What the first packet of a stream says.
struct Start {
    codec: Codec,
    media: Media,
    timescale: u32,
    headers: u32,
    skip: u32,
}

fn start(b: &[u8]) -> Option<Start> {
    let sound = |codec, rate, channels: u16, headers, skip| Start {
        codec,
        media: Media::Audio(AudioTrack { rate, channels, profile: None }),
        timescale: rate,
        headers,
        skip,
    };
    let named = |code: &str, name: &'static str| Codec::Other { code: code.into(), name: Some(name) };
    if let Some((rate, channels)) = vorbis::identification(b) {
        return Some(sound(Codec::Vorbis, rate, channels, 3, 0));
    }
    if b.starts_with(b"OpusHead") {
        let head = opus::Head::parse(b).ok()?;
        return Some(sound(Codec::Opus, opus::RATE, head.channels.into(), 2, head.skip.into()));
    }
    if b.starts_with(b"\x7fFLAC") {
        let info = flac::Info::parse(b.get(17..)?)?;
        let headers = u32::from(be16(b, 7)?);
        return Some(sound(Codec::Flac, info.rate, info.channels, 1 + headers, 0));
    }
    if b.starts_with(b"Speex   ") {
        return Some(sound(named("Speex", "Speex"), le32(b, 36)?, le32(b, 48)?.min(64) as u16, 2, 0));
    }
    if b.starts_with(b"\x80theora") {
        // Theora specification, 6.2: picture region, rate, shape.
        let n24 = |at: usize| Some(be32(b, at)? >> 8);
        let (w, h) = (n24(14)?, n24(17)?);
        let rate = Ratio::new(be32(b, 22)?.into(), be32(b, 26)?.into())?;
        let mut v = VideoTrack::sized(w, h);
        (v.rate, v.constant_rate) = (Some(rate), true);
        if let (Some(x @ 1..), Some(y @ 1..)) = (n24(30), n24(33))
            && let Some(shape) = Ratio::new(x.into(), y.into())
        {
            v.pixel_shape = shape;
        }
        let chroma = *b.get(41)? >> 3 & 3;
        v.chroma = match chroma {
            0 => Some(crate::frame::Chroma::C420),
            2 => Some(crate::frame::Chroma::C422),
            3 => Some(crate::frame::Chroma::C444),
            _ => None,
        };
        v.depth = Some(8);
        return Some(Start {
            codec: Codec::Theora,
            media: Media::Video(v),
            timescale: rate.num,
            headers: 3,
            skip: 0,
        });
    }
    if b.starts_with(b"OVP80\x01") {
        // VP8 in Ogg: size and rate behind the version.
        let rate = Ratio::new(be32(b, 18)?.into(), be32(b, 22)?.into())?;
        let mut v = VideoTrack::sized(be16(b, 8)?.into(), be16(b, 10)?.into());
        (v.rate, v.constant_rate) = (Some(rate), true);
        return Some(Start {
            codec: Codec::Vp8,
            media: Media::Video(v),
            timescale: rate.num,
            headers: 2,
            skip: 0,
        });
    }
    let other = |code: &str, name| Start {
        codec: named(code, name),
        media: Media::Other,
        timescale: 1,
        headers: 1,
        skip: 0,
    };
    match b {
        _ if b.starts_with(b"fishead\0") => Some(other("fishead", "skeleton")),
        _ if b.starts_with(b"\x80kate\0") => {
            Some(Start { media: Media::Text, ..other("kate", "text captions") })
        }
        _ if b.starts_with(b"BBCD\0") => {
            Some(Start { media: Media::Video(VideoTrack::sized(0, 0)), ..other("BBCD", "Dirac") })
        }
        _ => None,
    }
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut ogg =
        Ogg { r: Reader::new(source)?, streams: Vec::new(), ready: VecDeque::new(), tail: false, cut: None };
    let mut about = About::default();
    let mut described: Vec<Described> = Vec::new();
    let mut headers: Vec<Vec<Vec<u8>>> = Vec::new();
    let mut parts: Vec<Vec<u8>> = Vec::new();
    // All first pages come first; then the other headers, until each stream has its own.
    for _ in 0..4096 {
        let waiting = headers.iter().zip(&ogg.streams).any(|(h, s)| (h.len() as u32) < s.headers);
        let page = match ogg.page() {
            Ok(Some(p)) => p,
            Ok(None) => break,
            Err(Error::Damaged(_)) => continue,
            Err(e) => return Err(e),
        };
        let known = ogg.streams.iter().position(|s| s.serial == page.serial);
        match (known, page.packets.first()) {
            (None, Some(first)) if headers.iter().all(|h| h.len() <= 1) && ogg.streams.len() < MAX_TRACKS => {
                let Some(s) = start(first) else {
                    about.remarks.push("a stream of an unknown kind was passed over".into());
                    continue;
                };
                let fits = |a: &AudioTrack| {
                    (1..=MAX_CHANNELS).contains(&a.channels)
                        && (MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&a.rate)
                };
                if let Media::Audio(a) = &s.media
                    && !fits(a)
                {
                    about.remarks.push(format!(
                        "a sound stream of {} channels at {} Hz was passed over",
                        a.channels, a.rate
                    ));
                    continue;
                }
                let sound = matches!(s.media, Media::Audio(_));
                let mut track = Track::new(page.serial, s.codec, s.media, s.timescale);
                let is_speex = matches!(track.codec, Codec::Other { name: Some("Speex"), .. });
                if track.codec == Codec::Opus || is_speex {
                    track.setup = first.clone();
                }
                if track.codec == Codec::Flac {
                    track.setup = first.get(17..51).unwrap_or(&[]).to_vec();
                }
                ogg.streams.push(Stream {
                    serial: page.serial,
                    track: described.len(),
                    part: Vec::new(),
                    length: PacketLength::Unknown,
                    at: None,
                    headers: s.headers,
                    left: s.headers,
                    skip: s.skip,
                    sound,
                    frames: track.video().and_then(|v| v.rate).map_or(1, |r| r.den.into()),
                });
                described.push(Described::new(track, s.timescale));
                headers.push(vec![first.clone()]);
                parts.push(Vec::new());
            }
            (Some(i), _) => {
                if !waiting {
                    break;
                }
                let mut packets = page.packets;
                if page.continued && !packets.is_empty() {
                    packets[0] = [std::mem::take(&mut parts[i]), std::mem::take(&mut packets[0])].concat();
                }
                if let Some(part) = page.part {
                    if page.continued && packets.is_empty() {
                        parts[i].extend(part);
                    } else {
                        parts[i] = part;
                    }
                }
                let wanted = (ogg.streams[i].headers as usize).saturating_sub(headers[i].len());
                headers[i].extend(packets.into_iter().take(wanted));
            }
            _ if !waiting && !headers.is_empty() => break,
            _ => (),
        }
    }
    for ((s, h), d) in ogg.streams.iter_mut().zip(&headers).zip(&mut described) {
        let second = h.get(1).map_or(&[][..], |b| b.as_slice());
        let comments = match &d.track.codec {
            Codec::Vorbis => {
                if let [a, b, c] = h.as_slice() {
                    d.track.setup = vorbis::join([a, b, c]);
                }
                second.get(7..)
            }
            Codec::Opus => second.get(8..),
            Codec::Flac => second.get(4..),
            Codec::Theora => {
                if let [a, b, c] = h.as_slice() {
                    d.track.setup = vorbis::join([a, b, c]);
                }
                second.get(7..)
            }
            _ => None,
        };
        for (key, value) in comments.map(vorbis::comments).unwrap_or_default() {
            about.note(&key, value);
        }
        s.length = PacketLength::of(&d.track);
    }
    if described.is_empty() {
        return Err(Error::unsupported("Ogg", "none of its streams is of a known kind"));
    }
    ogg.rewind();
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: false };
    Ok(Box::new(Streamed::open(ogg, described, about, look)?))
}

impl Ogg {
    /// RFC 3533, 6.
    fn page(&mut self) -> Result<Option<Page>> {
        let at = self.r.at();
        let Some(h) = self.r.array::<27>()? else {
            self.r.go(self.r.len());
            return Ok(None);
        };
        if &h[..4] != b"OggS" {
            self.r.go(at + 1);
            let found = self.r.find(4, u64::MAX, |b| b == b"OggS")?;
            return if found {
                Err(Error::damaged_at("Ogg", at, format!("{} bytes that are no page", self.r.at() - at)))
            } else {
                Ok(None)
            };
        }
        let table = self.r.take(u64::from(h[26]).min(self.r.left()), "Ogg page")?;
        let size: u64 = table.iter().map(|&n| u64::from(n)).sum();
        let body = self.r.take(size.min(self.r.left()), "Ogg page")?;
        if (body.len() as u64) < size || table.len() < usize::from(h[26]) {
            self.cut.get_or_insert(format!(
                "cut off, or still being copied: the page at byte {at} goes past the file's end at {}",
                self.r.len()
            ));
            return Ok(None);
        }
        let mut page = Page {
            serial: le32(&h, 14).unwrap_or(0),
            granule: le64(&h, 6).unwrap_or(0) as i64,
            continued: h[5] & 1 != 0,
            last: h[5] & 4 != 0,
            packets: Vec::new(),
            part: None,
        };
        let (mut from, mut to) = (0, 0);
        for n in &table {
            to += usize::from(*n);
            if *n < 255 {
                page.packets.push(body[from..to].to_vec());
                from = to;
            }
        }
        if table.last() == Some(&255) {
            page.part = Some(body[from..].to_vec());
        }
        Ok(Some(page))
    }

    fn take(&mut self, mut page: Page) -> Result<()> {
        let Some(i) = self.streams.iter().position(|s| s.serial == page.serial) else { return Ok(()) };
        let tail = self.tail;
        let s = &mut self.streams[i];
        let begun = std::mem::take(&mut s.part);
        if page.continued {
            if page.packets.is_empty() {
                if let Some(part) = page.part.take()
                    && begun.len() + part.len() < MAX_PACKET_BYTES as usize
                {
                    s.part = [begun, part].concat();
                }
                return Ok(());
            }
            if begun.is_empty() {
                // Its beginning is not there.
                page.packets.remove(0);
            } else {
                page.packets[0] = [begun, std::mem::take(&mut page.packets[0])].concat();
            }
        }
        s.part = page.part.take().unwrap_or_default();
        let headers = (s.left as usize).min(page.packets.len());
        s.left -= headers as u32;
        page.packets.drain(..headers);
        if page.packets.is_empty() {
            return Ok(());
        }
        if !s.sound {
            for data in page.packets {
                let key = data.first().is_some_and(|b| b & 0x40 == 0);
                let pts = s.at.map_or(0, |a| a + s.frames);
                s.at = Some(pts);
                self.ready.push_back(Raw {
                    track: s.track,
                    pts: (!tail).then_some(pts),
                    duration: Some(s.frames),
                    key,
                    data,
                    ..Raw::default()
                });
            }
            return Ok(());
        }
        let lengths: Vec<i64> =
            page.packets.iter().map(|p| s.length.samples(p).unwrap_or(0).into()).collect();
        let total: i64 = lengths.iter().sum();
        // The granule counts to the end of the page; the first page tells where the stream begins.
        let begin = match s.at {
            Some(at) => at,
            None if page.granule < 0 => 0,
            // A last page may end before its packets do.
            None if page.last && page.granule < total => 0,
            None => page.granule - total,
        };
        let mut over = if page.last && page.granule >= 0 { (begin + total - page.granule).max(0) } else { 0 };
        let mut at = begin;
        let mut raws: Vec<Raw> = Vec::new();
        for (data, n) in page.packets.into_iter().zip(&lengths) {
            let pts = Some(at - i64::from(s.skip));
            raws.push(Raw { track: s.track, pts, duration: Some(*n), key: true, data, ..Raw::default() });
            at += n;
        }
        for (raw, n) in raws.iter_mut().zip(&lengths).rev() {
            let cut = over.min(*n);
            raw.drop_end = cut as u32;
            over -= cut;
        }
        // Where a page says another moment than the samples, something is missing before it.
        s.at = Some(if page.granule >= 0 && !page.last { page.granule } else { at });
        self.ready.extend(raws);
        Ok(())
    }
}

impl Parts for Ogg {
    fn next(&mut self) -> Result<Option<Raw>> {
        loop {
            if let Some(raw) = self.ready.pop_front() {
                return Ok(Some(raw));
            }
            match self.page()? {
                Some(page) => self.take(page)?,
                None => return Ok(None),
            }
        }
    }
    fn rewind(&mut self) {
        self.r.go(0);
        self.tail = false;
        self.ready.clear();
        for s in &mut self.streams {
            s.at = None;
            s.part.clear();
            s.left = s.headers;
            if let PacketLength::Vorbis(b) = &mut s.length {
                b.restart();
            }
        }
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn cut(&self) -> Option<String> {
        self.cut.clone()
    }
    fn to_tail(&mut self) -> Result<bool> {
        self.rewind();
        self.tail = true;
        self.streams.iter_mut().for_each(|s| s.left = 0);
        self.r.go(self.r.len().saturating_sub(256 << 10));
        self.r.find(4, u64::MAX, |b| b == b"OggS")
    }
}
