//! A folder: a disk, or a share that the system has mounted.

use super::{About, Cargo, Place, Proof, Published, Ticket, Trouble, Whose};
use crate::error::Error;
use crate::files::copy::{copy, copy_unsynced, digest_of};
use crate::files::fitting::first_refused;
use crate::files::known::plain;
use crate::files::{Dir, Watching};
use crate::store::MadeFile;
use media::show;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, ErrorKind, Seek};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};

/// The end of the names of what is not whole yet. The dot in front of them hides it; the end is one that watches of
/// every house pass over.
const STAGE_ENDING: &str = ".deft-porter.part";

/// From so many files on they are synced together.
const MANY: usize = 64;
/// So many of them at a time: a disk answers several at once.
const AT_ONCE: usize = 8;

/// The folder of the file before.
type Last = Option<(PathBuf, Dir)>;

/// Does something with every file, several at a time; the first trouble ends it.
fn each(
    files: &[MadeFile],
    work: impl Fn(&MadeFile, &mut Last) -> Result<(), Trouble> + Sync,
) -> Result<(), Trouble> {
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        let all: Vec<_> = (0..AT_ONCE.min(files.len()))
            .map(|_| {
                scope.spawn(|| {
                    let mut last = None;
                    while let Some(f) = files.get(next.fetch_add(1, Ordering::Relaxed)) {
                        if let Err(t) = work(f, &mut last) {
                            next.store(files.len(), Ordering::Relaxed);
                            return Err(t);
                        }
                    }
                    Ok(())
                })
            })
            .collect();
        let broke = || Err(Trouble::Away("a thread that carried broke".into()));
        all.into_iter().map(|t| t.join().unwrap_or_else(|_| broke())).fold(Ok(()), Result::and)
    })
}

/// A folder that was opened and recognised; all work goes through that handle.
pub struct FolderPlace {
    dir: Dir,
    /// What was written is read from the disk before it counts.
    reads_back: bool,
}

impl FolderPlace {
    pub fn new(dir: Dir) -> Self {
        FolderPlace { dir, reads_back: true }
    }

    /// One whose owner trusts its disk.
    pub fn trusted(dir: Dir) -> Self {
        FolderPlace { dir, reads_back: false }
    }

    fn proof(&self) -> Proof {
        if self.reads_back { Proof::ReadBack } else { Proof::Written }
    }

    fn trouble(&self, what: &str, inside: impl AsRef<Path>) -> impl FnOnce(io::Error) -> Trouble {
        let at = show::path(self.dir.path().join(inside));
        let what = what.to_owned();
        move |e| {
            let why = format!("{what} {at}: {}", plain(&e));
            match e.kind() {
                ErrorKind::StorageFull | ErrorKind::QuotaExceeded => Trouble::Full(why),
                // Smaller ones fit: FAT takes files of up to 4 GB.
                ErrorKind::FileTooLarge => {
                    Trouble::Refused(format!("{why}: the file system there does not take files of this size"))
                }
                ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem | ErrorKind::NotADirectory => {
                    Trouble::Refused(why)
                }
                _ => Trouble::Away(why),
            }
        }
    }

    /// The folder that holds a name, and the last part of it.
    fn holder<'n>(&self, name: &'n str, make: bool) -> Result<(Dir, &'n OsStr), Trouble> {
        self.dir.holder(Path::new(name), make).map_err(self.trouble("cannot open the folder of", name))
    }

    fn staged(ticket: &Ticket) -> Result<OsString, Trouble> {
        match ticket {
            Ticket::Staged(name) => Ok(name.into()),
            Ticket::Upload { .. } | Ticket::Unknown => {
                Err(Trouble::Changed("what was begun there was begun by a newer program".into()))
            }
        }
    }

    /// One file of the cargo into a folder: copied, synced, read back.
    fn put(
        &self,
        from: &Path,
        wanted: &str,
        dir: &Dir,
        name: &OsStr,
        watching: &dyn Watching,
    ) -> Result<(), Trouble> {
        let mut target = self.write(from, wanted, dir, name, (true, watching))?;
        if !self.reads_back {
            return Ok(());
        }
        crate::stops::here("staged, not read back");
        let to = dir.path().join(name);
        target.rewind().map_err(self.trouble("cannot read", &to))?;
        self.read_back(&mut target, &to, wanted, watching)
    }

    fn there(&self, to: &Path, e: Error) -> Trouble {
        match e {
            Error::Path { doing, path, source } if path == to => self.trouble(doing, &path)(source),
            Error::Stopped => Trouble::Stopped,
            e => Trouble::Changed(e.to_string()),
        }
    }

    fn write(
        &self,
        from: &Path,
        wanted: &str,
        dir: &Dir,
        name: &OsStr,
        (synced, w): (bool, &dyn Watching),
    ) -> Result<File, Trouble> {
        let changed =
            |e: io::Error| Trouble::Changed(format!("cannot read {}: {}", show::path(from), plain(&e)));
        let to = dir.path().join(name);
        let mut source = File::open(from).map_err(changed)?;
        let mut target = dir.create(name).map_err(self.trouble("cannot write", &to))?;
        let copied = match synced {
            true => copy(&mut source, from, &mut target, &to, w),
            false => copy_unsynced(&mut source, from, &mut target, &to, w),
        };
        let read = copied.map_err(|e| self.there(&to, e))?;
        if read != wanted {
            let why =
                format!("{} is not what was made (checksum {read}, expected {wanted})", show::path(from));
            return Err(Trouble::Changed(why));
        }
        Ok(target)
    }

    fn read_back(&self, file: &mut File, to: &Path, wanted: &str, w: &dyn Watching) -> Result<(), Trouble> {
        let found = digest_of(file, to, true, w).map_err(|e| self.there(to, e))?;
        if found != wanted {
            let at = show::path(to);
            return Err(Trouble::Away(format!(
                "{at} reads back wrong (checksum {found}, expected {wanted})"
            )));
        }
        Ok(())
    }

    /// Many files go to the disk together, several at a time: each is written, all are synced, and each is read back then.
    fn stage_many(&self, cargo: &Cargo, dir: &Dir, stage: &OsStr, w: &dyn Watching) -> Result<(), Trouble> {
        let folder = dir.create_folder(stage).map_err(self.trouble("cannot make the folder", stage))?;
        each(&cargo.files, |f, at| {
            let (holder, name) = self.holder_in(&folder, Path::new(&f.inside), at)?;
            self.write(&cargo.at(f), &f.digest, &holder, &name, (false, w)).map(|_| ())
        })?;
        rustix::fs::syncfs(folder.fd()).map_err(|e| self.trouble("cannot write", stage)(e.into()))?;
        if !self.reads_back {
            return Ok(());
        }
        crate::stops::here("staged, not read back");
        each(&cargo.files, |f, at| {
            let (holder, name) = self.holder_in(&folder, Path::new(&f.inside), at)?;
            let to = holder.path().join(&name);
            let mut file = holder.read(&name).map_err(self.trouble("cannot read", &to))?;
            self.read_back(&mut file, &to, &f.digest, w)
        })
    }

    /// The folder that a file goes into; those of one folder come one after another.
    fn holder_in(&self, folder: &Dir, inside: &Path, last: &mut Last) -> Result<(Dir, OsString), Trouble> {
        let fail = |e| self.trouble("cannot make the folder of", inside)(e);
        let name = inside.file_name().unwrap_or_default().to_owned();
        let parent = inside.parent().unwrap_or(Path::new(""));
        if let Some((at, holder)) = last
            && at == parent
        {
            return Ok((holder.again().map_err(fail)?, name));
        }
        let holder = folder.holder(inside, true).map_err(fail)?.0;
        *last = Some((parent.to_owned(), holder.again().map_err(fail)?));
        Ok((holder, name))
    }

    fn stage_in(&self, cargo: &Cargo, dir: &Dir, stage: &OsStr, w: &dyn Watching) -> Result<(), Trouble> {
        if !cargo.is_folder() {
            let wanted = cargo.files.first().map_or("", |f| f.digest.as_str());
            return self.put(&cargo.path, wanted, dir, stage, w);
        }
        // What is inside keeps its names.
        if let Some((inside, why)) = first_refused(dir, cargo.files.iter().map(|f| Path::new(&f.inside))) {
            return Err(Trouble::Refused(format!("cannot write {}: {why}", show::path(inside))));
        }
        if cargo.files.len() > MANY {
            return self.stage_many(cargo, dir, stage, w);
        }
        let folder = dir.create_folder(stage).map_err(self.trouble("cannot make the folder", stage))?;
        for f in &cargo.files {
            let inside = Path::new(&f.inside);
            let (holder, name) =
                folder.holder(inside, true).map_err(self.trouble("cannot make the folder of", inside))?;
            self.put(&cargo.at(f), &f.digest, &holder, name, w)?;
            holder.sync();
        }
        folder.sync();
        Ok(())
    }

    /// Whether what stands under a name has the content of the cargo.
    fn holds(&self, dir: &Dir, name: &OsStr, cargo: &Cargo) -> io::Result<bool> {
        // Of what is not made any more nothing can be told.
        if cargo.files.is_empty() {
            return Ok(false);
        }
        for f in &cargo.files {
            let inside = Path::new(name).join(&f.inside);
            let (holder, last) = dir.holder(&inside, false)?;
            if !holder.look(last)?.is_some_and(|e| e.is_file() && e.seen.size == f.bytes) {
                return Ok(false);
            }
            let path = holder.path().join(last);
            let digest = digest_of(&mut holder.read(last)?, &path, true, &crate::files::Quiet);
            if digest.map_err(|e| io::Error::other(e.to_string()))? != f.digest {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

impl Place for FolderPlace {
    fn about(&self) -> About {
        About { refuses_taken: true, proof: self.proof(), staged_by_name: false }
    }

    fn look(&self) -> Result<(), Trouble> {
        let probe = OsString::from(format!(".try-{}{STAGE_ENDING}", crate::clock::nonce()));
        self.dir.create(&probe).map_err(self.trouble("cannot write in", ""))?;
        self.dir.remove(&probe).map_err(self.trouble("cannot remove a file in", ""))?;
        Ok(())
    }

    fn has(&self, name: &str) -> Result<bool, Trouble> {
        Ok(self.dir.look_at(Path::new(name)).map_err(self.trouble("cannot look at", name))?.is_some())
    }

    fn names_in(&self, folder: &str) -> Result<Option<Vec<String>>, Trouble> {
        let dir = match self.dir.inside(Path::new(folder)) {
            Ok(dir) => dir,
            Err(e) if e.kind() == ErrorKind::NotFound => return Ok(Some(Vec::new())),
            Err(e) => return Err(self.trouble("cannot look through", folder)(e)),
        };
        let names = dir.names().map_err(self.trouble("cannot look through", folder))?;
        Ok(Some(names.iter().map(|n| n.to_string_lossy().into_owned()).collect()))
    }

    fn begin(&self, tag: &str) -> Result<Ticket, Trouble> {
        Ok(Ticket::Staged(format!(".{tag}{STAGE_ENDING}")))
    }

    fn stage(&self, cargo: &Cargo, name: &str, ticket: &Ticket, w: &dyn Watching) -> Result<Proof, Trouble> {
        let stage = Self::staged(ticket)?;
        let (dir, _) = self.holder(name, true)?;
        dir.remove_all(&stage).map_err(self.trouble("cannot remove", &stage))?;
        let result = self.stage_in(cargo, &dir, &stage, w);
        if result.is_err() {
            let _ = dir.remove_all(&stage);
        }
        result.map(|()| self.proof())
    }

    fn publish(&self, ticket: &Ticket, name: &str) -> Result<Published, Trouble> {
        let stage = Self::staged(ticket)?;
        let (dir, last) = self.holder(name, false)?;
        let done = dir.rename_if_free(&stage, &dir, last).map_err(self.trouble("cannot rename to", name))?;
        Ok(if done { Published::Done } else { Published::Taken })
    }

    fn set_aside(&self, name: &str, aside: &str) -> Result<Published, Trouble> {
        let (dir, last) = self.holder(name, false)?;
        let (to, new) = self.holder(aside, false)?;
        let done = dir.rename_if_free(last, &to, new).map_err(self.trouble("cannot rename", name))?;
        Ok(if done { Published::Done } else { Published::Taken })
    }

    fn whose(&self, name: &str, ticket: &Ticket, cargo: &Cargo) -> Result<Whose, Trouble> {
        let stage = Self::staged(ticket)?;
        let fail = || self.trouble("cannot look at", name);
        let there = self.dir.look_at(Path::new(name)).map_err(fail())?;
        let Some(there) = there else { return Ok(Whose::Nothing) };
        let (dir, last) = self.holder(name, false)?;
        Ok(match dir.look(&stage).map_err(fail())? {
            // Linked under its name, and killed before the other was taken away.
            Some(staged) if staged.is_same_file(&there) => {
                dir.remove(&stage).map_err(self.trouble("cannot remove", &stage))?;
                dir.sync();
                Whose::Ours
            }
            Some(_) => Whose::Other,
            None if self.holds(&dir, last, cargo).map_err(fail())? => Whose::Ours,
            None => Whose::Other,
        })
    }

    fn discard(&self, name: &str, ticket: &Ticket) -> Result<(), Trouble> {
        let stage = Self::staged(ticket)?;
        match self.dir.holder(Path::new(name), false) {
            Ok((dir, _)) => dir.remove_all(&stage).map(|_| ()).map_err(self.trouble("cannot remove", &stage)),
            Err(e) if e.kind() == ErrorKind::NotFound => Ok(()),
            Err(e) => Err(self.trouble("cannot open the folder of", name)(e)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::contract;
    use super::*;

    fn place() -> (tempfile::TempDir, FolderPlace) {
        let dir = tempfile::tempdir().unwrap();
        let place = FolderPlace::new(Dir::open(dir.path()).unwrap());
        (dir, place)
    }

    #[test]
    fn a_folder_keeps_the_contract() {
        contract::all(&|| {
            let (dir, place) = place();
            (Box::new(dir), Box::new(place))
        });
    }

    /// A file that is too large for a file system says nothing of the others that go there.
    #[test]
    fn what_a_folder_says_is_told_apart() {
        let (_dir, place) = place();
        let told = |kind: ErrorKind| place.trouble("cannot write", "a.mov")(kind.into());
        assert!(matches!(told(ErrorKind::StorageFull), Trouble::Full(_)));
        assert!(
            matches!(told(ErrorKind::FileTooLarge), Trouble::Refused(why) if why.contains("of this size"))
        );
        assert!(matches!(told(ErrorKind::PermissionDenied), Trouble::Refused(_)));
        assert!(matches!(told(ErrorKind::NotConnected), Trouble::Away(_)));
    }

    #[test]
    fn a_trusted_folder_keeps_the_contract_as_well_and_says_what_it_did() {
        contract::all(&|| {
            let dir = tempfile::tempdir().unwrap();
            let place = FolderPlace::trusted(Dir::open(dir.path()).unwrap());
            (Box::new(dir), Box::new(place))
        });
        let (dir, _) = place();
        let place = FolderPlace::trusted(Dir::open(dir.path()).unwrap());
        let work = tempfile::tempdir().unwrap();
        let cargo = contract::one_file(work.path(), b"proxy");
        let ticket = place.begin("t").unwrap();
        assert_eq!(place.stage(&cargo, "a.mp4", &ticket, &crate::files::Quiet).unwrap(), Proof::Written);
        // What it writes is compared with what was made all the same.
        std::fs::write(&cargo.path, b"other").unwrap();
        let changed = place.stage(&cargo, "a.mp4", &ticket, &crate::files::Quiet);
        assert!(matches!(changed, Err(Trouble::Changed(_))), "{changed:?}");
    }

    #[test]
    fn a_stage_under_another_name_as_well_was_published() {
        let (dir, place) = place();
        let work = tempfile::tempdir().unwrap();
        let cargo = contract::one_file(work.path(), b"proxy");
        let ticket = place.begin("t").unwrap();
        place.stage(&cargo, "a.mp4", &ticket, &crate::files::Quiet).unwrap();
        let Ticket::Staged(stage) = &ticket else { unreachable!() };
        // As a kill between link and unlink leaves it.
        std::fs::hard_link(dir.path().join(stage), dir.path().join("a.mp4")).unwrap();
        assert_eq!(place.whose("a.mp4", &ticket, &cargo).unwrap(), Whose::Ours);
        assert_eq!(std::fs::read(dir.path().join("a.mp4")).unwrap(), b"proxy");
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 1);
    }

    #[test]
    fn a_link_under_the_stage_name_or_in_the_way_is_not_followed() {
        let (dir, place) = place();
        let outside = tempfile::tempdir().unwrap();
        let victim = outside.path().join("victim");
        std::fs::write(&victim, b"precious").unwrap();
        let work = tempfile::tempdir().unwrap();
        let cargo = contract::one_file(work.path(), b"proxy");
        let ticket = place.begin("t").unwrap();
        let Ticket::Staged(stage) = &ticket else { unreachable!() };
        std::os::unix::fs::symlink(&victim, dir.path().join(stage)).unwrap();
        std::os::unix::fs::symlink(outside.path(), dir.path().join("day 1")).unwrap();
        place.stage(&cargo, "a.mp4", &ticket, &crate::files::Quiet).unwrap();
        assert_eq!(place.publish(&ticket, "a.mp4").unwrap(), Published::Done);
        assert!(place.stage(&cargo, "day 1/a.mp4", &ticket, &crate::files::Quiet).is_err());
        assert_eq!(std::fs::read(&victim).unwrap(), b"precious");
        assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 1);
    }
}
