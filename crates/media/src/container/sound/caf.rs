//! Core Audio Format (Apple, Core Audio Format Specification 1.0).

use super::samples::{Place, Samples};
use crate::bits::{be32, be64, text};
use crate::codec::{aac, opus};
use crate::container::codes::show;
use crate::container::reader::Reader;
use crate::container::stream::{Described, Look, Parts, Raw, Streamed};
use crate::container::{
    About, AudioTrack, Codec, Demux, Format, Media, PcmKind, PcmLayout, Source, Track, Tried,
};
use crate::error::{Error, Result};
use crate::limits::{MAX_CHANNELS, MAX_INDEX_BYTES, MAX_SAMPLE_RATE, MAX_SETUP_BYTES, MIN_SAMPLE_RATE};

pub static FORMAT: Format = Format { name: "CAF", score, open, tried: Tried::Writers };

const MAX_CHUNKS: usize = 10_000;

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"caff\0\x01") { 100 } else { 0 }
}

#[derive(Default)]
struct Chunks {
    description: Vec<u8>,
    cookie: Vec<u8>,
    table: Vec<u8>,
    data: Option<(u64, u64)>,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut about = About::default();
    let mut r = Reader::new(source)?;
    let c = chunks(&mut r, &mut about)?;
    let source = r.into_source();
    let cut = || Error::damaged("CAF/desc", "the chunk is cut short");
    let d = &c.description;
    let rate = f64::from_bits(be64(d, 0).ok_or_else(cut)?);
    let rate = if rate.is_finite() { rate.clamp(0.0, 1e9).round() as u32 } else { 0 };
    let kind: [u8; 4] = d.get(8..12).and_then(|k| k.try_into().ok()).ok_or_else(cut)?;
    let flags = be32(d, 12).ok_or_else(cut)?;
    let packet_bytes = be32(d, 16).ok_or_else(cut)?;
    let channels = be32(d, 24).ok_or_else(cut)?.min(u32::from(u16::MAX)) as u16;
    let bits = be32(d, 28).ok_or_else(cut)?.min(64) as u8;
    if channels == 0 || channels > MAX_CHANNELS || !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&rate) {
        return Err(Error::damaged("CAF/desc", format!("{channels} channels at {rate} Hz")));
    }
    let (at, len) = c.data.ok_or_else(|| Error::damaged("CAF", "no 'data' chunk"))?;
    let pcm = |kind| {
        let bytes = (packet_bytes / u32::from(channels)).min(255) as u8;
        Codec::Pcm(PcmLayout { bits, bytes, big_endian: flags & 2 == 0, kind })
    };
    let mut a = AudioTrack { rate, channels, profile: None };
    let mut setup = c.cookie.clone();
    let codec = match &kind {
        b"lpcm" if flags & 1 != 0 => pcm(PcmKind::Float),
        b"lpcm" => pcm(PcmKind::Signed),
        b"alaw" => pcm(PcmKind::Alaw),
        b"ulaw" => pcm(PcmKind::Mulaw),
        b"aac " | b"aach" | b"aacp" => {
            setup = crate::container::mp4::decoder_setup(&c.cookie).unwrap_or_else(|| {
                let index = aac::FREQUENCIES.iter().position(|&f| f == rate).unwrap_or(4);
                aac::Config::write(2, index as u8, channels.min(7) as u8)
            });
            let config = aac::Config::parse(&setup)?;
            (a.rate, a.profile) = (config.rate, Some(config.profile.into()));
            Codec::Aac
        }
        b"alac" => {
            setup = alac_cookie(&c.cookie);
            Codec::Alac
        }
        b"opus" => {
            a.rate = opus::RATE;
            setup = if c.cookie.starts_with(b"OpusHead") {
                c.cookie.clone()
            } else {
                let coupled = u8::from(channels == 2);
                opus::Head {
                    channels: channels as u8,
                    skip: 0,
                    gain: 0,
                    family: 0,
                    streams: 1,
                    coupled,
                    mapping: vec![0, 1],
                }
                .write(rate)
            };
            Codec::Opus
        }
        b".mp3" => Codec::MpegAudio(3),
        b".mp2" => Codec::MpegAudio(2),
        b"ac-3" => Codec::Other { code: show(&kind), name: Some("AC-3") },
        b"ima4" => Codec::Other { code: show(&kind), name: Some("ADPCM") },
        _ => Codec::Other { code: show(&kind), name: None },
    };
    let is_pcm = matches!(codec, Codec::Pcm(_));
    let rate = a.rate;
    let mut track = Track::new(1, codec, Media::Audio(a), rate);
    track.setup = setup;
    if is_pcm {
        let place = Place { at, len, frame: packet_bytes.into(), each: 1 };
        if packet_bytes == 0 {
            return Err(Error::damaged("CAF/desc", "samples of 0 bytes"));
        }
        return Ok(Box::new(Samples::new(FORMAT.name, source, track, about, place)));
    }
    let mut described = Described::new(track, rate);
    if let (Some(valid), Some(priming)) = (be64(&c.table, 8), be32(&c.table, 16)) {
        described.lead = priming.into();
        described.heard_until = i64::try_from(valid).ok().filter(|&v| v > 0);
    }
    let packets = Packets {
        r: Reader::new(source)?,
        first: at,
        end: at + len,
        same: packet_bytes.into(),
        // A table's entries begin behind its four counts.
        sizes: c.table.get(24..).unwrap_or(&[]).to_vec(),
        varying: be32(d, 20) == Some(0),
        next: 0,
    };
    let look = Look { format: FORMAT.name, bytes: 1 << 30, from_zero: false };
    Ok(Box::new(Streamed::open(packets, vec![described], about, look)?))
}

/// The cookie may have the old form, with boxes around it.
fn alac_cookie(b: &[u8]) -> Vec<u8> {
    match b.windows(4).position(|w| w == b"alac") {
        Some(at) if b.get(4..8) == Some(b"frma") => {
            let from = b[at + 4..].windows(4).position(|w| w == b"alac").map_or(at, |p| at + 4 + p);
            b.get(from + 8..).unwrap_or(&[]).to_vec()
        }
        _ => b.to_vec(),
    }
}

fn chunks(r: &mut Reader, about: &mut About) -> Result<Chunks> {
    let mut c = Chunks::default();
    r.go(8);
    for _ in 0..MAX_CHUNKS {
        let Some(h) = r.array::<12>()? else { break };
        let stated = be64(&h, 4).unwrap_or(0) as i64;
        let body = r.at();
        // Only the sound data may have no stated size: it goes to the end.
        let size = if stated < 0 { r.left() } else { stated as u64 };
        let there = size.min(r.left());
        match &h[..4] {
            b"desc" => c.description = r.take(there.min(256), "desc")?,
            b"kuki" => c.cookie = r.take(there.min(MAX_SETUP_BYTES as u64), "kuki")?,
            b"pakt" => c.table = r.take(there.min(MAX_INDEX_BYTES), "pakt")?,
            b"data" => {
                if there < size {
                    about.damage = Some(format!(
                        "cut off, or still being copied: the sound data should have {size} bytes, but the file ends after {there}"
                    ));
                }
                // Four bytes of an edit count come first.
                c.data = Some((body + 4, there.saturating_sub(4)));
            }
            b"info" => {
                let b = r.take(there.min(1 << 16), "info")?;
                let mut texts = b.get(4..).unwrap_or(&[]).split(|&x| x == 0);
                while let (Some(key), Some(value)) =
                    (texts.next().and_then(text), texts.next().and_then(text))
                {
                    about.note(&key, value);
                }
            }
            _ => (),
        }
        match body.checked_add(size) {
            Some(next) => r.go(next),
            None => break,
        }
    }
    Ok(c)
}

struct Packets {
    r: Reader,
    first: u64,
    end: u64,
    /// Bytes of every packet, if they are all as long.
    same: u64,
    sizes: Vec<u8>,
    /// Each size is followed by a length in samples.
    varying: bool,
    next: usize,
}

impl Packets {
    /// A number of seven bits a byte, the highest first.
    fn number(&mut self) -> Option<u64> {
        let mut v = 0u64;
        for _ in 0..9 {
            let b = *self.sizes.get(self.next)?;
            self.next += 1;
            v = v << 7 | u64::from(b & 0x7f);
            if b & 0x80 == 0 {
                return Some(v);
            }
        }
        None
    }
}

impl Parts for Packets {
    fn next(&mut self) -> Result<Option<Raw>> {
        let mut size = self.same;
        let mut duration = None;
        if size == 0 {
            let Some(n) = self.number() else { return Ok(None) };
            size = n;
        }
        if self.varying {
            duration = self.number().and_then(|n| i64::try_from(n).ok());
        }
        if size == 0 || self.r.at().saturating_add(size) > self.end {
            return Ok(None);
        }
        let data = self.r.take(size, "CAF packet")?;
        Ok(Some(Raw { duration, key: true, data, ..Raw::default() }))
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
        self.next = 0;
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
}
