//! Files held against what a manifest says of them: missing, changed, extra.

use super::manifest::{self, Entry, Listed};
use super::sums::{Kind, of as sums_of};
use super::tree;
use crate::error::{Error, Result};
use crate::files::{Dir, Watching};
use media::show;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};

/// What was found.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Verified {
    /// What the files were held against.
    pub against: Vec<String>,
    pub good: u64,
    pub bytes: u64,
    pub missing: Vec<String>,
    pub changed: Vec<Changed>,
    /// In the folder, but in no manifest.
    pub extra: Vec<String>,
    /// Said of the manifest itself: what it asks for and this program cannot do.
    pub remarks: Vec<String>,
}

#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Changed {
    pub path: String,
    pub why: String,
}

impl Verified {
    pub fn is_good(&self) -> bool {
        self.good > 0 && self.missing.is_empty() && self.changed.is_empty() && self.remarks.is_empty()
    }
}

/// A folder with a history of manifests in it, or one manifest or list of checksums, whose files lie beside it.
pub fn verify(path: &Path, watching: &dyn Watching) -> Result<Verified> {
    let fail = |e| Error::path("cannot read", path)(e);
    if path.is_dir() {
        let folder = Dir::open(path).map_err(fail)?;
        let history = manifest::history(&folder).map_err(fail)?;
        if history.is_empty() {
            let why = format!(
                "{} has no manifest (no folder \"ascmhl\"): name the manifest or the list of checksums itself",
                show::path(path)
            );
            return Err(Error::NotConfigured(why));
        }
        let (names, lists): (Vec<String>, Vec<Listed>) = history.into_iter().unzip();
        return held(&folder, names, lists, true, watching);
    }
    let holder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let dir = Dir::open(holder).map_err(fail)?;
    let name = path.file_name().unwrap_or_default();
    let whole = dir.read(name).and_then(manifest::read_whole).map_err(fail)?;
    let is_mhl = whole.trim_start_matches('\u{feff}').trim_start().starts_with('<');
    let listed = if is_mhl { manifest::read_mhl(&whole) } else { manifest::read_text(&whole) };
    let listed = listed.map_err(|why| fail(io::Error::other(why)))?;
    // A generation lies in a folder of its own, below what it is of.
    let own = holder.file_name().is_some_and(|n| n == "ascmhl");
    let folder = if own { Dir::open(&holder.join("..")).map_err(fail)? } else { dir };
    held(&folder, vec![show::path(path)], vec![listed], own, watching)
}

/// Of each file and kind of checksum the first word counts: a later generation that found another sum found a change.
fn held(
    folder: &Dir,
    against: Vec<String>,
    lists: Vec<Listed>,
    is_whole: bool,
    watching: &dyn Watching,
) -> Result<Verified> {
    let mut out = Verified { against, ..Verified::default() };
    let mut wanted: BTreeMap<String, Entry> = BTreeMap::new();
    for list in lists {
        if list.unknown > 0 {
            out.remarks.push(format!("{} checksums are of a kind that is not known here", list.unknown));
        }
        for entry in list.entries {
            if !manifest::is_inside(&entry.path) {
                let why = "a path that leads out of the folder: not looked at".to_owned();
                out.changed.push(Changed { path: show::text(&entry.path), why });
                continue;
            }
            match wanted.get_mut(&entry.path) {
                None => _ = wanted.insert(entry.path.clone(), entry),
                Some(first) => {
                    let new = |k: &Kind| !first.sums.iter().any(|(known, _)| known == k);
                    let more: Vec<_> = entry.sums.into_iter().filter(|(k, _)| new(k)).collect();
                    first.sums.extend(more);
                }
            }
        }
    }
    for (path, entry) in &wanted {
        if watching.stopping() {
            return Err(Error::Stopped);
        }
        match one(folder, entry, watching) {
            Ok(Some(None)) => {
                out.good += 1;
                out.bytes += entry.size.unwrap_or(0);
            }
            Ok(Some(Some(why))) => out.changed.push(Changed { path: show::text(path), why }),
            Ok(None) => out.missing.push(show::text(path)),
            Err(e) if watching.stopping() => {
                drop(e);
                return Err(Error::Stopped);
            }
            Err(e) => {
                let why = crate::files::known::plain(&e);
                out.changed.push(Changed { path: show::text(path), why });
            }
        }
    }
    if is_whole {
        let tree = tree::of(folder, false).map_err(Error::path("cannot read", folder.path()))?;
        let known: BTreeSet<PathBuf> = wanted.keys().map(PathBuf::from).collect();
        let here = tree.files.iter().map(|f| &f.path).chain(tree.others.iter().map(|(p, _)| p));
        out.extra = here.filter(|p| !known.contains(*p)).map(show::path).collect();
    }
    Ok(out)
}

/// `None`: it is not there. Otherwise why it is not what it was, if it is not.
fn one(folder: &Dir, entry: &Entry, watching: &dyn Watching) -> io::Result<Option<Option<String>>> {
    let (dir, name) = match folder.holder(Path::new(&entry.path), false) {
        Ok(found) => found,
        Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
            return Ok(None);
        }
        Err(e) => return Err(e),
    };
    let found = match dir.look(name)? {
        None => return Ok(None),
        Some(e) if !e.is_file() => return Ok(Some(Some("it is no file any more".into()))),
        Some(e) => e,
    };
    if let Some(size) = entry.size.filter(|s| *s != found.seen.size) {
        return Ok(Some(Some(format!("{} bytes, {size} expected", found.seen.size))));
    }
    if entry.sums.is_empty() {
        return Ok(Some(Some("the manifest has no checksum of it that is known here".into())));
    }
    let mut file = dir.read(name)?;
    let _ = rustix::fs::fadvise(&file, 0, None, rustix::fs::Advice::DontNeed);
    let kinds: Vec<Kind> = entry.sums.iter().map(|(k, _)| *k).collect();
    let got = sums_of(&mut file, &kinds, &|n| {
        watching.passed(n);
        if watching.stopping() { Err(io::Error::other("stopped")) } else { Ok(()) }
    })?;
    let wrong = entry.sums.iter().zip(&got).find(|((_, wanted), got)| wanted != *got);
    Ok(Some(wrong.map(|((kind, wanted), got)| format!("{} is {got}, {wanted} expected", kind.name()))))
}
