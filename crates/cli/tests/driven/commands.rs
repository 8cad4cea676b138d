//! The commands as typed.

use crate::support::{self, House, PROGRAM, clip, text};
use rstest::rstest;
use std::process::{Command, Output};

fn porter(args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).output().unwrap()
}

#[test]
fn init_makes_a_house_that_checks_and_works() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path().join("new house");
    let at = at.to_str().unwrap();
    let out = porter(&["init", at]);
    assert!(out.status.success() && text(&out).contains("drop files here"), "{}", text(&out));
    let out = porter(&["check", at]);
    assert!(out.status.success(), "{}", text(&out));
    assert!(
        text(&out).contains("the configuration is valid") && text(&out).contains("fast H.264"),
        "{}",
        text(&out)
    );
    // A second init does not overwrite.
    let out = porter(&["init", at]);
    assert_eq!(out.status.code(), Some(1));
    assert!(text(&out).contains("is already there"));
    std::fs::write(format!("{at}/arrivals/a.mp4"), clip()).unwrap();
    let out = porter(&["run", "--once", at]);
    assert!(out.status.success(), "{}", text(&out));
    assert!(std::path::Path::new(&format!("{at}/to-editors/a_proxy.mp4")).exists());
}

#[test]
fn a_wrong_configuration_is_shown_with_its_lines() {
    let house = House::new();
    let path = house.path("deft-porter.toml");
    let config = std::fs::read_to_string(&path).unwrap();
    std::fs::write(
        &path,
        config.replace("steady = \"300 ms\"", "steady = \"soon\"").replace("fit = \"160x90\"", "fitt = 5"),
    )
    .unwrap();
    let out = porter(&["check", house.path("").to_str().unwrap()]);
    assert_eq!(out.status.code(), Some(1));
    insta::with_settings!({filters => vec![(r"/\S*/deft-porter.toml", "[HOUSE]/deft-porter.toml")]}, {
        insta::assert_snapshot!("unknown key", text(&out));
    });
    std::fs::write(&path, config.replace("steady = \"300 ms\"", "steady = \"soon\"")).unwrap();
    let out = porter(&["run", house.path("").to_str().unwrap()]);
    insta::with_settings!({filters => vec![(r"/\S*/deft-porter.toml", "[HOUSE]/deft-porter.toml")]}, {
        insta::assert_snapshot!("wrong value", text(&out));
    });
}

#[rstest]
#[case(&["check", "/nowhere"], 1, "deft-porter init")]
#[case(&["status", "/nowhere"], 1, "deft-porter init")]
#[case(&["inspect"], 2, "<FILE>")]
#[case(&["inspect", "/nowhere.mp4"], 1, "No such file")]
#[case(&["conquer"], 2, "unrecognized")]
#[case(&["completions", "bash"], 0, "complete -F")]
#[case(&["make-in-chil"], 2, "unrecognized")]
#[case(&["--version"], 0, "fast H.264: ")]
fn commands_end_with_a_status_and_words(#[case] args: &[&str], #[case] code: i32, #[case] words: &str) {
    let out = porter(args);
    assert_eq!(out.status.code(), Some(code), "{}", text(&out));
    assert!(text(&out).contains(words), "{}", text(&out));
}

#[test]
fn inspect_tells_one_file_many_files_and_json() {
    let house = House::new();
    house.drop_in("a.mp4", clip());
    house.drop_in("b.txt", b"hello");
    let a = house.path("in/a.mp4");
    let one = porter(&["inspect", a.to_str().unwrap()]);
    insta::with_settings!({filters => vec![(r"/\S*/in/", "[IN]/"), (r"\d+\.\d kB", "[SIZE]"), (r"\d+ kbit/s", "[RATE]"), (r"\d\.\d Mbit/s", "[RATE]")]}, {
        insta::assert_snapshot!("one file", text(&one));
    });
    let many = porter(&["inspect", house.path("in").to_str().unwrap()]);
    assert_eq!(many.status.code(), Some(1));
    assert!(
        text(&many).contains("Not usable\nb.txt: not supported: this is text, not media"),
        "{}",
        text(&many)
    );
    let json = porter(&["inspect", "--json", a.to_str().unwrap()]);
    let v: serde_json::Value = serde_json::from_slice(&json.stdout).unwrap();
    assert_eq!((v["kind"].as_str(), v["video"][0]["frames"].as_u64()), (Some("video"), Some(30)));
    assert_eq!(v["timecode"]["start"], "10:00:00:00");
    let list = porter(&["inspect", "--json", house.path("in").to_str().unwrap()]);
    let v: serde_json::Value = serde_json::from_slice(&list.stdout).unwrap();
    assert!(v.as_array().unwrap().len() == 2 && v[1]["error"].is_string());
}

#[test]
fn manual_pages_are_written_for_every_command() {
    let dir = tempfile::tempdir().unwrap();
    assert!(porter(&["manual", dir.path().to_str().unwrap()]).status.success());
    let pages: Vec<_> = std::fs::read_dir(dir.path()).unwrap().map(|e| e.unwrap().path()).collect();
    assert!(pages.len() > 10 && dir.path().join("deft-porter-run.1").exists());
    for page in pages.iter().filter(|p| !p.to_string_lossy().ends_with("help.1")) {
        let text = std::fs::read_to_string(page).unwrap();
        let has = |what: &str| text.contains(what);
        assert!(has("Exit status") && has("Examples") && has("Files"), "{}", page.display());
    }
}

#[test]
fn a_file_that_a_name_says_is_media_but_is_not_does_no_harm() {
    let house = House::new();
    let dir = house.path("in/really-a-folder.mp4");
    std::fs::create_dir(&dir).unwrap();
    let out = porter(&["inspect", house.path("in/really-a-folder.mp4").to_str().unwrap()]);
    assert!(out.status.success(), "{}", text(&out));
}

#[test]
fn the_childs_own_start_is_no_command() {
    for args in [&["completions", "bash"][..], &["--help"], &["make-in-chil"]] {
        assert!(!text(&porter(args)).contains("make-in-child"), "{args:?}");
    }
}

#[test]
fn a_house_is_found_in_four_ways() {
    let house = House::new();
    let (dir, inner) = (house.path(""), house.path("in"));
    let dir = dir.to_str().unwrap();
    let run = |c: &mut Command| text(&c.output().unwrap());
    let all = [
        run(Command::new(PROGRAM).args(["status", dir])),
        run(Command::new(PROGRAM).args(["status", "--house", dir])),
        run(Command::new(PROGRAM).arg("status").env("DEFT_PORTER_HOUSE", dir)),
        run(Command::new(PROGRAM).arg("status").current_dir(inner)),
    ];
    assert!(all.iter().all(|t| t.contains("Estuary Hours") && *t == all[0]), "{all:#?}");
    house.drop_in("a.mp4", clip());
    house.run_once();
    for command in ["log", "history"] {
        let (word, option) = ([command, dir], [command, "--house", dir]);
        let said = run(Command::new(PROGRAM).args(word));
        assert!(said.contains("a.mp4") && said == run(Command::new(PROGRAM).args(option)), "{said}");
    }
}

#[test]
fn status_tells_by_its_exit_status_what_is_the_matter() {
    let house = House::new();
    let code = || porter(&["status", house.path("").to_str().unwrap()]).status.code();
    assert_eq!(code(), Some(3), "no porter runs");
    std::fs::remove_dir(house.path("out")).unwrap();
    house.drop_in("a.mp4", clip());
    house.run_once();
    assert_eq!(code(), Some(4), "a job is held");
    std::fs::create_dir(house.path("out")).unwrap();
    let _running = house.start();
    house.wait_until("done", |s| !s["ended"].as_array().unwrap().is_empty());
    assert_eq!(code(), Some(0));
}

#[test]
fn status_works_while_the_file_on_disk_is_broken() {
    let house = House::new();
    house.drop_in("a.mp4", clip());
    assert!(house.run_once().status.success());
    house.reconfigure("[house]", "[hou");
    let out = porter(&["status", house.path("").to_str().unwrap()]);
    assert!(
        text(&out).contains("configuration that was in force") && text(&out).contains("a_proxy.mp4"),
        "{}",
        text(&out)
    );
}

#[rstest]
#[case::editing("editing", "rushes", &["editors/Proxy/heron.mp4"])]
#[case::broadcast("broadcast", "masters", &["archive/review/heron.mp4", "playout/heron.mp4"])]
#[case::podcast("podcast", "episodes", &["listeners/heron.html", "listeners/heron.mp3", "listeners/heron_all.zip"])]
fn every_kind_of_house_works_as_it_is_made(#[case] kind: &str, #[case] folder: &str, #[case] made: &[&str]) {
    let dir = tempfile::tempdir().unwrap();
    let house = dir.path().join("house");
    let at = house.to_str().unwrap();
    let out = porter(&["init", "--kind", kind, at]);
    assert!(out.status.success(), "{}", text(&out));
    let out = porter(&["check", at]);
    assert!(out.status.success(), "{}", text(&out));
    let file = house.join("deft-porter.toml");
    let mut config = std::fs::read_to_string(&file).unwrap();
    for long in ["20 s", "30 s", "10 s"] {
        config = config.replace(&format!("steady = \"{long}\""), "steady = \"300 ms\"");
    }
    std::fs::write(&file, config).unwrap();
    std::fs::write(house.join(folder).join("heron.mp4"), clip()).unwrap();
    std::fs::write(house.join(folder).join("heron.mp4.ready"), b"").unwrap();
    let out = porter(&["run", "--once", at]);
    for name in made {
        assert!(house.join(name).exists(), "{name}: {}", text(&out));
    }
}

#[test]
fn a_house_for_effects_works_as_it_is_made() {
    let dir = tempfile::tempdir().unwrap();
    let house = dir.path().join("house");
    let at = house.to_str().unwrap();
    assert!(porter(&["init", "--kind", "effects", at]).status.success());
    let file = house.join("deft-porter.toml");
    let mut config = std::fs::read_to_string(&file).unwrap();
    config = config.replace("frames_steady = \"1 min\"", "frames_steady = \"300 ms\"");
    config = config.replace("original = \"", "steady = \"300 ms\"\noriginal = \"");
    std::fs::write(&file, config).unwrap();
    let delivery = house.join("turnover/reel 1");
    std::fs::create_dir_all(&delivery).unwrap();
    std::fs::write(delivery.join("heron.mp4"), clip()).unwrap();
    std::fs::write(delivery.join("all.ready"), b"").unwrap();
    // A shot of five frames, and the version before it that comes late.
    let frame = include_bytes!("../../../media/tests/fixtures/picture.png");
    for (version, numbers) in [("v002", 1001..=1005), ("v001", 1001..=1003)] {
        for n in numbers {
            std::fs::write(house.join(format!("renders/sh010_comp_{version}.{n}.png")), frame).unwrap();
        }
        let out = porter(&["run", "--once", at]);
        assert!(out.status.success(), "{}", text(&out));
    }
    let day =
        std::fs::read_dir(house.join("archive")).unwrap().flatten().map(|e| e.path()).find(|p| p.is_dir());
    assert_eq!(std::fs::read(day.unwrap().join("reel 1/heron.mp4")).unwrap(), clip());
    for name in ["sh010_comp_v002.mp4", "sh010_comp_v002.jpg", "late/sh010_comp_v001.jpg"] {
        assert!(house.join("review").join(name).exists(), "{name}");
    }
    assert!(!house.join("review/sh010_comp_v001.mp4").exists());
}

#[test]
fn init_leaves_folders_with_files_alone() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("letter.txt"), "dear").unwrap();
    let at = dir.path().to_str().unwrap();
    let out = porter(&["init", at]);
    assert!(out.status.code() == Some(1) && text(&out).contains("--among-files"), "{}", text(&out));
    assert!(porter(&["init", "--among-files", at]).status.success());
}

#[test]
fn no_child_can_be_started_with_rubbish() {
    let nothing = std::process::Stdio::null;
    let mut child =
        Command::new(PROGRAM).arg("make-in-child").stdin(nothing()).stdout(nothing()).spawn().unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(2));
}

/// What `status` and `check` print fits the schemas that are published.
#[test]
fn schemas_of_status_and_check_are_published_and_kept() {
    let house = House::new();
    house.drop_in("a.mp4", clip());
    house.drop_in("notes.mp4", b"a call sheet");
    house.run_once();
    for command in ["status", "check"] {
        let published = support::published(&format!("{command}.json"), &[command, "--schema"]);
        let validator = jsonschema::validator_for(&published).unwrap();
        let out = porter(&[command, "--json", house.path("").to_str().unwrap()]);
        let said: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
        let wrong: Vec<String> =
            validator.iter_errors(&said).map(|e| format!("{}: {e}", e.instance_path)).collect();
        assert!(wrong.is_empty(), "{command}: {wrong:?}");
        assert!(!validator.is_valid(&serde_json::json!({"version": "x"})));
    }
}

/// A reason says what would have been right for a file of this kind, and goes when its file is put back.
#[test]
fn a_reason_goes_when_its_file_is_put_back() {
    let house = House::new();
    house.drop_in("clip.mp4", &clip()[..clip().len() / 2]);
    house.drop_in("sheet.pdf", b"%PDF-1.4 a call sheet");
    house.run_once();
    let why = std::fs::read_to_string(house.path("away/clip.mp4.why.txt")).unwrap();
    assert!(why.contains("a whole clip (MP4") && !why.contains("JPEG"), "{why}");
    let why = std::fs::read_to_string(house.path("away/sheet.pdf.why.txt")).unwrap();
    assert!(!why.contains("expected:"), "{why}");
    // Mended, and put back under its name.
    std::fs::remove_file(house.path("away/clip.mp4")).unwrap();
    house.drop_in("clip.mp4", clip());
    assert!(house.run_once().status.success());
    assert_eq!(house.list("away"), ["sheet.pdf", "sheet.pdf.why.txt"]);
    // What somebody else wrote there stays, and so does the reason of a file that is still there.
    std::fs::write(house.path("away/clip.mp4.why.txt"), "because").unwrap();
    house.drop_in("clip.mp4", &support::make_clip(&media::testkit::Clip { frames: 9, ..Default::default() }));
    house.drop_in("sheet.pdf", b"%PDF-1.4 another");
    house.run_once();
    assert_eq!(std::fs::read(house.path("away/clip.mp4.why.txt")).unwrap(), b"because");
    assert!(house.path("away/sheet.pdf.why.txt").exists() && house.path("away/sheet_2.pdf").exists());
}
