//! Tracks and packets: what containers give and codecs take. Neither of the two knows the other.

use crate::frame::{Chroma, Colour, Fields};
use crate::units::{Ratio, Time};

/// How a compressed track is coded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Codec {
    H264,
    Aac,
    Pcm(PcmLayout),
    /// SMPTE timecode counted in frames.
    Timecode,
    /// Known or unknown to the trade, but without a decoder here: its code as the file states it, and a
    /// plain name if there is one.
    Other {
        code: String,
        name: Option<&'static str>,
    },
}

impl Codec {
    pub fn name(&self) -> String {
        match self {
            Codec::H264 => "H.264".into(),
            Codec::Aac => "AAC".into(),
            Codec::Pcm(p) => p.to_string(),
            Codec::Timecode => "timecode".into(),
            Codec::Other { name: Some(name), .. } => (*name).into(),
            Codec::Other { code, name: None } => format!("'{code}'"),
        }
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
}

impl Track {
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
}
