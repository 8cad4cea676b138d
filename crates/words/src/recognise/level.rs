//! How loud it is, every 10 ms: where a word really begins and ends (MODEL.md, "Word times", step 5).

use crate::model::RATE;

const EVERY: usize = RATE as usize / 100;
const AROUND: usize = RATE as usize * 25 / 2000;
/// Steps of 10 ms.
const LATE_START: usize = 6;
const RUN: usize = 25;

pub struct Levels {
    db: Vec<f32>,
    floor: f32,
}

impl Levels {
    pub fn of(sound: &[f32]) -> Levels {
        let db: Vec<f32> = (0..sound.len() / EVERY)
            .map(|i| {
                let middle = i * EVERY + EVERY / 2;
                let part = &sound[middle.saturating_sub(AROUND)..(middle + AROUND).min(sound.len())];
                let square = part.iter().map(|v| v * v).sum::<f32>() / part.len().max(1) as f32;
                10.0 * (square + 1e-10).log10()
            })
            .collect();
        let mut sorted = db.clone();
        sorted.sort_unstable_by(f32::total_cmp);
        let floor = sorted.get(sorted.len() / 10).copied().unwrap_or(-100.0);
        Levels { db, floor }
    }

    /// Start and end of a word in seconds, drawn in to where it is heard.
    pub fn trim(&self, start: f64, end: f64) -> (f64, f64) {
        let at = |s: f64| ((s * 100.0).round().max(0.0) as usize).min(self.db.len());
        let (a, b) = (at(start), at(end));
        let part = &self.db[a..b.max(a)];
        let Some(peak) = part.iter().copied().max_by(f32::total_cmp) else { return (start, end) };
        let least = (peak - 30.0).max(self.floor + 6.0).min(peak - 3.0);
        let Some(first) = part.iter().position(|&v| v > least) else { return (start, end) };
        let start = if first > LATE_START { (a + first) as f64 / 100.0 } else { start };
        let (mut last, mut quiet) = (first, 0);
        for (i, &v) in part.iter().enumerate().skip(first) {
            if v > least {
                (last, quiet) = (i, 0);
            } else {
                quiet += 1;
                if quiet > RUN {
                    break;
                }
            }
        }
        (start, ((a + last + 1) as f64 / 100.0).min(end).max(start))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_at_both_ends_are_cut_off() {
        let mut sound = vec![0.0f32; 3 * RATE as usize];
        for (i, v) in sound.iter_mut().enumerate().take(24_000).skip(16_000) {
            *v = (i as f32 * 0.3).sin() * 0.4;
        }
        let (start, end) = Levels::of(&sound).trim(0.5, 2.9);
        assert!((start - 1.0).abs() < 0.03 && (end - 1.5).abs() < 0.03, "{start} {end}");
        // A start that is only a little early stays.
        assert_eq!(Levels::of(&sound).trim(0.98, 1.4).0, 0.98);
        let nothing = Levels::of(&[0.0; 100]);
        assert_eq!(nothing.trim(0.2, 0.4), (0.2, 0.4));
    }
}
