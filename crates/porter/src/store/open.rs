//! The store of one house on one machine.

use super::apply::apply;
use super::change::{Change, Event};
use super::migrate::{NEWEST, migrate};
use super::view::{Sql, View};
use crate::clock::{self, Micros};
use crate::error::{Error, Result};
use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, Transaction};
use std::ops::Deref;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Mutex, MutexGuard};
use std::time::Duration;

/// How long a store that another program has locked is waited for.
const BUSY: Duration = Duration::from_millis(600);
/// A new store is locked while it is made, which takes a while on a slow disk; who only looks can wait for it.
const PATIENT: Duration = Duration::from_secs(5);

#[derive(Debug)]
pub struct Store {
    path: PathBuf,
    db: Mutex<Connection>,
    /// The number of the last event that was recorded through this.
    last: AtomicI64,
}

/// A transaction: reads see what it has changed so far.
pub struct Tx<'a> {
    view: View<'a>,
    at: Micros,
    events: Vec<Event>,
}

impl<'a> Deref for Tx<'a> {
    type Target = View<'a>;
    fn deref(&self) -> &View<'a> {
        &self.view
    }
}

impl Tx<'_> {
    /// One change: recorded and applied.
    pub fn put(&mut self, change: Change) -> Sql<()> {
        self.put_at(self.at, change)
    }

    /// One that happened a moment ago.
    pub fn put_at(&mut self, at: Micros, change: Change) -> Sql<()> {
        let id = apply(self.view.db, at, &change)?;
        self.events.push(Event { id, at, job: change.job(), change });
        Ok(())
    }
}

impl Store {
    /// Opens or makes the store for a porter.
    pub fn open(path: &Path) -> Result<Store> {
        let wrong = |source| Error::Store { path: path.to_owned(), source };
        let mut db = Connection::open(path).map_err(wrong)?;
        let set_up = |db: &mut Connection| -> Sql<u32> {
            db.busy_timeout(BUSY)?;
            db.pragma_update(None, "synchronous", "FULL")?;
            db.pragma_update(None, "foreign_keys", true)?;
            db.set_prepared_statement_cache_capacity(64);
            // The plan of a statement does not hang on the values it is asked for: none is made again for each.
            db.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
            // The log of a new store's making would be as large as the store.
            let found = migrate(db)?;
            db.pragma_update(None, "journal_mode", "WAL")?;
            Ok(found)
        };
        let found = set_up(&mut db).map_err(wrong)?;
        Self::ready(path, db, found)
    }

    /// Opens a store for looking, beside a running porter or without one; nothing in it can be changed. `None`:
    /// there is none yet, or a porter is just making it.
    pub fn look(path: &Path) -> Result<Option<Store>> {
        if !path.exists() {
            return Ok(None);
        }
        let wrong = |source| Error::Store { path: path.to_owned(), source };
        let set_up = |db: &Connection| -> Sql<u32> {
            db.busy_timeout(PATIENT)?;
            db.pragma_update(None, "query_only", true)?;
            db.pragma_query_value(None, "user_version", |r| r.get(0))
        };
        let open = |flags| Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX);
        // Beside a store that was closed in order nothing lies that readers could share, and a reader without the
        // right to write cannot make it: such a store is read as it lies there.
        let db = open(OpenFlags::SQLITE_OPEN_READ_WRITE).or_else(|_| open(OpenFlags::SQLITE_OPEN_READ_ONLY));
        let db = db.map_err(wrong)?;
        let found = set_up(&db).map_err(wrong)?;
        match found {
            0 => Ok(None),
            found if found < NEWEST => Err(Error::StoreLost {
                path: path.to_owned(),
                why: format!(
                    "it was written by an older program (version {found}); 'deft-porter run' brings it along"
                ),
            }),
            found => Self::ready(path, db, found).map(Some),
        }
    }

    fn ready(path: &Path, db: Connection, found: u32) -> Result<Store> {
        if found > NEWEST {
            return Err(Error::StoreTooNew { path: path.to_owned(), found, known: NEWEST });
        }
        Ok(Store { path: path.to_owned(), db: Mutex::new(db), last: AtomicI64::new(0) })
    }

    pub(super) fn db(&self) -> MutexGuard<'_, Connection> {
        self.db.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn wrong(&self, source: rusqlite::Error) -> Error {
        Error::Store { path: self.path.clone(), source }
    }

    /// Looks something up.
    pub fn read<T>(&self, work: impl FnOnce(&View<'_>) -> Sql<T>) -> Result<T> {
        let db = self.db();
        // One look at one state, however much is looked up: each statement alone would take its own.
        let run = || {
            let sql = db.unchecked_transaction()?;
            let out = work(&View { db: &sql })?;
            sql.commit()?;
            Ok(out)
        };
        run().map_err(|e| self.wrong(e))
    }

    /// The number of the last event that was recorded through this, 0 before the first; others may have recorded more.
    pub fn last_recorded(&self) -> i64 {
        self.last.load(Ordering::Relaxed)
    }

    /// Changes that belong together, in one transaction. Nothing is acted on before this returned.
    pub fn commit(&self, changes: impl IntoIterator<Item = Change>) -> Result<Vec<Event>> {
        let changes = changes.into_iter();
        self.change(|tx| {
            for change in changes {
                tx.put(change)?;
            }
            Ok(())
        })
        .map(|((), events)| events)
    }

    /// The same, where what is to happen depends on what stands there.
    pub fn change<T>(&self, work: impl FnOnce(&mut Tx<'_>) -> Sql<T>) -> Result<(T, Vec<Event>)> {
        let mut db = self.db();
        let run = |db: &mut Connection| -> Sql<(T, Vec<Event>)> {
            let sql = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            let mut tx = Tx { view: View { db: &sql }, at: clock::now(), events: Vec::new() };
            let out = work(&mut tx)?;
            let events = tx.events;
            commit(sql)?;
            if let Some(event) = events.last() {
                self.last.store(event.id, Ordering::Relaxed);
            }
            Ok((out, events))
        };
        let result = run(&mut db).map_err(|e| self.wrong(e))?;
        crate::stops::here("recorded");
        Ok(result)
    }

    /// Applies a record, as it was written, to this store.
    pub fn replay(&self, events: &[Event]) -> Result<()> {
        self.change(|tx| events.iter().try_for_each(|e| tx.put_at(e.at, e.change.clone()))).map(|_| ())
    }

    /// All of a store's file as it is at one moment, in a new one; a porter that works beside it is not disturbed.
    pub fn copy_file(from: &Path, to: &Path) -> Result<()> {
        let wrong = |source| Error::Store { path: from.to_owned(), source };
        let open = |flags| Connection::open_with_flags(from, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX);
        let db = open(OpenFlags::SQLITE_OPEN_READ_WRITE).or_else(|_| open(OpenFlags::SQLITE_OPEN_READ_ONLY));
        let db = db.map_err(wrong)?;
        db.busy_timeout(BUSY).map_err(wrong)?;
        db.execute("VACUUM INTO ?", [to.to_string_lossy().into_owned()]).map(|_| ()).map_err(wrong)
    }

    /// Whether what lies there is whole; otherwise what is wrong.
    pub fn check(&self) -> Result<Option<String>> {
        let found: String = self.read(|v| v.db.query_row("PRAGMA quick_check(1)", [], |r| r.get(0)))?;
        Ok((found != "ok").then_some(found))
    }
}

fn commit(sql: Transaction<'_>) -> Sql<()> {
    crate::stops::here("about to record");
    sql.commit()
}
