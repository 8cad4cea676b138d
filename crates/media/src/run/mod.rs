//! Carrying out a plan: the source is read and decoded once, and the frames fan out to every output.
//!
//! One thread reads and decodes; one thread an output filters, encodes and writes; filters that several outputs share have
//! a thread of their own ([`tree`]). The channels between them are short, so memory does not grow with length. An output
//! that fails ends by itself; the others go on.

mod bars;
mod copy;
mod film;
pub mod kept;
mod pictures;
mod source;
mod still;
mod stream;
mod tree;
mod wave;

pub use bars::bars;
pub use source::{levels, look_ahead, measure, set_levels};

use crate::container::Demux;
use crate::container::wrap::{Fragment, Target};
use crate::error::{Error, Result};
use crate::frame::{AudioFrame, Pool};
use crate::plan::{MadePlan, Plan};
use crate::track::Packet;
use kept::Keeps;
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
    /// Some of it was taken over as it was.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub copied: bool,
    /// Files inside, of an output of many films: their names, and what each is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub inside: Vec<(String, Made)>,
    /// Where fragments lie, of a file that is written in such, and the codec's setup record: for whoever writes its index.
    #[serde(skip)]
    pub fragments: Vec<Fragment>,
    #[serde(skip)]
    pub setup: Vec<u8>,
}

/// What comes to an output.
enum Message {
    Picture(crate::filter::video::Shown),
    /// Sound of the plan's audio track with this place in its list.
    Sound {
        place: usize,
        frame: Arc<AudioFrame>,
    },
    /// A packet of a track that is taken as it is.
    Packet(Arc<Packet>),
    /// No more pictures (or sound) come: an output whose channel closes without this was let down.
    End(Line),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Line {
    Pictures,
    Sound,
    Packets,
}

/// Up to which moment of the source, in seconds, no picture is needed by anybody.
fn resume(plan: &Plan, kept: &[Keeps]) -> f64 {
    if !plan.nodes.iter().all(|n| n.step.is_local()) {
        return 0.0;
    }
    let outputs = plan.outputs.iter().zip(kept).filter(|(o, _)| o.node().is_some());
    let behind = outputs.map(|(o, kept)| match (&kept.pictures, o.film().and_then(|f| f.video.as_ref())) {
        (Some(kept), Some(v)) if kept.whole().frames > 0 => {
            let from = o.span.map_or(0.0, |s| s.from);
            from + kept.whole().end as f64 / f64::from(v.form.timescale.max(1))
        }
        _ => 0.0,
    });
    behind.reduce(f64::min).unwrap_or(0.0)
}

fn is_av1(line: &MadePlan) -> bool {
    let video = line.film().and_then(|f| f.video.as_ref());
    video.is_some_and(|v| v.coder.coded == crate::track::Codec::Av1)
}

/// Written while the film goes on. Encoders of stills and of films take turns (`codec/svt`), so they would wait for each other.
fn is_avif_on_the_way(p: &crate::plan::PicturesPlan) -> bool {
    p.kind.is_folder() && p.format.is_av1()
}

/// Does the work of an output behind that of who reads, decodes and filters for it. An encoder has more threads than there are
/// cores, and one that decodes got its turn among them: it was too late then, and all of them waited for it. What is in front of
/// a queue cannot take too much, as it waits where the queue is full.
fn give_way<T>(work: impl FnOnce() -> T) -> T {
    use rustix::process::{getpriority_process, setpriority_process};
    const LOWEST: i32 = 19;
    const BY: i32 = 5;
    // Of this thread and those that it begins. Where it may not be, it is no loss.
    if let Ok(now) = getpriority_process(None) {
        let _ = setpriority_process(None, (now + BY).min(LOWEST));
    }
    work()
}

/// Makes every output of the plan. Each sink becomes a whole file, or is worthless where its result is an error. An error
/// of the whole is the source's, or the wish to stop.
pub fn run(
    demux: &mut dyn Demux,
    plan: &Plan,
    targets: Vec<Target>,
    control: &Control,
) -> Result<Vec<Result<Made>>> {
    run_on(demux, plan, targets, Vec::new(), control)
}

/// The same, going on with what an earlier run kept of some outputs, and keeping what is whole of them.
pub fn run_on(
    demux: &mut dyn Demux,
    plan: &Plan,
    targets: Vec<Target>,
    mut kept: Vec<Keeps>,
    control: &Control,
) -> Result<Vec<Result<Made>>> {
    kept.resize_with(plan.outputs.len(), Keeps::default);
    let resume = resume(plan, &kept);
    if targets.len() != plan.outputs.len() {
        return Err(Error::setting(
            "outputs",
            format!("{} files for {} outputs", targets.len(), plan.outputs.len()),
        ));
    }
    let pool = Pool::new();
    std::thread::scope(|scope| {
        let lines: Vec<&MadePlan> = plan.outputs.iter().flat_map(|o| o.made.lines()).collect();
        let (senders, receivers): (Vec<_>, Vec<_>) = lines.iter().map(|_| sync_channel(QUEUE)).unzip();
        let mut tree = tree::Tree::new(plan, &lines, &pool, &senders)?;
        let (mut workers, mut streams) = (Vec::new(), Vec::new());
        let mut receivers = receivers.into_iter();
        let av1 = lines.iter().any(|line| is_av1(line));
        for (i, ((out, to), mut kept)) in plan.outputs.iter().zip(targets).zip(kept).enumerate() {
            let (targets, stream) = stream::begin(&out.made, to)?;
            streams.push(stream);
            for (n, (line, to)) in out.made.lines().into_iter().zip(targets).enumerate() {
                let Some(from) = receivers.next() else { break };
                let chain = tree.chain_of(workers.len());
                let pool = pool.clone();
                let kept = std::mem::take(&mut kept);
                // One line of an output tells how far it is.
                let counted = if n == 0 { i } else { usize::MAX };
                workers.push(scope.spawn(move || give_way(|| match line {
                    MadePlan::Film(film) => {
                        film::make(counted, film, (chain, kept), to.file()?, pool, from, control)
                    }
                    MadePlan::Still(still) => still::make(counted, still, chain, to.file()?, from, control),
                    MadePlan::Pictures(p) if av1 && is_avif_on_the_way(p) => Err(Error::unsupported(
                        "AVIF",
                        "pictures on the way of a film that is made into AV1 at the same time; have them made by a rule or a run of their own",
                    )),
                    MadePlan::Pictures(p) => pictures::make(counted, p, chain, to, from, control),
                    MadePlan::Wave(w) => wave::make(counted, w, to.file()?, from, control),
                    MadePlan::Stream(_) => Err(Error::setting("plan", "a stream in a stream")),
                })));
            }
        }
        let (roots, branches) = tree.take();
        let branches: Vec<_> = branches.into_iter().map(|b| scope.spawn(move || b.work(control))).collect();
        let sounds = source::Sounds::of(&lines, &senders);
        let packets = source::Packets::of(&lines, &senders);
        drop(senders);
        let read = source::feed(demux, plan, &pool, (roots, sounds, packets), resume, control);
        if read.is_err() {
            control.stop();
        }
        let broken = || Error::limit("output", "its thread ended early");
        let shared: Vec<Result<()>> =
            branches.into_iter().map(|b| b.join().unwrap_or_else(|_| Err(broken()))).collect();
        let mut made = workers
            .into_iter()
            .map(|w| w.join().unwrap_or_else(|_| Err(broken())))
            .collect::<Vec<_>>()
            .into_iter();
        let said = read?;
        // What a shared filter said is the reason of all that it let down.
        let why = shared.into_iter().filter_map(Result::err).find(|e| !matches!(e, Error::Stopped));
        let mut results = Vec::new();
        for (out, stream) in plan.outputs.iter().zip(streams) {
            let mine: Vec<Result<Made>> = made.by_ref().take(out.made.lines().len()).collect();
            // Of several that failed, the one that says most.
            let mine = mine.into_iter().map(|m| match (m, &why) {
                (Err(Error::Stopped), Some(e)) => Err(e.again()),
                (m, _) => m,
            });
            let ended =
                mine.collect::<Result<Vec<Made>>>().and_then(|made| stream::end(&out.made, stream, made));
            results.push(ended.map(|mut m| {
                m.notes.splice(0..0, out.notes.iter().cloned());
                if out.node().is_some() && resume > 0.0 {
                    m.notes.push(format!(
                        "gone on with after {resume:.0} s, where the work was broken off: what was odd in pictures before that is not told"
                    ));
                }
                if out.node().is_some() {
                    m.notes.extend(said.picture.iter().cloned());
                }
                m.notes.extend(said.unread.iter().cloned());
                if !out.made.places().is_empty() {
                    m.notes.extend(said.sound.iter().cloned());
                }
                m
            }));
        }
        Ok(results)
    })
}
