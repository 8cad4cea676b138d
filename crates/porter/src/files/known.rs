//! Knowing a folder again. A share that is not mounted leaves an empty folder of the same name behind, on the local
//! disk: whatever is written there is lost to the house, and whatever is missing there seems to be gone.
//!
//! A folder is known by a marker file in it or, where there is none, by the mount it lies on. What it was when it was
//! first used stands in the store.

use super::dir::Dir;
use media::show;
use rustix::event::{PollFd, PollFlags};
use rustix::fs::{AtFlags, StatxFlags, statx};
use rustix::time::Timespec;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

/// The marker's name.
pub const MARKER: &str = ".deft-porter-folder";
const MARKER_START: &str = "deft-porter folder ";
/// Longest marker that is read.
const MAX_MARKER: u64 = 200;

/// What a folder is used for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Role {
    Watch,
    Place,
    Done,
    TurnedAway,
}

impl Role {
    pub fn words(self) -> &'static str {
        match self {
            Role::Watch => "watch folder",
            Role::Place => "folder of place",
            Role::Done => "folder for done originals of watch",
            Role::TurnedAway => "folder for turned-away files of watch",
        }
    }
}

/// How a folder is known again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Identity {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub marker: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mount: Option<Mount>,
}

/// The mount a folder lies on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mount {
    pub point: String,
    pub kind: String,
    pub source: String,
}

impl std::fmt::Display for Mount {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} {} at {}", self.kind, show::text(&self.source), show::text(&self.point))
    }
}

impl Mount {
    /// Local disks are numbered anew at each start of the machine; shares have their names.
    fn is(&self, other: &Mount) -> bool {
        let local = |m: &Mount| m.source.starts_with("/dev/");
        self.point == other.point
            && self.kind == other.kind
            && (self.source == other.source || (local(self) && local(other)))
    }

    /// The mount that a folder lies on; `None` where the system does not tell.
    pub fn of(dir: &Dir) -> Option<Mount> {
        Some(mount_of(dir)?.0)
    }
}

fn mount_of(dir: &Dir) -> Option<(Mount, String)> {
    let told = statx(dir.fd(), c"", AtFlags::EMPTY_PATH, StatxFlags::MNT_ID).ok()?;
    if told.stx_mask & StatxFlags::MNT_ID.bits() == 0 {
        return None;
    }
    with_table(|table| find(table.now()?, told.stx_mnt_id))
}

/// What a file system keeps of its files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Keeps {
    /// The number of a file is the same for as long as the file is there.
    pub numbers: bool,
    /// When anything of a file was changed last is on the disk as well.
    pub changes: bool,
}

impl Keeps {
    const ALL: Keeps = Keeps { numbers: true, changes: true };

    /// FAT has no numbers: the system makes some up, others each time that it has forgotten a file. So do most file systems of user
    /// space, and Windows shares whose host gives none.
    fn of(kind: &str) -> Keeps {
        let fat = matches!(kind, "vfat" | "msdos" | "exfat");
        let made_up = fat || kind.starts_with("fuse") || matches!(kind, "cifs" | "smb3" | "9p" | "ncpfs");
        Keeps { numbers: !made_up, changes: !fat }
    }
}

/// What the file system keeps that something open lies on. Where the system does not tell, it is a usual one.
pub fn keeps(file: impl AsFd) -> Keeps {
    if keeps_nothing() {
        return Keeps { numbers: false, changes: false };
    }
    let how = AtFlags::EMPTY_PATH | AtFlags::STATX_DONT_SYNC;
    let Ok(told) = statx(file, c"", how, StatxFlags::MNT_ID) else { return Keeps::ALL };
    if told.stx_mask & StatxFlags::MNT_ID.bits() == 0 {
        return Keeps::ALL;
    }
    let id = told.stx_mnt_id;
    with_table(|table| {
        table.now()?;
        if let Some(known) = table.keeps.get(&id) {
            return Some(*known);
        }
        let keeps = Keeps::of(&find(&table.text, id)?.0.kind);
        table.keeps.insert(id, keeps);
        Some(keeps)
    })
    .unwrap_or(Keeps::ALL)
}

/// File systems of this machine's own disks, whose changes are told and whose times are those of the last byte.
const LOCAL: [&str; 9] = ["ext2", "ext3", "ext4", "xfs", "btrfs", "tmpfs", "f2fs", "zfs", "bcachefs"];

pub fn is_local(dir: &Dir) -> bool {
    !keeps_nothing() && Mount::of(dir).is_some_and(|m| LOCAL.contains(&m.kind.as_str()))
}

/// In tests: as on a file system that keeps neither.
fn keeps_nothing() -> bool {
    cfg!(feature = "stops") && std::env::var_os("DEFT_PORTER_TEST_KEEPS_NOTHING").is_some()
}

fn with_table<T>(of: impl FnOnce(&mut Table) -> Option<T>) -> Option<T> {
    let mut table = TABLE.lock().unwrap_or_else(|e| e.into_inner());
    let table = match &mut *table {
        Some(table) => table,
        none => {
            none.insert(Table { file: File::open(MOUNTS).ok()?, text: Vec::new(), keeps: HashMap::new() })
        }
    };
    of(table)
}

const MOUNTS: &str = "/proc/self/mountinfo";
static TABLE: Mutex<Option<Table>> = Mutex::new(None);

/// The table of mounts as it was read last. The system tells by poll(2) whether it changed since (proc(5)): it is read
/// again only then.
struct Table {
    file: File,
    text: Vec<u8>,
    /// By the numbers of mounts.
    keeps: HashMap<u64, Keeps>,
}

impl Table {
    fn now(&mut self) -> Option<&[u8]> {
        let changed = PollFlags::ERR | PollFlags::PRI;
        let mut asked = [PollFd::new(&self.file, PollFlags::PRI)];
        let now = Timespec { tv_sec: 0, tv_nsec: 0 };
        // Where it cannot tell, it has changed.
        let told = rustix::event::poll(&mut asked, Some(&now));
        let is_old = told.is_err() || asked[0].revents().intersects(changed);
        if is_old || self.text.is_empty() {
            self.text.clear();
            self.keeps.clear();
            self.file.rewind().ok()?;
            self.file.read_to_end(&mut self.text).ok()?;
        }
        Some(&self.text)
    }
}

/// Where a folder lies in its file system, whatever it is mounted as: the device, and the path inside it. `canonical`
/// is the folder's path without links.
pub fn on_disk(canonical: &Path) -> Option<(u64, PathBuf)> {
    let dir = Dir::open(canonical).ok()?;
    let (mount, root) = mount_of(&dir)?;
    let inside = canonical.strip_prefix(&mount.point).ok()?;
    let device = super::dir::entry_of(dir.fd()).ok()?.device;
    Some((device, Path::new(&root).join(inside)))
}

/// One line of proc(5) mountinfo: id, parent, device, root, point, options, optional fields, "-", kind, source, options.
/// The mount, and which folder of its file system is mounted.
fn find(table: &[u8], id: u64) -> Option<(Mount, String)> {
    let line = table.split(|b| *b == b'\n').find(|l| {
        l.split(|b| *b == b' ').next().and_then(|n| std::str::from_utf8(n).ok()?.parse().ok()) == Some(id)
    })?;
    let line = String::from_utf8_lossy(line);
    let (before, behind) = line.split_once(" - ")?;
    let mut behind = behind.split(' ');
    let plain = |s: &str| {
        // Blanks and the like stand as octal numbers.
        let mut out = Vec::new();
        let mut rest = s.as_bytes();
        while let [first, tail @ ..] = rest {
            let code = (*first == b'\\').then(|| tail.get(..3)).flatten();
            match code.and_then(|c| u8::from_str_radix(std::str::from_utf8(c).ok()?, 8).ok()) {
                Some(byte) => {
                    out.push(byte);
                    rest = &tail[3..];
                }
                None => {
                    out.push(*first);
                    rest = tail;
                }
            }
        }
        std::ffi::OsString::from_vec(out).to_string_lossy().into_owned()
    };
    let mut columns = before.split(' ').skip(3);
    let root = plain(columns.next()?);
    let point = plain(columns.next()?);
    Some((Mount { point, kind: behind.next()?.to_owned(), source: plain(behind.next()?) }, root))
}

/// The marker in a folder, if there is a true one.
pub fn marker(dir: &Dir) -> Option<String> {
    let mut text = String::new();
    dir.read(MARKER.as_ref()).ok()?.take(MAX_MARKER).read_to_string(&mut text).ok()?;
    let id = text.strip_prefix(MARKER_START)?.trim();
    (!id.is_empty() && id.chars().all(|c| c.is_ascii_alphanumeric())).then(|| id.to_owned())
}

/// Puts a marker into a folder, unless it has one; gives the one it has then.
pub fn mark(dir: &Dir, id: &str) -> io::Result<String> {
    if let Some(there) = marker(dir) {
        return Ok(there);
    }
    let mut file = dir.create(MARKER.as_ref())?;
    file.write_all(format!("{MARKER_START}{id}\n").as_bytes())?;
    file.sync_all()?;
    dir.sync();
    Ok(id.to_owned())
}

/// What a folder is now.
pub fn identity(dir: &Dir) -> Identity {
    Identity { marker: marker(dir), mount: Mount::of(dir) }
}

/// Whether a folder is the one that was known; otherwise why not.
pub fn recognise(dir: &Dir, known: &Identity) -> Result<(), String> {
    let at = show::path(dir.path());
    let hint = "if it is right as it is now, say so with 'deft-porter check --mark'";
    if let Some(wanted) = &known.marker {
        let now = Mount::of(dir).map_or(String::new(), |m| format!(", which lies on {m}"));
        return match marker(dir) {
            Some(found) if found == *wanted => Ok(()),
            Some(_) => Err(format!("{at} has the marker of another folder{now}; {hint}")),
            None => Err(format!("{at} has lost its marker ({MARKER}){now}: is its share mounted? {hint}")),
        };
    }
    match (&known.mount, Mount::of(dir)) {
        (Some(then), Some(now)) if !then.is(&now) => Err(format!(
            "{at} lay on {then} when it was first used, and lies on {now} now: mount it, or {hint}"
        )),
        _ => Ok(()),
    }
}

/// Opens a folder that is known, or has yet to be (`None`). `make`: it is the house's own to make.
pub fn open(path: &Path, known: Option<&Identity>, make: bool) -> Result<Dir, String> {
    let wrong = |p: &Path, e: io::Error| match e.kind() {
        io::ErrorKind::NotFound => format!("{} is not there: is its share mounted?", show::path(p)),
        _ => format!("{}: {}", show::path(p), plain(&e)),
    };
    let dir = match Dir::open(path) {
        Ok(dir) => dir,
        Err(e) if make && e.kind() == io::ErrorKind::NotFound => {
            // Made only on the mount it was on: not on the disk below a share that is away.
            let (above, rest) = nearest(path).ok_or_else(|| wrong(path, e))?;
            let dir = Dir::open(&above).map_err(|e| wrong(&above, e))?;
            if let Some(known) = known {
                recognise(&dir, known)?;
            }
            dir.make(&rest).map_err(|e| wrong(path, e))?;
            Dir::open(path).map_err(|e| wrong(path, e))?
        }
        Err(e) => return Err(wrong(path, e)),
    };
    if let Some(known) = known {
        recognise(&dir, known)?;
    }
    Ok(dir)
}

/// An error of the system without its number.
pub fn plain(e: &io::Error) -> String {
    let text = e.to_string();
    match text.find(" (os error ") {
        Some(end) => text[..end].to_owned(),
        None => text,
    }
}

/// The nearest folder above that is there, and the rest of the way.
fn nearest(path: &Path) -> Option<(PathBuf, PathBuf)> {
    path.ancestors()
        .skip(1)
        .find(|a| a.is_dir())
        .and_then(|a| Some((a.to_owned(), path.strip_prefix(a).ok()?.to_owned())))
}

#[cfg(test)]
mod tests {
    use super::*;

    const TABLE: &[u8] = b"22 1 254:0 / / rw,relatime - ext4 /dev/vda rw\n\
        31 22 0:45 / /mnt/day\\0401 rw shared:5 master:2 - nfs4 nas:/export/day\\0401 rw,vers=4.2\n\
        32 22 0:46 / /mnt/x rw - tmpfs none rw\n";

    #[test]
    fn mounts_are_found_by_their_number() {
        let (m, _) = find(TABLE, 31).unwrap();
        assert_eq!(
            (m.point.as_str(), m.kind.as_str(), m.source.as_str()),
            ("/mnt/day 1", "nfs4", "nas:/export/day 1")
        );
        assert!(find(TABLE, 3).is_none() && find(b"31 22 broken", 31).is_none());
        let (root, _) = find(TABLE, 22).unwrap();
        assert!(root.is(&Mount { source: "/dev/sdb2".into(), ..root.clone() }) && !root.is(&m));
    }

    #[test]
    fn numbers_that_are_made_up_count_for_nothing() {
        let all = |kind: &str| Keeps::of(kind);
        assert!(["ext4", "xfs", "nfs4", "btrfs", "ntfs3", "tmpfs"].iter().all(|k| all(k) == Keeps::ALL));
        assert!(["fuse.sshfs", "fuseblk", "cifs", "smb3"].iter().all(|k| !all(k).numbers && all(k).changes));
        assert!(["vfat", "exfat"].iter().all(|k| !all(k).numbers && !all(k).changes));
        let dir = tempfile::tempdir().unwrap();
        let dir = Dir::open(dir.path()).unwrap();
        assert_eq!(keeps(dir.fd()), Keeps::of(&Mount::of(&dir).unwrap().kind));
    }

    #[test]
    fn this_machines_mounts_are_told() {
        let dir = tempfile::tempdir().unwrap();
        let m = Mount::of(&Dir::open(dir.path()).unwrap()).unwrap();
        assert!(dir.path().starts_with(&m.point), "{m}");
    }

    #[test]
    fn a_marked_folder_is_known_and_an_empty_one_in_its_place_is_not() {
        let dir = tempfile::tempdir().unwrap();
        let share = dir.path().join("share");
        std::fs::create_dir(&share).unwrap();
        let d = Dir::open(&share).unwrap();
        assert_eq!(mark(&d, "a1").unwrap(), "a1");
        assert_eq!(mark(&d, "b2").unwrap(), "a1", "a second house takes the marker that is there");
        let known = identity(&d);
        assert_eq!(recognise(&d, &known), Ok(()));
        std::fs::rename(&share, dir.path().join("unmounted")).unwrap();
        std::fs::create_dir(&share).unwrap();
        let why = open(&share, Some(&known), true).unwrap_err();
        assert!(why.contains("lost its marker") && why.contains("check --mark"), "{why}");
        std::fs::write(share.join(MARKER), "deft-porter folder zz\n").unwrap();
        assert!(open(&share, Some(&known), true).unwrap_err().contains("another folder"));
        std::fs::remove_dir_all(&share).unwrap();
        assert!(
            open(&share, Some(&known), true).is_err() && !share.exists(),
            "not made where it is not known"
        );
    }

    #[test]
    fn a_folder_on_another_mount_is_not_the_same() {
        let dir = tempfile::tempdir().unwrap();
        let d = Dir::open(dir.path()).unwrap();
        let away = Mount { point: "/mnt/nas".into(), kind: "nfs4".into(), source: "nas:/x".into() };
        let known = Identity { marker: None, mount: Some(away) };
        let why = recognise(&d, &known).unwrap_err();
        assert!(why.contains("nfs4 nas:/x at /mnt/nas"), "{why}");
        assert!(open(&dir.path().join("new/done"), Some(&known), true).is_err());
        assert!(!dir.path().join("new").exists());
        assert!(open(&dir.path().join("new/done"), None, true).is_ok());
        // Without what the system tells there is nothing to compare.
        assert_eq!(recognise(&d, &Identity::default()), Ok(()));
    }

    #[test]
    fn a_planted_marker_is_no_marker() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("real"), "deft-porter folder a1\n").unwrap();
        std::os::unix::fs::symlink("real", dir.path().join(MARKER)).unwrap();
        let d = Dir::open(dir.path()).unwrap();
        assert_eq!(marker(&d), None);
        assert!(mark(&d, "b2").is_err());
    }
}
