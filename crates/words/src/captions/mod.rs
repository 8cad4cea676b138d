//! Captions: cues made from words, read from files, moved, and checked against a style.

pub mod check;
pub mod read;
pub mod said;
pub mod shape;
pub mod style;

pub use check::{Offence, check};
pub use shape::shape;
pub use style::Style;

use crate::transcript::Ms;
use media::units::Ratio;
use serde::{Deserialize, Serialize};

/// Text on the picture for a while.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cue {
    pub start: Ms,
    pub end: Ms,
    pub lines: Vec<String>,
    /// When each word is said, in the order of the text, where that is known.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub words: Vec<Ms>,
}

impl Cue {
    pub fn text(&self) -> String {
        self.lines.join("\n")
    }
    /// Characters as they are read: line ends count as none.
    pub fn characters(&self) -> usize {
        self.lines.iter().map(|l| l.chars().count()).sum()
    }
    fn map_times(&mut self, f: impl Fn(Ms) -> Ms) {
        self.start = f(self.start);
        self.end = f(self.end);
        self.words.iter_mut().for_each(|w| *w = f(*w));
    }
}

/// Moves cues in time. What would end before moment 0 is left out and counted.
pub fn shift(cues: &mut Vec<Cue>, by: Ms) -> usize {
    let before = cues.len();
    cues.iter_mut().for_each(|c| c.map_times(|t| t + by));
    cues.retain(|c| c.end > Ms(0));
    cues.iter_mut().for_each(|c| c.map_times(|t| t.max(Ms(0))));
    before - cues.len()
}

/// Times for pictures that are shown at another rate: a film at 24 frames a second shown at 25 is over sooner.
pub fn change_rate(cues: &mut [Cue], from: Ratio, to: Ratio) {
    let (num, den) = (i128::from(from.num) * i128::from(to.den), i128::from(from.den) * i128::from(to.num));
    let scale = |t: Ms| {
        let exact = i128::from(t.0) * num;
        Ms((exact + den / 2).div_euclid(den.max(1)).clamp(0, i64::MAX.into()) as i64)
    };
    cues.iter_mut().for_each(|c| c.map_times(scale));
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cue(start: i64, end: i64) -> Cue {
        Cue { start: Ms(start), end: Ms(end), lines: vec!["tide".into()], words: vec![Ms(start)] }
    }

    #[test]
    fn cues_move_and_change_their_rate() {
        let mut cues = vec![cue(0, 900), cue(1000, 2000)];
        assert_eq!(shift(&mut cues, Ms(-1200)), 1);
        assert_eq!(cues, [cue(0, 800)]);
        let mut cues = vec![cue(3_600_000, 3_601_001)];
        let rate = |num, den| Ratio { num, den };
        change_rate(&mut cues, rate(24_000, 1001), rate(25, 1));
        assert_eq!((cues[0].start, cues[0].words[0]), (Ms(3_452_547), Ms(3_452_547)));
        change_rate(&mut cues, rate(25, 1), rate(24_000, 1001));
        assert_eq!(cues[0].start, Ms(3_600_000));
    }
}
