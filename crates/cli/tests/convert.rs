//! `convert`, `plan` and `presets` on real files, and what other programs say of what comes out.

mod support;

use rstest::rstest;
use std::path::Path;
use std::process::{Command, Output};
use support::{House, PROGRAM, clip, python, text};

fn porter(args: &[&str], dir: &Path) -> Output {
    Command::new(PROGRAM).args(args).current_dir(dir).output().unwrap()
}

fn desk() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("clip.mp4"), clip()).unwrap();
    dir
}

fn list(dir: &Path) -> Vec<String> {
    let mut names: Vec<String> = std::fs::read_dir(dir)
        .unwrap()
        .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

#[test]
fn several_presets_are_made_in_one_pass_under_free_names() {
    let desk = desk();
    let args =
        ["convert", "clip.mp4", "--preset", "edit-proxy-720", "podcast", "poster", "speech", "--to", "out"];
    let out = porter(&args, desk.path());
    assert!(out.status.success(), "{}", text(&out));
    let want = ["clip_edit-proxy-720.mp4", "clip_podcast.m4a", "clip_poster.jpg", "clip_speech.opus"];
    assert_eq!(list(&desk.path().join("out")), want);
    // Again: nothing is written over, and nothing half made lies there.
    let before = std::fs::read(desk.path().join("out/clip_podcast.m4a")).unwrap();
    assert!(porter(&args, desk.path()).status.success());
    assert_eq!(list(&desk.path().join("out")).len(), 8);
    assert_eq!(std::fs::read(desk.path().join("out/clip_podcast.m4a")).unwrap(), before);
    assert!(desk.path().join("out/clip_podcast_2.m4a").exists());
}

#[test]
fn names_come_from_the_template_and_events_are_lines_of_json() {
    let desk = desk();
    let args = [
        "convert",
        "clip.mp4",
        "nothing.mp4",
        "--preset",
        "web-720",
        "--to",
        "out",
        "--name",
        "{preset}/{stem}",
        "--json",
    ];
    let out = porter(&args, desk.path());
    assert_eq!(out.status.code(), Some(1), "one of the files is not there");
    let lines: Vec<serde_json::Value> =
        text(&out).lines().map(|l| serde_json::from_str(l).unwrap_or_else(|e| panic!("{l}: {e}"))).collect();
    let whats: Vec<&str> = lines.iter().map(|l| l["what"].as_str().unwrap()).collect();
    assert_eq!(
        whats.iter().filter(|w| **w != "progress").collect::<Vec<_>>(),
        [&"planned", &"made", &"failed"]
    );
    let made = lines.iter().find(|l| l["what"] == "made").unwrap();
    assert_eq!(
        (made["path"].as_str(), made["made"]["frames"].as_u64()),
        (Some("out/web-720/clip.mp4"), Some(30))
    );
}

#[test]
fn what_does_not_apply_says_why_and_the_rest_is_made() {
    let desk = desk();
    std::fs::write(
        desk.path().join("bird.jpg"),
        include_bytes!("../../../demo/media/avocet-by-the-sluice.jpg"),
    )
    .unwrap();
    std::fs::write(desk.path().join("notes.mp4"), "call sheet").unwrap();
    let out = porter(
        &["convert", "bird.jpg", "notes.mp4", "--preset", "thumbnail", "web-720", "--to", "out"],
        desk.path(),
    );
    let said = text(&out);
    assert_eq!(out.status.code(), Some(1), "{said}");
    assert!(
        said.contains("web-720: not made") && said.contains("notes.mp4: not supported: this is text"),
        "{said}"
    );
    assert_eq!(list(&desk.path().join("out")), ["bird_thumbnail.jpg"]);
}

#[test]
fn a_plan_tells_what_is_shared_and_makes_nothing() {
    let desk = desk();
    let args = ["plan", "clip.mp4", "--preset", "poster", "thumbnail", "phone-4x3", "speech"];
    let out = porter(&args, desk.path());
    let said = text(&out);
    assert!(out.status.success(), "{said}");
    for words in [
        "decoded once: track 1: H.264, 320x180",
        "one picture every 1 s -> 320x180  (once, also for 2)",
        "scale to 640x360, Catmull-Rom -> 640x360",
        "set into 640x480, black beside it",
        "Opus 48000 Hz, 1 channels, 32 kbit/s, 2 channels to 1",
    ] {
        assert!(said.contains(words), "no \"{words}\" in:\n{said}");
    }
    assert_eq!(list(desk.path()), ["clip.mp4"]);
    let json = porter(&[&args[..], &["--json"]].concat(), desk.path());
    let v: serde_json::Value = serde_json::from_slice(&json.stdout).unwrap();
    assert_eq!(v["outputs"][0]["pictures"][0]["shared_with"], serde_json::json!([2]));
    // Of sound alone there is no poster.
    std::fs::write(desk.path().join("dawn.wav"), include_bytes!("../../../demo/media/dawn-north-sluice.wav"))
        .unwrap();
    let out = porter(&["plan", "dawn.wav", "--preset", "poster"], desk.path());
    assert!(out.status.code() == Some(1) && text(&out).contains("no picture track"), "{}", text(&out));
}

#[test]
fn a_preset_is_shown_changed_checked_and_used() {
    let desk = desk();
    let shown = porter(&["presets", "show", "web-720"], desk.path());
    let text_of = text(&shown).replace("1280x720", "160x90").replace("web-720", "tiny");
    std::fs::write(desk.path().join("ours.toml"), &text_of).unwrap();
    assert!(
        text(&porter(&["presets", "check", "ours.toml"], desk.path()))
            .contains("1 presets, all of them valid")
    );
    let args = ["convert", "clip.mp4", "--preset", "tiny", "--from", "ours.toml", "--to", "out"];
    assert!(porter(&args, desk.path()).status.success());
    let bytes = std::fs::File::open(desk.path().join("out/clip_tiny.mp4")).unwrap();
    assert_eq!(media::facts::of(Box::new(bytes)).unwrap().picture().unwrap().width, 160);
    std::fs::write(desk.path().join("ours.toml"), text_of.replace("160x90", "wide")).unwrap();
    let wrong = porter(&["presets", "check", "ours.toml"], desk.path());
    assert!(wrong.status.code() == Some(1) && text(&wrong).contains("ours.toml:"), "{}", text(&wrong));
    let near = porter(&["plan", "clip.mp4", "--preset", "web-72"], desk.path());
    assert!(text(&near).contains("is \"web-720\" meant?"), "{}", text(&near));
}

#[test]
fn a_rule_uses_a_shipped_preset_by_name() {
    let house = House::new();
    house.reconfigure("preset = \"proxy\"", "preset = \"phone-4x3\"");
    house.drop_in("a.mp4", clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let f = house.facts("out/a_proxy.mp4");
    assert_eq!((f.picture().unwrap().width, f.picture().unwrap().height), (640, 480));
}

/// Ctrl-C: within a second, and nothing half made is left.
#[test]
fn stopping_leaves_nothing() {
    let desk = desk();
    let long = support::make_clip(&media::testkit::Clip {
        frames: 1500,
        width: 640,
        height: 360,
        ..Default::default()
    });
    std::fs::write(desk.path().join("long.mp4"), long).unwrap();
    let mut c = Command::new(PROGRAM);
    c.args(["convert", "long.mp4", "--preset", "edit-proxy-1080", "podcast", "--to", "out"])
        .current_dir(desk.path());
    let mut child =
        c.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
    let start = std::time::Instant::now();
    while list(&desk.path().join("out").canonicalize().unwrap_or(desk.path().into())).len() < 2 {
        assert!(start.elapsed().as_secs() < 20, "never begun");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    std::thread::sleep(std::time::Duration::from_millis(300));
    let pid = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    let start = std::time::Instant::now();
    let status = child.wait().unwrap();
    assert!(start.elapsed().as_millis() < 1500, "{:?}", start.elapsed());
    assert_eq!((status.code(), list(&desk.path().join("out")).len()), (Some(130), 0));
}

/// Readers that are not ours agree on length, channels and rate.
#[rstest]
#[case("sound-master", "wav", "wave")]
#[case("speech", "opus", "mutagen")]
#[case("podcast", "m4a", "mutagen")]
#[case("podcast-mp3", "mp3", "mutagen")]
#[case("sound-archive", "flac", "mutagen")]
fn sound_files_read_elsewhere(#[case] preset: &str, #[case] extension: &str, #[case] reader: &str) {
    let desk = desk();
    assert!(
        porter(&["convert", "clip.mp4", "--preset", preset, "--to", "out"], desk.path()).status.success()
    );
    let path = desk.path().join(format!("out/clip_{preset}.{extension}"));
    let script = match reader {
        "wave" => {
            "import sys, struct\nb = open(sys.argv[1], 'rb').read()\nat = b.index(b'fmt ') + 8\n\
             tag, ch, rate, _, block, bits = struct.unpack('<HHIIHH', b[at:at + 16])\n\
             n = struct.unpack('<I', b[b.index(b'data') + 4:][:4])[0]\n\
             assert len(b) - 8 == struct.unpack('<I', b[4:8])[0]\nprint(n / block / rate, ch, rate)"
        }
        _ => {
            "import sys, mutagen\nf = mutagen.File(sys.argv[1]).info\n\
             print(f.length, f.channels, getattr(f, 'sample_rate', 48000))"
        }
    };
    let Some(said) = python(script, &[&path]) else { return };
    let values: Vec<f64> = said.split_whitespace().map(|v| v.parse().unwrap()).collect();
    let channels = if preset == "speech" { 1.0 } else { 2.0 };
    // In MP4 this reader counts the priming, which the edit list takes off for players.
    let slack = if preset == "podcast" { 0.07 } else { 0.01 };
    assert!((values[0] - 1.2).abs() < slack, "{said}");
    assert_eq!(values[1..], [channels, 48_000.0], "{said}");
}
