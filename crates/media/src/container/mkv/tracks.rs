//! Track entries (RFC 9559, 5.1.4) and the mappings of codecs (RFC 9559, 4 of the codec specification).

use super::ebml::{find, float, inside, unsigned};
use crate::bits::text;
use crate::codec::{aac, av1, ffv1, h264, hevc, mpeg_video, opus};
use crate::container::codes;
use crate::container::stream::Described;
use crate::container::{AudioTrack, Codec, Media, PcmKind, PcmLayout, Track, VideoTrack};
use crate::error::{Error, Result};
use crate::frame::video::check_size;
use crate::frame::{Chroma, Fields};
use crate::limits::{MAX_CHANNELS, MAX_SAMPLE_RATE, MAX_SETUP_BYTES, MIN_SAMPLE_RATE};
use crate::units::Ratio;

/// A track and what its blocks need to be read.
pub struct Entry {
    pub number: u64,
    /// Handed on when all are known.
    pub described: Option<Described>,
    /// Samples a second, for sound.
    pub sound_rate: Option<u32>,
    pub vp8: bool,
    /// Its blocks have coverage beside them.
    pub coverage: bool,
    /// Nanoseconds that come before the first sound that is heard.
    pub delay: u64,
    /// Nanoseconds of a frame, where stated.
    pub frame: Option<u64>,
    pub packing: Packing,
    /// Blocks hold a byte stream with start codes.
    pub annex_b: bool,
}

/// How the content of blocks was made smaller (5.1.4.1.31).
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Packing {
    None,
    /// The same bytes start every block and were left out.
    Stripped(Vec<u8>),
    Zlib,
}

pub fn parse(b: &[u8], scale: u32) -> Result<Entry> {
    let mut kind = 0;
    let (mut number, mut id, mut private) = (0, String::new(), Vec::new());
    let (mut delay, mut frame, mut language) = (0, None, None);
    let (mut video, mut audio): (&[u8], &[u8]) = (&[], &[]);
    let mut packing = Packing::None;
    for (element, body) in inside(b) {
        match element {
            0xd7 => number = unsigned(body),
            0x83 => kind = unsigned(body),
            0x86 => id = text(body).unwrap_or_default(),
            0x63a2 => {
                if body.len() > MAX_SETUP_BYTES {
                    return Err(Error::limit(
                        "CodecPrivate",
                        format!("{} bytes; up to {MAX_SETUP_BYTES}", body.len()),
                    ));
                }
                private = body.to_vec();
            }
            0x23_e383 => frame = Some(unsigned(body)).filter(|&n| n > 0),
            0x56aa => delay = unsigned(body),
            0x22_b59c => language = language.or(text(body).filter(|l| l != "und")),
            0x22_b59d => language = text(body).filter(|l| l != "und"),
            0xe0 => video = body,
            0xe1 => audio = body,
            0x6d80 => packing = packing_of(body)?,
            _ => (),
        }
    }
    let mut annex_b = false;
    let (codec, media, setup, timescale) = match kind {
        1 => {
            let mut v = picture(video)?;
            let (codec, setup) = picture_codec(&id, private, video, &mut v)?;
            annex_b = codec.has_units() && setup.is_empty();
            if let Some(rate) = frame.and_then(|f| Ratio::new(1_000_000_000, f)).map(tidy) {
                (v.rate, v.constant_rate) = (Some(rate), true);
            }
            (codec, Media::Video(v), setup, scale)
        }
        2 => {
            let mut a = sound(audio);
            let (codec, setup) = sound_codec(&id, private, audio, &mut a)?;
            if a.channels == 0
                || a.channels > MAX_CHANNELS
                || !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&a.rate)
            {
                return Err(Error::damaged(
                    "TrackEntry",
                    format!("{} channels at {} Hz", a.channels, a.rate),
                ));
            }
            let rate = a.rate;
            (codec, Media::Audio(a), setup, rate)
        }
        17 | 18 => (other(&id, caption_name(&id)), Media::Text, private, scale),
        _ => (other(&id, None), Media::Other, private, scale),
    };
    let mut track = Track::new(u32::try_from(number).unwrap_or(u32::MAX), codec, media, timescale);
    (track.setup, track.language) = (setup, language);
    track.decode_times = id == "V_MS/VFW/FOURCC";
    let sound_rate = track.audio().map(|a| a.rate);
    let mut described = Described::new(track, scale);
    if let Some(rate) = sound_rate {
        // To the sample: the times of blocks are coarser.
        let samples = (u128::from(delay) * u128::from(rate) + 500_000_000) / 1_000_000_000;
        described.lead = samples.min(u128::from(u32::MAX)) as i64;
        delay = 0;
    }
    Ok(Entry {
        number,
        sound_rate,
        vp8: described.track.codec == Codec::Vp8,
        coverage: described.track.video().is_some_and(|v| v.coverage),
        described: Some(described),
        delay,
        frame,
        packing,
        annex_b,
    })
}

fn other(id: &str, name: Option<&'static str>) -> Codec {
    Codec::Other { code: id.to_owned(), name }
}

fn caption_name(id: &str) -> Option<&'static str> {
    Some(match id {
        "S_TEXT/UTF8" => "text captions",
        "S_TEXT/WEBVTT" => "WebVTT",
        "S_TEXT/ASS" | "S_TEXT/SSA" => "styled text captions",
        "S_HDMV/PGS" | "S_VOBSUB" | "S_DVBSUB" => "caption pictures",
        _ => return None,
    })
}

/// Nanoseconds are rounded: the fraction that was meant.
fn tidy(exact: Ratio) -> Ratio {
    let near = |r: &Ratio| (r.value() / exact.value() - 1.0).abs() < 1e-6;
    [(24_000, 1001), (30_000, 1001), (60_000, 1001), (120_000, 1001)]
        .into_iter()
        .map(|(num, den)| Ratio { num, den })
        .chain((1..=240).map(|n| Ratio { num: n, den: 1 }))
        .find(near)
        .unwrap_or(exact)
}

fn packing_of(b: &[u8]) -> Result<Packing> {
    for (_, encoding) in inside(b).filter(|(id, _)| *id == 0x6240) {
        let scope = find(encoding, 0x5032).map_or(1, unsigned);
        if scope & 1 == 0 {
            continue;
        }
        if find(encoding, 0x5033).map_or(0, unsigned) == 1 {
            return Err(Error::unsupported("ContentEncodings", "an encrypted track cannot be read"));
        }
        let compression = find(encoding, 0x5034).unwrap_or(&[]);
        return match find(compression, 0x4254).map_or(0, unsigned) {
            0 => Ok(Packing::Zlib),
            3 => Ok(Packing::Stripped(find(compression, 0x4255).unwrap_or(&[]).to_vec())),
            n => Err(Error::unsupported(
                "ContentCompAlgo",
                format!("compression {n}; 0 (zlib) and 3 (header stripping) can be read"),
            )),
        };
    }
    Ok(Packing::None)
}

/// 5.1.4.1.28.
fn picture(b: &[u8]) -> Result<VideoTrack> {
    let n = |id| find(b, id).map_or(0, unsigned).min(u32::MAX.into()) as u32;
    let (mut w, mut h) = (n(0xb0), n(0xba));
    w = w.saturating_sub(n(0x54cc).saturating_add(n(0x54dd)));
    h = h.saturating_sub(n(0x54bb).saturating_add(n(0x54aa)));
    check_size("TrackEntry/Video", w, h)?;
    let mut v = VideoTrack::sized(w, h);
    v.coverage = n(0x53c0) == 1;
    // Display size in pixels, or as a shape: either way the ratio is what counts. Unit 4 is not known.
    if n(0x54b2) <= 3
        && let (dw @ 1.., dh @ 1..) = (n(0x54b0), n(0x54ba))
        && let Some(shape) = Ratio::new(u64::from(dw) * u64::from(h), u64::from(dh) * u64::from(w))
    {
        // Sizes in whole pixels are rounded: within that, pixels are square.
        let off = (f64::from(w) * shape.value() - f64::from(w)).abs();
        v.pixel_shape = if off < 1.0 { Ratio::ONE } else { shape };
    }
    v.fields = match (n(0x9a), find(b, 0x9d).map_or(2, unsigned)) {
        (1, 1 | 9) => Fields::TopFirst,
        (1, 6 | 14) => Fields::BottomFirst,
        (1, _) => Fields::Interlaced,
        _ => Fields::Progressive,
    };
    if let Some(c) = find(b, 0x55b0) {
        let code = |id| find(c, id).map_or(2, unsigned).min(255) as u8;
        v.colour.matrix = code(0x55b1);
        v.colour.transfer = code(0x55ba);
        v.colour.primaries = code(0x55bb);
        v.colour.full_range = find(c, 0x55b9).map_or(0, unsigned) == 2;
        v.depth = find(c, 0x55b2).map(unsigned).filter(|d| (8..=16).contains(d)).map(|d| d as u8);
        let (x, y) = (find(c, 0x55b3).map(unsigned), find(c, 0x55b4).map(unsigned));
        v.chroma = match (x, y) {
            (Some(1), Some(1)) => Some(Chroma::C420),
            (Some(1), Some(0)) => Some(Chroma::C422),
            (Some(0), Some(0)) => Some(Chroma::C444),
            _ => None,
        };
    }
    // A turn about the line of sight (5.1.4.1.28.42), counter-clockwise in degrees.
    if let Some(p) = find(b, 0x7670)
        && find(p, 0x7671).map_or(0, unsigned) == 0
    {
        let roll = find(p, 0x7675).map_or(0.0, float);
        let turn = (-roll).rem_euclid(360.0);
        v.rotation = [90u16, 180, 270].into_iter().find(|&t| (turn - f64::from(t)).abs() < 1.0).unwrap_or(0);
    }
    Ok(v)
}

fn picture_codec(id: &str, private: Vec<u8>, video: &[u8], v: &mut VideoTrack) -> Result<(Codec, Vec<u8>)> {
    let codec = match id {
        "V_MPEG4/ISO/AVC" => {
            if let Ok(Some(sps)) = h264::Config::parse(&private).and_then(|c| c.first_sps()) {
                sps.complete(v);
            }
            Codec::H264
        }
        "V_AV1" => {
            av1::describe(&private, v);
            Codec::Av1
        }
        "V_VP8" => Codec::Vp8,
        "V_VP9" => Codec::Vp9,
        "V_MJPEG" => Codec::MotionJpeg,
        "V_MPEGH/ISO/HEVC" => {
            hevc::describe(&private, v);
            Codec::Hevc
        }
        "V_MPEG1" | "V_MPEG2" => {
            if let Some((_, seen)) = mpeg_video::sequence(&private) {
                (v.profile, v.level, v.chroma, v.depth) = (seen.profile, seen.level, seen.chroma, seen.depth);
                v.fields = seen.fields;
            }
            other(id, Some(if id == "V_MPEG2" { "MPEG-2" } else { "MPEG-1 video" }))
        }
        _ if id.starts_with("V_MPEG4/ISO/") => {
            v.profile = mpeg_video::part2_profile(&private).map(String::from);
            other(id, Some("MPEG-4 part 2"))
        }
        "V_MPEG4/MS/V3" => other(id, Some("MPEG-4 of an early draft")),
        "V_THEORA" => Codec::Theora,
        "V_PRORES" => match private.get(..4).and_then(|c| <&[u8; 4]>::try_from(c).ok()) {
            Some(code) => codes::picture(code),
            None => other(id, Some("ProRes")),
        },
        "V_FFV1" => {
            // What cannot be read of it is told where it is decoded.
            let _ = ffv1::describe(&private, v);
            Codec::Ffv1
        }
        "V_DIRAC" => other(id, Some("Dirac")),
        "V_UNCOMPRESSED" => match find(video, 0x2e_b524).and_then(|c| <&[u8; 4]>::try_from(c).ok()) {
            Some(code) => codes::picture(code),
            None => other(id, Some("uncompressed pictures of no stated kind")),
        },
        "V_MS/VFW/FOURCC" => match codes::bitmap(&private) {
            Some((_, _, codec, extra)) => {
                if matches!(&codec, Codec::Other { name: Some("MPEG-4 part 2"), .. }) {
                    v.profile = mpeg_video::part2_profile(&extra).map(String::from);
                }
                if matches!(&codec, Codec::Other { name: Some("FFV1"), .. }) {
                    let _ = ffv1::describe(&extra, v);
                    return Ok((Codec::Ffv1, extra));
                }
                // The record may follow the header; otherwise blocks hold a byte stream.
                let setup = if extra.first() == Some(&1) { extra } else { Vec::new() };
                return Ok((codec, setup));
            }
            None => other(id, None),
        },
        _ => other(id, None),
    };
    Ok((codec, private))
}

/// 5.1.4.1.29.
fn sound(b: &[u8]) -> AudioTrack {
    let rate = find(b, 0xb5).map_or(8000.0, float);
    let out = find(b, 0x78b5).map_or(rate, float);
    let rate = if out.is_finite() && out > 0.0 { out } else { rate };
    let channels = find(b, 0x9f).map_or(1, unsigned).min(u64::from(u16::MAX)) as u16;
    AudioTrack { rate: rate.clamp(0.0, f64::from(u32::MAX)).round() as u32, channels, profile: None }
}

fn sound_codec(id: &str, private: Vec<u8>, audio: &[u8], a: &mut AudioTrack) -> Result<(Codec, Vec<u8>)> {
    let bits = find(audio, 0x6264).map_or(16, unsigned).min(64) as u8;
    let pcm = |big_endian, kind| Codec::Pcm(PcmLayout { bits, bytes: bits.div_ceil(8), big_endian, kind });
    let mut setup = private;
    let codec = match id {
        _ if id == "A_AAC" || id.starts_with("A_AAC/") => {
            if setup.is_empty() {
                let core = find(audio, 0xb5).map_or(0.0, float) as u32;
                let index = aac::FREQUENCIES.iter().position(|&f| f == core).unwrap_or(4);
                let index = u8::try_from(index).unwrap_or(4);
                setup = aac::Config::write(2, index, a.channels.min(7) as u8);
                if id.ends_with("/SBR") {
                    // The record says that bands are replicated, at the output's rate.
                    let out = aac::FREQUENCIES.iter().position(|&f| f == a.rate).unwrap_or(4) as u16;
                    let bits = 5u32 << 27
                        | u32::from(index) << 23
                        | u32::from(a.channels.min(7)) << 19
                        | u32::from(out) << 15
                        | 2 << 10;
                    setup = bits.to_be_bytes().to_vec();
                }
            }
            let config = aac::Config::parse(&setup)?;
            (a.rate, a.channels) = (config.rate, config.channels.unwrap_or(a.channels));
            a.profile = Some(config.profile.into());
            Codec::Aac
        }
        "A_MPEG/L3" => Codec::MpegAudio(3),
        "A_MPEG/L2" => Codec::MpegAudio(2),
        "A_MPEG/L1" => Codec::MpegAudio(1),
        "A_VORBIS" => Codec::Vorbis,
        "A_OPUS" => {
            let head = opus::Head::parse(&setup)?;
            (a.rate, a.channels) = (opus::RATE, head.channels.into());
            Codec::Opus
        }
        "A_FLAC" => {
            // The record is the native file's head: marker, block head, stream information.
            setup = setup
                .get(8..42)
                .map(<[u8]>::to_vec)
                .ok_or_else(|| Error::damaged("A_FLAC", "the setup record is cut short"))?;
            Codec::Flac
        }
        "A_ALAC" => Codec::Alac,
        "A_PCM/INT/LIT" if bits == 8 => pcm(false, PcmKind::Unsigned),
        "A_PCM/INT/LIT" => pcm(false, PcmKind::Signed),
        "A_PCM/INT/BIG" => pcm(true, PcmKind::Signed),
        "A_PCM/FLOAT/IEEE" => pcm(false, PcmKind::Float),
        "A_MS/ACM" => match codes::wave(&setup) {
            Some(w) => {
                setup = w.setup;
                w.codec
            }
            None => other(id, None),
        },
        _ if id.starts_with("A_AC3") => other(id, Some("AC-3")),
        _ if id.starts_with("A_EAC3") => other(id, Some("E-AC-3")),
        _ if id.starts_with("A_DTS") => other(id, Some("DTS")),
        "A_TRUEHD" => other(id, Some("TrueHD")),
        "A_TTA1" => other(id, Some("True Audio")),
        "A_WAVPACK4" => other(id, Some("WavPack")),
        _ => other(id, None),
    };
    Ok((codec, setup))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(41_708_333, (24_000, 1001))]
    #[case(33_333_333, (30, 1))]
    #[case(40_000_000, (25, 1))]
    #[case(16_683_333, (60_000, 1001))]
    fn rounded_nanoseconds_become_the_rate(#[case] ns: u64, #[case] want: (u32, u32)) {
        let r = tidy(Ratio::new(1_000_000_000, ns).unwrap());
        assert_eq!((r.num, r.den), want);
    }

    #[test]
    fn a_display_size_that_is_rounded_means_square_pixels() {
        let video = [
            0xb0, 0x82, 0x07, 0x80, 0xba, 0x82, 0x04, 0x38, 0x54, 0xb0, 0x82, 0x07, 0x80, 0x54, 0xba, 0x82,
            0x04, 0x38,
        ];
        assert_eq!(picture(&video).unwrap().pixel_shape, Ratio::ONE);
        let wide =
            [0xb0, 0x82, 0x05, 0xa0, 0xba, 0x82, 0x04, 0x38, 0x54, 0xb0, 0x81, 16, 0x54, 0xba, 0x81, 9];
        assert_eq!(picture(&wide).unwrap().pixel_shape, Ratio { num: 4, den: 3 });
        assert!(picture(&[]).is_err());
    }
}
