//! The state folder: the porter's own. Who holds its lock is the house's porter; who can read it can read everything
//! the house has seen, so nobody else can.

use crate::clock;
use crate::config::House;
use crate::error::{Error, Result};
use crate::store::{Change, Store};
use rusqlite::ErrorCode;
use serde::{Deserialize, Serialize};
use std::fs::{File, Permissions, TryLockError};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Rights of the state folder, and of the files in it.
const FOLDER_MODE: u32 = 0o700;
const FILE_MODE: u32 = 0o600;
const LOCK_PATIENCE: Duration = Duration::from_millis(300);

/// Beside the store: which house's it is, so that a lost store is not silently begun anew.
const IDENTITY: &str = "house.json";

#[derive(Serialize, Deserialize)]
struct Identity {
    version: u32,
    house: String,
}

pub struct StateFolder {
    path: PathBuf,
    lock: File,
    id: String,
    /// The identity file was there before: then a store was, too.
    had_store: bool,
}

/// The lock that only one porter of a house holds.
pub fn lock_file(house: &House) -> PathBuf {
    house.state.join("lock")
}

/// Somebody who asks whether a porter runs holds the lock for a moment: that is no other porter.
fn take_lock(lock: &File, at: &Path) -> Result<()> {
    let start = Instant::now();
    loop {
        match lock.try_lock() {
            Ok(()) => return Ok(()),
            Err(TryLockError::WouldBlock) if start.elapsed() < LOCK_PATIENCE => {
                std::thread::sleep(Duration::from_millis(20));
            }
            Err(TryLockError::WouldBlock) => return Err(Error::Locked(at.to_owned())),
            Err(TryLockError::Error(e)) => return Err(Error::path("cannot lock", at)(e)),
        }
    }
}

/// True if a porter works on this house now.
pub fn is_running(house: &House) -> bool {
    let Ok(file) = File::open(lock_file(house)) else { return false };
    matches!(file.try_lock_shared(), Err(TryLockError::WouldBlock))
}

fn make(path: &Path) -> Result<()> {
    std::fs::DirBuilder::new()
        .recursive(true)
        .mode(FOLDER_MODE)
        .create(path)
        .map_err(Error::path("cannot make the folder", path))
}

fn own(options: &mut std::fs::OpenOptions) -> &mut std::fs::OpenOptions {
    options.read(true).write(true).create(true).truncate(false).mode(FILE_MODE)
}

/// Takes the rights of others away, or says that they have them.
fn close(path: &Path, mode: u32) -> Result<()> {
    let wrong = |why: String| Error::StateOpen { path: path.to_owned(), why };
    let about = std::fs::symlink_metadata(path).map_err(Error::path("cannot look at", path))?;
    if about.is_symlink() {
        return Err(wrong("it is a link; give the folder itself".into()));
    }
    if about.mode() & 0o077 == 0 {
        return Ok(());
    }
    std::fs::set_permissions(path, Permissions::from_mode(mode)).map_err(|e| {
        let plain = crate::files::known::plain(&e);
        wrong(format!(
            "others can use it (mode {:o}), and that cannot be changed: {plain}",
            about.mode() & 0o777
        ))
    })
}

impl StateFolder {
    /// Makes it where it is missing, closes it to others, and takes its lock.
    pub fn take(house: &House) -> Result<StateFolder> {
        let path = house.state.clone();
        make(&path)?;
        close(&path, FOLDER_MODE)?;
        let work = house.work();
        make(&work)?;
        close(&work, FOLDER_MODE)?;
        let at = lock_file(house);
        let lock = own(&mut File::options()).open(&at).map_err(Error::path("cannot write", &at))?;
        take_lock(&lock, &at)?;
        for entry in std::fs::read_dir(&path).map_err(Error::path("cannot read", &path))?.flatten() {
            if entry.file_type().is_ok_and(|t| t.is_file()) {
                close(&entry.path(), FILE_MODE)?;
            }
        }
        let at = path.join(IDENTITY);
        let (id, had_store) = match std::fs::read(&at) {
            Ok(bytes) => match serde_json::from_slice::<Identity>(&bytes) {
                Ok(i) => (i.house, true),
                Err(e) => {
                    let why = format!("{} beside it cannot be read ({e})", media::show::path(&at));
                    return Err(Error::StoreLost { path: house.store_file(), why });
                }
            },
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => (clock::random_id(), false),
            Err(e) => return Err(Error::path("cannot read", &at)(e)),
        };
        Ok(StateFolder { path, lock, id, had_store })
    }

    /// Opens the store; where there was one before, it must be that one, and whole.
    pub fn open_store(&self, house: &House) -> Result<Store> {
        let file = house.store_file();
        let lost = |why: &str| {
            let restore = "Put it back from a backup. To begin without its record, move house.json in that folder away; \
                           files that were left in watch folders will be made and delivered again then";
            Err(Error::StoreLost { path: file.clone(), why: format!("{why}. {restore}") })
        };
        let bytes = std::fs::symlink_metadata(&file).map(|m| m.len()).ok();
        if self.had_store && bytes.is_none() {
            return lost("it is gone");
        }
        if self.had_store && bytes == Some(0) {
            return lost("it is empty");
        }
        if bytes.is_none() {
            // Before SQLite makes it with the rights of others.
            own(&mut File::options()).open(&file).map_err(Error::path("cannot write", &file))?;
        }
        let store = match Store::open(&file) {
            Err(Error::Store { source, .. })
                if matches!(
                    source.sqlite_error_code(),
                    Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt)
                ) =>
            {
                return lost(&format!("it is damaged ({source})"));
            }
            other => other?,
        };
        match store.read(|v| v.house())? {
            Some(found) if self.had_store && found != self.id => return lost("it is of another house"),
            None if self.had_store && store.read(|v| v.last_event())? > 0 => {
                return lost("it is not the one that was here");
            }
            None if self.had_store => return lost("it was begun anew by something else"),
            Some(found) => self.identify(&found)?,
            None => {
                store.commit([Change::Named { house: self.id.clone() }])?;
                self.identify(&self.id)?;
            }
        }
        if let Some(what) = store.check()? {
            return lost(&format!("it is damaged ({what})"));
        }
        Ok(store)
    }

    fn identify(&self, id: &str) -> Result<()> {
        if self.had_store {
            return Ok(());
        }
        let at = self.path.join(IDENTITY);
        let text = serde_json::to_vec(&Identity { version: 1, house: id.to_owned() }).unwrap_or_default();
        let fail = |e| Error::path("cannot write", &at)(e);
        let mut new = tempfile::Builder::new().prefix(".house").tempfile_in(&self.path).map_err(fail)?;
        std::io::Write::write_all(&mut new, &text).map_err(fail)?;
        new.as_file().sync_all().map_err(fail)?;
        new.persist(&at).map_err(|e| fail(e.error))?;
        Ok(())
    }

    /// Whether the folder is still the one whose lock is held.
    pub fn is_there(&self) -> bool {
        let same = |a: &std::fs::Metadata, b: &std::fs::Metadata| (a.dev(), a.ino()) == (b.dev(), b.ino());
        match (self.lock.metadata(), std::fs::metadata(self.path.join("lock"))) {
            (Ok(held), Ok(there)) => same(&held, &there),
            (Ok(_), Err(e)) => e.kind() != std::io::ErrorKind::NotFound,
            (Err(_), _) => false,
        }
    }
}
