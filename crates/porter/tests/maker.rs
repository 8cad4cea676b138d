//! The parent's side of making, with children that misbehave.

use porter::config::MakerLimits;
use porter::maker::{self, Class, Order, Outcome, Run, Work};
use porter::progress::{Progress, Stage, Unit};
use rstest::rstest;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

fn child(dir: &tempfile::TempDir, script: &str) -> PathBuf {
    let path = dir.path().join("child");
    std::fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    path
}

fn order(folder: &Path) -> Order {
    Order { name: "a.mp4".into(), ..Order::new(Work::Make(Vec::new()), folder.to_owned()) }
}

fn make(
    dir: &tempfile::TempDir,
    script: &str,
    limits: MakerLimits,
    mut progress: impl FnMut(Progress),
    stop: bool,
) -> porter::Result<Outcome> {
    let program = child(dir, script);
    // A test beside this one that starts its child holds, for a moment, our script open for writing as well.
    for _ in 0..100 {
        let run =
            Run { program: &program, nursery: None, limits: &limits, source: None, order: order(dir.path()) };
        match maker::run(run, &mut progress, || stop) {
            Err(e) if e.to_string().contains("Text file busy") => {
                std::thread::sleep(Duration::from_millis(20))
            }
            other => return other,
        }
    }
    panic!("the script stayed busy");
}

fn run(script: &str, limits: MakerLimits) -> Outcome {
    make(&tempfile::tempdir().unwrap(), script, limits, |_| (), false).unwrap()
}

fn limits() -> MakerLimits {
    MakerLimits { memory: 2_000_000_000, stall: Duration::from_secs(20), longest: Duration::from_secs(20) }
}

#[rstest]
#[case::crash("kill -SEGV $$", "signal 11 (invalid memory access)")]
#[case::abort("echo 'the table is too small' >&2; kill -ABRT $$", "the table is too small")]
#[case::memory("echo '{\"refused\":99}'; kill -ABRT $$", "more than 2000 MB of memory")]
#[case::panicked(
    "echo \"thread 'main' panicked at tiff.rs:7:9:\" >&2; echo 'index out of bounds' >&2; echo 'note: run with' >&2; exit 70",
    "panicked at tiff.rs:7:9: index out of bounds"
)]
#[case::silent("exit 0", "without a result")]
#[case::babble("echo hello; echo '{\"unknown\":1}'; exit 7", "exit status 7")]
#[case::deaf("exec 0<&-; exit 4", "exit status 4")]
fn a_child_that_ends_badly_gives_a_reason(#[case] script: &str, #[case] words: &str) {
    match run(script, limits()) {
        Outcome::Broke(why) => assert!(why.contains(words), "{why}"),
        other => panic!("{other:?}"),
    }
}

#[rstest]
#[case::stands_still(
    "while :; do echo '{\"progress\":{\"stage\":\"making\",\"done\":3,\"of\":9,\"unit\":\"frames\"}}'; sleep 0.1; done",
    "stood still"
)]
#[case::never_ends(
    "i=0; while :; do i=$((i+1)); echo \"{\\\"progress\\\":{\\\"stage\\\":\\\"making\\\",\\\"done\\\":$i,\\\"unit\\\":\\\"frames\\\"}}\"; sleep 0.1; done",
    "took longer"
)]
fn a_child_that_does_not_end_is_ended(#[case] script: &str, #[case] words: &str) {
    let limits =
        MakerLimits { stall: Duration::from_millis(800), longest: Duration::from_millis(1500), ..limits() };
    match run(script, limits) {
        Outcome::Broke(why) => assert!(why.contains(words), "{why}"),
        other => panic!("{other:?}"),
    }
}

#[test]
fn words_of_the_child_are_passed_on() {
    let dir = tempfile::tempdir().unwrap();
    let script = "read order; echo '{\"progress\":{\"stage\":\"making\",\"done\":3,\"of\":9,\"unit\":\"frames\"}}'; sleep 0.2; echo '{\"failed\":{\"class\":\"damaged\",\"message\":\"bad\"}}'; exit 1";
    let mut seen = Vec::new();
    let outcome = make(&dir, script, limits(), |p| seen.push(p), false).unwrap();
    let want = Progress { stage: Stage::Making, output: None, done: 3, of: Some(9), unit: Unit::Frames };
    assert_eq!(seen, [want]);
    assert!(matches!(outcome, Outcome::Failed { class: Class::Damaged, message } if message == "bad"));
}

#[test]
#[allow(unsafe_code)]
fn a_child_has_an_empty_environment() {
    // SAFETY: no other test of this file reads or sets the environment.
    unsafe { std::env::set_var("DEFT_PORTER_TEST_TOKEN", "tide-and-time") };
    let script = "env > seen; exit 0";
    let dir = tempfile::tempdir().unwrap();
    let _ = make(&dir, script, limits(), |_| (), false);
    let seen = std::fs::read_to_string(dir.path().join("seen")).unwrap();
    assert!(!seen.contains("tide-and-time") && !seen.contains("HOME="), "{seen}");
}

#[test]
fn a_stopped_making_leaves_no_child() {
    let dir = tempfile::tempdir().unwrap();
    let mark = dir.path().join("still-here");
    let script = format!("sleep 1; touch {}", mark.display());
    let e = make(&dir, &script, limits(), |_| (), true).unwrap_err();
    assert!(matches!(e, porter::Error::Stopped));
    std::thread::sleep(Duration::from_millis(1500));
    // The shell was ended; what it had started may finish, but the line behind it does not run.
    assert!(!mark.exists());
}
