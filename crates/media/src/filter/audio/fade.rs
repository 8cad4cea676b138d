//! Sound that comes up from silence and goes down to it.

use super::{AudioFilter, AudioForm};
use crate::error::Result;
use serde::{Deserialize, Serialize};

/// Milliseconds at both ends; 0 is none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fade {
    #[serde(default)]
    pub in_ms: u32,
    #[serde(default)]
    pub out_ms: u32,
}

impl Fade {
    pub const MOST_MS: u32 = 30_000;

    pub fn words(self) -> String {
        let part =
            |ms: u32, what: &str| (ms > 0).then(|| format!("{what} over {} s", f64::from(ms) / 1000.0));
        [part(self.in_ms, "fade in"), part(self.out_ms, "fade out")]
            .into_iter()
            .flatten()
            .collect::<Vec<_>>()
            .join(", ")
    }
}

/// The end is where the sound ends, whatever length was stated: what may be part of it is held back.
pub struct Fader {
    channels: usize,
    /// Frames of each end.
    up: usize,
    down: usize,
    begun: usize,
    held: Vec<f32>,
}

impl Fader {
    pub fn new(fade: Fade, form: AudioForm) -> Fader {
        let frames = |ms: u32| (u64::from(ms.min(Fade::MOST_MS)) * u64::from(form.rate) / 1000) as usize;
        Fader {
            channels: form.channels.into(),
            up: frames(fade.in_ms),
            down: frames(fade.out_ms),
            begun: 0,
            held: Vec::new(),
        }
    }
}

impl AudioFilter for Fader {
    fn push(&mut self, mut samples: Vec<f32>) -> Result<Vec<f32>> {
        if self.begun < self.up {
            for frame in samples.chunks_exact_mut(self.channels) {
                if self.begun < self.up {
                    let by = self.begun as f32 / self.up as f32;
                    frame.iter_mut().for_each(|s| *s *= by);
                    self.begun += 1;
                }
            }
        }
        if self.down == 0 {
            return Ok(samples);
        }
        self.held.append(&mut samples);
        let ready = self.held.len().saturating_sub(self.down * self.channels);
        Ok(self.held.drain(..ready).collect())
    }

    fn finish(&mut self) -> Result<Vec<f32>> {
        let mut rest = std::mem::take(&mut self.held);
        let n = rest.len() / self.channels;
        for (i, frame) in rest.chunks_exact_mut(self.channels).enumerate() {
            let by = (n - 1 - i) as f32 / self.down.max(1) as f32;
            frame.iter_mut().for_each(|s| *s *= by);
        }
        Ok(rest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(10, 10, 100)]
    #[case(0, 20, 100)]
    #[case(20, 0, 100)]
    // Shorter than its fades.
    #[case(40, 40, 50)]
    fn both_ends_are_silent_and_the_middle_stays(#[case] in_ms: u32, #[case] out_ms: u32, #[case] ms: usize) {
        let form = AudioForm { rate: 8000, channels: 2 };
        let mut f = Fader::new(Fade { in_ms, out_ms }, form);
        let mut out = Vec::new();
        for part in vec![1f32; ms * 8 * 2].chunks(14) {
            out.extend(f.push(part.to_vec()).unwrap());
        }
        out.extend(f.finish().unwrap());
        assert_eq!(out.len(), ms * 8 * 2);
        assert_eq!(out[0] == 0.0, in_ms > 0);
        assert_eq!(out[out.len() - 1] == 0.0, out_ms > 0);
        if in_ms + out_ms < ms as u32 {
            let (from, to) = (in_ms as usize * 16, out.len() - out_ms as usize * 16);
            assert!(out[from..to].iter().all(|v| *v == 1.0));
        }
        assert!(out.windows(3).all(|w| (w[2] - w[0]).abs() < 0.05), "no step");
    }
}
