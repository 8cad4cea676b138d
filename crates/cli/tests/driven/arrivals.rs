//! Files of every kind dropped into a watch folder: a clear result for each, and nothing lost.

use crate::support::{self, House, clip, text};
use rstest::rstest;
use std::io::Write;
use std::path::Path;
use std::time::Duration;

#[test]
fn a_clip_becomes_a_named_checked_proxy_with_a_record() {
    let house = House::new();
    house.drop_in("Hide 3.mp4", clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(house.list("out"), ["Hide 3_proxy.mp4"]);
    assert_eq!((house.list("in").len(), house.list("done")), (0, vec!["Hide 3.mp4".to_owned()]));
    let (a, b) = (house.facts("done/Hide 3.mp4"), house.facts("out/Hide 3_proxy.mp4"));
    let (va, vb) = (a.picture().unwrap(), b.picture().unwrap());
    assert_eq!((va.frames, va.rate, va.start, &a.timecode), (vb.frames, vb.rate, vb.start, &b.timecode));
    assert_eq!((vb.width, vb.height), (160, 90));
    let want = [
        "arrived",
        "started",
        "planned",
        "made",
        "carrying",
        "delivered",
        "nothing left to carry",
        "moving original",
        "done",
    ];
    assert_eq!(house.events(1), want);
    assert!(house.list("porter-state/work").is_empty(), "work is cleared away");
}

#[rstest]
#[case::left("original = \"leave\"", true)]
#[case::removed("original = \"remove\"", false)]
fn originals_are_left_or_removed_as_asked(#[case] setting: &str, #[case] stays: bool) {
    let house = House::with(setting, "");
    house.drop_in("a.mp4", clip());
    assert!(house.run_once().status.success());
    assert_eq!(house.path("in/a.mp4").exists(), stays);
    // A second run does not work on the same file again.
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["a_proxy.mp4"]);
}

#[test]
fn two_files_of_one_name_give_two_outputs() {
    let house = House::new();
    for n in 1..=3 {
        house.drop_in("a.mp4", clip());
        assert!(house.run_once().status.success(), "{n}");
    }
    assert_eq!(house.list("out"), ["a_proxy.mp4", "a_proxy_2.mp4", "a_proxy_3.mp4"]);
    assert_eq!(house.list("done"), ["a.mp4", "a_2.mp4", "a_3.mp4"]);
}

#[test]
fn a_foreign_file_under_the_name_is_not_touched() {
    let house = House::new();
    std::fs::write(house.path("out/a_proxy.mp4"), b"someone's work").unwrap();
    house.drop_in("a.mp4", clip());
    assert!(house.run_once().status.success());
    assert_eq!(std::fs::read(house.path("out/a_proxy.mp4")).unwrap(), b"someone's work");
    assert!(house.path("out/a_proxy_2.mp4").exists());
}

/// A clip cut at every 1/20 of its length, in both layouts (index first, index last).
#[rstest]
fn a_cut_clip_is_turned_away_with_its_reason(#[values(false, true)] index_last: bool) {
    let house = House::new();
    let whole = if index_last { index_behind(clip()) } else { clip().to_vec() };
    for part in 1..20 {
        house.drop_in(format!("cut-{part:02}.mp4"), &whole[..whole.len() * part / 20]);
    }
    house.drop_in("whole.mp4", &whole);
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    let away = house.list("away");
    for part in 1..20 {
        let name = format!("cut-{part:02}.mp4");
        assert_eq!(std::fs::read(house.path("away").join(&name)).unwrap().len(), whole.len() * part / 20);
        let why = std::fs::read_to_string(house.path("away").join(format!("{name}.why.txt"))).unwrap();
        let first = why.lines().next().unwrap();
        assert!(first.starts_with("damaged: ") && first.len() > 30, "{name}: {first}");
        assert!(["found:", "expected:", "settings:", "arrived"].iter().all(|w| why.contains(w)), "{why}");
    }
    assert_eq!((away.len(), house.list("out")), (38, vec!["whole_proxy.mp4".to_owned()]));
}

fn index_behind(bytes: &[u8]) -> Vec<u8> {
    let (media, index, _) = media::testkit::layout::with_index_last(bytes, None);
    [media, index].concat()
}

#[test]
fn what_is_not_media_is_turned_away_and_never_overwrites() {
    let house = House::new();
    for _ in 0..2 {
        house.drop_in("notes.mp4", b"This is a call sheet.\n");
        assert_eq!(house.run_once().status.code(), Some(1));
    }
    let want = ["notes.mp4", "notes.mp4.why.txt", "notes_2.mp4", "notes_2.mp4.why.txt"];
    assert_eq!(house.list("away"), want);
    let why = std::fs::read_to_string(house.path("away/notes.mp4.why.txt")).unwrap();
    assert!(why.contains("this is text, not media") && why.contains("rule \"clips\""), "{why}");
}

#[test]
fn no_rule_holds_is_said_with_the_rules() {
    let house = House::new();
    house.drop_in("still.jpg", include_bytes!("../../../../demo/media/avocet-by-the-sluice.jpg"));
    assert_eq!(house.run_once().status.code(), Some(1));
    let why = std::fs::read_to_string(house.path("away/still.jpg.why.txt")).unwrap();
    let first = why.lines().next().unwrap();
    assert!(first.starts_with("no rule holds for it (found image: JPEG JPEG 1600x900)"), "{first}");
    assert!(
        first.contains("rule \"clips\", which wants kind == \"video\"") && first.contains("\"recordings\""),
        "{first}"
    );
}

#[test]
fn empty_unfinished_and_hidden_files_wait_and_are_shown() {
    let house = House::new();
    house.drop_in("empty.mp4", b"");
    house.drop_in("clip.mp4.part", clip());
    house.drop_in(".hidden.mp4", clip());
    std::fs::create_dir(house.path("in/folder.mp4")).unwrap();
    std::os::unix::fs::symlink("/dev/null", house.path("in/link.mp4")).unwrap();
    let out = house.run_once();
    assert!(text(&out).contains("0 done, 0 turned away, 0 held, 4 not ready"), "{}", text(&out));
    let status = house.status();
    let why: Vec<&str> =
        status["arriving"].as_array().unwrap().iter().map(|a| a["why"].as_str().unwrap()).collect();
    assert_eq!(
        why,
        [
            "a name for unfinished or hidden files",
            "a name for unfinished or hidden files",
            "empty",
            "not a file"
        ]
    );
    assert_eq!(house.list("in").len(), 5, "nothing is lost");
}

#[rstest]
#[case::spaces("a  b c.mp4")]
#[case::quotes("it's \"quoted\".mp4")]
#[case::newline("two\nlines.mp4")]
#[case::dashes("--json.mp4")]
#[case::long(
    "鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺鷺"
)]
#[case::template("{stem}.mp4")]
#[case::folder("day 1/cam/a.mp4")]
fn odd_names_work(#[case] name: &str) {
    let house = House::new();
    let path = Path::new(name);
    std::fs::create_dir_all(house.path("in").join(path.parent().unwrap())).unwrap();
    house.drop_in(path, clip());
    let bad = path.with_file_name(format!(
        "x{}",
        path.file_name().unwrap().to_str().unwrap().chars().skip(1).collect::<String>()
    ));
    house.drop_in(&bad, b"text");
    let out = house.run_once();
    assert!(text(&out).contains("1 done, 1 turned away, 0 held, 0 not ready"), "{}", text(&out));
    assert!(house.path("done").join(path).exists() && house.path("away").join(&bad).exists());
    assert_eq!(house.list("out").len(), 1);
}

#[test]
fn a_name_that_is_no_text_works() {
    use std::os::unix::ffi::OsStrExt;
    let house = House::new();
    house.drop_in(std::ffi::OsStr::from_bytes(b"bad\xff\xfe.mp4"), clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(house.list("out").len(), 1);
}

#[test]
fn a_file_still_being_written_is_not_touched() {
    let house = House::new();
    house.reconfigure("steady = \"300 ms\"", "steady = \"2 s\"");
    let running = house.start();
    let mut file = std::fs::File::create(house.path("in/slow.mp4")).unwrap();
    let whole = clip();
    for part in whole.chunks(whole.len() / 8) {
        file.write_all(part).unwrap();
        std::thread::sleep(Duration::from_millis(200));
        assert!(house.status()["open"].as_array().unwrap().is_empty(), "taken while it was written");
    }
    drop(file);
    let status = house.wait_until("done", |s| !s["ended"].as_array().unwrap().is_empty());
    assert_eq!(status["ended"][0]["state"], "done");
    assert!(status["running"].as_bool().unwrap());
    assert!(running.interrupt().success());
    assert!(!house.status()["running"].as_bool().unwrap());
}

/// A copy that stalls longer than the steady time looks cut off; when it goes on it is worked on whole.
#[test]
fn a_copy_that_stalls_is_given_a_second_look() {
    let house = House::new();
    house.reconfigure("second_look = \"600 ms\"", "second_look = \"20 s\"");
    let _running = house.start();
    let (first, rest) = clip().split_at(clip().len() / 2);
    house.drop_in("stalls.mp4", first);
    house
        .wait_until("held", |s| s["open"][0]["held"].as_str().is_some_and(|h| h.contains("looked at again")));
    std::fs::OpenOptions::new()
        .append(true)
        .open(house.path("in/stalls.mp4"))
        .unwrap()
        .write_all(rest)
        .unwrap();
    house.wait_until("done", |s| s["ended"].as_array().unwrap().iter().any(|j| j["state"] == "done"));
    assert_eq!(house.list("out"), ["stalls_proxy.mp4"]);
    assert!(house.list("away").is_empty());
}

#[test]
fn two_porters_do_not_work_on_one_house() {
    let house = House::new();
    let _running = house.start();
    house.wait_until("running", |s| s["running"].as_bool().unwrap());
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1));
    assert!(text(&out).contains("another porter already works on this house"));
}

#[test]
fn progress_is_shown_while_a_clip_is_made() {
    let house = House::new();
    let long = support::make_clip(&media::testkit::Clip {
        frames: 900,
        width: 640,
        height: 360,
        ..Default::default()
    });
    let _running = house.start();
    house.drop_in("long.mp4", &long);
    let status = house.wait_until("making", |s| {
        s["open"][0]["progress"]["done"].as_u64().is_some_and(|d| d > 0 && d < 900)
    });
    let p = &status["open"][0]["progress"];
    assert_eq!((p["total"].as_u64(), status["open"][0]["state"].as_str()), (Some(900), Some("making")));
    assert!(p["per_second"].as_f64().unwrap() > 0.0 && p["percent"].as_f64().unwrap() < 100.0);
    house.wait_until("done", |s| !s["ended"].as_array().unwrap().is_empty());
}

/// Outputs of many files go to every place as one, beside those of one file, from one job.
#[test]
fn outputs_that_are_folders_are_delivered_whole_to_every_place() {
    let house = House::with("original = \"leave\"", "");
    std::fs::create_dir(house.path("second")).unwrap();
    house.append(
        "[[place]]\nname = \"second\"\nfolder = \"second\"\n[[rule]]\nname = \"more\"\nwhen = 'kind == \"video\"'\n\
         make = [{ preset = \"stream\", name = \"{stem}_stream\", to = [\"editors\", \"second\"] }, \
         { preset = \"thumbnails\", name = \"{stem}\", to = [\"second\"] }, \
         { preset = \"contact-sheet\", name = \"{stem}_sheet\", to = [\"second\"] }]\n",
    );
    house.drop_in("hide 3.mp4", clip());
    // Somebody's folder has the name already.
    std::fs::create_dir(house.path("second/hide 3_stream")).unwrap();
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(house.list("out"), ["hide 3_proxy.mp4", "hide 3_stream"]);
    assert_eq!(house.list("second"), ["hide 3", "hide 3_sheet.jpg", "hide 3_stream", "hide 3_stream_2"]);
    assert_eq!(house.list("second/hide 3_stream").len(), 0, "what was there is as it was");
    let files = house.list("out/hide 3_stream");
    assert_eq!(files, house.list("second/hide 3_stream_2"));
    assert!(files.contains(&"master.m3u8".to_owned()) && files.len() == 6, "{files:?}");
    for name in files {
        let read = |folder: &str| std::fs::read(house.path(folder).join(&name)).unwrap();
        assert_eq!(read("out/hide 3_stream"), read("second/hide 3_stream_2"), "{name}");
    }
    assert_eq!(house.list("second/hide 3"), ["thumbnails-001.jpg", "thumbnails.vtt"]);
    assert!(house.list("porter-state/work").is_empty(), "work is cleared away");
    let told = house.status();
    let outputs = told["ended"][0]["outputs"].as_array().unwrap();
    assert_eq!(outputs.len(), 4, "{told:#}");
}
