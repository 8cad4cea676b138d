//! Writing: what a writer of a container is, and the table of those there are. To add one: a file beside the container's
//! reader with a type that implements [`Mux`], and a row in [`WRAPPERS`].

use super::{mkv, mp4, mpeg, ogg, picture, sound, wav};
use crate::codec::Coded;
use crate::error::{Error, Result};
use crate::frame::{Colour, Fields};
use crate::plan::plain_pcm;
use crate::recipe::{AudioCodec, VideoCodec};
use crate::track::{Codec, TimecodeTrack};
use crate::units::{Ratio, Time};
use serde::{Deserialize, Serialize};
use std::io::{Read, Seek, Write};

/// Where a file is written.
pub trait Sink: Read + Write + Seek + Send {}
impl<T: Read + Write + Seek + Send> Sink for T {}

/// Where one output is written: a file, or a folder of them.
pub enum Target {
    File(Box<dyn Sink>),
    Folder(Box<dyn Folder>),
}

/// A folder that is empty at first.
pub trait Folder: Send {
    fn create(&mut self, name: &str) -> std::io::Result<Box<dyn Sink>>;
}

impl Folder for std::path::PathBuf {
    fn create(&mut self, name: &str) -> std::io::Result<Box<dyn Sink>> {
        let file = std::fs::File::options().read(true).write(true).create_new(true).open(self.join(name))?;
        Ok(Box::new(file))
    }
}

impl Target {
    pub fn file(self) -> Result<Box<dyn Sink>> {
        match self {
            Target::File(sink) => Ok(sink),
            Target::Folder(_) => Err(Error::setting("output", "a folder where a file is made")),
        }
    }

    pub fn folder(self) -> Result<Box<dyn Folder>> {
        match self {
            Target::Folder(folder) => Ok(folder),
            Target::File(_) => Err(Error::setting("output", "a file where a folder is made")),
        }
    }
}

impl From<Box<dyn Sink>> for Target {
    fn from(sink: Box<dyn Sink>) -> Target {
        Target::File(sink)
    }
}

#[derive(Clone, Debug)]
pub enum OutTrackKind {
    Video {
        width: u32,
        height: u32,
        rotation: u16,
        pixel_shape: Ratio,
        colour: Colour,
        fields: Fields,
        rate: Option<Ratio>,
    },
    Audio {
        rate: u32,
        channels: u16,
        bits: u32,
    },
    Timecode(TimecodeTrack),
}

#[derive(Clone, Debug)]
pub struct OutTrack {
    pub codec: Codec,
    pub kind: OutTrackKind,
    /// Ticks a second of what is written to it.
    pub timescale: u32,
    pub language: Option<String>,
    /// Packets expected, to keep room for the index.
    pub expected: u64,
    /// Ticks of media in front of what is presented (priming).
    pub skip: i64,
    /// Packets may come in another order than they are shown.
    pub reordered: bool,
    /// When its first sample was recorded: seconds since midnight, by the source's timecode, and how that counts.
    pub began: Option<(f64, TimecodeTrack)>,
}

/// What of a track's media is presented, told at the end.
#[derive(Clone, Debug)]
pub struct Ending {
    /// The codec's setup record.
    pub setup: Vec<u8>,
    /// When presentation of the track starts.
    pub start: Time,
    /// Ticks of media in front of what is presented (priming).
    pub skip: i64,
    /// Ticks presented.
    pub length: i64,
}

/// A writer of one file.
pub trait Mux: Send {
    /// A word on the file for whoever finds it, before its first packet; containers without room for one pass it over.
    fn comment(&mut self, words: &str) -> Result<()> {
        let _ = words;
        Ok(())
    }
    /// Adds a packet behind the last one of its track. Its time is that of the presentation, from which priming lies
    /// before.
    fn write(&mut self, track: usize, packet: &Coded) -> Result<()>;
    /// The codec's setup record of a track, once it is known: for those who need it in front of its packets.
    fn setup(&mut self, track: usize, setup: &[u8]) {
        let _ = (track, setup);
    }
    /// Writes what can be written at the end only; the file is whole then. Gives the fragments that it wrote, if it writes
    /// such.
    fn finish(self: Box<Self>, endings: &[Ending]) -> Result<Vec<Fragment>>;
}

/// A part of a file that can be sent and played by itself, behind the file's head.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Fragment {
    /// First byte, and how many.
    pub at: u64,
    pub bytes: u64,
    pub seconds: f64,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Wrap {
    Mp4,
    Mkv,
    Webm,
    Wav,
    Ogg,
    Mov,
    Flac,
    Mp3,
    Aiff,
    Ts,
    Y4m,
}

/// Begins a file with these tracks.
pub type Open = fn(Box<dyn Sink>, Vec<OutTrack>) -> Result<Box<dyn Mux>>;

/// One container that is written.
pub struct Wrapper {
    pub wrap: Wrap,
    /// As settings name it.
    pub name: &'static str,
    pub extension: &'static str,
    /// Extension of a file of sound alone.
    pub sound_extension: &'static str,
    pub video: &'static [VideoCodec],
    pub audio: &'static [AudioCodec],
    /// Sound that it holds too, but is not taken for where it is not named: not everybody who plays it plays that.
    pub audio_if_named: &'static [AudioCodec],
    /// It can say that a picture is to be turned for showing.
    pub turns: bool,
    /// A track may start later than the file.
    pub starts: bool,
    pub timecode: bool,
    /// It can say that a track's presentation begins and ends inside its packets.
    pub edits: bool,
    /// It cannot say where in its last packet sound ends.
    pub whole_packets: bool,
    pub most_sounds: usize,
    /// Codecs that it takes as they are from another file.
    pub copies: fn(&Codec) -> bool,
    pub open: Open,
}

/// A file of one sound track, which begins with the file.
const SOUND_FILE: Wrapper = Wrapper {
    wrap: Wrap::Wav,
    name: "",
    extension: "",
    sound_extension: "",
    video: &[],
    audio: &[],
    audio_if_named: &[],
    turns: false,
    starts: false,
    timecode: false,
    edits: false,
    whole_packets: false,
    most_sounds: 1,
    copies: |_| false,
    open: |_, _| Err(Error::setting("container", "none")),
};

pub static WRAPPERS: &[Wrapper] = &[
    Wrapper {
        wrap: Wrap::Mp4,
        name: "mp4",
        extension: "mp4",
        sound_extension: "m4a",
        video: &[VideoCodec::H264, VideoCodec::Av1, VideoCodec::Av1Ten],
        audio: &[AudioCodec::Aac],
        audio_if_named: &[AudioCodec::Opus],
        turns: true,
        starts: true,
        timecode: true,
        edits: true,
        whole_packets: false,
        most_sounds: 32,
        copies: |c| {
            matches!(
                c,
                Codec::H264
                    | Codec::Hevc
                    | Codec::Av1
                    | Codec::Aac
                    | Codec::MpegAudio(3)
                    | Codec::Opus
                    | Codec::Flac
                    | Codec::Alac
            )
        },
        open: |sink, tracks| Ok(Box::new(mp4::Mp4Writer::new(sink, tracks, None)?)),
    },
    Wrapper {
        wrap: Wrap::Webm,
        name: "webm",
        extension: "webm",
        sound_extension: "webm",
        video: &[VideoCodec::Vp9, VideoCodec::Av1, VideoCodec::Av1Ten],
        audio: &[AudioCodec::Opus],
        audio_if_named: &[],
        turns: false,
        starts: true,
        timecode: false,
        edits: false,
        whole_packets: false,
        most_sounds: 32,
        copies: |c| matches!(c, Codec::Vp8 | Codec::Vp9 | Codec::Av1 | Codec::Opus | Codec::Vorbis),
        open: |sink, tracks| Ok(Box::new(mkv::Writer::new(sink, tracks, "webm")?)),
    },
    Wrapper {
        wrap: Wrap::Mkv,
        name: "mkv",
        extension: "mkv",
        sound_extension: "mka",
        video: &[
            VideoCodec::H264,
            VideoCodec::Vp9,
            VideoCodec::Av1,
            VideoCodec::Av1Ten,
            VideoCodec::Ffv1,
            VideoCodec::MotionJpeg,
        ],
        audio: &[
            AudioCodec::Opus,
            AudioCodec::Flac16,
            AudioCodec::Flac24,
            AudioCodec::Pcm16,
            AudioCodec::Pcm24,
        ],
        audio_if_named: &[],
        turns: false,
        starts: true,
        timecode: false,
        edits: false,
        whole_packets: false,
        most_sounds: 32,
        copies: |c| mkv::codec_id(c).is_some(),
        open: |sink, tracks| Ok(Box::new(mkv::Writer::new(sink, tracks, "matroska")?)),
    },
    Wrapper {
        wrap: Wrap::Mov,
        name: "mov",
        extension: "mov",
        sound_extension: "mov",
        video: &[VideoCodec::H264, VideoCodec::MotionJpeg, VideoCodec::V210],
        audio: &[AudioCodec::Aac, AudioCodec::Pcm16, AudioCodec::Pcm24],
        audio_if_named: &[],
        turns: true,
        starts: true,
        timecode: true,
        edits: true,
        whole_packets: false,
        most_sounds: 32,
        copies: |c| {
            matches!(
                c,
                Codec::H264
                    | Codec::Hevc
                    | Codec::MotionJpeg
                    | Codec::Aac
                    | Codec::MpegAudio(3)
                    | Codec::Alac
            ) || plain_pcm(c)
        },
        open: |sink, tracks| Ok(Box::new(mp4::Mp4Writer::quicktime(sink, tracks)?)),
    },
    Wrapper {
        wrap: Wrap::Ts,
        name: "ts",
        extension: "ts",
        sound_extension: "ts",
        video: &[VideoCodec::H264],
        audio: &[AudioCodec::Aac],
        audio_if_named: &[],
        turns: false,
        starts: true,
        timecode: false,
        edits: false,
        whole_packets: true,
        most_sounds: 16,
        copies: |_| false,
        open: |sink, tracks| Ok(Box::new(mpeg::ts_mux::Writer::new(sink, tracks)?)),
    },
    Wrapper {
        wrap: Wrap::Y4m,
        name: "y4m",
        extension: "y4m",
        sound_extension: "y4m",
        video: &[VideoCodec::Planes],
        most_sounds: 0,
        open: |sink, tracks| Ok(Box::new(picture::y4m_mux::Writer::new(sink, &tracks)?)),
        ..SOUND_FILE
    },
    Wrapper {
        wrap: Wrap::Wav,
        name: "wav",
        extension: "wav",
        sound_extension: "wav",
        audio: &[AudioCodec::Pcm16, AudioCodec::Pcm24],
        open: |sink, tracks| Ok(Box::new(wav::Writer::new(sink, &tracks)?)),
        ..SOUND_FILE
    },
    Wrapper {
        wrap: Wrap::Ogg,
        name: "ogg",
        extension: "ogg",
        sound_extension: "opus",
        audio: &[AudioCodec::Opus],
        open: |sink, tracks| Ok(Box::new(ogg::Writer::new(sink, &tracks)?)),
        ..SOUND_FILE
    },
    Wrapper {
        wrap: Wrap::Flac,
        name: "flac",
        extension: "flac",
        sound_extension: "flac",
        audio: &[AudioCodec::Flac16, AudioCodec::Flac24],
        open: |sink, _| Ok(Box::new(sound::mux::Plain::flac(sink)?)),
        ..SOUND_FILE
    },
    Wrapper {
        wrap: Wrap::Mp3,
        name: "mp3",
        extension: "mp3",
        sound_extension: "mp3",
        audio: &[AudioCodec::Mp3],
        open: |sink, _| Ok(Box::new(sound::mux::Plain::mp3(sink)?)),
        ..SOUND_FILE
    },
    Wrapper {
        wrap: Wrap::Aiff,
        name: "aiff",
        extension: "aiff",
        sound_extension: "aiff",
        audio: &[AudioCodec::Pcm16, AudioCodec::Pcm24],
        open: |sink, tracks| Ok(Box::new(sound::mux::Aiff::new(sink, &tracks)?)),
        ..SOUND_FILE
    },
];

/// A file of one track in fragments, part of a stream: no container that a preset names.
pub static RUNG: Wrapper = Wrapper {
    wrap: Wrap::Mp4,
    name: "MP4 in fragments",
    extension: "mp4",
    sound_extension: "mp4",
    video: &[VideoCodec::H264],
    audio: &[AudioCodec::Aac],
    audio_if_named: &[],
    turns: false,
    starts: false,
    timecode: false,
    edits: false,
    whole_packets: false,
    most_sounds: 8,
    copies: |_| false,
    open: |sink, tracks| Ok(Box::new(mp4::fragment_mux::FragmentWriter::new(sink, tracks, USUAL_FRAGMENT)?)),
};

/// Seconds, where no other length is asked for.
const USUAL_FRAGMENT: f64 = 4.0;

/// The container that is asked for, or the usual one of these codecs.
pub fn wrapper(
    wanted: Option<Wrap>,
    video: Option<VideoCodec>,
    audio: Option<AudioCodec>,
) -> Result<&'static Wrapper> {
    let takes = |w: &Wrapper| w.takes(video, audio);
    if wanted.is_none() && (video == Some(VideoCodec::Copy) || audio == Some(AudioCodec::Copy)) {
        return Err(Error::setting("container", "one that is named, for tracks that are copied"));
    }
    if let Some(wrap) = wanted
        && let Some(w) = WRAPPERS.iter().find(|w| w.wrap == wrap)
    {
        if takes(w) {
            return Ok(w);
        }
        return Err(Error::setting(
            "container",
            format!("\"{}\" does not hold {}", w.name, words(video, audio)),
        ));
    }
    // A file of sound alone goes into one for sound alone, if there is one that holds it.
    let mut all: Vec<&'static Wrapper> = WRAPPERS.iter().collect();
    if video.is_none() {
        all.sort_by_key(|w| !w.video.is_empty());
    }
    let named_only = |w: &Wrapper| audio.is_some_and(|a| w.audio_if_named.contains(&a));
    all.into_iter()
        .find(|w| takes(w) && !named_only(w))
        .ok_or_else(|| Error::setting("container", format!("none holds {}", words(video, audio))))
}

impl Wrapper {
    /// Whether it holds these together; of what is copied that is known when it is there.
    pub fn takes(&self, video: Option<VideoCodec>, audio: Option<AudioCodec>) -> bool {
        video.is_none_or(|v| v == VideoCodec::Copy && !self.video.is_empty() || self.video.contains(&v))
            && audio.is_none_or(|a| {
                let held = self.audio.contains(&a) || self.audio_if_named.contains(&a);
                a == AudioCodec::Copy && self.most_sounds > 1 || held
            })
    }
}

fn words(video: Option<VideoCodec>, audio: Option<AudioCodec>) -> String {
    let video = video.map(|v| format!("{v:?} pictures"));
    let audio = audio.map(|a| format!("{a:?} sound"));
    video.into_iter().chain(audio).collect::<Vec<_>>().join(" with ")
}

impl std::fmt::Debug for Wrapper {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}
