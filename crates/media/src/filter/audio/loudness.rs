//! Loudness of a programme (ITU-R BS.1770-5, EBU R 128), and a limiter for its true peaks. The measuring is ebur128's.

use crate::error::{Error, Result};
use crate::recipe::Loudness;
use ebur128::{EbuR128, Mode};

pub struct Meter {
    inner: EbuR128,
    channels: usize,
}

impl Meter {
    pub fn new(rate: u32, channels: u16) -> Result<Meter> {
        let inner = EbuR128::new(channels.into(), rate, Mode::I)
            .map_err(|e| Error::setting("loudness", format!("{channels} channels at {rate} Hz: {e}")))?;
        Ok(Meter { inner, channels: channels.into() })
    }

    /// Interleaved samples.
    pub fn add(&mut self, samples: &[f32]) -> Result<()> {
        self.inner.add_frames_f32(samples).map_err(|e| Error::limit("loudness", e.to_string()))
    }

    pub fn silence(&mut self, mut samples: u64) -> Result<()> {
        while samples > 0 {
            let n = samples.min(48_000);
            samples -= n;
            self.add(&vec![0.0; n as usize * self.channels])?;
        }
        Ok(())
    }

    /// LUFS of all that was added; `None` for silence.
    pub fn loudness(&self) -> Option<f64> {
        self.inner.loudness_global().ok().filter(|l| l.is_finite())
    }

    /// What brings it to the target. Silence stays silence.
    pub fn gain(&self, to: Loudness) -> Option<f32> {
        let now = self.loudness().filter(|l| *l > -70.0)?;
        // More would make noise of what was not meant to be heard.
        Some(10f64.powf((to.target - now).min(40.0) / 20.0) as f32)
    }
}

/// Times as many samples as are looked at between two, for a peak that lies there.
const OVER: usize = 4;
/// Samples on each side of a moment that its value is drawn from.
const HALF: usize = 6;

/// Keeps true peaks below a limit: what would go over is turned down a little before it, and up again after it.
pub struct Limiter {
    channels: usize,
    most: f32,
    /// Frames looked ahead.
    ahead: usize,
    waiting: Vec<f32>,
    /// The gain that each waiting frame needs by itself.
    need: Vec<f32>,
    gain: f32,
    /// How much of the way back to 1 is gone in a frame.
    back: f32,
    phases: [[f32; 2 * HALF]; OVER],
}

impl Limiter {
    /// `peak` in dBTP.
    pub fn new(rate: u32, channels: u16, peak: f64) -> Limiter {
        let ahead = (rate as usize / 200).max(2 * HALF);
        // A little lower: what is between the looked-at moments can be higher still.
        let most = 10f64.powf((peak - 0.1) / 20.0) as f32;
        let mut phases = [[0.0; 2 * HALF]; OVER];
        for (p, taps) in phases.iter_mut().enumerate() {
            for (k, tap) in taps.iter_mut().enumerate() {
                // A sinc under a raised cosine, about the moment between samples HALF - 1 and HALF.
                let x = k as f64 - (HALF as f64 - 1.0) - p as f64 / OVER as f64;
                let sinc = if x == 0.0 {
                    1.0
                } else {
                    (std::f64::consts::PI * x).sin() / (std::f64::consts::PI * x)
                };
                let window = 0.5 + 0.5 * (std::f64::consts::PI * x / (HALF as f64 + 0.5)).cos();
                *tap = (sinc * window) as f32;
            }
        }
        Limiter {
            channels: channels.into(),
            most,
            ahead,
            waiting: vec![0.0; HALF * usize::from(channels)],
            need: Vec::new(),
            gain: 1.0,
            back: 1.0 - (-1.0 / (f64::from(rate) * 0.08)).exp() as f32,
            phases,
        }
    }

    /// The highest value about each frame from `from` on, of those whose neighbours are known.
    fn look(&mut self) {
        let ch = self.channels;
        let frames = self.waiting.len() / ch;
        while self.need.len() + 2 * HALF < frames {
            let at = self.need.len() + HALF;
            let mut peak = 0f32;
            for c in 0..ch {
                let here = self.waiting[at * ch + c].abs();
                peak = peak.max(here);
                // Between samples it is no more than so much higher: most frames need no closer look.
                if here * 2.0 > self.most || self.waiting[(at + 1) * ch + c].abs() * 2.0 > self.most {
                    for taps in &self.phases[1..] {
                        let v: f32 = taps
                            .iter()
                            .enumerate()
                            .map(|(k, t)| t * self.waiting[(at + 1 + k - HALF) * ch + c])
                            .sum();
                        peak = peak.max(v.abs());
                    }
                }
            }
            self.need.push(if peak > self.most { self.most / peak } else { 1.0 });
        }
    }

    pub fn push(&mut self, samples: &[f32]) -> Vec<f32> {
        self.waiting.extend_from_slice(samples);
        self.look();
        self.give(self.ahead)
    }

    /// What is held back.
    pub fn finish(&mut self) -> Vec<f32> {
        self.waiting.resize(self.waiting.len() + HALF * self.channels, 0.0);
        self.look();
        self.give(0)
    }

    /// Gives frames behind which at least `keep` are known.
    fn give(&mut self, keep: usize) -> Vec<f32> {
        let ch = self.channels;
        let count = self.need.len().saturating_sub(keep);
        let mut out = Vec::with_capacity(count * ch);
        // Only frames that need less are looked for ahead.
        let lows: Vec<usize> = (0..self.need.len()).filter(|n| self.need[*n] < 1.0).collect();
        let mut first = 0;
        // The room in front of the first frame stays in front.
        for n in 0..count {
            while lows.get(first).is_some_and(|low| *low < n) {
                first += 1;
            }

            // Down in a straight line to the lowest that is near, up again slowly.
            let mut target = 1f32;
            let mut step = 0f32;
            for low in lows[first..].iter().take_while(|low| **low < n + self.ahead) {
                let need = self.need[*low];
                if need < self.gain {
                    step = step.max((self.gain - need) / ((low - n) as f32 + 1.0));
                }
                target = target.min(need);
            }
            self.gain = if step > 0.0 {
                self.gain - step
            } else {
                self.gain + (target - self.gain).max(0.0) * self.back
            };
            self.gain = self.gain.min(self.need[n]).clamp(0.0, 1.0);
            let at = (n + HALF) * ch;
            out.extend(self.waiting[at..at + ch].iter().map(|v| v * self.gain));
        }
        self.need.drain(..count);
        self.waiting.drain(..count * ch);
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn true_peak(samples: &[f32], channels: u32) -> f64 {
        let mut m = EbuR128::new(channels, 48_000, Mode::TRUE_PEAK).unwrap();
        m.add_frames_f32(samples).unwrap();
        (0..channels).map(|c| m.true_peak(c).unwrap()).fold(0.0, f64::max)
    }

    /// Another's meter finds no true peak over the limit, nothing moves in time, and what was quiet stays as it was.
    #[rstest]
    fn peaks_stay_below_and_the_rest_is_untouched(
        #[values(1, 2)] channels: u16,
        #[values(-1.0, -6.0)] peak: f64,
    ) {
        let n = 48_000 * 2;
        let sound: Vec<f32> = (0..n)
            .flat_map(|i| {
                let t = i as f32 / 48_000.0;
                // A quarter of the rate, off its samples: its true peak is between them.
                let loud = (0.5..0.52).contains(&t) || (1.2..1.4).contains(&t);
                let v = (t * 12_000.0 * std::f32::consts::TAU + 0.785).sin() * if loud { 1.3 } else { 0.02 };
                std::iter::repeat_n(v, channels.into())
            })
            .collect();
        let mut limiter = Limiter::new(48_000, channels, peak);
        let mut out = Vec::new();
        for part in sound.chunks(1000 * usize::from(channels)) {
            out.extend(limiter.push(part));
        }
        out.extend(limiter.finish());
        assert_eq!(out.len(), sound.len());
        let found = 20.0 * true_peak(&out, channels.into()).log10();
        assert!(found <= peak && found > peak - 1.0, "{found:.2} dBTP for {peak}");
        let quiet = 10_000 * usize::from(channels)..20_000 * usize::from(channels);
        assert_eq!(out[quiet.clone()], sound[quiet]);
    }
}
