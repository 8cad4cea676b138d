//! Filters on sound. Each takes interleaved samples and gives as many as are ready.
//!
//! To add one: a file here with a type that implements [`AudioFilter`], a variant of [`AudioStep`], and its lines in
//! `form`, `start` and `words`. `contract.rs` then checks it with all the others.

pub mod dynamics;
pub mod fade;
pub mod limiter;
pub mod meter;
pub mod mix;
pub mod resample;
pub mod timeline;

#[cfg(test)]
mod contract;

pub use mix::mix_down;
pub use resample::Resampler;
pub use timeline::Timeline;

use crate::error::Result;
use crate::recipe::Loudness;
use limiter::Limiter;

/// Interleaved samples in, interleaved samples out. Over the whole of a sound the length is that of what came in (at the
/// new rate, where that is another), and nothing moves in time.
pub trait AudioFilter: Send {
    fn push(&mut self, samples: Vec<f32>) -> Result<Vec<f32>>;
    /// Gives what is held back.
    fn finish(&mut self) -> Result<Vec<f32>> {
        Ok(Vec::new())
    }
}

/// What sound looks like at one point of its way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AudioForm {
    /// Samples a second.
    pub rate: u32,
    pub channels: u16,
}

/// One filter with its numbers.
#[derive(Clone, Debug, PartialEq)]
pub enum AudioStep {
    /// Fewer channels, or more.
    Mix(u16),
    /// One channel alone, from 0.
    Pick(u16),
    /// Decibels more or less.
    Gain(f64),
    /// Quiet passages louder and loud ones quieter, for listening on the way.
    Even,
    Fade(fade::Fade),
    /// To a loudness; the factor is known once it was measured. Nothing is done to silence.
    Level {
        to: Loudness,
        factor: Option<f32>,
    },
    Resample(u32),
}

impl AudioStep {
    /// What comes out of it.
    pub fn form(&self, from: AudioForm) -> AudioForm {
        match self {
            AudioStep::Mix(channels) => AudioForm { channels: *channels, ..from },
            AudioStep::Pick(_) => AudioForm { channels: 1, ..from },
            AudioStep::Resample(rate) => AudioForm { rate: *rate, ..from },
            AudioStep::Gain(_) | AudioStep::Even | AudioStep::Fade(_) | AudioStep::Level { .. } => from,
        }
    }

    pub fn start(&self, from: AudioForm) -> Result<Box<dyn AudioFilter>> {
        Ok(match *self {
            AudioStep::Mix(to) => each(move |s| mix_down(s, from.channels, to)),
            AudioStep::Pick(c) => {
                let (c, of) = (usize::from(c), usize::from(from.channels.max(1)));
                each(move |s| s.iter().skip(c).step_by(of).copied().collect())
            }
            AudioStep::Gain(db) => {
                let by = 10f64.powf(db / 20.0) as f32;
                each(move |mut s| {
                    s.iter_mut().for_each(|v| *v *= by);
                    s
                })
            }
            AudioStep::Even => Box::new(dynamics::Evener::new(from)),
            AudioStep::Fade(f) => Box::new(fade::Fader::new(f, from)),
            AudioStep::Level { factor: None, .. } => each(|s| s),
            AudioStep::Level { to, factor: Some(factor) } => {
                Box::new(Levelled { factor, limiter: Limiter::new(from.rate, from.channels, to.peak) })
            }
            AudioStep::Resample(to) => Box::new(Resampler::new(from.rate, to, from.channels)?),
        })
    }

    /// For people, with its numbers.
    pub fn words(&self, from: AudioForm) -> String {
        match self {
            AudioStep::Mix(to) => format!("{} channels to {to}", from.channels),
            AudioStep::Pick(c) => format!("channel {} of {}", c + 1, from.channels),
            AudioStep::Gain(db) => format!("{db:+} dB"),
            AudioStep::Even => dynamics::WORDS.into(),
            AudioStep::Fade(f) => f.words(),
            AudioStep::Level { to, .. } => {
                format!("to {} LUFS, true peaks at most {} dBTP", to.target, to.peak)
            }
            AudioStep::Resample(to) => format!("{} Hz to {to} Hz", from.rate),
        }
    }
}

/// A filter that gives at once what it was given.
struct Each<F>(F);

fn each<F: FnMut(Vec<f32>) -> Vec<f32> + Send + 'static>(work: F) -> Box<dyn AudioFilter> {
    Box::new(Each(work))
}

impl<F: FnMut(Vec<f32>) -> Vec<f32> + Send> AudioFilter for Each<F> {
    fn push(&mut self, samples: Vec<f32>) -> Result<Vec<f32>> {
        Ok(self.0(samples))
    }
}

struct Levelled {
    factor: f32,
    limiter: Limiter,
}

impl AudioFilter for Levelled {
    fn push(&mut self, mut samples: Vec<f32>) -> Result<Vec<f32>> {
        samples.iter_mut().for_each(|s| *s *= self.factor);
        Ok(self.limiter.push(&samples))
    }
    fn finish(&mut self) -> Result<Vec<f32>> {
        Ok(self.limiter.finish())
    }
}

impl AudioFilter for Resampler {
    fn push(&mut self, samples: Vec<f32>) -> Result<Vec<f32>> {
        Resampler::push(self, &samples)
    }
    fn finish(&mut self) -> Result<Vec<f32>> {
        Resampler::finish(self)
    }
}

/// Filters one behind the other.
pub struct AudioChain {
    filters: Vec<Box<dyn AudioFilter>>,
}

impl AudioChain {
    pub fn new(steps: &[AudioStep], from: AudioForm) -> Result<AudioChain> {
        let mut form = from;
        let filters = steps.iter().map(|s| {
            let filter = s.start(form);
            form = s.form(form);
            filter
        });
        Ok(AudioChain { filters: filters.collect::<Result<_>>()? })
    }

    pub fn push(&mut self, samples: Vec<f32>) -> Result<Vec<f32>> {
        run(&mut self.filters, samples)
    }

    pub fn finish(&mut self) -> Result<Vec<f32>> {
        let mut out = Vec::new();
        for n in 0..self.filters.len() {
            let rest = self.filters[n].finish()?;
            out.extend(run(&mut self.filters[n + 1..], rest)?);
        }
        Ok(out)
    }
}

fn run(filters: &mut [Box<dyn AudioFilter>], samples: Vec<f32>) -> Result<Vec<f32>> {
    filters.iter_mut().try_fold(samples, |s, f| f.push(s))
}
