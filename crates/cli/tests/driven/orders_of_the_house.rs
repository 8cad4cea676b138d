//! What a coordinator can say of arrivals and names: sidecars, markers, hours, numbers that are counted, versions, and what
//! becomes of a name that is taken.

use crate::support::{self, House, PROGRAM, clip, text};
use rstest::rstest;
use std::path::Path;
use std::process::{Command, Output};

fn porter(house: &House, args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).arg("--house").arg(house.path("")).output().unwrap()
}

/// A house whose only rule makes this.
fn making(make: &str) -> House {
    let house = House::new();
    house.reconfigure(
        "make = [{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }]",
        &format!("make = [{make}]"),
    );
    house
}

fn watch_with(keys: &str) -> House {
    House::with(&format!("original = \"move\"\ndone = \"done\"\n{keys}"), "")
}

fn strings(all: &[&str]) -> Vec<String> {
    all.iter().map(|s| (*s).to_owned()).collect()
}

fn read(house: &House, name: &str) -> Vec<u8> {
    std::fs::read(house.path(name)).unwrap()
}

/// Files in a folder and below, without marks of the house.
fn tree(house: &House, folder: &str) -> Vec<String> {
    fn walk(dir: &Path, top: &Path, out: &mut Vec<String>) {
        for e in std::fs::read_dir(dir).unwrap().flatten() {
            if e.path().is_dir() {
                walk(&e.path(), top, out);
            } else {
                out.push(e.path().strip_prefix(top).unwrap().to_string_lossy().into_owned());
            }
        }
    }
    let mut out = Vec::new();
    walk(&house.path(folder), &house.path(folder), &mut out);
    out.retain(|n| !n.starts_with(".deft-porter-folder"));
    out.sort();
    out
}

#[test]
fn originals_go_to_places_as_they_are_with_what_belongs_to_them() {
    let house = watch_with("sidecars = [\"*.srt\", \"*.xml\"]");
    house.append(
        "[[rule]]\nname = \"backup\"\nmake = [{ original = true, name = \"{folder}/keep_{stem}\", to = [\"editors\"] }]\n",
    );
    std::fs::create_dir(house.path("in/day1")).unwrap();
    house.drop_in("day1/cup.MP4", clip());
    house.drop_in("day1/cup.en.srt", b"1\n00:00:00,000 --> 00:00:01,000\nTea\n");
    house.drop_in("day1/cup.MP4.xml", b"<take/>");
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let want = ["cup_proxy.mp4", "day1/keep_cup.MP4", "day1/keep_cup.MP4.xml", "day1/keep_cup.en.srt"];
    assert_eq!(tree(&house, "out"), want);
    assert_eq!(read(&house, "out/day1/keep_cup.MP4"), clip());
    assert_eq!(read(&house, "out/day1/keep_cup.MP4.xml"), b"<take/>");
    assert_eq!(tree(&house, "done"), ["day1/cup.MP4", "day1/cup.MP4.xml", "day1/cup.en.srt"]);
    assert!(tree(&house, "in").is_empty());
    let told = text(&porter(&house, &["trace", house.path("out/day1/keep_cup.MP4").to_str().unwrap()]));
    assert!(told.contains("day1/cup.MP4"), "{told}");
}

#[test]
fn a_sidecar_by_itself_waits_and_says_so_and_goes_away_with_a_turned_away_file() {
    let house = watch_with("sidecars = [\"*.xml\"]");
    house.drop_in("lone.xml", b"<take/>");
    house.drop_in("no.mov", b"this is no film at all, only words");
    house.drop_in("no.xml", b"<take/>");
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    assert_eq!(tree(&house, "in"), ["lone.xml"]);
    assert_eq!(tree(&house, "away"), ["no.mov", "no.mov.why.txt", "no.xml"]);
    // Put back together, they are one arrival again.
    std::fs::remove_file(house.path("away/no.mov")).unwrap();
    house.drop_in("no.mov", clip());
    std::fs::rename(house.path("away/no.xml"), house.path("in/no.xml")).unwrap();
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "done"), ["no.mov", "no.xml"]);
}

#[test]
fn a_file_is_ready_when_its_marker_is_there() {
    let house = watch_with("marker = \".done\"");
    house.drop_in("cup.mp4", clip());
    let porter = house.start();
    let waits = house.wait_until("waits for its marker", |s| {
        s["arriving"][0]["why"].as_str().is_some_and(|w| w.contains("marker"))
    });
    assert!(waits["open"].as_array().unwrap().is_empty());
    house.drop_in("cup.mp4.done", b"");
    house.wait_until("done", |s| s["ended"][0]["state"] == "done");
    drop(porter);
    assert_eq!(tree(&house, "done"), ["cup.mp4", "cup.mp4.done"]);
    assert_eq!(tree(&house, "out"), ["cup_proxy.mp4"]);
}

#[test]
fn names_of_unfinished_files_are_the_houses_own() {
    let house = watch_with("unfinished = [\"*.growing\", \"tmp_*\"]");
    house.drop_in("tmp_cup.mp4", clip());
    // Usually a name for what is not finished.
    house.drop_in("plate.tmp", clip());
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "in"), ["tmp_cup.mp4"]);
    assert_eq!(tree(&house, "out"), ["plate_proxy.mp4"]);
}

#[test]
fn a_watch_takes_so_many_at_a_time_so_deep_and_at_its_hours() {
    let house = watch_with("most_at_once = 1\ndepth = 1\nremove_empty_folders = true");
    std::fs::create_dir_all(house.path("in/a/b")).unwrap();
    for name in ["1.mp4", "a/2.mp4", "a/b/3.mp4"] {
        house.drop_in(name, clip());
    }
    std::fs::create_dir(house.path("in/empty")).unwrap();
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "out"), ["1_proxy.mp4", "2_proxy.mp4"]);
    assert_eq!(tree(&house, "in"), ["a/b/3.mp4"]);
    assert!(house.path("in/empty").is_dir(), "nothing of it was moved away");

    // The hour behind this one and the next: not now.
    let hour: u32 = {
        let out = Command::new("date").arg("+%H").output().unwrap();
        text(&out).trim().parse().unwrap()
    };
    let shut = format!("{:02}:00-{:02}:00", (hour + 2) % 24, (hour + 3) % 24);
    house.reconfigure("most_at_once = 1\ndepth = 1", &format!("hours = \"{shut}\""));
    house.drop_in("4.mp4", clip());
    let porter = house.start();
    house.wait_until("waits for its hours", |s| {
        let all = s["arriving"].as_array().unwrap();
        all.len() == 2 && all.iter().all(|a| a["why"].as_str().unwrap().contains("time of day"))
    });
    assert!(house.status()["open"].as_array().unwrap().is_empty());
    house.reconfigure(&format!("hours = \"{shut}\""), "hours = \"00:00-24:00\"");
    house.wait_until("is taken", |s| s["ended_counts"][0]["jobs"] == 4);
    drop(porter);
    assert!(!house.path("in/a").exists(), "folders that are left empty go");
    assert!(house.path("in").is_dir());
}

#[test]
fn a_place_is_carried_to_at_its_hours() {
    let house = House::new();
    let out = Command::new("date").arg("+%H").output().unwrap();
    let hour: u32 = text(&out).trim().parse().unwrap();
    let shut = format!("{:02}:00-{:02}:00", (hour + 2) % 24, (hour + 3) % 24);
    house.reconfigure("folder = \"out\"", &format!("folder = \"out\"\nhours = \"{shut}\""));
    house.drop_in("cup.mp4", clip());
    let running = house.start();
    let held = house.wait_until("is held", |s| s["away"][0]["how"] == "hours");
    assert!(held["open"][0]["held"].as_str().unwrap().contains(&shut), "{held:#}");
    assert!(tree(&house, "out").is_empty());
    // It opens by itself: nobody is asked for, with a porter or without.
    assert_ne!(held["open"][0]["needs_person"], true);
    let said = porter(&house, &["status"]);
    assert!(said.status.success() && !text(&said).contains("AWAY"), "{}", text(&said));
    drop(running);
    assert_eq!(porter(&house, &["status"]).status.code(), Some(3), "no porter is running, and that is all");
    house.reconfigure(&format!("hours = \"{shut}\""), "");
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "out"), ["cup_proxy.mp4"]);
}

#[test]
fn numbers_are_counted_once_for_each_arrival() {
    let name = "{pad(count_day, 3)}_{count_folder}_{count_rule}_{count_watch}";
    let house = making(&format!("{{ preset = \"sound\", name = '{name}', to = [\"editors\"] }}"));
    house.reconfigure("original = \"move\"", "original = \"leave\"");
    std::fs::create_dir(house.path("in/b")).unwrap();
    house.drop_in("1.mp4", clip());
    assert!(house.run_once().status.success());
    house.drop_in("b/2.mp4", clip());
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "out"), ["001_1_1_1.m4a", "002_1_2_2.m4a"]);
    // Once more: the same numbers, not the next ones.
    let out = porter(&house, &["jobs", "again", "2"]);
    assert!(out.status.success(), "{}", text(&out));
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "out"), ["001_1_1_1.m4a", "002_1_2_2.m4a", "002_1_2_2_2.m4a"]);
}

#[test]
fn the_next_version_that_is_free_at_the_place() {
    let house =
        making("{ preset = \"sound\", name = \"{stem}/{version}/{stem}_{version}\", to = [\"editors\"] }");
    std::fs::create_dir_all(house.path("out/cup/v001")).unwrap();
    std::fs::write(house.path("out/cup/v001/cup_v001.m4a"), b"from elsewhere").unwrap();
    for _ in 0..2 {
        house.drop_in("cup.mp4", clip());
        assert!(house.run_once().status.success());
    }
    let want = ["cup/v001/cup_v001.m4a", "cup/v002/cup_v002.m4a", "cup/v003/cup_v003.m4a"];
    assert_eq!(tree(&house, "out"), want);
    assert_eq!(read(&house, "out/cup/v001/cup_v001.m4a"), b"from elsewhere");
}

#[rstest]
#[case::skip("skip", true, &["cup.m4a"])]
#[case::refuse("refuse", false, &["cup.m4a"])]
#[case::number("number", true, &["cup.m4a", "cup_2.m4a"])]
fn a_name_that_is_taken(#[case] policy: &str, #[case] done: bool, #[case] want: &[&str]) {
    let house = making(&format!("{{ preset = \"sound\", to = [\"editors\"], if_taken = \"{policy}\" }}"));
    std::fs::write(house.path("out/cup.m4a"), b"precious").unwrap();
    house.drop_in("cup.mp4", clip());
    let out = house.run_once();
    assert_eq!(out.status.success(), done, "{}", text(&out));
    assert_eq!(tree(&house, "out"), want);
    assert_eq!(read(&house, "out/cup.m4a"), b"precious");
    let status = house.status();
    let job = &status["ended"][0];
    let left_out = &job["outputs"][0]["deliveries"][0]["left_out"];
    assert_eq!(left_out.is_string(), policy != "number", "{job:#}");
    assert_eq!(job["state"] == "done", done, "{job:#}");
    if !done {
        let why = std::fs::read_to_string(house.path("away/cup.mp4.why.txt")).unwrap();
        assert!(why.contains("there is a cup.m4a already"), "{why}");
    }
}

#[test]
fn an_original_that_did_not_go_everywhere_is_not_removed() {
    let house = House::with("original = \"remove\"", "");
    house.reconfigure(
        "{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }",
        "{ original = true, to = [\"editors\"], if_taken = \"skip\" }",
    );
    std::fs::write(house.path("out/cup.mp4"), b"another film of that name").unwrap();
    house.drop_in("cup.mp4", clip());
    house.drop_in("saucer.mp4", clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(tree(&house, "in"), ["cup.mp4"]);
    assert_eq!(read(&house, "in/cup.mp4"), clip());
    assert_eq!(read(&house, "out/cup.mp4"), b"another film of that name");
    assert!(text(&porter(&house, &["log", "--job", "1"])).contains("original left where it is"));
    // Nor is it worked on again with every start.
    assert!(house.run_once().status.success());
    assert_eq!(house.status()["ended"].as_array().unwrap().len(), 2);
}

#[test]
fn what_has_the_name_is_kept_beside_what_replaces_it() {
    let house = making("{ preset = \"sound\", to = [\"editors\"], if_taken = \"replace\" }");
    std::fs::write(house.path("out/cup.m4a"), b"precious").unwrap();
    house.drop_in("cup.mp4", clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let first = read(&house, "out/cup.m4a");
    assert_ne!(first, b"precious");
    house.drop_in("cup.mp4", clip());
    assert!(house.run_once().status.success());
    let all = tree(&house, "out");
    assert_eq!(all.len(), 3, "{all:?}");
    let kept: Vec<Vec<u8>> = all
        .iter()
        .filter(|n| n.starts_with("cup_before_"))
        .map(|n| read(&house, &format!("out/{n}")))
        .collect();
    assert!(kept.contains(&b"precious".to_vec()) && kept.contains(&first), "{all:?}");
    // The record knows the first one under its name of now.
    let aside =
        all.iter().find(|n| n.starts_with("cup_before_") && read(&house, &format!("out/{n}")) == first);
    let status = house.status();
    let job = status["ended"].as_array().unwrap().iter().find(|j| j["job"] == 1).unwrap();
    assert_eq!(job["outputs"][0]["deliveries"][0]["name"].as_str(), aside.map(String::as_str));
}

#[rstest]
fn a_kill_while_something_is_replaced_loses_nothing(
    #[values("staged", "about to set aside", "set aside", "published")] moment: &str,
) {
    let house = making("{ preset = \"sound\", to = [\"editors\"], if_taken = \"replace\" }");
    std::fs::write(house.path("out/cup.m4a"), b"precious").unwrap();
    house.drop_in("cup.mp4", clip());
    house.killed_at(moment);
    assert!(house.run_once().status.success());
    let all = tree(&house, "out");
    let kept: Vec<&String> =
        all.iter().filter(|n| read(&house, &format!("out/{n}")) == b"precious").collect();
    assert_eq!((all.len(), kept.len()), (2, 1), "{all:?}");
    assert!(all.contains(&"cup.m4a".to_owned()) && kept[0].starts_with("cup_before_"));
}

#[test]
fn a_file_that_is_renamed_where_it_lies_is_the_same_file() {
    let house = House::with("original = \"leave\"", "");
    house.drop_in("cup.mp4", clip());
    assert!(house.run_once().status.success());
    std::fs::rename(house.path("in/cup.mp4"), house.path("in/saucer.mp4")).unwrap();
    for _ in 0..2 {
        assert!(house.run_once().status.success());
    }
    assert_eq!(tree(&house, "out"), ["cup_proxy.mp4"]);
    let events = house.events(2);
    assert!(events.contains(&"withdrawn".to_owned()), "{events:?}");
    assert_eq!(house.status()["ended"].as_array().unwrap().len(), 2, "looked at once, not with every start");
    // A second name for the same file is a second arrival.
    std::fs::hard_link(house.path("in/saucer.mp4"), house.path("in/plate.mp4")).unwrap();
    assert!(house.run_once().status.success());
    assert!(tree(&house, "out").contains(&"plate_proxy.mp4".to_owned()));
}

/// Not every file system keeps the numbers of files: one that has another is the same file, if it holds the same.
#[test]
fn a_file_whose_number_changes_is_the_same_file() {
    let house = House::with("original = \"leave\"", "");
    house.drop_in("cup.mp4", clip());
    assert!(house.run_once().status.success());
    let (first, second) = (house.path("in/cup.mp4"), house.path("cup.new"));
    let modified = std::fs::metadata(&first).unwrap().modified().unwrap();
    let replaced = |bytes: &[u8]| {
        std::fs::write(&second, bytes).unwrap();
        std::fs::File::options().write(true).open(&second).unwrap().set_modified(modified).unwrap();
        std::fs::rename(&second, &first).unwrap();
        for _ in 0..2 {
            assert!(house.run_once().status.success());
        }
    };
    replaced(clip());
    assert_eq!(tree(&house, "out"), ["cup_proxy.mp4"]);
    assert_eq!(house.status()["ended"].as_array().unwrap().len(), 2, "looked at once, not with every start");
    let mut other = clip().to_vec();
    let end = other.len();
    other[end - 40..].fill(7);
    replaced(&other);
    assert_eq!(house.status()["ended"].as_array().unwrap().len(), 3, "another content is another arrival");
}

/// On a share a file may have its whole size, and a time that stands still, long before it has its content.
#[test]
fn a_file_whose_end_is_empty_is_looked_at_again_on_a_share() {
    let house = House::with("original = \"move\"\ndone = \"done\"", "");
    house.reconfigure("kind == \"video\"", "kind == \"audio\"");
    house.reconfigure("preset = \"proxy\", name = \"{stem}_proxy\"", "original = true, name = \"{stem}\"");
    house.reconfigure("second_look = \"600 ms\"", "second_look = \"2 s\"");
    let (samples, part) = (400_000u32, 100_000usize);
    let mut head = b"RIFF".to_vec();
    head.extend((36 + samples * 2).to_le_bytes());
    head.extend(b"WAVEfmt ");
    head.extend(16u32.to_le_bytes());
    head.extend([1u16, 1].iter().flat_map(|v| v.to_le_bytes()));
    head.extend([48_000u32, 96_000].iter().flat_map(|v| v.to_le_bytes()));
    head.extend([2u16, 16].iter().flat_map(|v| v.to_le_bytes()));
    head.extend(b"data");
    head.extend((samples * 2).to_le_bytes());
    let sound: Vec<u8> = (0..samples).flat_map(|i| ((i * 37 % 20_000) as i16 | 1).to_le_bytes()).collect();
    let path = house.path("in/tide.wav");
    let file = std::fs::File::create(&path).unwrap();
    file.set_len(head.len() as u64 + u64::from(samples) * 2).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, &head, 0).unwrap();
    let stands = std::time::SystemTime::now() - std::time::Duration::from_secs(100);
    file.set_modified(stands).unwrap();
    let mut c = Command::new(PROGRAM);
    c.arg("run").arg(house.path("")).env("DEFT_PORTER_TEST_KEEPS_NOTHING", "1");
    let porter = c.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
    // Written for three seconds, a part at a time; the time is always the same.
    for (n, piece) in sound.chunks(part).enumerate() {
        std::thread::sleep(std::time::Duration::from_millis(400));
        std::os::unix::fs::FileExt::write_all_at(&file, piece, (head.len() + n * part) as u64).unwrap();
        file.set_modified(stands).unwrap();
        assert!(!house.path("out/tide.wav").exists(), "taken with {} bytes in it", n * part);
    }
    let start = std::time::Instant::now();
    while !house.path("out/tide.wav").exists() {
        assert!(start.elapsed() < std::time::Duration::from_secs(30));
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    drop(support::Running(porter));
    assert_eq!(read(&house, "out/tide.wav"), [head, sound].concat());
    let log = text(&self::porter(&house, &["log"]));
    assert!(log.contains("its end is empty"), "{log}");
}

/// Where the folder for originals is on a disk that does not take a name: it gets one that every disk takes.
#[rstest]
#[case("move")]
#[case("move first")]
fn names_that_the_disk_for_originals_does_not_take(#[case] original: &str) {
    let house =
        House::with(&format!("original = \"{original}\"\ndone = \"done\"\nsidecars = [\"*.txt\"]"), "");
    let run = || {
        let mut c = Command::new(PROGRAM);
        c.args(["run", "--once"]).arg(house.path("")).env("DEFT_PORTER_TEST_COMMON_NAMES", "1");
        text(&c.output().unwrap())
    };
    for n in 1..=2 {
        std::fs::create_dir_all(house.path("in/day: 1")).unwrap();
        std::fs::write(house.path("in/day: 1/take 12:30?.txt"), format!("words {n}")).unwrap();
        std::fs::write(house.path("in/day: 1/take 12:30?.mp4"), clip()).unwrap();
        std::fs::write(house.path("in/note?.mp4"), b"call sheet\n").unwrap();
        let said = run();
        assert!(said.contains(" 0 held"), "{said}");
    }
    assert_eq!(tree(&house, "done").len(), 4, "{:?}", tree(&house, "done"));
    for (name, want) in [("take 12-30_.mp4", clip()), ("take 12-30__2.mp4", clip())] {
        assert_eq!(read(&house, &format!("done/day- 1/{name}")), want);
    }
    for (name, want) in [("take 12-30_.txt", b"words 1"), ("take 12-30__2.txt", b"words 2")] {
        assert_eq!(read(&house, &format!("done/day- 1/{name}")), want);
    }
    let away = ["note_.mp4", "note_.mp4.why.txt", "note__2.mp4", "note__2.mp4.why.txt"];
    assert_eq!(tree(&house, "away"), away);
    assert!(tree(&house, "in").is_empty(), "{:?}", tree(&house, "in"));
}

/// A file system that keeps neither numbers nor when something was changed, as FAT and many shares: what is left is not made again
/// however often its numbers change, and what went away and is put back is another arrival.
#[rstest]
#[case("original = \"leave\"", &[])]
#[case("original = \"move\"\ndone = \"done\"", &["cup_proxy_2.mp4"])]
#[case("original = \"move first\"\ndone = \"done\"", &["cup_proxy_2.mp4"])]
#[case("original = \"remove\"", &["cup_proxy_2.mp4"])]
fn what_comes_back_where_no_numbers_are_kept(#[case] original: &str, #[case] again: &[&str]) {
    let house = House::with(original, "");
    let run = || {
        let mut c = Command::new(PROGRAM);
        c.args(["run", "--once"]).arg(house.path("")).env("DEFT_PORTER_TEST_KEEPS_NOTHING", "1");
        c.output().unwrap()
    };
    let modified = std::time::SystemTime::now() - std::time::Duration::from_secs(3600);
    let drop_in = |name: &str, bytes: &[u8]| {
        let path = house.path("cup.new");
        std::fs::write(&path, bytes).unwrap();
        std::fs::File::options().write(true).open(&path).unwrap().set_modified(modified).unwrap();
        std::fs::rename(path, house.path("in").join(name)).unwrap();
    };
    drop_in("cup.mp4", clip());
    drop_in("notes.mp4", b"call sheet\n");
    run();
    assert_eq!(tree(&house, "out"), ["cup_proxy.mp4"]);
    // The same once more: of what is left another number, of what went another arrival.
    drop_in("cup.mp4", clip());
    run();
    assert_eq!(tree(&house, "out"), [strings(&["cup_proxy.mp4"]), strings(again)].concat());
    if house.path("away/notes.mp4").exists() {
        assert!(porter(&house, &["jobs", "again", "2"]).status.success());
        assert!(house.path("in/notes.mp4").exists());
        run();
        assert!(!house.path("in/notes.mp4").exists() && house.path("away/notes.mp4").exists());
    }
    let jobs = house.status()["ended"].as_array().unwrap().len();
    run();
    assert_eq!(house.status()["ended"].as_array().unwrap().len(), jobs, "nothing arrives with every start");
}

#[rstest]
#[case("original = \"move\"\ndone = \"done\"")]
#[case("original = \"move\"\ndone = \"done\"\nwhole_folders = true")]
fn what_systems_put_into_shared_folders_is_no_arrival(#[case] original: &str) {
    let house = House::with(original, "");
    for folder in ["$RECYCLE.BIN/S-1-5-21", "#recycle", "System Volume Information"] {
        std::fs::create_dir_all(house.path("in").join(folder)).unwrap();
        house.drop_in(format!("{folder}/cup.mp4"), clip());
    }
    house.drop_in("Thumbs.db", b"pictures of a window");
    assert!(house.status()["arriving"].as_array().unwrap().is_empty(), "before there ever was a porter");
    assert!(house.run_once().status.success());
    assert_eq!((tree(&house, "in").len(), tree(&house, "out").len()), (4, 0));
    let status = house.status();
    assert!(
        status["arriving"].as_array().unwrap().is_empty() && status["ended"].as_array().unwrap().is_empty(),
        "{status:#}"
    );
}

#[test]
fn of_the_same_content_nothing_is_made_again_where_the_watch_says_so() {
    let house = watch_with("same_content = \"skip\"");
    house.drop_in("cup.mp4", clip());
    assert!(house.run_once().status.success());
    house.drop_in("copy of cup.mp4", clip());
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "out"), ["cup_proxy.mp4"]);
    assert_eq!(tree(&house, "done"), ["copy of cup.mp4", "cup.mp4"]);
    let log = text(&porter(&house, &["log", "--job", "2"]));
    assert!(log.contains("job 1 was of the same content"), "{log}");
}

/// What went away and comes back is another arrival, although its content is known, and it is the same file.
#[rstest]
#[case("skip", &["saucer_proxy.mp4"], &["saucer.mp4", "saucer_2.mp4"])]
#[case("version", &["saucer_proxy.mp4", "saucer_proxy_v002.mp4"], &["saucer.mp4", "saucer_2.mp4"])]
fn what_is_put_back_is_not_left_lying(#[case] same: &str, #[case] made: &[&str], #[case] done: &[&str]) {
    let house = watch_with(&format!("same_content = \"{same}\""));
    house.drop_in("cup.mp4", b"call sheet\n");
    house.run_once();
    assert!(house.path("away/cup.mp4").exists());
    assert!(porter(&house, &["jobs", "again", "1"]).status.success());
    assert!(house.path("in/cup.mp4").exists());
    house.run_once();
    assert!(!house.path("in/cup.mp4").exists() && house.path("away/cup.mp4").exists());
    house.drop_in("saucer.mp4", clip());
    assert!(house.run_once().status.success());
    std::fs::rename(house.path("done/saucer.mp4"), house.path("in/saucer.mp4")).unwrap();
    std::fs::write(house.path("done/saucer.mp4"), "another one").unwrap();
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "in"), [""; 0]);
    assert_eq!((tree(&house, "out"), tree(&house, "done")), (strings(made), strings(done)));
}

/// A file whose attributes change while it is worked on is begun anew, although its content is known, and not again and again.
#[test]
fn what_was_touched_while_it_was_worked_on_is_begun_anew() {
    let house = watch_with("same_content = \"skip\"");
    house.reconfigure("second_look = \"600 ms\"", "second_look = \"1500 ms\"");
    let _porter = house.start();
    house.drop_in("cup.mp4", &clip()[..clip().len() / 2]);
    let until = |what: &str| {
        let start = std::time::Instant::now();
        while !text(&porter(&house, &["log"])).contains(what) {
            assert!(
                start.elapsed() < std::time::Duration::from_secs(60),
                "{}",
                text(&porter(&house, &["log"]))
            );
            std::thread::sleep(std::time::Duration::from_millis(30));
        }
    };
    until("looked at again");
    std::fs::set_permissions(house.path("in/cup.mp4"), std::os::unix::fs::PermissionsExt::from_mode(0o600))
        .unwrap();
    until("away/cup.mp4");
    assert!(house.path("away/cup.mp4").exists());
    let ended = house.status()["ended"].as_array().unwrap().len();
    assert!(ended <= 2, "{}", text(&porter(&house, &["log"])));
}

/// Other rights are no other file: what waits to be put away is known by its content, where that is known.
#[rstest]
#[case::read_when_it_arrived("same_content = \"skip\"", "{ preset = \"proxy\"", 1)]
#[case::delivered_as_it_came("", "{ original = true", 1)]
#[case::never_read_as_a_whole("", "{ preset = \"proxy\"", 2)]
fn what_is_touched_while_it_waits_to_be_put_away(
    #[case] more: &str,
    #[case] make: &str,
    #[case] jobs: usize,
) {
    let house = watch_with(more);
    house.reconfigure("{ preset = \"proxy\", name = \"{stem}_proxy\"", make);
    let check = Command::new(PROGRAM).args(["check", "--mark"]).arg(house.path("")).output().unwrap();
    assert!(check.status.success(), "{}", text(&check));
    std::fs::rename(house.path("done"), house.path("done.away")).unwrap();
    let porter_runs = house.start();
    house.drop_in("cup.mp4", clip());
    house.wait_until("waits for the folder", |s| {
        s["open"].as_array().unwrap().iter().any(|j| j["held"].as_str().is_some_and(|h| h.contains("done")))
    });
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o600);
    std::fs::set_permissions(house.path("in/cup.mp4"), mode).unwrap();
    std::fs::rename(house.path("done.away"), house.path("done")).unwrap();
    house.wait_until("is done", |s| {
        s["ended"].as_array().unwrap().len() == jobs && s["open"] == serde_json::json!([])
    });
    drop(porter_runs);
    assert_eq!(std::fs::read(house.path("done/cup.mp4")).unwrap(), clip());
    assert!(!house.path("in/cup.mp4").exists());
}

#[test]
fn configurations_are_kept_under_numbers() {
    let house = House::new();
    house.drop_in("cup.mp4", clip());
    assert!(house.run_once().status.success());
    house.reconfigure("160x90", "80x44");
    house.drop_in("saucer.mp4", clip());
    assert!(house.run_once().status.success());
    // A start with the same one is none of its own.
    assert!(house.run_once().status.success());
    let list = porter(&house, &["config", "list", "--json"]);
    let list: serde_json::Value = serde_json::from_slice(&list.stdout).unwrap();
    let numbers: Vec<(i64, bool)> = list
        .as_array()
        .unwrap()
        .iter()
        .map(|c| (c["number"].as_i64().unwrap(), c["in_force"] == true))
        .collect();
    assert_eq!(numbers, [(1, false), (2, true)]);
    let diff = porter(&house, &["config", "diff", "1", "2"]);
    assert_eq!(diff.status.code(), Some(1));
    let told = text(&diff);
    assert!(told.contains("-fit = \"160x90\"") && told.contains("+fit = \"80x44\""), "{told}");
    assert!(porter(&house, &["config", "diff", "2"]).status.success(), "as it stands on disk");
    assert!(text(&porter(&house, &["config", "show", "1"])).contains("160x90"));
    let none = porter(&house, &["config", "show", "7"]);
    assert!(!none.status.success() && text(&none).contains("the last is 2"), "{}", text(&none));
    let log = text(&porter(&house, &["log", "--job", "2"]));
    assert!(log.contains("by configuration 2"), "{log}");
}

#[test]
fn an_edited_configuration_is_tried_on_what_arrived() {
    let house = House::new();
    for name in ["cup.mp4", "saucer.mp4"] {
        house.drop_in(name, clip());
    }
    assert!(house.run_once().status.success());
    let same = porter(&house, &["rehearse", "--since", "2026-01-01"]);
    assert!(same.status.success() && text(&same).contains("0 of 2 arrivals"), "{}", text(&same));
    let text_now = std::fs::read_to_string(house.path("deft-porter.toml")).unwrap();
    let edited = text_now.replace("when = 'kind == \"video\"'", "when = 'stem == \"cup\"'");
    std::fs::write(house.path("edited.toml"), &edited).unwrap();
    let file = house.path("edited.toml");
    let args = ["rehearse", "--since", "2026-01-01", "--json", "--edited", file.to_str().unwrap()];
    let out = porter(&house, &args);
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    let told: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(told["arrivals"], 2);
    let changed = told["changed"].as_array().unwrap();
    assert_eq!((changed.len(), changed[0]["path"].as_str()), (1, Some("saucer.mp4")));
    assert!(changed[0]["after"][0].as_str().unwrap().starts_with("turned away"), "{told:#}");
    // One that is wrong is told with its own name.
    std::fs::write(&file, edited.replace("stem ==", "stam ==")).unwrap();
    let wrong = text(&porter(&house, &args));
    assert!(wrong.contains("edited.toml") && wrong.contains("stem"), "{wrong}");
}

#[test]
fn estimates_come_from_what_was_made_before() {
    let house = House::new();
    let file = house.path("next.mp4");
    std::fs::write(&file, clip()).unwrap();
    let told = |house: &House| -> serde_json::Value {
        let out = porter(house, &["rehearse", "--json", file.to_str().unwrap()]);
        serde_json::from_slice(&out.stdout).unwrap()
    };
    assert!(told(&house)[0]["outputs"][0]["about_bytes"].is_null());
    house.drop_in("cup.mp4", clip());
    assert!(house.run_once().status.success());
    let after = told(&house);
    let made = std::fs::metadata(house.path("out/cup_proxy.mp4")).unwrap().len();
    let about = after[0]["outputs"][0]["about_bytes"].as_u64().unwrap();
    assert!(about.abs_diff(made) <= made / 20, "{about} of {made}");
    assert!(after[0]["outputs"][0]["about_seconds"].as_f64().unwrap() > 0.0);
    assert_eq!(after[0]["outputs"][0]["from_past"], 1);
}

#[test]
fn files_are_renamed_and_get_their_names_back() {
    let house = House::new();
    let dir = house.path("card");
    std::fs::create_dir(&dir).unwrap();
    for name in ["EP03_A.MP4", "EP03_B.MP4", "kept.mp4"] {
        std::fs::write(dir.join(name), clip()).unwrap();
    }
    std::fs::write(dir.join("ep03_a_clip.MP4"), b"there already").unwrap();
    let before = tree(&house, "card");
    let template = "{stem.slug()}_clip";
    let files: Vec<String> =
        ["EP03_A.MP4", "EP03_B.MP4"].iter().map(|n| dir.join(n).to_string_lossy().into_owned()).collect();
    let mut args = vec!["rename", template];
    args.extend(files.iter().map(String::as_str));
    let shown = porter(&house, &args);
    assert!(shown.status.success() && text(&shown).contains("nothing was renamed"), "{}", text(&shown));
    assert_eq!(tree(&house, "card"), before);
    args.push("--yes");
    let done = porter(&house, &args);
    assert!(done.status.success(), "{}", text(&done));
    let after = tree(&house, "card");
    assert!(after.iter().all(|n| !n.starts_with("EP03")) && after.len() == 4, "{after:?}");
    assert_eq!(read(&house, "card/ep03_a_clip.MP4"), b"there already");
    // Another file has taken one of the old names meanwhile.
    std::fs::write(dir.join("EP03_B.MP4"), b"new").unwrap();
    let undo = porter(&house, &["rename", "--undo"]);
    assert_eq!(undo.status.code(), Some(1));
    assert!(text(&undo).contains("its old name is taken"), "{}", text(&undo));
    assert_eq!(read(&house, "card/EP03_A.MP4"), clip());
    assert_eq!(read(&house, "card/EP03_B.MP4"), b"new");
    std::fs::remove_file(dir.join("EP03_B.MP4")).unwrap();
    assert!(porter(&house, &["rename", "--undo", "1"]).status.success());
    assert_eq!(tree(&house, "card"), before);
    let nothing = porter(&house, &["rename", "--undo"]);
    assert!(
        !nothing.status.success() && text(&nothing).contains("nothing was renamed"),
        "{}",
        text(&nothing)
    );
}

/// Unpacked, and its list of checksums checked by yet another program.
fn unpacked(house: &House, package: &str, sums: &str) -> Vec<String> {
    let to = house.path("unpacked");
    support::unpack(&house.path(package), &to);
    let program = if sums == "xxh64" { "xxhsum".to_owned() } else { format!("{sums}sum") };
    let list = format!("checksums.{sums}");
    match Command::new(&program).args(["-c", &list]).current_dir(&to).output() {
        Ok(checked) => assert!(checked.status.success(), "{}", text(&checked)),
        Err(e) => support::skipped(&format!("{program}: {e}")),
    }
    let ours = Command::new(PROGRAM).arg("verify").arg(to.join(&list)).output().unwrap();
    assert!(ours.status.success(), "{}", text(&ours));
    tree(house, "unpacked")
}

#[rstest]
#[case("zip", "xxh64")]
#[case("tar", "sha256")]
#[case("tar", "md5")]
fn what_is_made_goes_into_one_package(#[case] form: &str, #[case] sums: &str) {
    let house = House::with("original = \"move\"\ndone = \"done\"\nsidecars = [\"*.xml\"]", "");
    let stated = if sums == "xxh64" { String::new() } else { format!("sums = \"{sums}\", ") };
    let makes = format!(
        "{{ preset = \"proxy\", name = \"{{stem}}_proxy\", to = [\"editors\"] }}, \
         {{ preset = \"sheet\", name = \"pictures/{{stem}}\", to = [] }}, \
         {{ original = true, name = \"{{stem}}\", to = [] }}, \
         {{ package = \"{form}\", {stated}name = \"{{stem}}_handover\", to = [\"editors\"] }}"
    );
    house.reconfigure("{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }", &makes);
    house.append("[[preset]]\nname = \"sheet\"\n[preset.frames]\nevery = \"500 ms\"\nfit = \"80x*\"\n");
    house.drop_in("cup ü.mp4", clip());
    house.drop_in("cup ü.xml", b"<take/>");
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let package = format!("cup ü_handover.{form}");
    let mut want = vec!["cup ü_proxy.mp4".to_owned(), package.clone()];
    want.sort();
    assert_eq!(tree(&house, "out"), want);
    let all = unpacked(&house, &format!("out/{package}"), sums);
    let list = format!("checksums.{sums}");
    let want = [list.as_str(), "cup ü.mp4", "cup ü.xml", "cup ü_proxy.mp4", "pictures/cup ü/000001.jpg"];
    assert_eq!(&all[..5], want, "{all:?}");
    assert_eq!(read(&house, "unpacked/cup ü.mp4"), clip());
    assert_eq!(read(&house, "unpacked/cup ü_proxy.mp4"), read(&house, "out/cup ü_proxy.mp4"));
}

#[test]
fn a_package_of_what_failed_is_none() {
    let house = making(
        "{ preset = \"proxy\", to = [] }, { package = \"zip\", of = [\"proxy\"], name = \"{stem}_all\", to = [\"editors\"] }",
    );
    // Sound alone: the proxy of pictures cannot be made, and then there is nothing to pack.
    house.reconfigure("when = 'kind == \"video\"'", "when = 'true'");
    let sound = support::make_clip(&media::testkit::Clip { frames: 0, ..media::testkit::Clip::default() });
    house.drop_in("talk.mp4", &sound);
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    assert!(!tree(&house, "out").iter().any(|n| n.ends_with(".zip")), "{:?}", tree(&house, "out"));
    let wrong = making("{ package = \"zip\", of = [\"prxy\"], to = [\"editors\"] }").run_once();
    assert!(text(&wrong).contains("what this rule makes"), "{}", text(&wrong));
    let odd = "{ preset = \"proxy\", sums = \"md5\", to = [] }, { package = \"zip\", sums = \"crc\", to = [\"editors\"] }";
    let wrong = text(&making(odd).run_once());
    assert!(wrong.contains("'sums' without 'package'") && wrong.contains("xxh64"), "{wrong}");
}

#[test]
fn captions_that_cannot_be_read_fail_the_output_that_shows_them_alone() {
    let house = watch_with("sidecars = [\"*.srt\"]");
    house.append("[[preset]]\nname = \"told\"\n[preset.video]\n[preset.burn_captions]\n");
    house.reconfigure(
        "{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }",
        "{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }, \
         { preset = \"told\", name = \"{stem}_told\", to = [\"editors\"] }",
    );
    for (stem, captions) in [
        ("none", "1\n00:00:xx,100 --> 00:00:00,900\nEbbe\n"),
        ("some", "1\n00:00:00,100 --> 00:00:00,900\nEbbe\n\n2\n00:00:xx,0 --> 00:00:00,900\nFlut\n"),
    ] {
        house.drop_in(format!("{stem}.mp4"), clip());
        house.drop_in(format!("{stem}.srt"), captions.as_bytes());
    }
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    let made: Vec<String> = tree(&house, "out").into_iter().filter(|n| n.ends_with(".mp4")).collect();
    assert_eq!(made, ["none_proxy.mp4", "some_proxy.mp4", "some_told.mp4"]);
    let shown: Vec<String> = ["1", "2"].iter().map(|n| text(&porter(&house, &["jobs", "show", n]))).collect();
    assert!(shown.iter().any(|s| s.contains("none.srt: no caption in it can be read")), "{shown:?}");
    assert!(shown.iter().any(|s| s.contains("captions: ") && s.contains("line 6")), "{shown:?}");
    // By hand it is the same.
    std::fs::create_dir(house.path("hand")).unwrap();
    std::fs::copy(house.path("away/none.mp4"), house.path("hand/none.mp4")).unwrap();
    std::fs::copy(house.path("away/none.srt"), house.path("hand/none.srt")).unwrap();
    let path = |name: &str| house.path(name).to_str().unwrap().to_owned();
    let (source, to) = (path("hand/none.mp4"), path("hand/out"));
    let out = porter(&house, &["convert", &source, "--preset", "told", "--preset", "proxy", "--to", &to]);
    assert!(!out.status.success() && text(&out).contains("no caption in it can be read"), "{}", text(&out));
    assert_eq!(tree(&house, "hand/out").len(), 1, "{:?}", tree(&house, "hand/out"));
}

#[test]
fn captions_that_came_with_a_film_stand_for_its_transcript() {
    let house = watch_with("sidecars = [\"*.srt\"]");
    house.append("[[preset]]\nname = \"words\"\n[preset.transcript]\nas = [\"txt\", \"json\", \"vtt\"]\nfrom_captions = true\n");
    house.reconfigure(
        "{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }",
        "{ preset = \"words\", to = [\"editors\"] }",
    );
    house.drop_in("cup.mp4", clip());
    house.drop_in(
        "cup.de.srt",
        "1\n00:00:00,100 --> 00:00:00,900\nEbbe und <i>Flut</i> über dem Watt\n".as_bytes(),
    );
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert!(String::from_utf8(read(&house, "out/cup.txt")).unwrap().contains("Ebbe und Flut über dem Watt"));
    let json: serde_json::Value = serde_json::from_slice(&read(&house, "out/cup.json")).unwrap();
    assert_eq!(json["language"], "de");
    assert!(json["notes"][0].as_str().unwrap().contains("cup.de.srt"), "{json:#}");
    let found = text(&porter(&house, &["find", "Watt"]));
    assert!(found.contains("cup"), "{found}");
    // Without a sidecar it is heard, and with one that is none it says so.
    house.drop_in("saucer.mp4", clip());
    house.drop_in("plate.mp4", clip());
    house.drop_in("plate.srt", b"a poem about the tide");
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    assert!(house.path("out/saucer.txt").exists());
    let why = std::fs::read_to_string(house.path("away/plate.mp4.why.txt")).unwrap();
    assert!(why.contains("neither SubRip"), "{why}");
}
