//! Facts: what is known of a file from its own bytes. One value, one stable JSON form.

use crate::codec;
use crate::container::{self, Codec, Demux, Media, Source, Track, listed};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Fields};
use crate::still;
use crate::timecode;
use crate::units::{Ratio, Time, rescale};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::SeekFrom;
use std::path::Path;

/// Version of the JSON form; it grows by adding fields only.
pub const FACTS_VERSION: u32 = 1;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Moving pictures, with or without sound.
    Video,
    /// Sound alone.
    Audio,
    /// One picture.
    Image,
    /// A media container with neither.
    Other,
    /// A folder with all that is in it; its files are not looked into.
    Folder,
}

impl std::fmt::Display for Kind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Kind::Video => "video",
            Kind::Audio => "audio",
            Kind::Image => "image",
            Kind::Other => "other",
            Kind::Folder => "folder",
        })
    }
}

/// A span: exact, and in seconds for reading.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Span {
    pub seconds: f64,
    #[serde(flatten)]
    pub exact: Time,
}

impl Span {
    /// One behind the other.
    pub fn and(self, other: Span) -> Span {
        self.exact.checked_add(other.exact).map_or(self, Span::from)
    }
}

impl From<Time> for Span {
    fn from(t: Time) -> Self {
        Span { seconds: (t.seconds() * 1e6).round() / 1e6, exact: t }
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Facts {
    pub version: u32,
    pub kind: Kind,
    /// Container or picture format.
    pub format: String,
    /// File size.
    pub bytes: u64,
    /// End of the last track to end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration: Option<Span>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub video: Vec<VideoFacts>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub audio: Vec<AudioFacts>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub timecode: Option<TimecodeFacts>,
    /// Caption or subtitle tracks.
    pub captions: u32,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub created: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub maker: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<(String, String)>,
    /// What is odd about the file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remarks: Vec<String>,
    /// Part of the media is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub damage: Option<String>,
    /// Which values were computed from the packets or the index; all others are as the file states them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub measured: Vec<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct VideoFacts {
    pub codec: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub level: Option<String>,
    /// As shown: turned, and with square pixels.
    pub width: u32,
    pub height: u32,
    pub coded_width: u32,
    pub coded_height: u32,
    pub pixel_shape: Ratio,
    pub rotation: u16,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate: Option<Ratio>,
    pub constant_rate: bool,
    pub scan: Fields,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub chroma: Option<Chroma>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub depth: Option<u8>,
    /// It can be seen through: each picture has its coverage beside it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub coverage: bool,
    pub colour: Colour,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub frames: Option<u64>,
    pub start: Span,
    pub duration: Span,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bits_per_second: Option<u64>,
    /// Why it cannot be decoded, if so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cannot_decode: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AudioFacts {
    pub codec: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    pub rate: u32,
    pub channels: u16,
    /// Which loudspeakers the channels are for, where the codec's order says it: mono, stereo, 5.1 and so on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    pub start: Span,
    pub duration: Span,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bits_per_second: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cannot_decode: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TimecodeFacts {
    /// hh:mm:ss:ff, or hh:mm:ss;ff for drop frame.
    pub start: String,
    pub rate: Ratio,
    pub drop_frame: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reel: Option<String>,
    /// Where it came from.
    pub source: String,
}

impl Facts {
    /// The main picture track.
    pub fn picture(&self) -> Option<&VideoFacts> {
        self.video.first()
    }
}

/// Facts of a container or a picture file, whatever its name.
pub fn of(mut source: Box<dyn Source>) -> Result<Facts> {
    let bytes = source.seek(SeekFrom::End(0))?;
    let head = container::probe_bytes(&mut source)?;
    if bytes == 0 {
        return Err(Error::damaged("", "the file is empty"));
    }
    if let Some(format) = still::recognise(&head, &mut source)? {
        return still_facts(format, &mut source, bytes);
    }
    let Some(format) = container::recognise(&head) else {
        return Err(not_media(&head));
    };
    let demux = (format.open)(source)?;
    Ok(of_tracks(demux.as_ref(), bytes))
}

/// The same of a file by its path, with what lies near it where it is only a part or a list.
pub fn of_path(path: &Path) -> Result<Facts> {
    let mut file = File::open(path)?;
    match listed::near_path(&mut file, path)? {
        Some(opened) => Ok(of_tracks(opened.demux.as_ref(), opened.bytes)),
        None => of(Box::new(file)),
    }
}

/// Of a folder that is taken as one thing: only how much is in it.
pub fn of_folder(bytes: u64) -> Facts {
    Facts { kind: Kind::Folder, format: "folder".into(), bytes, ..Facts::blank() }
}

/// Why a file with these first bytes is not read.
pub fn not_media(head: &[u8]) -> Error {
    let text = std::str::from_utf8(head).is_ok_or_cut() && !head.contains(&0);
    let what = if let Some((name, instead)) = container::known::name(head) {
        format!("this is {name}, which cannot be read; {instead}")
    } else if let Some(list) = container::listed::list_name(head) {
        format!(
            "this is {list}, which names the files that hold the media: it is read where they lie beside it"
        )
    } else if text {
        "this is text, not media".to_owned()
    } else {
        let start: Vec<String> = head.iter().take(8).map(|b| format!("{b:02x}")).collect();
        format!("no known media format starts with {}", start.join(" "))
    };
    Error::unsupported("", what)
}

trait CutText {
    fn is_ok_or_cut(&self) -> bool;
}
impl CutText for std::result::Result<&str, std::str::Utf8Error> {
    /// Text, or text whose last character was cut by the end of what was read.
    fn is_ok_or_cut(&self) -> bool {
        self.as_ref().err().is_none_or(|e| e.error_len().is_none())
    }
}

fn still_facts(format: &'static still::StillFormat, source: &mut dyn Source, bytes: u64) -> Result<Facts> {
    let s = still::facts(format, source)?;
    let zero = Span::from(Time::ZERO);
    let turned = s.rotation == 90 || s.rotation == 270;
    let picture = VideoFacts {
        codec: s.format.into(),
        profile: s.float.then(|| "floating point".to_owned()),
        level: None,
        width: s.width,
        height: s.height,
        coded_width: if turned { s.height } else { s.width },
        coded_height: if turned { s.width } else { s.height },
        pixel_shape: Ratio::ONE,
        rotation: s.rotation,
        rate: None,
        constant_rate: false,
        scan: Fields::Progressive,
        chroma: Some(s.chroma),
        depth: Some(s.depth),
        coverage: s.chroma == Chroma::Rgba,
        colour: s.colour,
        frames: Some(1),
        start: zero,
        duration: zero,
        bits_per_second: None,
        cannot_decode: None,
    };
    let timecode = s.timecode.map(|start| TimecodeFacts {
        start,
        rate: Ratio { num: 25, den: 1 },
        drop_frame: false,
        reel: None,
        source: "television header; its rate is not stated, 25 frames/s is taken".into(),
    });
    let (kind, format) = (Kind::Image, s.format.into());
    Ok(Facts { kind, format, bytes, video: vec![picture], timecode, remarks: s.remarks, ..Facts::blank() })
}

impl Facts {
    fn blank() -> Facts {
        Facts {
            version: FACTS_VERSION,
            kind: Kind::Other,
            format: String::new(),
            bytes: 0,
            duration: None,
            video: Vec::new(),
            audio: Vec::new(),
            timecode: None,
            captions: 0,
            created: None,
            maker: None,
            model: None,
            tags: Vec::new(),
            remarks: Vec::new(),
            damage: None,
            measured: Vec::new(),
        }
    }
}

/// Values that come from the packets or the index, unless a container says that it could only state them.
const MEASURED: [&str; 6] =
    ["duration", "video.duration", "video.frames", "video.rate", "audio.duration", "bits_per_second"];

/// Facts of an open container.
pub fn of_tracks(demux: &dyn Demux, bytes: u64) -> Facts {
    let about = demux.about();
    let mut f = Facts {
        format: demux.format().into(),
        bytes,
        created: about.created.clone(),
        maker: about.maker.clone(),
        model: about.model.clone(),
        tags: about.tags.clone(),
        remarks: about.remarks.clone(),
        damage: about.damage.clone(),
        measured: MEASURED.iter().filter(|m| !about.stated.contains(m)).map(|m| (*m).to_owned()).collect(),
        ..Facts::blank()
    };
    for t in demux.tracks() {
        match &t.media {
            Media::Video(v) => f.video.push(video_facts(t, v)),
            Media::Audio(a) => f.audio.push(AudioFacts {
                codec: t.codec.name(),
                profile: a.profile.clone(),
                rate: a.rate,
                channels: a.channels,
                layout: layout(&t.codec, a.channels).map(String::from),
                language: t.language.clone(),
                start: t.start.into(),
                duration: t.duration.into(),
                bits_per_second: bits_per_second(t),
                cannot_decode: codec::why_not(t),
            }),
            Media::Timecode(tc) if f.timecode.is_none() => {
                f.timecode = Some(TimecodeFacts {
                    start: timecode::label(tc.start, tc.frames_per_count, tc.drop_frame),
                    rate: tc.rate,
                    drop_frame: tc.drop_frame,
                    reel: tc.reel.clone(),
                    source: "timecode track".into(),
                })
            }
            Media::Text => f.captions += 1,
            _ => (),
        }
    }
    f.kind = match (f.video.is_empty(), f.audio.is_empty()) {
        (false, _) => Kind::Video,
        (true, false) => Kind::Audio,
        _ => Kind::Other,
    };
    let end = demux.tracks().iter().filter(|t| t.video().is_some() || t.audio().is_some());
    f.duration = end.filter_map(|t| t.start.checked_add(t.duration)).max().map(Span::from);
    if let (Some(samples), Some(a), None) = (about.start_samples, f.audio.first(), &f.timecode) {
        // Counted at 25 frames a second, the field's custom where no picture says otherwise.
        let frames = rescale(samples.min(i64::MAX as u64) as i64, a.rate, 25);
        f.timecode = Some(TimecodeFacts {
            start: timecode::label(frames as u32, 25, false),
            rate: Ratio { num: 25, den: 1 },
            drop_frame: false,
            reel: None,
            source: format!("broadcast extension: {samples} samples since midnight, shown at 25 frames/s"),
        });
    }
    f
}

/// Names of the channel orders that codecs define themselves (AAC: ISO/IEC 14496-3, table 1.19; Vorbis, Opus and
/// FLAC: RFC 7845, 5.1.1.2). Uncompressed sound of more than two channels has no order of its own.
fn layout(codec: &Codec, channels: u16) -> Option<&'static str> {
    let own = matches!(codec, Codec::Aac | Codec::Vorbis | Codec::Opus | Codec::Flac | Codec::Alac)
        || matches!(codec, Codec::Other { name: Some("AC-3" | "E-AC-3"), .. });
    match channels {
        1 => Some("mono"),
        2 => Some("stereo"),
        3 if own => Some("3.0"),
        4 if own => Some(if *codec == Codec::Aac { "4.0" } else { "quad" }),
        5 if own => Some("5.0"),
        6 if own => Some("5.1"),
        7 if own => Some("6.1"),
        8 if own => Some("7.1"),
        _ => None,
    }
}

fn bits_per_second(t: &Track) -> Option<u64> {
    let bytes = u128::from(t.bytes?);
    let ticks = u128::try_from(t.duration.ticks).ok().filter(|&n| n > 0)?;
    u64::try_from(bytes * 8 * u128::from(t.duration.scale) / ticks).ok()
}

fn video_facts(t: &Track, v: &container::VideoTrack) -> VideoFacts {
    let (w, h) = crate::filter::video::scale::square(v.width, v.height, v.pixel_shape);
    let (width, height) = if v.rotation == 90 || v.rotation == 270 { (h, w) } else { (w, h) };
    VideoFacts {
        codec: t.codec.name(),
        profile: v.profile.clone(),
        level: v.level.clone(),
        width,
        height,
        coded_width: v.width,
        coded_height: v.height,
        pixel_shape: v.pixel_shape,
        rotation: v.rotation,
        rate: v.rate,
        constant_rate: v.constant_rate,
        scan: v.fields,
        chroma: v.chroma,
        depth: v.depth,
        coverage: v.coverage || v.chroma == Some(Chroma::Rgba),
        colour: v.colour,
        frames: t.shown,
        start: t.start.into(),
        duration: t.duration.into(),
        bits_per_second: bits_per_second(t),
        cannot_decode: codec::why_not(t),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Cursor;

    #[rstest]
    #[case(b"".to_vec(), "empty")]
    #[case(b"Call sheet, day 3\n".to_vec(), "this is text")]
    #[case(vec![0x25, 0x50, 0x44, 0x46, 0, 0xff], "this is PDF")]
    #[case(vec![0x06, 0x0e, 0x2b, 0x34, 2, 5, 1, 1, 0xd], "a copy in MP4")]
    #[case(vec![0x25, 0x51, 0x44, 0x46, 0, 0xff], "starts with 25 51 44 46")]
    fn what_is_not_media_is_said(#[case] bytes: Vec<u8>, #[case] words: &str) {
        let e = of(Box::new(Cursor::new(bytes))).unwrap_err().to_string();
        assert!(e.contains(words), "{e}");
    }
}
