//! Decoding through symphonia.

use super::Config;
use crate::codec::DecodeAudio;
use crate::error::{Error, Result};
use crate::frame::AudioFrame;
use crate::track::Packet;
use symphonia_codec_aac::AacDecoder;
use symphonia_core::codecs::audio::{
    AudioCodecParameters, AudioDecoder, AudioDecoderOptions, well_known::CODEC_ID_AAC,
};
use symphonia_core::packet::PacketRef;
use symphonia_core::units::{Duration, Timestamp};

pub struct Decoder {
    inner: AacDecoder,
}

impl Decoder {
    pub fn new(setup: &[u8]) -> Result<Self> {
        Config::parse(setup)?.refuse()?;
        let mut params = AudioCodecParameters::new();
        params.for_codec(CODEC_ID_AAC).with_extra_data(setup.into());
        let inner = AacDecoder::try_new(&params, &AudioDecoderOptions::default())
            .map_err(|e| Error::unsupported("AAC", e.to_string()))?;
        Ok(Decoder { inner })
    }
}

impl DecodeAudio for Decoder {
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame> {
        let borrowed = PacketRef::new(0, Timestamp::new(0), Duration::new(1024), &packet.data);
        let sound = self.inner.decode_ref(&borrowed).map_err(|e| Error::damaged("AAC", e.to_string()))?;
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
