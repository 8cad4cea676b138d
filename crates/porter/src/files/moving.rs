//! Moving a file to another folder, which may be on another disk, so that at every moment at least one whole copy
//! of it has a name, at the end exactly one, and none of its bytes is lost, whoever writes to it meanwhile.

use super::copy::{Watching, copy, digest_of};
use super::dir::{Dir, Seen, entry_of, is_other_disk};
use crate::error::{Error, Result};
use std::ffi::OsStr;
use std::io::Seek;
use std::path::PathBuf;

/// A file by its folder and its name there.
#[derive(Clone, Copy)]
pub struct At<'a> {
    pub dir: &'a Dir,
    pub name: &'a OsStr,
}

impl At<'_> {
    pub fn path(&self) -> PathBuf {
        self.dir.path().join(self.name)
    }

    fn fail(&self, doing: &'static str) -> impl FnOnce(std::io::Error) -> Error + use<> {
        Error::path(doing, &self.path())
    }
}

/// How a move ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Moved {
    Done,
    /// Something else has the name.
    Taken,
    /// The file is not what it was thought to be, or became something else on the way: it stays, and nothing is
    /// left at the target.
    Changed,
}

/// Moves `from`, which is thought to be `seen`. `stage` is a name at the target that is nobody else's.
pub fn move_if_free(from: At<'_>, to: At<'_>, stage: &OsStr, seen: &Seen, w: &dyn Watching) -> Result<Moved> {
    if from.dir.look(from.name).map_err(from.fail("cannot look at"))?.map(|e| e.seen) != Some(*seen) {
        return Ok(Moved::Changed);
    }
    match from.dir.rename_if_free(from.name, to.dir, to.name) {
        Ok(true) => Ok(Moved::Done),
        Ok(false) => Ok(Moved::Taken),
        Err(e) if is_other_disk(&e) => carry_over(from, to, stage, seen, w),
        Err(e) => Err(to.fail("cannot rename to")(e)),
    }
}

fn carry_over(from: At<'_>, to: At<'_>, stage: &OsStr, seen: &Seen, w: &dyn Watching) -> Result<Moved> {
    let staged = At { dir: to.dir, name: stage };
    // Left by an earlier try of this very move.
    to.dir.remove(stage).map_err(staged.fail("cannot remove"))?;
    let result = copy_over(from, to, staged, seen, w);
    if !matches!(result, Ok(Moved::Done)) {
        let _ = to.dir.remove(stage);
    }
    result
}

fn copy_over(from: At<'_>, to: At<'_>, staged: At<'_>, seen: &Seen, w: &dyn Watching) -> Result<Moved> {
    let (from_path, stage_path) = (from.path(), staged.path());
    let mut source = from.dir.read(from.name).map_err(from.fail("cannot read"))?;
    let mut target = staged.dir.create(staged.name).map_err(staged.fail("cannot write"))?;
    let wanted = copy(&mut source, &from_path, &mut target, &stage_path, w)?;
    target.rewind().map_err(staged.fail("cannot read"))?;
    let found = digest_of(&mut target, &stage_path, true, w)?;
    if found != wanted {
        return Err(Error::Differs { path: stage_path, found, wanted });
    }
    keep_times(&source, &target);
    crate::stops::here("original copied");
    // Through the handle: whoever still writes to it writes to this file, whatever its name is.
    if entry_of(&source).map_err(from.fail("cannot look at"))?.seen != *seen {
        return Ok(Moved::Changed);
    }
    if !staged.dir.rename_if_free(staged.name, to.dir, to.name).map_err(to.fail("cannot rename to"))? {
        return Ok(Moved::Taken);
    }
    crate::stops::here("original copy published");
    // Once more, as late as can be, and only if the name still means this file.
    let now = from.dir.look(from.name).map_err(from.fail("cannot look at"))?;
    let still = entry_of(&source).map_err(from.fail("cannot look at"))?;
    if still.seen != *seen || now.map(|e| e.seen) != Some(*seen) {
        let _ = to.dir.remove(to.name);
        to.dir.sync();
        return Ok(Moved::Changed);
    }
    from.dir.remove(from.name).map_err(from.fail("cannot remove"))?;
    from.dir.sync();
    Ok(Moved::Done)
}

/// The times of the original are the original's, wherever it lies.
fn keep_times(source: &std::fs::File, target: &std::fs::File) {
    if let Ok(modified) = source.metadata().and_then(|m| m.modified()) {
        let _ = target.set_modified(modified);
    }
}

/// After a kill in the middle of a move: `from` is still there and something has the target's name. If that is the
/// same file (linked) or has the same content (copied), the move is ended by removing `from`.
pub fn finish(from: At<'_>, to: At<'_>, seen: &Seen, w: &dyn Watching) -> Result<bool> {
    let (Some(a), Some(b)) = (
        from.dir.look(from.name).map_err(from.fail("cannot look at"))?,
        to.dir.look(to.name).map_err(to.fail("cannot look at"))?,
    ) else {
        return Ok(false);
    };
    let is_ours = a.is_same_file(&b)
        || (a.seen == *seen && b.is_file() && b.seen.size == a.seen.size && {
            let mut source = from.dir.read(from.name).map_err(from.fail("cannot read"))?;
            let mut target = to.dir.read(to.name).map_err(to.fail("cannot read"))?;
            let same = digest_of(&mut source, &from.path(), false, w)?
                == digest_of(&mut target, &to.path(), true, w)?;
            same && entry_of(&source).map_err(from.fail("cannot look at"))?.seen == *seen
        });
    if is_ours {
        from.dir.remove(from.name).map_err(from.fail("cannot remove"))?;
        from.dir.sync();
    }
    Ok(is_ours)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::Quiet;
    use std::fs::File;
    use std::io::Write;
    use std::path::Path;
    use std::sync::Mutex;

    /// A folder on another file system than the temporary one, where there is one.
    fn elsewhere() -> Option<tempfile::TempDir> {
        let here = tempfile::tempdir().unwrap();
        let there = tempfile::tempdir_in("/dev/shm").ok()?;
        use std::os::unix::fs::MetadataExt;
        (there.path().metadata().unwrap().dev() != here.path().metadata().unwrap().dev()).then_some(there)
    }

    fn name(s: &str) -> &OsStr {
        OsStr::new(s)
    }

    fn seen(path: &Path) -> Seen {
        entry_of(File::open(path).unwrap()).unwrap().seen
    }

    /// Does something to the source once this many bytes have passed.
    struct Meddler<'a>(Mutex<Option<Box<dyn FnOnce() + Send + 'a>>>);
    impl Watching for Meddler<'_> {
        fn stopping(&self) -> bool {
            false
        }
        fn passed(&self, _: u64) {
            if let Some(f) = self.0.lock().unwrap().take() {
                f();
            }
        }
    }

    #[test]
    fn a_file_is_moved_whole_and_never_over_another() {
        let Some(there) = elsewhere() else { return crate::tests::skipped("no second file system") };
        let here = tempfile::tempdir().unwrap();
        std::fs::write(here.path().join("a"), b"original").unwrap();
        std::fs::write(there.path().join("taken"), b"other").unwrap();
        let (from, to) = (Dir::open(here.path()).unwrap(), Dir::open(there.path()).unwrap());
        let s = seen(&here.path().join("a"));
        let a = At { dir: &from, name: name("a") };
        let moved = |n| move_if_free(a, At { dir: &to, name: name(n) }, name(".stage"), &s, &Quiet).unwrap();
        assert_eq!(moved("taken"), Moved::Taken);
        assert_eq!(std::fs::read(there.path().join("taken")).unwrap(), b"other");
        assert_eq!(moved("b"), Moved::Done);
        assert_eq!(std::fs::read(there.path().join("b")).unwrap(), b"original");
        assert_eq!(from.names().unwrap().len(), 0);
        assert_eq!(to.names().unwrap().len(), 2, "no stage is left");
    }

    #[rstest::rstest]
    #[case::grows(|p: &Path| File::options().append(true).open(p).unwrap().write_all(b" and more").unwrap(), b"original and more")]
    #[case::rewritten(|p: &Path| std::fs::write(p, b"another1").unwrap(), b"another1")]
    #[case::replaced(|p: &Path| { std::fs::write(p.with_extension("new"), b"replaced").unwrap(); std::fs::rename(p.with_extension("new"), p).unwrap() }, b"replaced")]
    #[case::edited_with_its_time_set_back(|p: &Path| {
        let time = p.metadata().unwrap().modified().unwrap();
        std::fs::write(p, b"ORIGINAL").unwrap();
        File::options().write(true).open(p).unwrap().set_modified(time).unwrap();
    }, b"ORIGINAL")]
    fn a_file_that_changes_on_its_way_stays(#[case] meddle: fn(&Path), #[case] want: &[u8]) {
        let Some(there) = elsewhere() else { return crate::tests::skipped("no second file system") };
        let here = tempfile::tempdir().unwrap();
        let path = here.path().join("a");
        std::fs::write(&path, b"original").unwrap();
        let s = seen(&path);
        // The clock of a file system ticks slowly.
        std::thread::sleep(std::time::Duration::from_millis(20));
        let (from, to) = (Dir::open(here.path()).unwrap(), Dir::open(there.path()).unwrap());
        let w = Meddler(Mutex::new(Some(Box::new(|| meddle(&path)))));
        let moved = move_if_free(
            At { dir: &from, name: name("a") },
            At { dir: &to, name: name("a") },
            name(".stage"),
            &s,
            &w,
        );
        assert_eq!(moved.unwrap(), Moved::Changed);
        assert_eq!(std::fs::read(&path).unwrap(), want);
        assert_eq!(to.names().unwrap().len(), 0, "neither a stage nor an old copy is left");
    }

    #[test]
    fn a_move_that_was_cut_off_is_ended_and_a_foreign_file_is_not_taken_for_ours() {
        let dir = tempfile::tempdir().unwrap();
        let d = Dir::open(dir.path()).unwrap();
        let at = |n| At { dir: &d, name: name(n) };
        for (other, ours) in [(&b"original"[..], true), (b"strangers", false), (b"ORIGINAL", false)] {
            std::fs::write(dir.path().join("a"), b"original").unwrap();
            std::fs::write(dir.path().join("b"), other).unwrap();
            let s = seen(&dir.path().join("a"));
            assert_eq!(finish(at("a"), at("b"), &s, &Quiet).unwrap(), ours);
            assert_eq!(
                (dir.path().join("a").exists(), std::fs::read(dir.path().join("b")).unwrap()),
                (!ours, other.to_vec())
            );
        }
        std::fs::write(dir.path().join("a"), b"x").unwrap();
        let s = seen(&dir.path().join("a"));
        std::fs::remove_file(dir.path().join("b")).unwrap();
        std::fs::hard_link(dir.path().join("a"), dir.path().join("b")).unwrap();
        assert!(finish(at("a"), at("b"), &s, &Quiet).unwrap(), "linked, and the kill came before the unlink");
    }
}
