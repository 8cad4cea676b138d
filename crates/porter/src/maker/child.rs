//! The child's side.

use super::{Finished, Order, OrderedOutput, Said};
use crate::deliver::copy::digest_counted;
use crate::error::{Error, Result};
use media::container::{self, Source};
use media::recipe::{Recipe, StillChoice};
use media::run::{Control, Made};
use media::{check, plan, run, still};
use std::fs::File;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

const REPORT_EVERY: Duration = Duration::from_millis(200);

/// Reads an order, makes it, and says how it went. Returns the exit status.
pub fn main(input: impl Read + Send + 'static, mut output: impl Write + Send + 'static) -> u8 {
    let mut input = BufReader::new(input);
    let mut line = String::new();
    let order: Order = match input.read_line(&mut line).map(|_| serde_json::from_str(&line)) {
        Ok(Ok(order)) => order,
        _ => {
            let _ = say(
                &mut output,
                &Said::Failed { class: "system".into(), message: "no order could be read".into() },
            );
            return 2;
        }
    };
    limit_memory(order.memory);
    let of_media = order.outputs.iter().filter(|o| o.recipe.transcript.is_none()).count();
    let control = Arc::new(Control::new(of_media));
    // The porter is gone: nobody waits for the result.
    std::thread::spawn(move || {
        let mut rest = [0u8; 1];
        let _ = input.read(&mut rest);
        std::process::exit(3);
    });
    let (result, code) = match make(&order, &control, &mut output) {
        Ok(finished) => (Said::Made(finished), 0),
        Err(e) => (failed(&e), 1),
    };
    let _ = say(&mut output, &result);
    code
}

fn say(to: &mut impl Write, said: &Said) -> std::io::Result<()> {
    let mut line = serde_json::to_vec(said)?;
    line.push(b'\n');
    to.write_all(&line)?;
    to.flush()
}

fn failed(e: &Error) -> Said {
    let class = match e {
        Error::Media(m) => m.class(),
        _ => "system",
    };
    Said::Failed { class: class.into(), message: e.to_string() }
}

/// Private memory of the process, as far as the system can hold it to a limit.
fn limit_memory(bytes: u64) {
    use rustix::process::{Resource, Rlimit, setrlimit};
    let limit = Rlimit { current: Some(bytes), maximum: Some(bytes) };
    let _ = setrlimit(Resource::Data, limit);
    // A crash is reported by the porter; a core file of this size helps nobody.
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
}

fn open(path: &Path) -> Result<Box<dyn Source>> {
    Ok(Box::new(File::open(path).map_err(Error::path("cannot read", path))?))
}

/// What the reporting thread reads while the rest works.
#[derive(Default)]
struct Reading {
    total: OnceLock<Option<u64>>,
    /// Milliseconds of sound that were heard.
    heard: AtomicU64,
    checked: AtomicU64,
    /// A service is asked and has not answered yet.
    asking: Arc<AtomicBool>,
    finished: AtomicBool,
}

fn make(order: &Order, control: &Arc<Control>, output: &mut (impl Write + Send)) -> Result<Vec<Finished>> {
    let reading = Reading::default();
    std::thread::scope(|scope| {
        let watched = &reading;
        let reporter = scope.spawn(move || {
            let mut waited = 0;
            loop {
                let finished = watched.finished.load(Ordering::Relaxed);
                waited += u64::from(watched.asking.load(Ordering::Relaxed));
                if let Some(total) = watched.total.get() {
                    let checked = watched.checked.load(Ordering::Relaxed);
                    let done = control.done() + watched.heard.load(Ordering::Relaxed);
                    let _ = say(output, &Said::Progress { done, total: *total, checked, waited });
                }
                if finished {
                    return;
                }
                std::thread::park_timeout(REPORT_EVERY);
            }
        });
        let result = make_all(order, control, &reading);
        reading.finished.store(true, Ordering::Relaxed);
        reporter.thread().unpark();
        result
    })
}

fn make_all(order: &Order, control: &Arc<Control>, reading: &Reading) -> Result<Vec<Finished>> {
    let mut source = open(&order.source)?;
    let head = container::probe_bytes(&mut source)?;
    let still = still::recognise(&head, &mut source)?;
    let (spoken, media): (Vec<&OrderedOutput>, Vec<&OrderedOutput>) =
        order.outputs.iter().partition(|o| o.recipe.transcript.is_some());
    let mut made = match still {
        Some(format) => {
            media.iter().map(|o| make_still(format, &order.source, o)).collect::<Result<Vec<_>>>()?
        }
        None if media.is_empty() => Vec::new(),
        None => make_clips(&media, source, control, reading)?,
    }
    .into_iter();
    if still.is_some() && !spoken.is_empty() {
        let why = "the preset writes a transcript, but the file is one picture";
        return Err(media::Error::unsupported("", why).into());
    }
    let mut written = super::transcripts::make(&order.source, &spoken, &media, &reading.asking, |at, of| {
        let _ = reading.total.set(Some(of.0.max(0) as u64));
        reading.heard.store(at.0.max(0) as u64, Ordering::Relaxed);
    })?
    .into_iter();
    order
        .outputs
        .iter()
        .map(|o| {
            let next =
                if o.recipe.transcript.is_some() { written.next() } else { made.next().map(|m| (m, None)) };
            let (made, transcript) = next.ok_or_else(|| Error::Maker("an output was not made".into()))?;
            let bytes = std::fs::metadata(&o.path).map_err(Error::path("cannot look at", &o.path))?.len();
            let count = |n| _ = reading.checked.fetch_add(n, Ordering::Relaxed);
            Ok(Finished { made, bytes, digest: digest_counted(&o.path, false, count)?, transcript })
        })
        .collect()
}

fn make_clips(
    outputs: &[&OrderedOutput],
    source: Box<dyn Source>,
    control: &Arc<Control>,
    reading: &Reading,
) -> Result<Vec<Made>> {
    let mut demux = container::open(source)?;
    let recipes: Vec<Recipe> = outputs.iter().map(|o| o.recipe.media.clone()).collect();
    let plan = plan::plan(demux.tracks(), &recipes)?;
    let _ = reading.total.set(plan.total);
    let mut sinks: Vec<Box<dyn container::mp4::Sink>> = Vec::new();
    for o in outputs {
        let file = File::options().read(true).write(true).create(true).truncate(true).open(&o.path);
        sinks.push(Box::new(file.map_err(Error::path("cannot write", &o.path))?));
    }
    let made = run::run(demux.as_mut(), &plan, sinks, control)?;
    // What is on the disk must be what was made, before anything else is done with it.
    for (o, m) in outputs.iter().zip(&made) {
        let file = File::open(&o.path).map_err(Error::path("cannot read", &o.path))?;
        file.sync_all().map_err(Error::path("cannot write", &o.path))?;
        check::output(Box::new(file), m, &reading.checked)?;
    }
    Ok(made)
}

fn make_still(format: &'static still::StillFormat, source: &Path, o: &OrderedOutput) -> Result<Made> {
    let Some(recipe) = &o.recipe.media.still else {
        return Err(
            media::Error::unsupported("", "the preset makes no stills, but the file is one picture").into()
        );
    };
    let picture = still::decode(format, &mut open(source)?)?;
    let codec = match recipe.format {
        StillChoice::Jpeg(q) => still::StillCodec::Jpeg(q),
        StillChoice::Png => still::StillCodec::Png,
    };
    let mut file = File::create(&o.path).map_err(Error::path("cannot write", &o.path))?;
    let size = still::convert(&picture, recipe.fit, codec, &mut file)?;
    file.sync_all().map_err(Error::path("cannot write", &o.path))?;
    // Read back.
    let mut back = open(&o.path)?;
    let head = container::probe_bytes(&mut back)?;
    let held = still::recognise(&head, &mut back)?.map(|f| still::decode(f, &mut back)).transpose()?;
    if held.map(|p| (p.width(), p.height())) != Some(size) {
        return Err(media::Error::damaged("output", "the still that was written does not read back").into());
    }
    Ok(Made { size: Some(size), frames: 1, ..Made::default() })
}
