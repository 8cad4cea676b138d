//! `convert`: files by presets, without a house.

use super::presets::chosen;
use crate::args::Convert;
use crate::ui::{self, bars::Bars};
use anyhow::{Result, anyhow};
use media::run::Control;
use porter::config::{Preset, kinds};
use porter::convert::{self, Converted, Unpublished};
use porter::naming::Template;
use serde_json::json;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::RecvTimeoutError;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

const LOOK_EVERY: Duration = Duration::from_millis(100);
const TELL_EVERY: Duration = Duration::from_secs(1);
/// Exit status after Ctrl-C, as shells count it.
const INTERRUPTED: u8 = 130;

pub fn convert(a: &Convert) -> Result<ExitCode> {
    let presets = chosen(&a.presets)?;
    let name = Template::parse(&a.name).map_err(|e| anyhow!("--name \"{}\": wanted is {e}", a.name))?;
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP] {
        signal_hook::flag::register(signal, stop.clone())?;
    }
    let mut failed = false;
    if !a.join && a.files.len() > 1 && a.files.iter().all(|f| kinds::by_name(f) == Some(kinds::IMAGE)) {
        return stills(a, &presets, &name, &stop);
    }
    let several = if a.join { a.files.len() } else { 1 };
    for paths in a.files.chunks(several.max(1)) {
        match one(a, paths, &presets, &name, &stop) {
            Ok(fine) => failed |= !fine,
            Err(_) if stop.load(Ordering::Relaxed) => {
                eprintln!("stopped; nothing half made is left");
                return Ok(ExitCode::from(INTERRUPTED));
            }
            Err(e) => {
                failed = true;
                untold(a, &shown(paths), &e);
            }
        }
    }
    Ok(ExitCode::from(u8::from(failed)))
}

/// Pictures that are made together before they go to the disk.
const BATCH: usize = 64;

/// Many pictures: several at a time, and each lot goes to the disk at once. They get their names in the order of the files.
fn stills(a: &Convert, presets: &[Arc<Preset>], name: &Template, stop: &Arc<AtomicBool>) -> Result<ExitCode> {
    let workers = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let files = AtomicUsize::new(0);
    let mut bars = Bars::new(&["pictures".to_owned()], &[Some(a.files.len() as u64)], None, !a.json);
    let mut failed = false;
    for batch in a.files.chunks(BATCH) {
        let next = AtomicUsize::new(0);
        let done: Vec<Mutex<Option<Did>>> = batch.iter().map(|_| Mutex::new(None)).collect();
        std::thread::scope(|scope| {
            let working: Vec<_> = (0..workers.min(batch.len()))
                .map(|_| {
                    scope.spawn(|| {
                        while !stop.load(Ordering::Relaxed)
                            && let Some((file, to)) = take(&next, batch, &done)
                        {
                            let start = Instant::now();
                            let made = convert::plan(file, presets).and_then(|p| {
                                let control = Control::new(p.outputs().len());
                                p.make(&a.to, &control)
                            });
                            *to.lock().unwrap_or_else(|e| e.into_inner()) = Some((made, start.elapsed()));
                            files.fetch_add(1, Ordering::Relaxed);
                        }
                    })
                })
                .collect();
            while working.iter().any(|w| !w.is_finished()) {
                bars.show(&[files.load(Ordering::Relaxed) as u64]);
                std::thread::sleep(LOOK_EVERY / 20);
            }
        });
        if stop.load(Ordering::Relaxed) {
            bars.take_away();
            eprintln!("stopped; nothing half made is left");
            return Ok(ExitCode::from(INTERRUPTED));
        }
        let done: Vec<Did> =
            done.into_iter().filter_map(|d| d.into_inner().unwrap_or_else(|e| e.into_inner())).collect();
        if done.iter().any(|(made, _)| made.is_ok()) {
            convert::sync_all(&a.to)?;
        }
        bars.hide();
        for (file, (made, took)) in batch.iter().zip(done) {
            let file = media::show::path(file);
            match made {
                Ok(made) => {
                    let ends = made.publish(&a.to, name);
                    if a.json {
                        let outputs: Vec<_> = ends.iter().map(|c| &c.preset.name).collect();
                        event(json!({ "what": "planned", "file": file, "outputs": outputs }));
                    } else {
                        crate::say!("{file}: in {}", ui::seconds(took.as_secs_f64()));
                    }
                    // Every one is told.
                    let fine: Vec<bool> = ends.into_iter().map(|c| tell(a, &file, c)).collect();
                    failed |= fine.contains(&false);
                }
                Err(e) => {
                    failed = true;
                    untold(a, &file, &e.into());
                }
            }
        }
    }
    bars.take_away();
    Ok(ExitCode::from(u8::from(failed)))
}

type Did = (porter::Result<Unpublished>, Duration);

/// The next of a lot, and where what comes of it is put.
fn take<'a>(
    next: &AtomicUsize,
    batch: &'a [PathBuf],
    done: &'a [Mutex<Option<Did>>],
) -> Option<(&'a PathBuf, &'a Mutex<Option<Did>>)> {
    let n = next.fetch_add(1, Ordering::Relaxed);
    batch.get(n).zip(done.get(n))
}

/// Nothing could be made of a file.
fn untold(a: &Convert, file: &str, e: &anyhow::Error) {
    if a.json {
        event(json!({ "what": "failed", "file": file, "why": ui::errors::line(e) }));
    } else {
        eprintln!("{file}: {}", ui::errors::line(e));
    }
}

/// A file, or the first of several that are joined.
fn shown(paths: &[PathBuf]) -> String {
    let first = paths.first().map(media::show::path).unwrap_or_default();
    match paths.len() {
        0 | 1 => first,
        n => format!("{first} and {} more", n - 1),
    }
}

fn event(value: serde_json::Value) {
    crate::say!("{value}");
}

/// True if everything that applies to the file, or to several that are joined, was made.
fn one(
    a: &Convert,
    paths: &[PathBuf],
    presets: &[Arc<Preset>],
    name: &Template,
    stop: &Arc<AtomicBool>,
) -> Result<bool> {
    let planned = convert::plan_joined(paths, presets)?;
    let file = shown(paths);
    let outputs = planned.outputs();
    let names: Vec<String> = outputs.iter().map(|p| p.name.clone()).collect();
    // What cannot say how many pictures it will have is as far as the source is.
    let own = |n: usize| planned.plan.outputs.get(n).and_then(|o| o.total());
    let own: Vec<Option<u64>> = (0..outputs.len()).map(own).collect();
    let totals: Vec<Option<u64>> = own.iter().map(|o| o.or(planned.plan.total)).collect();
    let seconds = planned.facts.duration.map(|d| d.seconds);
    let control = Control::new(outputs.len());
    if a.json {
        event(json!({ "what": "planned", "file": file, "outputs": names }));
    }
    let start = Instant::now();
    let done = std::thread::scope(|scope| {
        let (to, control) = (&a.to, &control);
        // Closed when it is done.
        let (done, working) = std::sync::mpsc::channel::<()>();
        let work = scope.spawn(move || {
            let _done = done;
            planned.run(to, name, control)
        });
        let mut bars = Bars::new(&names, &totals, seconds, !a.json);
        let mut told = Instant::now();
        while let Err(RecvTimeoutError::Timeout) = working.recv_timeout(LOOK_EVERY) {
            if stop.load(Ordering::Relaxed) {
                control.stop();
            }
            let done = |n: usize| match (own[n], totals[n]) {
                (Some(of), _) => control.done_by(n).min(of),
                // A little more than a part is read for it.
                (None, of) => control.done().min(of.unwrap_or(u64::MAX)),
            };
            let now: Vec<u64> = (0..names.len()).map(done).collect();
            bars.show(&now);
            if a.json && told.elapsed() >= TELL_EVERY {
                told = Instant::now();
                for ((preset, done), of) in names.iter().zip(&now).zip(&totals) {
                    event(
                        json!({ "what": "progress", "file": file, "preset": preset, "done": done, "of": of }),
                    );
                }
            }
        }
        bars.take_away();
        work.join().map_err(|_| anyhow!("the work ended early"))?.map_err(anyhow::Error::from)
    })?;
    if stop.load(Ordering::Relaxed) {
        return Err(anyhow!("stopped"));
    }
    let took = start.elapsed().as_secs_f64();
    let speed = seconds
        .filter(|s| *s > 0.0)
        .map(|s| format!(", {:.1} times as fast as it plays", s / took.max(0.001)));
    if !a.json {
        crate::say!("{file}: in {}{}", ui::seconds(took), speed.unwrap_or_default());
    }
    // Every one is told.
    let fine: Vec<bool> = done.into_iter().map(|c| tell(a, &file, c)).collect();
    Ok(!fine.contains(&false))
}

/// Says what became of one output; true if it was made.
fn tell(a: &Convert, file: &str, c: Converted) -> bool {
    let preset = &c.preset.name;
    match c.end {
        Ok((path, made)) if a.json => {
            let path = media::show::path(&path);
            event(json!({ "what": "made", "file": file, "preset": preset, "path": path, "made": made }));
            true
        }
        Ok((path, made)) => {
            let files = porter::maker::made::files_of(&path).unwrap_or_default();
            let bytes = files.iter().filter_map(|(_, p)| Some(std::fs::metadata(p).ok()?.len())).sum();
            let count = if path.is_dir() {
                format!("{} file{}, ", files.len(), if files.len() == 1 { "" } else { "s" })
            } else {
                String::new()
            };
            let size = made.size.map_or(String::new(), |(w, h)| format!(", {w}x{h}"));
            let long =
                if made.seconds > 0.0 { format!(", {}", ui::seconds(made.seconds)) } else { String::new() };
            crate::say!("  {}  ({count}{}{size}{long})", media::show::path(&path), ui::bytes(bytes));
            made.notes.iter().for_each(|n| crate::say!("    note: {n}"));
            true
        }
        Err(e) => {
            if a.json {
                event(json!({ "what": "not made", "file": file, "preset": preset, "why": e.to_string() }));
            } else {
                crate::say!("  {preset}: not made: {e}");
            }
            false
        }
    }
}
