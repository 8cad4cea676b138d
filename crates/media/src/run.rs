//! Carrying out a plan: the source is read and decoded once, and the frames fan out to every output.
//!
//! One thread reads and decodes; one thread an output scales, encodes and writes. The channels between
//! them are short, so memory does not grow with length.

mod decode;
mod output;

use crate::container::Demux;
use crate::container::mp4::Sink;
use crate::error::{Error, Result};
use crate::frame::Pool;
use crate::plan::Plan;
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::sync_channel;

/// Frames that may wait in front of an output.
const QUEUE: usize = 4;

/// Shared with whoever watches a run.
#[derive(Debug, Default)]
pub struct Control {
    stop: AtomicBool,
    /// Frames (samples, for sound alone) finished by each output.
    done: Vec<AtomicU64>,
}

impl Control {
    pub fn new(outputs: usize) -> Self {
        Control { stop: AtomicBool::new(false), done: (0..outputs).map(|_| AtomicU64::new(0)).collect() }
    }
    /// Asks the run to end with [`Error::Stopped`].
    pub fn stop(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }
    pub fn stopping(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
    /// Frames that every output has finished.
    pub fn done(&self) -> u64 {
        self.done.iter().map(|d| d.load(Ordering::Relaxed)).min().unwrap_or(0)
    }
    fn add(&self, output: usize, n: u64) {
        self.done[output].fetch_add(n, Ordering::Relaxed);
    }
}

/// What was made.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Made {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<(u32, u32)>,
    pub frames: u64,
    /// Sound tracks: samples written, at which rate, channels.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sound: Vec<(u64, u32, u16)>,
    /// Presented length of the longest track, in seconds.
    pub seconds: f64,
    /// What had to be worked around in the source.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

/// Makes every output of the plan. Each sink becomes a whole MP4, or is worthless if this fails.
pub fn run(
    demux: &mut dyn Demux,
    plan: &Plan,
    sinks: Vec<Box<dyn Sink>>,
    control: &Control,
) -> Result<Vec<Made>> {
    if sinks.len() != plan.outputs.len() {
        return Err(Error::setting(
            "outputs",
            format!("{} files for {} outputs", sinks.len(), plan.outputs.len()),
        ));
    }
    let pool = Pool::new();
    std::thread::scope(|scope| {
        let mut senders = Vec::new();
        let mut workers = Vec::new();
        for (i, (out, sink)) in plan.outputs.iter().zip(sinks).enumerate() {
            let (to, from) = sync_channel(QUEUE);
            senders.push(to);
            let pool = pool.clone();
            workers.push(scope.spawn(move || {
                let result = output::make(i, out, sink, pool, from, control);
                if result.is_err() {
                    control.stop();
                }
                result
            }));
        }
        let read = decode::feed(demux, plan, &pool, &senders, control);
        drop(senders);
        let made: Vec<Result<Made>> = workers
            .into_iter()
            .map(|w| w.join().unwrap_or_else(|_| Err(Error::limit("output", "its thread ended early"))))
            .collect();
        // The first real reason counts; "stopped" is only its echo in the other threads.
        let (mut results, mut stopped) = (Vec::new(), None);
        let said = match read {
            Ok(said) => said,
            Err(Error::Stopped) => {
                stopped = Some(Error::Stopped);
                Default::default()
            }
            Err(e) => return Err(e),
        };
        for made in made {
            match made {
                Ok(m) => results.push(m),
                Err(Error::Stopped) => stopped = Some(Error::Stopped),
                Err(e) => return Err(e),
            }
        }
        if let Some(e) = stopped {
            return Err(e);
        }
        for (m, out) in results.iter_mut().zip(&plan.outputs) {
            m.notes.splice(0..0, out.notes.iter().cloned());
            if out.video.is_some() {
                m.notes.extend(said.picture.iter().cloned());
            }
            if !out.audio.is_empty() {
                m.notes.extend(said.sound.iter().cloned());
            }
        }
        Ok(results)
    })
}
