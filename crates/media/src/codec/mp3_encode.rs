//! MP3 (ISO/IEC 11172-3, layer III). The encoder is LAME (LGPL), through mp3lame-encoder.

use super::{Coded, EncodeAudio};
use crate::error::{Error, Result};
use mp3lame_encoder::{Bitrate, Builder, Encoder as Lame, FlushGap, InterleavedPcm, MonoPcm, Quality};

/// Samples of each channel in a packet that is written.
pub const FRAME: u32 = 1152;

pub static RATES: [u32; 9] = [8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000];

/// kbit/s that there are.
const STEPS: &[(u32, Bitrate)] = &[
    (32, Bitrate::Kbps32),
    (40, Bitrate::Kbps40),
    (48, Bitrate::Kbps48),
    (64, Bitrate::Kbps64),
    (80, Bitrate::Kbps80),
    (96, Bitrate::Kbps96),
    (112, Bitrate::Kbps112),
    (128, Bitrate::Kbps128),
    (160, Bitrate::Kbps160),
    (192, Bitrate::Kbps192),
    (224, Bitrate::Kbps224),
    (256, Bitrate::Kbps256),
    (320, Bitrate::Kbps320),
];

pub struct Encoder {
    lame: Lame,
    channels: usize,
    taken: i64,
    given: i64,
}

fn wrong(e: impl std::fmt::Display) -> Error {
    Error::setting("MP3", e.to_string())
}

impl Encoder {
    /// With the highest rate there is that is not over `bits` a second.
    pub fn new(rate: u32, channels: u16, bits: u32) -> Result<Encoder> {
        let step = STEPS.iter().rev().find(|(kbits, _)| kbits * 1000 <= bits).unwrap_or(&STEPS[0]).1;
        let lame = Builder::new()
            .ok_or_else(|| Error::limit("MP3", "the encoder has no memory"))?
            .with_num_channels(channels as u8)
            .and_then(|b| b.with_sample_rate(rate))
            .and_then(|b| b.with_output_sample_rate(std::num::NonZeroU32::new(rate)))
            .and_then(|b| b.with_brate(step))
            .and_then(|b| b.with_quality(Quality::Good))
            .and_then(|b| b.with_to_write_vbr_tag(true))
            .and_then(Builder::build)
            .map_err(wrong)?;
        Ok(Encoder { lame, channels: channels.into(), taken: 0, given: 0 })
    }

    fn give(&mut self, data: Vec<u8>, out: &mut Vec<Coded>) {
        if !data.is_empty() {
            out.push(Coded::new(self.given, self.taken - self.given, true, data));
            self.given = self.taken;
        }
    }
}

impl EncodeAudio for Encoder {
    fn encode(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<()> {
        let frames = samples.len() / self.channels;
        // As much as the encoder's own documents ask for.
        let mut data = Vec::with_capacity(frames * 5 / 4 + 7200);
        match self.channels {
            1 => self.lame.encode_to_vec(MonoPcm(samples), &mut data),
            _ => self.lame.encode_to_vec(InterleavedPcm(samples), &mut data),
        }
        .map_err(wrong)?;
        self.taken += frames as i64;
        self.give(data, out);
        Ok(())
    }

    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        let mut data = Vec::with_capacity(7200);
        self.lame.flush_to_vec::<FlushGap>(&mut data).map_err(wrong)?;
        self.give(data, out);
        Ok(())
    }

    /// The first frame, which says how many there are and what of them is heard: it is known at the end.
    fn setup(&self) -> Vec<u8> {
        let mut frame = Vec::with_capacity(self.lame.lame_tag_size());
        self.lame.lame_tag_encode_to_vec(&mut frame);
        frame
    }

    fn priming(&self) -> u32 {
        0
    }
}
