//! Decoding: low complexity of one or two channels through symphonia, the rest through fdk-aac.

use super::Config;
use crate::codec::{DecodeAudio, symphonia};
use crate::error::{Error, Result};
use crate::frame::AudioFrame;
use crate::track::{Codec, Packet};
use fdk_aac::dec::{Decoder as Library, DecoderError, Transport};

pub enum Decoder {
    Plain(symphonia::Decoder),
    Full(Full),
}

impl Decoder {
    pub fn new(setup: &[u8]) -> Result<Self> {
        let config = Config::parse(setup)?;
        config.refuse()?;
        if config.plain() {
            return Ok(Decoder::Plain(symphonia::Decoder::new(&Codec::Aac, setup, config.rate)?));
        }
        let mut library = Library::new(Transport::Raw);
        library.config_raw(setup).map_err(|e| Error::unsupported("AAC setup", e.message()))?;
        // By itself the library makes two channels of one (parametric stereo may come), and six of eight.
        let most = config.channels.filter(|n| *n <= 2).unwrap_or(8);
        library
            .set_max_output_channels(most.into())
            .map_err(|e| Error::unsupported("AAC setup", e.message()))?;
        Ok(Decoder::Full(Full { library, rate: config.rate }))
    }
}

/// Any number of channels, replicated bands and parametric stereo.
pub struct Full {
    library: Library,
    rate: u32,
}

/// Eight channels of the longest frame.
const MAX_SAMPLES: usize = 8 * 2048;

impl DecodeAudio for Decoder {
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame> {
        let full = match self {
            Decoder::Plain(d) => return d.decode(packet),
            Decoder::Full(d) => d,
        };
        let bad = |e: DecoderError| Error::damaged("AAC", e.message());
        full.library.fill(&packet.data).map_err(bad)?;
        let mut pcm = vec![0i16; MAX_SAMPLES];
        full.library.decode_frame(&mut pcm).map_err(bad)?;
        let info = full.library.stream_info();
        let channels = u16::try_from(info.numChannels).unwrap_or(0);
        let n = full.library.decoded_frame_size();
        let rate = u32::try_from(info.sampleRate).unwrap_or(full.rate);
        if channels == 0 || n == 0 || n > MAX_SAMPLES {
            return Err(Error::damaged("AAC", "a packet without sound"));
        }
        let samples = pcm[..n].iter().map(|&v| f32::from(v) / 32_768.0).collect();
        Ok(AudioFrame { rate, channels, pts: packet.pts, samples })
    }
}
