//! Few pictures of many.

use super::{Shown, VideoFilter};
use crate::error::Result;

/// One picture each time so many ticks have passed; the first always.
pub struct Sample {
    pub every: i64,
    pub next: Option<i64>,
}

impl VideoFilter for Sample {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        let next = self.next.get_or_insert(shown.pts);
        if shown.pts >= *next {
            *next = shown.pts + self.every.max(1);
            out.push(shown);
        }
        Ok(())
    }
}

/// Pictures from one moment to another, in ticks. One that begins up to half its time before counts as being from there on:
/// moments are often rounded.
pub struct Part {
    pub from: i64,
    pub to: Option<i64>,
}

impl VideoFilter for Part {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        let slack = shown.duration / 2;
        if shown.pts + slack >= self.from && self.to.is_none_or(|to| shown.pts + slack < to) {
            out.push(Shown { pts: (shown.pts - self.from).max(0), ..shown });
        }
        Ok(())
    }
}

/// The picture that is shown at a moment; the last, if the film is shorter.
pub struct At {
    pub at: i64,
    pub held: Option<Shown>,
    pub done: bool,
}

impl VideoFilter for At {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        if self.done {
            return Ok(());
        }
        if shown.pts > self.at && self.held.is_some() {
            self.done = true;
            out.extend(self.held.take());
        } else {
            self.held = Some(shown);
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut Vec<Shown>) -> Result<()> {
        if !self.done {
            out.extend(self.held.take());
        }
        Ok(())
    }
}
