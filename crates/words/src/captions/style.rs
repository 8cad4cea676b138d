//! How a house wants its captions. The usual values are those that public guidelines for broadcast and streaming
//! agree on: 42 characters, two lines, five sixths of a second to seven seconds, 20 characters a second.

use crate::error::{Error, Result};
use crate::transcript::Ms;
use serde::{Deserialize, Serialize};

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Style {
    /// Characters in a line.
    pub line: usize,
    pub lines: usize,
    /// Milliseconds on screen.
    pub shortest: i64,
    pub longest: i64,
    /// Characters a second that can be read.
    pub speed: f64,
    /// Milliseconds between two cues.
    pub gap: i64,
}

impl Default for Style {
    fn default() -> Self {
        Style { line: 42, lines: 2, shortest: 833, longest: 7000, speed: 20.0, gap: 80 }
    }
}

impl Style {
    /// The whole range of every setting.
    pub fn validate(&self) -> Result<()> {
        let check = |ok: bool, what, why: String| if ok { Ok(()) } else { Err(Error::setting(what, why)) };
        check((10..=200).contains(&self.line), "line", format!("{} characters; 10 to 200", self.line))?;
        check((1..=4).contains(&self.lines), "lines", format!("{}; 1 to 4", self.lines))?;
        check(
            (0..=10_000).contains(&self.shortest),
            "shortest",
            format!("{} ms; 0 to 10000", self.shortest),
        )?;
        check(
            self.longest >= self.shortest.max(1000) && self.longest <= 60_000,
            "longest",
            format!("{} ms; from the shortest time (at least 1000) to 60000", self.longest),
        )?;
        check(
            (5.0..=100.0).contains(&self.speed),
            "speed",
            format!("{} characters a second; 5 to 100", self.speed),
        )?;
        check((0..=2000).contains(&self.gap), "gap", format!("{} ms; 0 to 2000", self.gap))
    }

    /// The least time in which this many characters can be read.
    pub fn reading(&self, characters: usize) -> Ms {
        Ms((characters as f64 / self.speed * 1000.0).ceil() as i64)
    }
}
