//! Renaming files by a template, with a record by which it can be undone. What is about to be done is written down first;
//! nothing is ever put over another file, and the file that is renamed is the one that was looked at.

use crate::clock::{self, Micros};
use crate::config::House;
use crate::error::{Error, Result};
use crate::files::Dir;
use crate::files::dir::Entry;
use crate::jobs::facts_of;
use crate::naming::{self, Template};
use crate::route::Item;
use crate::route::fields::Subject;
use media::show;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::File;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// In the state folder: every rename, a line each.
const RECORD: &str = "renamed.jsonl";

/// A file and its new path, in the folder that it lies in or below.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rename {
    pub from: PathBuf,
    pub to: PathBuf,
}

/// One rename that was begun.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Line {
    batch: i64,
    at: Micros,
    #[serde(with = "crate::bytes")]
    from: PathBuf,
    #[serde(with = "crate::bytes")]
    to: PathBuf,
    device: u64,
    inode: u64,
    size: u64,
    /// It was put back.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    undone: bool,
}

/// What a file would be called. Of several that would have one name, all but the first get a number; so does what is taken
/// by a name that differs only in large and small letters.
pub fn plan(template: &Template, files: &[PathBuf], watch: &str) -> Result<Vec<Rename>> {
    let mut given: HashSet<PathBuf> = HashSet::new();
    let mut out = Vec::new();
    for (n, file) in files.iter().enumerate() {
        let facts = facts_of(file)?;
        let from = whole(file)?;
        let path = Path::new(from.file_name().unwrap_or_default());
        let counts = crate::store::Counts {
            watch: n as i64 + 1,
            day: n as i64 + 1,
            folder: n as i64 + 1,
            ..Default::default()
        };
        let (job, arrived) = (n as i64 + 1, clock::now());
        let item = Item { counts: Some(&counts), ..Item::new(watch, path, arrived, job) };
        let subject = Subject { facts: &facts, item: &item, preset: "", rule: "" };
        let ending = path.extension().map_or(String::new(), |e| naming::ending(&e.to_string_lossy()));
        let wanted = template.fill(&subject, &ending);
        let folder = from.parent().unwrap_or(Path::new("/")).to_owned();
        let taken = taken_names(&folder, &wanted);
        for n in 1.. {
            let to = folder.join(naming::candidate(&wanted, n));
            let low = PathBuf::from(to.to_string_lossy().to_lowercase());
            let is_itself = low == Path::new(&from.to_string_lossy().to_lowercase());
            if given.contains(&low) || (taken.contains(&low) && !is_itself) {
                continue;
            }
            given.insert(low);
            out.push(Rename { from, to });
            break;
        }
    }
    Ok(out)
}

/// Absolute, with links in its folder resolved; the file itself may be none.
fn whole(file: &Path) -> Result<PathBuf> {
    let fail = |e| Error::path("cannot look at", file)(e);
    let folder = match file.parent() {
        Some(p) if !p.as_os_str().is_empty() => p,
        _ => Path::new("."),
    };
    let name = file.file_name().ok_or_else(|| fail(std::io::Error::other("it has no name")))?;
    let path = std::fs::canonicalize(folder).map_err(fail)?.join(name);
    match std::fs::symlink_metadata(&path).map_err(fail)?.is_file() {
        true => Ok(path),
        false => Err(fail(std::io::Error::other("it is no file"))),
    }
}

/// What stands in the folder that a name goes to, in small letters.
fn taken_names(folder: &Path, wanted: &str) -> HashSet<PathBuf> {
    let at = folder.join(wanted);
    let holder = at.parent().unwrap_or(folder);
    let entries = std::fs::read_dir(holder).into_iter().flatten().flatten();
    entries.map(|e| PathBuf::from(e.path().to_string_lossy().to_lowercase())).collect()
}

fn open_record(house: &House) -> Result<(PathBuf, Vec<Line>)> {
    let at = house.state.join(RECORD);
    let text = match std::fs::read_to_string(&at) {
        Ok(text) => text,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => String::new(),
        Err(e) => return Err(Error::path("cannot read", &at)(e)),
    };
    // A line that a kill broke off is of a rename that was not begun.
    Ok((at, text.lines().filter_map(|l| serde_json::from_str(l).ok()).collect()))
}

fn note(record: &mut File, at: &Path, line: &Line) -> Result<()> {
    let mut text = serde_json::to_string(line).unwrap_or_default();
    text.push('\n');
    let fail = |e| Error::path("cannot write", at)(e);
    record.write_all(text.as_bytes()).map_err(fail)?;
    record.sync_data().map_err(fail)
}

/// The record, to be written on; only one does at a time.
fn writing(at: &Path) -> Result<File> {
    let fail = |e| Error::path("cannot write", at)(e);
    if let Some(folder) = at.parent() {
        std::fs::create_dir_all(folder).map_err(fail)?;
    }
    let file = File::options().create(true).append(true).mode(0o600).open(at).map_err(fail)?;
    file.lock().map_err(fail)?;
    // What a kill broke off ends here.
    if std::fs::read(at).map_err(fail)?.last().is_some_and(|b| *b != b'\n') {
        (&file).write_all(b"\n").map_err(fail)?;
    }
    Ok(file)
}

/// Renames, and gives the number by which it can be undone. What cannot be renamed is left, and told.
pub fn rename(house: &House, all: &[Rename]) -> Result<(i64, Vec<String>)> {
    let (at, before) = open_record(house)?;
    let mut record = writing(&at)?;
    let batch = before.iter().map(|l| l.batch).max().unwrap_or(0) + 1;
    let mut refused = Vec::new();
    for r in all.iter().filter(|r| r.from != r.to) {
        let one = |record: &mut File| -> Result<Option<&str>> {
            let (dir, name, entry) = looked(&r.from)?;
            let Some(entry) = entry.filter(Entry::is_file) else { return Ok(Some("it is gone")) };
            let (to, new) = holder(&r.to, true)?;
            let (from, target, at_time) = (r.from.clone(), r.to.clone(), clock::now());
            let (device, inode, size) = (entry.device, entry.seen.inode, entry.seen.size);
            note(
                record,
                &at,
                &Line { batch, at: at_time, from, to: target, device, inode, size, undone: false },
            )?;
            crate::stops::here("about to rename");
            let done = dir.rename_if_free(&name, &to, new).map_err(Error::path("cannot rename", &r.from))?;
            Ok((!done).then_some("its new name was taken in this moment"))
        };
        match one(&mut record) {
            Ok(None) => (),
            Ok(Some(why)) => refused.push(format!("{}: {why}", show::path(&r.from))),
            Err(e) => refused.push(e.to_string()),
        }
    }
    Ok((batch, refused))
}

fn holder(path: &Path, make: bool) -> Result<(Dir, &OsStr)> {
    let fail = |e| Error::path("cannot open the folder of", path)(e);
    let name = path.file_name().ok_or_else(|| fail(std::io::Error::other("it has no name")))?;
    let folder = path.parent().unwrap_or(Path::new("/"));
    if make {
        std::fs::create_dir_all(folder).map_err(fail)?;
    }
    Ok((Dir::open(folder).map_err(fail)?, name))
}

fn looked(path: &Path) -> Result<(Dir, std::ffi::OsString, Option<Entry>)> {
    let (dir, name) = holder(path, false)?;
    let entry = dir.look(name).map_err(Error::path("cannot look at", path))?;
    Ok((dir, name.to_owned(), entry))
}

/// What was put back, and what was not and why.
#[derive(Debug, Default)]
pub struct Undone {
    pub batch: i64,
    pub back: Vec<Rename>,
    pub left: Vec<String>,
}

/// Gives the files of a batch (the last that was not undone) their names back: each if it is still that file, and its old
/// name is free.
pub fn undo(house: &House, batch: Option<i64>) -> Result<Undone> {
    let (at, lines) = open_record(house)?;
    let undone: HashSet<(i64, &PathBuf)> =
        lines.iter().filter(|l| l.undone).map(|l| (l.batch, &l.from)).collect();
    let open = |l: &&Line| !l.undone && !undone.contains(&(l.batch, &l.from));
    let Some(batch) = batch.or_else(|| lines.iter().filter(open).map(|l| l.batch).max()) else {
        return Err(Error::NotConfigured("nothing was renamed here that is not undone already".into()));
    };
    let of_batch: Vec<&Line> = lines.iter().filter(open).filter(|l| l.batch == batch).collect();
    if of_batch.is_empty() {
        return Err(Error::NotConfigured(format!("there is nothing of number {batch} to undo")));
    }
    let mut out = Undone { batch, ..Undone::default() };
    let mut record = writing(&at)?;
    for l in of_batch.into_iter().rev() {
        let one = |record: &mut File| -> Result<Option<&str>> {
            let (dir, name, entry) = looked(&l.to)?;
            let same = |e: &Entry| (e.device, e.seen.inode, e.seen.size) == (l.device, l.inode, l.size);
            let Some(_) = entry.filter(same) else {
                return Ok(match looked(&l.from)?.2.filter(same) {
                    Some(_) => {
                        note(record, &at, &Line { undone: true, ..l.clone() })?;
                        None
                    }
                    None => Some("it is not the file any more that was renamed"),
                });
            };
            let (to, old) = holder(&l.from, true)?;
            if !dir.rename_if_free(&name, &to, old).map_err(Error::path("cannot rename", &l.to))? {
                return Ok(Some("its old name is taken"));
            }
            note(record, &at, &Line { undone: true, ..l.clone() })?;
            Ok(None)
        };
        match one(&mut record) {
            Ok(None) => out.back.push(Rename { from: l.to.clone(), to: l.from.clone() }),
            Ok(Some(why)) => out.left.push(format!("{}: {why}", show::path(&l.to))),
            Err(e) => out.left.push(e.to_string()),
        }
    }
    Ok(out)
}
