//! What was said, in all transcripts of the house: full text by SQLite's own index (FTS5).

use super::{JobId, Store};
use crate::clock::Micros;
use crate::error::Result;
use rusqlite::{Connection, OptionalExtension, Row, Transaction, params};
use serde::Serialize;
use words::Transcript;
use words::transcript::{Ms, Timecode};
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

pub fn forget(tx: &Transaction<'_>, job: JobId) -> Sql<()> {
    tx.execute(
        "INSERT INTO said (said, rowid, text) SELECT 'delete', p.id, p.text FROM passage p
         JOIN transcript t ON t.id = p.transcript WHERE t.job = ?",
        [job],
    )?;
    tx.execute("DELETE FROM passage WHERE transcript IN (SELECT id FROM transcript WHERE job = ?)", [job])?;
    tx.execute("DELETE FROM transcript WHERE job = ?", [job])?;
    Ok(())
}

pub fn keep(tx: &Transaction<'_>, job: JobId, t: &Transcript) -> Sql<()> {
    let timecode = t.source.timecode.as_ref().and_then(|tc| serde_json::to_string(tc).ok());
    tx.execute(
        "INSERT INTO transcript (job, name, watch, at, timecode) SELECT id, ?2, watch, ?3, ?4 FROM job WHERE id = ?1",
        params![job, t.source.name, crate::clock::now(), timecode],
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

impl Store {
    /// Where it was said, the newest transcripts first.
    pub fn find(&self, wanted: &Wanted) -> Result<Vec<Hit>> {
        let Some(query) = query(wanted) else { return Ok(Vec::new()) };
        if !self.has_transcripts()? {
            return Ok(Vec::new());
        }
        self.with(|db| {
            let sql = "SELECT t.job, t.name, t.watch, t.timecode, p.starts,
                    highlight(said, 0, char(1), char(2)) AS shown
                FROM said JOIN passage p ON p.id = said.rowid JOIN transcript t ON t.id = p.transcript
                WHERE said MATCH ?1 AND (?2 IS NULL OR t.watch = ?2) AND (?3 IS NULL OR t.at >= ?3)
                    AND (?4 IS NULL OR t.at < ?4) AND said.rowid >= ?6 AND said.rowid < ?7
                ORDER BY said.rowid DESC LIMIT ?5";
            let (begin, end) = within(db, wanted.from, wanted.until)?;
            let mut statement = db.prepare_cached(sql)?;
            let rows = statement.query_map(
                params![query, wanted.watch, wanted.from, wanted.until, wanted.most, begin, end],
                hit,
            )?;
            let mut hits = rows.collect::<Sql<Vec<Hit>>>()?;
            let mut delivered = db.prepare_cached(
                "SELECT place, name FROM delivery WHERE job = ? AND delivered IS NOT NULL ORDER BY output, place",
            )?;
            for h in &mut hits {
                let rows = delivered.query_map([h.job], |r| Ok((r.get(0)?, r.get(1)?)))?;
                h.delivered = rows.collect::<Sql<_>>()?;
            }
            Ok(hits)
        })
    }

    /// Whether anything was ever transcribed here.
    pub fn has_transcripts(&self) -> Result<bool> {
        self.with(|db| {
            let one = |sql| Sql::Ok(db.query_row(sql, [], |_| Ok(())).optional()?.is_some());
            // A store that was last used by an older program has no place for them.
            Ok(one("SELECT 1 FROM sqlite_master WHERE name = 'transcript'")?
                && one("SELECT 1 FROM transcript LIMIT 1")?)
        })
    }
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
    use crate::maker::Finished;
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

    /// A store with one transcript of each of these days, in order, all of them of the same words.
    fn store(days: &[Micros]) -> (tempfile::TempDir, Store) {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("jobs.sqlite")).unwrap();
        for (i, &day) in days.iter().enumerate() {
            let name = format!("{i}.mov");
            let id = store.arrive("cards", std::path::Path::new(&name), 1, 1, i as u64, 0).unwrap().unwrap();
            let word = |w: &str| words::transcript::Word { text: w.into(), ..Default::default() };
            let segment = Segment::of("salt marsh at low tide".split(' ').map(word).collect(), false);
            let t = Transcript {
                source: words::transcript::Source { name, ..Default::default() },
                segments: segment.into_iter().collect(),
                ..Transcript::default()
            };
            let transcript = Some(Box::new(t));
            let made = media::run::Made::default();
            // A second time: the first counts no more.
            for _ in 0..2 {
                let f = Finished {
                    made: made.clone(),
                    bytes: 1,
                    digest: "0".into(),
                    transcript: transcript.clone(),
                };
                store.made(id, &[f]).unwrap();
            }
            store.db().execute("UPDATE transcript SET at = ? WHERE job = ?", params![day, id]).unwrap();
        }
        (dir, store)
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
