//! What happens to originals. Where one goes is recorded before it goes.

use super::many::remove_folders;
use super::{Desk, Worker};
use crate::error::{Error, Result};
use crate::files::copy::digest_of;
use crate::files::dir::entry_of;
use crate::files::fitting::fitting;
use crate::files::known::{self, Role};
use crate::files::many::Many;
use crate::files::moving::{At, Moved, finish, move_if_free};
use crate::files::{Dir, Seen};
use crate::item::Fields;
use crate::maker::Captions;
use crate::progress::{Progress, Stage, Unit};
use crate::store::{Change, Job, MadeFile};
use crate::watch::beside::Beside;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{ErrorKind, Read};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

pub const CHANGED: &str = "the file changed while it was worked on; what it is now arrives anew";
pub const GONE: &str = "the file is gone from the watch folder";

/// Longest file name of common file systems, in bytes.
pub const MAX_NAME: usize = 255;

/// Whether the file is still the one that arrived.
pub enum Source {
    Same(Found),
    Changed,
    Gone,
}

/// A source as it was looked at: its folder, held open.
pub struct Found {
    dir: Dir,
    name: OsString,
    seen: Seen,
    many: Option<Many>,
}

impl Found {
    pub fn at(&self) -> At<'_> {
        At { dir: &self.dir, name: &self.name }
    }

    pub fn path(&self) -> PathBuf {
        self.at().path()
    }

    /// Opens it, and makes sure that this is the file that was looked at. Of many, the folder is opened: its files were
    /// looked at, and are looked at again when all is made.
    pub fn open(&self) -> Result<File> {
        let fail = |e| Error::path("cannot read", &self.path())(e);
        if self.many.is_some() {
            return Ok(File::from(self.base().map_err(fail)?.fd().try_clone().map_err(fail)?));
        }
        let file = self.dir.read(&self.name).map_err(fail)?;
        if entry_of(&file).map_err(fail)?.seen != self.seen {
            return Err(fail(std::io::Error::other("it changed in this moment")));
        }
        Ok(file)
    }
}

impl Found {
    /// It lies on a disk of this machine.
    pub fn is_local(&self) -> bool {
        known::is_local(&self.dir)
    }

    /// The folder that it lies in, opened.
    pub fn folder(&self) -> Result<File> {
        let fd = self.dir.fd().try_clone().map_err(Error::path("cannot read", self.dir.path()))?;
        Ok(File::from(fd))
    }

    /// The folder that its files stand in.
    fn base(&self) -> std::io::Result<Dir> {
        match &self.many {
            Some(many) => many.base(&self.dir, &self.name),
            None => self.dir.again(),
        }
    }

    /// Its files, by their paths in there.
    pub fn names(&self) -> std::io::Result<Vec<PathBuf>> {
        match &self.many {
            Some(many) => many.files(&self.base()?),
            None => Ok(vec![PathBuf::from(&self.name)]),
        }
    }

    /// Of all its content.
    pub fn digest(&self, w: &Worker) -> Result<String> {
        if self.many.is_none() {
            return digest_of(&mut self.open()?, &self.path(), false, w);
        }
        let mut all = xxhash_rust::xxh3::Xxh3::new();
        for f in self.files(w)? {
            // Frames are known by their numbers alone, as they always were.
            if matches!(self.many, Some(Many::Tree(_))) {
                all.update(f.inside.as_bytes());
            }
            all.update(f.digest.as_bytes());
        }
        Ok(crate::files::copy::show(&all))
    }

    /// What it is made of, with a checksum of each file.
    pub fn files(&self, w: &Worker) -> Result<Vec<MadeFile>> {
        if self.many.is_none() {
            let digest = self.digest(w)?;
            return Ok(vec![MadeFile { inside: String::new(), bytes: self.seen.size, digest, ours: false }]);
        }
        let fail = |e| Error::path("cannot read", &self.path())(e);
        let base = self.base().map_err(fail)?;
        let each = self.names().map_err(fail)?.into_iter().map(|inside| {
            let path = base.path().join(&inside);
            let fail = |e| Error::path("cannot read", &path)(e);
            let (dir, name) = base.holder(&inside, false).map_err(fail)?;
            let mut file = dir.read(name).map_err(fail)?;
            let bytes = entry_of(&file).map_err(fail)?.seen.size;
            let digest = digest_of(&mut file, &path, false, w)?;
            Ok(MadeFile { bytes, digest, inside: inside.to_string_lossy().into_owned(), ours: false })
        });
        each.collect()
    }

    /// Takes it away.
    pub fn remove(&self) -> std::io::Result<()> {
        match &self.many {
            None => _ = self.dir.remove(&self.name)?,
            Some(many) => {
                // Many take a while: each is looked at just before it goes, and one that was made anew meanwhile stays.
                let base = self.base()?;
                let mut each = Vec::new();
                for path in many.files(&base)? {
                    if let Some(e) = base.look_at(&path)? {
                        each.push((path, e.seen));
                    }
                }
                if many.look(&self.dir, &self.name)? != Some(self.seen) {
                    return Err(std::io::Error::other("a file of it changed in this moment"));
                }
                for (path, seen) in each {
                    let (dir, name) = base.holder(&path, false)?;
                    if dir.look(name)?.is_some_and(|e| e.seen == seen) {
                        dir.remove(name)?;
                    }
                }
                if let Many::Tree(_) = many {
                    remove_folders(&self.dir, &self.name, many)?;
                }
            }
        }
        self.dir.sync();
        Ok(())
    }
}

/// A watch folder that is away takes its files along: that is an error here, and no reason to give a job up.
pub fn source(d: &Desk<'_>) -> Result<Source> {
    Ok(match found(d)? {
        Some(found) if is_same(&found.seen, &d.job.seen) => Source::Same(found),
        Some(_) => Source::Changed,
        None => Source::Gone,
    })
}

/// What lies there now, whether it is the same or not.
fn found(d: &Desk<'_>) -> Result<Option<Found>> {
    let (folder, inside) = d.lies_in()?;
    let path = folder.path().join(&inside);
    let fail = |e| Error::path("cannot look at", &path)(e);
    let (dir, name) = match folder.holder(&inside, false) {
        Ok(found) => found,
        Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => return Ok(None),
        Err(e) => return Err(fail(e)),
    };
    let now = match &d.job.many {
        Some(many) => many.look(&dir, name).map_err(fail)?,
        None => dir.look(name).map_err(fail)?.map(|e| e.seen),
    };
    Ok(now.map(|seen| Found { name: name.to_owned(), dir, seen, many: d.job.many.clone() }))
}

/// Somebody gave the original other rights or attributes while it was worked on: where its content is known and is this,
/// it is the file that arrived, and the job is told so.
pub fn touched(d: &Desk<'_>) -> Result<Option<Job>> {
    let job = d.job;
    let Some(found) = found(d)?.filter(|_| job.many.is_none()) else { return Ok(None) };
    let alike = Seen { changed: job.seen.changed, ..found.seen } == job.seen;
    if !alike || is_same(&found.seen, &job.seen) {
        return Ok(None);
    }
    let known = match &job.content {
        Some(content) => Some(content.clone()),
        None => {
            let outputs = d.porter.store.read(|v| v.outputs(job.id))?;
            let copy = outputs.iter().find(|o| o.is_original()).and_then(|o| o.files().first());
            copy.map(|f| f.digest.clone())
        }
    };
    let Some(known) = known else { return Ok(None) };
    d.worker.tell(Progress { stage: Stage::Looking, of: Some(job.seen.size), ..Progress::default() });
    if found.digest(d.worker as &Worker)? != known {
        return Ok(None);
    }
    d.commit(Change::Touched { job: job.id, seen: found.seen, path: None })?;
    Ok(Some(Job { seen: found.seen, ..job.clone() }))
}

/// A store of an older program does not have the time of the last change.
fn is_same(now: &Seen, then: &Seen) -> bool {
    let then = if then.changed == 0 { Seen { changed: now.changed, ..*then } } else { *then };
    *now == then
}

/// What came of moving an original.
pub enum Original {
    At(PathBuf),
    Changed,
    Gone,
}

impl Desk<'_> {
    /// Where the original lies: in its watch, or in the folder that it was taken into.
    pub(super) fn lies_in(&self) -> Result<(Dir, PathBuf)> {
        let Some(to) = &self.job.taken_to else { return Ok((self.watch_folder()?, self.job.path.clone())) };
        let folder = self.done_folder()?;
        match to.strip_prefix(folder.path()) {
            Ok(inside) => Ok((folder, inside.to_owned())),
            Err(_) => Err(Error::NotConfigured(format!(
                "its original was taken to {}, which is not in the folder for done originals any more",
                media::show::path(to)
            ))),
        }
    }

    /// The folder for done originals.
    pub fn done_folder(&self) -> Result<Dir> {
        let Some(to) = &self.watch.done else {
            return Err(Error::NotConfigured(format!(
                "watch \"{}\" has no folder for done originals",
                self.watch.name
            )));
        };
        let folder = self.porter.folders.open(&self.porter.store, Role::Done, &self.watch.name, to, true);
        folder.map_err(|e| super::clear::named(e, "folder for done originals"))
    }

    /// Moves the original out of the watch before anything is made of it. What a restart finds moved is moved.
    pub fn take_in(&self, wanted: &Path) -> Result<std::result::Result<Job, Original>> {
        let folder = self.done_folder()?;
        let to = match self.move_original(&folder, wanted, |_, _| Ok(true))? {
            Original::At(to) => to,
            other => return Ok(Err(other)),
        };
        let fail = |e| Error::path("cannot look at", &to)(e);
        let inside = to.strip_prefix(folder.path()).unwrap_or(&to).to_owned();
        let (dir, name) = folder.holder(&inside, false).map_err(fail)?;
        let seen = match &self.job.many {
            // Of a run the folder that was made for it is what it lies in now.
            Some(Many::Run(frames)) => frames.look(&dir.inside(Path::new(name)).map_err(fail)?),
            Some(tree) => tree.look(&dir, name),
            None => dir.look(name).map(|e| e.map(|e| e.seen)),
        };
        let Some(seen) = seen.map_err(fail)? else { return Ok(Err(Original::Gone)) };
        let to = match &self.job.many {
            Some(Many::Run(frames)) => to.join(frames.pattern()),
            _ => to.clone(),
        };
        let beside =
            self.job.beside.iter().map(|b| moved_beside(&dir, b)).collect::<std::io::Result<Vec<_>>>();
        let beside = beside.map_err(fail)?;
        self.remove_empty_folders();
        self.commit(Change::TakenIn { job: self.job.id, to: to.clone(), seen, beside: beside.clone() })?;
        crate::stops::here("taken in");
        Ok(Ok(Job { taken_to: Some(to), original_to: None, seen, beside, ..self.job.clone() }))
    }

    /// Moves the original to the first free name under `folder` like the one that is wanted. A move that was begun before
    /// a restart is ended.
    pub fn move_original(
        &self,
        folder: &Dir,
        wanted: &Path,
        free: impl Fn(&Dir, &OsStr) -> std::io::Result<bool>,
    ) -> Result<Original> {
        self.house.may_lie(folder.path(), wanted).map_err(Error::NotConfigured)?;
        if let Some(many) = &self.job.many {
            return self.move_many(folder, wanted, many, free);
        }
        if let Some(to) = self.moved_before(folder)? {
            return Ok(Original::At(to));
        }
        let wanted = &fitting(folder, wanted).map_err(Error::path("cannot write to", folder.path()))?;
        let found = match source(self)? {
            Source::Same(found) => found,
            Source::Changed => return Ok(Original::Changed),
            Source::Gone => return Ok(Original::Gone),
        };
        self.move_beside(folder, wanted.parent().unwrap_or(Path::new("")))?;
        let (unit, of) = (Unit::Bytes, Some(self.job.seen.size * 2));
        self.worker.tell(Progress { stage: Stage::Moving, output: None, done: 0, of, unit });
        let fail = |e| Error::path("cannot open the folder of", &folder.path().join(wanted))(e);
        let (dir, name) = folder.holder(wanted, true).map_err(fail)?;
        let stage = format!(".{}-original.deft-porter.part", self.porter.tag(self.job.id));
        for n in 1.. {
            let name = numbered_file(name, n);
            let to = At { dir: &dir, name: &name };
            let taken = dir.look(&name).map_err(Error::path("cannot look at", &to.path()))?.is_some();
            if taken || !free(&dir, &name).map_err(Error::path("cannot look beside", &to.path()))? {
                continue;
            }
            self.commit(Change::MovingOriginal {
                job: self.job.id,
                to: to.path(),
                stage: stage.clone(),
                files: Vec::new(),
            })?;
            crate::stops::here("about to move the original");
            match move_if_free(found.at(), to, OsStr::new(&stage), &found.seen, self.worker as &Worker)? {
                Moved::Done => {
                    crate::stops::here("original moved");
                    return Ok(Original::At(to.path()));
                }
                Moved::Taken => (),
                Moved::Changed => return Ok(Original::Changed),
            }
        }
        unreachable!("numbers do not end")
    }

    /// What belongs to the original and is as it was.
    fn beside(&self) -> Result<Vec<(Dir, &OsStr, Seen)>> {
        if self.job.beside.is_empty() {
            return Ok(Vec::new());
        }
        let (folder, inside) = self.lies_in()?;
        let above = inside.parent().unwrap_or(Path::new(""));
        let Ok(from) = folder.inside(above) else { return Ok(Vec::new()) };
        let mut out = Vec::new();
        for b in &self.job.beside {
            let name = b.name.as_os_str();
            let fail = |e| Error::path("cannot look at", &from.path().join(name))(e);
            // A kill in the middle of a move leaves it with another time of its last change.
            let same = |s: &Seen| Seen { changed: 0, ..*s } == Seen { changed: 0, ..b.seen };
            if let Some(e) = from.look(name).map_err(fail)?.filter(|e| e.is_file() && same(&e.seen)) {
                out.push((from.again().map_err(fail)?, name, e.seen));
            }
        }
        Ok(out)
    }

    /// A file that its sound is in and that is gone or another by now: why the job cannot go on.
    pub fn lost_sound(&self) -> Result<Option<String>> {
        let mut wanted = self.job.beside.iter().filter(|b| b.sound).peekable();
        if wanted.peek().is_none() {
            return Ok(None);
        }
        let there = self.beside()?;
        let lost = wanted.find(|b| !there.iter().any(|t| Path::new(t.1) == b.name));
        Ok(lost.map(|b| {
            let name = media::show::path(&b.name);
            format!("{name}, which is its sound, changed or went away after it arrived")
        }))
    }

    /// What tables and sidecars say of it, by name.
    pub fn said(&self) -> Result<Fields> {
        let mut out = match &self.watch.table {
            Some(table) => crate::item::in_tables(&self.watch_folder()?, &self.job.path, table),
            None => Fields::new(),
        };
        if self.job.beside.is_empty() {
            return Ok(out);
        }
        for (dir, name, _) in self.beside()? {
            out.extend(crate::item::in_sidecar(&dir, name));
        }
        Ok(out)
    }

    /// The first file of captions that came with it.
    pub fn captions_beside(&self) -> Result<Option<Captions>> {
        const MOST: u64 = 4_000_000;
        const ENDINGS: [&str; 4] = ["srt", "vtt", "ttml", "dfxp"];
        for (dir, name, seen) in self.beside()? {
            let mut parts = name.to_str().unwrap_or_default().rsplit('.');
            let ending = parts.next().unwrap_or_default().to_lowercase();
            if !ENDINGS.contains(&ending.as_str()) || seen.size > MOST {
                continue;
            }
            // `clip.en.srt` says its language; `clip.srt` does not.
            let stem = self.job.path.file_stem().unwrap_or_default().to_string_lossy();
            let told = parts.next().filter(|l| (2..=8).contains(&l.len()) && *l != stem);
            let language = told.filter(|l| l.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-'));
            let mut bytes = Vec::new();
            let path = dir.path().join(name);
            let read = dir.read(name).and_then(|f| f.take(MOST).read_to_end(&mut bytes));
            read.map_err(Error::path("cannot read", &path))?;
            let (name, language) =
                (name.to_string_lossy().into_owned(), language.unwrap_or("und").to_owned());
            return Ok(Some(Captions { name, language, bytes }));
        }
        Ok(None)
    }

    /// One that is as it was, with its checksum.
    pub fn beside_file(&self, wanted: &Path) -> Result<Option<MadeFile>> {
        let Some((dir, name, seen)) = self.beside()?.into_iter().find(|b| Path::new(b.1) == wanted) else {
            return Ok(None);
        };
        let path = dir.path().join(name);
        let mut file = dir.read(name).map_err(Error::path("cannot read", &path))?;
        let digest = digest_of(&mut file, &path, false, self.worker as &Worker)?;
        Ok(Some(MadeFile { inside: String::new(), bytes: seen.size, digest, ours: false }))
    }

    /// What belongs to the original goes along, before it.
    fn move_beside(&self, folder: &Dir, above: &Path) -> Result<()> {
        let stage = OsString::from(format!(".{}-beside.deft-porter.part", self.porter.tag(self.job.id)));
        for (from, name, seen) in self.beside()? {
            let fail = |e| Error::path("cannot open the folder of", &folder.path().join(above).join(name))(e);
            let to = folder.make(above).map_err(fail)?;
            to.remove(&stage).map_err(fail)?;
            let here = At { dir: &from, name };
            let wanted = fitting(&to, Path::new(name)).map_err(fail)?;
            for n in 1.. {
                let new = numbered_file(wanted.as_os_str(), n);
                let there = At { dir: &to, name: &new };
                if to.look(&new).map_err(fail)?.is_some() {
                    if finish(here, there, &seen, self.worker as &Worker)? {
                        break;
                    }
                    continue;
                }
                match move_if_free(here, there, &stage, &seen, self.worker as &Worker)? {
                    Moved::Done | Moved::Changed => break,
                    Moved::Taken => (),
                }
            }
            crate::stops::here("moved beside");
        }
        Ok(())
    }

    /// What belongs to the original goes with it.
    pub fn remove_beside(&self) -> Result<()> {
        for (from, name, _) in self.beside()? {
            from.remove(name).map_err(Error::path("cannot remove", &from.path().join(name)))?;
        }
        Ok(())
    }

    /// Folders of the watch that the original left empty, if the watch says so.
    pub fn remove_empty_folders(&self) {
        if !self.watch.remove_empty_folders {
            return;
        }
        let Ok(watch) = self.watch_folder() else { return };
        let folders = self.job.path.ancestors().skip(1).filter(|p| !p.as_os_str().is_empty());
        for folder in folders {
            let Ok((dir, name)) = watch.holder(folder, false) else { return };
            if !dir.remove_empty(name).unwrap_or(false) {
                return;
            }
        }
    }

    /// Where the original is, if a move from before a restart got that far; a half copy of it is cleared away.
    fn moved_before(&self, folder: &Dir) -> Result<Option<PathBuf>> {
        let Some(to) = &self.job.original_to else { return Ok(None) };
        let Ok(inside) = to.strip_prefix(folder.path()) else { return Ok(None) };
        let fail = |e| Error::path("cannot look at", to)(e);
        let (dir, name) = match folder.holder(inside, false) {
            Ok(found) => found,
            Err(e) if e.kind() == ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(fail(e)),
        };
        if let Some(stage) = &self.job.original_stage {
            dir.remove(OsStr::new(stage)).map_err(fail)?;
        }
        let target = At { dir: &dir, name };
        // Of a file that is under both names (linked, and killed before the other was taken away) the time of its last
        // change is another: it is looked at by itself, not as the source it was.
        let (lies_in, inside) = self.lies_in()?;
        let is_there = match lies_in.holder(&inside, false) {
            Ok((from, was)) if from.look(was).map_err(fail)?.is_some() => {
                let source = At { dir: &from, name: was };
                finish(source, target, &self.job.seen, self.worker as &Worker)?
            }
            _ => dir
                .look(name)
                .map_err(fail)?
                .is_some_and(|e| e.is_file() && e.seen.size == self.job.seen.size),
        };
        Ok(is_there.then(|| to.clone()))
    }
}

/// What belongs to an original, where it was moved to with it: under its name or a numbered one.
fn moved_beside(dir: &Dir, b: &Beside) -> std::io::Result<Beside> {
    const MOST: u32 = 20;
    let is_it = |s: &Seen| (s.size, s.modified) == (b.seen.size, b.seen.modified);
    let wanted = fitting(dir, &b.name)?;
    for n in 1..=MOST {
        let name = numbered_file(wanted.as_os_str(), n);
        if let Some(e) = dir.look(&name)?.filter(|e| e.is_file() && is_it(&e.seen)) {
            return Ok(Beside { name: PathBuf::from(name), seen: e.seen, ..b.clone() });
        }
    }
    Ok(b.clone())
}

/// `clip_2.mp4`, for any bytes a name may have, kept within [`MAX_NAME`].
pub fn numbered_file(name: &OsStr, n: u32) -> OsString {
    let mark = if n < 2 { String::new() } else { format!("_{n}") };
    let path = Path::new(name);
    let (stem, ext) = (path.file_stem().unwrap_or_default(), path.extension());
    let mut tail = OsString::from(mark);
    if let Some(ext) = ext {
        tail.push(".");
        tail.push(ext);
    }
    shortened(stem, &tail)
}

pub fn shortened(stem: &OsStr, tail: &OsStr) -> OsString {
    let mut end = stem.len().min(MAX_NAME.saturating_sub(tail.len()));
    let bytes = stem.as_bytes();
    // Not in the middle of a UTF-8 character.
    while end > 0 && end < bytes.len() && bytes[end] & 0xc0 == 0x80 {
        end -= 1;
    }
    let mut out = OsString::from_vec(bytes[..end].to_vec());
    out.push(tail);
    out
}
