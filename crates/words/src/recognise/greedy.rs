//! The most likely token, step after step, with the guards of MODEL.md.

use crate::math::softmax;
use crate::model::decoder::Path;
use crate::model::vocabulary::{END, START};
use crate::model::{Model, RATE, TOKENS, WIDTH};

/// Why the steps ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ended {
    Whole,
    /// It said the same again and again; the repeats are left out.
    Loop,
    /// More tokens than can be spoken in that time.
    Long,
}

/// What one window gave.
pub struct Tokens {
    pub ids: Vec<u32>,
    /// Natural logarithm of the likelihood of each, and of the end.
    pub logs: Vec<f32>,
    /// For the step before each token and the one behind the last: how much each frame was looked at.
    pub looked: Vec<f32>,
    pub frames: usize,
    pub ended: Ended,
}

impl Tokens {
    pub fn mean_log(&self) -> f32 {
        self.logs.iter().sum::<f32>() / self.logs.len().max(1) as f32
    }
}

/// Sound of one window and whether speech was found in it.
pub struct Sound<'a> {
    pub samples: &'a [f32],
    pub speech: bool,
}

/// Decodes several windows, taking their steps together.
pub fn decode(model: &Model, sounds: &[Sound<'_>]) -> Vec<Tokens> {
    let mut paths: Vec<Path> = sounds
        .iter()
        .map(|s| model.decoder.begin(&model.tensors, &model.encoder.encode(&model.tensors, s.samples)))
        .collect();
    let most: Vec<usize> = sounds
        .iter()
        .map(|s| (13.0 * s.samples.len() as f64 / f64::from(RATE)).ceil() as usize + 8)
        .collect();
    let mut tokens: Vec<Tokens> = sounds
        .iter()
        .map(|s| Tokens {
            ids: Vec::new(),
            logs: Vec::new(),
            looked: Vec::new(),
            frames: crate::model::encoder::Encoder::frames(s.samples.len()),
            ended: Ended::Whole,
        })
        .collect();
    let mut going: Vec<usize> = (0..sounds.len()).filter(|&i| tokens[i].frames > 0).collect();
    let mut scores = Vec::new();
    while !going.is_empty() {
        let inputs: Vec<u32> =
            going.iter().map(|&i| tokens[i].ids.last().copied().unwrap_or(START)).collect();
        let mut stepping: Vec<&mut Path> =
            paths.iter_mut().enumerate().filter(|(i, _)| going.contains(i)).map(|(_, p)| p).collect();
        model.decoder.step(&model.tensors, &mut stepping, &inputs, &mut scores);
        let mut still = Vec::new();
        for (row, &i) in scores.chunks_exact_mut(TOKENS).zip(&going) {
            let t = &mut tokens[i];
            let ended = t.ended != Ended::Whole || t.take(row, sounds[i].speech, most[i]);
            if ended {
                t.looked = std::mem::take(&mut paths[i].looked);
            } else {
                still.push(i);
            }
        }
        going = still;
    }
    for t in &mut tokens {
        t.looked.truncate((t.ids.len() + 1) * t.frames);
    }
    tokens
}

impl Tokens {
    /// The next token from its scores. True where nothing more is needed.
    fn take(&mut self, scores: &mut [f32], speech: bool, most: usize) -> bool {
        if self.ids.is_empty() && speech {
            // Someone speaks: "nothing at all" cannot be right.
            scores[END as usize] = f32::NEG_INFINITY;
        }
        let best = scores.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1)).map_or(END, |(i, _)| i as u32);
        softmax(scores, 1.0);
        self.logs.push(scores[best as usize].max(1e-9).ln());
        if best == END {
            return true;
        }
        self.ids.push(best);
        if let Some(kept) = repeats(&self.ids) {
            self.ids.truncate(kept);
            self.logs.truncate(kept);
            self.ended = Ended::Loop;
        } else if self.ids.len() >= most {
            self.ended = Ended::Long;
        }
        // One more step shows where the last token was heard; after a loop it has been taken already.
        self.ended == Ended::Loop
    }
}

/// Length without the repeats, if the last tokens say the same again and again.
fn repeats(ids: &[u32]) -> Option<usize> {
    for p in 1..=30usize {
        let times = 4.max(24usize.div_ceil(p));
        let Some(from) = ids.len().checked_sub(p * times) else { continue };
        let tail = &ids[from..];
        if tail[p..].iter().zip(tail).all(|(a, b)| a == b) {
            return Some(from + p);
        }
    }
    None
}

/// Rows of `WIDTH` values, for a check against known numbers.
pub fn encoded(model: &Model, samples: &[f32]) -> Vec<[f32; WIDTH]> {
    let rows = model.encoder.encode(&model.tensors, samples);
    rows.chunks_exact(WIDTH).filter_map(|r| r.try_into().ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loops_are_seen_and_speech_is_not_taken_for_one() {
        let mut ids = vec![5, 6, 7];
        ids.extend([9; 24]);
        assert_eq!(repeats(&ids), Some(4));
        assert_eq!(repeats(&ids[..26]), None);
        let phrase: Vec<u32> = (100..112).collect();
        let said = [&ids[..3], &phrase.repeat(4)].concat();
        assert_eq!(repeats(&said), Some(15));
        assert_eq!(repeats(&said[..said.len() - 1]), None);
        assert_eq!(repeats(&(0..200).collect::<Vec<u32>>()), None);
    }
}
