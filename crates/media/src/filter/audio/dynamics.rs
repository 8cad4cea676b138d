//! Smaller differences between loud and quiet, for listening where it is noisy: a compressor with a soft knee after
//! D. Giannoulis, M. Massberg and J. D. Reiss, "Digital Dynamic Range Compressor Design", JAES 60 (6), 2012: a level in
//! decibels, a static curve, and a smooth branching peak detector.

use super::{AudioFilter, AudioForm};
use crate::error::Result;

/// From here on, in dBFS, more comes out as a part of more.
const THRESHOLD: f32 = -28.0;
const RATIO: f32 = 3.0;
/// Decibels about the threshold over which the curve bends.
const KNEE: f32 = 12.0;
const ATTACK_SECONDS: f32 = 0.006;
const RELEASE_SECONDS: f32 = 0.25;
/// What quiet sound is raised by.
const MAKE_UP: f32 = 9.0;
/// Nothing is quieter, in decibels.
const FLOOR: f32 = -120.0;

pub const WORDS: &str = "quiet and loud brought closer (3:1 from -28 dBFS on, 9 dB more in all)";

pub struct Evener {
    channels: usize,
    attack: f32,
    release: f32,
    /// Decibels that are taken away now, as two stages remember them.
    slow: f32,
    now: f32,
}

impl Evener {
    pub fn new(form: AudioForm) -> Evener {
        let pole = |seconds: f32| (-1.0 / (form.rate as f32 * seconds)).exp();
        Evener {
            channels: form.channels.into(),
            attack: pole(ATTACK_SECONDS),
            release: pole(RELEASE_SECONDS),
            slow: 0.0,
            now: 0.0,
        }
    }
}

/// Decibels that are taken away from a level (equation 4 there).
fn taken(level: f32) -> f32 {
    let over = level - THRESHOLD;
    let part = 1.0 - 1.0 / RATIO;
    if 2.0 * over < -KNEE {
        0.0
    } else if 2.0 * over.abs() <= KNEE {
        part * (over + KNEE / 2.0).powi(2) / (2.0 * KNEE)
    } else {
        part * over
    }
}

impl AudioFilter for Evener {
    fn push(&mut self, mut samples: Vec<f32>) -> Result<Vec<f32>> {
        for frame in samples.chunks_exact_mut(self.channels) {
            let peak = frame.iter().fold(0f32, |m, s| m.max(s.abs()));
            let level = if peak > 0.0 { (20.0 * peak.log10()).max(FLOOR) } else { FLOOR };
            let wanted = taken(level);
            // Equation 17: the release first, then the attack over it.
            self.slow = wanted.max(self.release * self.slow + (1.0 - self.release) * wanted);
            self.now = self.attack * self.now + (1.0 - self.attack) * self.slow;
            let by = 10f32.powf((MAKE_UP - self.now) / 20.0);
            frame.iter_mut().for_each(|s| *s *= by);
        }
        Ok(samples)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(-60.0, 0.0)]
    #[case(-28.0, 1.0)]
    #[case(-16.0, 8.0)]
    #[case(0.0, 18.667)]
    fn the_curve_bends_about_its_threshold(#[case] level: f32, #[case] want: f32) {
        assert!((taken(level) - want).abs() < 0.01, "{}", taken(level));
    }

    /// A tone 40 dB below another comes out much closer to it.
    #[test]
    fn loud_and_quiet_come_closer() {
        let form = AudioForm { rate: 48_000, channels: 1 };
        let mut e = Evener::new(form);
        let tone = |by: f32| -> Vec<f32> { (0..96_000).map(|i| (i as f32 * 0.13).sin() * by).collect() };
        let level = |s: &[f32]| {
            let power: f32 = s[48_000..].iter().map(|v| v * v).sum::<f32>() / 48_000.0;
            10.0 * power.log10()
        };
        let quiet = level(&e.push(tone(0.01)).unwrap());
        let loud = level(&e.push(tone(1.0)).unwrap());
        assert!((loud - quiet - 21.3).abs() < 0.7, "{loud} over {quiet}");
        assert!(loud < 0.0);
    }
}
