//! Codecs behind four traits. Decoders know packets and frames, never containers.
//!
//! To add one: a file or folder here that implements a trait, and a line in [`video_decoder`] or
//! [`audio_decoder`]. This is the only place where `unsafe` may stand.

pub mod aac;
#[cfg(feature = "testkit")]
pub mod bare;
pub mod h264;
pub mod pcm;

use crate::error::{Error, Result};
use crate::frame::{AudioFrame, Colour, Fields, Pool, VideoFrame};
use crate::track::{Codec, Packet, Track};
use crate::units::Ratio;

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
    refuse_video(track)?;
    match &track.codec {
        Codec::H264 => Ok(Box::new(h264::Decoder::new(&track.setup, pool.clone())?)),
        other => Err(no_decoder(other)),
    }
}

/// A decoder for a sound track, or why there is none.
pub fn audio_decoder(track: &Track) -> Result<Box<dyn DecodeAudio>> {
    let Some(audio) = track.audio() else {
        return Err(Error::unsupported("track", "not a sound track"));
    };
    match &track.codec {
        Codec::Aac => Ok(Box::new(aac::Decoder::new(&track.setup)?)),
        Codec::Pcm(layout) => Ok(Box::new(pcm::Decoder::new(*layout, audio.rate, audio.channels)?)),
        other => Err(no_decoder(other)),
    }
}

/// Why a track cannot be decoded, without starting a decoder: what facts report.
pub fn why_not(track: &Track) -> Option<String> {
    use crate::track::Media;
    let known = match (&track.media, &track.codec) {
        (Media::Video(_), Codec::H264) => refuse_video(track),
        (Media::Audio(_), Codec::Aac) => aac::Config::parse(&track.setup).and_then(|c| c.refuse()),
        (Media::Audio(_), Codec::Pcm(layout)) => pcm::check(*layout),
        (Media::Video(_) | Media::Audio(_), other) => Err(no_decoder(other)),
        _ => Ok(()),
    };
    known.err().map(|e| e.to_string())
}

fn no_decoder(codec: &Codec) -> Error {
    Error::unsupported(
        "",
        format!("{} cannot be decoded; H.264 pictures with AAC or PCM sound can", codec.name()),
    )
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
        format!("{} {} cannot be decoded; 8-bit progressive 4:2:0 can", odd.join(" "), track.codec.name()),
    ))
}
