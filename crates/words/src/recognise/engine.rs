//! A whole recording: sound in, words out, on several threads, in memory that does not grow with its length.

use super::align;
use super::assemble::{DOUBT, Done, Heard, Order, Reading};
use super::greedy::{self, Ended, Sound, Tokens};
use super::join::join;
use crate::error::{Error, Result};
use crate::listen::{Packing, Window, Windows};
use crate::model::{Model, RATE};
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

/// Windows that take their steps together on one thread.
const TOGETHER: usize = 4;
/// How often a window may be halved.
const MAX_HALVINGS: u32 = 2;

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
        let mut windows = Windows::new(Packing::BUILT_IN);
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
        Ok(order.finish(&spoken, samples))
    })
}

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
