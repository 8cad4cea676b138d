//! Originals that are many files: moved and removed as what they were, file by file. What came or changed meanwhile stays
//! where it is, and arrives anew.

use super::original::{Original, Source, numbered_file, source};
use super::{Desk, Worker};
use crate::error::{Error, Result};
use crate::files::copy::digest_of;
use crate::files::fitting::{first_refused, fitting};
use crate::files::many::{Many, TreeFile, together, tree_files, walk};
use crate::files::moving::{At, finish, move_if_free};
use crate::files::{Dir, Watching};
use crate::progress::{Progress, Stage, Unit};
use crate::store::{Change, MadeFile, OutputEnd};
use std::ffi::{OsStr, OsString};
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

/// Where files of it are moved: the folder that was made for them, and which they are.
struct Begun {
    to: Dir,
    at: PathBuf,
    /// Of a run they follow from its numbers, and none are listed.
    files: Vec<TreeFile>,
}

/// Folders of a tree that nothing is in any more, and itself, from the deepest up.
pub fn remove_folders(holder: &Dir, name: &OsStr, many: &Many) -> std::io::Result<()> {
    let base = many.base(holder, name)?;
    for path in many.folders(&base)?.into_iter().rev() {
        let (dir, last) = base.holder(&path, false)?;
        dir.remove_empty(last)?;
    }
    holder.remove_empty(name).map(|_| ())
}

fn gone(e: &std::io::Error) -> bool {
    matches!(e.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory)
}

impl Desk<'_> {
    /// Many files go into a folder of their own, which has the run's or the tree's name. What a restart finds moved is moved.
    pub fn move_many(
        &self,
        folder: &Dir,
        wanted: &Path,
        many: &Many,
        free: impl Fn(&Dir, &OsStr) -> std::io::Result<bool>,
    ) -> Result<Original> {
        if let Some(begun) = self.begun(folder)? {
            return self.move_files(many, begun);
        }
        match source(self)? {
            Source::Same(_) => (),
            Source::Changed => return Ok(Original::Changed),
            Source::Gone => return Ok(Original::Gone),
        }
        let files = match many {
            Many::Run(_) => Vec::new(),
            Many::Tree(_) => {
                let Some((_, base)) = self.base_of(many)? else { return Ok(Original::Gone) };
                let fail = |e| Error::path("cannot look at", base.path())(e);
                let all = walk(&base).map_err(fail)?;
                if together(&all).0 != self.job.seen {
                    return Ok(Original::Changed);
                }
                tree_files(all).map_err(fail)?
            }
        };
        let begun = self.begin(folder, wanted, many, free, files)?;
        self.move_files(many, begun)
    }

    /// Of a folder that changed meanwhile: moves the files of it that went where they should, known by their content.
    pub fn move_what_went(&self, folder: &Dir, wanted: &Path) -> Result<Original> {
        let Some(many @ Many::Tree(_)) = &self.job.many else { return Ok(Original::Changed) };
        let Some((_, base)) = self.base_of(many)? else { return Ok(Original::Gone) };
        match self.what_went(&base)? {
            Some(files) if !files.is_empty() => {
                let begun = self.begin(folder, wanted, many, |_, _| Ok(true), files)?;
                self.move_files(many, begun)
            }
            _ => Ok(Original::Changed),
        }
    }

    /// The same, removed. How many went, or nothing where they are not known.
    pub fn remove_what_went(&self) -> Result<Option<usize>> {
        let Some(many @ Many::Tree(_)) = &self.job.many else { return Ok(None) };
        let Some((holder, base)) = self.base_of(many)? else { return Ok(Some(0)) };
        let Some(files) = self.what_went(&base)? else { return Ok(None) };
        self.commit(Change::RemovingOriginal { job: self.job.id })?;
        let mut count = 0;
        for f in files {
            let fail = |e| Error::path("cannot remove", &base.path().join(&f.path))(e);
            let (dir, name) = match base.holder(&f.path, false) {
                Err(e) if gone(&e) => continue,
                found => found.map_err(fail)?,
            };
            if dir.look(name).map_err(fail)?.is_some_and(|e| e.seen == f.seen) {
                count += usize::from(dir.remove(name).map_err(fail)?);
            }
        }
        let (_, inside) = self.lies_in()?;
        let name = inside.file_name().unwrap_or_default();
        remove_folders(&holder, name, many).map_err(Error::path("cannot remove", base.path()))?;
        holder.sync();
        Ok(Some(count))
    }

    /// Whether something of it is still where it was.
    pub fn some_is_left(&self) -> Result<bool> {
        let Some(many @ Many::Tree(_)) = &self.job.many else { return Ok(false) };
        Ok(self.base_of(many)?.is_some())
    }

    /// What it lies in, and the folder that its files are in; nothing: it is gone.
    fn base_of(&self, many: &Many) -> Result<Option<(Dir, Dir)>> {
        let (folder, inside) = self.lies_in()?;
        let fail = |e| Error::path("cannot open the folder of", &folder.path().join(&inside))(e);
        let both = folder.inside(inside.parent().unwrap_or(Path::new(""))).and_then(|holder| {
            let base = many.base(&holder, inside.file_name().unwrap_or_default())?;
            Ok((holder, base))
        });
        match both {
            Err(e) if gone(&e) => Ok(None),
            both => both.map(Some).map_err(fail),
        }
    }

    /// Files that went on with an output that is the original, and are there as they went; nothing where there is none.
    fn what_went(&self, base: &Dir) -> Result<Option<Vec<TreeFile>>> {
        let outputs = self.porter.store.read(|v| v.outputs(self.job.id))?;
        let went = outputs.iter().find_map(|o| match &o.end {
            OutputEnd::Made { files, .. } if o.is_original() => Some(files),
            _ => None,
        });
        let Some(went) = went else { return Ok(None) };
        let each = went.iter().filter(|f| !f.ours).map(|f| self.as_it_went(base, f));
        Ok(Some(each.filter_map(Result::transpose).collect::<Result<_>>()?))
    }

    fn as_it_went(&self, base: &Dir, f: &MadeFile) -> Result<Option<TreeFile>> {
        let at = base.path().join(&f.inside);
        let fail = |e| Error::path("cannot look at", &at)(e);
        let path = PathBuf::from(&f.inside);
        let (dir, name) = match base.holder(&path, false) {
            Err(e) if gone(&e) => return Ok(None),
            found => found.map_err(fail)?,
        };
        let before = dir.look(name).map_err(fail)?.filter(|e| e.is_file() && e.seen.size == f.bytes);
        let Some(before) = before else { return Ok(None) };
        let digest = digest_of(&mut dir.read(name).map_err(fail)?, &at, false, self.worker as &Worker)?;
        let now = dir.look(name).map_err(fail)?;
        let same = digest == f.digest && now.is_some_and(|e| e.seen == before.seen);
        Ok(same.then_some(TreeFile { path, seen: before.seen }))
    }

    /// A move from before a restart.
    fn begun(&self, folder: &Dir) -> Result<Option<Begun>> {
        let Some(to) = &self.job.original_to else { return Ok(None) };
        let Some(inside) = to.strip_prefix(folder.path()).ok() else { return Ok(None) };
        let Ok(dir) = folder.inside(inside) else { return Ok(None) };
        let events = self.porter.store.read(|v| v.events(self.job.id))?;
        let files = events.into_iter().rev().find_map(|e| match e.change {
            Change::MovingOriginal { files, .. } => Some(files),
            _ => None,
        });
        Ok(Some(Begun { to: dir, at: to.clone(), files: files.unwrap_or_default() }))
    }

    /// Makes the first free folder of that name. Where it goes, and which files, is recorded before.
    fn begin(
        &self,
        folder: &Dir,
        wanted: &Path,
        many: &Many,
        free: impl Fn(&Dir, &OsStr) -> std::io::Result<bool>,
        files: Vec<TreeFile>,
    ) -> Result<Begun> {
        let above = wanted.parent().unwrap_or(Path::new(""));
        let title = match many.run() {
            Some(frames) if wanted == self.job.path => OsStr::new(frames.title()),
            _ => wanted.file_name().unwrap_or_default(),
        };
        let fail = |e| Error::path("cannot make a folder in", &folder.path().join(above))(e);
        let wanted = fitting(folder, &above.join(title)).map_err(fail)?;
        let (above, title) = (wanted.parent().unwrap_or(above), wanted.file_name().unwrap_or(title));
        if let Some((path, why)) = first_refused(folder, files.iter().map(|f| f.path.as_path())) {
            let at = folder.path().join(path);
            return Err(Error::NotConfigured(format!("cannot move to {}: {why}", media::show::path(&at))));
        }
        let parent = folder.make(above).map_err(fail)?;
        for n in 1.. {
            let name = numbered_file(title, n);
            if parent.look(&name).map_err(fail)?.is_some() || !free(&parent, &name).map_err(fail)? {
                continue;
            }
            let at = parent.path().join(&name);
            let (job, to, stage, files) = (self.job.id, at.clone(), String::new(), files.clone());
            self.commit(Change::MovingOriginal { job, to, stage, files: files.clone() })?;
            crate::stops::here("about to move the original");
            match parent.create_folder(&name) {
                Ok(to) => return Ok(Begun { to, at, files }),
                Err(e) if e.kind() == ErrorKind::AlreadyExists => continue,
                Err(e) => return Err(fail(e)),
            }
        }
        unreachable!("numbers do not end")
    }

    fn move_files(&self, many: &Many, Begun { to, at, files }: Begun) -> Result<Original> {
        let (unit, of) = (Unit::Bytes, Some(self.job.seen.size));
        self.worker.tell(Progress { stage: Stage::Moving, output: None, done: 0, of, unit });
        // Where it is gone, all of it was moved before a restart.
        let Some((holder, base)) = self.base_of(many)? else { return Ok(Original::At(at)) };
        let fail = |e| Error::path("cannot look at", base.path())(e);
        let stage = OsString::from(format!(".{}-frame.deft-porter.part", self.porter.tag(self.job.id)));
        for path in many.folders(&base).map_err(fail)? {
            to.make(&path).map_err(fail)?;
        }
        let files: Vec<(PathBuf, Option<_>)> = match files.is_empty() {
            // A run; or a move that an earlier version began.
            true => many.files(&base).map_err(fail)?.into_iter().map(|path| (path, None)).collect(),
            false => files.into_iter().map(|f| (f.path, Some(f.seen))).collect(),
        };
        for (path, seen) in files {
            if self.worker.stopping() {
                return Err(Error::Stopped);
            }
            let (from, name) = match base.holder(&path, false) {
                Ok(found) => found,
                Err(e) if gone(&e) => continue,
                Err(e) => return Err(fail(e)),
            };
            let (into, _) = to.holder(&path, true).map_err(fail)?;
            let (here, there) = (At { dir: &from, name }, At { dir: &into, name });
            let Some(e) = from.look(name).map_err(fail)? else { continue };
            if into.look(name).map_err(fail)?.is_some() {
                // Of a move that a kill broke off in the middle of this file; otherwise both stay.
                finish(here, there, &e.seen, self.worker as &Worker)?;
            } else if e.is_file() && seen.is_none_or(|seen| seen == e.seen) {
                move_if_free(here, there, &stage, &e.seen, self.worker as &Worker)?;
                crate::stops::here("frame moved");
            }
        }
        if let Many::Tree(_) = many {
            let (_, inside) = self.lies_in()?;
            remove_folders(&holder, inside.file_name().unwrap_or_default(), many).map_err(fail)?;
        }
        to.sync();
        Ok(Original::At(at))
    }
}
