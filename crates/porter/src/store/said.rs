//! What was said, in all transcripts of the house: full text by SQLite's own index (FTS5).
//!
//! A file of its own beside the job store: it is large, it can be made again from the transcripts, and no job waits
//! for it.

use super::JobId;
use crate::clock::Micros;
use crate::error::{Error, Result};
use rusqlite::{Connection, OpenFlags, OptionalExtension, Row, Transaction, params};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard};
use std::time::Duration;
use words::Transcript;
use words::transcript::{Ms, Segment, Timecode, Word};
use words::write::paragraphs;

/// What to look for.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// Each is a word, a word's beginning (`tid*`) or several words that follow each other.
    pub terms: Vec<String>,
    /// The terms lie within this many words of each other.
    pub near: Option<u32>,
    pub watch: Option<String>,
    /// Transcribed in this span of time.
    pub from: Option<Micros>,
    pub until: Option<Micros>,
    /// Most hits, the newest first.
    pub most: u32,
}

/// A place where it was said.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Hit {
    pub job: JobId,
    /// The original's file name.
    pub name: String,
    pub watch: String,
    pub at_ms: Ms,
    /// The source's timecode there, where it has one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub timecode: Option<String>,
    /// The words around: what was before, what was found, what follows.
    pub before: String,
    pub found: String,
    pub after: String,
    /// Where the outputs of that job went: place and name.
    pub delivered: Vec<(String, String)>,
}

/// Words shown on each side.
const AROUND: usize = 8;
/// Marks that no text holds.
const OPEN: char = '\u{1}';
const SHUT: char = '\u{2}';

type Sql<T> = rusqlite::Result<T>;

/// Passages of the transcripts made in a span of time: the first, and the one behind the last. Both ascend with time.
fn within(db: &Connection, from: Option<Micros>, until: Option<Micros>) -> Sql<(i64, i64)> {
    let first_passage = |transcript: i64| {
        let sql = "SELECT id FROM passage WHERE transcript >= ? ORDER BY transcript, id LIMIT 1";
        db.prepare_cached(sql)?.query_row([transcript], |r| r.get(0)).optional()
    };
    let bound = |sql: &str, at: Option<Micros>| -> Sql<Option<i64>> {
        at.map_or(Ok(None), |at| db.prepare_cached(sql)?.query_row([at], |r| r.get(0)))
    };
    let first = bound("SELECT coalesce(min(id), 9223372036854775807) FROM transcript WHERE at >= ?", from)?
        .unwrap_or(0);
    let last = bound("SELECT coalesce(max(id), 0) FROM transcript WHERE at < ?", until)?;
    let begin = if from.is_some() { first_passage(first)?.unwrap_or(i64::MAX) } else { 0 };
    let end = match last {
        Some(last) => first_passage(last + 1)?.unwrap_or(i64::MAX),
        None => i64::MAX,
    };
    Ok((begin, end))
}

fn forget(tx: &Transaction<'_>, job: JobId) -> Sql<()> {
    tx.execute(
        "INSERT INTO said (said, rowid, text) SELECT 'delete', p.id, p.text FROM passage p
         JOIN transcript t ON t.id = p.transcript WHERE t.job = ?",
        [job],
    )?;
    tx.execute("DELETE FROM passage WHERE transcript IN (SELECT id FROM transcript WHERE job = ?)", [job])?;
    tx.execute("DELETE FROM transcript WHERE job = ?", [job])?;
    Ok(())
}

fn keep(tx: &Transaction<'_>, job: JobId, watch: &str, at: Micros, t: &Transcript) -> Sql<()> {
    let timecode = t.source.timecode.as_ref().and_then(|tc| serde_json::to_string(tc).ok());
    tx.execute(
        "INSERT INTO transcript (job, name, watch, at, timecode) VALUES (?, ?, ?, ?, ?)",
        params![job, t.source.name, watch, at, timecode],
    )?;
    let id = tx.last_insert_rowid();
    let mut passage = tx.prepare_cached("INSERT INTO passage (transcript, text, starts) VALUES (?, ?, ?)")?;
    let mut said = tx.prepare_cached("INSERT INTO said (rowid, text) VALUES (?, ?)")?;
    for p in paragraphs(&t.for_readers()) {
        let (mut text, mut starts) = (String::new(), Vec::new());
        for w in p.iter().flat_map(|s| &s.words) {
            // A term of several words has one time.
            for part in w.text.split_whitespace() {
                text.push_str(if text.is_empty() { "" } else { " " });
                text.extend(part.chars().filter(|c| !c.is_control()));
                starts.extend(u32::try_from(w.start_ms.0).unwrap_or(u32::MAX).to_le_bytes());
            }
        }
        passage.execute(params![id, text, starts])?;
        said.execute(params![tx.last_insert_rowid(), text])?;
    }
    Ok(())
}

/// A passage as it is kept, as words with times; each ends where the next begins.
fn segment(text: &str, starts: &[u8]) -> Segment {
    let at = |b: &[u8]| Ms(b.try_into().map_or(0, u32::from_le_bytes).into());
    let starts: Vec<Ms> = starts.chunks_exact(4).map(at).collect();
    let words: Vec<Word> = text
        .split(' ')
        .zip(&starts)
        .enumerate()
        .map(|(n, (word, start))| Word {
            text: word.to_owned(),
            start_ms: *start,
            end_ms: starts.get(n + 1).copied().unwrap_or(*start),
            ..Word::default()
        })
        .collect();
    let (start_ms, end_ms) =
        (starts.first().copied().unwrap_or_default(), starts.last().copied().unwrap_or_default());
    Segment { start_ms, end_ms, text: text.to_owned(), words, ..Segment::default() }
}

/// The index's own language, in which a quoted string is a run of words; `None` if there is no word in it.
fn query(w: &Wanted) -> Option<String> {
    let quoted = |term: &String| {
        let words = term.trim_end_matches('*').replace('"', " ");
        let any = words.chars().any(char::is_alphanumeric);
        any.then(|| format!("\"{}\"{}", words.trim(), if term.ends_with('*') { " *" } else { "" }))
    };
    let all: Vec<String> = w.terms.iter().filter_map(quoted).collect();
    match (all.is_empty(), w.near) {
        (true, _) => None,
        (false, Some(n)) => Some(format!("NEAR({}, {n})", all.join(" "))),
        (false, None) => Some(all.join(" AND ")),
    }
}

const TABLES: &str = "CREATE TABLE transcript (
        id INTEGER PRIMARY KEY,
        job INTEGER NOT NULL,
        name TEXT NOT NULL,
        watch TEXT NOT NULL,
        at INTEGER NOT NULL,
        timecode TEXT
    ) STRICT;
    CREATE INDEX transcript_by_job ON transcript (job);
    CREATE INDEX transcript_by_time ON transcript (at);
    CREATE TABLE passage (
        id INTEGER PRIMARY KEY,
        transcript INTEGER NOT NULL REFERENCES transcript,
        text TEXT NOT NULL,
        starts BLOB NOT NULL
    ) STRICT;
    CREATE INDEX passage_by_transcript ON passage (transcript);
    CREATE VIRTUAL TABLE said USING fts5 (
        text, content = 'passage', content_rowid = 'id', tokenize = 'unicode61 remove_diacritics 2',
        prefix = '1 2 3 4 5'
    );";
const VERSION: u32 = 1;

/// The transcripts of a house.
pub struct Said {
    path: PathBuf,
    db: Mutex<Connection>,
}

impl Said {
    /// Opens or makes it. An older program kept transcripts in the job store: they are taken over.
    pub fn open(path: &Path, jobs: &Path) -> Result<Said> {
        let said = Said::connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE)?;
        let set_up = |db: &mut Connection| -> Sql<()> {
            db.pragma_update(None, "journal_mode", "WAL")?;
            if version(db)? == 0 {
                let tx = db.transaction()?;
                tx.execute_batch(TABLES)?;
                tx.pragma_update(None, "user_version", VERSION)?;
                tx.commit()?;
            }
            take_over(db, jobs)
        };
        set_up(&mut said.db()).map_err(|e| said.wrong(e))?;
        Ok(said)
    }

    /// Opens it for searching; `None`: nothing was ever transcribed here.
    pub fn look(path: &Path) -> Result<Option<Said>> {
        if !path.exists() {
            return Ok(None);
        }
        let said = Said::connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        let found = version(&said.db()).map_err(|e| said.wrong(e))?;
        Ok((found > 0).then_some(said))
    }

    fn connect(path: &Path, flags: OpenFlags) -> Result<Said> {
        let wrong = |source| Error::Store { path: path.to_owned(), source };
        let db = Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX).map_err(wrong)?;
        db.busy_timeout(Duration::from_secs(2)).map_err(wrong)?;
        Ok(Said { path: path.to_owned(), db: Mutex::new(db) })
    }

    fn db(&self) -> MutexGuard<'_, Connection> {
        self.db.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn wrong(&self, source: rusqlite::Error) -> Error {
        Error::Store { path: self.path.clone(), source }
    }

    /// Keeps what was said in a job's source, in place of what was kept of it before.
    pub fn keep(&self, job: JobId, watch: &str, at: Micros, transcripts: &[Transcript]) -> Result<()> {
        let mut db = self.db();
        let run = |db: &mut Connection| -> Sql<()> {
            let tx = db.transaction()?;
            forget(&tx, job)?;
            transcripts.iter().try_for_each(|t| keep(&tx, job, watch, at, t))?;
            tx.commit()
        };
        run(&mut db).map_err(|e| self.wrong(e))
    }

    /// Where it was said, the newest transcripts first. Where the outputs went is the job store's to tell.
    /// What was said in the first transcript of a job, as far as it is kept: words and when each begins.
    pub fn of_job(&self, job: JobId) -> Result<Option<Transcript>> {
        let db = self.db();
        let read = || -> Sql<Option<Transcript>> {
            let sql = "SELECT id, name, timecode FROM transcript WHERE job = ? ORDER BY id LIMIT 1";
            let row = |r: &Row<'_>| Ok((r.get::<_, i64>(0)?, r.get(1)?, r.get::<_, Option<String>>(2)?));
            let Some((id, name, timecode)) = db.prepare_cached(sql)?.query_row([job], row).optional()? else {
                return Ok(None);
            };
            let timecode = timecode.and_then(|t| serde_json::from_str(&t).ok());
            let source = words::transcript::Source { name, timecode, ..Default::default() };
            let mut out = Transcript { source, ..Transcript::default() };
            let mut q =
                db.prepare_cached("SELECT text, starts FROM passage WHERE transcript = ? ORDER BY id")?;
            let mut rows = q.query([id])?;
            while let Some(r) = rows.next()? {
                let (text, starts): (String, Vec<u8>) = (r.get(0)?, r.get(1)?);
                out.segments.push(segment(&text, &starts));
            }
            Ok(Some(out))
        };
        read().map_err(|e| self.wrong(e))
    }

    pub fn find(&self, wanted: &Wanted) -> Result<Vec<Hit>> {
        let Some(query) = query(wanted) else { return Ok(Vec::new()) };
        let db = self.db();
        let search = || -> Sql<Vec<Hit>> {
            let sql = "SELECT t.job, t.name, t.watch, t.timecode, p.starts,
                    highlight(said, 0, char(1), char(2)) AS shown
                FROM said JOIN passage p ON p.id = said.rowid JOIN transcript t ON t.id = p.transcript
                WHERE said MATCH ?1 AND (?2 IS NULL OR t.watch = ?2) AND (?3 IS NULL OR t.at >= ?3)
                    AND (?4 IS NULL OR t.at < ?4) AND said.rowid >= ?6 AND said.rowid < ?7
                ORDER BY said.rowid DESC LIMIT ?5";
            let (begin, end) = within(&db, wanted.from, wanted.until)?;
            let mut statement = db.prepare_cached(sql)?;
            let rows = statement.query_map(
                params![query, wanted.watch, wanted.from, wanted.until, wanted.most, begin, end],
                hit,
            )?;
            rows.collect()
        };
        search().map_err(|e| self.wrong(e))
    }

    /// Whether anything was ever transcribed here.
    pub fn has_any(&self) -> Result<bool> {
        let db = self.db();
        db.prepare("SELECT 1 FROM transcript LIMIT 1")
            .and_then(|mut q| q.exists([]))
            .map_err(|e| self.wrong(e))
    }
}

fn version(db: &Connection) -> Sql<u32> {
    db.pragma_query_value(None, "user_version", |r| r.get(0))
}

/// First copied, in one transaction; then dropped there. A kill between the two is copied over again.
fn take_over(db: &mut Connection, jobs: &Path) -> Sql<()> {
    let old = Connection::open(jobs)?;
    old.busy_timeout(Duration::from_secs(2))?;
    if !old.prepare("SELECT 1 FROM sqlite_master WHERE name = 'transcript'")?.exists([])? {
        return Ok(());
    }
    db.execute("ATTACH ? AS old", [jobs.to_string_lossy()])?;
    let tx = db.transaction()?;
    tx.execute_batch(
        "INSERT OR IGNORE INTO transcript SELECT id, job, name, watch, at, timecode FROM old.transcript;
         INSERT OR IGNORE INTO passage SELECT id, transcript, text, starts FROM old.passage;
         INSERT INTO said (said) VALUES ('rebuild');",
    )?;
    tx.commit()?;
    db.execute("DETACH old", [])?;
    old.execute_batch("DROP TABLE said; DROP TABLE passage; DROP TABLE transcript;")
}

fn hit(r: &Row<'_>) -> Sql<Hit> {
    let shown: String = r.get("shown")?;
    let starts: Vec<u8> = r.get("starts")?;
    let open = shown.find(OPEN).unwrap_or(0);
    let (before, rest) = shown.split_at(open);
    let (found, after) = rest.split_once(SHUT).unwrap_or((rest, ""));
    let plain = |s: &str| s.replace([OPEN, SHUT], "");
    let word = before.split_whitespace().count();
    // A mark inside a word belongs to the word before it.
    let word = if before.is_empty() || before.ends_with(' ') { word } else { word - 1 };
    let at = starts.chunks_exact(4).nth(word).map_or(0, |b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
    let timecode: Option<String> = r.get("timecode")?;
    let timecode = timecode.and_then(|t| serde_json::from_str::<Timecode>(&t).ok());
    let at_ms = Ms(at.into());
    let before = plain(before);
    let after = plain(after);
    let some = |words: Vec<&str>| words.join(" ");
    let all: Vec<&str> = before.split_whitespace().collect();
    // What stands right at the found words without a space stays there: an opening bracket, a full stop.
    let glue = |s: &str| if s.starts_with(char::is_whitespace) { " " } else { "" };
    Ok(Hit {
        job: r.get("job")?,
        name: r.get("name")?,
        watch: r.get("watch")?,
        at_ms,
        timecode: timecode.map(|t| t.at(at_ms)),
        before: some(all[all.len().saturating_sub(AROUND)..].to_vec())
            + if before.ends_with(' ') { " " } else { "" },
        found: plain(found),
        after: format!("{}{}", glue(&after), some(after.split_whitespace().take(AROUND).collect())),
        delivered: Vec::new(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use words::transcript::Segment;

    fn wanted(terms: &[&str], near: Option<u32>) -> Wanted {
        Wanted { terms: terms.iter().map(|t| (*t).to_owned()).collect(), near, most: 10, ..Wanted::default() }
    }

    #[rstest]
    #[case(&["salt marsh"], None, Some("\"salt marsh\""))]
    #[case(&["salt", "tid*"], None, Some("\"salt\" AND \"tid\" *"))]
    #[case(&["salt", "tide"], Some(5), Some("NEAR(\"salt\" \"tide\", 5)"))]
    #[case(&["a\"b OR c"], None, Some("\"a b OR c\""))]
    #[case(&["\"", "*", ""], None, None)]
    fn terms_become_a_query(#[case] terms: &[&str], #[case] near: Option<u32>, #[case] want: Option<&str>) {
        assert_eq!(query(&wanted(terms, near)).as_deref(), want);
    }

    fn transcript(name: &str) -> Transcript {
        let word = |w: &str| words::transcript::Word { text: w.into(), ..Default::default() };
        let segment = Segment::of("salt marsh at low tide".split(' ').map(word).collect(), false);
        Transcript {
            source: words::transcript::Source { name: name.into(), ..Default::default() },
            segments: segment.into_iter().collect(),
            ..Transcript::default()
        }
    }

    /// One transcript of each of these days, in order, all of them of the same words.
    fn store(days: &[Micros]) -> (tempfile::TempDir, Said) {
        let dir = tempfile::tempdir().unwrap();
        let jobs = dir.path().join("jobs.sqlite");
        crate::store::Store::open(&jobs).unwrap();
        let said = Said::open(&dir.path().join("said.sqlite"), &jobs).unwrap();
        for (i, &day) in days.iter().enumerate() {
            // A second time: the first counts no more.
            for _ in 0..2 {
                said.keep(i as JobId + 1, "cards", day, &[transcript(&format!("{i}.mov"))]).unwrap();
            }
        }
        (dir, said)
    }

    #[test]
    fn transcripts_of_an_older_program_are_taken_over() {
        let dir = tempfile::tempdir().unwrap();
        let (path, jobs) = (dir.path().join("said.sqlite"), dir.path().join("jobs.sqlite"));
        // As migrations 2 and 3 of the job store left it.
        let old = Connection::open(&jobs).unwrap();
        old.execute_batch(TABLES).unwrap();
        old.execute_batch(
            "INSERT INTO transcript (job, name, watch, at) VALUES (1, 'a.mov', 'w', 1);
             INSERT INTO passage (transcript, text, starts) VALUES (1, 'the tide came in', x'');
             INSERT INTO said (rowid, text) VALUES (1, 'the tide came in');",
        )
        .unwrap();
        drop(old);
        for _ in 0..2 {
            let said = Said::open(&path, &jobs).unwrap();
            for words in ["tide", "tid*", "the tide", "c*"] {
                assert_eq!(said.find(&wanted(&[words], None)).unwrap().len(), 1, "{words}");
            }
        }
        let left: i64 = Connection::open(&jobs)
            .unwrap()
            .query_row(
                "SELECT count(*) FROM sqlite_master WHERE name IN ('said', 'passage', 'transcript')",
                [],
                |r| r.get(0),
            )
            .unwrap();
        assert_eq!(left, 0);
    }

    #[rstest]
    #[case(None, None, &["2.mov", "1.mov", "0.mov"])]
    #[case(Some(20), None, &["2.mov", "1.mov"])]
    #[case(None, Some(20), &["0.mov"])]
    #[case(Some(11), Some(30), &["1.mov"])]
    #[case(Some(31), None, &[])]
    #[case(None, Some(10), &[])]
    fn a_span_of_time_bounds_what_is_found(
        #[case] from: Option<Micros>,
        #[case] until: Option<Micros>,
        #[case] want: &[&str],
    ) {
        let (_dir, store) = store(&[10, 20, 30]);
        let hits = store.find(&Wanted { from, until, ..wanted(&["salt marsh"], None) }).unwrap();
        assert_eq!(hits.iter().map(|h| h.name.as_str()).collect::<Vec<_>>(), want);
    }

    #[test]
    fn what_belongs_to_a_transcript_is_found_by_an_index() {
        let (_dir, store) = store(&[10]);
        let sql = "EXPLAIN QUERY PLAN DELETE FROM passage WHERE transcript IN (SELECT id FROM transcript WHERE job = 7)";
        let db = store.db();
        let mut plan = db.prepare(sql).unwrap();
        let rows: Vec<String> = plan.query_map([], |r| r.get(3)).unwrap().collect::<Sql<_>>().unwrap();
        assert!(rows[0].contains("INDEX passage_by_transcript"), "{rows:?}");
    }
}
