//! The store on one machine.

use super::migrate::{NEWEST, migrate};
use super::rows::*;
use crate::clock::{self, Micros};
use crate::error::{Error, Result};
use crate::maker::Finished;
use media::facts::Facts;
use rusqlite::{Connection, OpenFlags, OptionalExtension, Row, Transaction, params};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard};
use std::time::Duration;

#[derive(Debug)]
pub struct Store {
    path: PathBuf,
    db: Mutex<Connection>,
}

type Sql<T> = rusqlite::Result<T>;

fn bytes(path: &Path) -> &[u8] {
    path.as_os_str().as_bytes()
}

fn path_of(row: &Row<'_>, name: &str) -> Sql<PathBuf> {
    Ok(PathBuf::from(OsStr::from_bytes(&row.get::<_, Vec<u8>>(name)?)))
}

impl Store {
    /// Opens or makes the store for a porter.
    pub fn open(path: &Path) -> Result<Store> {
        let wrong = |source| Error::Store { path: path.to_owned(), source };
        let mut db = Connection::open(path).map_err(wrong)?;
        let set_up = |db: &mut Connection| -> Sql<u32> {
            db.busy_timeout(Duration::from_secs(10))?;
            db.pragma_update(None, "journal_mode", "WAL")?;
            db.pragma_update(None, "synchronous", "FULL")?;
            db.pragma_update(None, "foreign_keys", true)?;
            migrate(db)
        };
        let found = set_up(&mut db).map_err(wrong)?;
        Self::ready(path, db, found)
    }

    /// Opens a store for reading beside a running porter. `None`: there is none yet, or a porter is just
    /// making it.
    pub fn read(path: &Path) -> Result<Option<Store>> {
        if !path.exists() {
            return Ok(None);
        }
        let wrong = |source| Error::Store { path: path.to_owned(), source };
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let db = Connection::open_with_flags(path, flags).map_err(wrong)?;
        db.busy_timeout(Duration::from_secs(10)).map_err(wrong)?;
        let found: u32 = db.pragma_query_value(None, "user_version", |r| r.get(0)).map_err(wrong)?;
        if found == 0 { Ok(None) } else { Self::ready(path, db, found).map(Some) }
    }

    fn ready(path: &Path, db: Connection, found: u32) -> Result<Store> {
        if found > NEWEST {
            return Err(Error::StoreTooNew { path: path.to_owned(), found, known: NEWEST });
        }
        Ok(Store { path: path.to_owned(), db: Mutex::new(db) })
    }

    pub(super) fn db(&self) -> MutexGuard<'_, Connection> {
        self.db.lock().unwrap_or_else(|e| e.into_inner())
    }

    pub(super) fn with<T>(&self, work: impl FnOnce(&Connection) -> Sql<T>) -> Result<T> {
        work(&self.db()).map_err(|source| Error::Store { path: self.path.clone(), source })
    }

    fn change<T>(&self, work: impl FnOnce(&Transaction<'_>) -> Sql<T>) -> Result<T> {
        let mut db = self.db();
        let run = |db: &mut Connection| {
            let tx = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            let out = work(&tx)?;
            tx.commit()?;
            Ok(out)
        };
        run(&mut db).map_err(|source| Error::Store { path: self.path.clone(), source })
    }

    /// Records an arrival. `None`: this very state of the file is already known.
    pub fn arrive(
        &self,
        watch: &str,
        path: &Path,
        size: u64,
        modified: i64,
        inode: u64,
        at: Micros,
    ) -> Result<Option<JobId>> {
        self.change(|tx| {
            let known: Option<i64> = tx
                .query_row(
                    "SELECT id FROM job WHERE watch = ? AND path = ? AND size = ? AND modified = ? AND inode = ?
                     AND state != 'withdrawn'",
                    params![watch, bytes(path), size as i64, modified, inode as i64],
                    |r| r.get(0),
                )
                .optional()?;
            if known.is_some() {
                return Ok(None);
            }
            tx.execute(
                "INSERT INTO job (watch, path, size, modified, inode, arrived, state) VALUES (?, ?, ?, ?, ?, ?, 'waiting')",
                params![watch, bytes(path), size as i64, modified, inode as i64, at],
            )?;
            let id = tx.last_insert_rowid();
            tx.execute("DELETE FROM waiting WHERE watch = ? AND path = ?", params![watch, bytes(path)])?;
            let detail = format!("{watch}: {}, {size} bytes", crate::jobs::show_path(path));
            event(tx, Some(id), at, "arrived", Some(&detail))?;
            Ok(Some(id))
        })
    }

    pub fn job(&self, id: JobId) -> Result<Option<Job>> {
        self.with(|db| db.query_row("SELECT * FROM job WHERE id = ?", [id], job).optional())
    }

    /// Jobs that have not ended, oldest first.
    pub fn open_jobs(&self) -> Result<Vec<Job>> {
        self.with(|db| all(db, "SELECT * FROM job WHERE ended IS NULL ORDER BY id", [], job))
    }

    /// Jobs that ended, newest first.
    pub fn ended_jobs(&self, most: u32) -> Result<Vec<Job>> {
        self.with(|db| {
            all(
                db,
                "SELECT * FROM job WHERE ended IS NOT NULL ORDER BY ended DESC, id DESC LIMIT ?",
                [most],
                job,
            )
        })
    }

    /// How many jobs ended in each state.
    pub fn ended_counts(&self) -> Result<Vec<(State, u64)>> {
        self.with(|db| {
            all(
                db,
                "SELECT state, count(*) FROM job WHERE ended IS NOT NULL GROUP BY state ORDER BY state",
                [],
                |r| Ok((State::from_name(&r.get::<_, String>(0)?), r.get::<_, i64>(1)? as u64)),
            )
        })
    }

    /// The next open job that nobody works on and whose time has come.
    pub fn next_job(&self, now: Micros, busy: &[JobId]) -> Result<Option<Job>> {
        let open = self.open_jobs()?;
        Ok(open.into_iter().find(|j| {
            !busy.contains(&j.id)
                && j.next_try.is_none_or(|t| t <= now)
                && !matches!(j.state, State::Unknown(_))
        }))
    }

    /// Moves a job on. The event is part of the same transaction.
    pub fn set_state(&self, id: JobId, state: &State, what: &str, detail: Option<&str>) -> Result<()> {
        self.change(|tx| {
            let now = clock::now();
            let ended = state.has_ended().then_some(now);
            tx.execute(
                "UPDATE job SET state = ?, held = NULL, next_try = NULL, ended = ? WHERE id = ?",
                params![state.name(), ended, id],
            )?;
            if state.has_ended() {
                tx.execute("DELETE FROM progress WHERE job = ?", [id])?;
            }
            event(tx, Some(id), now, what, detail)
        })
    }

    /// Work on a job begins.
    pub fn start(&self, id: JobId) -> Result<()> {
        self.change(|tx| {
            let now = clock::now();
            tx.execute("UPDATE job SET started = coalesce(started, ?) WHERE id = ?", params![now, id])?;
            event(tx, Some(id), now, "started", None)
        })
    }

    /// Facts, outputs and where they go: from waiting to making, in one step.
    pub fn plan(&self, id: JobId, facts: &Facts, outputs: &[Output], deliveries: &[Delivery]) -> Result<()> {
        let facts = serde_json::to_string(facts).unwrap_or_default();
        self.change(|tx| {
            tx.execute("DELETE FROM delivery WHERE job = ?", [id])?;
            tx.execute("DELETE FROM output WHERE job = ?", [id])?;
            for o in outputs {
                tx.execute(
                    "INSERT INTO output (job, number, rule, preset, preset_version, recipe, extension) VALUES (?, ?, ?, ?, ?, ?, ?)",
                    params![id, o.number, o.rule, o.preset, o.preset_version, serde_json::to_string(&o.recipe).unwrap_or_default(), o.extension],
                )?;
            }
            for d in deliveries {
                tx.execute(
                    "INSERT OR IGNORE INTO delivery (job, output, place, wanted) VALUES (?, ?, ?, ?)",
                    params![id, d.output, d.place, d.wanted],
                )?;
            }
            tx.execute("UPDATE job SET state = 'making', facts = ?, held = NULL, next_try = NULL WHERE id = ?", params![facts, id])?;
            // A preset with several files is named once.
            let mut list: Vec<&str> = outputs.iter().map(|o| o.preset.as_str()).collect();
            list.dedup();
            event(tx, Some(id), clock::now(), "planned", Some(&list.join(", ")))
        })
    }

    /// Every output is made, in the order of their numbers: from making to carrying.
    pub fn made(&self, id: JobId, made: &[Finished]) -> Result<()> {
        self.change(|tx| {
            // Made a second time: what was heard before counts no more.
            super::said::forget(tx, id)?;
            for (number, Finished { made, bytes: size, digest, transcript }) in made.iter().enumerate() {
                if let Some(t) = transcript {
                    super::said::keep(tx, id, t)?;
                }
                tx.execute(
                    "UPDATE output SET digest = ?, bytes = ?, made = ? WHERE job = ? AND number = ?",
                    params![
                        digest,
                        *size as i64,
                        serde_json::to_string(made).unwrap_or_default(),
                        id,
                        number as u32
                    ],
                )?;
                let notes = if made.notes.is_empty() {
                    String::new()
                } else {
                    format!("; {}", made.notes.join("; "))
                };
                event(
                    tx,
                    Some(id),
                    clock::now(),
                    "made",
                    Some(&format!("output {number}, {size} bytes, {digest}{notes}")),
                )?;
            }
            tx.execute("UPDATE job SET state = 'carrying', held = NULL, next_try = NULL WHERE id = ?", [id])?;
            tx.execute("DELETE FROM progress WHERE job = ?", [id])?;
            Ok(())
        })
    }

    pub fn outputs(&self, id: JobId) -> Result<Vec<Output>> {
        self.with(|db| {
            all(db, "SELECT * FROM output WHERE job = ? ORDER BY number", [id], |r| {
                Ok(Output {
                    number: r.get("number")?,
                    rule: r.get("rule")?,
                    preset: r.get("preset")?,
                    preset_version: r.get("preset_version")?,
                    recipe: serde_json::from_str(&r.get::<_, String>("recipe")?).unwrap_or_default(),
                    extension: r.get("extension")?,
                    digest: r.get("digest")?,
                    bytes: r.get::<_, Option<i64>>("bytes")?.map(|n| n as u64),
                    made: r.get::<_, Option<String>>("made")?.and_then(|m| serde_json::from_str(&m).ok()),
                })
            })
        })
    }

    pub fn deliveries(&self, id: JobId) -> Result<Vec<Delivery>> {
        self.with(|db| {
            all(db, "SELECT * FROM delivery WHERE job = ? ORDER BY output, place, wanted", [id], |r| {
                Ok(Delivery {
                    output: r.get("output")?,
                    place: r.get("place")?,
                    wanted: r.get("wanted")?,
                    name: r.get("name")?,
                    delivered: r.get("delivered")?,
                })
            })
        })
    }

    /// True if some job has, or will have, this name at this place.
    pub fn name_is_given(&self, place: &str, name: &str) -> Result<bool> {
        self.with(|db| {
            db.query_row("SELECT count(*) FROM delivery WHERE place = ? AND name = ?", [place, name], |r| {
                r.get::<_, i64>(0)
            })
        })
        .map(|n| n > 0)
    }

    /// Gives a delivery its name. Names are unique in a place; false if another job was faster.
    pub fn give_name(&self, id: JobId, d: &Delivery, name: &str) -> Result<bool> {
        self.change(|tx| {
            let taken: i64 = tx.query_row(
                "SELECT count(*) FROM delivery WHERE place = ? AND name = ?",
                params![d.place, name],
                |r| r.get(0),
            )?;
            if taken > 0 {
                return Ok(false);
            }
            tx.execute(
                "UPDATE delivery SET name = ? WHERE job = ? AND output = ? AND place = ? AND wanted = ?",
                params![name, id, d.output, d.place, d.wanted],
            )?;
            event(
                tx,
                Some(id),
                clock::now(),
                "carrying",
                Some(&format!("output {} to {}: {name}", d.output, d.place)),
            )?;
            Ok(true)
        })
    }

    pub fn delivered(&self, id: JobId, d: &Delivery) -> Result<()> {
        self.change(|tx| {
            let now = clock::now();
            tx.execute(
                "UPDATE delivery SET delivered = ? WHERE job = ? AND output = ? AND place = ? AND wanted = ?",
                params![now, id, d.output, d.place, d.wanted],
            )?;
            let name = d.name.as_deref().unwrap_or("");
            event(
                tx,
                Some(id),
                now,
                "delivered",
                Some(&format!("output {} at {}: {name}, checksum verified", d.output, d.place)),
            )
        })
    }

    /// Records where an original goes, before it is moved.
    pub fn set_original_to(&self, id: JobId, to: Option<&Path>) -> Result<()> {
        self.change(|tx| {
            tx.execute("UPDATE job SET original_to = ? WHERE id = ?", params![to.map(bytes), id])?;
            let what = to.map_or("removing original", |_| "moving original");
            event(tx, Some(id), clock::now(), what, to.map(|t| t.display().to_string()).as_deref())
        })
    }

    /// A job will be turned away, and why.
    pub fn turn_away(&self, id: JobId, reason: &str) -> Result<()> {
        self.change(|tx| {
            tx.execute(
                "UPDATE job SET state = 'turning away', reason = ?, held = NULL, next_try = NULL, original_to = NULL WHERE id = ?",
                params![reason, id],
            )?;
            tx.execute("DELETE FROM progress WHERE job = ?", [id])?;
            event(tx, Some(id), clock::now(), "turning away", Some(reason))
        })
    }

    /// The source is not what arrived any more.
    pub fn withdraw(&self, id: JobId, reason: &str) -> Result<()> {
        self.change(|tx| {
            tx.execute("UPDATE job SET reason = ? WHERE id = ?", params![reason, id])?;
            tx.execute(
                "UPDATE job SET state = 'withdrawn', held = NULL, next_try = NULL, ended = ? WHERE id = ?",
                params![clock::now(), id],
            )?;
            tx.execute("DELETE FROM progress WHERE job = ?", [id])?;
            tx.execute("DELETE FROM delivery WHERE job = ? AND delivered IS NULL", [id])?;
            event(tx, Some(id), clock::now(), "withdrawn", Some(reason))
        })
    }

    /// The current step waits for a time. Told as an event only when the reason is new.
    pub fn hold(&self, id: JobId, reason: &str, until: Micros) -> Result<()> {
        self.change(|tx| {
            let before: Option<String> =
                tx.query_row("SELECT held FROM job WHERE id = ?", [id], |r| r.get(0))?;
            tx.execute("UPDATE job SET held = ?, next_try = ? WHERE id = ?", params![reason, until, id])?;
            tx.execute("DELETE FROM progress WHERE job = ?", [id])?;
            if before.as_deref() != Some(reason) {
                event(tx, Some(id), clock::now(), "held", Some(reason))?;
            }
            Ok(())
        })
    }

    /// A making broke; gives how many have.
    pub fn broke(&self, id: JobId, reason: &str) -> Result<u32> {
        self.change(|tx| {
            tx.execute("UPDATE job SET tries = tries + 1 WHERE id = ?", [id])?;
            event(tx, Some(id), clock::now(), "making broke", Some(reason))?;
            tx.query_row("SELECT tries FROM job WHERE id = ?", [id], |r| r.get(0))
        })
    }

    pub fn events(&self, id: JobId) -> Result<Vec<Event>> {
        self.with(|db| {
            all(db, "SELECT at, job, what, detail FROM event WHERE job = ? ORDER BY id", [id], event_row)
        })
    }

    /// Events behind `after` (an event's number), with their numbers.
    pub fn events_after(&self, after: i64) -> Result<Vec<(i64, Event)>> {
        self.with(|db| {
            all(db, "SELECT at, job, what, detail, id FROM event WHERE id > ? ORDER BY id", [after], |r| {
                Ok((r.get(4)?, event_row(r)?))
            })
        })
    }

    pub fn last_event(&self) -> Result<i64> {
        self.with(|db| db.query_row("SELECT coalesce(max(id), 0) FROM event", [], |r| r.get(0)))
    }

    /// An event that is about no job.
    pub fn note(&self, what: &str, detail: Option<&str>) -> Result<()> {
        self.change(|tx| event(tx, None, clock::now(), what, detail))
    }

    pub fn set_waiting(&self, watch: &str, files: &[WaitingFile]) -> Result<()> {
        self.change(|tx| {
            tx.execute("DELETE FROM waiting WHERE watch = ?", [watch])?;
            for f in files {
                tx.execute(
                    "INSERT INTO waiting VALUES (?, ?, ?, ?, ?)",
                    params![watch, bytes(&f.path), f.size as i64, f.first, f.why],
                )?;
            }
            Ok(())
        })
    }

    pub fn waiting(&self) -> Result<Vec<WaitingFile>> {
        self.with(|db| {
            all(db, "SELECT * FROM waiting ORDER BY watch, path", [], |r| {
                Ok(WaitingFile {
                    watch: r.get("watch")?,
                    path: path_of(r, "path")?,
                    size: r.get::<_, i64>("size")? as u64,
                    first: r.get("first")?,
                    why: r.get("why")?,
                })
            })
        })
    }

    /// A watch folder that cannot be read (or, with `None`, can again).
    pub fn set_trouble(&self, watch: &str, why: Option<&str>) -> Result<()> {
        self.change(|tx| {
            let now = clock::now();
            tx.execute("DELETE FROM trouble WHERE watch = ?", [watch])?;
            if let Some(why) = why {
                tx.execute("INSERT INTO trouble VALUES (?, ?, ?)", params![watch, now, why])?;
            }
            let what = if why.is_some() { "watch folder lost" } else { "watch folder back" };
            event(
                tx,
                None,
                now,
                what,
                Some(&format!("{watch}{}", why.map_or(String::new(), |w| format!(": {w}")))),
            )
        })
    }

    /// Watches in trouble: name, since when, why.
    pub fn troubles(&self) -> Result<Vec<(String, Micros, String)>> {
        self.with(|db| {
            all(db, "SELECT watch, since, why FROM trouble ORDER BY watch", [], |r| {
                Ok((r.get(0)?, r.get(1)?, r.get(2)?))
            })
        })
    }

    /// What an earlier porter left behind and no longer holds; its held jobs are tried at once.
    pub fn clear_passing(&self) -> Result<()> {
        self.change(|tx| {
            tx.execute_batch(
                "DELETE FROM progress; DELETE FROM waiting; DELETE FROM trouble;
                 UPDATE job SET held = NULL, next_try = NULL WHERE ended IS NULL;",
            )
        })
    }

    pub fn set_going(&self, id: JobId, g: &Going) -> Result<()> {
        self.change(|tx| {
            tx.execute(
                "INSERT OR REPLACE INTO progress VALUES (?, ?, ?, ?, ?)",
                params![id, g.at, g.since, g.done as i64, g.total.map(|t| t as i64)],
            )
            .map(|_| ())
        })
    }

    pub fn going(&self, id: JobId) -> Result<Option<Going>> {
        self.with(|db| {
            db.query_row("SELECT at, since, done, total FROM progress WHERE job = ?", [id], |r| {
                Ok(Going {
                    at: r.get(0)?,
                    since: r.get(1)?,
                    done: r.get::<_, i64>(2)? as u64,
                    total: r.get::<_, Option<i64>>(3)?.map(|t| t as u64),
                })
            })
            .optional()
        })
    }
}

fn all<T, P: rusqlite::Params>(
    db: &Connection,
    sql: &str,
    params: P,
    row: impl FnMut(&Row<'_>) -> Sql<T>,
) -> Sql<Vec<T>> {
    db.prepare_cached(sql)?.query_map(params, row)?.collect()
}

fn event(tx: &Transaction<'_>, job: Option<JobId>, at: Micros, what: &str, detail: Option<&str>) -> Sql<()> {
    tx.execute(
        "INSERT INTO event (at, job, what, detail) VALUES (?, ?, ?, ?)",
        params![at, job, what, detail],
    )
    .map(|_| ())
}

fn event_row(r: &Row<'_>) -> Sql<Event> {
    Ok(Event { at: r.get(0)?, job: r.get(1)?, what: r.get(2)?, detail: r.get(3)? })
}

fn job(r: &Row<'_>) -> Sql<Job> {
    let original_to: Option<Vec<u8>> = r.get("original_to")?;
    Ok(Job {
        id: r.get("id")?,
        watch: r.get("watch")?,
        path: path_of(r, "path")?,
        size: r.get::<_, i64>("size")? as u64,
        modified: r.get("modified")?,
        inode: r.get::<_, i64>("inode")? as u64,
        arrived: r.get("arrived")?,
        state: State::from_name(&r.get::<_, String>("state")?),
        tries: r.get("tries")?,
        held: r.get("held")?,
        next_try: r.get("next_try")?,
        reason: r.get("reason")?,
        original_to: original_to.map(|b| PathBuf::from(OsStr::from_bytes(&b))),
        started: r.get("started")?,
        ended: r.get("ended")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn store() -> (tempfile::TempDir, Store) {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("jobs.sqlite")).unwrap();
        (dir, store)
    }

    fn delivery(output: u32) -> Delivery {
        Delivery { output, place: "editors".into(), wanted: "a.mp4".into(), name: None, delivered: None }
    }

    #[test]
    fn one_state_of_a_file_is_one_job() {
        let (_dir, s) = store();
        let odd = PathBuf::from(OsStr::from_bytes(b"odd \xff\n name"));
        let first = s.arrive("w", &odd, 5, 1, 1, 0).unwrap();
        assert!(first.is_some());
        assert_eq!(s.arrive("w", &odd, 5, 1, 1, 9).unwrap(), None);
        assert!(s.arrive("w", &odd, 5, 2, 1, 9).unwrap().is_some());
        assert_eq!(s.job(first.unwrap()).unwrap().unwrap().path, odd);
    }

    #[test]
    fn every_change_is_an_event_and_survives_reopening() {
        let (dir, s) = store();
        let id = s.arrive("w", Path::new("a"), 5, 1, 1, 0).unwrap().unwrap();
        s.start(id).unwrap();
        s.hold(id, "no room", 77).unwrap();
        s.hold(id, "no room", 99).unwrap();
        assert_eq!(s.next_job(98, &[]).unwrap(), None);
        drop(s);
        let s = Store::open(&dir.path().join("jobs.sqlite")).unwrap();
        let job = s.next_job(99, &[]).unwrap().unwrap();
        assert_eq!((job.held.as_deref(), job.state.clone()), (Some("no room"), State::Waiting));
        assert_eq!(s.next_job(99, &[id]).unwrap(), None);
        s.set_state(id, &State::Done, "done", None).unwrap();
        let what: Vec<String> = s.events(id).unwrap().into_iter().map(|e| e.what).collect();
        assert_eq!(what, ["arrived", "started", "held", "done"]);
        assert!(s.open_jobs().unwrap().is_empty());
    }

    #[test]
    fn names_at_a_place_are_given_once() {
        let (_dir, s) = store();
        let a = s.arrive("w", Path::new("a"), 5, 1, 1, 0).unwrap().unwrap();
        let b = s.arrive("w", Path::new("b"), 5, 1, 2, 0).unwrap().unwrap();
        let facts = media::facts::of(Box::new(std::io::Cursor::new(WAV.to_vec()))).unwrap();
        for id in [a, b] {
            s.plan(id, &facts, &[], &[delivery(0)]).unwrap();
        }
        assert!(s.give_name(a, &delivery(0), "a.mp4").unwrap());
        assert!(!s.give_name(b, &delivery(0), "a.mp4").unwrap());
        assert!(s.give_name(b, &delivery(0), "a_2.mp4").unwrap());
        assert!(s.name_is_given("editors", "a_2.mp4").unwrap());
    }

    /// Two samples of silence.
    const WAV: &[u8] = b"RIFF\x28\0\0\0WAVEfmt \x10\0\0\0\x01\0\x01\0\x40\x1f\0\0\x80\x3e\0\0\x02\0\x10\0data\x04\0\0\0\0\0\0\0";

    #[test]
    fn a_store_of_a_newer_program_is_left_alone() {
        let (dir, s) = store();
        s.db().pragma_update(None, "user_version", 99).unwrap();
        drop(s);
        let e = Store::open(&dir.path().join("jobs.sqlite")).unwrap_err();
        assert!(matches!(e, Error::StoreTooNew { found: 99, .. }), "{e}");
        assert_eq!(State::from_name("in the post"), State::Unknown("in the post".into()));
    }
}
