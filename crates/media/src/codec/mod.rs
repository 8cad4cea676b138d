//! Codecs behind four traits. Decoders know packets and frames, never containers.
//!
//! To add one: a file or folder here that implements a trait, and a row in [`rows::CODECS`] (decoders) or
//! [`coders`] (encoders). This is the only place where `unsafe` may stand.

pub mod aac;
pub mod adpcm;
pub mod amr;
pub mod av1;
pub mod av1_encode;
pub mod coders;
pub mod ffv1;
pub mod flac;
pub mod flac_encode;
pub mod gif;
pub mod gsm;
pub mod h264;
pub mod hevc;
pub mod mjpeg;
pub mod mjpeg_encode;
pub mod mp3_encode;
pub mod mpeg2;
pub mod mpeg_audio;
pub mod mpeg_video;
pub mod opus;
pub mod parts;
pub mod pcm;
pub mod prores;
#[cfg(feature = "rav1e")]
pub mod rav1e;
pub mod raw;
pub mod raw_encode;
pub mod rows;
pub mod single;
pub mod svt;
pub mod symphonia;
pub mod theora;
pub mod vorbis;
pub mod vpx;
mod waiting;
#[cfg(feature = "testkit")]
pub mod yardstick;

use crate::error::{Error, Result};
use crate::frame::{AudioFrame, Chroma, Colour, Pool, VideoFrame};
use crate::track::{Codec, Packet, Track};
use crate::units::Ratio;
use h264::control::Guide;
use rows::{Decode, Row};

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
    /// What was wrong first without an error of its own: parts were filled, or later pictures are lost by it.
    fn why(&self) -> Option<&str> {
        None
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
    /// As [`Packet::beside`].
    pub beside: Vec<u8>,
}

impl Coded {
    pub fn new(pts: i64, duration: i64, key: bool, data: Vec<u8>) -> Coded {
        Coded { pts, duration, key, data, beside: Vec::new() }
    }
}

/// Pictures to packets.
pub trait EncodeVideo: Send {
    /// Codes a picture shown from `pts` for `duration`.
    fn encode(&mut self, frame: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()>;
    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()>;
    /// The codec's setup record for the container; known after the first packet.
    fn setup(&self) -> Vec<u8>;
    /// What the encoder that goes on behind this one is to know: [`PictureForm::memory`].
    fn memory(&self) -> Vec<u8> {
        Vec::new()
    }
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
    /// How the samples lie.
    pub chroma: Chroma,
    pub depth: u8,
    /// Key pictures come at equal distances only, and at no cut: several sizes of one film have theirs together.
    pub steady_keys: bool,
    /// Where its pictures lie in a film that was gone through before.
    pub guide: Option<Guide>,
    /// What the encoder before it handed on.
    pub memory: Vec<u8>,
}

impl PictureForm {
    /// Pictures of 8-bit 4:2:0, of which nothing more is known.
    pub fn plain(width: u32, height: u32, rate: Ratio) -> PictureForm {
        PictureForm {
            width,
            height,
            rate,
            colour: Colour::default(),
            chroma: Chroma::C420,
            depth: 8,
            steady_keys: false,
            guide: None,
            memory: Vec::new(),
        }
    }
}

/// A decoder for a picture track, or why there is none.
pub fn video_decoder(track: &Track, pool: &Pool) -> Result<Box<dyn DecodeVideo>> {
    match (rows::row(&track.codec), track.video()) {
        (Some(Row { refuse, decode: Decode::Video(decode), .. }), Some(v)) => {
            refuse(track)?;
            decode(track, v, pool.clone())
        }
        _ => Err(rows::no_decoder(track)),
    }
}

/// A decoder for a sound track, or why there is none.
pub fn audio_decoder(track: &Track) -> Result<Box<dyn DecodeAudio>> {
    let Some(audio) = track.audio() else {
        return Err(Error::unsupported("track", "not a sound track"));
    };
    match rows::row(&track.codec) {
        Some(Row { decode: Decode::Audio(decode), .. }) => decode(track, audio),
        _ => Err(rows::no_decoder(track)),
    }
}

/// Why a track cannot be decoded, without starting a decoder: what facts report. Without its class, which is "not
/// supported" always.
pub fn why_not(track: &Track) -> Option<String> {
    if track.video().is_none() && track.audio().is_none() {
        return None;
    }
    let known = match rows::row(&track.codec) {
        Some(row) => (row.refuse)(track),
        None => Err(rows::no_decoder(track)),
    };
    known.err().map(|e| match e {
        Error::Unsupported(fault) => fault.to_string(),
        e => e.to_string(),
    })
}

/// Fills in what a track's first packet says and its container does not.
pub fn look_at_packet(track: &mut Track, packet: &[u8]) {
    let Some(row) = rows::row(&track.codec) else { return };
    if let crate::track::Media::Video(v) = &mut track.media {
        (row.look)(packet, &track.codec, v);
    }
}

/// What the setup record of a track says of its pictures, where the container says nothing.
pub fn describe_setup(track: &mut Track) {
    let setup = track.setup.clone();
    let crate::track::Media::Video(v) = &mut track.media else { return };
    match track.codec {
        Codec::H264 => {
            if let Ok(Some(sps)) = h264::Config::parse(&setup).and_then(|c| c.first_sps()) {
                sps.complete(v);
            }
        }
        Codec::Hevc => {
            if let Ok(c) = hevc::Config::parse(&setup) {
                c.describe(v);
            }
        }
        Codec::Av1 => av1::describe(&setup, v),
        _ => (),
    }
}

/// Gives a track whose packets are a byte stream's units its setup record from one of them; whether it had what that
/// needs.
pub fn take_setup(track: &mut Track, packet: &[u8]) -> bool {
    let crate::track::Media::Video(v) = &mut track.media else { return false };
    let setup = match track.codec {
        Codec::H264 => h264::record_of(packet).map(|config| {
            if let Ok(Some(sps)) = config.first_sps() {
                sps.complete(v);
            }
            config.write()
        }),
        Codec::Hevc => hevc::record_of(packet).map(|config| {
            config.describe(v);
            config.write()
        }),
        _ => None,
    };
    setup.map(|s| track.setup = s).is_some()
}
