//! The parent's side of making, with children that misbehave.

use porter::config::MakerLimits;
use porter::maker::{Order, Outcome, Progress, make};
use rstest::rstest;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::time::Duration;

fn child(dir: &tempfile::TempDir, script: &str) -> PathBuf {
    let path = dir.path().join("child");
    std::fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    path
}

fn run(script: &str, limits: MakerLimits) -> Outcome {
    let dir = tempfile::tempdir().unwrap();
    let order = Order { source: "/nothing".into(), outputs: Vec::new(), memory: 1 << 30 };
    let program = child(&dir, script);
    // A test beside this one that starts its child holds, for a moment, our script open for writing as well.
    for _ in 0..100 {
        match make(&program, &order, &limits, |_| (), || false) {
            Err(e) if e.to_string().contains("Text file busy") => {
                std::thread::sleep(Duration::from_millis(20))
            }
            other => return other.unwrap(),
        }
    }
    panic!("the script stayed busy");
}

fn limits() -> MakerLimits {
    MakerLimits { memory: 2_000_000_000, stall: Duration::from_secs(20), longest: Duration::from_secs(20) }
}

#[rstest]
#[case::crash("kill -SEGV $$", "signal 11 (invalid memory access)")]
#[case::abort("echo 'the table is too small' >&2; kill -ABRT $$", "the table is too small")]
#[case::memory("echo 'memory allocation of 99 bytes failed' >&2; exit 101", "more than 2000 MB of memory")]
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
    "while :; do echo '{\"progress\":{\"done\":3,\"total\":9}}'; sleep 0.1; done",
    "stood still"
)]
#[case::never_ends(
    "i=0; while :; do i=$((i+1)); echo \"{\\\"progress\\\":{\\\"done\\\":$i,\\\"total\\\":null}}\"; sleep 0.1; done",
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
    let script = "read order; echo '{\"progress\":{\"done\":3,\"total\":9}}'; sleep 0.2; echo '{\"failed\":{\"class\":\"damaged\",\"message\":\"bad\"}}'; exit 1";
    let order = Order { source: "/nothing".into(), outputs: Vec::new(), memory: 1 << 30 };
    let mut seen = Vec::new();
    let outcome = make(&child(&dir, script), &order, &limits(), |p| seen.push(p), || false).unwrap();
    assert_eq!(seen, [Progress { done: 3, total: Some(9), ..Progress::default() }]);
    assert!(matches!(outcome, Outcome::Failed { class, message } if class == "damaged" && message == "bad"));
}

#[test]
fn a_stopped_making_leaves_no_child() {
    let dir = tempfile::tempdir().unwrap();
    let mark = dir.path().join("still-here");
    let script = format!("sleep 1; touch {}", mark.display());
    let order = Order { source: "/nothing".into(), outputs: Vec::new(), memory: 1 << 30 };
    let e = make(&child(&dir, &script), &order, &limits(), |_| (), || true).unwrap_err();
    assert!(matches!(e, porter::Error::Stopped));
    std::thread::sleep(Duration::from_millis(1500));
    // The shell was ended; what it had started may finish, but the line behind it does not run.
    assert!(!mark.exists());
}
