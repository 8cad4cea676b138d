//! Sample entries (14496-12, 8.5.2; 14496-14, 5.6; 14496-15, 5.4; QuickTime File Format, "Sample
//! description atoms"): how a track is coded.

use super::boxes::{Kind, be16, be32, be64, find, show};
use crate::codec::{aac, amr, av1, flac, h264, hevc, mpeg_video, opus, vorbis, vpx};
use crate::container::{
    AudioTrack, Codec, Media, Packing, PcmKind, PcmLayout, RawPicture, TimecodeTrack, VideoTrack, codes,
};
use crate::error::{Error, Result};
use crate::frame::Fields;
use crate::frame::video::check_size;
use crate::limits::{MAX_CHANNELS, MAX_SAMPLE_RATE, MAX_SETUP_BYTES, MIN_SAMPLE_RATE};
use crate::units::Ratio;

pub struct Entry {
    pub codec: Codec,
    pub media: Media,
    pub setup: Vec<u8>,
}

/// Names the trade has for sound codes that have no decoder here.
fn sound_name(kind: &Kind) -> Option<&'static str> {
    Some(match kind {
        b"ac-3" => "AC-3",
        b"ec-3" => "E-AC-3",
        b"ac-4" => "AC-4",
        b"dtsc" | b"dtsh" | b"dtsl" | b"dtse" => "DTS",
        b"mlpa" => "TrueHD",
        b"ima4" => "ADPCM",
        b"QDM2" | b"QDMC" => "QDesign",
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
        b"vide" => protected(entry.kind, entry.body, VIDEO_HEADER, video),
        b"soun" => protected(entry.kind, entry.body, SOUND_HEADER, sound),
        _ if &entry.kind == b"tmcd" => timecode(entry.body),
        b"text" | b"sbtl" | b"subt" | b"clcp" => Ok(other(entry.kind, Media::Text)),
        _ => Ok(other(entry.kind, Media::Other)),
    }
}

fn other(kind: Kind, media: Media) -> Entry {
    let name = match &kind {
        b"tx3g" | b"text" => Some("text captions"),
        b"wvtt" => Some("WebVTT"),
        b"stpp" => Some("TTML"),
        b"c608" | b"c708" => Some("closed captions"),
        _ => None,
    };
    Entry { codec: Codec::Other { code: show(kind), name }, media, setup: Vec::new() }
}

const VIDEO_HEADER: usize = 78;
const SOUND_HEADER: usize = 28;

/// An entry that may stand for an encrypted one (14496-12, 8.12): what it was is told inside.
fn protected(
    kind: Kind,
    body: &[u8],
    header: usize,
    read: fn(Kind, &[u8]) -> Result<Entry>,
) -> Result<Entry> {
    if !matches!(&kind, b"encv" | b"enca") {
        return read(kind, body);
    }
    let sinf = find(body.get(header..).unwrap_or(&[]), b"sinf").unwrap_or(&[]);
    let four = |b: &[u8], at: usize| b.get(at..at + 4).map(|k| [k[0], k[1], k[2], k[3]]);
    let was = find(sinf, b"frma").and_then(|b| four(b, 0));
    let scheme = find(sinf, b"schm").and_then(|b| four(b, 4)).map_or("no scheme stated".into(), show);
    let mut entry = read(was.unwrap_or(kind), body)?;
    entry.codec = Codec::Encrypted { of: Box::new(entry.codec), scheme };
    Ok(entry)
}

fn video(kind: Kind, body: &[u8]) -> Result<Entry> {
    let short = || Error::damaged(format!("stsd/{}", show(kind)), "the picture entry is cut short");
    let width = u32::from(be16(body, 24).ok_or_else(short)?);
    let height = u32::from(be16(body, 26).ok_or_else(short)?);
    let children = body.get(VIDEO_HEADER..).unwrap_or(&[]);
    let mut track = VideoTrack::sized(width, height);
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
        b"raw " => raw_picture(be16(body, 74).unwrap_or(24)),
        b"mp4v" => {
            let es = find(children, b"esds").map(|e| stream_description(e.get(4..).unwrap_or(&[])));
            let es = es.unwrap_or_default();
            let code = format!("mp4v.{:02X}", es.object_type);
            let name = match es.object_type {
                0x20 => {
                    track.profile = mpeg_video::part2_profile(&es.setup).map(String::from);
                    "MPEG-4 part 2"
                }
                0x60..=0x65 => "MPEG-2",
                0x6a => "MPEG-1 video",
                0x6d => "PNG pictures",
                _ => "MPEG-4 part 2",
            };
            if es.object_type == 0x6c { Codec::MotionJpeg } else { Codec::Other { code, name: Some(name) } }
        }
        _ => {
            let record = |k| find(children, k).unwrap_or(&[]);
            let codec = codes::picture(&kind);
            match &codec {
                Codec::Av1 => {
                    setup = held(record(b"av1C"), "av1C")?;
                    av1::describe(&setup, &mut track);
                }
                Codec::Vp8 | Codec::Vp9 => vpx::describe(record(b"vpcC"), &mut track),
                Codec::Raw(r) => (track.chroma, track.depth) = (Some(r.chroma()), Some(r.depth())),
                Codec::MotionJpeg => (track.chroma, track.depth) = (None, Some(8)),
                Codec::Hevc => {
                    setup = held(record(b"hvcC"), "hvcC")?;
                    hevc::describe(&setup, &mut track);
                }
                Codec::Other { name: Some("HEVC with dynamic metadata"), .. } => {
                    hevc::describe(record(b"hvcC"), &mut track);
                }
                // An avcC record may lie beside codes of one maker.
                Codec::H264 => {
                    setup = held(record(b"avcC"), "avcC")?;
                    if let Ok(Some(sps)) = h264::Config::parse(&setup).and_then(|c| c.first_sps()) {
                        sps.describe(&mut track);
                    }
                }
                _ => (),
            }
            codec
        }
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

/// QuickTime's "raw " is red, green, blue; with 32 bits, what is first is coverage.
fn raw_picture(depth: u16) -> Codec {
    match depth {
        24 => Codec::Raw(RawPicture::new(Packing::Bytes("rgb"))),
        32 => Codec::Raw(RawPicture::new(Packing::Bytes("argb"))),
        n => Codec::Other {
            code: "raw ".into(),
            name: (n <= 8).then_some("uncompressed pictures with a palette"),
        },
    }
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
                0x69 | 0x6b => Codec::MpegAudio(3),
                0xad => {
                    // The same record as in the Opus mapping of Ogg.
                    setup = held(&es.setup, "esds")?;
                    (rate, channels) = (opus::RATE, opus::Head::parse(&setup)?.channels.into());
                    Codec::Opus
                }
                0xa5 => Codec::Other { code: "mp4a.A5".into(), name: Some("AC-3") },
                0xa9 => Codec::Other { code: "mp4a.A9".into(), name: Some("DTS") },
                0xdd => {
                    setup = held(&vorbis::any_setup(&es.setup).unwrap_or_default(), "esds")?;
                    let first = vorbis::headers(&setup).and_then(|[first, ..]| vorbis::identification(first));
                    (rate, channels) = first.ok_or_else(|| Error::damaged("esds", "no heads of Vorbis"))?;
                    Codec::Vorbis
                }
                n => Codec::Other { code: format!("mp4a.{n:02X}"), name: None },
            }
        }
        // Always one channel, whatever the entry says (3GPP TS 26.244, 6.5).
        b"samr" | b"sawb" => {
            let wide = &kind == b"sawb";
            (rate, channels) = (amr::samples(wide).1, 1);
            Codec::Amr { wide }
        }
        b".mp3" | [b'm', b's', 0, 0x55] => Codec::MpegAudio(3),
        b".mp2" | [b'm', b's', 0, 0x50] => Codec::MpegAudio(2),
        b"Opus" => {
            // Encapsulation of Opus in ISOBMFF, 4.3.2: as in Ogg, but with high bytes first.
            let b =
                find(children, b"dOps").ok_or_else(|| Error::damaged(place.clone(), "no 'dOps' record"))?;
            let byte = |i: usize| b.get(i).copied().unwrap_or(0);
            let family = byte(10);
            let n = byte(1);
            let head = opus::Head {
                channels: n,
                skip: be16(b, 2).unwrap_or(0),
                gain: be16(b, 8).unwrap_or(0) as i16,
                family,
                streams: if family == 0 { 1 } else { byte(11) },
                coupled: if family == 0 { n.saturating_sub(1) } else { byte(12) },
                mapping: b.get(13..13 + usize::from(n)).unwrap_or(&[]).to_vec(),
            };
            setup = head.write(be32(b, 4).unwrap_or(0));
            (rate, channels) = (opus::RATE, n.into());
            Codec::Opus
        }
        b"fLaC" => {
            // Encapsulation of FLAC in ISOBMFF, 3.3.2: metadata blocks, the stream information first.
            let b =
                find(children, b"dfLa").ok_or_else(|| Error::damaged(place.clone(), "no 'dfLa' record"))?;
            setup = b.get(8..8 + flac::Info::BYTES).unwrap_or(&[]).to_vec();
            let info =
                flac::Info::parse(&setup).ok_or_else(|| Error::damaged("dfLa", "the record is cut short"))?;
            (rate, channels) = (info.rate, info.channels);
            profile = Some(format!("{}-bit", info.bits));
            Codec::Flac
        }
        b"alac" => {
            let b = find(children, b"alac").or_else(|| wave.and_then(|w| find(w, b"alac")));
            setup = held(b.and_then(|b| b.get(4..)).unwrap_or(&[]), "alac")?;
            if setup.len() < 24 {
                return Err(Error::damaged(place, "the 'alac' record is cut short"));
            }
            (rate, channels) = (be32(&setup, 20).unwrap_or(rate), u16::from(setup[9]));
            profile = Some(format!("{}-bit", setup[5]));
            Codec::Alac
        }
        _ => Codec::Other { code: show(kind), name: sound_name(&kind) },
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

/// The decoder's own setup in an ES descriptor: CAF keeps the same record.
pub fn decoder_setup(esds: &[u8]) -> Option<Vec<u8>> {
    Some(stream_description(esds).setup).filter(|s| !s.is_empty())
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

    /// What it is and by which scheme it is encrypted stands in it; where it does not, that it is encrypted stays.
    #[test]
    fn encrypted_tracks_are_named() {
        let sinf = |b: &mut Builder, was: &Kind| {
            b.put(b"sinf", |b| {
                b.put(b"frma", |b| b.raw(was));
                b.full(b"schm", 0, 0, |b| {
                    b.raw(b"cbcs");
                    b.u32(0x1_0000);
                });
            });
        };
        let picture = |told: bool| {
            stsd(b"encv", |b| {
                b.zeros(24);
                b.u16(640);
                b.u16(360);
                b.zeros(50);
                if told {
                    sinf(b, b"vp09");
                }
            })
        };
        let sound = stsd(b"enca", |b| {
            b.zeros(16);
            b.u16(6);
            b.u16(16);
            b.u32(0);
            b.u32(48_000 << 16);
            sinf(b, b"ac-3");
        });
        let told = |stsd: &[u8], handler: &Kind| {
            let entry = parse(stsd, *handler).unwrap();
            let track = crate::track::Track::new(1, entry.codec, entry.media, 1000);
            (track.codec.name(), crate::codec::why_not(&track).unwrap())
        };
        let (name, why) = told(&picture(true), b"vide");
        assert_eq!(name, "encrypted VP9");
        assert_eq!(why, "VP9 that is encrypted (cbcs): only who has its key can read it");
        let (name, why) = told(&sound, b"soun");
        assert!(name == "encrypted AC-3" && why.contains("AC-3 that is encrypted (cbcs)"), "{name}: {why}");
        let (name, why) = told(&picture(false), b"vide");
        assert!(name.starts_with("encrypted ") && why.contains("no scheme stated"), "{name}: {why}");
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
        assert_eq!(e.codec, Codec::Hevc);
        assert!(parse(&picture[..30], *b"vide").is_err());
    }
}
