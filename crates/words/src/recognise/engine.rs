//! A whole recording: sound in, words out, on several threads, in memory that does not grow with its length.

use super::align::{self, Placed};
use super::greedy::{self, Ended, Sound, Tokens};
use super::join::join;
use crate::error::{Error, Result};
use crate::listen::{Span, Window, Windows};
use crate::model::{Model, RATE};
use crate::transcript::{Gap, Ms, Segment, Word};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel, sync_channel};
use std::sync::{Arc, Mutex};

/// How much work a doubtful passage is worth.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "snake_case")]
pub enum Effort {
    /// Once is enough.
    Quick,
    /// Doubtful passages are heard again in two parts, and the better reading counts.
    #[default]
    Careful,
}

#[derive(Clone, Debug)]
pub struct Settings {
    /// Windows that are recognised at the same time.
    pub threads: usize,
    pub effort: Effort,
}

impl Settings {
    pub const MAX_THREADS: usize = 64;
}

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

/// Below this mean log-likelihood a passage is doubtful (MODEL.md, "Which signals reject").
const DOUBT: f32 = -0.4;
/// Silence that is worth noting.
const GAP: i64 = 1000;
/// Pauses that end a segment, and where a sentence's end suffices.
const PAUSE: i64 = 1200;
const SENTENCE_PAUSE: i64 = 250;
/// Longest segment, where a sentence's end or a comma allows.
const LONG_SEGMENT: i64 = 15_000;
/// Windows that take their steps together on one thread.
const TOGETHER: usize = 4;
/// How often a window may be halved.
const MAX_HALVINGS: u32 = 2;

/// One window, recognised.
struct Reading {
    words: Vec<Placed>,
    mean_log: f32,
    broken: bool,
    cut_before: Option<u64>,
}

/// Recognises sound of [`RATE`] in one channel, which `next` gives piece by piece until `None`. `passed` is told how
/// many samples have been dealt with.
pub fn recognise(
    model: &Model,
    settings: &Settings,
    mut next: impl FnMut() -> Result<Option<Vec<f32>>>,
    mut passed: impl FnMut(u64),
    stop: &AtomicBool,
) -> Result<Heard> {
    let threads = settings.threads.clamp(1, Settings::MAX_THREADS);
    std::thread::scope(|scope| {
        // A short queue: reading waits for recognising.
        let (jobs, taken) = sync_channel::<(usize, Window)>(threads * TOGETHER);
        let queued = Arc::new(AtomicUsize::new(0));
        // Only the threads hold it: when all have ended, sending fails instead of waiting.
        let taken = Arc::new(Mutex::new(taken));
        let (tell, told) = channel();
        let workers: Vec<_> = (0..threads)
            .map(|_| {
                let (tell, taken, queued) = (tell.clone(), taken.clone(), queued.clone());
                scope.spawn(move || work(model, settings, &taken, &queued, &tell, stop))
            })
            .collect();
        drop((tell, taken));
        let mut windows = Windows::default();
        let mut order = Order::default();
        let (mut spoken, mut ready, mut number) = (Vec::new(), Vec::new(), 0);
        let mut samples = 0u64;
        let read = (|| {
            loop {
                if stop.load(Ordering::Relaxed) {
                    return Err(Error::Stopped);
                }
                let piece = next()?;
                match &piece {
                    Some(sound) => {
                        samples += sound.len() as u64;
                        windows.push(&model.activity, sound, &mut ready, &mut spoken);
                    }
                    None => windows.finish(&model.activity, &mut ready, &mut spoken),
                }
                for w in ready.drain(..) {
                    queued.fetch_add(1, Ordering::Relaxed);
                    jobs.send((number, w)).map_err(|_| Error::Stopped)?;
                    number += 1;
                }
                while let Ok(done) = told.try_recv() {
                    order.take(done);
                }
                // Silence is dealt with as it is read.
                passed(if order.waiting(number) { order.upto } else { samples });
                if piece.is_none() {
                    return Ok(());
                }
            }
        })();
        drop(jobs);
        for done in told {
            if read.is_ok() {
                order.take(done);
                passed(order.upto);
            }
        }
        let fell = workers.into_iter().filter_map(|w| w.join().err()).count();
        read?;
        if stop.load(Ordering::Relaxed) {
            return Err(Error::Stopped);
        }
        if fell > 0 {
            return Err(Error::model("recogniser", "a thread of it ended early"));
        }
        let broken = order.broken;
        let segments = segments(order.words);
        let gaps = gaps(&spoken, samples);
        Ok(Heard { segments, gaps, samples, broken })
    })
}

type Done = (usize, u64, Reading);

fn work(
    model: &Model,
    settings: &Settings,
    jobs: &Mutex<Receiver<(usize, Window)>>,
    queued: &AtomicUsize,
    tell: &Sender<Done>,
    stop: &AtomicBool,
) {
    loop {
        let mut batch = Vec::new();
        if let Ok(jobs) = jobs.lock() {
            batch.extend(jobs.recv().ok());
            // A fair share of what waits, so that no thread has much left when the others have ended.
            let share = queued.load(Ordering::Relaxed) / settings.threads.max(1);
            while batch.len() < share.clamp(1, TOGETHER)
                && let Ok(job) = jobs.try_recv()
            {
                batch.push(job);
            }
        }
        queued.fetch_sub(batch.len(), Ordering::Relaxed);
        if batch.is_empty() || stop.load(Ordering::Relaxed) {
            return;
        }
        let sounds: Vec<Sound<'_>> =
            batch.iter().map(|(_, w)| Sound { samples: &w.sound, speech: true }).collect();
        let tokens = greedy::decode(model, &sounds);
        for ((number, window), tokens) in batch.iter().zip(tokens) {
            let reading = settle(model, settings, window, tokens, MAX_HALVINGS);
            if tell.send((*number, window.end(), reading)).is_err() {
                return;
            }
        }
    }
}

/// What a window says after its guards: broken or doubtful readings are tried again in halves.
fn settle(model: &Model, settings: &Settings, window: &Window, tokens: Tokens, halvings: u32) -> Reading {
    let first = read(model, window, &tokens);
    let again = first.broken || first.mean_log < DOUBT && settings.effort == Effort::Careful;
    if !again || halvings == 0 {
        return first;
    }
    let Some((a, b)) = window.halves() else { return first };
    let one = |w: &Window| {
        let sound = Sound { samples: &w.sound, speech: w.speech() >= u64::from(RATE) / 4 };
        let tokens = greedy::decode(model, &[sound]).remove(0);
        settle(model, settings, w, tokens, halvings - 1)
    };
    let (mut left, right) = (one(&a), one(&b));
    let weigh = |r: &Reading| r.mean_log * r.words.len().max(1) as f32;
    let words = (left.words.len() + right.words.len()).max(2) as f32;
    let mean_log = (weigh(&left) + weigh(&right)) / words;
    // Two broken halves are no better than one broken whole, unless they say more of it.
    if !first.broken && mean_log <= first.mean_log {
        return first;
    }
    let cut = b.cut_before.unwrap_or(b.start) as f64 / f64::from(RATE);
    join(&mut left.words, right.words, cut);
    Reading { mean_log, broken: left.broken || right.broken, ..left }
}

fn read(model: &Model, window: &Window, tokens: &Tokens) -> Reading {
    let mut words = align::words(tokens, &model.vocabulary, &window.sound);
    let base = window.start as f64 / f64::from(RATE);
    for w in &mut words {
        w.start += base;
        w.end += base;
    }
    Reading {
        words,
        mean_log: tokens.mean_log(),
        broken: tokens.ended != Ended::Whole,
        cut_before: window.cut_before,
    }
}

/// Puts readings back into the order of the recording.
#[derive(Default)]
struct Order {
    early: BTreeMap<usize, (u64, Reading)>,
    taken: usize,
    upto: u64,
    /// Words, and whether their window was doubtful.
    words: Vec<(Placed, bool)>,
    broken: Vec<Ms>,
}

impl Order {
    fn waiting(&self, sent: usize) -> bool {
        self.taken < sent
    }

    fn take(&mut self, (number, end, reading): Done) {
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
            confidence: (w.confidence * 1000.0).round() / 1000.0,
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
