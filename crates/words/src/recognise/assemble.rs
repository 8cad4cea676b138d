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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Words as `word@start` in seconds, each 0.3 s long.
    fn placed(list: &str) -> Vec<Placed> {
        let word = |w: &str| {
            let (text, at) = w.split_once('@').unwrap();
            let start: f64 = at.parse().unwrap();
            Placed { text: text.into(), start, end: start + 0.3, confidence: Some(0.9) }
        };
        list.split_whitespace().map(word).collect()
    }

    fn reading(list: &str, mean_log: f32, cut_before: Option<u64>) -> Reading {
        Reading { words: placed(list), mean_log, broken: false, cut_before }
    }

    fn texts(h: &Heard) -> Vec<&str> {
        h.segments.iter().map(|s| s.text.as_str()).collect()
    }

    const SECOND: u64 = RATE as u64;

    #[test]
    fn readings_come_in_any_order_and_leave_in_that_of_the_recording() {
        let mut order = Order::default();
        order.take((2, 30 * SECOND, reading("three@21", -0.1, None)));
        assert!(order.waiting(3) && order.upto == 0);
        order.take((0, 10 * SECOND, reading("one@1", -0.1, None)));
        assert_eq!(order.upto, 10 * SECOND);
        order.take((1, 20 * SECOND, reading("two@11", -0.1, None)));
        assert!(!order.waiting(3) && order.upto == 30 * SECOND);
        assert_eq!(texts(&order.finish(&[], 30 * SECOND)), ["one", "two", "three"]);
    }

    #[test]
    fn both_sides_of_a_cut_keep_a_word_once() {
        let mut order = Order::default();
        order.take((0, 11 * SECOND, reading("the@9 tide@9.6 came@10.2 i@10.6", -0.1, None)));
        order.take((1, 20 * SECOND, reading("ide@9.7 came@10.2 in@10.6", -0.1, Some(10 * SECOND))));
        assert_eq!(texts(&order.finish(&[], 20 * SECOND)), ["the tide came in"]);
    }

    #[test]
    fn doubt_and_breaks_are_told_where_they_are() {
        let mut order = Order::default();
        order.take((0, 10 * SECOND, reading("clear@1", -0.1, None)));
        order.take((1, 20 * SECOND, Reading { broken: true, ..reading("mumbled@11", -0.9, None) }));
        let heard = order.finish(&[], 20 * SECOND);
        assert_eq!(heard.segments.iter().map(|s| s.doubtful).collect::<Vec<_>>(), [false, true]);
        assert_eq!(heard.broken, [Ms(11_000)]);
    }

    #[rstest]
    #[case::pause("one@0 two@2", &["one", "two"])]
    #[case::sentence_and_a_short_pause("one.@0 two@0.6", &["one.", "two"])]
    #[case::sentence_without_a_pause("one.@0 two@0.4", &["one. two"])]
    #[case::long_sentences("a@0 b@1 c@2 d@3 e@4 f.@5 g@5.4", &["a b c d e f.", "g"])]
    fn segments_end_at_pauses_and_sentences(#[case] words: &str, #[case] want: &[&str]) {
        let got = segments(placed(words).into_iter().map(|w| (w, false)).collect());
        assert_eq!(got.iter().map(|s| s.text.as_str()).collect::<Vec<_>>(), want);
    }

    #[test]
    fn gaps_are_where_nobody_speaks_for_a_second() {
        let span = |a: u64, b: u64| Span { start: a * SECOND, end: b * SECOND };
        let got = gaps(&[span(2, 4), span(4, 5), span(9, 10)], 10 * SECOND + SECOND / 2);
        let want = [(0, 2000), (5000, 9000)].map(|(a, b)| Gap { start_ms: Ms(a), end_ms: Ms(b) });
        assert_eq!(got, want);
        assert_eq!(gaps(&[], 0), []);
    }
}
