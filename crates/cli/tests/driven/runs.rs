//! Runs of frames: many files, one arrival; with holes, rendered again, killed while they are moved.

use crate::support::{House, PROGRAM, text};
use rstest::rstest;
use std::path::Path;
use std::process::Command;

/// A grey BMP of 32x18 pixels: a file header, an info header, rows from the bottom up.
fn frame(grey: u8) -> Vec<u8> {
    let (width, height) = (32u32, 18u32);
    let bytes = width * height * 3;
    let mut out = b"BM".to_vec();
    for n in [54 + bytes, 0, 54, 40, width, height] {
        out.extend(n.to_le_bytes());
    }
    out.extend([1, 0, 24, 0]);
    for n in [0, bytes, 2835, 2835, 0, 0] {
        out.extend(n.to_le_bytes());
    }
    out.resize(54 + bytes as usize, grey);
    out
}

fn house(original: &str, holes: &str) -> House {
    let house = House::with(original, "");
    house.reconfigure(
        "steady = \"300 ms\"",
        &format!(
            "steady = \"300 ms\"\nframes = [\"*.bmp\"]\nframes_steady = \"500 ms\"\nholes_after = \"1500 ms\"\n\
             holes = \"{holes}\"\nframe_rate = \"24000/1001\""
        ),
    );
    house.reconfigure(
        "when = 'kind == \"video\"'\nmake = [{ preset = \"proxy\", name = \"{stem}_proxy\"",
        "when = 'kind == \"video\" && frames > 1'\nmake = [{ preset = \"proxy\", name = \"{folder}/{stem}_{first_frame}_{frames}\"",
    );
    std::fs::create_dir_all(house.path("in/vfx/shot 7")).unwrap();
    house
}

fn render(house: &House, numbers: impl IntoIterator<Item = u64>, grey: u8) {
    for n in numbers {
        let path = house.path(format!("in/vfx/shot 7/s007_v01.{n:04}.bmp"));
        std::fs::write(path, frame(grey.wrapping_add(n as u8))).unwrap();
    }
}

const MOVE: &str = "original = \"move\"\ndone = \"done\"";

#[test]
fn many_frames_are_one_job_and_one_clip() {
    let house = house(MOVE, "turn away");
    render(&house, 1001..=1048, 0);
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let status = house.status();
    assert_eq!(status["ended"].as_array().unwrap().len(), 1, "{status:#}");
    assert_eq!(status["ended"][0]["path"], "vfx/shot 7/s007_v01.####.bmp");
    let clip = house.facts("out/vfx/shot 7/s007_v01_1001_48.mp4");
    let v = clip.picture().unwrap();
    assert_eq!((v.frames, v.rate.unwrap().to_string().as_str()), (Some(48), "24000/1001"));
    // The frames are moved together, and no longer in the watch folder.
    assert_eq!(house.list("in/vfx/shot 7").len(), 0);
    let moved = house.list("done/vfx/shot 7/s007_v01");
    assert_eq!((moved.len(), moved[0].as_str()), (48, "s007_v01.1001.bmp"));
    for (n, name) in moved.iter().enumerate() {
        let bytes = std::fs::read(house.path("done/vfx/shot 7/s007_v01").join(name)).unwrap();
        assert_eq!(bytes, frame((1001 + n) as u8), "{name}");
    }
    // Some of them rendered again are an arrival of their own, and lie beside the first.
    render(&house, 1003..=1005, 9);
    assert!(house.run_once().status.success());
    assert_eq!(house.list("done/vfx/shot 7"), ["s007_v01", "s007_v01_2"]);
    assert!(house.path("out/vfx/shot 7/s007_v01_1003_3.mp4").exists());
}

#[rstest]
#[case::taken("take", 0)]
#[case::turned_away("turn away", 1)]
fn holes_are_waited_for_and_then_told(#[case] holes: &str, #[case] away: usize) {
    let house = house(MOVE, holes);
    render(&house, (1..=6).chain(9..=12), 0);
    let start = std::time::Instant::now();
    house.run_once();
    assert!(start.elapsed().as_millis() >= 1500, "it waited for them");
    let status = house.status();
    assert_eq!(status["ended"].as_array().unwrap().len(), 1);
    if away == 1 {
        let reason = status["ended"][0]["reason"].as_str().unwrap();
        assert_eq!(reason, "frames are missing: 1 to 12, 2 missing (7 to 8)");
        assert_eq!(house.list("away/vfx/shot 7/s007_v01").len(), 10);
        let why = std::fs::read_to_string(house.path("away/vfx/shot 7/s007_v01.why.txt")).unwrap();
        assert!(why.contains("2 missing (7 to 8)"), "{why}");
        let again = Command::new(PROGRAM)
            .args(["jobs", "again", "1", "--house"])
            .arg(house.path(""))
            .output()
            .unwrap();
        assert!(text(&again).contains("move s007_v01.####.bmp back from"), "{}", text(&again));
    } else {
        // What is missing is filled with what stands before it: the clip is as long as the shot.
        let clip = house.facts("out/vfx/shot 7/s007_v01_1_10.mp4");
        let seconds = clip.duration.unwrap().seconds;
        assert!((seconds - 12.0 * 1001.0 / 24000.0).abs() < 0.002, "{seconds}");
        assert_eq!(house.list("done/vfx/shot 7/s007_v01").len(), 10);
    }
}

#[test]
fn a_run_that_grows_waits_and_is_shown() {
    let house = house(MOVE, "turn away");
    let running = house.start();
    for n in 1..=12 {
        render(&house, [n], 0);
        std::thread::sleep(std::time::Duration::from_millis(150));
        if n == 8 {
            let status = house.status();
            assert_eq!(status["arriving"][0]["path"], "vfx/shot 7/s007_v01.####.bmp", "{status:#}");
            assert_eq!(status["open_count"], 0);
        }
    }
    let status = house.wait_until("done", |s| s["ended"].as_array().unwrap().len() == 1);
    assert_eq!(status["ended_counts"][0]["jobs"], 1);
    running.interrupt();
    assert!(house.path("out/vfx/shot 7/s007_v01_1_12.mp4").exists());
}

#[test]
fn originals_that_are_left_are_known_and_a_frame_made_anew_is_another_state() {
    let house = house("original = \"leave\"", "turn away");
    render(&house, 1..=5, 0);
    house.run_once();
    assert_eq!(house.list("out/vfx/shot 7"), ["s007_v01_1_5.mp4"]);
    // Nothing changed, or only an attribute did.
    house.run_once();
    let one = house.path("in/vfx/shot 7/s007_v01.0003.bmp");
    let mut rights = std::fs::metadata(&one).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut rights, 0o600);
    std::fs::set_permissions(&one, rights).unwrap();
    house.run_once();
    assert_eq!(house.list("out/vfx/shot 7").len(), 1);
    render(&house, [3], 99);
    house.run_once();
    assert_eq!(house.list("out/vfx/shot 7"), ["s007_v01_1_5.mp4", "s007_v01_1_5_2.mp4"]);
    let again = Command::new(PROGRAM)
        .args(["jobs", "again", "--state", "done", "--watch", "cards", "--house"])
        .arg(house.path(""))
        .output()
        .unwrap();
    let again = text(&again);
    assert!(again.contains("is done once more"), "{again}");
    // Removed, when the watch says so.
    house.reconfigure("original = \"leave\"", "original = \"remove\"");
    house.run_once();
    assert_eq!(house.list("in/vfx/shot 7").len(), 0);
}

/// Killed while the frames are moved: every frame is in one of the two folders, whole, and the next porter ends it.
#[test]
fn a_kill_while_frames_are_moved_loses_none() {
    let house = house(MOVE, "turn away");
    render(&house, 1..=40, 0);
    let mut killed = 0;
    for n in [1, 7, 20, 39] {
        let out = Command::new(PROGRAM)
            .args(["run", "--once"])
            .arg(house.path(""))
            .env("DEFT_PORTER_TEST_KILL_AT", format!("frame moved:{n}"))
            .output()
            .unwrap();
        killed += usize::from(!out.status.success());
        let count = |folder: &str| {
            let path = house.path(folder);
            if path.exists() { house.list(folder).iter().filter(|n| n.ends_with(".bmp")).count() } else { 0 }
        };
        assert_eq!(count("in/vfx/shot 7") + count("done/vfx/shot 7/s007_v01"), 40);
    }
    assert!(killed > 0, "it was killed");
    assert!(house.run_once().status.success());
    assert_eq!(house.list("done/vfx/shot 7"), ["s007_v01"]);
    let moved = house.list("done/vfx/shot 7/s007_v01");
    assert_eq!(moved.len(), 40);
    for name in moved {
        let n: u8 = name[9..13].parse().unwrap();
        assert!(
            std::fs::read(house.path("done/vfx/shot 7/s007_v01").join(&name)).unwrap() == frame(n),
            "{name}"
        );
    }
    assert_eq!(house.list("out/vfx/shot 7"), ["s007_v01_1_40.mp4"]);
}

/// A link among frames is not followed out of the watch, and a child reads nothing else.
#[test]
fn a_link_among_frames_is_no_frame() {
    let house = house(MOVE, "turn away");
    render(&house, 1..=5, 0);
    let outside = tempfile::tempdir().unwrap();
    std::fs::write(outside.path().join("secret.bmp"), frame(7)).unwrap();
    let link = house.path("in/vfx/shot 7/s007_v01.0006.bmp");
    std::os::unix::fs::symlink(outside.path().join("secret.bmp"), &link).unwrap();
    house.run_once();
    assert!(house.path("out/vfx/shot 7/s007_v01_1_5.mp4").exists(), "{:?}", house.list("out"));
    assert!(Path::new(&link).symlink_metadata().is_ok() && outside.path().join("secret.bmp").exists());
}
