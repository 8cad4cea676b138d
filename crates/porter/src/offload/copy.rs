//! A folder to several places at once, with one read: each file is written to all of them beside its name, read back there,
//! and then given its name, over nothing. What an earlier try left is not copied again, but read and compared.

use super::manifest::{CHAIN, Entry, add_generation, goes_on, read_whole};
use super::sums::{Kind, Sum, of as sums_of};
use super::tree::{self, Leaf, written};
use crate::clock;
use crate::error::{Error, Result};
use crate::files::copy::{Ahead, Behind, forget_pages};
use crate::files::dir::entry_of;
use crate::files::fitting::refusal;
use crate::files::known::plain;
use crate::files::{Dir, Seen, Watching};
use media::show;
use serde::Serialize;
use std::collections::HashMap;
use std::ffi::OsString;
use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};

const BLOCK: usize = 1 << 20;
/// Blocks that may wait for a slow target.
const AHEAD: usize = 16;
/// What files are listed by.
const KIND: Kind = Kind::Xxh64;

/// What came of it.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Copied {
    pub files: u64,
    pub bytes: u64,
    pub targets: Vec<Target>,
    /// What is in the source and was not copied anywhere: with the reason.
    pub left: Vec<Problem>,
    /// Every file is at every target and was read back there: the source is not needed for them any more.
    pub safe_to_erase: bool,
}

#[derive(Clone, Debug, Default, Serialize)]
pub struct Target {
    pub path: String,
    pub copied: u64,
    /// They were there already, and are the same.
    pub there_before: u64,
    pub problems: Vec<Problem>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub manifest: Option<String>,
}

#[derive(Clone, Debug, Serialize)]
pub struct Problem {
    pub path: String,
    pub why: String,
}

fn problem(path: &Path, why: impl std::fmt::Display) -> Problem {
    Problem { path: show::path(path), why: show::text(&why.to_string()) }
}

/// One file at one target.
enum Done {
    Copied,
    There,
    Failed(String),
}

/// Copies all of `source` into each target, which are there. `passed` counts bytes of the source, twice: read, and read
/// back.
pub fn copy(source: &Path, targets: &[PathBuf], watching: &dyn Watching) -> Result<Copied> {
    let fail = |path: &Path| Error::path("cannot open the folder", path);
    let from = Dir::open(source).map_err(fail(source))?;
    let to: Vec<Dir> = targets.iter().map(|t| Dir::open(t).map_err(fail(t))).collect::<Result<_>>()?;
    apart(&from, &to)?;
    let tree = tree::of(&from, true).map_err(Error::path("cannot read", source))?;
    let mut out = Copied { files: tree.files.len() as u64, ..Copied::default() };
    out.bytes = tree.files.iter().map(|f| f.seen.size).sum();
    out.left = tree.others.iter().map(|(path, why)| problem(path, why)).collect();
    out.targets = targets.iter().map(|t| Target { path: show::path(t), ..Target::default() }).collect();
    // Empty ones count as well: who reads a card looks for its folders.
    for folder in &tree.folders {
        for (n, target) in to.iter().enumerate() {
            if let Err(e) = taken(target, folder).and_then(|()| target.make(folder)) {
                out.targets[n].problems.push(problem(folder, plain(&e)));
            }
        }
    }
    let mut listed: Vec<Vec<Entry>> = vec![Vec::new(); to.len()];
    for leaf in &tree.files {
        if watching.stopping() {
            return Err(Error::Stopped);
        }
        match one(&from, &to, leaf, watching) {
            Ok((sum, ends)) => {
                for (n, end) in ends.into_iter().enumerate() {
                    let target = &mut out.targets[n];
                    match end {
                        Done::Copied => target.copied += 1,
                        Done::There => target.there_before += 1,
                        Done::Failed(why) => {
                            target.problems.push(problem(&leaf.path, why));
                            continue;
                        }
                    }
                    // The manifests that came with the card are part of the history, and not listed in it.
                    if leaf.path.components().any(|c| c.as_os_str() == tree::MANIFESTS) {
                        continue;
                    }
                    match written(&leaf.path) {
                        Some(path) => listed[n].push(Entry {
                            path,
                            size: Some(leaf.seen.size),
                            modified: Some(leaf.seen.modified / 1000),
                            sums: vec![(KIND, sum.clone())],
                        }),
                        None => {
                            let why = "it was copied, but its name is no text and cannot stand in a manifest";
                            target.problems.push(problem(&leaf.path, why));
                        }
                    }
                }
            }
            Err(Error::Stopped) => return Err(Error::Stopped),
            Err(e) => out.left.push(problem(&leaf.path, e)),
        }
    }
    for (n, entries) in listed.iter().enumerate().filter(|(_, e)| !e.is_empty()) {
        match add_generation(&to[n], entries, "transfer", clock::now()) {
            Ok(name) => out.targets[n].manifest = Some(name),
            Err(e) => out.targets[n].problems.push(problem(Path::new("ascmhl"), plain(&e))),
        }
    }
    // What came to the source meanwhile was not copied.
    let after = tree::of(&from, true).map_err(Error::path("cannot read", source))?;
    let before: HashMap<&Path, &Seen> = tree.files.iter().map(|f| (f.path.as_path(), &f.seen)).collect();
    for leaf in after.files.iter().filter(|f| before.get(f.path.as_path()) != Some(&&f.seen)) {
        out.left.push(problem(&leaf.path, "it came or changed while the rest was copied: copy once more"));
    }
    let whole = |t: &Target| t.problems.is_empty() && t.copied + t.there_before == out.files;
    out.safe_to_erase = out.files > 0 && out.left.is_empty() && out.targets.iter().all(whole);
    Ok(out)
}

/// No target may be the source, or lie in it, or be another target: copies that are one copy are none.
fn apart(from: &Dir, to: &[Dir]) -> Result<()> {
    let id = |d: &Dir| {
        entry_of(d.fd()).map(|e| (e.device, e.node)).map_err(Error::path("cannot look at", d.path()))
    };
    let mut before = vec![id(from)?];
    for target in to {
        let own = id(target)?;
        let real =
            std::fs::canonicalize(target.path()).map_err(Error::path("cannot look at", target.path()))?;
        let source =
            std::fs::canonicalize(from.path()).map_err(Error::path("cannot look at", from.path()))?;
        if before.contains(&own) || real.starts_with(&source) || source.starts_with(&real) {
            return Err(Error::NotConfigured(format!(
                "{} is the source, lies in it or around it, or is another target",
                show::path(target.path())
            )));
        }
        before.push(own);
    }
    Ok(())
}

/// A target's end of a file.
struct Pipe {
    to: SyncSender<Arc<[u8]>>,
    thread: std::thread::JoinHandle<io::Result<File>>,
    dir: Dir,
    name: OsString,
    stage: OsString,
}

fn one(from: &Dir, to: &[Dir], leaf: &Leaf, w: &dyn Watching) -> Result<(String, Vec<Done>)> {
    let at = from.path().join(&leaf.path);
    let fail = |doing: &'static str| Error::path(doing, &at);
    let (holder, name) = from.holder(&leaf.path, false).map_err(fail("cannot open the folder of"))?;
    let mut file = holder.read(name).map_err(fail("cannot read"))?;
    if entry_of(&file).map_err(fail("cannot look at"))?.seen != leaf.seen {
        return Err(fail("cannot read")(io::Error::other("it changed while the rest was copied")));
    }
    let mut ends: Vec<Option<Done>> = Vec::new();
    let mut pipes: Vec<Option<Pipe>> = Vec::new();
    let mut present = Vec::new();
    for target in to {
        match begin(target, leaf) {
            Ok(None) => {
                present.push(true);
                pipes.push(None);
                ends.push(None);
            }
            Ok(Some(pipe)) => {
                present.push(false);
                pipes.push(Some(pipe));
                ends.push(None);
            }
            Err(e) => {
                present.push(false);
                pipes.push(None);
                ends.push(Some(Done::Failed(plain(&e))));
            }
        }
    }
    // One read for all.
    let mut sum = Sum::new(KIND);
    let mut block = vec![0; BLOCK.min(leaf.seen.size as usize + 1)];
    let mut read = 0;
    let wrong = loop {
        if w.stopping() {
            break Some(Error::Stopped);
        }
        match file.read(&mut block) {
            Ok(0) => break None,
            Ok(n) => {
                read += n as u64;
                sum.add(&block[..n]);
                let shared: Arc<[u8]> = block[..n].into();
                // A target that broke takes nothing more; the others go on.
                pipes.iter().flatten().for_each(|p| _ = p.to.send(shared.clone()));
                w.passed(n as u64);
            }
            Err(e) if e.kind() == io::ErrorKind::Interrupted => (),
            Err(e) => break Some(fail("cannot read")(e)),
        }
    };
    let now = entry_of(&file).map_err(fail("cannot look at"))?.seen;
    let wrong = wrong.or_else(|| {
        let changed = now != leaf.seen || read != leaf.seen.size;
        changed.then(|| fail("cannot read")(io::Error::other("it changed while it was copied")))
    });
    let sum = sum.end();
    let ended: Vec<(usize, Dir, OsString, OsString, io::Result<File>)> = pipes
        .into_iter()
        .enumerate()
        .filter_map(|(n, p)| {
            let Pipe { to, thread, dir, name, stage } = p?;
            drop(to);
            let result = thread.join().unwrap_or_else(|_| Err(io::Error::other("the writer broke")));
            Some((n, dir, name, stage, result))
        })
        .collect();
    if let Some(e) = wrong {
        ended.iter().for_each(|(_, dir, _, stage, _)| _ = dir.remove(stage));
        return Err(e);
    }
    // Read back, all at once; and what was there before, compared.
    let checks: Vec<(usize, Done)> = std::thread::scope(|s| {
        let mut threads = Vec::new();
        for (n, dir, name, stage, result) in &ended {
            let (sum, modified) = (&sum, leaf.seen.modified);
            let n = *n;
            threads.push(s.spawn(move || {
                let done = match result {
                    Err(e) => Err(plain(e)),
                    Ok(file) => finish(file, dir, stage, name, sum, modified),
                };
                if done.is_err() {
                    let _ = dir.remove(stage);
                }
                (n, done.map_or_else(Done::Failed, |()| Done::Copied))
            }));
        }
        for (n, target) in to.iter().enumerate().filter(|(n, _)| present[*n]) {
            let sum = &sum;
            threads.push(s.spawn(move || (n, compare(from, target, leaf, sum))));
        }
        threads.into_iter().filter_map(|t| t.join().ok()).collect()
    });
    w.passed(leaf.seen.size);
    for (n, done) in checks {
        ends[n] = Some(done);
    }
    let ends = ends.into_iter().map(|e| e.unwrap_or_else(|| Done::Failed("nothing came of it".into())));
    Ok((sum, ends.collect()))
}

/// Whether the disk takes such a name; it is not found out when all was copied.
fn taken(target: &Dir, path: &Path) -> io::Result<()> {
    refusal(target, path).map_or(Ok(()), |why| Err(io::Error::other(why)))
}

/// A file beside the final name that is written from a channel; `None`: something has the name.
fn begin(target: &Dir, leaf: &Leaf) -> io::Result<Option<Pipe>> {
    taken(target, &leaf.path)?;
    let (dir, name) = target.holder(&leaf.path, true)?;
    if dir.look(name)?.is_some() {
        return Ok(None);
    }
    // Of another try; two at once do not meet, for each has its own.
    let stage = OsString::from(format!(".{}.deft-porter.part", clock::nonce()));
    let mut file = dir.create(&stage)?;
    let (to, from) = sync_channel::<Arc<[u8]>>(AHEAD);
    let thread = std::thread::spawn(move || {
        let mut behind = Behind::default();
        for block in from {
            file.write_all(&block)?;
            behind.wrote(&file, block.len());
        }
        file.sync_all()?;
        Ok(file)
    });
    Ok(Some(Pipe { to, thread, name: name.to_owned(), dir, stage }))
}

/// A file that is read from its beginning to its end.
struct Eager<'a> {
    file: &'a File,
    ahead: Ahead,
}

impl Read for Eager<'_> {
    fn read(&mut self, block: &mut [u8]) -> io::Result<usize> {
        let n = self.file.read(block)?;
        self.ahead.read(self.file, n);
        Ok(n)
    }
}

/// Reads back what was written, and gives it its name.
fn finish(
    file: &File,
    dir: &Dir,
    stage: &OsString,
    name: &OsString,
    wanted: &str,
    modified: i64,
) -> std::result::Result<(), String> {
    forget_pages(file);
    let mut again = Eager { file, ahead: Ahead::default() };
    again.file.rewind().map_err(|e| plain(&e))?;
    let found = sums_of(&mut again, &[KIND], &|_| Ok(())).map_err(|e| plain(&e))?;
    if found[0] != wanted {
        return Err(format!("it reads back wrong ({} {}, expected {wanted})", KIND.name(), found[0]));
    }
    let time = std::time::UNIX_EPOCH.checked_add(std::time::Duration::from_nanos(modified.max(0) as u64));
    if let Some(time) = time {
        let _ = file.set_modified(time);
    }
    match dir.rename_if_free(stage, dir, name) {
        Ok(true) => Ok(()),
        Ok(false) => Err("another file got its name in this moment".into()),
        Err(e) => Err(plain(&e)),
    }
}

/// What has the name already: the same, or another file, which is left alone.
fn compare(from: &Dir, target: &Dir, leaf: &Leaf, wanted: &str) -> Done {
    let same = || -> io::Result<bool> {
        let (dir, name) = target.holder(&leaf.path, false)?;
        // The history there has gone on since, with a generation of each copy.
        if leaf.path == Path::new(tree::MANIFESTS).join(CHAIN) {
            let (here, _) = from.holder(&leaf.path, false)?;
            return Ok(goes_on(&read_whole(dir.read(name)?)?, &read_whole(here.read(name)?)?));
        }
        match dir.look(name)? {
            Some(e) if e.is_file() && e.seen.size == leaf.seen.size => (),
            _ => return Ok(false),
        }
        let file = dir.read(name)?;
        forget_pages(&file);
        Ok(sums_of(&mut Eager { file: &file, ahead: Ahead::default() }, &[KIND], &|_| Ok(()))?[0] == wanted)
    };
    match same() {
        Ok(true) => Done::There,
        Ok(false) => Done::Failed("another file has this name there, and is left alone".into()),
        Err(e) => Done::Failed(plain(&e)),
    }
}
