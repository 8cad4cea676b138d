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
];

pub const NEWEST: u32 = MIGRATIONS.len() as u32;

/// Brings a store to the newest version; gives the version found.
pub fn migrate(db: &mut Connection) -> Result<u32> {
    let found: u32 = db.pragma_query_value(None, "user_version", |r| r.get(0))?;
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

    #[test]
    fn a_store_of_an_older_program_keeps_what_was_said() {
        let mut db = Connection::open_in_memory().unwrap();
        db.execute_batch(&MIGRATIONS[..2].concat()).unwrap();
        db.pragma_update(None, "user_version", 2).unwrap();
        db.execute_batch(
            "INSERT INTO job (watch, path, size, modified, inode, arrived, state) VALUES ('w', x'61', 1, 1, 1, 1, 'done');
             INSERT INTO transcript (job, name, watch, at) VALUES (1, 'a.mov', 'w', 1);
             INSERT INTO passage (transcript, text, starts) VALUES (1, 'the tide came in', x'');
             INSERT INTO said (rowid, text) VALUES (1, 'the tide came in');",
        )
        .unwrap();
        assert_eq!(migrate(&mut db).unwrap(), 2);
        for wanted in ["tide", "tid*", "\"the tide\"", "c*"] {
            let found: i64 =
                db.query_row("SELECT rowid FROM said WHERE said MATCH ?", [wanted], |r| r.get(0)).unwrap();
            assert_eq!(found, 1, "{wanted}");
        }
        assert_eq!(migrate(&mut db).unwrap(), NEWEST);
    }
}
