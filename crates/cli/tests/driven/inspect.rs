//! `inspect` on files of many formats: for people, for programs, and with every frame decoded.

use crate::support::{self, PROGRAM};
use rstest::rstest;
use serde_json::Value;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

fn fixture(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/fixtures").join(name)
}

fn inspect(args: &[&str], files: &[PathBuf]) -> Output {
    Command::new(PROGRAM).arg("inspect").args(args).args(files).output().unwrap()
}

fn text(o: &Output) -> String {
    String::from_utf8_lossy(&o.stdout).into_owned() + &String::from_utf8_lossy(&o.stderr)
}

fn json(o: &Output) -> Value {
    serde_json::from_slice(&o.stdout).unwrap()
}

#[rstest]
#[case("browser-vp9-10.ivf", &["VP9 profile 2", "10-bit 4:2:0", "25 frames/s, 12 frames"])]
#[case("recorded-vp8.webm", &["WebM", "VP8, 64x48", "Opus, 48000 Hz"])]
#[case("sound-24.flac", &["FLAC 24-bit, 44100 Hz, stereo"])]
#[case("sound-alac-16.caf", &["CAF", "ALAC"])]
#[case("turned.jpg", &["32x48, turned 90 degrees"])]
#[case("picture.avif", &["AVIF, 48x32", "4:4:4"])]
#[case("profile.png", &["a colour profile is inside"])]
#[case("browser.json", &["this is text, not media"])]
fn people_are_told_what_a_file_is(#[case] name: &str, #[case] words: &[&str]) {
    let out = text(&inspect(&[], &[fixture(name)]));
    for w in words {
        assert!(out.contains(w), "no '{w}' in:\n{out}");
    }
}

#[test]
fn deep_counts_and_digests_and_finds_the_first_bad_frame() {
    let good = json(&inspect(&["--deep", "--json"], &[fixture("browser-vp8.ivf")]));
    let track = &good["deep"]["tracks"][0];
    assert_eq!((track["decoded"].as_u64(), track["bad"].as_u64()), (Some(12), Some(0)));
    assert!(track["digest"].as_str().unwrap().starts_with("xxh3-128:"));
    // The seventh frame's start is no frame any more.
    let dir = tempfile::tempdir().unwrap();
    let bad = dir.path().join("bad.ivf");
    let mut bytes = std::fs::read(fixture("browser-vp8.ivf")).unwrap();
    let mut at = 32;
    for _ in 0..6 {
        at += 12 + u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
    }
    bytes[at + 12..at + 40].fill(0xff);
    std::fs::write(&bad, bytes).unwrap();
    let out = inspect(&["--deep", "--json"], std::slice::from_ref(&bad));
    let track = &json(&out)["deep"]["tracks"][0];
    assert_eq!((out.status.code(), track["bad"].as_u64()), (Some(1), Some(1)), "{track}");
    assert_eq!(track["first_bad"]["number"], 7);
    assert!((track["first_bad"]["seconds"].as_f64().unwrap() - 0.24).abs() < 1e-9);
    let said = text(&inspect(&["--deep"], &[bad]));
    assert!(said.contains("1 BAD") && said.contains("first bad one: number 7 at 0.240 s"), "{said}");
}

#[test]
fn lossless_sound_has_one_digest_in_every_container() {
    let digest = |name: &str| {
        json(&inspect(&["--deep", "--json"], &[fixture(name)]))["deep"]["tracks"][0]["digest"].clone()
    };
    let wanted = digest("sound-24.wav");
    assert!(wanted.is_string());
    for name in ["sound-24.flac", "sound-24.aiff", "sound-24.caf", "sound-alac-24.caf"] {
        assert_eq!(digest(name), wanted, "{name}");
    }
}

#[test]
fn numbered_pictures_are_one_clip_where_that_is_asked_for() {
    let dir = tempfile::tempdir().unwrap();
    for n in 8..12 {
        std::fs::copy(fixture("picture.png"), dir.path().join(format!("title_{n:04}.png"))).unwrap();
    }
    std::fs::copy(fixture("tone.mp3"), dir.path().join("track_01.mp3")).unwrap();
    let alone = json(&inspect(&["--json"], &[dir.path().into()]));
    assert_eq!(alone.as_array().unwrap().len(), 5);
    let out = inspect(&["--json", "--deep", "--run", "23.976"], &[dir.path().into()]);
    let together = json(&out);
    assert_eq!(together.as_array().unwrap().len(), 2, "{}", text(&out));
    let clip = &together[0];
    assert!(clip["file"].as_str().unwrap().ends_with("title_0008.png to title_0011.png"));
    assert_eq!(
        (clip["video"][0]["frames"].as_u64(), clip["deep"]["tracks"][0]["decoded"].as_u64()),
        (Some(4), Some(4))
    );
    assert_eq!(clip["video"][0]["rate"]["num"], 24_000);
    let wrong = inspect(&["--run", "fast"], &[dir.path().into()]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(text(&wrong).contains("'fast' is no rate"), "{}", text(&wrong));
}

/// The published schema is what the program prints, and what it prints of every file fits it.
#[test]
fn the_schema_is_published_and_kept() {
    let published = support::published("inspect.json", &["inspect", "--schema"]);
    let validator = jsonschema::validator_for(&published).unwrap();
    let mut files = vec![fixture("")];
    files.push(Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/real"));
    let all = json(&inspect(&["--json", "--deep"], &files));
    assert!(all.as_array().unwrap().len() > 30);
    for one in all.as_array().unwrap() {
        let wrong: Vec<String> =
            validator.iter_errors(one).map(|e| format!("{}: {e}", e.instance_path)).collect();
        assert!(wrong.is_empty(), "{}: {wrong:?}", one["file"]);
    }
    assert!(!validator.is_valid(&serde_json::json!({"file": 7})));
}

#[test]
fn a_reader_that_goes_away_is_no_failure() {
    let mut child = Command::new(PROGRAM)
        .args(["inspect", "--schema"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let mut said = String::new();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    assert!(child.wait().unwrap().success() && said.is_empty(), "{said}");
}

/// The page of formats has what the tables of the program say, and the lists of what is read name nothing that is refused.
#[test]
fn the_page_of_formats_is_what_the_program_says() {
    let told = Command::new(PROGRAM).arg("formats").output().unwrap();
    assert!(told.status.success());
    let told = String::from_utf8(told.stdout).unwrap();
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/formats.md");
    let page = std::fs::read_to_string(path).unwrap();
    let (before, rest) = page.split_once("```text\n").unwrap();
    let (held, after) = rest.split_once("```\n").unwrap();
    if std::env::var_os("UPDATE_FORMATS").is_some() {
        std::fs::write(path, format!("{before}```text\n{told}```\n{after}")).unwrap();
    }
    assert!(held == told, "docs/formats.md is not of today: run this test with UPDATE_FORMATS=1");
    let json = Command::new(PROGRAM).args(["formats", "--json"]).output().unwrap().stdout;
    let json: serde_json::Value = serde_json::from_slice(&json).unwrap();
    for (kind, name) in [("pictures", "HEVC"), ("sound", "Opus"), ("stills", "HEIC"), ("containers", "AVI")] {
        assert!(json["reads"][kind].as_array().unwrap().iter().any(|n| n == name), "{name}");
    }
    assert!(json["known"].as_array().unwrap().iter().any(|k| k["name"] == "MXF"));
}

/// A sequence's parameters that libde265 would write its own words about (found by mutations: blocks that do not fill the
/// picture, transforms halved too often between pictures and within one) are refused before it sees them.
#[rstest]
#[case(49, 0)]
#[case(51, 4)]
#[case(53, 2)]
#[case(54, 2)]
#[case(54, 7)]
fn no_library_writes_to_the_terminal(#[case] at: usize, #[case] bit: u32) {
    let dir = tempfile::tempdir().unwrap();
    let bad = dir.path().join("bad.h265");
    let mut bytes = std::fs::read(fixture("camera-422-open.h265")).unwrap();
    bytes[at] ^= 1 << bit;
    std::fs::write(&bad, bytes).unwrap();
    let out = inspect(&["--deep"], &[bad]);
    assert_eq!((out.status.code(), String::from_utf8_lossy(&out.stderr).as_ref()), (Some(1), ""));
    let why = if media::codec::hevc::WIDE_PRESENT { "parameters that cannot be" } else { "libde265" };
    assert!(text(&out).contains(why), "{}", text(&out));
}

/// What a file is refused for is in the list of what is known, and the list says what would work instead.
#[test]
fn what_is_known_by_name_is_refused_by_that_name() {
    let dir = tempfile::tempdir().unwrap();
    let json = Command::new(PROGRAM).args(["formats", "--json"]).output().unwrap().stdout;
    let json: serde_json::Value = serde_json::from_slice(&json).unwrap();
    let known = json["known"].as_array().unwrap();
    let files: [(&str, &[u8]); 5] = [
        ("MXF", &[0x06, 0x0e, 0x2b, 0x34, 0x02, 0x05, 0x01, 0x01, 0x0d, 1, 2, 3, 4]),
        ("TAK", b"tBaK\x01\x0d\0\0"),
        ("WavPack", b"wvpk\0\0\0\0\x10\x04\0\0"),
        ("PDF", b"%PDF-1.7 and so on"),
        ("a plain E-AC-3 stream", &[0x0b, 0x77, 0x02, 0xff, 0x3f, 0x87, 0xff]),
    ];
    for (name, bytes) in files {
        let path = dir.path().join("file.bin");
        std::fs::write(&path, bytes).unwrap();
        let out = Command::new(PROGRAM).arg("inspect").arg(&path).output().unwrap();
        let words = String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned();
        let row = known.iter().find(|k| k["name"] == name).unwrap();
        assert!(!out.status.success() && words.contains(name), "{name}: {words}");
        assert!(words.contains(row["instead"].as_str().unwrap()), "{name}: {words}");
    }
}
