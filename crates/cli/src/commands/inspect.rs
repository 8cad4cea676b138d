//! `inspect`: what media files are, from their content.

use crate::args::Inspect;
use crate::ui;
use crate::ui::facts::Inspected;
use anyhow::Result;
use media::deep::{self, Deep};
use media::still::run::{Run, numbered};
use media::units::Ratio;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

pub fn inspect(a: &Inspect) -> Result<ExitCode> {
    if a.schema {
        ui::print_json(&schemars::schema_for!(Inspected))?;
        return Ok(ExitCode::SUCCESS);
    }
    let mut items = Vec::new();
    for path in &a.files {
        if path.is_dir() {
            // Hidden files are not what a person means by a folder's.
            let shown =
                |e: &walkdir::DirEntry| e.depth() == 0 || !e.file_name().as_encoded_bytes().starts_with(b".");
            let found = walkdir::WalkDir::new(path).sort_by_file_name().into_iter().filter_entry(shown);
            let files = found.flatten().filter(|e| e.file_type().is_file()).map(walkdir::DirEntry::into_path);
            items.extend(files.map(Item::File));
        } else {
            items.push(Item::File(path.clone()));
        }
    }
    if let Some(rate) = a.run {
        items = gather(items, rate);
    }
    let all = each(&items, a.deep);
    let single = all.len() == 1 && a.files.first().is_some_and(|f| !f.is_dir());
    match (a.json, single) {
        (true, true) => ui::print_json(&all[0])?,
        (true, false) => ui::print_json(&all)?,
        (false, true) => crate::say_part!("{}", ui::facts::one(&all[0])),
        (false, false) => crate::say_part!("{}", ui::facts::table(&all, common(&items))),
    }
    // A picture that cannot be decoded, and media of which a part is missing, are no clean result.
    let bad = |i: &Inspected| {
        i.error.is_some()
            || i.deep.as_ref().is_some_and(|d| !d.is_clean())
            || i.facts
                .as_ref()
                .is_some_and(|f| f.damage.is_some() || f.video.iter().any(|v| v.cannot_decode.is_some()))
    };
    Ok(ExitCode::from(u8::from(all.iter().any(bad))))
}

enum Item {
    File(PathBuf),
    /// Pictures that differ in a number only, in order.
    Pictures(Vec<PathBuf>, Ratio),
}

impl Item {
    fn path(&self) -> &Path {
        match self {
            Item::File(p) => p,
            Item::Pictures(all, _) => &all[0],
        }
    }
}

/// Puts pictures of one run together. A single picture stays one.
fn gather(items: Vec<Item>, rate: Ratio) -> Vec<Item> {
    let paths: Vec<PathBuf> = items.iter().map(|i| i.path().to_owned()).collect();
    numbered(paths)
        .into_iter()
        .map(|mut run| if run.len() == 1 { Item::File(run.remove(0)) } else { Item::Pictures(run, rate) })
        .collect()
}

/// Looks at all of them, on as many threads as there are processors, and gives them in order.
fn each(items: &[Item], deep: bool) -> Vec<Inspected> {
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<Option<Inspected>>> = Mutex::new(items.iter().map(|_| None).collect());
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get()).min(items.len()).max(1);
    let work = || loop {
        let i = next.fetch_add(1, Ordering::Relaxed);
        let Some(item) = items.get(i) else { return };
        let one = one(item, deep);
        done.lock().unwrap_or_else(|e| e.into_inner())[i] = Some(one);
    };
    std::thread::scope(|s| {
        (1..threads).for_each(|_| _ = s.spawn(work));
        work();
    });
    done.into_inner().unwrap_or_else(|e| e.into_inner()).into_iter().flatten().collect()
}

fn one(item: &Item, deep: bool) -> Inspected {
    let (file, facts) = match item {
        Item::File(path) => {
            (media::show::path(path), porter::jobs::facts_of(path).map_err(|e| e.to_string()))
        }
        Item::Pictures(all, rate) => {
            let last = all
                .last()
                .and_then(|p| p.file_name())
                .map_or(String::new(), |n| n.to_string_lossy().into_owned());
            let name = format!("{} to {last}", media::show::path(&all[0]));
            let bytes = all.iter().filter_map(|p| p.metadata().ok()).map(|m| m.len()).sum();
            let facts =
                open_run(all, *rate).map(|r| media::facts::of_tracks(&r, bytes)).map_err(|e| e.to_string());
            (name, facts)
        }
    };
    let mut inspected = Inspected { file, facts: None, error: None, deep: None };
    match facts {
        Ok(f) => inspected.facts = Some(f),
        Err(e) => inspected.error = Some(e),
    }
    if deep && inspected.error.is_none() {
        match look(item) {
            Ok(d) => inspected.deep = Some(d),
            Err(e) => inspected.error = Some(e.to_string()),
        }
    }
    inspected
}

fn open_run(all: &[PathBuf], rate: Ratio) -> media::Result<Run> {
    let paths = all.to_vec();
    let open = move |n: u64| -> media::Result<Box<dyn media::container::Source>> {
        Ok(Box::new(File::open(&paths[n as usize])?))
    };
    Run::open(Box::new(open), all.len() as u64, rate)
}

fn look(item: &Item) -> media::Result<Deep> {
    match item {
        Item::File(path) => deep::of_path(path),
        Item::Pictures(all, rate) => deep::examine(&mut open_run(all, *rate)?),
    }
}

/// The folder all files lie in, to leave out of a table.
fn common(items: &[Item]) -> Option<PathBuf> {
    let mut folder = items.first()?.path().parent()?.to_owned();
    while !items.iter().all(|i| i.path().starts_with(&folder)) {
        folder = folder.parent()?.to_owned();
    }
    Some(folder)
}
