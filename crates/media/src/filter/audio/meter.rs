//! Loudness of a programme (ITU-R BS.1770-5, annex 1, with the gates of EBU R 128).
//!
//! Sound is weighed by two filters, its energy is summed over 400 ms every 100 ms, and the loudness is the mean of those sums
//! that are not nearly silent and not far below the others.

use crate::error::{Error, Result};
use crate::recipe::Loudness;

/// Tenths of a second that a sum is long; another begins with each of them.
const STEPS: usize = 4;
/// LUFS of an energy of one.
const OFFSET: f64 = -0.691;
/// Below it nothing counts (LUFS), and what is so much less than the mean of the rest (a tenth of its energy).
const SILENT: f64 = -70.0;
const FAR: f64 = 0.1;

/// Two poles and two zeros, the first coefficient of the poles being one.
#[derive(Clone, Copy, Debug)]
struct Filter {
    zeros: [f64; 3],
    poles: [f64; 2],
}

impl Filter {
    /// The shelf of a head, table 1: at 48 kHz its numbers, at other rates the same curve by the bilinear transform.
    fn head(rate: u32) -> Filter {
        let (k, q) =
            ((std::f64::consts::PI * 1_681.974_450_955_533 / f64::from(rate)).tan(), 0.707_175_236_955_419_6);
        let high = 10f64.powf(3.999_843_853_973_347 / 20.0);
        let band = high.powf(0.499_666_774_154_541_6);
        let one = 1.0 + k / q + k * k;
        Filter {
            zeros: [
                (high + band * k / q + k * k) / one,
                2.0 * (k * k - high) / one,
                (high - band * k / q + k * k) / one,
            ],
            poles: [2.0 * (k * k - 1.0) / one, (1.0 - k / q + k * k) / one],
        }
    }

    /// What is lower than is heard, table 2.
    fn low(rate: u32) -> Filter {
        let (k, q) =
            ((std::f64::consts::PI * 38.135_470_876_024_44 / f64::from(rate)).tan(), 0.500_327_037_323_877_3);
        let one = 1.0 + k / q + k * k;
        Filter { zeros: [1.0, -2.0, 1.0], poles: [2.0 * (k * k - 1.0) / one, (1.0 - k / q + k * k) / one] }
    }
}

/// What the filters keep of a channel.
type Kept = [f64; 4];

pub struct Meter {
    filters: [Filter; 2],
    kept: Vec<Kept>,
    /// How much each channel counts (table 3).
    counts: Vec<f64>,
    /// Frames of a step, and of those the current one has.
    step: usize,
    into: usize,
    /// Energy of this step and of those before it.
    steps: [f64; STEPS],
    before: usize,
    sums: Vec<f64>,
}

impl Meter {
    pub fn new(rate: u32, channels: u16) -> Result<Meter> {
        if rate < 100 || channels == 0 {
            return Err(Error::setting("loudness", format!("{channels} channels at {rate} Hz")));
        }
        // L R C LFE Ls Rs; of eight channels the last two are at the sides and those before them behind.
        let count = |c: u16| match (channels, c) {
            (6.., 3) => 0.0,
            (4, 2..) | (5, 3..) | (6, 4..) | (7, 5..) | (8.., 6..=7) => 1.41,
            _ => 1.0,
        };
        Ok(Meter {
            filters: [Filter::head(rate), Filter::low(rate)],
            kept: vec![[0.0; 4]; channels.into()],
            counts: (0..channels).map(count).collect(),
            step: (rate as usize + 5) / 10,
            into: 0,
            steps: [0.0; STEPS],
            before: 0,
            sums: Vec::new(),
        })
    }

    /// Interleaved samples.
    pub fn add(&mut self, mut samples: &[f32]) {
        let channels = self.kept.len();
        while samples.len() >= channels {
            let count = (self.step - self.into).min(samples.len() / channels);
            let (now, rest) = samples.split_at(count * channels);
            // Two channels at once: each of them waits for its own last sample, but not for the other's.
            for (n, kept) in self.kept.chunks_mut(2).enumerate() {
                let counts = &self.counts[n * 2..];
                self.steps[0] += match kept {
                    [a, b] => {
                        let mut both = [*a, *b];
                        let energy = weigh(now, channels, n * 2, &self.filters, &mut both);
                        [*a, *b] = both;
                        energy[0] * counts[0] + energy[1] * counts[1]
                    }
                    [one] => {
                        let mut alone = [*one];
                        let [energy] = weigh(now, channels, n * 2, &self.filters, &mut alone);
                        [*one] = alone;
                        energy * counts[0]
                    }
                    _ => 0.0,
                };
            }
            samples = rest;
            self.into += count;
            if self.into == self.step {
                self.end_step();
            }
        }
    }

    fn end_step(&mut self) {
        self.into = 0;
        self.before += 1;
        if self.before >= STEPS {
            self.sums.push(self.steps.iter().sum::<f64>() / (STEPS * self.step) as f64);
        }
        self.steps.rotate_right(1);
        self.steps[0] = 0.0;
        for v in self.kept.iter_mut().flatten() {
            // What fades away below all measure makes processors slow; what is no number would stay for ever.
            if !(1e-20..1e20).contains(&v.abs()) {
                *v = 0.0;
            }
        }
    }

    pub fn silence(&mut self, mut samples: u64) {
        let some = vec![0.0; self.step * self.kept.len()];
        while samples > 0 {
            let n = samples.min(self.step as u64);
            samples -= n;
            self.add(&some[..n as usize * self.kept.len()]);
        }
    }

    /// LUFS of all that was added; `None` for silence.
    pub fn loudness(&self) -> Option<f64> {
        let mean = |least: f64| {
            let counts = self.sums.iter().filter(|v| **v >= least);
            let (sum, n) = counts.fold((0.0, 0u64), |(sum, n), v| (sum + v, n + 1));
            (n > 0).then(|| sum / n as f64)
        };
        let silent = 10f64.powf((SILENT - OFFSET) / 10.0);
        let all = mean(silent)?;
        Some(OFFSET + 10.0 * mean(silent.max(all * FAR))?.log10())
    }

    /// What brings it to the target. Silence stays silence.
    pub fn gain(&self, to: Loudness) -> Option<f32> {
        let now = self.loudness()?;
        // More would make noise of what was not meant to be heard.
        Some(10f64.powf((to.target - now).min(40.0) / 20.0) as f32)
    }
}

/// The energy of some channels that stand beside each other, from the first on.
#[inline]
fn weigh<const N: usize>(
    samples: &[f32],
    channels: usize,
    first: usize,
    [head, low]: &[Filter; 2],
    kept: &mut [Kept; N],
) -> [f64; N] {
    let mut s: [[f64; N]; 4] = std::array::from_fn(|k| std::array::from_fn(|c| kept[c][k]));
    let mut energy = [0.0; N];
    for frame in samples.chunks_exact(channels) {
        let Some(frame) = frame[first..].first_chunk::<N>() else { break };
        for c in 0..N {
            let x = f64::from(frame[c]);
            let y = head.zeros[0] * x + s[0][c];
            s[0][c] = head.zeros[1] * x - head.poles[0] * y + s[1][c];
            s[1][c] = head.zeros[2] * x - head.poles[1] * y;
            let z = low.zeros[0] * y + s[2][c];
            s[2][c] = low.zeros[1] * y - low.poles[0] * z + s[3][c];
            s[3][c] = low.zeros[2] * y - low.poles[1] * z;
            energy[c] += z * z;
        }
    }
    *kept = std::array::from_fn(|c| std::array::from_fn(|k| s[k][c]));
    energy
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebur128::{EbuR128, Mode};
    use rstest::rstest;

    /// The numbers that the recommendation prints for 48 kHz.
    #[test]
    fn the_filters_are_those_of_the_tables() {
        let near = |a: f64, b: f64| assert!((a - b).abs() < 1e-9, "{a} {b}");
        let (head, low) = (Filter::head(48_000), Filter::low(48_000));
        let zeros = [1.53512485958697, -2.69169618940638, 1.19839281085285];
        head.zeros.iter().zip(zeros).for_each(|(a, b)| near(*a, b));
        head.poles.iter().zip([-1.69065929318241, 0.73248077421585]).for_each(|(a, b)| near(*a, b));
        low.poles.iter().zip([-1.99004745483398, 0.99007225036621]).for_each(|(a, b)| near(*a, b));
    }

    /// BS.2217: a sine of 997 Hz at -20 dBFS in one channel is -23 LUFS (3.01 for its shape, 0 for its place), within 0.1.
    #[rstest]
    fn a_sine_has_its_loudness(#[values(8_000, 44_100, 48_000, 192_000)] rate: u32) {
        let mut meter = Meter::new(rate, 1).unwrap();
        let sine =
            |i: u32| (f64::from(i) * 997.0 * std::f64::consts::TAU / f64::from(rate)).sin() as f32 * 0.1;
        meter.add(&(0..rate * 3).map(sine).collect::<Vec<f32>>());
        let found = meter.loudness().unwrap();
        assert!((found + 23.0).abs() < 0.1, "{found}");
    }

    /// Sound that comes and goes, in all channels another.
    fn sound(rate: u32, channels: u16) -> Vec<f32> {
        let mut noise = 1u32;
        let frames = rate as usize * 7 + 1234;
        let at = |i: usize, c: u16, noise: f32| {
            let t = i as f32 / rate as f32;
            let level = if t < 2.0 {
                0.3
            } else if t < 4.5 {
                0.004
            } else {
                0.09
            };
            ((t * (200.0 + 170.0 * f32::from(c)) * std::f32::consts::TAU).sin() + noise * 0.5) * level
        };
        (0..frames * usize::from(channels))
            .map(|n| {
                noise = noise.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                let noise = (noise >> 8) as f32 / (1 << 23) as f32 - 1.0;
                at(n / usize::from(channels), (n % usize::from(channels)) as u16, noise)
            })
            .collect()
    }

    /// As another's meter has it, in whatever pieces sound comes.
    #[rstest]
    fn another_meter_finds_the_same(
        #[values(8_000, 44_100, 48_000, 96_000)] rate: u32,
        #[values(1, 2, 3, 5, 6)] channels: u16,
        #[values(1, 997, 100_000)] piece: usize,
    ) {
        let sound = sound(rate, channels);
        let mut other = EbuR128::new(channels.into(), rate, Mode::I).unwrap();
        other.add_frames_f32(&sound).unwrap();
        let mut meter = Meter::new(rate, channels).unwrap();
        sound.chunks(piece * usize::from(channels)).for_each(|p| meter.add(p));
        let (found, want) = (meter.loudness().unwrap(), other.loudness_global().unwrap());
        assert!((found - want).abs() < 0.001, "{found} {want}");
    }

    #[test]
    fn silence_has_none_and_what_is_no_number_passes() {
        let mut meter = Meter::new(48_000, 2).unwrap();
        meter.silence(48_000 * 3 + 17);
        assert_eq!(meter.loudness(), None);
        meter.add(&[f32::NAN, f32::INFINITY]);
        meter.add(&sound(48_000, 2));
        let found = meter.loudness().unwrap();
        let mut other = Meter::new(48_000, 2).unwrap();
        other.add(&sound(48_000, 2));
        assert!((found - other.loudness().unwrap()).abs() < 0.3, "{found}");
        assert!(Meter::new(0, 2).is_err() && Meter::new(48_000, 0).is_err());
    }
}
