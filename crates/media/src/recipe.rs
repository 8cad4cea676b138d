//! A recipe: what to make from one source, as settings. [`crate::plan`] turns it into a graph.

use crate::container::wrap::Wrap;
use crate::filter::audio::fade::Fade;
use crate::filter::video::{Burn, Came, Captions, Deinterlacing, Fill, Kernel, Overlay, Rect};
use crate::units::Ratio;
use serde::{Deserialize, Serialize};

/// One output. At least one of the three parts is there.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Recipe {
    /// The container; by the codecs, if it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wrap: Option<Wrap>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub video: Option<VideoRecipe>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio: Option<AudioRecipe>,
    /// A still: of a still, or one picture of a film.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub still: Option<StillRecipe>,
    /// Several pictures of a film.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pictures: Option<PicturesRecipe>,
    /// A picture of the sound.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waveform: Option<WaveRecipe>,
    /// Several sizes for players that choose by their line, with the sound of `audio`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream: Option<StreamRecipe>,
    /// Only this part of the source.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<Part>,
    /// A word on the file that stands in its own metadata.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StreamRecipe {
    /// Length of a segment.
    pub segment_ms: u32,
    /// From the largest on.
    pub rungs: Vec<Rung>,
    /// Captions that came with the source, which go along: their language (ISO 639), and they themselves.
    #[serde(skip)]
    pub captions: Option<(String, Came)>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Rung {
    pub fit: (u32, u32),
    /// Bits a second on average.
    pub bits: u32,
}

impl Recipe {
    /// It takes tracks as they are.
    pub fn copies(&self) -> bool {
        let video = self.video.as_ref().is_some_and(|v| v.codec == VideoCodec::Copy);
        video || self.audio.as_ref().is_some_and(|a| a.codec == AudioCodec::Copy)
    }

    /// All files that it needs: whoever may read them puts their bytes in.
    pub fn needed(&mut self) -> impl Iterator<Item = &mut Needed> {
        let video = self.video.iter_mut();
        video.flat_map(|v| v.look.iter_mut().chain(v.overlays.iter_mut().map(|o| &mut o.picture)))
    }

    /// All writing that is burnt in or set above pictures: whoever has the fields of a file puts them in.
    pub fn texts(&mut self) -> impl Iterator<Item = &mut String> {
        let burns = self.video.iter_mut().flat_map(|v| &mut v.burn).map(|b| &mut b.text);
        let pictures = self.pictures.iter_mut().flat_map(|p| {
            let title = match &mut p.kind {
                PicturesKind::Sheet { title, .. } => Some(title),
                _ => None,
            };
            p.burn.iter_mut().map(|b| &mut b.text).chain(title)
        });
        burns.chain(pictures)
    }
}

fn is_none(v: &u32) -> bool {
    *v == 0
}

/// A file that a recipe needs: its name as the settings have it, and its bytes once whoever may read it did.
#[derive(Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Needed {
    pub file: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty", with = "as_text")]
    pub bytes: Vec<u8>,
}

impl std::fmt::Debug for Needed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ({} bytes)", self.file, self.bytes.len())
    }
}

impl Needed {
    pub const MOST_BYTES: u64 = 40_000_000;
}

/// Bytes as base 64 (RFC 4648).
mod as_text {
    use base64::prelude::{BASE64_STANDARD, Engine};
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub fn serialize<S: Serializer>(bytes: &[u8], s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(&BASE64_STANDARD.encode(bytes))
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<Vec<u8>, D::Error> {
        BASE64_STANDARD.decode(String::deserialize(d)?).map_err(D::Error::custom)
    }
}

/// From a moment of the source to another.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Part {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Moment>,
}

/// A moment of a source.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Moment {
    /// Milliseconds from its beginning.
    Ms(u64),
    /// `hh:mm:ss:ff`, or with `;` before the frames for drop frame, as its timecode track counts (from 0 without one).
    Timecode(String),
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct VideoRecipe {
    #[serde(default)]
    pub codec: VideoCodec,
    /// Largest size; the shape is kept and nothing is enlarged. 0 leaves a side free.
    pub fit: (u32, u32),
    /// What becomes of a picture whose shape is not that of `fit`.
    #[serde(default)]
    pub framing: Framing,
    pub rate: BitRecipe,
    /// Milliseconds from one key picture to the next, at most.
    pub key_every_ms: u32,
    /// Frames a second; the source's, if it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub frame_rate: Option<Ratio>,
    #[serde(default)]
    pub deinterlace: Deinterlace,
    /// A part of the source's picture.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub crop: Option<Rect>,
    /// Black bars at the sides are found and taken off: by [`crate::run::bars`], before the plan is made.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub bars: bool,
    /// Pictures between two of the source are mixtures of both.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub blend: bool,
    /// So many times as fast, in thousandths; without sound.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pace: Option<u32>,
    /// In thousandths of the strongest.
    #[serde(default, skip_serializing_if = "is_none")]
    pub denoise: u32,
    #[serde(default, skip_serializing_if = "is_none")]
    pub sharpen: u32,
    /// Where bits are lost, smooth parts stay smooth.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub dither: bool,
    #[serde(default)]
    pub fade: Fade,
    /// Colours are brought to ITU-R BT.709.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub to_hd: bool,
    /// A table of colours (`.cube`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub look: Option<Needed>,
    /// Captions that came with the source, in the picture.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub captions: Option<Captions>,
    /// Pictures laid over.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub overlays: Vec<Overlay>,
    #[serde(default)]
    pub kernel: Kernel,
    /// Pixels stay in their shape where nothing asks for a size: nothing is scaled.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_pixels: bool,
    /// Words in the picture.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub burn: Vec<Burn>,
    #[serde(default, skip_serializing_if = "Alpha::is_usual")]
    pub alpha: Alpha,
}

impl Default for VideoRecipe {
    fn default() -> VideoRecipe {
        VideoRecipe {
            codec: VideoCodec::H264,
            fit: (0, 0),
            framing: Framing::Within,
            rate: BitRecipe::Quantiser(24),
            key_every_ms: 2000,
            frame_rate: None,
            deinterlace: Deinterlace::default(),
            crop: None,
            bars: false,
            blend: false,
            pace: None,
            denoise: 0,
            sharpen: 0,
            dither: false,
            fade: Fade::default(),
            to_hd: false,
            look: None,
            captions: None,
            overlays: Vec::new(),
            kernel: Kernel::default(),
            keep_pixels: false,
            burn: Vec::new(),
            alpha: Alpha::default(),
        }
    }
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum VideoCodec {
    #[default]
    H264,
    Vp9,
    /// 8 bits.
    Av1,
    /// 10 bits.
    Av1Ten,
    /// Every picture by itself, 8-bit 4:2:2.
    MotionJpeg,
    /// Uncompressed, 10-bit 4:2:2.
    V210,
    /// Every picture by itself, without loss.
    Ffv1,
    /// Uncompressed, in the source's own form.
    Planes,
    /// The source's packets as they are.
    Copy,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Framing {
    /// As large as it is, or smaller: nothing is added.
    #[default]
    Within,
    /// The whole picture, enlarged or made smaller to fit, in a frame of exactly this size.
    Pad(Fill),
    /// The frame is filled, and what is too much is cropped.
    Crop,
    /// Stretched to exactly this size.
    Stretch,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Deinterlace {
    /// Where the source says that it has fields.
    #[default]
    Auto,
    Never,
    Always(Deinterlacing),
    /// The fields are those of film (2:3 pulldown), whose pictures are wanted.
    Film,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum BitRecipe {
    /// The same quantiser for every picture, on H.264's scale of 0 (best) to 51.
    Quantiser(u8),
    /// Bits a second on average.
    Average(u32),
    /// All of it about as good as each other, from 1 to 100 (best).
    Quality(u8),
    /// Either of the last two, with more about it.
    Steered(Steered),
}

/// Bits or a quality, kept under a limit or shared out over a film that is gone through before.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Steered {
    /// Bits a second on average; a quality, if it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub average: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quality: Option<u8>,
    /// No more bits than these a second, but for what a bucket holds that so much time fills.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<Most>,
    /// The film is gone through before.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub twice: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Most {
    pub bits: u32,
    pub buffer_ms: u32,
}

impl BitRecipe {
    /// A quality that is not said.
    pub const USUAL_QUALITY: u8 = 60;

    /// For encoders that know no more.
    pub fn plain(self) -> Plain {
        match self {
            BitRecipe::Quantiser(q) => Plain::Quantiser(q),
            BitRecipe::Quality(quality) => Plain::Quantiser(quantiser_of(quality)),
            BitRecipe::Average(bits) | BitRecipe::Steered(Steered { average: Some(bits), .. }) => {
                Plain::Bits(bits)
            }
            BitRecipe::Steered(Steered { quality, .. }) => {
                Plain::Quantiser(quantiser_of(quality.unwrap_or(BitRecipe::USUAL_QUALITY)))
            }
        }
    }

    /// The film must be gone through before.
    pub fn is_twice(self) -> bool {
        matches!(self, BitRecipe::Steered(Steered { twice: true, average: Some(_), .. }))
    }
}

/// The plain part of a [`BitRecipe`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Plain {
    /// On H.264's scale.
    Quantiser(u8),
    /// A second.
    Bits(u32),
}

/// The quantiser of usual pictures for a quality of 1 to 100: from 51 to 10.
pub fn quantiser_of(quality: u8) -> u8 {
    51 - (u16::from(quality.clamp(1, 100)) * 41 / 100) as u8
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AudioRecipe {
    #[serde(default)]
    pub codec: AudioCodec,
    /// Bits a second for each sound track.
    pub bits: u32,
    /// Most channels a track keeps.
    pub channels: u16,
    /// Samples a second; the source's if the codec has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<u32>,
    /// Loudness that the sound is brought to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub loudness: Option<Loudness>,
    /// It is heard so many milliseconds later, or with less than 0 earlier.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub delay_ms: i64,
    /// Decibels more or less, before anything else.
    #[serde(default)]
    pub gain: f64,
    /// Quiet and loud brought closer.
    #[serde(default)]
    pub even: bool,
    #[serde(default)]
    pub fade: Fade,
    /// A source without sound gets a silent track.
    #[serde(default)]
    pub silence: bool,
    /// Every channel is a file of its own.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub split: bool,
}

fn is_zero(n: &i64) -> bool {
    *n == 0
}

impl Default for AudioRecipe {
    fn default() -> AudioRecipe {
        AudioRecipe {
            codec: AudioCodec::Aac,
            bits: 128_000,
            channels: 2,
            rate: None,
            delay_ms: 0,
            loudness: None,
            gain: 0.0,
            even: false,
            fade: Fade::default(),
            silence: false,
            split: false,
        }
    }
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum AudioCodec {
    #[default]
    Aac,
    Opus,
    Mp3,
    /// Whole numbers of 16 or 24 bits, packed without loss.
    Flac16,
    Flac24,
    Pcm16,
    Pcm24,
    /// The source's packets as they are.
    Copy,
}

/// Of the whole programme, as EBU R 128 measures it.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Loudness {
    /// LUFS.
    pub target: f64,
    /// Highest true peak, in dBTP.
    pub peak: f64,
}

impl Loudness {
    pub const MIN_TARGET: f64 = -40.0;
    pub const MAX_TARGET: f64 = -5.0;
    pub const MIN_PEAK: f64 = -20.0;
    pub const MAX_PEAK: f64 = 0.0;
}

impl AudioRecipe {
    pub const MIN_BITS: u32 = 16_000;
    pub const MAX_BITS: u32 = 512_000;
    /// Decibels, up or down.
    pub const MAX_GAIN: f64 = 40.0;
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StillRecipe {
    pub fit: (u32, u32),
    pub format: StillChoice,
    #[serde(default, skip_serializing_if = "Alpha::is_usual")]
    pub alpha: Alpha,
    /// Which picture of a film; one that tells most, if it is not said.
    #[serde(default, alias = "at_ms", skip_serializing_if = "Option::is_none")]
    pub at: Option<Moment>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PicturesRecipe {
    pub kind: PicturesKind,
    /// Largest size of one picture.
    pub fit: (u32, u32),
    pub format: StillChoice,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub burn: Vec<Burn>,
    #[serde(default, skip_serializing_if = "Alpha::is_usual")]
    pub alpha: Alpha,
}

/// What becomes of pictures that can be seen through.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Alpha {
    #[serde(default)]
    pub way: AlphaWay,
    /// Red, green and blue that are seen behind.
    #[serde(default)]
    pub ground: [u8; 3],
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum AlphaWay {
    /// Kept where what is made can hold it, and filled where not.
    #[default]
    Keep,
    /// The ground is seen behind.
    Fill,
    /// Colours as they are, whatever could be seen through.
    Drop,
}

impl Alpha {
    pub(crate) fn is_usual(&self) -> bool {
        *self == Alpha::default()
    }

    /// What it becomes in what can or cannot hold it: nothing at all, or it is laid over a ground (`None`: it is left out).
    pub fn flat(self, holds: bool) -> Option<Option<[u8; 3]>> {
        match self.way {
            AlphaWay::Keep if holds => None,
            AlphaWay::Keep | AlphaWay::Fill => Some(Some(self.ground)),
            AlphaWay::Drop => Some(None),
        }
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PicturesKind {
    /// Pictures of the whole film on one sheet, with a title above them.
    Sheet { columns: u32, rows: u32, title: String },
    /// A file for each picture, or for one every so often.
    Run { every_ms: Option<u64> },
    /// Sheets of small pictures with an index of their times, for players.
    Strip { every_ms: u64, columns: u32, rows: u32 },
    /// A moving picture of several pieces of the film.
    Preview {
        pieces: u32,
        piece_ms: u64,
        rate: u32,
        #[serde(default)]
        form: Moving,
    },
}

/// What a moving picture is written as.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Moving {
    #[default]
    Gif,
    /// With a quality of 1 to 100.
    Webp(u8),
}

impl Moving {
    pub fn extension(self) -> &'static str {
        match self {
            Moving::Gif => "gif",
            Moving::Webp(_) => "webp",
        }
    }
}

impl PicturesKind {
    pub const MOST_CELLS: u32 = 400;

    /// It is several files.
    pub fn is_folder(&self) -> bool {
        matches!(self, PicturesKind::Run { .. } | PicturesKind::Strip { .. })
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct WaveRecipe {
    pub width: u32,
    pub height: u32,
    /// Red, green, blue of the wave and of what is behind it.
    pub colour: [u8; 3],
    pub ground: [u8; 3],
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum StillChoice {
    /// JPEG with a quality of 1 to 100.
    Jpeg(u8),
    Png,
    Png16,
    Tiff,
    Tiff16,
    /// Without loss.
    Webp,
    /// With a quality of 1 to 100.
    WebpLossy(u8),
    /// AV1 with a quality of 1 to 100.
    Avif(u8),
    /// The same in 10 bits.
    Avif10(u8),
    /// 10 bits.
    Dpx,
    /// Linear light.
    Exr,
}
