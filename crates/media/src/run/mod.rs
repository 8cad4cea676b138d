//! Carrying out a plan: the source is read and decoded once, and the frames fan out to every output.
//!
//! One thread reads and decodes; one thread an output filters, encodes and writes; filters that several outputs share have
//! a thread of their own ([`tree`]). The channels between them are short, so memory does not grow with length. An output
//! that fails ends by itself; the others go on.

mod film;
mod pictures;
mod source;
mod still;
mod tree;
mod wave;

pub use source::measure;

use crate::container::Demux;
use crate::container::wrap::Target;
use crate::error::{Error, Result};
use crate::frame::{AudioFrame, Pool};
use crate::plan::{MadePlan, Plan};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::sync_channel;

/// Frames that may wait in front of an output.
const QUEUE: usize = 4;

/// Shared with whoever watches a run.
#[derive(Debug, Default)]
pub struct Control {
    stop: AtomicBool,
    /// Frames of the source (samples, for sound alone) that are behind.
    read: AtomicU64,
    /// Frames (samples, for sound alone) finished by each output.
    done: Vec<AtomicU64>,
}

impl Control {
    pub fn new(outputs: usize) -> Self {
        Control { done: (0..outputs).map(|_| AtomicU64::new(0)).collect(), ..Control::default() }
    }
    /// Asks the run to end with [`Error::Stopped`].
    pub fn stop(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }
    pub fn stopping(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
    /// Frames of the source that went to all outputs; a few of them are still on their way.
    pub fn done(&self) -> u64 {
        self.read.load(Ordering::Relaxed)
    }
    /// Frames that one output has finished.
    pub fn done_by(&self, output: usize) -> u64 {
        self.done.get(output).map_or(0, |d| d.load(Ordering::Relaxed))
    }
    fn add(&self, output: usize, n: u64) {
        if let Some(d) = self.done.get(output) {
            d.fetch_add(n, Ordering::Relaxed);
        }
    }
    fn read(&self, n: u64) {
        self.read.fetch_add(n, Ordering::Relaxed);
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

/// What comes to an output.
enum Message {
    Picture(crate::filter::video::Shown),
    /// Sound of the plan's audio track with this place in its list.
    Sound {
        place: usize,
        frame: Arc<AudioFrame>,
    },
    /// No more pictures (or sound) come: an output whose channel closes without this was let down.
    End(Line),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Line {
    Pictures,
    Sound,
}

/// Makes every output of the plan. Each sink becomes a whole file, or is worthless where its result is an error. An error
/// of the whole is the source's, or the wish to stop.
pub fn run(
    demux: &mut dyn Demux,
    plan: &Plan,
    targets: Vec<Target>,
    control: &Control,
) -> Result<Vec<Result<Made>>> {
    if targets.len() != plan.outputs.len() {
        return Err(Error::setting(
            "outputs",
            format!("{} files for {} outputs", targets.len(), plan.outputs.len()),
        ));
    }
    let pool = Pool::new();
    std::thread::scope(|scope| {
        let (mut senders, mut receivers) = (Vec::new(), Vec::new());
        for _ in &plan.outputs {
            let (to, from) = sync_channel(QUEUE);
            senders.push(to);
            receivers.push(from);
        }
        let mut tree = tree::Tree::new(plan, &pool, &senders)?;
        let mut workers = Vec::new();
        for (i, ((out, to), from)) in plan.outputs.iter().zip(targets).zip(receivers).enumerate() {
            let chain = tree.chain_of(i);
            let pool = pool.clone();
            workers.push(scope.spawn(move || match &out.made {
                MadePlan::Film(film) => film::make(i, film, chain, to.file()?, pool, from, control),
                MadePlan::Still(still) => still::make(i, still, chain, to.file()?, from, control),
                MadePlan::Pictures(p) => pictures::make(i, p, chain, to, from, control),
                MadePlan::Wave(w) => wave::make(i, w, to.file()?, from, control),
            }));
        }
        let (roots, branches) = tree.take();
        let branches: Vec<_> = branches.into_iter().map(|b| scope.spawn(move || b.work(control))).collect();
        let sounds = source::Sounds::of(plan, &senders);
        drop(senders);
        let read = source::feed(demux, plan, &pool, roots, sounds, control);
        if read.is_err() {
            control.stop();
        }
        let broken = || Error::limit("output", "its thread ended early");
        let shared: Vec<Result<()>> =
            branches.into_iter().map(|b| b.join().unwrap_or_else(|_| Err(broken()))).collect();
        let made: Vec<Result<Made>> =
            workers.into_iter().map(|w| w.join().unwrap_or_else(|_| Err(broken()))).collect();
        let said = read?;
        // What a shared filter said is the reason of all that it let down.
        let why = shared.into_iter().filter_map(Result::err).find(|e| !matches!(e, Error::Stopped));
        let mut results = Vec::new();
        for (made, out) in made.into_iter().zip(&plan.outputs) {
            results.push(match (made, &why) {
                (Err(Error::Stopped), Some(e)) => Err(e.again()),
                (Ok(mut m), _) => {
                    m.notes.splice(0..0, out.notes.iter().cloned());
                    if out.node().is_some() {
                        m.notes.extend(said.picture.iter().cloned());
                    }
                    if !out.made.places().is_empty() {
                        m.notes.extend(said.sound.iter().cloned());
                    }
                    Ok(m)
                }
                (made, _) => made,
            });
        }
        Ok(results)
    })
}
