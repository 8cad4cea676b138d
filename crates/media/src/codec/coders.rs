//! The table of encoders: one row says what an encoder takes and how it is begun. To add one: a file here that implements
//! [`EncodeVideo`] or [`EncodeAudio`], a name in the recipe, and a row.

use super::h264::control::Aim;
use super::{
    EncodeAudio, EncodeVideo, PictureForm, aac, av1_encode, ffv1, flac_encode, h264, mjpeg_encode,
    mp3_encode, opus, pcm, raw_encode, vpx,
};
use crate::error::{Error, Result};
use crate::filter::video::Wanted;
use crate::frame::Chroma;
use crate::recipe::{AudioCodec, BitRecipe, VideoCodec};
use crate::track::{Codec, Packing, PcmKind, PcmLayout, RawPicture};

/// An encoder of pictures.
pub struct VideoCoder {
    pub codec: VideoCodec,
    pub name: &'static str,
    /// What a track of it holds.
    pub coded: Codec,
    /// Smallest side, and whether sides must be even.
    pub least: u32,
    pub even: bool,
    /// The form of the pictures that it takes.
    pub takes: Takes,
    /// It codes what can be seen through as well, with its coverage.
    pub coverage: bool,
    /// What bits it can be given.
    pub rates: Rates,
    /// Why it is not there in this program.
    pub missing: Option<&'static str>,
    pub open: fn(&PictureForm, BitRecipe, u32) -> Result<Box<dyn EncodeVideo>>,
}

impl VideoCoder {
    /// What pictures of such a form are brought to before; `None`: they are taken as they are.
    pub fn wants(&self, chroma: Chroma) -> Option<Wanted> {
        match self.takes {
            Takes::One(wanted) if !(self.coverage && chroma == Chroma::Rgba) => Some(wanted),
            _ => None,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Takes {
    One(Wanted),
    /// The source's own, whatever it is: nothing is lost.
    Any,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rates {
    /// Limits and a film that is gone through before, too.
    All,
    QuantiserOrBits,
    Quantiser,
    /// It has its own.
    None,
}

/// An encoder of sound.
pub struct AudioCoder {
    pub codec: AudioCodec,
    pub name: &'static str,
    pub coded: Codec,
    /// Samples a second that it takes; empty for all.
    pub rates: &'static [u32],
    pub most_channels: u16,
    /// Samples of each channel in a packet.
    pub frame: u32,
    /// Bits a second for a pair of channels mean something to it.
    pub has_bits: bool,
    /// It is coded in parts that go together where this is so of the packets of two encoders.
    pub parts: Option<Joint>,
    pub open: fn(&SoundForm) -> Result<Box<dyn EncodeAudio>>,
}

/// Whether two encoders mean the same by a packet, as far as the one in front of it matters.
pub type Joint = fn(&[u8], &[u8]) -> bool;

/// What a sound encoder must be told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SoundForm {
    pub rate: u32,
    pub channels: u16,
    /// Bits a second for all channels together.
    pub bits: u32,
}

pub static VIDEO_CODERS: &[VideoCoder] = &[
    VideoCoder {
        codec: VideoCodec::H264,
        name: "H.264",
        coded: Codec::H264,
        least: crate::limits::MIN_ENCODED_SIDE,
        even: true,
        takes: Takes::One(Wanted::PLAIN),
        coverage: false,
        rates: Rates::All,
        missing: None,
        open: |form, rate, key_every| {
            let quality = |q: Option<u8>| Aim::Quality(q.unwrap_or(BitRecipe::USUAL_QUALITY));
            let rate = match rate {
                BitRecipe::Quantiser(q) => h264::Rate::Quantiser(q),
                BitRecipe::Average(b) => h264::Rate::Aimed(Aim::Average(b), None),
                BitRecipe::Quality(q) => h264::Rate::Aimed(quality(Some(q)), None),
                BitRecipe::Steered(s) => {
                    h264::Rate::Aimed(s.average.map_or_else(|| quality(s.quality), Aim::Average), s.most)
                }
            };
            Ok(Box::new(h264::Encoder::new(form, rate, key_every)?))
        },
    },
    VideoCoder {
        codec: VideoCodec::Vp9,
        name: "VP9",
        coded: Codec::Vp9,
        least: 2,
        even: true,
        takes: Takes::One(Wanted::PLAIN),
        coverage: true,
        rates: Rates::QuantiserOrBits,
        missing: if vpx::PRESENT {
            None
        } else {
            Some("VP9 is made by libvpx, which was not there when this program was built")
        },
        open: vpx::encoder,
    },
    VideoCoder {
        codec: VideoCodec::Av1,
        name: "AV1",
        coded: Codec::Av1,
        least: av1_encode::LEAST,
        even: true,
        takes: Takes::One(Wanted::PLAIN),
        coverage: false,
        rates: Rates::QuantiserOrBits,
        missing: av1_encode::MISSING,
        open: av1_encode::encoder,
    },
    VideoCoder {
        codec: VideoCodec::Av1Ten,
        name: "AV1 of 10 bits",
        coded: Codec::Av1,
        least: av1_encode::LEAST,
        even: true,
        takes: Takes::One(Wanted { depth: 10, ..Wanted::PLAIN }),
        coverage: false,
        rates: Rates::QuantiserOrBits,
        missing: av1_encode::MISSING,
        open: av1_encode::encoder,
    },
    VideoCoder {
        codec: VideoCodec::MotionJpeg,
        name: "Motion JPEG",
        coded: Codec::MotionJpeg,
        least: 2,
        even: true,
        takes: Takes::One(Wanted::JPEG),
        coverage: false,
        rates: Rates::Quantiser,
        missing: None,
        open: |form, rate, _| Ok(Box::new(mjpeg_encode::Encoder::new(form, rate)?)),
    },
    VideoCoder {
        codec: VideoCodec::V210,
        name: "uncompressed 10-bit 4:2:2",
        coded: Codec::Raw(RawPicture { packing: Packing::V210, bottom_up: false, align: 1 }),
        least: 2,
        even: true,
        takes: Takes::One(Wanted::TEN_BITS),
        coverage: false,
        rates: Rates::None,
        missing: None,
        open: |form, _, _| Ok(Box::new(raw_encode::V210::new(form))),
    },
    VideoCoder {
        codec: VideoCodec::Ffv1,
        name: "FFV1",
        coded: Codec::Ffv1,
        least: 1,
        even: false,
        takes: Takes::Any,
        coverage: true,
        rates: Rates::None,
        missing: None,
        open: |form, _, _| Ok(Box::new(ffv1::Encoder::new(form)?)),
    },
    VideoCoder {
        codec: VideoCodec::Planes,
        name: "uncompressed planes",
        coded: Codec::Raw(RawPicture {
            packing: Packing::Planar { chroma: Chroma::C420, depth: 8, red_first: false },
            bottom_up: false,
            align: 1,
        }),
        least: 1,
        even: false,
        takes: Takes::Any,
        coverage: false,
        rates: Rates::None,
        missing: None,
        open: |form, _, _| Ok(Box::new(raw_encode::Planes::new(form)?)),
    },
];

const fn pcm_layout(bits: u8) -> Codec {
    Codec::Pcm(PcmLayout { bits, bytes: bits / 8, big_endian: false, kind: PcmKind::Signed })
}

pub static AUDIO_CODERS: &[AudioCoder] = &[
    AudioCoder {
        codec: AudioCodec::Aac,
        name: "AAC",
        coded: Codec::Aac,
        rates: &aac::RATES,
        most_channels: 2,
        frame: aac::FRAME as u32,
        has_bits: true,
        parts: Some(aac::same_windows),
        open: |f| Ok(Box::new(aac::Encoder::new(f.rate, f.channels, f.bits)?)),
    },
    AudioCoder {
        codec: AudioCodec::Opus,
        name: "Opus",
        coded: Codec::Opus,
        rates: &[48_000],
        most_channels: 2,
        frame: opus::FRAME,
        has_bits: true,
        parts: None,
        open: |f| Ok(Box::new(opus::Encoder::new(f.channels, f.bits)?)),
    },
    AudioCoder {
        codec: AudioCodec::Mp3,
        name: "MP3",
        coded: Codec::MpegAudio(3),
        rates: &mp3_encode::RATES,
        most_channels: 2,
        frame: mp3_encode::FRAME,
        has_bits: true,
        parts: None,
        open: |f| Ok(Box::new(mp3_encode::Encoder::new(f.rate, f.channels, f.bits)?)),
    },
    AudioCoder {
        codec: AudioCodec::Flac16,
        name: "FLAC 16-bit",
        coded: Codec::Flac,
        rates: &[],
        most_channels: 8,
        frame: flac_encode::FRAME,
        has_bits: false,
        parts: None,
        open: |f| Ok(Box::new(flac_encode::Encoder::new(16, f.rate, f.channels)?)),
    },
    AudioCoder {
        codec: AudioCodec::Flac24,
        name: "FLAC 24-bit",
        coded: Codec::Flac,
        rates: &[],
        most_channels: 8,
        frame: flac_encode::FRAME,
        has_bits: false,
        parts: None,
        open: |f| Ok(Box::new(flac_encode::Encoder::new(24, f.rate, f.channels)?)),
    },
    AudioCoder {
        codec: AudioCodec::Pcm16,
        name: "PCM 16-bit",
        coded: pcm_layout(16),
        rates: &[],
        most_channels: 64,
        frame: pcm::FRAME,
        has_bits: false,
        parts: None,
        open: |f| Ok(Box::new(pcm::Encoder::new(16, f.channels))),
    },
    AudioCoder {
        codec: AudioCodec::Pcm24,
        name: "PCM 24-bit",
        coded: pcm_layout(24),
        rates: &[],
        most_channels: 64,
        frame: pcm::FRAME,
        has_bits: false,
        parts: None,
        open: |f| Ok(Box::new(pcm::Encoder::new(24, f.channels))),
    },
];

pub fn video(codec: VideoCodec) -> Result<&'static VideoCoder> {
    let found = VIDEO_CODERS.iter().find(|c| c.codec == codec);
    let coder = found.ok_or_else(|| Error::unsupported("", format!("{codec:?} is not made here")))?;
    match coder.missing {
        Some(why) => Err(Error::unsupported("", why)),
        None => Ok(coder),
    }
}

pub fn audio(codec: AudioCodec) -> Result<&'static AudioCoder> {
    let found = AUDIO_CODERS.iter().find(|c| c.codec == codec);
    found.ok_or_else(|| Error::unsupported("", format!("{codec:?} is not made here")))
}

impl AudioCoder {
    /// The rate that a sound of `rate` is made in, if nothing else is asked for.
    pub fn rate_for(&self, rate: u32) -> u32 {
        if self.rates.is_empty() || self.rates.contains(&rate) { rate } else { 48_000 }
    }
}

impl std::fmt::Debug for VideoCoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

impl std::fmt::Debug for AudioCoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}
