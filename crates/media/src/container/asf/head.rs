//! The head: what streams there are (section 3).

use super::guid;
use crate::bits::{le16, le32, le64};
use crate::container::codes;
use crate::container::reader::Reader;
use crate::container::stream::Described;
use crate::container::{About, AudioTrack, Codec, Media, Source, Track, VideoTrack};
use crate::error::{Error, Result};
use crate::frame::video::check_size;
use crate::limits::{MAX_BOXES, MAX_CHANNELS, MAX_SAMPLE_RATE, MAX_TRACKS, MIN_SAMPLE_RATE};
use crate::units::{Ratio, Time, iso_utc};

/// Times stand in milliseconds.
const SCALE: u32 = 1000;
/// Seconds between 1601 and 1970.
const TO_1970: i64 = 11_644_473_600;

/// A stream, by the number that its pieces have.
#[derive(Clone, Debug)]
pub struct Stream {
    pub number: u8,
    pub track: usize,
    pub codec: Codec,
}

pub struct Head {
    pub r: Reader,
    /// Where packets begin, and how many bytes each has.
    pub first: u64,
    pub packet: u64,
    /// Milliseconds by which all times are too late.
    pub preroll: i64,
    pub streams: Vec<Stream>,
    pub described: Vec<Described>,
    pub about: About,
    pub cut: Option<String>,
    /// Of the file's properties.
    length: Option<Time>,
    is_encrypted: bool,
}

impl Head {
    pub fn read(source: Box<dyn Source>) -> Result<Head> {
        let mut r = Reader::new(source)?;
        let start = r.take(30.min(r.left()), "ASF head")?;
        let size = le64(&start, 16).filter(|_| start.len() == 30);
        let size = size.ok_or_else(|| Error::damaged("ASF", "cut off: the head is not whole"))?;
        let body = r.take(size.saturating_sub(30), "ASF head")?;
        let mut head = Head {
            r,
            first: 0,
            packet: 0,
            preroll: 0,
            streams: Vec::new(),
            described: Vec::new(),
            about: About::default(),
            cut: None,
            length: None,
            is_encrypted: false,
        };
        head.objects(&body, 0);
        // Of a recording whose length is not known yet the file says nothing of it.
        for d in &mut head.described {
            d.stated = head.length;
        }
        if head.is_encrypted {
            for (d, s) in head.described.iter_mut().zip(&mut head.streams) {
                let of = Box::new(d.track.codec.clone());
                d.track.codec = Codec::Encrypted { of, scheme: "ASF".into() };
                s.codec = d.track.codec.clone();
            }
        }
        head.data()?;
        Ok(head)
    }

    /// Finds the data object, which follows the head.
    fn data(&mut self) -> Result<()> {
        for _ in 0..MAX_BOXES {
            let at = self.r.at();
            let Some(h) = self.r.array::<24>()? else { break };
            let size = le64(&h, 16).unwrap_or(0);
            if h[..16] == guid::DATA {
                let Some(more) = self.r.array::<26>()? else { break };
                self.first = self.r.at();
                // A recording that goes on has no length of its data yet, and no count.
                let count = le64(&more, 16).unwrap_or(0);
                let stated = self.first.saturating_add(count.saturating_mul(self.packet));
                if count > 0 && stated > self.r.len() {
                    self.cut = Some(format!(
                        "cut off, or still being copied: {count} packets of {} bytes are stated, but the file ends at byte {}",
                        self.packet,
                        self.r.len()
                    ));
                }
                if !(100..=1 << 24).contains(&self.packet) {
                    return Err(Error::damaged(
                        "ASF file properties",
                        format!("packets of {} bytes", self.packet),
                    ));
                }
                return Ok(());
            }
            if size < 24 {
                break;
            }
            self.r.go(at.saturating_add(size));
        }
        Err(Error::damaged("ASF", "cut off, or still being copied: there is no media behind the head"))
    }

    fn objects(&mut self, mut b: &[u8], depth: u8) {
        while let (Some(kind), Some(size)) = (b.get(..16), le64(b, 16)) {
            let size = usize::try_from(size).unwrap_or(usize::MAX).clamp(24, b.len().max(24));
            let body = b.get(24..size).unwrap_or(&[]);
            match kind.try_into().unwrap_or([0; 16]) {
                guid::FILE => self.file(body),
                guid::STREAM => self.stream(body),
                guid::MORE_OF_STREAM => self.more_of_stream(body),
                guid::EXTENSION if depth == 0 => self.objects(body.get(22..).unwrap_or(&[]), 1),
                guid::CONTENT => self.content(body),
                guid::MORE_CONTENT => self.more_content(body),
                guid::ENCRYPTION | guid::MORE_ENCRYPTION => self.is_encrypted = true,
                _ => (),
            }
            b = b.get(size..).unwrap_or(&[]);
        }
    }

    fn file(&mut self, b: &[u8]) {
        let (Some(created), Some(length), Some(preroll)) = (le64(b, 24), le64(b, 40), le64(b, 56)) else {
            return;
        };
        let (flags, packet) = (le32(b, 64).unwrap_or(1), le32(b, 68).unwrap_or(0));
        self.packet = packet.max(le32(b, 72).unwrap_or(0)).into();
        self.preroll = preroll.min(1 << 32) as i64;
        let is_live = flags & 1 == 1;
        if !is_live {
            let ms = (length / 10_000).min(1 << 48) as i64 - self.preroll;
            self.length = (ms > 0).then(|| Time::new(ms, SCALE));
        }
        let seconds = (created / 10_000_000) as i64 - TO_1970;
        if seconds > 0 {
            self.about.created = u64::try_from(seconds).ok().filter(|&s| s < 1 << 36).map(iso_utc);
        }
    }

    fn stream(&mut self, b: &[u8]) {
        let flags = le16(b, 48).unwrap_or(0);
        let number = (flags & 0x7f) as u8;
        let is_known = self.streams.iter().any(|s| s.number == number);
        if b.len() < 54 || self.streams.len() >= MAX_TRACKS || is_known {
            return;
        }
        let size = le32(b, 40).unwrap_or(0) as usize;
        let own = b.get(54..54usize.saturating_add(size).min(b.len())).unwrap_or(&[]);
        let track = match <[u8; 16]>::try_from(&b[..16]).unwrap_or([0; 16]) {
            guid::SOUND => sound(number, own),
            guid::PICTURES => pictures(number, own),
            _ => {
                let codec = Codec::Other { code: "a stream of another kind".into(), name: None };
                Ok(Track::new(number.into(), codec, Media::Other, SCALE))
            }
        };
        let mut track = match track {
            Ok(track) => track,
            Err(e) => {
                self.about.remarks.push(format!("stream {number} cannot be used: {e}"));
                return;
            }
        };
        if flags & 0x8000 != 0 {
            track.codec = Codec::Encrypted { of: Box::new(track.codec), scheme: "ASF".into() };
        }
        let codec = track.codec.clone();
        self.streams.push(Stream { number, track: self.described.len(), codec });
        self.described.push(Described::new(track, SCALE));
    }

    /// The time that each picture is shown, and the stream itself where it stands here only (section 4.1).
    fn more_of_stream(&mut self, b: &[u8]) {
        let (Some(number), Some(each)) = (le16(b, 48), le64(b, 52)) else { return };
        let (names, systems) = (le16(b, 60).unwrap_or(0), le16(b, 62).unwrap_or(0));
        let mut at = 64usize;
        for _ in 0..names {
            at = at.saturating_add(4 + usize::from(le16(b, at.saturating_add(2)).unwrap_or(u16::MAX)));
        }
        for _ in 0..systems {
            at = at
                .saturating_add(22)
                .saturating_add(le32(b, at.saturating_add(18)).unwrap_or(u32::MAX) as usize);
        }
        if let Some(rest) = b.get(at..).filter(|r| r.starts_with(&guid::STREAM)) {
            self.objects(rest, 1);
        }
        let Some(stream) = self.streams.iter().find(|s| u16::from(s.number) == number) else { return };
        if let Media::Video(v) = &mut self.described[stream.track].track.media
            && (10_000..=100_000_000).contains(&each)
        {
            v.rate = Ratio::new(10_000_000, each);
        }
    }

    fn content(&mut self, b: &[u8]) {
        let mut at = 10;
        for (n, key) in ["title", "artist", "copyright", "description"].into_iter().enumerate() {
            let size = usize::from(le16(b, n * 2).unwrap_or(0));
            let text = b.get(at..at + size).map(utf16).unwrap_or_default();
            if !text.is_empty() {
                self.about.note(key, text);
            }
            at += size;
        }
    }

    fn more_content(&mut self, b: &[u8]) {
        let mut at = 2;
        for _ in 0..le16(b, 0).unwrap_or(0) {
            let mut part = || {
                let size = usize::from(le16(b, at)?);
                let bytes = b.get(at + 2..at + 2 + size)?;
                at += 2 + size;
                Some(bytes)
            };
            let Some(name) = part().map(utf16) else { return };
            at += 2;
            let Some(size) = le16(b, at).map(usize::from) else { return };
            let kind = le16(b, at - 2).unwrap_or(1);
            let Some(value) = b.get(at + 2..at + 2 + size) else { return };
            at += 2 + size;
            // What is no text (0) is a picture or a number.
            let key = name.strip_prefix("WM/").unwrap_or(&name);
            if kind == 0 && !value.is_empty() {
                self.about.note(key, utf16(value));
            }
        }
    }
}

fn utf16(b: &[u8]) -> String {
    let units: Vec<u16> = b.chunks_exact(2).map(|c| u16::from_le_bytes([c[0], c[1]])).collect();
    String::from_utf16_lossy(&units).trim_end_matches('\0').to_owned()
}

fn sound(number: u8, own: &[u8]) -> Result<Track> {
    let wave = codes::wave(own).ok_or_else(|| Error::damaged("wave format", "it is cut short"))?;
    let (rate, channels) = (wave.rate, wave.channels);
    if channels == 0 || channels > MAX_CHANNELS || !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&rate) {
        return Err(Error::damaged("wave format", format!("{channels} channels at {rate} Hz")));
    }
    let mut a = AudioTrack { rate, channels, profile: None };
    if let (Codec::Aac, Ok(c)) = (&wave.codec, crate::codec::aac::Config::parse(&wave.setup)) {
        (a.rate, a.profile) = (c.rate, Some(c.profile.into()));
    }
    let rate = a.rate;
    let mut track = Track::new(number.into(), wave.codec, Media::Audio(a), rate);
    track.setup = wave.setup;
    Ok(track)
}

fn pictures(number: u8, own: &[u8]) -> Result<Track> {
    let bitmap = own.get(11..).and_then(codes::bitmap);
    let (w, h, codec, setup) = bitmap.ok_or_else(|| Error::damaged("bitmap head", "it is cut short"))?;
    check_size("bitmap head", w, h)?;
    let takes_setup = !codec.has_units() && !matches!(codec, Codec::Raw(_));
    let mut track = Track::new(number.into(), codec, Media::Video(VideoTrack::sized(w, h)), SCALE);
    if takes_setup {
        track.setup = setup;
    }
    Ok(track)
}
