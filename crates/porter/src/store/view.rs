//! Looking things up.

use super::change::{Change, Event, IfTaken, NotMade, RECIPE_VERSION, Step, TaskKey};
use super::rows::*;
use crate::clock::Micros;
use crate::files::Seen;
use crate::files::known::{Identity, Role};
use crate::files::many::Many;
use crate::history::{Past, Span};
use crate::naming::folded;
use crate::recipe::Recipe;
use crate::route::{Others, versions};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::de::DeserializeOwned;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

pub type Sql<T> = rusqlite::Result<T>;

/// The store as it is at one moment.
pub struct View<'a> {
    pub(super) db: &'a Connection,
}

/// Which jobs, the newest first or (of those that are open) the oldest first.
#[derive(Clone, Debug, Default)]
pub struct Filter {
    pub ended: bool,
    pub watch: Option<String>,
    /// Behind this job of an earlier page.
    pub after: Option<JobId>,
    /// Most rows.
    pub most: u32,
}

pub fn bytes(path: &Path) -> &[u8] {
    path.as_os_str().as_bytes()
}

fn path_of(bytes: Vec<u8>) -> PathBuf {
    PathBuf::from(OsStr::from_bytes(&bytes))
}

fn all<T, P: rusqlite::Params>(
    db: &Connection,
    sql: &str,
    params: P,
    row: impl FnMut(&Row<'_>) -> Sql<T>,
) -> Sql<Vec<T>> {
    db.prepare_cached(sql)?.query_map(params, row)?.collect()
}

/// What the open tasks of a job are about; `None` if it has none.
pub(super) fn job_state(db: &Connection, job: JobId) -> Sql<Option<State>> {
    let steps = all(db, "SELECT DISTINCT step FROM task WHERE job = ?", [job], |r| r.get::<_, String>(0))?;
    let has = |name: &str| steps.iter().any(|s| s == name);
    Ok(if has("cancel") {
        None
    } else if has("look") {
        Some(State::Waiting)
    } else if has("turn_away") {
        Some(State::TurningAway)
    } else if has("make") || has("hear") {
        Some(State::Making)
    } else if has("carry") {
        Some(State::Carrying)
    } else if has("clear") {
        Some(State::Clearing)
    } else {
        None
    })
}

pub(super) const NEXT_OPEN: &str =
    "SELECT * FROM job WHERE ended IS NULL AND id > ?1 AND (?2 IS NULL OR watch = ?2) ORDER BY id LIMIT ?3";
pub(super) const NEXT_ENDED: &str = "SELECT * FROM job INDEXED BY job_ended WHERE ended IS NOT NULL
    AND (?1 IS NULL OR (ended, id) < (SELECT ended, id FROM job WHERE id = ?1)) AND (?2 IS NULL OR watch = ?2)
    ORDER BY ended DESC, id DESC LIMIT ?3";
pub(super) const KNOWN: &str =
    "SELECT * FROM job WHERE watch = ? AND path = ? AND size = ? AND modified = ? AND inode = ?
    AND state != 'withdrawn' ORDER BY id DESC LIMIT 1";
pub(super) const CLEARED: &str = "SELECT 1 FROM job WHERE watch = ? AND path = ? AND ended IS NULL
    AND (state IN ('clearing', 'turning away') OR (original_to IS NOT NULL AND taken_to IS NULL))";
pub(super) const WORKED_ON: &str = "SELECT 1 FROM job WHERE watch = ? AND path = ? AND ended IS NULL";
pub(super) const KNOWN_BEFORE: &str =
    "SELECT * FROM job WHERE watch = ? AND inode = ? AND size = ? AND modified = ?
    AND id < ? AND content IS NOT NULL AND state IN ('done', 'cancelled') AND original_to IS NULL AND taken_to IS NULL
    ORDER BY id DESC LIMIT 1";
pub(super) const KNOWN_HERE: &str = "SELECT * FROM job WHERE watch = ? AND path = ? AND size = ? AND modified = ?
    AND id < ? AND content IS NOT NULL AND state IN ('done', 'cancelled') AND original_to IS NULL AND taken_to IS NULL
    ORDER BY id DESC LIMIT 1";
pub(super) const KNOWN_CONTENT: &str =
    "SELECT id FROM job WHERE content = ? AND watch = ? AND state = 'done' AND id < ? ORDER BY id LIMIT 1";
pub(super) const EVENTS_OF: &str = "SELECT id, at, job, change FROM event WHERE job = ? ORDER BY id";
pub(super) const EVENTS_AFTER: &str =
    "SELECT id, at, job, change FROM event WHERE id > ? ORDER BY id LIMIT ?";
pub(super) const TASKS: &str = "SELECT * FROM task ORDER BY job, step, output, place";
pub(super) const TASKS_OF: &str = "SELECT * FROM task WHERE job = ? ORDER BY step, output, place";
/// A store of an older program does not have every name in folded form.
pub(super) const GIVEN: &str = "SELECT job FROM delivery WHERE place = ?1 AND (name = ?2 OR folded = ?3)";

/// What of a job that has not ended tells when its turn is.
pub struct OpenRank {
    pub job: JobId,
    pub watch: String,
    pub path: PathBuf,
    pub priority: i64,
    pub on_hold: bool,
    /// Of its source.
    pub bytes: u64,
    /// What is made of it is little work; `None`: it was not looked at yet.
    pub light: Option<bool>,
}

/// By the kind of a source, as its facts have it: what has no moving pictures is little work.
fn is_light(kind: &str) -> bool {
    !matches!(kind, "" | "video")
}

impl View<'_> {
    /// The random id of the house this store is of.
    pub fn house(&self) -> Sql<Option<String>> {
        self.fact("house")
    }

    fn fact<T: rusqlite::types::FromSql>(&self, name: &str) -> Sql<Option<T>> {
        self.db
            .prepare_cached("SELECT value FROM fact WHERE name = ?")?
            .query_row([name], |r| r.get(0))
            .optional()
    }

    /// An older program kept transcripts in this store.
    pub fn has_old_transcripts(&self) -> Sql<bool> {
        self.db.prepare("SELECT 1 FROM sqlite_master WHERE name = 'transcript'")?.exists([])
    }

    /// The number for the next job.
    pub fn next_job(&self) -> Sql<JobId> {
        Ok(self.fact::<i64>("last_job")?.unwrap_or(0) + 1)
    }

    pub fn job(&self, id: JobId) -> Sql<Option<Job>> {
        self.db.prepare_cached("SELECT * FROM job WHERE id = ?")?.query_row([id], job).optional()
    }

    pub fn jobs(&self, f: &Filter) -> Sql<Page<Job>> {
        let sql = if f.ended { NEXT_ENDED } else { NEXT_OPEN };
        let after = if f.ended { f.after } else { Some(f.after.unwrap_or(0)) };
        let rows = all(self.db, sql, params![after, f.watch, f.most], job)?;
        let next = rows.last().filter(|_| rows.len() == f.most as usize).map(|j| j.id);
        Ok(Page { rows, next })
    }

    /// Jobs that ended before a moment, in the order of their numbers behind one of them.
    pub fn ended_before(&self, before: Micros, after: JobId, most: u32) -> Sql<Vec<Job>> {
        const SQL: &str =
            "SELECT * FROM job WHERE ended IS NOT NULL AND ended < ? AND id > ? ORDER BY id LIMIT ?";
        all(self.db, SQL, params![before, after, most], job)
    }

    /// Every job that has not ended.
    pub fn open_ranks(&self) -> Sql<Vec<OpenRank>> {
        let sql = "SELECT id, watch, priority, on_hold, size, coalesce(json_extract(facts, '$.kind'), ''), path FROM job INDEXED BY job_open WHERE ended IS NULL ORDER BY id";
        all(self.db, sql, [], |r| {
            Ok(OpenRank {
                job: r.get(0)?,
                watch: r.get(1)?,
                priority: r.get(2)?,
                on_hold: r.get(3)?,
                bytes: r.get::<_, i64>(4)? as u64,
                light: Some(r.get::<_, String>(5)?).filter(|k| !k.is_empty()).map(|k| is_light(&k)),
                path: path_of(r.get(6)?),
            })
        })
    }

    /// What is made of a job is little work, as far as is known.
    pub fn is_light(&self, job: JobId) -> Sql<bool> {
        let sql = "SELECT coalesce(json_extract(facts, '$.kind'), '') FROM job WHERE id = ?";
        let kind: Option<String> = self.db.prepare_cached(sql)?.query_row([job], |r| r.get(0)).optional()?;
        Ok(kind.is_some_and(|k| is_light(&k)))
    }

    /// The last event that somebody was told of by this notice.
    pub fn noticed(&self, notice: &str) -> Sql<Option<i64>> {
        self.fact(&format!("noticed {notice}"))
    }

    /// Jobs that ended, the latest first, with sums of what was made of them.
    pub fn past(&self, span: &Span) -> Sql<Vec<Past>> {
        const SQL: &str = "SELECT j.id, j.watch, j.path, j.size, j.arrived, j.ended, j.state, j.reason,
                json_extract(j.facts, '$.duration.seconds'),
                (SELECT count(*) FROM delivery d WHERE d.job = j.id AND d.delivered IS NOT NULL),
                (SELECT sum(json_extract(f.value, '$.bytes')) FROM output o, delivery d, json_each(o.files) f
                    WHERE o.job = j.id AND d.job = j.id AND d.output = o.number AND d.delivered IS NOT NULL),
                (SELECT max(delivered) FROM delivery d WHERE d.job = j.id)
            FROM job j INDEXED BY job_ended
            WHERE j.ended IS NOT NULL AND j.ended >= ?1 AND j.ended < ?2
                AND (?3 IS NULL OR j.watch = ?3) AND (?4 IS NULL OR j.state = ?4)
            ORDER BY j.ended DESC, j.id DESC";
        let (since, until) = (span.since.unwrap_or(i64::MIN), span.until.unwrap_or(i64::MAX));
        let state = span.state.as_ref().map(State::name);
        all(self.db, SQL, params![since, until, span.watch, state], |r| {
            let count = |n: usize| r.get::<_, Option<i64>>(n).map(|n| n.unwrap_or(0) as u64);
            Ok(Past {
                job: r.get(0)?,
                watch: r.get(1)?,
                path: path_of(r.get(2)?).to_string_lossy().into_owned(),
                bytes: count(3)?,
                arrived: r.get(4)?,
                ended: r.get(5)?,
                state: State::from_name(&r.get::<_, String>(6)?),
                reason: r.get(7)?,
                media: r.get(8)?,
                delivered: count(9)?,
                delivered_bytes: count(10)?,
                last_delivered: r.get(11)?,
            })
        })
    }

    /// Outputs with a file of this content: job and preset.
    pub fn made_as(&self, digest: &str) -> Sql<Vec<(JobId, String)>> {
        const SQL: &str = "SELECT DISTINCT o.job, o.preset FROM output o, json_each(o.files) f
            WHERE o.files IS NOT NULL AND json_extract(f.value, '$.digest') = ? ORDER BY o.job";
        all(self.db, SQL, [digest], |r| Ok((r.get(0)?, r.get(1)?)))
    }

    /// Deliveries whose last part of the name is this: job and place.
    pub fn delivered_as(&self, name: &str) -> Sql<Vec<(JobId, String)>> {
        const SQL: &str = "SELECT DISTINCT job, place FROM delivery
            WHERE delivered IS NOT NULL AND (name = ?1 OR substr(name, -length(?1) - 1) = '/' || ?1) ORDER BY job";
        all(self.db, SQL, [name], |r| Ok((r.get(0)?, r.get(1)?)))
    }

    /// How many jobs have not ended.
    pub fn open_count(&self) -> Sql<u64> {
        self.db
            .prepare_cached("SELECT count(*) FROM job INDEXED BY job_open WHERE ended IS NULL")?
            .query_row([], |r| r.get::<_, i64>(0))
            .map(|n| n as u64)
    }

    /// How many jobs ended in each state.
    pub fn tally(&self) -> Sql<Vec<(State, u64)>> {
        all(self.db, "SELECT state, jobs FROM tally ORDER BY state", [], |r| {
            Ok((State::from_name(&r.get::<_, String>(0)?), r.get::<_, i64>(1)? as u64))
        })
    }

    /// The job that this very state of a file is known by, whatever else of it was touched.
    pub fn known(&self, watch: &str, path: &Path, seen: &Seen) -> Sql<Option<Job>> {
        self.db
            .prepare_cached(KNOWN)?
            .query_row(params![watch, bytes(path), seen.size as i64, seen.modified, seen.inode as i64], job)
            .optional()
    }

    /// True if the original under this path is just being moved or removed.
    pub fn is_being_cleared(&self, watch: &str, path: &Path) -> Sql<bool> {
        self.db.prepare_cached(CLEARED)?.exists(params![watch, bytes(path)])
    }

    /// True if there is an open job of what lies under this path.
    pub fn is_worked_on(&self, watch: &str, path: &Path) -> Sql<bool> {
        self.db.prepare_cached(WORKED_ON)?.exists(params![watch, bytes(path)])
    }

    /// The first job of the watch that was done and had this content.
    pub fn known_content(&self, job: &Job, content: &str) -> Sql<Option<JobId>> {
        self.db
            .prepare_cached(KNOWN_CONTENT)?
            .query_row(params![content, job.watch, job.id], |r| r.get(0))
            .optional()
    }

    /// An earlier job of the very same file, by all but its attributes and its name, whose original was left where it is. What went
    /// away and comes back is another arrival, and so is what nothing came of.
    pub fn known_before(&self, job: &Job) -> Sql<Option<Job>> {
        let s = &job.seen;
        let find = |sql: &str, by: &dyn rusqlite::ToSql| {
            let mut q = self.db.prepare_cached(sql)?;
            q.query_row(params![job.watch, by, s.size as i64, s.modified, job.id], self::job).optional()
        };
        // Not every file system keeps numbers: first by the path, for many files may have the number 0.
        match find(KNOWN_HERE, &bytes(&job.path))? {
            None => find(KNOWN_BEFORE, &(s.inode as i64)),
            known => Ok(known),
        }
    }

    /// How many other arrivals there are of what this is a version of.
    pub fn others(&self, watch: &str, path: &Path, many: Option<&Many>, but: Option<JobId>) -> Sql<Others> {
        let source = versions::of(&known_as(path, many));
        let thing = source.thing.to_string_lossy();
        let but = but.unwrap_or(JobId::MAX);
        let mut q = self.db.prepare_cached(
            "SELECT count(*) FILTER (WHERE id < ?1), count(*) FILTER (WHERE number > ?2 AND id != ?1)
             FROM job WHERE watch = ?3 AND thing = ?4 AND state != 'withdrawn'",
        )?;
        q.query_row(params![but, source.number, watch, thing], |r| {
            Ok(Others { earlier: r.get(0)?, newer: r.get(1)? })
        })
    }

    /// Jobs of the same source as this one, with the version of each.
    pub fn versions(&self, job: JobId) -> Sql<Vec<(JobId, u32)>> {
        const SQL: &str =
            "SELECT o.id, o.number FROM job j JOIN job o ON o.watch = j.watch AND o.thing = j.thing
             WHERE j.id = ? AND o.id != j.id AND o.state != 'withdrawn' ORDER BY o.id DESC LIMIT 20";
        all(self.db, SQL, [job], |r| Ok((r.get(0)?, r.get(1)?)))
    }

    /// When a watch was used first, if that was noted.
    pub fn first_use(&self, watch: &str) -> Sql<Option<Micros>> {
        self.fact(&format!("first use {watch}"))
    }

    /// Nothing more is to be begun.
    pub fn is_paused(&self) -> Sql<bool> {
        Ok(self.fact::<i64>("paused")?.unwrap_or(0) != 0)
    }

    /// Every task, in the order of jobs.
    pub fn tasks(&self) -> Sql<Vec<Task>> {
        all(self.db, TASKS, [], task)
    }

    pub fn tasks_of(&self, id: JobId) -> Sql<Vec<Task>> {
        all(self.db, TASKS_OF, [id], task)
    }

    pub fn task(&self, key: &TaskKey) -> Sql<Option<Task>> {
        Ok(self.tasks_of(key.job)?.into_iter().find(|t| t.key == *key))
    }

    pub fn outputs(&self, id: JobId) -> Sql<Vec<Output>> {
        all(self.db, "SELECT * FROM output WHERE job = ? ORDER BY number", [id], output)
    }

    pub fn deliveries(&self, id: JobId) -> Sql<Vec<Delivery>> {
        all(self.db, "SELECT * FROM delivery WHERE job = ? ORDER BY output, place", [id], delivery)
    }

    /// What a preset made, the latest first: job, output, bytes, and the length of the source in seconds.
    pub fn made_by(&self, preset: &str, version: &str, most: u32) -> Sql<Vec<(JobId, u32, u64, f64)>> {
        const SQL: &str = "SELECT o.job, o.number,
                (SELECT sum(json_extract(f.value, '$.bytes')) FROM json_each(o.files) f),
                coalesce(json_extract(j.facts, '$.duration.seconds'), 0.0)
            FROM output o JOIN job j ON j.id = o.job
            WHERE o.preset = ? AND o.preset_version = ? AND o.files IS NOT NULL ORDER BY o.job DESC LIMIT ?";
        all(self.db, SQL, params![preset, version, most], |r| {
            Ok((r.get(0)?, r.get(1)?, r.get::<_, Option<i64>>(2)?.unwrap_or(0) as u64, r.get(3)?))
        })
    }

    /// The latest jobs of a watch that were done, among the latest of the house.
    pub fn done_lately(&self, watch: &str, most: u32) -> Sql<Vec<(JobId, u64)>> {
        const SQL: &str = "SELECT id, size FROM (
                SELECT id, size, watch, state FROM job INDEXED BY job_ended
                WHERE ended IS NOT NULL ORDER BY ended DESC, id DESC LIMIT 500)
            WHERE watch = ? AND state = 'done' LIMIT ?";
        all(self.db, SQL, params![watch, most], |r| Ok((r.get(0)?, r.get::<_, i64>(1)? as u64)))
    }

    /// Whether a file of a network place was fetched as it is.
    pub fn was_fetched(&self, watch: &str, path: &str, bytes: u64, mark: &str) -> Sql<bool> {
        self.db
            .prepare_cached("SELECT 1 FROM fetched WHERE watch = ? AND path = ? AND bytes = ? AND mark = ?")?
            .exists(params![watch, path, bytes as i64, mark])
    }

    /// What was fetched for a watch and is known by it: path, bytes and mark.
    pub fn fetched(&self, watch: &str) -> Sql<Vec<(String, u64, String)>> {
        all(self.db, "SELECT path, bytes, mark FROM fetched WHERE watch = ?", [watch], |r| {
            Ok((r.get(0)?, r.get::<_, i64>(1)? as u64, r.get(2)?))
        })
    }

    /// The path of the file that was fetched into this part.
    pub fn fetched_as(&self, watch: &str, stage: &str) -> Sql<Option<String>> {
        self.db
            .prepare_cached("SELECT path FROM fetched WHERE watch = ? AND stage = ?")?
            .query_row([watch, stage], |r| r.get(0))
            .optional()
    }

    /// Jobs of which something is published with fields, the latest first.
    pub fn jobs_with_items(&self, open: bool, most: u32) -> Sql<Vec<JobId>> {
        const SQL: &str = "SELECT DISTINCT o.job FROM output o JOIN job j ON j.id = o.job
            WHERE o.item IS NOT NULL AND (NOT ?1 OR j.ended IS NULL) ORDER BY o.job DESC LIMIT ?2";
        all(self.db, SQL, params![open, most], |r| r.get(0))
    }

    /// Whether a file belongs to that of a job that has not ended.
    pub fn belongs_to_job(&self, watch: &str, path: &Path) -> Sql<bool> {
        const SQL: &str = "SELECT * FROM job INDEXED BY job_open
            WHERE ended IS NULL AND watch = ? AND beside IS NOT NULL";
        let name = path.file_name().map(Path::new);
        let open = all(self.db, SQL, [watch], job)?;
        Ok(open.iter().any(|j| {
            j.path.parent() == path.parent() && j.beside.iter().any(|b| Some(b.name.as_path()) == name)
        }))
    }

    /// How many jobs have a step that waits for something.
    pub fn held_count(&self) -> Sql<u64> {
        self.db
            .prepare_cached("SELECT count(DISTINCT job) FROM task WHERE cause IS NOT NULL")?
            .query_row([], |r| r.get::<_, i64>(0))
            .map(|n| n as u64)
    }

    /// Where a counter stands.
    pub fn counted(&self, scope: &str) -> Sql<i64> {
        let found = self
            .db
            .prepare_cached("SELECT value FROM counter WHERE scope = ?")?
            .query_row([scope], |r| r.get(0))
            .optional()?;
        Ok(found.unwrap_or(0))
    }

    /// The numbers of the configurations that were in force, and since when; the last is the newest.
    pub fn configurations(&self) -> Sql<Vec<(i64, i64)>> {
        all(self.db, "SELECT number, at FROM configuration ORDER BY number", [], |r| {
            Ok((r.get(0)?, r.get(1)?))
        })
    }

    pub fn configuration(&self, number: i64) -> Sql<Option<String>> {
        self.db
            .prepare_cached("SELECT text FROM configuration WHERE number = ?")?
            .query_row([number], |r| r.get(0))
            .optional()
    }

    /// Facts of the jobs that arrived since, the latest first: with the path, the watch, and what was planned.
    pub fn facts_since(&self, since: i64, most: u32) -> Sql<Vec<(Job, serde_json::Value)>> {
        const SQL: &str =
            "SELECT * FROM job WHERE arrived >= ? AND facts IS NOT NULL ORDER BY id DESC LIMIT ?";
        all(self.db, SQL, params![since, most], |r| Ok((job(r)?, read(r.get("facts")?).unwrap_or_default())))
    }

    /// What was found of a job's source, if it was looked at.
    pub fn facts(&self, job: JobId) -> Sql<Option<serde_json::Value>> {
        let text: Option<Option<String>> = self
            .db
            .prepare_cached("SELECT facts FROM job WHERE id = ?")?
            .query_row([job], |r| r.get(0))
            .optional()?;
        Ok(read(text.flatten()))
    }

    /// The job whose delivery has this name at this place and is not over.
    pub fn carries_name(&self, place: &str, name: &str) -> Sql<Option<JobId>> {
        self.db
            .prepare_cached("SELECT job FROM delivery WHERE place = ? AND name = ? AND delivered IS NULL")?
            .query_row([place, name], |r| r.get(0))
            .optional()
    }

    /// True if some job has, or will have, this name at this place, or one that differs only in case or Unicode form.
    pub fn name_is_given(&self, place: &str, name: &str) -> Sql<bool> {
        self.db.prepare_cached(GIVEN)?.exists([place, name, &folded(name)])
    }

    pub fn events(&self, id: JobId) -> Sql<Vec<Event>> {
        all(self.db, EVENTS_OF, [id], event)
    }

    /// Events behind `after` (an event's number), at most so many.
    pub fn events_after(&self, after: i64, most: u32) -> Sql<Vec<Event>> {
        all(self.db, EVENTS_AFTER, params![after, most], event)
    }

    pub fn last_event(&self) -> Sql<i64> {
        self.db.query_row("SELECT coalesce(max(id), 0) FROM event", [], |r| r.get(0))
    }

    /// How a folder of the house is known, and at which path.
    pub fn folder(&self, role: Role, name: &str) -> Sql<Option<(PathBuf, Identity)>> {
        let role = serde_json::to_value(role).unwrap_or_default();
        self.db
            .prepare_cached("SELECT path, identity FROM folder WHERE role = ? AND name = ?")?
            .query_row(params![role.as_str(), name], |r| {
                Ok((path_of(r.get(0)?), serde_json::from_str(&r.get::<_, String>(1)?).unwrap_or_default()))
            })
            .optional()
    }

    /// Every table but the record, as text: two stores with the same record are the same here.
    pub fn dump(&self) -> Sql<String> {
        let mut out = Vec::new();
        for table in [
            "fact",
            "job",
            "task",
            "output",
            "delivery",
            "tally",
            "folder",
            "counter",
            "configuration",
            "fetched",
        ] {
            let mut q = self.db.prepare(&format!("SELECT * FROM {table}"))?;
            let n = q.column_count();
            let mut rows = q.query([])?;
            while let Some(row) = rows.next()? {
                let mut line = table.to_owned();
                for i in 0..n {
                    line.push_str(&format!(" {:?}", row.get::<_, rusqlite::types::Value>(i)?));
                }
                out.push(line);
            }
        }
        out.sort();
        Ok(out.join("\n"))
    }
}

fn job(r: &Row<'_>) -> Sql<Job> {
    Ok(Job {
        id: r.get("id")?,
        watch: r.get("watch")?,
        path: path_of(r.get("path")?),
        seen: Seen {
            size: r.get::<_, i64>("size")? as u64,
            modified: r.get("modified")?,
            changed: r.get("changed")?,
            inode: r.get::<_, i64>("inode")? as u64,
        },
        arrived: r.get("arrived")?,
        // A store of an older program, only looked at, does not have these.
        many: read(r.get("frames").unwrap_or(None)),
        beside: read(r.get("beside").unwrap_or(None)).unwrap_or_default(),
        priority: r.get("priority").unwrap_or(0),
        on_hold: r.get("on_hold").unwrap_or(false),
        state: State::from_name(&r.get::<_, String>("state")?),
        reason: r.get("reason")?,
        original_to: r.get::<_, Option<Vec<u8>>>("original_to")?.map(path_of),
        original_stage: r.get("original_stage")?,
        taken_to: r.get::<_, Option<Vec<u8>>>("taken_to").unwrap_or(None).map(path_of),
        content: r.get("content")?,
        counts: read(r.get("counts").unwrap_or(None)),
        configuration: r.get("configuration").unwrap_or(None),
        started: r.get("started")?,
        ended: r.get("ended")?,
    })
}

fn read<T: DeserializeOwned>(text: Option<String>) -> Option<T> {
    serde_json::from_str(&text?).ok()
}

fn task(r: &Row<'_>) -> Sql<Task> {
    let step: String = r.get("step")?;
    let step = match step.as_str() {
        "look" => Step::Look,
        "make" => Step::Make,
        "hear" => Step::Hear,
        "carry" => Step::Carry { output: r.get("output")?, place: r.get("place")? },
        "clear" => Step::Clear,
        "turn_away" => Step::TurnAway,
        "cancel" => Step::Cancel,
        _ => Step::Unknown,
    };
    Ok(Task {
        key: TaskKey { job: r.get("job")?, step },
        tries: r.get("tries")?,
        cause: read(r.get("cause")?),
        next_try: r.get("next_try")?,
    })
}

fn recipe(text: &str, version: u32) -> Result<Recipe, String> {
    if version > RECIPE_VERSION {
        return Err(format!(
            "it was planned by a newer program (form {version}; this program knows {RECIPE_VERSION})"
        ));
    }
    serde_json::from_str(text).map_err(|e| format!("what was planned cannot be read any more ({e})"))
}

fn output(r: &Row<'_>) -> Sql<Output> {
    let why = r.get::<_, Option<String>>("why")?.unwrap_or_default();
    let end: String = r.get("end")?;
    Ok(Output {
        number: r.get("number")?,
        rule: r.get("rule")?,
        preset: r.get("preset")?,
        preset_version: r.get("preset_version")?,
        recipe: recipe(&r.get::<_, String>("recipe")?, r.get("recipe_version")?),
        heard: r.get("heard")?,
        extension: r.get("extension")?,
        item: read(r.get("item").unwrap_or(None)),
        end: match end.as_str() {
            "made" => OutputEnd::Made {
                files: read(r.get("files")?).unwrap_or_default(),
                made: read(r.get("made")?).unwrap_or_default(),
            },
            "not_applicable" => OutputEnd::NotMade { end: NotMade::NotApplicable, why },
            "failed" => OutputEnd::NotMade { end: NotMade::Failed, why },
            _ => OutputEnd::Open,
        },
    })
}

fn delivery(r: &Row<'_>) -> Sql<Delivery> {
    Ok(Delivery {
        output: r.get("output")?,
        place: r.get("place")?,
        wanted: r.get("wanted")?,
        name: r.get("name")?,
        ticket: read(r.get("ticket")?),
        delivered: r.get("delivered")?,
        proof: read(r.get("proof")?),
        if_taken: r
            .get::<_, String>("if_taken")
            .ok()
            .and_then(|t| IfTaken::from_name(&t))
            .unwrap_or_default(),
        aside: r.get("aside").unwrap_or(None),
        address: r.get("address").unwrap_or(None),
        left_out: r.get("left_out").unwrap_or(None),
        failed: r.get("failed").unwrap_or(false),
    })
}

fn event(r: &Row<'_>) -> Sql<Event> {
    let text: String = r.get("change")?;
    let change = serde_json::from_str(&text).unwrap_or(Change::Unknown);
    Ok(Event { id: r.get("id")?, at: r.get("at")?, job: r.get("job")?, change })
}
