//! AU (Sun Microsystems, "Audio File Format", the manual page audio(5)): a head of six words and the samples.

use super::samples::{Place, Samples};
use crate::bits::be32;
use crate::container::reader::Reader;
use crate::container::{
    About, AudioTrack, Codec, Demux, Format, Media, PcmKind, PcmLayout, Source, Track, Tried,
};
use crate::error::{Error, Result};
use crate::limits::{MAX_CHANNELS, MAX_SAMPLE_RATE, MIN_SAMPLE_RATE};

pub static FORMAT: Format = Format { name: "AU", score, open, tried: Tried::Writers };

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b".snd") { 100 } else { 0 }
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let head = r.take(24.min(r.left()), "AU head")?;
    let word =
        |n: usize| be32(&head, n * 4).ok_or_else(|| Error::damaged("AU", "cut off: the head is not whole"));
    let (at, stated, kind, rate, channels) = (word(1)?, word(2)?, word(3)?, word(4)?, word(5)?);
    if channels == 0 || channels > MAX_CHANNELS.into() || !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&rate)
    {
        return Err(Error::damaged("AU", format!("{channels} channels at {rate} Hz")));
    }
    let pcm = |bytes: u8, kind| Codec::Pcm(PcmLayout { bits: bytes * 8, bytes, big_endian: true, kind });
    let codec = match kind {
        1 => pcm(1, PcmKind::Mulaw),
        2..=5 => pcm(kind as u8 - 1, PcmKind::Signed),
        6 => pcm(4, PcmKind::Float),
        7 => pcm(8, PcmKind::Float),
        27 => pcm(1, PcmKind::Alaw),
        23..=26 => Codec::Other { code: kind.to_string(), name: Some("ADPCM") },
        _ => Codec::Other { code: kind.to_string(), name: None },
    };
    let bytes = if let Codec::Pcm(p) = &codec { u64::from(p.bytes) } else { 1 };
    let mut about = About::default();
    let at = u64::from(at).clamp(24, r.len().max(24));
    let there = r.len().saturating_sub(at);
    // All ones: whoever wrote it did not know.
    let len = match u64::from(stated) {
        0xffff_ffff => there,
        n if n > there => {
            about.damage = Some(format!(
                "cut off, or still being copied: the sound data should have {n} bytes, but the file ends after {there}"
            ));
            there
        }
        n => n,
    };
    let channels = channels as u16;
    let track = Track::new(1, codec, Media::Audio(AudioTrack { rate, channels, profile: None }), rate);
    let place = Place { at, len, frame: bytes * u64::from(channels), each: 1 };
    Ok(Box::new(Samples::new(FORMAT.name, r.into_source(), track, about, place)))
}
