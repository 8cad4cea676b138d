//! Sample entries (14496-12, 8.5.2; 14496-14, 5.6; 14496-15, 5.4; QuickTime File Format, "Sample
//! description atoms"): how a track is coded.

use super::boxes::{Kind, be16, be32, be64, find, show};
use crate::codec::{aac, h264};
use crate::container::{AudioTrack, Codec, Media, PcmKind, PcmLayout, TimecodeTrack, VideoTrack};
use crate::error::{Error, Result};
use crate::frame::video::check_size;
use crate::frame::{Colour, Fields};
use crate::limits::{MAX_CHANNELS, MAX_SAMPLE_RATE, MAX_SETUP_BYTES, MIN_SAMPLE_RATE};
use crate::units::Ratio;

pub struct Entry {
    pub codec: Codec,
    pub media: Media,
    pub setup: Vec<u8>,
}

/// Names the trade has for codes that have no decoder here.
fn plain_name(kind: &Kind) -> Option<&'static str> {
    Some(match kind {
        b"hvc1" | b"hev1" => "HEVC",
        b"dvh1" | b"dvhe" => "HEVC with Dolby Vision",
        b"vvc1" | b"vvi1" => "VVC",
        b"av01" => "AV1",
        b"vp08" => "VP8",
        b"vp09" => "VP9",
        b"mp4v" => "MPEG-4 part 2",
        b"apch" => "ProRes 422 HQ",
        b"apcn" => "ProRes 422",
        b"apcs" => "ProRes 422 LT",
        b"apco" => "ProRes 422 Proxy",
        b"ap4h" => "ProRes 4444",
        b"ap4x" => "ProRes 4444 XQ",
        b"AVdn" | b"AVdh" => "DNx",
        b"jpeg" | b"mjpa" | b"mjpb" => "Motion JPEG",
        b"mx5p" | b"mx3p" | b"hdv1" | b"hdv2" | b"hdv3" | b"xdvb" | b"xdvc" | b"xd5b" | b"xd5c" => "MPEG-2",
        b"dvc " | b"dvcp" | b"dvpp" | b"dv5n" | b"dv5p" | b"dvhp" => "DV",
        b"v210" => "uncompressed 10-bit 4:2:2",
        b"2vuy" | b"yuv2" => "uncompressed 8-bit 4:2:2",
        b"ac-3" => "AC-3",
        b"ec-3" => "E-AC-3",
        b".mp3" => "MP3",
        b"alac" => "ALAC",
        b"Opus" => "Opus",
        b"fLaC" => "FLAC",
        b"samr" => "AMR",
        _ => return None,
    })
}

/// The first entry of a `stsd` box. `handler` is the track's media handler type.
pub fn parse(stsd: &[u8], handler: Kind) -> Result<Entry> {
    let first = super::boxes::inside(stsd.get(8..).unwrap_or(&[])).next();
    let Some(entry) = first else {
        return Err(Error::damaged("stsd", "no sample entry"));
    };
    match &handler {
        b"vide" => video(entry.kind, entry.body),
        b"soun" => sound(entry.kind, entry.body),
        _ if &entry.kind == b"tmcd" => timecode(entry.body),
        b"text" | b"sbtl" | b"subt" | b"clcp" => Ok(other(entry.kind, Media::Text)),
        _ => Ok(other(entry.kind, Media::Other)),
    }
}

fn other(kind: Kind, media: Media) -> Entry {
    Entry { codec: Codec::Other { code: show(kind), name: plain_name(&kind) }, media, setup: Vec::new() }
}

const VIDEO_HEADER: usize = 78;

fn video(kind: Kind, body: &[u8]) -> Result<Entry> {
    let short = || Error::damaged(format!("stsd/{}", show(kind)), "the picture entry is cut short");
    let width = u32::from(be16(body, 24).ok_or_else(short)?);
    let height = u32::from(be16(body, 26).ok_or_else(short)?);
    let children = body.get(VIDEO_HEADER..).unwrap_or(&[]);
    let mut track = VideoTrack {
        width,
        height,
        pixel_shape: Ratio::ONE,
        rotation: 0,
        fields: Fields::Progressive,
        chroma: None,
        depth: None,
        profile: None,
        level: None,
        colour: Colour::default(),
        rate: None,
        constant_rate: false,
    };
    let mut setup = Vec::new();
    let codec = match &kind {
        b"avc1" | b"avc2" | b"avc3" | b"avc4" => {
            let avcc = find(children, b"avcC").ok_or_else(|| {
                Error::damaged(
                    format!("stsd/{}", show(kind)),
                    "no 'avcC' record, so no picture can be decoded",
                )
            })?;
            setup = held(avcc, "avcC")?;
            // A record without parameter sets is allowed for avc3; what is stated in the entry is used then.
            if let Some(sps) = h264::Config::parse(&setup)?.first_sps()? {
                sps.describe(&mut track);
            }
            Codec::H264
        }
        _ => Codec::Other { code: show(kind), name: plain_name(&kind) },
    };
    // Outside the coded stream: these override it (14496-12, 12.1.4 and 12.1.5).
    if let Some(pasp) = find(children, b"pasp")
        && let (Some(h), Some(v)) = (be32(pasp, 0), be32(pasp, 4))
        && let Some(shape) = Ratio::new(h.into(), v.into())
    {
        track.pixel_shape = shape;
    }
    if let Some(colr) = find(children, b"colr")
        && matches!(colr.get(..4), Some(b"nclx" | b"nclc"))
        && let (Some(p), Some(t), Some(m)) = (be16(colr, 4), be16(colr, 6), be16(colr, 8))
    {
        track.colour.primaries = p.min(255) as u8;
        track.colour.transfer = t.min(255) as u8;
        track.colour.matrix = m.min(255) as u8;
        if &colr[..4] == b"nclx" {
            track.colour.full_range = colr.get(10).is_some_and(|b| b & 0x80 != 0);
        }
    }
    if let Some(fiel) = find(children, b"fiel")
        && fiel.first() == Some(&2)
    {
        track.fields = match fiel.get(1) {
            Some(1 | 9) => Fields::TopFirst,
            Some(6 | 14) => Fields::BottomFirst,
            _ => Fields::Interlaced,
        };
    }
    check_size(&format!("stsd/{}", show(kind)), track.width, track.height)?;
    Ok(Entry { codec, media: Media::Video(track), setup })
}

fn held(bytes: &[u8], place: &str) -> Result<Vec<u8>> {
    if bytes.len() > MAX_SETUP_BYTES {
        return Err(Error::limit(
            place,
            format!("{} bytes of codec setup; up to {MAX_SETUP_BYTES}", bytes.len()),
        ));
    }
    Ok(bytes.to_vec())
}

fn sound(kind: Kind, body: &[u8]) -> Result<Entry> {
    let place = format!("stsd/{}", show(kind));
    let short = || Error::damaged(place.clone(), "the sound entry is cut short");
    let version = be16(body, 8).ok_or_else(short)?;
    let mut channels = be16(body, 16).ok_or_else(short)?;
    let mut bits = be16(body, 18).ok_or_else(short)?;
    let mut rate = be32(body, 24).ok_or_else(short)? >> 16;
    let mut lpcm_flags = None;
    let header = match version {
        0 => 28,
        1 => 44,
        2 => {
            let stated = f64::from_bits(be64(body, 32).ok_or_else(short)?);
            rate = if stated.is_finite() { stated.clamp(0.0, f64::from(u32::MAX)) as u32 } else { 0 };
            channels = be32(body, 40).ok_or_else(short)?.min(u32::from(u16::MAX)) as u16;
            bits = be32(body, 48).ok_or_else(short)?.min(64) as u16;
            lpcm_flags = be32(body, 52);
            // The size of the structure counts from the start of the box, 8 bytes before this body.
            (be32(body, 28).ok_or_else(short)? as usize).saturating_sub(8).clamp(64, 1 << 16)
        }
        n => return Err(Error::unsupported(place, format!("sound entry version {n}; 0 to 2 are known"))),
    };
    let children = body.get(header..).unwrap_or(&[]);
    let wave = find(children, b"wave");
    let little = wave.and_then(|w| find(w, b"enda")).and_then(|e| be16(e, 0)) == Some(1);
    let pcm = |bits: u8, big_endian: bool, kind: PcmKind| {
        Codec::Pcm(PcmLayout { bits, bytes: bits.div_ceil(8), big_endian, kind })
    };
    let mut setup = Vec::new();
    let mut profile = None;
    let codec = match &kind {
        b"sowt" => pcm(if bits == 8 { 8 } else { 16 }, false, PcmKind::Signed),
        b"twos" => pcm(if matches!(bits, 8 | 16 | 24 | 32) { bits as u8 } else { 16 }, true, PcmKind::Signed),
        b"raw " | b"NONE" if bits <= 8 => pcm(8, true, PcmKind::Unsigned),
        b"raw " | b"NONE" => pcm(16, true, PcmKind::Signed),
        b"in24" => pcm(24, !little, PcmKind::Signed),
        b"in32" => pcm(32, !little, PcmKind::Signed),
        b"fl32" => pcm(32, !little, PcmKind::Float),
        b"fl64" => pcm(64, !little, PcmKind::Float),
        b"alaw" => pcm(8, true, PcmKind::Alaw),
        b"ulaw" => pcm(8, true, PcmKind::Mulaw),
        b"lpcm" => {
            let f = lpcm_flags.unwrap_or(0);
            let k = if f & 1 != 0 {
                PcmKind::Float
            } else if f & 4 != 0 || bits > 8 {
                PcmKind::Signed
            } else {
                PcmKind::Unsigned
            };
            pcm(bits.clamp(8, 64) as u8, f & 2 != 0, k)
        }
        b"ipcm" | b"fpcm" => {
            let pcmc =
                find(children, b"pcmC").ok_or_else(|| Error::damaged(place.clone(), "no 'pcmC' record"))?;
            let little = pcmc.get(4).is_some_and(|f| f & 1 != 0);
            let bits = pcmc.get(5).copied().unwrap_or(16);
            pcm(bits, !little, if &kind == b"fpcm" { PcmKind::Float } else { PcmKind::Signed })
        }
        b"mp4a" => {
            let esds = find(children, b"esds").or_else(|| wave.and_then(|w| find(w, b"esds")));
            let es = esds.map(|e| stream_description(e.get(4..).unwrap_or(&[]))).unwrap_or_default();
            match es.object_type {
                0x40 | 0x66..=0x68 => {
                    setup = held(&es.setup, "esds")?;
                    let config = aac::Config::parse(&setup)?;
                    (rate, channels) = (config.rate, config.channels.unwrap_or(channels));
                    profile = Some(config.profile.to_owned());
                    Codec::Aac
                }
                0x69 | 0x6b => Codec::Other { code: "mp4a.6B".into(), name: Some("MP3") },
                0xa5 => Codec::Other { code: "mp4a.A5".into(), name: Some("AC-3") },
                0xa9 => Codec::Other { code: "mp4a.A9".into(), name: Some("DTS") },
                0xdd => Codec::Other { code: "mp4a.DD".into(), name: Some("Vorbis") },
                n => Codec::Other { code: format!("mp4a.{n:02X}"), name: None },
            }
        }
        _ => Codec::Other { code: show(kind), name: plain_name(&kind) },
    };
    if channels == 0 || channels > MAX_CHANNELS {
        return Err(Error::damaged(place, format!("{channels} sound channels; 1 to {MAX_CHANNELS}")));
    }
    if !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&rate) {
        return Err(Error::damaged(
            place,
            format!("sample rate {rate} Hz; {MIN_SAMPLE_RATE} to {MAX_SAMPLE_RATE}"),
        ));
    }
    Ok(Entry { codec, media: Media::Audio(AudioTrack { rate, channels, profile }), setup })
}

#[derive(Default)]
struct StreamDescription {
    object_type: u8,
    setup: Vec<u8>,
}

/// Object type and decoder-specific information of an ES descriptor (14496-1, 7.2.6.5 to 7.2.6.7).
fn stream_description(mut b: &[u8]) -> StreamDescription {
    let mut out = StreamDescription::default();
    while let [tag, rest @ ..] = b {
        let mut size = 0usize;
        let mut used = 0;
        for &byte in rest.iter().take(4) {
            used += 1;
            size = size << 7 | usize::from(byte & 0x7f);
            if byte & 0x80 == 0 {
                break;
            }
        }
        let body = &rest[used..];
        let body = &body[..size.min(body.len())];
        match tag {
            // ES descriptor: id, flags and what they announce, then descriptors inside.
            0x03 => {
                let flags = body.get(2).copied().unwrap_or(0);
                let mut skip = 3;
                if flags & 0x80 != 0 {
                    skip += 2;
                }
                if flags & 0x40 != 0 {
                    skip += 1 + usize::from(body.get(skip).copied().unwrap_or(0));
                }
                if flags & 0x20 != 0 {
                    skip += 2;
                }
                b = body.get(skip..).unwrap_or(&[]);
            }
            0x04 => {
                out.object_type = body.first().copied().unwrap_or(0);
                b = body.get(13..).unwrap_or(&[]);
            }
            0x05 => {
                out.setup = body.to_vec();
                return out;
            }
            _ => b = &rest[used + body.len()..],
        }
    }
    out
}

fn timecode(body: &[u8]) -> Result<Entry> {
    let short = || Error::damaged("stsd/tmcd", "the timecode entry is cut short");
    let flags = be32(body, 12).ok_or_else(short)?;
    let scale = be32(body, 16).ok_or_else(short)?;
    let frame = be32(body, 20).ok_or_else(short)?;
    let count = u32::from(*body.get(24).ok_or_else(short)?);
    let Some(rate) = Ratio::new(scale.into(), frame.into()) else {
        return Err(Error::damaged("stsd/tmcd", format!("frame length {frame}/{scale} s")));
    };
    // The source's name stands in a 'name' box: two bytes of length, two of language, text.
    let reel = find(body.get(26..).unwrap_or(&[]), b"name").and_then(|n| {
        let len = usize::from(be16(n, 0)?);
        let text =
            String::from_utf8_lossy(n.get(4..4 + len).or(n.get(4..))?).trim_end_matches('\0').to_owned();
        (!text.is_empty()).then_some(text)
    });
    let frames_per_count = if count == 0 { rate.value().round().max(1.0) as u32 } else { count };
    let track = TimecodeTrack { rate, frames_per_count, drop_frame: flags & 1 != 0, start: 0, reel };
    Ok(Entry { codec: Codec::Timecode, media: Media::Timecode(track), setup: Vec::new() })
}

#[cfg(test)]
mod tests {
    use super::super::boxes::Builder;
    use super::*;
    use rstest::rstest;

    fn stsd(kind: &Kind, fill: impl FnOnce(&mut Builder)) -> Vec<u8> {
        let mut b = Builder::new();
        b.u32(0);
        b.u32(1);
        b.put(kind, fill);
        b.bytes
    }

    fn sound_entry(kind: &Kind, channels: u16, bits: u16, rate: u32) -> Vec<u8> {
        stsd(kind, |b| {
            b.zeros(16);
            b.u16(channels);
            b.u16(bits);
            b.u32(0);
            b.u32(rate << 16);
        })
    }

    #[rstest]
    #[case(b"sowt", 16, 16, false)]
    #[case(b"twos", 24, 24, true)]
    #[case(b"raw ", 8, 8, true)]
    #[case(b"in24", 16, 24, true)]
    fn uncompressed_sound_is_told_apart(
        #[case] kind: &Kind,
        #[case] bits: u16,
        #[case] want: u8,
        #[case] big: bool,
    ) {
        let e = parse(&sound_entry(kind, 2, bits, 48000), *b"soun").unwrap();
        let Codec::Pcm(p) = e.codec else { panic!("{:?}", e.codec) };
        assert_eq!((p.bits, p.big_endian), (want, big));
    }

    #[rstest]
    #[case(0, 48000, "0 sound channels")]
    #[case(2, 10, "sample rate 10 Hz")]
    fn impossible_sound_is_refused(#[case] channels: u16, #[case] rate: u32, #[case] words: &str) {
        let e = parse(&sound_entry(b"sowt", channels, 16, rate), *b"soun").err().unwrap();
        assert!(e.to_string().contains(words), "{e}");
    }

    #[test]
    fn unknown_codes_keep_their_code_and_name() {
        let picture = stsd(b"hvc1", |b| {
            b.zeros(24);
            b.u16(1920);
            b.u16(1080);
            b.zeros(50);
        });
        let e = parse(&picture, *b"vide").unwrap();
        assert_eq!(e.codec, Codec::Other { code: "hvc1".into(), name: Some("HEVC") });
        assert!(parse(&picture[..30], *b"vide").is_err());
    }
}
