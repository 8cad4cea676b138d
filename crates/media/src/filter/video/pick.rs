//! Few pictures of many.

use super::rate::Pace;
use super::{Shown, VideoFilter};
use crate::error::Result;

/// Times run faster, or slower.
pub struct Paced {
    pub pace: Pace,
    pub old: u32,
}

impl VideoFilter for Paced {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        let (from, to) = (shown.pts, shown.pts + shown.duration);
        let at = |t: i64| self.pace.of(t, self.old);
        out.push(Shown { pts: at(from), duration: at(to) - at(from), ..shown });
        Ok(())
    }
}

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

/// The pictures that are shown at some moments; the last one, for what is behind the end.
pub struct Moments {
    left: std::collections::VecDeque<i64>,
    held: Option<Shown>,
}

impl Moments {
    pub fn new(mut moments: Vec<i64>) -> Moments {
        moments.sort_unstable();
        Moments { left: moments.into(), held: None }
    }
}

impl VideoFilter for Moments {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        while let (Some(&at), Some(held)) = (self.left.front(), &self.held)
            && shown.pts > at
        {
            out.push(held.clone());
            self.left.pop_front();
        }
        if !self.left.is_empty() {
            self.held = Some(shown);
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut Vec<Shown>) -> Result<()> {
        if let Some(held) = &self.held {
            out.extend(self.left.drain(..).map(|_| held.clone()));
        }
        Ok(())
    }
}
