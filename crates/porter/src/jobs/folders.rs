//! The folders of a house, opened as what they were when they were first used.

use crate::config::House;
use crate::error::{Error, Result};
use crate::files::Dir;
use crate::files::known::{self, Identity, Role};
use crate::store::{Change, Store};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

#[derive(Default)]
pub struct Folders {
    known: Mutex<HashMap<(Role, String), (PathBuf, Identity)>>,
}

/// A folder of the house by its use.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Used {
    pub role: Role,
    /// Of the watch or the place.
    pub name: String,
    pub path: PathBuf,
}

/// Every folder that a house uses, but its state.
pub fn used(house: &House) -> Vec<Used> {
    let mut all = Vec::new();
    let mut add = |role, name: &str, path: &Path| {
        all.push(Used { role, name: name.to_owned(), path: path.to_owned() });
    };
    for w in &house.watches {
        add(Role::Watch, &w.name, &w.folder);
        if let Some(done) = &w.done {
            add(Role::Done, &w.name, done);
        }
        add(Role::TurnedAway, &w.name, &w.turned_away);
    }
    for p in &house.places {
        if let Some(folder) = p.folder() {
            add(Role::Place, &p.name, folder);
        }
    }
    all
}

impl Folders {
    /// Opens a folder of the house. What it is, is noted when it is first used under this path; later it must be that
    /// again. `make`: one that may be made where it is missing.
    pub fn open(&self, store: &Store, role: Role, name: &str, path: &Path, make: bool) -> Result<Dir> {
        let key = (role, name.to_owned());
        let known = || self.known.lock().unwrap_or_else(|e| e.into_inner());
        let mut before = known().get(&key).cloned();
        if before.is_none() {
            before = store.read(|v| v.folder(role, name))?;
        }
        // Another path is the configuration's own word for another folder.
        let before = before.filter(|(p, _)| p == path).map(|(_, identity)| identity);
        let dir = known::open(path, before.as_ref(), make).map_err(Error::Away)?;
        let identity = match before {
            Some(identity) => identity,
            None => {
                let identity = known::identity(&dir);
                match note(store, role, name, path, &identity) {
                    Ok(()) => identity,
                    // It is noted at its next use: whatever is done with it has to be recorded first.
                    Err(Error::Store { .. }) => return Ok(dir),
                    Err(e) => return Err(e),
                }
            }
        };
        known().insert(key, (path.to_owned(), identity));
        Ok(dir)
    }
}

fn note(store: &Store, role: Role, name: &str, path: &Path, identity: &Identity) -> Result<()> {
    let (name, path, identity) = (name.to_owned(), path.to_owned(), identity.clone());
    store.commit([Change::FolderKnown { role, name, path, identity }]).map(|_| ())
}

/// Puts a marker into every folder of the house and notes it: what the folders are now is right. Gives what was
/// marked, and why the rest was not.
pub fn mark(house: &House, store: &Store) -> Result<Vec<(Used, std::result::Result<(), String>)>> {
    let mut out = Vec::new();
    for u in used(house) {
        let marked = Dir::open(&u.path).map(|dir| {
            let put = known::mark(&dir, &crate::clock::random_id());
            // Where no marker can be put, the mount is what it is known by.
            (known::identity(&dir), put)
        });
        let result = match marked {
            Ok((identity, put)) => {
                note(store, u.role, &u.name, &u.path, &identity)?;
                put.map(|_| ()).map_err(|e| {
                    format!("no marker can be put there ({}); known by its mount", known::plain(&e))
                })
            }
            Err(e) => Err(known::plain(&e)),
        };
        out.push((u, result));
    }
    Ok(out)
}
