//! Sound decoders of the symphonia family behind our trait.

use super::DecodeAudio;
use crate::error::{Error, Result, SPOILT};
use crate::frame::AudioFrame;
use crate::track::{Codec, Packet};
use symphonia_core::codecs::audio::well_known::{
    CODEC_ID_AAC, CODEC_ID_ALAC, CODEC_ID_FLAC, CODEC_ID_MP1, CODEC_ID_MP2, CODEC_ID_MP3, CODEC_ID_VORBIS,
};
use symphonia_core::codecs::audio::{AudioCodecParameters, AudioDecoder, AudioDecoderOptions};
use symphonia_core::packet::PacketRef;
use symphonia_core::units::{Duration, Timestamp};

pub struct Decoder {
    inner: Box<dyn AudioDecoder>,
    name: String,
}

/// Values that no encoder writes make some of these decoders end where that is checked for: what they were given is
/// then damaged like anything else.
fn guarded<T>(name: &str, work: impl FnOnce() -> T) -> Result<T> {
    crate::guard::catch(work).ok_or_else(|| Error::damaged(name, "values that no encoder writes"))
}

impl Decoder {
    pub fn new(codec: &Codec, setup: &[u8], rate: u32) -> Result<Self> {
        let name = codec.name();
        let inner = guarded(&name, || Self::make(codec, setup, rate))??;
        Ok(Decoder { inner, name })
    }

    fn make(codec: &Codec, setup: &[u8], rate: u32) -> Result<Box<dyn AudioDecoder>> {
        let name = codec.name();
        let refused = |_: symphonia_core::errors::Error| {
            Error::unsupported(name.clone(), "a form of it that cannot be decoded")
        };
        let mut params = AudioCodecParameters::new();
        let options = AudioDecoderOptions::default();
        Ok(match codec {
            Codec::Aac => {
                params.for_codec(CODEC_ID_AAC).with_extra_data(setup.into());
                Box::new(symphonia_codec_aac::AacDecoder::try_new(&params, &options).map_err(refused)?)
            }
            Codec::MpegAudio(layer) => {
                params.for_codec(
                    [CODEC_ID_MP1, CODEC_ID_MP2, CODEC_ID_MP3][usize::from(layer.clamp(&1, &3) - 1)],
                );
                params.with_sample_rate(rate);
                Box::new(symphonia_bundle_mp3::MpaDecoder::try_new(&params, &options).map_err(refused)?)
            }
            Codec::Vorbis => {
                let [ident, _, tables] = super::vorbis::headers(setup)
                    .ok_or_else(|| Error::damaged("Vorbis setup", "its three headers are not all there"))?;
                params.for_codec(CODEC_ID_VORBIS).with_extra_data([ident, tables].concat().into());
                Box::new(symphonia_codec_vorbis::VorbisDecoder::try_new(&params, &options).map_err(refused)?)
            }
            Codec::Flac => {
                params.for_codec(CODEC_ID_FLAC).with_extra_data(setup.into());
                Box::new(symphonia_bundle_flac::FlacDecoder::try_new(&params, &options).map_err(refused)?)
            }
            Codec::Alac => {
                params.for_codec(CODEC_ID_ALAC).with_extra_data(setup.into());
                Box::new(symphonia_codec_alac::AlacDecoder::try_new(&params, &options).map_err(refused)?)
            }
            other => return Err(Error::unsupported("", format!("{} is not decoded here", other.name()))),
        })
    }
}

impl DecodeAudio for Decoder {
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame> {
        let borrowed = PacketRef::new(0, Timestamp::new(0), Duration::new(0), &packet.data);
        let inner = &mut self.inner;
        let decoded = guarded(&self.name, || inner.decode_ref(&borrowed).map(|_| ()));
        match decoded {
            Ok(decoded) => decoded.map_err(|_| Error::damaged(self.name.clone(), SPOILT))?,
            Err(e) => {
                self.inner.reset();
                return Err(e);
            }
        }
        let sound = self.inner.last_decoded();
        let spec = sound.spec();
        let mut frame = AudioFrame {
            rate: spec.rate(),
            channels: spec.channels().count() as u16,
            pts: packet.pts,
            samples: Vec::new(),
        };
        sound.copy_to_vec_interleaved(&mut frame.samples);
        Ok(frame)
    }
}
