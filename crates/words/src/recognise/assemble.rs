//! Readings of windows to one transcript, whoever read them: in order, joined at cuts, in segments.

use super::align::Placed;
use super::join::join;
use crate::listen::Span;
use crate::model::RATE;
use crate::transcript::{Gap, Ms, Segment, Word};
use std::collections::BTreeMap;

/// Below this mean log-likelihood a passage is doubtful (MODEL.md, "Which signals reject").
pub const DOUBT: f32 = -0.4;
/// Silence that is worth noting.
const GAP: i64 = 1000;
/// Pauses that end a segment, and where a sentence's end suffices.
const PAUSE: i64 = 1200;
const SENTENCE_PAUSE: i64 = 250;
/// Longest segment, where a sentence's end or a comma allows.
const LONG_SEGMENT: i64 = 15_000;

/// What was recognised.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Heard {
    pub segments: Vec<Segment>,
    /// Stretches of a second and more without speech.
    pub gaps: Vec<Gap>,
    pub samples: u64,
    /// Windows in which the recogniser repeated itself, and words of them may be missing.
    pub broken: Vec<Ms>,
}

/// One window, recognised.
pub struct Reading {
    pub words: Vec<Placed>,
    /// Mean log-likelihood; 0 if it is not known.
    pub mean_log: f32,
    pub broken: bool,
    pub cut_before: Option<u64>,
}

pub type Done = (usize, u64, Reading);

/// Puts readings back into the order of the recording.
#[derive(Default)]
pub struct Order {
    early: BTreeMap<usize, (u64, Reading)>,
    taken: usize,
    /// Samples that have been dealt with.
    pub upto: u64,
    /// Words, and whether their window was doubtful.
    words: Vec<(Placed, bool)>,
    broken: Vec<Ms>,
}

impl Order {
    /// Are readings of the `sent` windows missing?
    pub fn waiting(&self, sent: usize) -> bool {
        self.taken < sent
    }

    /// A window by its number, its end, and what was read in it; in any order.
    pub fn take(&mut self, (number, end, reading): Done) {
        self.early.insert(number, (end, reading));
        while let Some((end, r)) = self.early.remove(&self.taken) {
            self.taken += 1;
            self.upto = end;
            if r.broken {
                let at = r.words.first().map_or(end as f64 / f64::from(RATE), |w| w.start);
                self.broken.push(Ms::from_seconds(at));
            }
            let doubtful = r.mean_log < DOUBT;
            match r.cut_before {
                Some(cut) => {
                    let cut = cut as f64 / f64::from(RATE);
                    // Only the end of what there is takes part in joining.
                    let near = self.words.iter().rposition(|w| w.0.start < cut - 5.0).map_or(0, |i| i + 1);
                    let tail = self.words.split_off(near);
                    let was = tail.last().is_some_and(|w| w.1);
                    let mut tail: Vec<Placed> = tail.into_iter().map(|w| w.0).collect();
                    let old = tail.len();
                    join(&mut tail, r.words, cut);
                    self.words.extend(
                        tail.into_iter().enumerate().map(|(i, w)| (w, if i < old { was } else { doubtful })),
                    );
                }
                None => self.words.extend(r.words.into_iter().map(|w| (w, doubtful))),
            }
        }
    }

    pub fn finish(self, spoken: &[Span], samples: u64) -> Heard {
        Heard { segments: segments(self.words), gaps: gaps(spoken, samples), samples, broken: self.broken }
    }
}

/// Words to segments: at pauses and sentence ends.
fn segments(words: Vec<(Placed, bool)>) -> Vec<Segment> {
    let mut out = Vec::new();
    let mut open: Vec<Word> = Vec::new();
    let mut doubt = false;
    for (w, doubtful) in words {
        let word = Word {
            text: w.text,
            start_ms: Ms::from_seconds(w.start),
            end_ms: Ms::from_seconds(w.end),
            confidence: w.confidence.map(|c| (c * 1000.0).round() / 1000.0),
            heard: None,
        };
        if let (Some(first), Some(last)) = (open.first(), open.last()) {
            let pause = (word.start_ms - last.end_ms).0;
            let length = (last.end_ms - first.start_ms).0;
            let sentence = last.text.ends_with(['.', '?', '!', '…']);
            let part = last.text.ends_with([',', ';', ':']);
            if pause >= PAUSE
                || sentence && pause >= SENTENCE_PAUSE
                || sentence && length > LONG_SEGMENT / 3
                || part && length > LONG_SEGMENT
                || doubt != doubtful
            {
                out.extend(Segment::of(std::mem::take(&mut open), doubt));
            }
        }
        doubt = doubtful;
        open.push(word);
    }
    out.extend(Segment::of(open, doubt));
    out
}

/// Where nobody speaks for a while.
fn gaps(spoken: &[Span], samples: u64) -> Vec<Gap> {
    let mut out = Vec::new();
    let mut from = 0;
    for (start, end) in spoken.iter().map(|s| (s.start, s.end)).chain([(samples, samples)]) {
        let gap = Gap { start_ms: Ms::of_samples(from, RATE), end_ms: Ms::of_samples(start, RATE) };
        if (gap.end_ms - gap.start_ms).0 >= GAP {
            out.push(gap);
        }
        from = from.max(end);
    }
    out
}
