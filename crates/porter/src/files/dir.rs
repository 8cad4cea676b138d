//! A folder, held open. What is done in it is done in that very folder, whatever its path has come to mean
//! since; and no link inside it is followed, because whoever can write there can plant one.

use super::fitting;
use super::known::{self, Keeps};
use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags, RenameFlags};
use rustix::io::Errno;
use serde::{Deserialize, Serialize};
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};
use std::sync::OnceLock;

/// What a look at one file showed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seen {
    pub size: u64,
    /// Nanoseconds since 1970.
    pub modified: i64,
    /// When anything of it was changed last, its times and its links as well: nobody can set this back.
    pub changed: i64,
    /// Tells a file from another one that took its name; 0 where the file system does not keep numbers ([`known::keeps`]).
    pub inode: u64,
}

/// What stands under a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Entry {
    pub seen: Seen,
    pub device: u64,
    /// Its number for as long as somebody has it open.
    pub node: u64,
    pub kind: FileType,
    pub links: u64,
}

impl Entry {
    pub fn is_file(&self) -> bool {
        self.kind == FileType::RegularFile
    }
    pub fn is_folder(&self) -> bool {
        self.kind == FileType::Directory
    }
    /// The same file, under whichever name.
    pub fn is_same_file(&self, other: &Entry) -> bool {
        (self.device, self.node) == (other.device, other.node)
    }
}

impl Entry {
    #[allow(clippy::unnecessary_cast, clippy::useless_conversion)]
    fn new(s: rustix::fs::Stat, keeps: Keeps) -> Entry {
        let nanos =
            |seconds: i64, rest: u64| seconds.saturating_mul(1_000_000_000).saturating_add(rest as i64);
        let modified = nanos(s.st_mtime as i64, s.st_mtime_nsec as u64);
        let changed = nanos(s.st_ctime as i64, s.st_ctime_nsec as u64);
        Entry {
            seen: Seen {
                size: s.st_size as u64,
                modified,
                changed: if keeps.changes { changed } else { modified },
                inode: if keeps.numbers { s.st_ino as u64 } else { 0 },
            },
            device: s.st_dev as u64,
            node: s.st_ino as u64,
            kind: FileType::from_raw_mode(s.st_mode),
            links: s.st_nlink as u64,
        }
    }
}

/// What an open file is now.
pub fn entry_of(file: impl AsFd) -> io::Result<Entry> {
    Ok(Entry::new(rustix::fs::fstat(&file)?, known::keeps(&file)))
}

#[derive(Debug)]
pub struct Dir {
    fd: OwnedFd,
    /// For messages only.
    path: PathBuf,
    /// Asked for once.
    keeps: OnceLock<Keeps>,
}

const FOLDER: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);
/// A pipe or a device under a name must not make its opening wait.
const READ: OFlags = OFlags::RDONLY.union(OFlags::NOFOLLOW).union(OFlags::NONBLOCK).union(OFlags::CLOEXEC);
const MAKE: OFlags =
    OFlags::RDWR.union(OFlags::CREATE).union(OFlags::EXCL).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

fn wrong_path(path: &Path) -> io::Error {
    let why = format!("\"{}\" does not lie inside its folder", media::show::path(path));
    io::Error::new(io::ErrorKind::InvalidInput, why)
}

impl Dir {
    /// The folder itself may be named through links: its path is the house's own word.
    pub fn open(path: &Path) -> io::Result<Dir> {
        let fd = rustix::fs::openat(CWD, path, FOLDER, Mode::empty())?;
        Ok(Dir::of(fd, path.to_owned()))
    }

    fn of(fd: OwnedFd, path: PathBuf) -> Dir {
        Dir { fd, path, keeps: OnceLock::new() }
    }

    pub fn path(&self) -> &Path {
        &self.path
    }

    pub fn fd(&self) -> &OwnedFd {
        &self.fd
    }

    /// A second handle of the same folder.
    pub fn again(&self) -> io::Result<Dir> {
        Ok(Dir { fd: self.fd.try_clone()?, path: self.path.clone(), keeps: self.keeps.clone() })
    }

    /// A folder inside, without following links.
    pub fn inside(&self, path: &Path) -> io::Result<Dir> {
        self.walk(path, false)
    }

    /// The same; folders that are missing are made.
    pub fn make(&self, path: &Path) -> io::Result<Dir> {
        self.walk(path, true)
    }

    fn walk(&self, path: &Path, make: bool) -> io::Result<Dir> {
        let mut here = self.again()?;
        for part in path.components() {
            let name = match part {
                Component::Normal(name) => name,
                Component::CurDir => continue,
                _ => return Err(wrong_path(path)),
            };
            let open = || rustix::fs::openat(&here.fd, name, FOLDER | OFlags::NOFOLLOW, Mode::empty());
            let fd = match open() {
                Err(Errno::NOENT) if make => {
                    match rustix::fs::mkdirat(&here.fd, name, Mode::from_raw_mode(0o777)) {
                        Ok(()) => here.sync(),
                        // Someone else made it in between.
                        Err(Errno::EXIST) => (),
                        Err(e) => return Err(e.into()),
                    }
                    open()?
                }
                // What the system says of a link here is "not a folder" or "too many links".
                Err(Errno::LOOP) => return Err(Errno::NOTDIR.into()),
                other => other?,
            };
            here = Dir::of(fd, here.path.join(name));
        }
        Ok(here)
    }

    /// Splits a path inside this folder: the folder that holds it (opened or, with `make`, made) and its name there.
    pub fn holder<'p>(&self, path: &'p Path, make: bool) -> io::Result<(Dir, &'p OsStr)> {
        let Some(Component::Normal(name)) = path.components().next_back() else {
            return Err(wrong_path(path));
        };
        Ok((self.walk(path.parent().unwrap_or(Path::new("")), make)?, name))
    }

    /// What stands under a name; `None`: nothing. Links are told as links.
    pub fn look(&self, name: &OsStr) -> io::Result<Option<Entry>> {
        match rustix::fs::statat(&self.fd, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(s) => Ok(Some(Entry::new(s, *self.keeps.get_or_init(|| known::keeps(&self.fd))))),
            Err(Errno::NOENT | Errno::NOTDIR) => Ok(None),
            Err(e) => Err(e.into()),
        }
    }

    /// What stands at a path inside; `None` also where a folder on the way is missing or a link.
    pub fn look_at(&self, path: &Path) -> io::Result<Option<Entry>> {
        match self.holder(path, false) {
            Ok((dir, name)) => dir.look(name),
            Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// Opens a file for reading; what is no plain file is refused.
    pub fn read(&self, name: &OsStr) -> io::Result<File> {
        let file =
            File::from(rustix::fs::openat(&self.fd, name, READ, Mode::empty()).map_err(|e| match e {
                Errno::LOOP => {
                    io::Error::new(io::ErrorKind::InvalidInput, "it is a link, which is not followed")
                }
                e => e.into(),
            })?);
        if entry_of(&file)?.is_file() {
            Ok(file)
        } else {
            Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a plain file"))
        }
    }

    /// Makes a file that was not there.
    pub fn create(&self, name: &OsStr) -> io::Result<File> {
        if fitting::refuses(name) {
            return Err(Errno::NOENT.into());
        }
        Ok(File::from(rustix::fs::openat(&self.fd, name, MAKE, Mode::from_raw_mode(0o666))?))
    }

    /// A file to be written on, made where it is not there; what is no plain file is refused.
    pub fn append(&self, name: &OsStr) -> io::Result<File> {
        let how = OFlags::WRONLY | OFlags::APPEND | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let file = File::from(rustix::fs::openat(&self.fd, name, how, Mode::from_raw_mode(0o666))?);
        if entry_of(&file)?.is_file() {
            Ok(file)
        } else {
            Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a plain file"))
        }
    }

    /// Makes a folder that was not there.
    pub fn create_folder(&self, name: &OsStr) -> io::Result<Dir> {
        if fitting::refuses(name) {
            return Err(Errno::NOENT.into());
        }
        rustix::fs::mkdirat(&self.fd, name, Mode::from_raw_mode(0o777))?;
        self.inside(Path::new(name))
    }

    /// Removes a file or a link; false if nothing was there.
    pub fn remove(&self, name: &OsStr) -> io::Result<bool> {
        match rustix::fs::unlinkat(&self.fd, name, AtFlags::empty()) {
            Ok(()) => Ok(true),
            Err(Errno::NOENT) => Ok(false),
            Err(e) => Err(e.into()),
        }
    }

    /// Takes a folder away if nothing is in it; whether it did.
    pub fn remove_empty(&self, name: &OsStr) -> io::Result<bool> {
        match rustix::fs::unlinkat(&self.fd, name, AtFlags::REMOVEDIR) {
            Ok(()) => Ok(true),
            Err(rustix::io::Errno::NOTEMPTY | rustix::io::Errno::EXIST | rustix::io::Errno::NOENT) => {
                Ok(false)
            }
            Err(e) => Err(e.into()),
        }
    }

    /// Removes a file, or a folder with what is in it; false if nothing was there.
    pub fn remove_all(&self, name: &OsStr) -> io::Result<bool> {
        match self.look(name)? {
            None => Ok(false),
            Some(e) if e.is_folder() => {
                let inner = self.inside(Path::new(name))?;
                for name in inner.names()? {
                    inner.remove_all(&name)?;
                }
                match rustix::fs::unlinkat(&self.fd, name, AtFlags::REMOVEDIR) {
                    Ok(()) | Err(Errno::NOENT) => Ok(true),
                    Err(e) => Err(e.into()),
                }
            }
            Some(_) => self.remove(name),
        }
    }

    /// Names of everything in it.
    pub fn names(&self) -> io::Result<Vec<OsString>> {
        let mut names = Vec::new();
        for entry in rustix::fs::Dir::read_from(&self.fd)? {
            let entry = entry?;
            let name = OsStr::from_bytes(entry.file_name().to_bytes());
            if name != "." && name != ".." {
                names.push(name.to_owned());
            }
        }
        Ok(names)
    }

    /// Makes what happened to names in it last over a power cut, where the file system allows to ask for it.
    pub fn sync(&self) {
        let _ = rustix::fs::fsync(&self.fd);
    }

    /// Gives a file or folder another name, in this folder or another, unless something has that name: false then.
    /// Links are renamed, not followed. Another disk is [`Errno::XDEV`].
    pub fn rename_if_free(&self, name: &OsStr, to: &Dir, new: &OsStr) -> io::Result<bool> {
        if fitting::refuses(new) {
            return Err(Errno::NOENT.into());
        }
        let done = if refuses_new_renames() {
            self.rename_by_link(name, to, new)?
        } else {
            match rustix::fs::renameat_with(&self.fd, name, &to.fd, new, RenameFlags::NOREPLACE) {
                Ok(()) => true,
                Err(Errno::EXIST | Errno::NOTEMPTY) => false,
                Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => self.rename_by_link(name, to, new)?,
                Err(e) => return Err(e.into()),
            }
        };
        if done {
            to.sync();
            self.sync();
        }
        Ok(done)
    }

    /// Gives a file of ours the name of another of ours, in this folder.
    pub fn rename_over(&self, name: &OsStr, new: &OsStr) -> io::Result<()> {
        Ok(rustix::fs::renameat(&self.fd, name, &self.fd, new)?)
    }

    /// For file systems that cannot rename without replacing. A kill in the middle leaves one file under both names:
    /// see [`Entry::is_same_file`].
    fn rename_by_link(&self, name: &OsStr, to: &Dir, new: &OsStr) -> io::Result<bool> {
        let is_folder = self.look(name)?.is_some_and(|e| e.is_folder());
        if is_folder {
            // A folder replaces an empty folder, and only that.
            return match rustix::fs::mkdirat(&to.fd, new, Mode::from_raw_mode(0o777)) {
                Ok(()) => {
                    rustix::fs::renameat(&self.fd, name, &to.fd, new)?;
                    Ok(true)
                }
                Err(Errno::EXIST) => Ok(false),
                Err(e) => Err(e.into()),
            };
        }
        match rustix::fs::linkat(&self.fd, name, &to.fd, new, AtFlags::empty()) {
            Ok(()) => {
                crate::stops::here("linked");
                self.remove(name)?;
                Ok(true)
            }
            Err(Errno::EXIST) => Ok(false),
            Err(Errno::XDEV) => Err(Errno::XDEV.into()),
            // Neither way: look, then rename.
            Err(_) if to.look(new)?.is_some() => Ok(false),
            Err(_) => {
                rustix::fs::renameat(&self.fd, name, &to.fd, new)?;
                Ok(true)
            }
        }
    }
}

/// [`Dir::rename_if_free`] by paths.
pub fn rename_if_free(from: &Path, to: &Path) -> io::Result<bool> {
    let split = |path: &Path| {
        let name = path.file_name().ok_or_else(|| wrong_path(path))?.to_owned();
        let holder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        Dir::open(holder).map(|dir| (dir, name))
    };
    let ((from, old), (to, new)) = (split(from)?, split(to)?);
    from.rename_if_free(&old, &to, &new)
}

/// In tests: as on a file system without the newer renames.
fn refuses_new_renames() -> bool {
    cfg!(feature = "stops") && std::env::var_os("DEFT_PORTER_TEST_OLD_RENAMES").is_some()
}

/// True if an error says that two folders are on different disks.
pub fn is_other_disk(e: &io::Error) -> bool {
    e.raw_os_error() == Some(Errno::XDEV.raw_os_error())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    fn name(s: &str) -> &OsStr {
        OsStr::new(s)
    }

    #[test]
    fn no_link_inside_is_followed() {
        let dir = tempfile::tempdir().unwrap();
        let outside = dir.path().join("outside");
        std::fs::create_dir(&outside).unwrap();
        std::fs::write(outside.join("secret"), b"kept").unwrap();
        let place = dir.path().join("place");
        std::fs::create_dir(&place).unwrap();
        symlink(&outside, place.join("day 1")).unwrap();
        symlink(outside.join("secret"), place.join("clip.mp4")).unwrap();
        symlink(outside.join("new"), place.join("dangling")).unwrap();
        let d = Dir::open(&place).unwrap();
        assert_eq!(d.inside(Path::new("day 1")).unwrap_err().kind(), io::ErrorKind::NotADirectory);
        assert!(d.make(Path::new("day 1/more")).is_err());
        assert!(d.read(name("clip.mp4")).is_err());
        assert_eq!(d.create(name("dangling")).unwrap_err().kind(), io::ErrorKind::AlreadyExists);
        assert!(!outside.join("new").exists());
        assert!(d.look_at(Path::new("day 1/secret")).unwrap().is_none());
        // Removing takes the link, and renaming onto it is refused.
        std::fs::write(place.join("a"), b"1").unwrap();
        assert!(!d.rename_if_free(name("a"), &d, name("dangling")).unwrap());
        assert!(d.remove_all(name("day 1")).unwrap());
        assert_eq!(std::fs::read(outside.join("secret")).unwrap(), b"kept");
        // The folder itself may be named through a link.
        symlink(&place, dir.path().join("named")).unwrap();
        assert!(Dir::open(&dir.path().join("named")).unwrap().look(name("a")).unwrap().is_some());
    }

    #[test]
    fn no_path_leads_out() {
        let dir = tempfile::tempdir().unwrap();
        let d = Dir::open(dir.path()).unwrap();
        for path in ["../x", "a/../../x", "/etc/hostname", "..", ""] {
            assert!(d.holder(Path::new(path), true).is_err(), "{path}");
        }
        assert!(
            !dir.path().join("a").exists() || std::fs::read_dir(dir.path().join("a")).unwrap().count() == 0
        );
    }

    #[test]
    fn pipes_and_folders_are_no_files_and_do_not_make_anyone_wait() {
        let dir = tempfile::tempdir().unwrap();
        let d = Dir::open(dir.path()).unwrap();
        std::fs::create_dir(dir.path().join("folder.mp4")).unwrap();
        rustix::fs::mknodat(d.fd(), "pipe.mp4", FileType::Fifo, Mode::from_raw_mode(0o600), 0).unwrap();
        assert!(d.read(name("folder.mp4")).is_err() && d.read(name("pipe.mp4")).is_err());
    }

    #[rstest::rstest]
    fn a_taken_name_is_never_replaced(
        #[values(false, true)] folder: bool,
        #[values(false, true)] by_link: bool,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let d = Dir::open(dir.path()).unwrap();
        let make = |n: &str| {
            if folder {
                std::fs::create_dir(dir.path().join(n)).unwrap();
                std::fs::write(dir.path().join(n).join("part"), n).unwrap();
            } else {
                std::fs::write(dir.path().join(n), n).unwrap();
            }
        };
        let rename = |a: &str, b: &str| {
            if by_link {
                d.rename_by_link(name(a), &d, name(b))
            } else {
                d.rename_if_free(name(a), &d, name(b))
            }
        };
        let held = |n: &str| {
            let at = dir.path().join(n);
            std::fs::read_to_string(if folder { at.join("part") } else { at }).unwrap()
        };
        make("a");
        make("b");
        assert!(!rename("a", "b").unwrap());
        assert_eq!((held("a"), held("b")), ("a".into(), "b".into()));
        assert!(rename("a", "c").unwrap());
        assert_eq!(held("c"), "a");
        assert!(d.look(name("a")).unwrap().is_none());
    }
}
