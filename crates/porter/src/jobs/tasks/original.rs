//! What happens to originals. Where one goes is recorded before it goes.

use super::{Desk, Worker};
use crate::error::{Error, Result};
use crate::files::copy::digest_of;
use crate::files::dir::entry_of;
use crate::files::frames::{Frames, Together};
use crate::files::moving::{At, Moved, finish, move_if_free};
use crate::files::{Dir, Seen, Watching};
use crate::item::Fields;
use crate::maker::Captions;
use crate::progress::{Progress, Stage, Unit};
use crate::store::{Change, MadeFile};
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
    /// It is a run of these.
    frames: Option<Frames>,
}

impl Found {
    pub fn at(&self) -> At<'_> {
        At { dir: &self.dir, name: &self.name }
    }

    pub fn path(&self) -> PathBuf {
        self.at().path()
    }

    /// Opens it, and makes sure that this is the file that was looked at. Of a run, the folder is opened: its frames were
    /// looked at, and are looked at again when all is made.
    pub fn open(&self) -> Result<File> {
        let fail = |e| Error::path("cannot read", &self.path())(e);
        if self.frames.is_some() {
            return Ok(File::from(self.dir.fd().try_clone().map_err(fail)?));
        }
        let file = self.dir.read(&self.name).map_err(fail)?;
        if entry_of(&file).map_err(fail)?.seen != self.seen {
            return Err(fail(std::io::Error::other("it changed in this moment")));
        }
        Ok(file)
    }
}

impl Found {
    /// Of all its content.
    pub fn digest(&self, w: &Worker) -> Result<String> {
        let Some(frames) = &self.frames else {
            return digest_of(&mut self.open()?, &self.path(), false, w);
        };
        let mut all = xxhash_rust::xxh3::Xxh3::new();
        for n in frames.numbers() {
            let name = frames.name(n);
            let path = self.dir.path().join(&name);
            let mut file = self.dir.read(OsStr::new(&name)).map_err(Error::path("cannot read", &path))?;
            all.update(digest_of(&mut file, &path, false, w)?.as_bytes());
        }
        Ok(crate::files::copy::show(&all))
    }

    /// What it is made of, with a checksum of each file.
    pub fn files(&self, w: &Worker) -> Result<Vec<MadeFile>> {
        let Some(frames) = &self.frames else {
            let digest = self.digest(w)?;
            return Ok(vec![MadeFile { inside: String::new(), bytes: self.seen.size, digest }]);
        };
        let each = frames.numbers().map(|n| {
            let inside = frames.name(n);
            let path = self.dir.path().join(&inside);
            let fail = |e| Error::path("cannot read", &path)(e);
            let mut file = self.dir.read(OsStr::new(&inside)).map_err(fail)?;
            let bytes = entry_of(&file).map_err(fail)?.seen.size;
            Ok(MadeFile { bytes, digest: digest_of(&mut file, &path, false, w)?, inside })
        });
        each.collect()
    }

    /// Takes it away.
    pub fn remove(&self) -> std::io::Result<()> {
        match &self.frames {
            None => _ = self.dir.remove(&self.name)?,
            Some(frames) => {
                // Many take a while: each is looked at just before it goes, and one that was made anew meanwhile stays.
                let mut all = Together::default();
                let mut each = Vec::new();
                for n in frames.numbers() {
                    let name = OsString::from(frames.name(n));
                    if let Some(e) = self.dir.look(&name)? {
                        all.add(n, &e.seen);
                        each.push((name, e.seen));
                    }
                }
                if all.seen() != self.seen {
                    return Err(std::io::Error::other("a frame changed in this moment"));
                }
                for (name, seen) in each {
                    if self.dir.look(&name)?.is_some_and(|e| e.seen == seen) {
                        self.dir.remove(&name)?;
                    }
                }
            }
        }
        self.dir.sync();
        Ok(())
    }
}

/// A watch folder that is away takes its files along: that is an error here, and no reason to give a job up.
pub fn source(d: &Desk<'_>) -> Result<Source> {
    let folder = d.watch_folder()?;
    let path = folder.path().join(&d.job.path);
    let fail = |e| Error::path("cannot look at", &path)(e);
    let (dir, name) = match folder.holder(&d.job.path, false) {
        Ok(found) => found,
        Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
            return Ok(Source::Gone);
        }
        Err(e) => return Err(fail(e)),
    };
    let now = match &d.job.frames {
        Some(frames) => frames.look(&dir).map_err(fail)?,
        None => dir.look(name).map_err(fail)?.map(|e| e.seen),
    };
    Ok(match now {
        Some(seen) if is_same(&seen, &d.job.seen) => {
            Source::Same(Found { name: name.to_owned(), dir, seen, frames: d.job.frames.clone() })
        }
        Some(_) => Source::Changed,
        None => Source::Gone,
    })
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
    /// Moves the original to the first free name under `folder`, keeping its path inside the watch. A move that was
    /// begun before a restart is ended.
    pub fn move_original(
        &self,
        folder: &Dir,
        free: impl Fn(&Dir, &OsStr) -> std::io::Result<bool>,
    ) -> Result<Original> {
        if let Some(frames) = &self.job.frames {
            return self.move_frames(folder, frames, free);
        }
        if let Some(to) = self.moved_before(folder)? {
            return Ok(Original::At(to));
        }
        let found = match source(self)? {
            Source::Same(found) => found,
            Source::Changed => return Ok(Original::Changed),
            Source::Gone => return Ok(Original::Gone),
        };
        self.move_beside(folder)?;
        let (unit, of) = (Unit::Bytes, Some(self.job.seen.size * 2));
        self.worker.tell(Progress { stage: Stage::Moving, output: None, done: 0, of, unit });
        let fail = |e| Error::path("cannot open the folder of", &folder.path().join(&self.job.path))(e);
        let (dir, name) = folder.holder(&self.job.path, true).map_err(fail)?;
        let stage = format!(".{}-original.deft-porter.part", self.porter.tag(self.job.id));
        for n in 1.. {
            let name = numbered_file(name, n);
            let to = At { dir: &dir, name: &name };
            let taken = dir.look(&name).map_err(Error::path("cannot look at", &to.path()))?.is_some();
            if taken || !free(&dir, &name).map_err(Error::path("cannot look beside", &to.path()))? {
                continue;
            }
            self.commit(Change::MovingOriginal { job: self.job.id, to: to.path(), stage: stage.clone() })?;
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
        let above = self.job.path.parent().unwrap_or(Path::new(""));
        let watch = self.watch_folder()?;
        let Ok(from) = watch.inside(above) else { return Ok(Vec::new()) };
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

    /// Fields of an item that sidecars say.
    pub fn said_beside(&self) -> Result<Fields> {
        const MOST: u64 = 1_000_000;
        let mut out = Fields::new();
        for (dir, name, seen) in self.beside()?.into_iter().filter(|b| b.2.size <= MOST) {
            let mut text = String::new();
            let read = dir.read(name).and_then(|f| f.take(MOST).read_to_string(&mut text));
            if read.is_ok() && seen.size > 0 {
                let ending = Path::new(name).extension().unwrap_or_default().to_string_lossy();
                out.extend(crate::item::from_sidecar(&ending, &text));
            }
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
        Ok(Some(MadeFile { inside: String::new(), bytes: seen.size, digest }))
    }

    /// What belongs to the original goes along, before it.
    fn move_beside(&self, folder: &Dir) -> Result<()> {
        let above = self.job.path.parent().unwrap_or(Path::new(""));
        let stage = OsString::from(format!(".{}-beside.deft-porter.part", self.porter.tag(self.job.id)));
        for (from, name, seen) in self.beside()? {
            let fail = |e| Error::path("cannot open the folder of", &folder.path().join(above).join(name))(e);
            let to = folder.make(above).map_err(fail)?;
            to.remove(&stage).map_err(fail)?;
            let here = At { dir: &from, name };
            for n in 1.. {
                let new = numbered_file(name, n);
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

    /// The frames of a run go into a folder of their own, which has the run's name. What a restart finds moved is moved.
    fn move_frames(
        &self,
        folder: &Dir,
        frames: &Frames,
        free: impl Fn(&Dir, &OsStr) -> std::io::Result<bool>,
    ) -> Result<Original> {
        let above = self.job.path.parent().unwrap_or(Path::new(""));
        let before = self.job.original_to.as_ref().and_then(|to| to.strip_prefix(folder.path()).ok());
        let watch = self.watch_folder()?;
        let fail = |e| Error::path("cannot open the folder of", &watch.path().join(&self.job.path))(e);
        let into = match before {
            Some(inside) => folder.inside(inside).map(|dir| (dir, folder.path().join(inside))).ok(),
            None => None,
        };
        let (to, at) = match into {
            Some(found) => found,
            None => {
                match source(self)? {
                    Source::Same(_) => (),
                    Source::Changed => return Ok(Original::Changed),
                    Source::Gone => return Ok(Original::Gone),
                }
                let fail = |e| Error::path("cannot make a folder in", &folder.path().join(above))(e);
                let parent = folder.make(above).map_err(fail)?;
                let mut n = 0;
                loop {
                    n += 1;
                    let name = numbered_file(OsStr::new(frames.title()), n);
                    if parent.look(&name).map_err(fail)?.is_some() || !free(&parent, &name).map_err(fail)? {
                        continue;
                    }
                    let to = parent.path().join(&name);
                    self.commit(Change::MovingOriginal {
                        job: self.job.id,
                        to: to.clone(),
                        stage: String::new(),
                    })?;
                    match parent.create_folder(&name) {
                        Ok(dir) => break (dir, to),
                        Err(e) if e.kind() == ErrorKind::AlreadyExists => continue,
                        Err(e) => return Err(fail(e)),
                    }
                }
            }
        };
        let (unit, of) = (Unit::Bytes, Some(self.job.seen.size));
        self.worker.tell(Progress { stage: Stage::Moving, output: None, done: 0, of, unit });
        let from = watch.inside(above).map_err(fail)?;
        let stage = OsString::from(format!(".{}-frame.deft-porter.part", self.porter.tag(self.job.id)));
        for n in frames.numbers() {
            if self.worker.stopping() {
                return Err(Error::Stopped);
            }
            let name = OsString::from(frames.name(n));
            let (here, there) = (At { dir: &from, name: &name }, At { dir: &to, name: &name });
            let Some(e) = from.look(&name).map_err(fail)? else { continue };
            if to.look(&name).map_err(fail)?.is_some() {
                // Of a move that a kill broke off in the middle of this frame; otherwise both stay.
                finish(here, there, &e.seen, self.worker as &Worker)?;
            } else if e.is_file() {
                move_if_free(here, there, &stage, &e.seen, self.worker as &Worker)?;
                crate::stops::here("frame moved");
            }
        }
        to.sync();
        Ok(Original::At(at))
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
        let is_there = match self.watch_folder()?.holder(&self.job.path, false) {
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
