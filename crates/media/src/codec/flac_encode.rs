//! FLAC (RFC 9639). The arithmetic is flacenc's; here samples become whole numbers and frames become packets.

use super::{Coded, EncodeAudio};
use crate::error::{Error, Result};
use flacenc::bitsink::ByteSink;
use flacenc::component::{BitRepr, StreamInfo};
use flacenc::config;
use flacenc::error::{Verified, Verify};
use flacenc::source::{Context, Fill, FrameBuf};

/// Samples of each channel in a frame.
pub const FRAME: u32 = 4096;

pub struct Encoder {
    config: Verified<config::Encoder>,
    info: StreamInfo,
    context: Context,
    bits: u8,
    channels: usize,
    waiting: Vec<i32>,
    frames: usize,
    given: i64,
    sizes: (usize, usize),
}

fn wrong(e: impl std::fmt::Display) -> Error {
    Error::setting("FLAC", e.to_string())
}

impl Encoder {
    /// `bits`: 16 or 24.
    pub fn new(bits: u8, rate: u32, channels: u16) -> Result<Encoder> {
        let config = config::Encoder::default().into_verified().map_err(|(_, e)| wrong(e))?;
        let mut info = StreamInfo::new(rate as usize, channels.into(), bits.into()).map_err(wrong)?;
        info.set_block_sizes(FRAME as usize, FRAME as usize).map_err(wrong)?;
        Ok(Encoder {
            config,
            info,
            context: Context::new(bits.into(), channels.into()),
            bits,
            channels: channels.into(),
            waiting: Vec::new(),
            frames: 0,
            given: 0,
            sizes: (usize::MAX, 0),
        })
    }

    fn give(&mut self, samples: usize, out: &mut Vec<Coded>) -> Result<()> {
        let part: Vec<i32> = self.waiting.drain(..samples * self.channels).collect();
        let mut frame = FrameBuf::with_size(self.channels, samples).map_err(wrong)?;
        frame.fill_interleaved(&part).map_err(wrong)?;
        self.context.fill_interleaved(&part).map_err(wrong)?;
        let frame =
            flacenc::encode_fixed_size_frame(&self.config, &frame, self.frames, &self.info).map_err(wrong)?;
        let mut sink = ByteSink::new();
        frame.write(&mut sink).map_err(wrong)?;
        let data = sink.into_inner();
        self.sizes = (self.sizes.0.min(data.len()), self.sizes.1.max(data.len()));
        out.push(Coded::new(self.given, samples as i64, true, data));
        self.frames += 1;
        self.given += samples as i64;
        Ok(())
    }
}

impl EncodeAudio for Encoder {
    fn encode(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<()> {
        let full = (1i32 << (self.bits - 1)) as f32;
        let whole = |v: &f32| (v * full).round().clamp(-full, full - 1.0) as i32;
        self.waiting.extend(samples.iter().map(whole));
        while self.waiting.len() >= FRAME as usize * self.channels {
            self.give(FRAME as usize, out)?;
        }
        Ok(())
    }

    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        let rest = self.waiting.len() / self.channels;
        if rest > 0 {
            self.give(rest, out)?;
        }
        Ok(())
    }

    /// The stream information (8.2), without a header.
    fn setup(&self) -> Vec<u8> {
        let mut info = self.info.clone();
        info.set_total_samples(self.given as usize);
        info.set_md5_digest(&self.context.md5_digest());
        if self.frames > 0 {
            // Sizes that do not go into their fields are left unknown.
            let _ = info.set_frame_sizes(self.sizes.0, self.sizes.1);
        }
        let mut sink = ByteSink::new();
        match info.write(&mut sink) {
            Ok(()) => sink.into_inner(),
            Err(_) => Vec::new(),
        }
    }

    fn priming(&self) -> u32 {
        0
    }
}
