//! Another sample rate. The arithmetic is rubato's; here its delay is taken out, so that every sample keeps
//! its moment and the length is exact.

use crate::error::{Error, Result};
use rubato::audioadapter_buffers::direct::InterleavedSlice;
use rubato::{Fft, FixedSync, Resampler as _};

const CHUNK: usize = 1024;

pub struct Resampler {
    inner: Fft<f32>,
    channels: usize,
    rates: (u64, u64),
    waiting: Vec<f32>,
    /// Output samples of each channel still to drop.
    drop: usize,
    taken: u64,
    given: u64,
}

impl Resampler {
    pub fn new(from: u32, to: u32, channels: u16) -> Result<Self> {
        let inner = Fft::new(from as usize, to as usize, CHUNK, usize::from(channels), FixedSync::Input)
            .map_err(|e| Error::setting("audio", format!("from {from} to {to} Hz: {e}")))?;
        let drop = inner.output_delay();
        let rates = (u64::from(from), u64::from(to));
        Ok(Resampler {
            inner,
            channels: channels.into(),
            rates,
            waiting: Vec::new(),
            drop,
            taken: 0,
            given: 0,
        })
    }

    /// Interleaved samples in, as many as are ready out.
    pub fn push(&mut self, samples: &[f32]) -> Result<Vec<f32>> {
        self.taken += (samples.len() / self.channels) as u64;
        self.waiting.extend_from_slice(samples);
        let mut out = Vec::new();
        self.run(&mut out)?;
        Ok(out)
    }

    /// What is held back: the whole then has exactly its share of samples, rounded.
    pub fn finish(&mut self) -> Result<Vec<f32>> {
        let wanted = (self.taken * self.rates.1 + self.rates.0 / 2) / self.rates.0;
        let mut out = Vec::new();
        while self.given < wanted {
            let fill = self.inner.input_frames_next() * self.channels;
            self.waiting.resize(self.waiting.len() + fill, 0.0);
            let before = self.given;
            self.run(&mut out)?;
            if self.given > wanted {
                let over = (self.given - wanted) as usize * self.channels;
                out.truncate(out.len().saturating_sub(over));
                self.given = wanted;
            }
            if self.given == before && self.drop == 0 {
                break;
            }
        }
        Ok(out)
    }

    fn run(&mut self, out: &mut Vec<f32>) -> Result<()> {
        let failed = |e: &dyn std::fmt::Display| Error::limit("resampling", e.to_string());
        let mut at = 0;
        loop {
            let need = self.inner.input_frames_next();
            let Some(part) = self.waiting.get(at..at + need * self.channels) else { break };
            let room = self.inner.output_frames_next();
            let mut made = vec![0.0; room * self.channels];
            let input = InterleavedSlice::new(part, self.channels, need).map_err(|e| failed(&e))?;
            let mut output =
                InterleavedSlice::new_mut(&mut made, self.channels, room).map_err(|e| failed(&e))?;
            let (used, given) =
                self.inner.process_into_buffer(&input, &mut output, None).map_err(|e| failed(&e))?;
            at += used * self.channels;
            let skip = self.drop.min(given);
            self.drop -= skip;
            out.extend_from_slice(&made[skip * self.channels..given * self.channels]);
            self.given += (given - skip) as u64;
        }
        self.waiting.drain(..at);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(192_000, 48_000)]
    #[case(44_100, 48_000)]
    #[case(12_000, 16_000)]
    fn length_and_place_are_kept(#[case] from: u32, #[case] to: u32) {
        let n = from as usize + 7;
        let wave = |i: usize, rate: u32| (i as f32 / rate as f32 * 440.0 * std::f32::consts::TAU).sin() * 0.5;
        let input: Vec<f32> = (0..n).flat_map(|i| [wave(i, from), 0.25]).collect();
        let mut r = Resampler::new(from, to, 2).unwrap();
        let mut out = Vec::new();
        for part in input.chunks(2 * 333) {
            out.extend(r.push(part).unwrap());
        }
        out.extend(r.finish().unwrap());
        let frames = out.len() / 2;
        assert_eq!(frames as u64, (n as u64 * u64::from(to) + u64::from(from) / 2) / u64::from(from));
        let worst = (2000..frames - 2000).map(|i| (out[i * 2] - wave(i, to)).abs()).fold(0.0, f32::max);
        assert!(worst < 0.01, "{worst}");
    }
}
