//! Numbered migrations. Each is applied once, in a transaction; never change one that was released.

use rusqlite::{Connection, Result};

const MIGRATIONS: &[&str] = &[
    // 1
    "CREATE TABLE job (
        id INTEGER PRIMARY KEY,
        watch TEXT NOT NULL,
        path BLOB NOT NULL,
        size INTEGER NOT NULL,
        modified INTEGER NOT NULL,
        inode INTEGER NOT NULL,
        arrived INTEGER NOT NULL,
        state TEXT NOT NULL,
        tries INTEGER NOT NULL DEFAULT 0,
        held TEXT,
        next_try INTEGER,
        reason TEXT,
        original_to BLOB,
        facts TEXT,
        started INTEGER,
        ended INTEGER
    ) STRICT;
    CREATE INDEX job_by_file ON job (watch, path);
    CREATE INDEX job_open ON job (state) WHERE ended IS NULL;
    CREATE TABLE output (
        job INTEGER NOT NULL REFERENCES job,
        number INTEGER NOT NULL,
        rule TEXT NOT NULL,
        preset TEXT NOT NULL,
        preset_version TEXT NOT NULL,
        recipe TEXT NOT NULL,
        extension TEXT NOT NULL,
        digest TEXT,
        bytes INTEGER,
        made TEXT,
        PRIMARY KEY (job, number)
    ) STRICT;
    CREATE TABLE delivery (
        job INTEGER NOT NULL REFERENCES job,
        output INTEGER NOT NULL,
        place TEXT NOT NULL,
        wanted TEXT NOT NULL,
        name TEXT,
        delivered INTEGER,
        PRIMARY KEY (job, output, place, wanted)
    ) STRICT;
    CREATE UNIQUE INDEX delivery_by_name ON delivery (place, name);
    CREATE TABLE event (
        id INTEGER PRIMARY KEY,
        at INTEGER NOT NULL,
        job INTEGER,
        what TEXT NOT NULL,
        detail TEXT
    ) STRICT;
    CREATE INDEX event_by_job ON event (job);
    CREATE TABLE waiting (
        watch TEXT NOT NULL,
        path BLOB NOT NULL,
        size INTEGER NOT NULL,
        first INTEGER NOT NULL,
        why TEXT NOT NULL,
        PRIMARY KEY (watch, path)
    ) STRICT;
    CREATE TABLE progress (
        job INTEGER PRIMARY KEY,
        at INTEGER NOT NULL,
        since INTEGER NOT NULL,
        done INTEGER NOT NULL,
        total INTEGER
    ) STRICT;
    CREATE TABLE trouble (
        watch TEXT PRIMARY KEY,
        since INTEGER NOT NULL,
        why TEXT NOT NULL
    ) STRICT;",
    // 2: what was said, for the search over all transcripts
    "CREATE TABLE transcript (
        id INTEGER PRIMARY KEY,
        job INTEGER NOT NULL REFERENCES job,
        name TEXT NOT NULL,
        watch TEXT NOT NULL,
        at INTEGER NOT NULL,
        timecode TEXT
    ) STRICT;
    CREATE INDEX transcript_by_job ON transcript (job);
    CREATE TABLE passage (
        id INTEGER PRIMARY KEY,
        transcript INTEGER NOT NULL REFERENCES transcript,
        text TEXT NOT NULL,
        starts BLOB NOT NULL
    ) STRICT;
    CREATE VIRTUAL TABLE said USING fts5 (
        text, content = 'passage', content_rowid = 'id', tokenize = 'unicode61 remove_diacritics 2'
    );",
    // 3: what belongs to a transcript is found without looking at all that was ever said
    // and so are the beginnings of words
    "CREATE INDEX passage_by_transcript ON passage (transcript);
    DROP TABLE said;
    CREATE VIRTUAL TABLE said USING fts5 (
        text, content = 'passage', content_rowid = 'id', tokenize = 'unicode61 remove_diacritics 2',
        prefix = '1 2 3 4 5'
    );
    INSERT INTO said (said) VALUES ('rebuild');",
    // 4: tasks in place of steps, changes in place of texts, and a file of its own for what was said (its tables stay
    // here until they were taken over: see said.rs). What is passing (progress, waiting files) is stored no more.
    "CREATE TABLE fact (name TEXT PRIMARY KEY, value ANY NOT NULL) STRICT, WITHOUT ROWID;
    INSERT INTO fact SELECT 'last_job', coalesce(max(id), 0) FROM job;
    ALTER TABLE job ADD COLUMN changed INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE job ADD COLUMN original_stage TEXT;
    ALTER TABLE job ADD COLUMN content TEXT;
    CREATE TABLE task (
        job INTEGER NOT NULL REFERENCES job,
        step TEXT NOT NULL,
        output INTEGER NOT NULL DEFAULT -1,
        place TEXT NOT NULL DEFAULT '',
        tries INTEGER NOT NULL DEFAULT 0,
        cause TEXT,
        next_try INTEGER,
        PRIMARY KEY (job, step, output, place)
    ) STRICT, WITHOUT ROWID;
    -- What was being made is looked at again.
    DELETE FROM delivery WHERE job IN (SELECT id FROM job WHERE ended IS NULL AND state = 'making');
    DELETE FROM output WHERE job IN (SELECT id FROM job WHERE ended IS NULL AND state = 'making');
    UPDATE job SET state = 'waiting' WHERE ended IS NULL AND state = 'making';
    INSERT INTO task (job, step) SELECT id, CASE state
        WHEN 'waiting' THEN 'look' WHEN 'clearing' THEN 'clear' ELSE 'turn_away' END
        FROM job WHERE ended IS NULL AND state IN ('waiting', 'clearing', 'turning away');
    INSERT OR IGNORE INTO task (job, step, output, place)
        SELECT d.job, 'carry', d.output, d.place FROM delivery d JOIN job j ON j.id = d.job
        WHERE j.ended IS NULL AND j.state = 'carrying' AND d.delivered IS NULL;
    INSERT OR IGNORE INTO task (job, step) SELECT id, 'clear' FROM job WHERE ended IS NULL AND state = 'carrying'
        AND NOT EXISTS (SELECT 1 FROM task WHERE task.job = job.id);
    ALTER TABLE output ADD COLUMN recipe_version INTEGER NOT NULL DEFAULT 1;
    ALTER TABLE output ADD COLUMN heard INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE output ADD COLUMN end TEXT NOT NULL DEFAULT 'open';
    ALTER TABLE output ADD COLUMN why TEXT;
    ALTER TABLE output ADD COLUMN files TEXT;
    UPDATE output SET end = 'made', files = json_array(json_object('bytes', bytes, 'digest', digest))
        WHERE digest IS NOT NULL;
    UPDATE output SET heard = 1 WHERE json_extract(recipe, '$.transcript') IS NOT NULL;
    CREATE TABLE new_delivery (
        job INTEGER NOT NULL REFERENCES job,
        output INTEGER NOT NULL,
        place TEXT NOT NULL,
        wanted TEXT NOT NULL,
        name TEXT,
        ticket TEXT,
        delivered INTEGER,
        proof TEXT,
        PRIMARY KEY (job, output, place)
    ) STRICT;
    INSERT OR IGNORE INTO new_delivery
        SELECT job, output, place, wanted, name,
            CASE WHEN name IS NULL THEN NULL ELSE
                json_object('staged', '.job-' || job || '-' || output || '.deft-porter-part') END,
            delivered, CASE WHEN delivered IS NULL THEN NULL ELSE '\"read_back\"' END
        FROM delivery;
    DROP TABLE delivery;
    ALTER TABLE new_delivery RENAME TO delivery;
    CREATE UNIQUE INDEX delivery_by_name ON delivery (place, name);
    ALTER TABLE event ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
    ALTER TABLE event ADD COLUMN change TEXT NOT NULL DEFAULT '';
    UPDATE event SET change = json_object('what', 'told', 'text', what, 'detail', detail);
    CREATE TABLE new_event (
        id INTEGER PRIMARY KEY,
        at INTEGER NOT NULL,
        job INTEGER,
        version INTEGER NOT NULL,
        change TEXT NOT NULL
    ) STRICT;
    INSERT INTO new_event SELECT id, at, job, version, change FROM event;
    DROP TABLE event;
    ALTER TABLE new_event RENAME TO event;
    CREATE INDEX event_by_job ON event (job) WHERE job IS NOT NULL;
    CREATE TABLE tally (state TEXT PRIMARY KEY, jobs INTEGER NOT NULL) STRICT, WITHOUT ROWID;
    INSERT INTO tally SELECT state, count(*) FROM job WHERE ended IS NOT NULL GROUP BY state;
    CREATE TABLE folder (
        role TEXT NOT NULL,
        name TEXT NOT NULL,
        path BLOB NOT NULL,
        identity TEXT NOT NULL,
        PRIMARY KEY (role, name)
    ) STRICT, WITHOUT ROWID;
    DROP INDEX job_open;
    CREATE INDEX job_open ON job (id) WHERE ended IS NULL;
    CREATE INDEX job_ended ON job (ended, id) WHERE ended IS NOT NULL;
    DROP TABLE waiting;
    DROP TABLE progress;
    DROP TABLE trouble;
    ALTER TABLE job DROP COLUMN tries;
    ALTER TABLE job DROP COLUMN held;
    ALTER TABLE job DROP COLUMN next_try;
    ALTER TABLE output DROP COLUMN digest;
    ALTER TABLE output DROP COLUMN bytes;",
    // 5: what a person says of a job: that it waits, and what it is put in front of
    "ALTER TABLE job ADD COLUMN on_hold INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE job ADD COLUMN priority INTEGER NOT NULL DEFAULT 0;
    -- a job may be of many files: the run of frames that it is
    ALTER TABLE job ADD COLUMN frames TEXT;",
    // 6: numbers that are counted, configurations that are kept, files that belong to others, and what becomes of a name
    // that is taken
    "ALTER TABLE job ADD COLUMN counts TEXT;
    ALTER TABLE job ADD COLUMN configuration INTEGER;
    ALTER TABLE job ADD COLUMN beside TEXT;
    ALTER TABLE delivery ADD COLUMN if_taken TEXT NOT NULL DEFAULT 'number';
    ALTER TABLE delivery ADD COLUMN aside TEXT;
    ALTER TABLE delivery ADD COLUMN address TEXT;
    ALTER TABLE output ADD COLUMN item TEXT;
    CREATE INDEX output_with_item ON output (job) WHERE item IS NOT NULL;
    ALTER TABLE delivery ADD COLUMN left_out TEXT;
    ALTER TABLE delivery ADD COLUMN failed INTEGER NOT NULL DEFAULT 0;
    DROP INDEX delivery_by_name;
    CREATE INDEX delivery_by_name ON delivery (place, name);
    CREATE UNIQUE INDEX delivery_on_its_way ON delivery (place, name) WHERE delivered IS NULL;
    CREATE INDEX job_by_node ON job (watch, inode) WHERE content IS NOT NULL;
    CREATE INDEX job_by_content ON job (content) WHERE content IS NOT NULL;
    CREATE TABLE counter (scope TEXT PRIMARY KEY, value INTEGER NOT NULL) STRICT, WITHOUT ROWID;
    CREATE TABLE fetched (
        watch TEXT NOT NULL,
        path TEXT NOT NULL,
        bytes INTEGER NOT NULL,
        mark TEXT NOT NULL,
        stage TEXT NOT NULL,
        at INTEGER NOT NULL,
        PRIMARY KEY (watch, path, bytes, mark)
    ) STRICT, WITHOUT ROWID;
    CREATE INDEX fetched_by_stage ON fetched (watch, stage);
    CREATE TABLE configuration (number INTEGER PRIMARY KEY, at INTEGER NOT NULL, text TEXT NOT NULL) STRICT;",
    // 7: versions of one source, and names that differ only in their case
    "ALTER TABLE job ADD COLUMN thing TEXT;
    ALTER TABLE job ADD COLUMN number INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE job ADD COLUMN taken_to BLOB;
    CREATE INDEX job_by_thing ON job (watch, thing, number) WHERE thing IS NOT NULL;
    ALTER TABLE delivery ADD COLUMN folded TEXT;
    UPDATE delivery SET folded = lower(name) WHERE name IS NOT NULL;
    CREATE INDEX delivery_by_folded ON delivery (place, folded);",
];

pub const NEWEST: u32 = MIGRATIONS.len() as u32;

/// Brings a store to the newest version; gives the version found.
pub fn migrate(db: &mut Connection) -> Result<u32> {
    let found: u32 = db.pragma_query_value(None, "user_version", |r| r.get(0))?;
    if found == 0 {
        // A new store is made in one go. What was said has a file of its own: only a store of an older program holds any.
        let tx = db.transaction()?;
        tx.execute_batch(&MIGRATIONS.concat())?;
        tx.execute_batch("DROP TABLE said; DROP TABLE passage; DROP TABLE transcript;")?;
        tx.pragma_update(None, "user_version", NEWEST)?;
        tx.commit()?;
        return Ok(NEWEST);
    }
    for (i, sql) in MIGRATIONS.iter().enumerate().skip(found as usize) {
        let tx = db.transaction()?;
        tx.execute_batch(sql)?;
        tx.pragma_update(None, "user_version", i as u32 + 1)?;
        tx.commit()?;
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::{OutputEnd, State, Step, Store};

    /// A store as the program of each released version left it, with jobs in every state.
    fn old(version: usize) -> (tempfile::TempDir, std::path::PathBuf) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("jobs.sqlite");
        let db = Connection::open(&path).unwrap();
        // What is put in is put into the tables of the third version at most.
        let first = version.min(3);
        db.execute_batch(&MIGRATIONS[..first].concat()).unwrap();
        for (id, state) in
            ["waiting", "making", "carrying", "clearing", "turning away", "done", "turned away"]
                .iter()
                .enumerate()
        {
            let ended = (id > 4).then_some(9);
            db.execute(
                "INSERT INTO job (id, watch, path, size, modified, inode, arrived, state, ended)
                 VALUES (?, 'cards', x'61', 5, 6, 7, 8, ?, ?)",
                rusqlite::params![id as i64 + 1, state, ended],
            )
            .unwrap();
        }
        for job in [2, 3, 6] {
            let digest = (job > 2).then_some("xxh3-128:0");
            db.execute(
                "INSERT INTO output VALUES (?1, 0, 'r', 'proxy', 'v', '{}', 'mp4', ?2, ?3, NULL)",
                rusqlite::params![job, digest, digest.map(|_| 100)],
            )
            .unwrap();
            db.execute(
                "INSERT INTO delivery VALUES (?1, 0, 'editors', 'a.mp4', ?2, ?3)",
                rusqlite::params![job, (job > 2).then(|| format!("a_{job}.mp4")), (job == 6).then_some(9)],
            )
            .unwrap();
        }
        db.execute("INSERT INTO event (at, job, what, detail) VALUES (9, 6, 'done', 'x')", []).unwrap();
        db.execute_batch(&MIGRATIONS[first..version].concat()).unwrap();
        db.pragma_update(None, "user_version", version as u32).unwrap();
        (dir, path)
    }

    #[rstest::rstest]
    fn a_store_of_an_older_program_goes_on_where_it_was(#[values(1, 2, 3, 4, 5, 6)] version: usize) {
        let (_dir, path) = old(version);
        let s = Store::open(&path).unwrap();
        let steps = |job| -> Vec<Step> {
            s.read(|v| v.tasks_of(job)).unwrap().into_iter().map(|t| t.key.step).collect()
        };
        let carry = Step::Carry { output: 0, place: "editors".into() };
        let want = [
            vec![Step::Look],
            vec![Step::Look],
            vec![carry],
            vec![Step::Clear],
            vec![Step::TurnAway],
            vec![],
            vec![],
        ];
        for (i, want) in want.into_iter().enumerate() {
            assert_eq!(steps(i as i64 + 1), want, "job {}", i + 1);
        }
        let state = |job| s.read(|v| v.job(job)).unwrap().unwrap().state;
        assert_eq!((state(2), state(3), state(6)), (State::Waiting, State::Carrying, State::Done));
        let made = s.read(|v| v.outputs(3)).unwrap().remove(0);
        assert_eq!((made.files()[0].bytes, matches!(made.end, OutputEnd::Made { .. })), (100, true));
        assert!(made.recipe.is_ok());
        let d = s.read(|v| v.deliveries(3)).unwrap().remove(0);
        let ticket = crate::deliver::Ticket::Staged(".job-3-0.deft-porter-part".into());
        assert_eq!((d.name.as_deref(), d.ticket), (Some("a_3.mp4"), Some(ticket)));
        assert_eq!(s.read(|v| v.tally()).unwrap(), [(State::Done, 1), (State::TurnedAway, 1)]);
        assert_eq!(s.read(|v| v.next_job()).unwrap(), 8);
        let told = s.read(|v| v.events(6)).unwrap().remove(0).change;
        assert_eq!(told, crate::store::Change::Told { text: "done".into(), detail: Some("x".into()) });
        assert_eq!(s.check().unwrap(), None);
    }
}
