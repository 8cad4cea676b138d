//! A whole recording through a speech service: cut at silences into parts that are small enough, and joined again.

use super::answer::{Answer, Closeness};
use crate::error::{Error, Result};
use crate::listen::{Packing, Window, Windows};
use crate::model::RATE;
use crate::model::activity::Activity;
use crate::recognise::assemble::{Heard, Order, Reading};
use crate::recognise::join::join;
use crate::transcript::Ms;
use std::sync::atomic::{AtomicBool, Ordering};

/// A part of a recording as a service gets it.
pub struct Part<'a> {
    /// RIFF WAVE, PCM, 16 bits, one channel of [`RATE`].
    pub wav: Vec<u8>,
    /// Where in the recording it begins.
    pub start: Ms,
    /// Language that is spoken (BCP 47).
    pub language: &'a str,
    /// Spellings that are wanted.
    pub terms: &'a [String],
}

/// What a service says to a part.
#[derive(Debug)]
pub enum Reply {
    Heard(Answer),
    /// The part is larger than it takes.
    TooLarge,
}

/// Somewhere that hears sound. Waiting and trying again are its own affair; an error is final.
pub trait SpeechService {
    fn name(&self) -> &str;
    /// Most bytes of sound in one request.
    fn most(&self) -> u64;
    fn hear(&self, part: &Part<'_>) -> Result<Reply>;
}

/// What the service said of itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Told {
    pub model: Option<String>,
    pub language: Option<String>,
    pub closeness: Closeness,
    /// Parts that were sent.
    pub parts: usize,
}

const HEADER: u64 = 44;
const SAMPLE: u64 = 2;
/// Least that [`SpeechService::most`] may be: half a minute.
pub const MIN_MOST: u64 = 1_000_000;
/// More of the sound than this is not kept in memory, whatever a service takes: half an hour.
const MAX_LENGTH: u64 = 1800 * RATE as u64;
/// A pause of this many seconds always cuts.
const PAUSE: u64 = 30;

/// Windows of which each fits into a request.
fn packing(most: u64) -> Packing {
    let samples = (most.max(MIN_MOST) - HEADER) / SAMPLE;
    let longest = (samples - Packing::MARGIN).min(MAX_LENGTH);
    Packing { longest, shortest: longest * 6 / 10, pause: PAUSE * u64::from(RATE) }
}

/// Hears sound of [`RATE`] in one channel, as [`crate::recognise::engine::recognise`] does, by way of a service. Only
/// stretches with speech are sent.
pub fn recognise(
    service: &dyn SpeechService,
    activity: &Activity,
    terms: &[String],
    mut next: impl FnMut() -> Result<Option<Vec<f32>>>,
    mut passed: impl FnMut(u64),
    stop: &AtomicBool,
) -> Result<(Heard, Told)> {
    let mut windows = Windows::new(packing(service.most()));
    let mut asking = Asking { service, terms, told: Told::default(), stop };
    let mut order = Order::default();
    let (mut ready, mut spoken) = (Vec::new(), Vec::new());
    let (mut samples, mut number) = (0, 0);
    loop {
        let piece = next()?;
        match &piece {
            Some(sound) => {
                samples += sound.len() as u64;
                windows.push(activity, sound, &mut ready, &mut spoken);
            }
            None => windows.finish(activity, &mut ready, &mut spoken),
        }
        for w in ready.drain(..) {
            order.take((number, w.end(), asking.reading(&w)?));
            number += 1;
        }
        if stop.load(Ordering::Relaxed) {
            return Err(Error::Stopped);
        }
        passed(samples);
        if piece.is_none() {
            return Ok((order.finish(&spoken, samples), asking.told));
        }
    }
}

struct Asking<'a> {
    service: &'a dyn SpeechService,
    terms: &'a [String],
    told: Told,
    stop: &'a AtomicBool,
}

impl Asking<'_> {
    /// What the service hears in a window; in two halves, if the whole is too large for it.
    fn reading(&mut self, window: &Window) -> Result<Reading> {
        if self.stop.load(Ordering::Relaxed) {
            return Err(Error::Stopped);
        }
        let part = Part {
            wav: wav(&window.sound),
            start: Ms::of_samples(window.start, RATE),
            language: "en",
            terms: self.terms,
        };
        match self.service.hear(&part)? {
            Reply::Heard(answer) => {
                let (words, closeness) = answer.place(window);
                self.told.parts += 1;
                self.told.closeness = self.told.closeness.max(closeness);
                self.told.model = answer.model.or(self.told.model.take());
                self.told.language = answer.language.or(self.told.language.take());
                Ok(Reading { words, mean_log: 0.0, broken: false, cut_before: window.cut_before })
            }
            Reply::TooLarge => {
                let Some((a, b)) = window.halves() else {
                    return Err(Error::Service(format!(
                        "it says that {} bytes of sound, {:.1} s, are too many; a service must take at least that",
                        part.wav.len(),
                        window.sound.len() as f64 / f64::from(RATE)
                    )));
                };
                let (mut left, right) = (self.reading(&a)?, self.reading(&b)?);
                let cut = b.cut_before.unwrap_or(b.start) as f64 / f64::from(RATE);
                join(&mut left.words, right.words, cut);
                Ok(left)
            }
        }
    }
}

/// Sound as a RIFF WAVE file (Multimedia Programming Interface and Data Specifications 1.0, "WAVE").
pub fn wav(sound: &[f32]) -> Vec<u8> {
    let data = sound.len() as u32 * SAMPLE as u32;
    let mut out = Vec::with_capacity(data as usize + HEADER as usize);
    out.extend(b"RIFF");
    out.extend((data + HEADER as u32 - 8).to_le_bytes());
    out.extend(b"WAVEfmt ");
    out.extend(16u32.to_le_bytes());
    out.extend(1u16.to_le_bytes());
    out.extend(1u16.to_le_bytes());
    out.extend(RATE.to_le_bytes());
    out.extend((RATE * SAMPLE as u32).to_le_bytes());
    out.extend((SAMPLE as u16).to_le_bytes());
    out.extend(16u16.to_le_bytes());
    out.extend(b"data");
    out.extend(data.to_le_bytes());
    out.extend(sound.iter().flat_map(|v| ((v * 32768.0).round() as i16).to_le_bytes()));
    out
}
