//! Codecs behind four traits. Decoders know packets and frames, never containers.
//!
//! To add one: a file or folder here that implements a trait, and a line in [`video_decoder`] or
//! [`audio_decoder`]. This is the only place where `unsafe` may stand.

pub mod aac;
pub mod av1;
#[cfg(feature = "testkit")]
pub mod bare;
pub mod flac;
pub mod gif;
pub mod h264;
pub mod hevc;
pub mod mjpeg;
pub mod mpeg_audio;
pub mod mpeg_video;
pub mod opus;
pub mod pcm;
pub mod raw;
pub mod single;
pub mod symphonia;
pub mod vorbis;
pub mod vpx;

use crate::error::{Error, Result};
use crate::frame::{AudioFrame, Colour, Fields, Pool, VideoFrame};
use crate::track::{Codec, Packet, Track};
use crate::units::Ratio;
use single::Single;

/// Packets to pictures. Pictures come in the order of presentation, some packets late.
pub trait DecodeVideo: Send {
    /// Takes one packet; pictures that became ready are appended. `Damaged` means that this packet gave
    /// nothing: go on with the next. Every other error ends decoding.
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()>;
    /// Gives what is still held back. Afterwards only packets from a key packet on may follow.
    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()>;
    /// Times (start, duration) of shown packets that will never become a picture; each is told once.
    fn take_lost(&mut self) -> Vec<(i64, i64)>;
    /// Pictures so far in which missing parts were filled from their neighbours.
    fn concealed(&self) -> u64 {
        0
    }
}

/// Packets to sound.
pub trait DecodeAudio: Send {
    /// The sound of one packet, before trimming. `Damaged`: as for pictures.
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame>;
}

/// A coded packet as an encoder gives it. Times as in [`Packet`].
#[derive(Clone, Debug, PartialEq)]
pub struct Coded {
    pub pts: i64,
    pub duration: i64,
    pub key: bool,
    pub data: Vec<u8>,
}

/// Pictures to packets.
pub trait EncodeVideo: Send {
    /// Codes a picture shown from `pts` for `duration`.
    fn encode(&mut self, frame: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()>;
    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()>;
    /// The codec's setup record for the container; known after the first packet.
    fn setup(&self) -> Vec<u8>;
}

/// Sound to packets.
pub trait EncodeAudio: Send {
    /// Interleaved samples, any number.
    fn encode(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<()>;
    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()>;
    fn setup(&self) -> Vec<u8>;
    /// Samples at the start of the decoded sound that were not in the source.
    fn priming(&self) -> u32;
}

/// What a picture encoder must be told, apart from its own options.
#[derive(Clone, Debug)]
pub struct PictureForm {
    pub width: u32,
    pub height: u32,
    pub rate: Ratio,
    pub colour: Colour,
}

/// A decoder for a picture track, or why there is none.
pub fn video_decoder(track: &Track, pool: &Pool) -> Result<Box<dyn DecodeVideo>> {
    can_decode_video(track)?;
    let Some(v) = track.video() else { return Err(no_decoder(track)) };
    let pool = pool.clone();
    Ok(match &track.codec {
        Codec::H264 => Box::new(h264::Decoder::new(&track.setup, pool)?.in_order(track.decode_times)),
        Codec::Av1 => Box::new(av1::Decoder::new(v, pool)?),
        #[cfg(vpx)]
        Codec::Vp8 | Codec::Vp9 => Box::new(vpx::Decoder::new(track.codec == Codec::Vp9, v, pool)?),
        Codec::MotionJpeg => Box::new(Single::new(mjpeg::Decoder::new(v, pool))),
        Codec::Raw(layout) => Box::new(Single::new(raw::Decoder::new(*layout, v, pool)?)),
        Codec::Gif => Box::new(Single::new(gif::Decoder::new(&track.setup, pool)?)),
        Codec::Stills => Box::new(Single::new(crate::still::run::Decoder { pool })),
        _ => return Err(no_decoder(track)),
    })
}

/// A decoder for a sound track, or why there is none.
pub fn audio_decoder(track: &Track) -> Result<Box<dyn DecodeAudio>> {
    let Some(audio) = track.audio() else {
        return Err(Error::unsupported("track", "not a sound track"));
    };
    Ok(match &track.codec {
        Codec::Aac => Box::new(aac::Decoder::new(&track.setup)?),
        Codec::Pcm(layout) => Box::new(pcm::Decoder::new(*layout, audio.rate, audio.channels)?),
        Codec::Opus => Box::new(opus::Decoder::new(&track.setup)?),
        Codec::MpegAudio(_) | Codec::Vorbis | Codec::Flac | Codec::Alac => {
            Box::new(symphonia::Decoder::new(&track.codec, &track.setup, audio.rate)?)
        }
        _ => return Err(no_decoder(track)),
    })
}

/// Why a track cannot be decoded, without starting a decoder: what facts report.
pub fn why_not(track: &Track) -> Option<String> {
    use crate::track::Media;
    let known = match &track.media {
        Media::Video(_) => can_decode_video(track),
        Media::Audio(_) => can_decode_audio(track),
        _ => Ok(()),
    };
    known.err().map(|e| e.to_string())
}

fn can_decode_audio(track: &Track) -> Result<()> {
    match &track.codec {
        Codec::Aac => aac::Config::parse(&track.setup).and_then(|c| c.refuse()),
        Codec::Pcm(layout) => pcm::check(*layout),
        Codec::Opus => opus::Head::parse(&track.setup).map(|_| ()),
        Codec::MpegAudio(_) | Codec::Vorbis | Codec::Flac | Codec::Alac => Ok(()),
        _ => Err(no_decoder(track)),
    }
}

/// Fills in what a track's first packet says and its container does not.
pub fn look_at_packet(track: &mut Track, packet: &[u8]) {
    let crate::track::Media::Video(v) = &mut track.media else { return };
    match &track.codec {
        Codec::Vp8 => vpx::look_vp8(packet, v),
        Codec::Vp9 => vpx::look_vp9(packet, v),
        Codec::Av1 => av1::look(packet, v),
        Codec::MotionJpeg => mjpeg::look(packet, v),
        Codec::Raw(r) => (v.chroma, v.depth) = (Some(r.chroma()), Some(r.depth())),
        _ => (),
    }
}

/// Says what would work instead.
fn no_decoder(track: &Track) -> Error {
    let profile = track.video().and_then(|v| v.profile.clone()).map_or(String::new(), |p| format!(" {p}"));
    let name = format!("{}{profile}", track.codec.name());
    let others = if track.audio().is_some() {
        "sound as PCM, FLAC, ALAC, AAC, MP3, Vorbis or Opus can"
    } else {
        "H.264, AV1, VP9, VP8, Motion JPEG and uncompressed pictures can"
    };
    Error::unsupported("", format!("{name} cannot be decoded; {others}"))
}

fn can_decode_video(track: &Track) -> Result<()> {
    match &track.codec {
        Codec::H264 => refuse_video(track),
        Codec::Vp8 | Codec::Vp9 if !vpx::PRESENT => Err(Error::unsupported(
            "",
            format!(
                "{} needs libvpx, which was not there when this program was built; install libvpx (its development files) and build again",
                track.codec.name()
            ),
        )),
        Codec::Av1
        | Codec::Vp8
        | Codec::Vp9
        | Codec::MotionJpeg
        | Codec::Raw(_)
        | Codec::Gif
        | Codec::Stills => Ok(()),
        _ => Err(no_decoder(track)),
    }
}

/// The chosen library decodes 8-bit progressive 4:2:0 only.
fn refuse_video(track: &Track) -> Result<()> {
    let Some(v) = track.video() else {
        return Err(Error::unsupported("track", "not a picture track"));
    };
    let mut odd = Vec::new();
    if let Some(depth) = v.depth.filter(|&d| d != 8) {
        odd.push(format!("{depth}-bit"));
    }
    match v.chroma {
        Some(crate::frame::Chroma::C422) => odd.push("4:2:2".into()),
        Some(crate::frame::Chroma::C444) => odd.push("4:4:4".into()),
        _ => (),
    }
    if v.fields != Fields::Progressive {
        odd.push("interlaced".into());
    }
    if odd.is_empty() {
        return Ok(());
    }
    Err(Error::unsupported(
        "",
        format!(
            "{} {} cannot be decoded; H.264 in 8-bit progressive 4:2:0 can, and AV1, VP9 or uncompressed pictures in any depth",
            odd.join(" "),
            track.codec.name()
        ),
    ))
}
