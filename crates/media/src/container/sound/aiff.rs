//! AIFF and AIFF-C (Apple, Audio Interchange File Format 1.3, and AIFF-C draft of 1991).

use super::samples::{Place, Samples};
use crate::bits::{be16, be32, text};
use crate::codec::gsm;
use crate::container::codes::show;
use crate::container::reader::Reader;
use crate::container::timing::block;
use crate::container::{
    About, AudioTrack, Codec, Demux, Format, Media, PcmKind, PcmLayout, Source, Track, Tried,
};
use crate::error::{Error, Result};
use crate::limits::{MAX_CHANNELS, MAX_SAMPLE_RATE, MIN_SAMPLE_RATE};
use crate::track::Adpcm;

pub static FORMAT: Format = Format { name: "AIFF", score, open, tried: Tried::Files };

const MAX_CHUNKS: usize = 10_000;

fn score(head: &[u8]) -> u8 {
    match (head.get(..4), head.get(8..12)) {
        (Some(b"FORM"), Some(b"AIFF" | b"AIFC")) => 100,
        _ => 0,
    }
}

/// An 80-bit number of IEEE 754's extended form, as a whole rate.
fn extended(b: &[u8]) -> Option<u32> {
    let exponent = i32::from(be16(b, 0)? & 0x7fff) - 16_383;
    let mantissa = u64::from(be32(b, 2)?) << 32 | u64::from(be32(b, 6)?);
    if !(0..=31).contains(&exponent) {
        return None;
    }
    let rounded = (mantissa >> (62 - exponent)).div_ceil(2);
    u32::try_from(rounded).ok()
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut about = About::default();
    let mut r = Reader::new(source)?;
    let (common, data, compressed) = chunks(&mut r, &mut about)?;
    let source = r.into_source();
    let common = common.ok_or_else(|| Error::damaged("AIFF", "no 'COMM' chunk"))?;
    let (at, len) = data.ok_or_else(|| Error::damaged("AIFF", "no 'SSND' chunk"))?;
    let cut = || Error::damaged("AIFF/COMM", "the chunk is cut short");
    let channels = be16(&common, 0).ok_or_else(cut)?;
    let bits = be16(&common, 6).ok_or_else(cut)?;
    let rate = common.get(8..18).and_then(extended).unwrap_or(0);
    if channels == 0 || channels > MAX_CHANNELS || !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&rate) {
        return Err(Error::damaged("AIFF/COMM", format!("{channels} channels at {rate} Hz")));
    }
    let bits = bits.clamp(1, 64) as u8;
    let pcm = |bits: u8, big_endian, kind| {
        Codec::Pcm(PcmLayout { bits, bytes: bits.div_ceil(8), big_endian, kind })
    };
    let kind: [u8; 4] = common.get(18..22).and_then(|k| k.try_into().ok()).unwrap_or(*b"NONE");
    let codec = match &kind {
        _ if !compressed => pcm(bits, true, PcmKind::Signed),
        b"NONE" | b"twos" => pcm(bits, true, PcmKind::Signed),
        b"sowt" => pcm(bits, false, PcmKind::Signed),
        b"in24" => pcm(24, true, PcmKind::Signed),
        b"in32" => pcm(32, true, PcmKind::Signed),
        b"raw " => pcm(8, true, PcmKind::Unsigned),
        b"fl32" | b"FL32" => pcm(32, true, PcmKind::Float),
        b"fl64" | b"FL64" => pcm(64, true, PcmKind::Float),
        b"alaw" | b"ALAW" => pcm(8, true, PcmKind::Alaw),
        b"ulaw" | b"ULAW" => pcm(8, true, PcmKind::Mulaw),
        b"ima4" => Codec::Adpcm { kind: Adpcm::QuickTime, block: 34 * channels },
        b"GSM " | b"agsm" if channels == 1 => Codec::Gsm { block: gsm::PLAIN },
        _ => Codec::Other { code: show(&kind), name: None },
    };
    let blocks = block(&codec, channels);
    let frame = match (&codec, blocks) {
        (Codec::Pcm(p), _) => u64::from(p.bytes) * u64::from(channels),
        (_, Some((bytes, _))) => bytes.into(),
        _ => channels.into(),
    };
    let track = Track::new(1, codec, Media::Audio(AudioTrack { rate, channels, profile: None }), rate);
    // What the head counts are blocks, where there are some.
    let each = blocks.map_or(1, |(_, n)| n.into());
    let place = Place { at, len, frame, each };
    let stated = u64::from(be32(&common, 2).unwrap_or(0));
    if stated * place.frame > len
        && about.damage.is_none()
        && (blocks.is_some() || matches!(track.codec, Codec::Pcm(_)))
    {
        about.damage = Some(format!(
            "cut off, or still being copied: {stated} samples are stated, but only {} are there",
            len / place.frame
        ));
    }
    Ok(Box::new(Samples::new(FORMAT.name, source, track, about, place)))
}

type Found = (Option<Vec<u8>>, Option<(u64, u64)>, bool);

fn chunks(r: &mut Reader, about: &mut About) -> Result<Found> {
    let compressed = r.take(12, "FORM")?.get(8..12) == Some(b"AIFC");
    let (mut common, mut data) = (None, None);
    for _ in 0..MAX_CHUNKS {
        let Some(h) = r.array::<8>()? else { break };
        let size = u64::from(be32(&h, 4).unwrap_or(0));
        let body = r.at();
        let there = size.min(r.left());
        match &h[..4] {
            b"COMM" => common = Some(r.take(there.min(256), "COMM")?),
            b"SSND" => {
                let head = r.take(8.min(there), "SSND")?;
                let skip = 8 + u64::from(be32(&head, 0).unwrap_or(0));
                if there < size {
                    about.damage = Some(format!(
                        "cut off, or still being copied: the sound data should have {size} bytes, but the file ends after {there}"
                    ));
                }
                data = data.or(Some((body + skip, there.saturating_sub(skip))));
            }
            b"NAME" | b"AUTH" | b"ANNO" | b"(c) " => {
                let key = match &h[..4] {
                    b"NAME" => "title",
                    b"AUTH" => "artist",
                    b"ANNO" => "comment",
                    _ => "copyright",
                };
                if let Some(t) = text(&r.take(there.min(4096), "text chunk")?) {
                    about.note(key, t);
                }
            }
            _ => (),
        }
        r.go(body + size + (size & 1));
    }
    Ok((common, data, compressed))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case([0x40, 0x0e, 0xbb, 0x80, 0, 0, 0, 0, 0, 0], Some(48_000))]
    #[case([0x40, 0x0e, 0xac, 0x44, 0, 0, 0, 0, 0, 0], Some(44_100))]
    #[case([0x40, 0x0b, 0xfa, 0, 0, 0, 0, 0, 0, 0], Some(8_000))]
    #[case([0x7f, 0xff, 0, 0, 0, 0, 0, 0, 0, 0], None)]
    fn rates_of_80_bits(#[case] b: [u8; 10], #[case] want: Option<u32>) {
        assert_eq!(extended(&b), want);
    }
}
