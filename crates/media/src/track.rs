//! Tracks and packets: what containers give and codecs take. Neither of the two knows the other.

use crate::frame::{Chroma, Colour, Fields};
use crate::units::{Ratio, Time};

/// How a compressed track is coded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Codec {
    H264,
    Hevc,
    Av1,
    Vp8,
    Vp9,
    MotionJpeg,
    Ffv1,
    Theora,
    /// The frames of an animated GIF.
    Gif,
    /// Uncompressed pictures.
    Raw(RawPicture),
    /// Whole picture files, one a packet: a numbered run.
    Stills,
    Aac,
    /// MPEG-1 and MPEG-2 sound of layer 1, 2 or 3.
    MpegAudio(u8),
    Vorbis,
    Flac,
    Alac,
    Opus,
    Pcm(PcmLayout),
    /// Speech of telephones: frames of 20 ms that tell their length.
    Amr {
        wide: bool,
    },
    /// GSM full rate, in blocks of so many bytes.
    Gsm {
        block: u16,
    },
    /// Four bits a sample, in blocks of so many bytes.
    Adpcm {
        kind: Adpcm,
        block: u16,
    },
    /// SMPTE timecode counted in frames.
    Timecode,
    /// Only who has the key can read it: what it is, and by which scheme (ISO/IEC 23001-7).
    Encrypted {
        of: Box<Codec>,
        scheme: String,
    },
    /// Known or unknown to the trade, but without a decoder here: its code as the file states it, and a
    /// plain name if there is one.
    Other {
        code: String,
        name: Option<&'static str>,
    },
}

/// How sound of four bits a sample is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Adpcm {
    /// IMA's, as WAVE packs it.
    Ima,
    /// IMA's, as QuickTime packs it.
    QuickTime,
    Microsoft,
}

impl Codec {
    /// Packets are units with their lengths in front; a byte stream has start codes there.
    pub fn has_units(&self) -> bool {
        matches!(self, Codec::H264 | Codec::Hevc)
    }

    pub fn name(&self) -> String {
        match self {
            Codec::H264 => "H.264".into(),
            Codec::Hevc => "HEVC".into(),
            Codec::Av1 => "AV1".into(),
            Codec::Vp8 => "VP8".into(),
            Codec::Vp9 => "VP9".into(),
            Codec::MotionJpeg => "Motion JPEG".into(),
            Codec::Ffv1 => "FFV1".into(),
            Codec::Theora => "Theora".into(),
            Codec::Gif => "GIF".into(),
            Codec::Raw(r) => r.to_string(),
            Codec::Stills => "still pictures".into(),
            Codec::Aac => "AAC".into(),
            Codec::MpegAudio(3) => "MP3".into(),
            Codec::MpegAudio(layer) => format!("MPEG audio layer {layer}"),
            Codec::Vorbis => "Vorbis".into(),
            Codec::Flac => "FLAC".into(),
            Codec::Alac => "ALAC".into(),
            Codec::Opus => "Opus".into(),
            Codec::Pcm(p) => p.to_string(),
            Codec::Adpcm { .. } => "ADPCM".into(),
            Codec::Amr { wide: false } => "AMR".into(),
            Codec::Amr { wide: true } => "AMR-WB".into(),
            Codec::Gsm { .. } => "GSM".into(),
            Codec::Timecode => "timecode".into(),
            Codec::Encrypted { of, .. } => format!("encrypted {}", of.name()),
            Codec::Other { name: Some(name), .. } => (*name).into(),
            Codec::Other { code, name: None } => format!("'{code}'"),
        }
    }
}

/// Names that a codec can have, but those of uncompressed sound and pictures (`PCM 24-bit`, `uncompressed 10-bit 4:2:2`)
/// and of codecs that nobody here has named (`'abcd'`).
pub fn codec_names() -> Vec<&'static str> {
    let mut all = vec![
        // decoded
        "H.264",
        "HEVC",
        "AV1",
        "VP8",
        "VP9",
        "Motion JPEG",
        "GIF",
        "still pictures",
        "AAC",
        "MP3",
        "MPEG audio layer 1",
        "MPEG audio layer 2",
        "Vorbis",
        "FLAC",
        "ALAC",
        "Opus",
        // named
        "HEVC with dynamic metadata",
        "VVC",
        "MPEG-4 part 2",
        "MPEG-4 of an early draft",
        "ProRes",
        "ProRes 422 HQ",
        "ProRes 422",
        "ProRes 422 LT",
        "ProRes 422 Proxy",
        "ProRes 4444",
        "ProRes 4444 XQ",
        "ProRes RAW",
        "VC-3 (DNxHD)",
        "VC-3 (DNxHR)",
        "VC-5",
        "Motion JPEG B",
        "Motion JPEG 2000",
        "MPEG-2",
        "MPEG-1 video",
        "VC-1",
        "Windows Media Video",
        "Theora",
        "FFV1",
        "Huffyuv",
        "H.263",
        "VP6",
        "screen pictures",
        "H.261",
        "Cinepak",
        "run-length coded pictures",
        "PNG pictures",
        "TIFF pictures",
        "H.264 Intra",
        "DV",
        "Dirac",
        "AC-3",
        "AC-4",
        "E-AC-3",
        "DTS",
        "ADPCM",
        "AMR",
        "AMR-WB",
        "Windows Media Audio",
        "RealVideo",
        "RealAudio",
        "AAC in RealMedia",
        "GSM",
        "QDesign",
        "TrueHD",
        "True Audio",
        "WavPack",
        "Speex",
    ];
    all.extend(crate::still::FORMATS.iter().map(|f| f.name));
    all.sort_unstable();
    all.dedup();
    all
}

/// Uncompressed pictures in bytes: how the samples lie.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RawPicture {
    pub packing: Packing,
    /// The lowest row comes first.
    pub bottom_up: bool,
    /// Rows start at multiples of this many bytes.
    pub align: u8,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// Planes one after the other, luma first; more than 8 bits in two bytes, low one first.
    Planar { chroma: Chroma, depth: u8, red_first: bool },
    /// 4:2:2 in four bytes for two pixels: Cb Y Cr Y.
    Uyvy,
    /// The same as Y Cb Y Cr.
    Yuyv,
    /// 10-bit 4:2:2, six pixels in four 32-bit words.
    V210,
    /// 16-bit 4:2:2 of `depth` valid high bits: Cb Y Cr Y, low byte first.
    V216,
    /// 8 bits each in the order given; `a` is coverage, `x` is unused.
    Bytes(&'static str),
    /// 10 bits each of red, green and blue in a word with high byte first, red at the top below two unused bits.
    R210,
    /// 5 bits each of red, green and blue in 16 bits, low byte first.
    Rgb555,
    /// 16 bits each of coverage, red, green and blue, high byte first.
    B64a,
}

impl RawPicture {
    pub fn new(packing: Packing) -> Self {
        RawPicture { packing, bottom_up: false, align: 1 }
    }
    pub fn chroma(&self) -> Chroma {
        match self.packing {
            Packing::Planar { chroma, .. } => chroma,
            Packing::Uyvy | Packing::Yuyv | Packing::V210 | Packing::V216 => Chroma::C422,
            Packing::Bytes(order) if order.contains('y') => Chroma::C444,
            Packing::Bytes(order) if order.contains('a') => Chroma::Rgba,
            Packing::B64a => Chroma::Rgba,
            Packing::Bytes(_) | Packing::R210 | Packing::Rgb555 => Chroma::Rgb,
        }
    }
    pub fn depth(&self) -> u8 {
        match self.packing {
            Packing::Planar { depth, .. } => depth,
            Packing::V210 | Packing::R210 => 10,
            Packing::V216 | Packing::B64a => 16,
            _ => 8,
        }
    }
    /// Bytes of one picture; `None` if they cannot be counted.
    pub fn frame_bytes(&self, width: u32, height: u32) -> Option<u64> {
        let (w, h) = (u64::from(width), u64::from(height));
        let row = match self.packing {
            Packing::Planar { chroma, depth, .. } => {
                let each = if depth > 8 { 2 } else { 1 };
                let planes = (0..chroma.planes()).map(|i| chroma.plane_size(i, width, height));
                return Some(planes.map(|(w, h)| u64::from(w) * u64::from(h) * each).sum());
            }
            Packing::Uyvy | Packing::Yuyv => w.div_ceil(2) * 4,
            // 48 pixels of 128 bytes is the unit that rows are filled up to.
            Packing::V210 => w.div_ceil(48) * 128,
            Packing::V216 => w.div_ceil(2) * 8,
            Packing::Bytes(order) => w * order.len() as u64,
            // Rows are filled up to 64 pixels.
            Packing::R210 => w.div_ceil(64) * 256,
            Packing::Rgb555 => w * 2,
            Packing::B64a => w * 8,
        };
        row.next_multiple_of(u64::from(self.align.max(1))).checked_mul(h)
    }
}

impl std::fmt::Display for RawPicture {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let chroma = match self.chroma() {
            Chroma::Gray => "gray",
            Chroma::C420 => "4:2:0",
            Chroma::C422 => "4:2:2",
            Chroma::C444 => "4:4:4",
            Chroma::Rgb => "RGB",
            Chroma::Rgba => "RGB with coverage",
        };
        write!(f, "uncompressed {}-bit {chroma}", self.depth())
    }
}

/// Uncompressed sound in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PcmLayout {
    /// Valid bits in a sample.
    pub bits: u8,
    /// Bytes that hold one sample.
    pub bytes: u8,
    pub big_endian: bool,
    pub kind: PcmKind,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PcmKind {
    Signed,
    Unsigned,
    Float,
    /// ITU-T G.711 A-law.
    Alaw,
    /// ITU-T G.711 mu-law.
    Mulaw,
}

impl std::fmt::Display for PcmLayout {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.kind {
            PcmKind::Signed | PcmKind::Unsigned => write!(f, "PCM {}-bit", self.bits),
            PcmKind::Float => write!(f, "PCM {}-bit float", self.bits),
            PcmKind::Alaw => f.write_str("PCM A-law"),
            PcmKind::Mulaw => f.write_str("PCM mu-law"),
        }
    }
}

/// Picture properties of a track, as far as stated.
#[derive(Clone, Debug, PartialEq)]
pub struct VideoTrack {
    /// Coded size after cropping, before rotation and pixel shape.
    pub width: u32,
    pub height: u32,
    pub pixel_shape: Ratio,
    /// Clockwise turn to apply for showing: 0, 90, 180 or 270.
    pub rotation: u16,
    pub fields: Fields,
    pub chroma: Option<Chroma>,
    pub depth: Option<u8>,
    pub profile: Option<String>,
    pub level: Option<String>,
    pub colour: Colour,
    /// Frame rate, and whether every frame lasts as long.
    pub rate: Option<Ratio>,
    pub constant_rate: bool,
    /// Its packets have coverage beside them: what they show can be seen through.
    pub coverage: bool,
}

impl VideoTrack {
    /// A track of which only the size is known.
    pub fn sized(width: u32, height: u32) -> Self {
        VideoTrack {
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
            coverage: false,
        }
    }
}

/// Sound properties of a track, as far as stated.
#[derive(Clone, Debug, PartialEq)]
pub struct AudioTrack {
    pub rate: u32,
    pub channels: u16,
    pub profile: Option<String>,
}

/// A timecode track: first value and how it counts (SMPTE ST 12-1).
#[derive(Clone, Debug, PartialEq)]
pub struct TimecodeTrack {
    pub rate: Ratio,
    /// Frames counted in a second of timecode.
    pub frames_per_count: u32,
    pub drop_frame: bool,
    /// First frame number.
    pub start: u32,
    pub reel: Option<String>,
}

impl TimecodeTrack {
    /// Counting from 0, for a source that has no timecode.
    pub fn counting(rate: Ratio) -> TimecodeTrack {
        let frames_per_count = (rate.value().round() as u32).max(1);
        TimecodeTrack { rate, frames_per_count, drop_frame: false, start: 0, reel: None }
    }
}

#[derive(Clone, Debug, PartialEq)]
pub enum Media {
    Video(VideoTrack),
    Audio(AudioTrack),
    Timecode(TimecodeTrack),
    /// Captions and subtitles.
    Text,
    Other,
}

/// One track of a file.
#[derive(Clone, Debug, PartialEq)]
pub struct Track {
    /// The file's own number for it.
    pub id: u32,
    pub codec: Codec,
    pub media: Media,
    /// Ticks a second of all times of this track's packets. For sound this is the sample rate.
    pub timescale: u32,
    /// The codec's setup record, as the container holds it.
    pub setup: Vec<u8>,
    /// Where presentation of this track starts and how long it lasts, with edits applied.
    pub start: Time,
    pub duration: Time,
    /// Number of packets, where an index tells.
    pub packets: Option<u64>,
    /// Number of packets that are shown (not only decoded), where an index tells.
    pub shown: Option<u64>,
    /// ISO 639-2 code, where stated.
    pub language: Option<String>,
    /// Bytes of all packets, where an index tells.
    pub bytes: Option<u64>,
    /// The file has times of decoding only: pictures are shown in the order the decoder gives them.
    pub decode_times: bool,
}

impl Track {
    /// A track that starts at 0, of unknown length.
    pub fn new(id: u32, codec: Codec, media: Media, timescale: u32) -> Self {
        let timescale = timescale.max(1);
        Track {
            id,
            codec,
            media,
            timescale,
            setup: Vec::new(),
            start: Time::new(0, timescale),
            duration: Time::new(0, timescale),
            packets: None,
            shown: None,
            language: None,
            bytes: None,
            decode_times: false,
        }
    }
    pub fn video(&self) -> Option<&VideoTrack> {
        match &self.media {
            Media::Video(v) => Some(v),
            _ => None,
        }
    }
    pub fn audio(&self) -> Option<&AudioTrack> {
        match &self.media {
            Media::Audio(a) => Some(a),
            _ => None,
        }
    }
    pub fn timecode(&self) -> Option<&TimecodeTrack> {
        match &self.media {
            Media::Timecode(t) => Some(t),
            _ => None,
        }
    }
}

/// A coded packet. Times are ticks of its track's scale on the presentation line: edits are applied, so
/// priming comes before 0 or is trimmed.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Packet {
    /// Index in [`Demux::tracks`].
    pub track: usize,
    pub pts: i64,
    pub duration: i64,
    /// Decoding may start here.
    pub key: bool,
    /// False for packets that are decoded only because others need them.
    pub shown: bool,
    /// Sound only: samples to drop from the front of what this packet decodes to,
    pub trim_start: u32,
    /// and how many to keep after that, if not all.
    pub keep: Option<u32>,
    pub data: Vec<u8>,
    /// What can be seen through, where the container has that beside the picture ([`VideoTrack::coverage`]): a packet of the same
    /// codec, whose luma is the coverage.
    pub beside: Vec<u8>,
}
