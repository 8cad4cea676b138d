//! Tokens to words with times: which frame each step looked at, as a path that only goes forward (MODEL.md, "Word
//! times").

use super::greedy::Tokens;
use super::level::Levels;
use crate::model::vocabulary::Vocabulary;

/// Seconds a frame, and how much the model looks ahead of what it hears.
const FRAME: f64 = 0.024;
const AHEAD: f64 = 0.046;

/// A word in its window, times in seconds from the window's start.
#[derive(Clone, Debug, PartialEq)]
pub struct Placed {
    pub text: String,
    pub start: f64,
    pub end: f64,
    /// Mean likelihood of its tokens, 0 to 1; `None` if it is not known.
    pub confidence: Option<f32>,
}

pub fn words(tokens: &Tokens, vocabulary: &Vocabulary, sound: &[f32]) -> Vec<Placed> {
    if tokens.ids.is_empty() {
        return Vec::new();
    }
    let (starts, ends) = path(&tokens.looked, tokens.frames);
    let levels = Levels::of(sound);
    let mut out = Vec::new();
    let mut first = 0;
    for i in 1..=tokens.ids.len() {
        let part = &tokens.ids[first..i];
        let more = i < tokens.ids.len() && !vocabulary.starts_word(tokens.ids[i]);
        let text = vocabulary.text(part);
        // A space alone belongs to what follows it.
        if more || text.is_empty() && i < tokens.ids.len() {
            continue;
        }
        if text.is_empty() {
            break;
        }
        // A token's row is the step in which it was the input: one behind its own place.
        let (a, b) = (first + 1, (i).min(starts.len() - 1));
        let start = (FRAME * starts[a.min(starts.len() - 1)] as f64 - AHEAD).max(0.0);
        let end = (FRAME * (ends[b] + 1) as f64 - AHEAD).max(start);
        let (start, end) = levels.trim(start, end);
        let confidence = tokens.logs[first..i].iter().sum::<f32>() / (i - first) as f32;
        out.push(Placed { text, start, end, confidence: Some(confidence.exp()) });
        first = i;
    }
    for i in 1..out.len() {
        out[i].start = out[i].start.max(out[i - 1].start);
        out[i].end = out[i].end.max(out[i].start);
        let next = out[i].start;
        out[i - 1].end = out[i - 1].end.min(next);
    }
    out
}

/// First and last frame of each row, on the cheapest path from the first row and frame to the last of both.
fn path(looked: &[f32], frames: usize) -> (Vec<usize>, Vec<usize>) {
    let rows = looked.len() / frames.max(1);
    let gain = |r: usize, f: usize| {
        let row = &looked[r * frames..][..frames];
        let (a, b, c) = (row[f.saturating_sub(1)], row[f], row[(f + 1).min(frames - 1)]);
        a.max(b).min(a.min(b).max(c))
    };
    // How each cell was reached: 0 from both before, 1 from the frame before, 2 from the row before.
    let mut from = vec![0u8; rows * frames];
    let mut before = vec![f32::INFINITY; frames];
    let mut cost = vec![f32::INFINITY; frames];
    for r in 0..rows {
        for f in 0..frames {
            let both = if r > 0 && f > 0 { before[f - 1] } else { f32::INFINITY };
            let frame = if f > 0 { cost[f - 1] } else { f32::INFINITY };
            let row = if r > 0 { before[f] } else { f32::INFINITY };
            let (best, how) = if both <= frame && both <= row {
                (both, 0)
            } else if frame <= row {
                (frame, 1)
            } else {
                (row, 2)
            };
            from[r * frames + f] = how;
            cost[f] = if r + f == 0 { 0.0 } else { best } - gain(r, f);
        }
        std::mem::swap(&mut before, &mut cost);
        cost.fill(f32::INFINITY);
    }
    let (mut starts, mut ends) = (vec![0; rows], vec![0; rows]);
    let (mut r, mut f) = (rows - 1, frames - 1);
    ends[r] = f;
    loop {
        starts[r] = f;
        if r == 0 && f == 0 {
            break;
        }
        let how = from[r * frames + f];
        let row = r;
        (r, f) = match how {
            _ if r == 0 => (0, f - 1),
            _ if f == 0 => (r - 1, 0),
            0 => (r - 1, f - 1),
            1 => (r, f - 1),
            _ => (r - 1, f),
        };
        if r != row {
            ends[r] = f;
        }
    }
    (starts, ends)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_path_follows_what_was_looked_at() {
        // Three rows that look at frames 0 to 3, 4 to 6 and 7 to 9.
        let mut looked = vec![0.0f32; 30];
        for (row, frames) in [(0, 0..4), (1, 4..7), (2, 7..10)] {
            for f in frames {
                looked[row * 10 + f] = 1.0;
            }
        }
        assert_eq!(path(&looked, 10), (vec![0, 4, 7], vec![3, 6, 9]));
        assert_eq!(path(&[0.1; 3], 1), (vec![0, 0, 0], vec![0, 0, 0]));
    }
}
