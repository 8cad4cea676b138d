//! The store by itself.

use super::view::*;
use super::*;
use crate::deliver::{Proof, Ticket};
use crate::files::Seen;
use rstest::rstest;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

fn store() -> (tempfile::TempDir, Store) {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("jobs.sqlite")).unwrap();
    (dir, store)
}

fn seen(inode: u64) -> Seen {
    Seen { size: 5, modified: 6, changed: 7, inode }
}

fn arrive(s: &Store, path: impl AsRef<Path>) -> JobId {
    let job = s.read(|v| v.next_job()).unwrap();
    let path = path.as_ref().to_owned();
    s.commit([Change::Arrived {
        job,
        watch: "cards".into(),
        path,
        seen: seen(job as u64),
        priority: 0,
        many: None,
        beside: Vec::new(),
    }])
    .unwrap();
    job
}

fn output(number: u32, heard: bool) -> PlannedOutput {
    PlannedOutput {
        number,
        rule: "clips".into(),
        preset: "proxy".into(),
        preset_version: "1".into(),
        recipe: serde_json::json!({}),
        recipe_version: RECIPE_VERSION,
        heard,
        extension: "mp4".into(),
        to: vec![("editors".into(), format!("a-{number}.mp4"))],
        if_taken: Default::default(),
        item: None,
    }
}

fn plan(s: &Store, job: JobId, outputs: Vec<PlannedOutput>) {
    s.commit([Change::Planned { job, facts: Box::new(serde_json::json!({})), outputs, configuration: None }])
        .unwrap();
}

fn made(job: JobId, output: u32) -> Change {
    let files = vec![MadeFile { inside: String::new(), bytes: 9, digest: "d".into(), ours: false }];
    Change::Made { job, output, preset: "proxy".into(), files, made: Default::default() }
}

fn steps(s: &Store, job: JobId) -> Vec<String> {
    s.read(|v| v.tasks_of(job)).unwrap().iter().map(|t| t.key.step.name().to_owned()).collect()
}

fn state(s: &Store, job: JobId) -> State {
    s.read(|v| v.job(job)).unwrap().unwrap().state
}

#[test]
fn tasks_follow_from_what_happened() {
    let (_dir, s) = store();
    let job = arrive(&s, "a.mp4");
    assert_eq!((steps(&s, job), state(&s, job)), (vec!["look".to_owned()], State::Waiting));
    plan(&s, job, vec![output(0, false), output(1, false), output(2, true)]);
    assert_eq!((steps(&s, job), state(&s, job)), (vec!["make".to_owned()], State::Making));
    s.commit([made(job, 0)]).unwrap();
    assert_eq!(steps(&s, job), ["carry", "make"], "what is made goes out");
    let why = "no sound".to_owned();
    s.commit([Change::NotMade { job, output: 1, preset: "x".into(), end: NotMade::NotApplicable, why }])
        .unwrap();
    assert_eq!(steps(&s, job), ["carry", "hear"], "hearing comes behind making");
    s.commit([made(job, 2)]).unwrap();
    assert_eq!((steps(&s, job), state(&s, job)), (vec!["carry".to_owned(); 2], State::Carrying));
    for output in [0, 2] {
        let (place, name, proof) = ("editors".to_owned(), format!("a-{output}.mp4"), Proof::ReadBack);
        s.commit([Change::Delivered {
            job,
            output,
            preset: "proxy".into(),
            place,
            name,
            proof,
            address: None,
        }])
        .unwrap();
    }
    assert!(steps(&s, job).is_empty());
    s.commit([Change::AllDelivered { job }, Change::Done { job, note: None, content: None }]).unwrap();
    assert_eq!((steps(&s, job).len(), state(&s, job)), (0, State::Done));
    assert_eq!(s.read(|v| v.tally()).unwrap(), [(State::Done, 1)]);
    // What is still told of it gives it nothing to do.
    s.commit([made(job, 0), Change::Remade { job, output: 0, preset: "x".into(), why: String::new() }])
        .unwrap();
    assert!(steps(&s, job).is_empty() && state(&s, job) == State::Done);
}

#[test]
fn tries_are_a_tasks_own_and_end_with_it() {
    let (dir, s) = store();
    let job = arrive(&s, PathBuf::from(OsStr::from_bytes(b"odd \xff\n name")));
    let look = TaskKey { job, step: Step::Look };
    let cause = Cause::System { why: "no room".into() };
    s.commit([
        Change::Broke { task: look.clone(), why: "crash".into() },
        Change::Held { task: look.clone(), cause: cause.clone(), next_try: Some(77) },
    ])
    .unwrap();
    drop(s);
    let s = Store::open(&dir.path().join("jobs.sqlite")).unwrap();
    let task = s.read(|v| v.task(&look)).unwrap().unwrap();
    assert_eq!((task.tries, task.cause, task.next_try), (1, Some(cause), Some(77)));
    plan(&s, job, vec![output(0, false)]);
    let make = s.read(|v| v.tasks_of(job)).unwrap().remove(0);
    assert_eq!((make.key.step, make.tries, make.cause), (Step::Make, 0, None));
    assert_eq!(
        s.read(|v| v.job(job)).unwrap().unwrap().path,
        PathBuf::from(OsStr::from_bytes(b"odd \xff\n name"))
    );
}

#[test]
fn a_transaction_that_fails_leaves_nothing() {
    let (_dir, s) = store();
    let job = arrive(&s, "a.mp4");
    let twice = Change::Arrived {
        job,
        watch: "cards".into(),
        path: "b.mp4".into(),
        seen: seen(9),
        priority: 0,
        many: None,
        beside: Vec::new(),
    };
    let before = s.read(|v| v.dump()).unwrap();
    assert!(s.commit([Change::Begun { job }, twice]).is_err());
    assert_eq!(s.read(|v| v.dump()).unwrap(), before);
    assert_eq!(s.read(|v| v.events(job)).unwrap().len(), 1);
}

/// Work that is under way may still record what it did; the job is cancelled all the same.
#[test]
fn a_job_that_is_cancelled_does_nothing_else() {
    let (_dir, s) = store();
    let job = arrive(&s, "a.mp4");
    plan(&s, job, vec![output(0, false), output(1, false)]);
    s.commit([Change::Cancelling { job }]).unwrap();
    assert_eq!(steps(&s, job), ["cancel"]);
    let ticket = Ticket::Staged("x".into());
    let (place, name, preset) = ("editors".to_owned(), "a-0.mp4".to_owned(), "proxy".to_owned());
    s.commit([
        made(job, 0),
        Change::Carrying {
            job,
            output: 0,
            preset: preset.clone(),
            place: place.clone(),
            name: name.clone(),
            ticket,
            aside: None,
        },
        Change::TurningAway { job, reason: "late".into() },
    ])
    .unwrap();
    assert!(steps(&s, job).contains(&"cancel".to_owned()), "whatever is still told of it");
    plan(&s, job, vec![output(0, false)]);
    assert!(steps(&s, job).contains(&"cancel".to_owned()));
    let proof = Proof::ReadBack;
    s.commit([
        Change::Delivered { job, output: 0, preset, place, name, proof, address: None },
        Change::Cancelled { job },
    ])
    .unwrap();
    assert_eq!((steps(&s, job).len(), state(&s, job)), (0, State::Cancelled));
    let left = s.read(|v| v.deliveries(job)).unwrap();
    assert!(left.iter().all(|d| d.delivered.is_some()), "what was delivered stays in the record: {left:?}");
    // The file is known: it is not taken again.
    assert!(s.read(|v| v.known("cards", Path::new("a.mp4"), &seen(job as u64))).unwrap().is_some());
    assert_eq!(s.read(|v| v.tally()).unwrap(), [(State::Cancelled, 1)]);
}

#[test]
fn an_ended_job_begins_once_more_and_is_counted_once() {
    let (dir, s) = store();
    let job = arrive(&s, "a.mp4");
    s.commit([Change::Done { job, note: None, content: Some("c".into()) }]).unwrap();
    s.commit([Change::Again { job }]).unwrap();
    let now = s.read(|v| v.job(job)).unwrap().unwrap();
    assert_eq!((now.state, now.ended, now.content), (State::Waiting, None, None));
    assert_eq!((steps(&s, job), s.read(|v| v.open_count()).unwrap()), (vec!["look".to_owned()], 1));
    // One that has not ended is not begun twice.
    s.commit([Change::Begun { job }, Change::Again { job }]).unwrap();
    assert!(s.read(|v| v.job(job)).unwrap().unwrap().started.is_some());
    s.commit([Change::Done { job, note: None, content: None }]).unwrap();
    let tally: Vec<_> = s.read(|v| v.tally()).unwrap().into_iter().filter(|t| t.1 > 0).collect();
    assert_eq!(tally, [(State::Done, 1)]);
    // The same record gives the same store.
    let other = Store::open(&dir.path().join("other.sqlite")).unwrap();
    let own = other.read(|v| v.dump()).unwrap();
    assert_ne!(own, s.read(|v| v.dump()).unwrap());
    other.replay(&s.read(|v| v.events(job)).unwrap()).unwrap();
    assert_eq!(other.read(|v| v.tally()).unwrap(), s.read(|v| v.tally()).unwrap());
    assert_eq!(other.read(|v| v.tasks_of(job)).unwrap().len(), 0);
}

#[test]
fn a_pause_is_kept() {
    let (dir, s) = store();
    assert!(!s.read(|v| v.is_paused()).unwrap());
    s.commit([Change::Paused { yes: true }]).unwrap();
    drop(s);
    let s = Store::open(&dir.path().join("jobs.sqlite")).unwrap();
    assert!(s.read(|v| v.is_paused()).unwrap());
    s.commit([Change::Paused { yes: false }]).unwrap();
    assert!(!s.read(|v| v.is_paused()).unwrap());
}

#[test]
fn names_at_a_place_are_given_once() {
    let (_dir, s) = store();
    let (a, b) = (arrive(&s, "a"), arrive(&s, "b"));
    for job in [a, b] {
        plan(&s, job, vec![output(0, false)]);
    }
    let give = |job, name: &str| {
        let (place, name, ticket) = ("editors".into(), name.into(), Ticket::Staged(".x".into()));
        s.commit([Change::Carrying {
            job,
            output: 0,
            preset: "proxy".into(),
            place,
            name,
            ticket,
            aside: None,
        }])
    };
    give(a, "a.mp4").unwrap();
    assert!(give(b, "a.mp4").is_err(), "the store itself refuses");
    give(b, "a_2.mp4").unwrap();
    assert!(s.read(|v| v.name_is_given("editors", "a_2.mp4")).unwrap());
}

#[test]
fn what_a_newer_program_wrote_is_left_alone() {
    let (dir, s) = store();
    let job = arrive(&s, "a");
    s.db()
        .execute_batch(
            "INSERT INTO event (at, job, version, change) VALUES (1, 1, 9, '{\"what\":\"beamed\",\"job\":1}');
             INSERT INTO task (job, step) VALUES (1, 'beam');",
        )
        .unwrap();
    assert_eq!(s.read(|v| v.events(job)).unwrap().pop().unwrap().change, Change::Unknown);
    assert_eq!(s.read(|v| v.tasks_of(job)).unwrap()[0].key.step, Step::Unknown);
    assert_eq!(State::from_name("in the post"), State::Unknown("in the post".into()));
    s.db().pragma_update(None, "user_version", 99).unwrap();
    drop(s);
    let path = dir.path().join("jobs.sqlite");
    for e in [Store::open(&path).unwrap_err(), Store::look(&path).unwrap_err()] {
        assert!(matches!(e, crate::Error::StoreTooNew { found: 99, .. }), "{e}");
    }
}

#[test]
fn who_only_looks_changes_nothing() {
    let (dir, s) = store();
    arrive(&s, "a");
    let looking = Store::look(&dir.path().join("jobs.sqlite")).unwrap().unwrap();
    assert!(looking.commit([Change::Stopped]).is_err());
    assert_eq!(looking.read(|v| v.open_count()).unwrap(), 1);
}

#[test]
fn jobs_come_in_pages() {
    let (_dir, s) = store();
    let jobs: Vec<JobId> = (0..7).map(|n| arrive(&s, format!("{n}"))).collect();
    for job in &jobs[..5] {
        s.commit([Change::Done { job: *job, note: None, content: None }]).unwrap();
    }
    let mut seen = Vec::new();
    let mut after = None;
    loop {
        let page = s.read(|v| v.jobs(&Filter { ended: true, after, most: 2, ..Filter::default() })).unwrap();
        seen.extend(page.rows.iter().map(|j| j.id));
        after = page.next;
        if after.is_none() {
            break;
        }
    }
    assert_eq!(seen, [5, 4, 3, 2, 1]);
    let open = s.read(|v| v.jobs(&Filter { most: 9, ..Filter::default() })).unwrap();
    assert_eq!(open.rows.iter().map(|j| j.id).collect::<Vec<_>>(), [6, 7]);
}

/// Where no numbers are kept, files of one size and time are told apart by their paths.
#[test]
fn what_was_left_is_known_by_its_path_first() {
    let (_dir, s) = store();
    let look = |path: &str, content: Option<&str>| {
        let job = s.read(|v| v.next_job()).unwrap();
        let (watch, path, seen) = ("cards".to_owned(), PathBuf::from(path), seen(0));
        let arrived = Change::Arrived { job, watch, path, seen, priority: 0, many: None, beside: Vec::new() };
        let content = content.map(str::to_owned);
        let done = content.is_some().then_some(Change::Done { job, note: None, content });
        s.commit([arrived].into_iter().chain(done)).unwrap();
        job
    };
    let (first, second) = (look("a.dpx", Some("one")), look("b.dpx", Some("two")));
    let known = |path: &str| {
        let job = look(path, None);
        s.read(|v| v.known_before(&v.job(job)?.unwrap())).unwrap().map(|j| j.id)
    };
    assert_eq!((known("a.dpx"), known("b.dpx")), (Some(first), Some(second)));
    assert_eq!(known("renamed.dpx"), Some(second), "by what else it is; its content decides");
}

/// Every query that is asked again and again goes by an index: none looks through what has piled up in years.
#[rstest]
#[case(NEXT_OPEN)]
#[case(NEXT_ENDED)]
#[case(KNOWN)]
#[case(KNOWN_BEFORE)]
#[case(KNOWN_HERE)]
#[case(KNOWN_CONTENT)]
#[case(CLEARED)]
#[case(WORKED_ON)]
#[case(EVENTS_OF)]
#[case(EVENTS_AFTER)]
#[case(TASKS_OF)]
#[case(GIVEN)]
#[case("SELECT count(*) FROM job INDEXED BY job_open WHERE ended IS NULL")]
#[case("SELECT * FROM output WHERE job = ? ORDER BY number")]
#[case("SELECT * FROM delivery WHERE job = ? ORDER BY output, place")]
#[case("SELECT value FROM fact WHERE name = ?")]
#[case("DELETE FROM task WHERE job = ?")]
fn repeated_queries_go_by_an_index(#[case] sql: &str) {
    let (_dir, s) = store();
    let db = s.db();
    let mut q = db.prepare(&format!("EXPLAIN QUERY PLAN {sql}")).unwrap();
    let n = q.parameter_count();
    let rows: Vec<String> = q
        .query_map(rusqlite::params_from_iter(vec![1; n]), |r| r.get(3))
        .unwrap()
        .collect::<Result<_, _>>()
        .unwrap();
    for row in &rows {
        let whole =
            row.starts_with("SCAN") && !row.contains("INDEX job_open") && !row.contains("INDEX job_ended");
        assert!(!whole && !row.contains("TEMP B-TREE"), "{sql}: {rows:?}");
    }
}
