//! What in a list of cues offends against a style.

use super::{Cue, Style};
use crate::transcript::Ms;
use std::fmt;

/// One offence: which cue (from 1), when, and what.
#[derive(Clone, Debug, PartialEq, serde::Serialize)]
pub struct Offence {
    pub cue: usize,
    pub at_ms: Ms,
    pub why: String,
}

impl fmt::Display for Offence {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "cue {} at {}: {}", self.cue, self.at_ms.clock('.'), self.why)
    }
}

pub fn check(cues: &[Cue], style: &Style) -> Vec<Offence> {
    let mut out = Vec::new();
    for (i, c) in cues.iter().enumerate() {
        let mut say = |why: String| out.push(Offence { cue: i + 1, at_ms: c.start, why });
        let time = (c.end - c.start).0;
        if c.characters() == 0 {
            say("no text".into());
        }
        if time <= 0 {
            say(format!("ends at {}, before it starts", c.end.clock('.')));
            continue;
        }
        for line in &c.lines {
            let n = line.chars().count();
            if n > style.line {
                say(format!("a line of {n} characters, {} allowed: \"{line}\"", style.line));
            }
        }
        if c.lines.len() > style.lines {
            say(format!("{} lines, {} allowed", c.lines.len(), style.lines));
        }
        if time < style.shortest {
            say(format!("on screen for {time} ms, at least {} wanted", style.shortest));
        }
        if time > style.longest {
            say(format!("on screen for {time} ms, at most {} wanted", style.longest));
        }
        if style.reading(c.characters()).0 > time {
            let speed = c.characters() as f64 * 1000.0 / time as f64;
            say(format!("{speed:.1} characters a second, {} allowed", style.speed));
        }
        if let Some(next) = cues.get(i + 1) {
            let gap = (next.start - c.end).0;
            if gap < 0 {
                say(format!("overlaps the next by {} ms", -gap));
            } else if gap < style.gap {
                say(format!("{gap} ms before the next, {} wanted", style.gap));
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_offence_is_named() {
        let cue = |start, end, lines: &[&str]| Cue {
            start: Ms(start),
            end: Ms(end),
            lines: lines.iter().map(|l| (*l).to_owned()).collect(),
            words: Vec::new(),
        };
        let cues = [
            cue(0, 500, &["Far too much to be read in half a second, and over the line"]),
            cue(400, 9000, &["a", "b", "c"]),
            cue(9010, 9010, &["x"]),
            cue(9500, 10_500, &[]),
        ];
        let said: Vec<String> = check(&cues, &Style::default()).iter().map(ToString::to_string).collect();
        let want = [
            "a line of 59",
            "for 500 ms",
            "118.0 characters a second",
            "overlaps the next by 100",
            "3 lines",
            "for 8600 ms",
            "10 ms before the next",
            "before it starts",
            "no text",
        ];
        assert_eq!(said.len(), want.len(), "{said:#?}");
        for (said, want) in said.iter().zip(want) {
            assert!(said.contains(want), "{said} / {want}");
        }
        assert!(said[0].starts_with("cue 1 at 00:00:00.000: "));
    }
}
