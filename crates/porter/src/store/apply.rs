//! What each change does to the store: a function of the change and of what stands there, and of nothing else.

use super::change::{CHANGE_VERSION, Change, PlannedOutput, Step};
use super::rows::{JobId, State, known_as};
use super::view::{Sql, bytes, job_state};
use crate::clock::Micros;
use crate::item::{Item, Said};
use crate::naming::folded;
use crate::route::versions;
use rusqlite::{Connection, OptionalExtension, params};

/// Records a change and applies it; gives its number.
pub fn apply(db: &Connection, at: Micros, change: &Change) -> Sql<i64> {
    let text = json(change)?;
    let job = change.job();
    db.prepare_cached("INSERT INTO event (at, job, version, change) VALUES (?, ?, ?, ?)")?
        .execute(params![at, job, CHANGE_VERSION, text])?;
    let id = db.last_insert_rowid();
    act(db, at, change)?;
    if let Some(job) = job {
        settle(db, job)?;
    }
    Ok(id)
}

fn json(value: &impl serde::Serialize) -> Sql<String> {
    serde_json::to_string(value).map_err(|e| rusqlite::Error::ToSqlConversionFailure(e.into()))
}

fn act(db: &Connection, at: Micros, change: &Change) -> Sql<()> {
    let run =
        |sql: &str, params: &[&dyn rusqlite::ToSql]| db.prepare_cached(sql)?.execute(params).map(|_| ());
    match change {
        Change::Named { house } => {
            run("INSERT OR REPLACE INTO fact (name, value) VALUES ('house', ?)", &[house])
        }
        Change::Arrived { job, watch, path, seen, priority, many, beside } => {
            let source = known_as(path, many.as_deref());
            let source = versions::of(&source);
            run(
                "INSERT INTO job (id, watch, path, size, modified, changed, inode, arrived, priority, frames, beside,
                     thing, number, state)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'waiting')",
                params![
                    job,
                    watch,
                    bytes(path),
                    seen.size as i64,
                    seen.modified,
                    seen.changed,
                    seen.inode as i64,
                    at,
                    priority,
                    many.as_ref().map(json).transpose()?,
                    (!beside.is_empty()).then(|| json(beside)).transpose()?,
                    source.thing.to_string_lossy(),
                    source.number
                ],
            )?;
            run("INSERT OR REPLACE INTO fact (name, value) VALUES ('last_job', ?)", &[job])?;
            task(db, *job, &Step::Look)
        }
        Change::Begun { job } => {
            run("UPDATE job SET started = coalesce(started, ?) WHERE id = ?", params![at, job])
        }
        Change::Planned { job, facts, outputs, configuration } => {
            run(
                "UPDATE job SET facts = ?, configuration = ? WHERE id = ?",
                params![json(facts)?, configuration, job],
            )?;
            drop_tasks(db, *job)?;
            run("DELETE FROM delivery WHERE job = ?", &[job])?;
            run("DELETE FROM output WHERE job = ?", &[job])?;
            outputs.iter().try_for_each(|o| planned(db, *job, o))?;
            make_what_is_open(db, *job)
        }
        Change::Made { job, output, files, made, .. } => {
            run(
                "UPDATE output SET end = 'made', why = NULL, files = ?, made = ? WHERE job = ? AND number = ?",
                params![json(files)?, json(made)?, job, output],
            )?;
            run(
                "INSERT OR IGNORE INTO task (job, step, output, place)
                 SELECT job, 'carry', output, place FROM delivery
                 WHERE job = ? AND output = ? AND delivered IS NULL AND left_out IS NULL
                     AND EXISTS (SELECT 1 FROM job j WHERE j.id = delivery.job AND j.ended IS NULL)",
                params![job, output],
            )?;
            make_what_is_open(db, *job)
        }
        Change::NotMade { job, output, end, why, .. } => {
            let end = json(end)?;
            run(
                "UPDATE output SET end = ?, why = ? WHERE job = ? AND number = ?",
                params![end.trim_matches('"'), why, job, output],
            )?;
            make_what_is_open(db, *job)
        }
        Change::Remade { job, output, .. } => {
            run(
                "UPDATE output SET end = 'open', why = NULL, files = NULL, made = NULL WHERE job = ? AND number = ?",
                params![job, output],
            )?;
            run("DELETE FROM task WHERE job = ? AND step = 'carry' AND output = ?", params![job, output])?;
            make_what_is_open(db, *job)
        }
        Change::Counted { job, counts, scopes } => {
            run("UPDATE job SET counts = ? WHERE id = ?", params![json(counts)?, job])?;
            scopes.iter().try_for_each(|(scope, value)| {
                run("INSERT OR REPLACE INTO counter (scope, value) VALUES (?, ?)", params![scope, value])
            })
        }
        Change::Carrying { job, output, place, name, ticket, aside, .. } => {
            if let Some(aside) = aside {
                // Whoever was delivered under the name is found under the other from now on.
                run(
                    "UPDATE delivery SET name = ?1, folded = ?6 WHERE rowid = (
                         SELECT rowid FROM delivery WHERE place = ?2 AND name = ?3 AND delivered IS NOT NULL
                             AND NOT (job = ?4 AND output = ?5) ORDER BY delivered DESC, rowid DESC LIMIT 1)",
                    params![aside, place, name, job, output, folded(aside)],
                )?;
            }
            run(
                "UPDATE delivery SET name = ?, folded = ?, ticket = ?, aside = ?
                 WHERE job = ? AND output = ? AND place = ?",
                params![name, folded(name), json(ticket)?, aside, job, output, place],
            )
        }
        Change::LeftOut { job, output, place, failed, why, .. } => {
            run(
                "UPDATE delivery SET name = NULL, folded = NULL, ticket = NULL, aside = NULL, left_out = ?, failed = ?
                 WHERE job = ? AND output = ? AND place = ?",
                params![why, failed, job, output, place],
            )?;
            drop_task(db, *job, &Step::Carry { output: *output, place: place.clone() })
        }
        Change::Fetched { watch, path, bytes, mark, stage } => run(
            "INSERT OR REPLACE INTO fetched (watch, path, bytes, mark, stage, at) VALUES (?, ?, ?, ?, ?, ?)",
            params![watch, path, *bytes as i64, mark, stage, at],
        ),
        Change::Tidied { watch, path, bytes, mark } => run(
            "DELETE FROM fetched WHERE watch = ? AND path = ? AND bytes = ? AND mark = ?",
            params![watch, path, *bytes as i64, mark],
        ),
        Change::Accepted { number, text } => run(
            "INSERT OR REPLACE INTO configuration (number, at, text) VALUES (?, ?, ?)",
            params![number, at, text],
        ),
        Change::ItemSet { job, output, fields, .. } => change_item(db, *job, *output, |item| {
            item.fields.extend(fields.clone());
        }),
        Change::Reviewed { job, output, yes, by, why } => {
            change_item(db, *job, *output, |item| {
                item.said = Some(Said { yes: *yes, by: by.clone(), why: why.clone(), at });
            })?;
            if *yes {
                return Ok(());
            }
            let why = format!("refused by {by}: {}", why.as_deref().unwrap_or("no reason was given"));
            run(
                "UPDATE delivery SET left_out = ? WHERE job = ? AND output = ? AND delivered IS NULL",
                params![why, job, output],
            )?;
            run("DELETE FROM task WHERE job = ? AND step = 'carry' AND output = ?", params![job, output])
        }
        Change::Delivered { job, output, place, name, proof, address, .. } => {
            run(
                "UPDATE delivery SET name = ?, folded = ?, delivered = ?, proof = ?, address = ?
                 WHERE job = ? AND output = ? AND place = ?",
                params![name, folded(name), at, json(proof)?, address, job, output, place],
            )?;
            drop_task(db, *job, &Step::Carry { output: *output, place: place.clone() })
        }
        Change::AllDelivered { job } => task(db, *job, &Step::Clear),
        Change::Held { task, cause, next_try } => {
            let (step, output, place) = parts(&task.step);
            run(
                "UPDATE task SET cause = ?, next_try = ? WHERE job = ? AND step = ? AND output = ? AND place = ?",
                params![json(cause)?, next_try, task.job, step, output, place],
            )
        }
        Change::Broke { task, .. } => {
            let (step, output, place) = parts(&task.step);
            run(
                "UPDATE task SET tries = tries + 1 WHERE job = ? AND step = ? AND output = ? AND place = ?",
                params![task.job, step, output, place],
            )
        }
        Change::MovingOriginal { job, to, stage, .. } => run(
            "UPDATE job SET original_to = ?, original_stage = ? WHERE id = ?",
            params![bytes(to), stage, job],
        ),
        Change::RemovingOriginal { job } => {
            run("UPDATE job SET original_to = NULL, original_stage = NULL WHERE id = ?", &[job])
        }
        Change::TakenIn { job, to, seen, beside } => run(
            "UPDATE job SET taken_to = ?, size = ?, modified = ?, changed = ?, inode = ?, beside = ?,
                 original_to = NULL, original_stage = NULL WHERE id = ?",
            params![
                bytes(to),
                seen.size as i64,
                seen.modified,
                seen.changed,
                seen.inode as i64,
                (!beside.is_empty()).then(|| json(beside)).transpose()?,
                job
            ],
        ),
        Change::Done { job, content, .. } => {
            run("UPDATE job SET content = coalesce(?, content) WHERE id = ?", params![content, job])?;
            end(db, at, *job, &State::Done)
        }
        Change::TurningAway { job, reason } => {
            drop_tasks(db, *job)?;
            run(
                "UPDATE job SET reason = ?, original_to = NULL, original_stage = NULL WHERE id = ?",
                params![reason, job],
            )?;
            task(db, *job, &Step::TurnAway)
        }
        Change::TurnedAway { job, at: place } => {
            run("UPDATE job SET original_to = ? WHERE id = ?", params![bytes(place), job])?;
            end(db, at, *job, &State::TurnedAway)
        }
        Change::Withdrawn { job, reason } => {
            run("UPDATE job SET reason = ? WHERE id = ?", params![reason, job])?;
            run("DELETE FROM delivery WHERE job = ? AND delivered IS NULL AND ticket IS NULL", &[job])?;
            end(db, at, *job, &State::Withdrawn)
        }
        Change::Cancelling { job } => {
            drop_tasks(db, *job)?;
            task(db, *job, &Step::Cancel)
        }
        Change::Cancelled { job } => {
            run("DELETE FROM delivery WHERE job = ? AND delivered IS NULL", &[job])?;
            end(db, at, *job, &State::Cancelled)
        }
        Change::Forgotten { jobs } => jobs.iter().try_for_each(|job| {
            for table in ["event", "delivery", "output", "task"] {
                run(&format!("DELETE FROM {table} WHERE job = ?"), &[job])?;
            }
            run("DELETE FROM job WHERE id = ? AND ended IS NOT NULL", &[job])
        }),
        Change::Again { job } => {
            run(
                "UPDATE tally SET jobs = jobs - 1
                 WHERE state = (SELECT state FROM job WHERE id = ? AND ended IS NOT NULL)",
                &[job],
            )?;
            run(
                "UPDATE job SET state = 'waiting', ended = NULL, started = NULL, reason = NULL, content = NULL,
                     original_to = NULL, original_stage = NULL WHERE id = ? AND ended IS NOT NULL",
                &[job],
            )?;
            task(db, *job, &Step::Look)
        }
        Change::OnHold { job, yes } => {
            run("UPDATE job SET on_hold = ? WHERE id = ? AND ended IS NULL", params![i64::from(*yes), job])
        }
        Change::Ranked { job, priority } => {
            run("UPDATE job SET priority = ? WHERE id = ? AND ended IS NULL", params![priority, job])
        }
        Change::Noticed { notice, through, .. } => run(
            "INSERT OR REPLACE INTO fact (name, value) VALUES ('noticed ' || ?, ?)",
            params![notice, through],
        ),
        Change::Paused { yes } => {
            run("INSERT OR REPLACE INTO fact (name, value) VALUES ('paused', ?)", params![i64::from(*yes)])
        }
        Change::Touched { job, seen, path } => run(
            "UPDATE job SET size = ?, modified = ?, changed = ?, inode = ?, path = coalesce(?, path) WHERE id = ?",
            params![
                seen.size as i64,
                seen.modified,
                seen.changed,
                seen.inode as i64,
                path.as_ref().map(|p| bytes(p)),
                job
            ],
        ),
        Change::Content { job, content } => {
            run("UPDATE job SET content = ? WHERE id = ?", params![content, job])
        }
        Change::SameContent { version: true, .. } => Ok(()),
        Change::SameContent { job, .. } => {
            drop_tasks(db, *job)?;
            task(db, *job, &Step::Clear)
        }
        Change::FolderKnown { role, name, path, identity } => run(
            "INSERT OR REPLACE INTO folder (role, name, path, identity) VALUES (?, ?, ?, ?)",
            params![json(role)?.trim_matches('"'), name, bytes(path), json(identity)?],
        ),
        Change::FirstUsed { watch } => {
            run("INSERT OR IGNORE INTO fact (name, value) VALUES ('first use ' || ?, ?)", params![watch, at])
        }
        Change::Started { .. }
        | Change::NotNoticed { .. }
        | Change::Stopped
        | Change::Configured { .. }
        | Change::WatchLost { .. }
        | Change::WatchBack { .. }
        | Change::NotFetched { .. }
        | Change::Told { .. }
        | Change::DiskLow { .. }
        | Change::RoomAgain { .. }
        | Change::Unknown => Ok(()),
    }
}

/// What is published with an output, as it is and as it becomes.
fn change_item(db: &Connection, job: JobId, output: u32, change: impl FnOnce(&mut Item)) -> Sql<()> {
    let text: Option<String> = db
        .prepare_cached("SELECT item FROM output WHERE job = ? AND number = ?")?
        .query_row(params![job, output], |r| r.get(0))
        .optional()?
        .flatten();
    let mut item: Item = text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
    change(&mut item);
    db.prepare_cached("UPDATE output SET item = ? WHERE job = ? AND number = ?")?
        .execute(params![json(&item)?, job, output])
        .map(|_| ())
}

fn planned(db: &Connection, job: JobId, o: &PlannedOutput) -> Sql<()> {
    db.prepare_cached(
        "INSERT INTO output (job, number, rule, preset, preset_version, recipe, recipe_version, heard, extension, item, end)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'open')",
    )?
    .execute(params![
        job,
        o.number,
        o.rule,
        o.preset,
        o.preset_version,
        json(&o.recipe)?,
        o.recipe_version,
        o.heard,
        o.extension,
        o.item.as_ref().map(json).transpose()?
    ])?;
    for (place, wanted) in &o.to {
        db.prepare_cached(
            "INSERT OR IGNORE INTO delivery (job, output, place, wanted, if_taken) VALUES (?, ?, ?, ?, ?)",
        )?
        .execute(params![job, o.number, place, wanted, o.if_taken.name()])?;
    }
    Ok(())
}

/// A task by the columns that name it.
pub fn parts(step: &Step) -> (&'static str, i64, &str) {
    match step {
        Step::Carry { output, place } => (step.name(), i64::from(*output), place),
        _ => (step.name(), -1, ""),
    }
}

/// A job that ended has nothing to do any more, whatever of it is still told.
fn task(db: &Connection, job: JobId, step: &Step) -> Sql<()> {
    let (step, output, place) = parts(step);
    db.prepare_cached(
        "INSERT OR IGNORE INTO task (job, step, output, place)
         SELECT id, ?2, ?3, ?4 FROM job WHERE id = ?1 AND ended IS NULL",
    )?
    .execute(params![job, step, output, place])
    .map(|_| ())
}

fn drop_task(db: &Connection, job: JobId, step: &Step) -> Sql<()> {
    let (step, output, place) = parts(step);
    db.prepare_cached("DELETE FROM task WHERE job = ? AND step = ? AND output = ? AND place = ?")?
        .execute(params![job, step, output, place])
        .map(|_| ())
}

/// What a job has to do is another thing from now on; that it is to be cancelled stays.
fn drop_tasks(db: &Connection, job: JobId) -> Sql<()> {
    db.prepare_cached("DELETE FROM task WHERE job = ? AND step != 'cancel'")?.execute([job]).map(|_| ())
}

/// The making of a job is over when none of its outputs is open. Hearing comes behind making: a page of words may
/// play a proxy.
fn make_what_is_open(db: &Connection, job: JobId) -> Sql<()> {
    let open = |heard: bool| -> Sql<bool> {
        db.prepare_cached("SELECT 1 FROM output WHERE job = ? AND heard = ? AND end = 'open'")?
            .exists(params![job, heard])
    };
    for (step, wanted) in [(Step::Make, open(false)?), (Step::Hear, !open(false)? && open(true)?)] {
        if wanted {
            task(db, job, &step)?;
        } else {
            drop_task(db, job, &step)?;
        }
    }
    Ok(())
}

fn end(db: &Connection, at: Micros, job: JobId, state: &State) -> Sql<()> {
    db.prepare_cached("DELETE FROM task WHERE job = ?")?.execute([job])?;
    let again = db
        .prepare_cached("UPDATE job SET state = ?, ended = ?, on_hold = 0 WHERE id = ? AND ended IS NULL")?
        .execute(params![state.name(), at, job])?;
    if again > 0 {
        db.prepare_cached(
            "INSERT INTO tally (state, jobs) VALUES (?, 1) ON CONFLICT (state) DO UPDATE SET jobs = jobs + 1",
        )?
        .execute([state.name()])?;
    }
    Ok(())
}

/// The job's own state follows from its tasks.
fn settle(db: &Connection, job: JobId) -> Sql<()> {
    if let Some(state) = job_state(db, job)? {
        db.prepare_cached("UPDATE job SET state = ? WHERE id = ? AND ended IS NULL AND state != ?1")?
            .execute(params![state.name(), job])?;
    }
    Ok(())
}
