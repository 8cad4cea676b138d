//! Codes that several containers share: four letters for pictures, numbers of wave formats for sound.

use super::{Codec, Packing, PcmKind, PcmLayout, RawPicture};
use crate::bits::{le16, le32};
use crate::codec::aac;
use crate::frame::Chroma;
use crate::track::Adpcm;

fn other(code: &[u8; 4], name: Option<&'static str>) -> Codec {
    Codec::Other { code: show(code), name }
}

/// Four letters as text; bytes that are not printable become '.'.
pub fn show(code: &[u8; 4]) -> String {
    code.iter().map(|&b| if (0x20..0x7f).contains(&b) { b as char } else { '.' }).collect()
}

/// A picture codec by the four letters of QuickTime, ISO files and AVI.
pub fn picture(code: &[u8; 4]) -> Codec {
    let upper = code.map(|b| b.to_ascii_uppercase());
    let raw = |p| Codec::Raw(RawPicture::new(p));
    let planar = |chroma, depth, red_first| raw(Packing::Planar { chroma, depth, red_first });
    match &upper {
        b"H264" | b"X264" | b"AVC1" | b"AVC2" | b"AVC3" | b"AVC4" | b"DAVC" | b"VSSH" => Codec::H264,
        b"AV01" => Codec::Av1,
        b"VP08" | b"VP80" => Codec::Vp8,
        b"VP09" | b"VP90" => Codec::Vp9,
        b"JPEG" | b"MJPG" | b"MJPA" | b"AVRN" | b"DMB1" | b"JPGL" => Codec::MotionJpeg,
        b"2VUY" | b"UYVY" | b"UYNV" | b"Y422" | b"HDYC" => raw(Packing::Uyvy),
        b"YUY2" | b"YUYV" | b"YUNV" | b"V422" | b"YUVS" => raw(Packing::Yuyv),
        b"V210" => raw(Packing::V210),
        b"V216" => raw(Packing::V216),
        b"V308" => raw(Packing::Bytes("vyu")),
        b"V408" => raw(Packing::Bytes("uyvx")),
        b"R210" => raw(Packing::R210),
        b"B64A" => raw(Packing::B64a),
        b"I420" | b"IYUV" | b"YU12" => planar(Chroma::C420, 8, false),
        b"YV12" => planar(Chroma::C420, 8, true),
        b"YV16" => planar(Chroma::C422, 8, true),
        b"I422" | b"Y42B" | b"422P" => planar(Chroma::C422, 8, false),
        b"I444" | b"444P" => planar(Chroma::C444, 8, false),
        b"YV24" => planar(Chroma::C444, 8, true),
        b"Y800" | b"GREY" | b"Y8  " => planar(Chroma::Gray, 8, false),
        b"RGBA" => raw(Packing::Bytes("rgba")),
        b"BGRA" => raw(Packing::Bytes("bgra")),
        b"ABGR" => raw(Packing::Bytes("abgr")),
        b"ARGB" => raw(Packing::Bytes("argb")),
        b"HVC1" | b"HEV1" | b"HEVC" | b"H265" | b"X265" => Codec::Hevc,
        _ => other(code, picture_name(&upper)),
    }
}

/// Names the trade has for picture codecs without a decoder here.
fn picture_name(upper: &[u8; 4]) -> Option<&'static str> {
    Some(match upper {
        b"DVH1" | b"DVHE" => "HEVC with dynamic metadata",
        b"VVC1" | b"VVI1" => "VVC",
        b"MP4V" | b"XVID" | b"DIVX" | b"DX50" | b"FMP4" | b"3IVX" | b"M4S2" | b"MP4S" => "MPEG-4 part 2",
        b"DIV3" | b"DIV4" | b"MP43" | b"MP42" | b"MPG4" => "MPEG-4 of an early draft",
        b"APCH" => "ProRes 422 HQ",
        b"APCN" => "ProRes 422",
        b"APCS" => "ProRes 422 LT",
        b"APCO" => "ProRes 422 Proxy",
        b"AP4H" => "ProRes 4444",
        b"AP4X" => "ProRes 4444 XQ",
        b"APRN" | b"APRH" => "ProRes RAW",
        b"AVDN" => "VC-3 (DNxHD)",
        b"AVDH" => "VC-3 (DNxHR)",
        b"CFHD" => "VC-5",
        b"MJPB" => "Motion JPEG B",
        b"MJP2" | b"MJ2C" => "Motion JPEG 2000",
        b"MPG2" | b"MPEG" | b"M2V1" | b"MP2V" => "MPEG-2",
        b"MPG1" | b"MP1V" | b"M1V " => "MPEG-1 video",
        b"VC-1" | b"WVC1" => "VC-1",
        b"WMV1" | b"WMV2" | b"WMV3" => "Windows Media Video",
        b"FFV1" => "FFV1",
        b"HFYU" | b"FFVH" => "Huffyuv",
        b"S263" | b"H263" | b"U263" => "H.263",
        b"H261" => "H.261",
        b"CVID" => "Cinepak",
        b"RLE " | b"8BPS" => "run-length coded pictures",
        b"PNG " | b"MPNG" => "PNG pictures",
        b"TIFF" => "TIFF pictures",
        b"V410" => "uncompressed 10-bit 4:4:4",
        [b'M', b'X', _, b'P'] | [b'M', b'X', _, b'N'] => "MPEG-2",
        [b'H', b'D', b'V', _] | [b'X', b'D', b'V', _] | [b'X', b'D', b'5', _] | [b'X', b'D', b'H', _] => {
            "MPEG-2"
        }
        [b'A', b'I', b'5' | b'1' | b'P' | b'Q' | b'2' | b'3', _] => "H.264 Intra",
        [b'D', b'V', b'C' | b'P' | b'5' | b'H' | b'S' | b'L' | b'2', _] => "DV",
        _ => return None,
    })
}

/// A sound codec and its setup record from a wave format structure (Microsoft's WAVEFORMATEX, as in RIFF files).
pub struct Wave {
    pub codec: Codec,
    pub setup: Vec<u8>,
    pub rate: u32,
    pub channels: u16,
    /// Bytes of one block.
    pub block: u16,
    pub bytes_per_second: u32,
}

pub fn wave(fmt: &[u8]) -> Option<Wave> {
    let mut tag = le16(fmt, 0)?;
    let channels = le16(fmt, 2)?;
    let rate = le32(fmt, 4)?;
    let bytes_per_second = le32(fmt, 8)?;
    let block = le16(fmt, 12)?;
    let bits = le16(fmt, 14).unwrap_or(0);
    let mut valid = bits;
    if tag == 0xfffe {
        valid = le16(fmt, 18).filter(|&v| v > 0 && v <= bits).unwrap_or(bits);
        tag = le16(fmt, 24)?;
    }
    let extra = fmt.get(18..).unwrap_or(&[]);
    let bytes = (block / channels.max(1)).max(1);
    let pcm = |kind| {
        Codec::Pcm(PcmLayout {
            bits: valid.min(64) as u8,
            bytes: bytes.min(255) as u8,
            big_endian: false,
            kind,
        })
    };
    let named = |name| Codec::Other { code: format!("{tag:#06x}"), name };
    let mut setup = Vec::new();
    let codec = match tag {
        1 if bytes == 1 => pcm(PcmKind::Unsigned),
        1 => pcm(PcmKind::Signed),
        3 => pcm(PcmKind::Float),
        6 => pcm(PcmKind::Alaw),
        7 => pcm(PcmKind::Mulaw),
        0x50 => Codec::MpegAudio(2),
        0x55 => Codec::MpegAudio(3),
        0xff | 0x706d if extra.len() >= 2 => {
            setup = extra.to_vec();
            Codec::Aac
        }
        0xff | 0x706d | 0x1600 => {
            let index = aac::FREQUENCIES.iter().position(|&f| f == rate).unwrap_or(4);
            setup = aac::Config::write(2, index as u8, channels.min(7) as u8);
            Codec::Aac
        }
        0xf1ac if extra.len() >= 34 => {
            setup = extra[extra.len() - 34..].to_vec();
            Codec::Flac
        }
        0x2000 => named(Some("AC-3")),
        0x2001 => named(Some("DTS")),
        2 => {
            setup = extra.to_vec();
            Codec::Adpcm { kind: Adpcm::Microsoft, block }
        }
        0x11 => Codec::Adpcm { kind: Adpcm::Ima, block },
        0x160..=0x163 => named(Some("Windows Media Audio")),
        0x31 => Codec::Gsm { block },
        _ => named(None),
    };
    Some(Wave { codec, setup, rate, channels, block, bytes_per_second })
}

/// A picture codec from a bitmap header (Microsoft's BITMAPINFOHEADER): width, height, codec, what follows.
pub fn bitmap(b: &[u8]) -> Option<(u32, u32, Codec, Vec<u8>)> {
    let width = le32(b, 4)?;
    let height = le32(b, 8)? as i32;
    let bits = le16(b, 14)?;
    let code: [u8; 4] = b.get(16..20)?.try_into().ok()?;
    let extra = b.get(40..).unwrap_or(&[]).to_vec();
    let codec = match (&code, bits) {
        ([0, 0, 0, 0], 16 | 24 | 32) => {
            let packing = match bits {
                16 => Packing::Rgb555,
                24 => Packing::Bytes("bgr"),
                _ => Packing::Bytes("bgrx"),
            };
            Codec::Raw(RawPicture { packing, bottom_up: height > 0, align: 4 })
        }
        ([0, 0, 0, 0], n) => {
            Codec::Other { code: format!("RGB {n}"), name: Some("uncompressed pictures with a palette") }
        }
        _ => picture(&code),
    };
    Some((width, height.unsigned_abs(), codec, extra))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"avc1", "H.264")]
    #[case(b"XVID", "MPEG-4 part 2")]
    #[case(b"apch", "ProRes 422 HQ")]
    #[case(b"v210", "uncompressed 10-bit 4:2:2")]
    #[case(b"dvcp", "DV")]
    #[case(b"zz\x01z", "'zz.z'")]
    fn codes_have_names(#[case] code: &[u8; 4], #[case] want: &str) {
        assert_eq!(picture(code).name(), want);
    }

    #[test]
    fn wave_formats_are_told_and_cut_ones_are_not() {
        let mut fmt =
            vec![0xfe, 0xff, 2, 0, 0x80, 0xbb, 0, 0, 0, 0, 0, 0, 8, 0, 32, 0, 22, 0, 24, 0, 3, 0, 0, 0, 1, 0];
        let w = wave(&fmt).unwrap();
        assert_eq!((w.codec.name().as_str(), w.rate, w.channels), ("PCM 24-bit", 48_000, 2));
        fmt.truncate(20);
        assert!(wave(&fmt).is_none());
    }

    #[test]
    fn plain_bitmaps_stand_on_their_head() {
        let mut b = vec![0u8; 40];
        b[4..8].copy_from_slice(&64u32.to_le_bytes());
        b[8..12].copy_from_slice(&(-48i32).to_le_bytes());
        b[14] = 24;
        let (w, h, codec, _) = bitmap(&b).unwrap();
        let Codec::Raw(r) = codec else { panic!() };
        assert_eq!((w, h, r.bottom_up, r.align), (64, 48, false, 4));
    }
}
