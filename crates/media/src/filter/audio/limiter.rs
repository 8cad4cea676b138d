//! A limiter for true peaks.

use std::collections::VecDeque;

/// Times as many samples as are looked at between two, for a peak that lies there.
const OVER: usize = 4;
/// Samples on each side of a moment that its value is drawn from.
const HALF: usize = 6;

/// Frames that are looked at together.
const BLOCK: usize = 64;

/// Keeps true peaks below a limit: what would go over is turned down a little before it, and up again after it.
///
/// Every frame has a gain that it needs by itself. Of those that come within 5 ms the lowest counts, from which the way up is
/// slow; and the mean of these over as long makes straight ways down that arrive in time.
pub struct Limiter {
    channels: usize,
    most: f32,
    /// Frames looked ahead.
    ahead: usize,
    waiting: Vec<f32>,
    /// The gain that each waiting frame needs by itself.
    need: Vec<f32>,
    /// Frames of `need` that were looked at, and those of them that may be the lowest ahead, from the lowest on.
    viewed: usize,
    lows: VecDeque<(usize, f32)>,
    floor: f64,
    /// The floors of the last frames, in turn, and their sum: exact, for it has more bits than they need.
    floors: Vec<f32>,
    turn: usize,
    sum: f64,
    /// How much of the way back to 1 is gone in a frame.
    back: f64,
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
            viewed: 0,
            lows: VecDeque::new(),
            floor: 1.0,
            floors: vec![1.0; ahead],
            turn: 0,
            sum: ahead as f64,
            back: 1.0 - (-1.0 / (f64::from(rate) * 0.08)).exp(),
            phases,
        }
    }

    /// The highest value about each frame, of those whose neighbours are known.
    fn look(&mut self) {
        let ch = self.channels;
        let frames = self.waiting.len() / ch;
        let mut line = [0f32; BLOCK + 2 * HALF];
        while self.need.len() + 2 * HALF < frames {
            let count = (frames - 2 * HALF - self.need.len()).min(BLOCK);
            // The first whose value counts for the first frame, between which and the next one its moments are.
            let first = self.need.len() + 1;
            let mut peaks = [0f32; BLOCK];
            for c in 0..ch {
                let from = self.waiting[first * ch..].iter().skip(c).step_by(ch);
                line.iter_mut().zip(from).for_each(|(to, v)| *to = *v);
                let here = &line[HALF - 1..];
                peaks.iter_mut().zip(here).for_each(|(p, v)| *p = p.max(v.abs()));
                // Between samples it is no more than so much higher: most need no closer look.
                if here[..=count].iter().all(|v| v.abs() * 2.0 <= self.most) {
                    continue;
                }
                for taps in &self.phases[1..] {
                    let mut between = [0f32; BLOCK];
                    for (k, tap) in taps.iter().enumerate() {
                        between.iter_mut().zip(&line[k..]).for_each(|(sum, v)| *sum += tap * v);
                    }
                    for (i, (p, v)) in peaks.iter_mut().zip(&between).enumerate() {
                        // Whatever else is looked at together: pieces in which sound comes must not matter.
                        if here[i].abs().max(here[i + 1].abs()) * 2.0 > self.most {
                            *p = p.max(v.abs());
                        }
                    }
                }
            }
            let most = self.most;
            self.need.extend(peaks[..count].iter().map(|p| if *p > most { most / p } else { 1.0 }));
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
        // The room in front of the first frame stays in front.
        let mut n = 0;
        while n < count {
            if self.lows.is_empty() && self.sum == self.ahead as f64 {
                // Nothing is turned down, as far as to where something comes into sight.
                let loud = self.need[self.viewed..].iter().position(|v| *v < 1.0);
                let loud = loud.map_or(self.need.len() + self.ahead, |p| self.viewed + p);
                let free = (loud + 1).saturating_sub(self.ahead).min(count);
                if free > n {
                    out.extend_from_slice(&self.waiting[(n + HALF) * ch..(free + HALF) * ch]);
                    n = free;
                    self.viewed = self.viewed.max(n);
                    continue;
                }
            }
            let gain = self.gain(n);
            let at = (n + HALF) * ch;
            out.extend(self.waiting[at..at + ch].iter().map(|v| v * gain));
            n += 1;
        }
        self.need.drain(..count);
        self.waiting.drain(..count * ch);
        self.viewed -= count.min(self.viewed);
        self.lows.retain_mut(|low| {
            let stays = low.0 >= count;
            low.0 -= count.min(low.0);
            stays
        });
        out
    }

    fn gain(&mut self, n: usize) -> f32 {
        let end = (n + self.ahead).min(self.need.len());
        for at in self.viewed..end {
            let need = self.need[at];
            if need < 1.0 {
                while self.lows.back().is_some_and(|low| low.1 >= need) {
                    self.lows.pop_back();
                }
                self.lows.push_back((at, need));
            }
        }
        self.viewed = self.viewed.max(end);
        while self.lows.front().is_some_and(|low| low.0 < n) {
            self.lows.pop_front();
        }
        let low = self.lows.front().map_or(1.0, |low| f64::from(low.1));
        self.floor = (self.floor + (1.0 - self.floor) * self.back).min(low);
        if self.floor > 0.9999 {
            self.floor = low;
        }
        let floor = self.floor as f32;
        let before = std::mem::replace(&mut self.floors[self.turn], floor);
        self.turn = (self.turn + 1) % self.ahead;
        self.sum += f64::from(floor) - f64::from(before);
        ((self.sum / self.ahead as f64) as f32).min(self.need[n])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebur128::{EbuR128, Mode};
    use rstest::rstest;

    fn true_peak(samples: &[f32], channels: u32) -> f64 {
        let mut m = EbuR128::new(channels, 48_000, Mode::TRUE_PEAK).unwrap();
        m.add_frames_f32(samples).unwrap();
        (0..channels).map(|c| m.true_peak(c).unwrap()).fold(0.0, f64::max)
    }

    /// It does not matter in which pieces sound comes, and after something loud all is as before again.
    #[rstest]
    fn pieces_do_not_matter_and_it_comes_back(#[values(1, 7, 63, 480, 5000)] piece: usize) {
        let sound: Vec<f32> = (0..96_000)
            .map(|i| {
                let loud = (9_000..9_400).contains(&i) || i == 90_005;
                (i as f32 * 0.37).sin() * if loud { 1.9 } else { 0.3 }
            })
            .collect();
        let run = |piece: usize| {
            let mut limiter = Limiter::new(48_000, 1, -1.0);
            let mut out: Vec<f32> = sound.chunks(piece).flat_map(|p| limiter.push(p)).collect();
            out.extend(limiter.finish());
            out
        };
        let out = run(piece);
        assert!(out == run(96_000));
        assert!(out[..8_700] == sound[..8_700] && out[56_000..59_000] == sound[56_000..59_000]);
        // The way down and up has no steps.
        let gains: Vec<f32> =
            out.iter().zip(&sound).filter(|(_, s)| s.abs() > 0.05).map(|(o, s)| o / s).collect();
        let step = gains.windows(2).map(|g| (g[0] - g[1]).abs()).fold(0.0, f32::max);
        assert!(step < 0.01, "{step}");
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
