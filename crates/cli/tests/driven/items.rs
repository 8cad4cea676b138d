//! What counts as one arrival: folders that are taken whole, pictures with sound in files of its own, versions of one thing;
//! where originals go before anything is made of them, and names that are only nearly taken.

use crate::support::{self, House, PROGRAM, clip, text};
use media::testkit::Clip;
use rstest::rstest;
use std::path::Path;
use std::process::{Command, Output};

fn porter(house: &House, args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).arg("--house").arg(house.path("")).output().unwrap()
}

/// Files in a folder and below, without marks of the house.
fn tree(house: &House, folder: &str) -> Vec<String> {
    fn walk(dir: &Path, top: &Path, out: &mut Vec<String>) {
        for e in std::fs::read_dir(dir).unwrap().flatten() {
            let inside = e.path().strip_prefix(top).unwrap().to_string_lossy().into_owned();
            if e.path().is_dir() {
                out.push(format!("{inside}/"));
                walk(&e.path(), top, out);
            } else {
                out.push(inside);
            }
        }
    }
    let mut out = Vec::new();
    walk(&house.path(folder), &house.path(folder), &mut out);
    out.retain(|n| !n.starts_with(".deft-porter-folder"));
    out.sort();
    out
}

const MOVE: &str = "original = \"move\"\ndone = \"done\"";
const MAKE: &str = "make = [{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }]";

/// A watch that takes folders whole, and a rule that hands them on.
fn whole(keys: &str) -> House {
    let house = House::with(&format!("whole_folders = true\n{keys}"), "");
    house.append(
        "[[place]]\nname = \"backup\"\nfolder = \"backup\"\n\
         [[rule]]\nname = \"cards\"\nwhen = 'kind == \"folder\" && files >= 2'\n\
         make = [{ original = true, name = \"{date}/{name}\", to = [\"editors\", \"backup\"] }, \
         { package = \"zip\", name = \"{name}\", to = [\"backup\"] }]\n",
    );
    std::fs::create_dir(house.path("backup")).unwrap();
    house
}

fn card(house: &House, name: &str) -> Vec<(String, Vec<u8>)> {
    let files = [
        ("CLIPS001/A001C001.mp4", clip().to_vec()),
        ("CLIPS001/A001C001.xml", b"<clip/>".to_vec()),
        ("INDEX.BIN", Vec::new()),
        (".hidden/of the camera", b"\x00\x01".to_vec()),
    ];
    let dir = house.path("in").join(name);
    std::fs::create_dir_all(dir.join("EDIT")).unwrap();
    for (path, bytes) in &files {
        std::fs::create_dir_all(dir.join(path).parent().unwrap()).unwrap();
        std::fs::write(dir.join(path), bytes).unwrap();
    }
    files.map(|(path, bytes)| (path.to_owned(), bytes)).to_vec()
}

#[test]
fn a_folder_is_handed_on_whole() {
    let house = whole(MOVE);
    let files = card(&house, "A001");
    house.drop_in("loose.mp4", clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let status = house.status();
    assert_eq!(status["ended"].as_array().unwrap().len(), 2, "{status:#}");
    let day = std::fs::read_dir(house.path("backup")).unwrap().flatten();
    let day = day.map(|e| e.path()).find(|p| p.is_dir()).unwrap();
    for (path, bytes) in &files {
        assert_eq!(&std::fs::read(day.join("A001").join(path)).unwrap(), bytes, "{path}");
        let other = house.path("out").join(day.file_name().unwrap()).join("A001").join(path);
        assert_eq!(&std::fs::read(other).unwrap(), bytes, "{path}");
        assert_eq!(&std::fs::read(house.path("done/A001").join(path)).unwrap(), bytes, "{path}");
    }
    // Folders in which nothing is stay with the original, and nothing of it is left in the watch.
    assert!(house.path("done/A001/EDIT").is_dir());
    assert!(!house.path("in/A001").exists(), "{:?}", tree(&house, "in"));
    let list = Command::new("python3")
        .args(["-c", "import sys,zipfile; z=zipfile.ZipFile(sys.argv[1]); print(z.testzip(), *sorted(z.namelist()), sep='\\n')"])
        .arg(house.path("backup/A001.zip"))
        .output()
        .unwrap();
    let list = text(&list);
    assert!(list.starts_with("None\n") && list.contains("A001/CLIPS001/A001C001.mp4\n"), "{list}");
    assert!(list.contains("A001/.hidden/of the camera\n") && list.contains("INDEX.BIN\n"), "{list}");
    let shown = text(&porter(&house, &["jobs", "show", "1"]));
    assert!(shown.contains("a folder with 4 files") || shown.contains("A001"), "{shown}");
}

/// The pieces of a take, in a folder: `T_10` was recorded last.
fn take(house: &House, name: &str) {
    for (piece, frames, timecode) in
        [("T_10.mp4", 10, 0), ("T_2 more/T_2.MP4", 20, 0), ("T_1.mp4", 50, 903_000)]
    {
        let at = house.path("in").join(name).join(piece);
        std::fs::create_dir_all(at.parent().unwrap()).unwrap();
        let clip = Clip { frames, timecode, ..Clip::default() };
        std::fs::write(at, support::make_clip(&clip)).unwrap();
    }
    std::fs::write(house.path("in").join(name).join("notes.txt"), "scene 4").unwrap();
}

/// What a recorder cut into pieces is one film again, and goes on whole; what cannot be joined says so.
#[test]
fn the_films_of_a_folder_are_one() {
    let house = House::with(&format!("whole_folders = true\njoin = true\n{MOVE}"), "");
    house.append(
        "[[preset]]\nname = \"as it is\"\ncontainer = \"mov\"\n[preset.video]\ncodec = \"copy\"\n\
         [[rule]]\nname = \"all of it\"\nwhen = 'kind == \"video\"'\n\
         make = [{ preset = \"as it is\", to = [\"editors\"] }, { original = true, name = \"{name}\", to = [\"editors\"] }]\n",
    );
    take(&house, "take 4");
    std::fs::create_dir(house.path("in/paper")).unwrap();
    std::fs::write(house.path("in/paper/notes.txt"), "nothing to join").unwrap();
    let tried = text(&porter(&house, &["rehearse", house.path("in/take 4").to_str().unwrap()]));
    assert!(tried.contains("take 4_proxy.mp4") && tried.contains("files that are joined"), "{tried}");
    let out = house.run_once();
    assert!(!out.status.success(), "one was turned away: {}", text(&out));
    let facts = house.facts("out/take 4_proxy.mp4");
    let video = facts.video.first().unwrap();
    assert_eq!(video.frames, Some(80), "{facts:?}");
    assert!((facts.duration.unwrap().seconds - 3.2).abs() < 0.05);
    assert_eq!(
        facts.timecode.as_ref().map(|t| t.start.as_str()),
        Some("10:02:00:00"),
        "{:?}",
        facts.timecode
    );
    // The folder itself went on as it was, and so did the original.
    for folder in ["out/take 4", "done/take 4"] {
        assert!(
            house.path(folder).join("T_2 more/T_2.MP4").is_file()
                && house.path(folder).join("notes.txt").is_file()
        );
    }
    assert!(house.list("out").iter().all(|n| !n.ends_with(".mov")), "{:?}", house.list("out"));
    let shown =
        text(&porter(&house, &["jobs", "show", "1"])) + &text(&porter(&house, &["jobs", "show", "2"]));
    assert!(shown.contains("files that are joined are decoded"), "{shown}");
    assert!(shown.contains("neither a film nor a sound"), "{shown}");
    assert!(house.path("away/paper/notes.txt").is_file());
}

/// One piece that is spoilt is named, and the folder is turned away whole.
#[test]
fn a_piece_that_is_none_is_named() {
    let house = House::with(&format!("whole_folders = true\njoin = true\n{MOVE}"), "");
    take(&house, "take 5");
    let bad = house.path("in/take 5/T_2 more/T_2.MP4");
    let bytes = std::fs::read(&bad).unwrap();
    std::fs::write(&bad, &bytes[..bytes.len() / 3]).unwrap();
    let out = house.run_once();
    assert!(!out.status.success(), "{}", text(&out));
    let why = std::fs::read_to_string(house.path("away/take 5.why.txt")).unwrap();
    assert!(why.contains("T_2 more/T_2.MP4: cut off"), "{why}");
    assert!(house.path("away/take 5/T_10.mp4").is_file() && house.list("out").is_empty());
}

#[test]
fn a_folder_waits_until_nothing_in_it_changes() {
    let house = whole(MOVE);
    let running = house.start();
    card(&house, "A001");
    std::fs::write(house.path("in/A001/CLIPS001/A001C002.mp4.part"), b"half").unwrap();
    house.wait_until("the folder waits", |s| s["arriving"].to_string().contains("A001"));
    std::thread::sleep(std::time::Duration::from_millis(900));
    let status = house.status();
    assert_eq!(status["ended"].as_array().map(Vec::len), Some(0), "{status:#}");
    assert!(status["arriving"].to_string().contains("unfinished"), "{status:#}");
    let clips = house.path("in/A001/CLIPS001");
    std::fs::rename(clips.join("A001C002.mp4.part"), clips.join("A001C002.mp4")).unwrap();
    house.wait_until("it is done", |s| s["ended"].as_array().is_some_and(|e| e.len() == 1));
    assert!(house.path("done/A001/CLIPS001/A001C002.mp4").exists());
    running.interrupt();
}

/// Whenever it is killed: afterwards everything is there once, and whole.
#[rstest]
fn a_move_of_a_folder_survives_a_kill(
    #[values("about to remove the original", "frame moved", "staged", "published")] moment: &str,
    #[values("move", "remove")] original: &str,
) {
    if (moment == "frame moved") != (original == "move") && moment != "staged" && moment != "published" {
        return;
    }
    let house = whole(&format!("original = \"{original}\"\ndone = \"done\""));
    let files = card(&house, "A001");
    house.killed_at(moment);
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    for (path, bytes) in &files {
        let found: Vec<String> = ["done", "backup", "out"]
            .iter()
            .flat_map(|f| tree(&house, f).into_iter().map(move |n| format!("{f}/{n}")))
            .filter(|n| n.ends_with(path.as_str()))
            .collect();
        assert_eq!(found.len(), if original == "move" { 3 } else { 2 }, "{path}: {found:?}");
        assert!(found.iter().all(|n| &std::fs::read(house.path(n)).unwrap() == bytes), "{path}");
    }
    assert!(!house.path("in/A001").exists(), "{:?}", tree(&house, "in"));
}

/// What is left of a folder that is just being moved is no folder that arrived.
#[rstest]
fn half_of_a_folder_is_no_arrival(#[values("move", "move first")] original: &str) {
    let house = whole(&format!("original = \"{original}\"\ndone = \"done\""));
    let files = card(&house, "A001");
    house.killed_at("frame moved");
    assert!(house.path("in/A001").exists() && !tree(&house, "done").is_empty());
    assert!(porter(&house, &["pause"]).status.success());
    let running = house.start();
    std::thread::sleep(std::time::Duration::from_secs(2));
    assert_eq!(house.status()["open"].as_array().unwrap().len(), 1, "{:#}", house.status());
    assert!(porter(&house, &["resume"]).status.success());
    house.wait_until("it is done", |s| s["open"].as_array().unwrap().is_empty());
    running.interrupt();
    let done: Vec<String> = tree(&house, "done").into_iter().filter(|n| !n.ends_with('/')).collect();
    assert_eq!(done.len(), files.len(), "{done:?}");
    assert_eq!(tree(&house, "backup").iter().filter(|n| n.ends_with(".zip")).count(), 1);
}

#[test]
fn a_folder_that_cannot_be_taken_whole_stays_and_says_why() {
    let house = whole(MOVE);
    card(&house, "A001");
    std::os::unix::fs::symlink("/etc/passwd", house.path("in/A001/link")).unwrap();
    // One file is too few for the rule.
    std::fs::create_dir(house.path("in/B002")).unwrap();
    house.drop_in("B002/only.bin", b"x");
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    assert!(house.path("in/A001/link").is_symlink() && house.path("in/A001/INDEX.BIN").exists());
    assert_eq!(tree(&house, "away"), ["B002.why.txt", "B002/", "B002/only.bin"]);
    let why = std::fs::read_to_string(house.path("away/B002.why.txt")).unwrap();
    assert!(why.contains("no rule holds for it (found folder"), "{why}");
    assert!(tree(&house, "backup").is_empty());
    // Rehearsed it says the same.
    let told =
        text(&porter(&house, &["rehearse", "--watch", "cards", house.path("away/B002").to_str().unwrap()]));
    assert!(told.contains("cards") && told.contains("files"), "{told}");
}

/// A WAV of one channel with a steady tone.
fn tone(hertz: f32, seconds: f32) -> Vec<u8> {
    let samples: Vec<i16> = (0..(48_000.0 * seconds) as usize)
        .map(|n| ((n as f32 * hertz * std::f32::consts::TAU / 48_000.0).sin() * 12_000.0) as i16)
        .collect();
    let bytes = samples.len() as u32 * 2;
    let mut out = b"RIFF".to_vec();
    out.extend((36 + bytes).to_le_bytes());
    out.extend(b"WAVEfmt ");
    out.extend(16u32.to_le_bytes());
    out.extend([1, 0, 1, 0]);
    out.extend(48_000u32.to_le_bytes());
    out.extend(96_000u32.to_le_bytes());
    out.extend([2, 0, 16, 0]);
    out.extend(b"data");
    out.extend(bytes.to_le_bytes());
    samples.iter().for_each(|s| out.extend(s.to_le_bytes()));
    out
}

/// Crossings of zero in a second of the first channel: twice the tone.
fn crossings(path: &Path) -> usize {
    // 24 bits, in the chunk behind the one that tells the form.
    let bytes = std::fs::read(path).unwrap();
    let chunk = |name: &[u8], from: usize| from + bytes[from..].windows(4).position(|w| w == name).unwrap();
    let form = chunk(b"fmt ", 0);
    let at = chunk(b"data", form) + 8;
    let channels = usize::from(bytes[form + 10]);
    let negative = |n: usize| bytes[at + n * channels * 3 + 2] & 0x80 != 0;
    (1..48_000).filter(|n| negative(*n) != negative(n - 1)).count()
}

#[test]
fn sound_in_files_of_its_own_is_of_its_pictures() {
    let house = House::with(&format!("{MOVE}\nsound_beside = [\"*.wav\"]"), "");
    house.append("[[preset]]\nname = \"mix\"\n[preset.audio]\ncodec = \"pcm24\"\n");
    house.reconfigure(
        MAKE,
        "make = [{ preset = \"proxy\", name = \"{stem}_{sound_tracks}\", to = [\"editors\"] }, \
         { preset = \"mix\", name = \"{stem}\", to = [\"editors\"] }]",
    );
    house.drop_in("SC12_T4.mp4", clip());
    house.drop_in("SC12_T4_1.wav", &tone(1000.0, 2.0));
    house.drop_in("SC12_T4_2.wav", &tone(300.0, 2.0));
    house.drop_in("alone_1.wav", &tone(300.0, 2.0));
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(tree(&house, "done"), ["SC12_T4.mp4", "SC12_T4_1.wav", "SC12_T4_2.wav"]);
    assert_eq!(house.list("in").iter().filter(|n| !n.starts_with('.')).count(), 1);
    // Three tracks: both files, and the film's own behind them.
    assert_eq!(tree(&house, "out"), ["SC12_T4.wav", "SC12_T4_3.mp4"]);
    let heard = crossings(&house.path("out/SC12_T4.wav"));
    assert!(heard.abs_diff(2000) < 20, "{heard}");
    let facts = house.facts("out/SC12_T4_3.mp4");
    assert_eq!((facts.video.len(), facts.audio.len()), (1, 3), "{facts:#?}");
}

/// What is made of half of it would be made of something else.
#[test]
fn sound_that_goes_away_takes_its_pictures_along() {
    let house = House::with(&format!("{MOVE}\nsound_beside = [\"*.wav\"]"), "");
    house.drop_in("T4.mp4", clip());
    house.drop_in("T4_1.wav", &tone(1000.0, 2.0));
    house.killed_at("made, not recorded");
    house.drop_in("T4_1.wav", &tone(500.0, 1.0));
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    let why = std::fs::read_to_string(house.path("away/T4.mp4.why.txt")).unwrap();
    assert!(why.contains("T4_1.wav, which is its sound"), "{why}");
    assert!(house.path("away/T4.mp4").exists() && house.path("in/T4_1.wav").exists());
    assert!(tree(&house, "out").is_empty());
}

#[test]
fn versions_of_one_thing_are_known() {
    let house = House::with(MOVE, "");
    house.reconfigure(
        "when = 'kind == \"video\"'\nmake = [{ preset = \"proxy\", name = \"{stem}_proxy\"",
        "when = 'kind == \"video\" && newer == 0'\n\
         make = [{ preset = \"proxy\", name = \"{source}_{pad(source_version, 3)}_after_{earlier}\"",
    );
    for (n, path) in
        ["shots/v001/sh010.mp4", "shots/v003/sh010.mp4", "shots/sh020_v01.mp4", "shots/v002/sh010.mp4"]
            .iter()
            .enumerate()
    {
        let at = house.path("in").join(path);
        std::fs::create_dir_all(at.parent().unwrap()).unwrap();
        // Each with other content: a free box behind it.
        let mut bytes = clip().to_vec();
        bytes.extend((9 + n as u32).to_be_bytes());
        bytes.extend(*b"free");
        bytes.resize(bytes.len() + n + 1, 0);
        std::fs::write(at, bytes).unwrap();
        house.run_once();
    }
    let made: Vec<String> = tree(&house, "out").into_iter().filter(|n| n.ends_with(".mp4")).collect();
    assert_eq!(
        made,
        ["shots_sh010_001_after_0.mp4", "shots_sh010_003_after_1.mp4", "shots_sh020_001_after_0.mp4"]
    );
    // The one that came late is older than what is there.
    let why = std::fs::read_to_string(house.path("away/shots/v002/sh010.mp4.why.txt")).unwrap();
    assert!(why.contains("newer == 0"), "{why}");
    let shown = text(&porter(&house, &["jobs", "show", "2"]));
    assert!(shown.contains("version 3") && shown.contains("job 4 (version 2)"), "{shown}");
}

#[test]
fn an_original_is_moved_before_anything_is_made_of_it() {
    let house = House::with(
        "original = \"move first\"\ndone = \"done\"\ndone_name = \"{date}/{watch}_{stem}\"\nsidecars = [\"*.xml\"]",
        "",
    );
    std::fs::create_dir(house.path("in/day1")).unwrap();
    house.drop_in("day1/A1.mp4", clip());
    house.drop_in("day1/A1.xml", b"<a/>");
    house.drop_in("broken.mp4", &clip()[..clip().len() / 2]);
    house.killed_at("taken in");
    assert!(!house.path("in/day1/A1.mp4").exists() && house.list("out").iter().all(|n| n.starts_with('.')));
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    let done = tree(&house, "done");
    assert_eq!(done.len(), 3, "{done:?}");
    assert!(done[1].ends_with("/A1.xml") && done[2].ends_with("/cards_A1.mp4"), "{done:?}");
    assert_eq!(std::fs::read(house.path("done").join(&done[2])).unwrap(), clip());
    assert_eq!(tree(&house, "out"), ["A1_proxy.mp4"]);
    assert_eq!(tree(&house, "away"), ["broken.mp4", "broken.mp4.why.txt"]);
    // Done once more from where it is.
    let again = text(&porter(&house, &["jobs", "again", "--name", "*A1*"]));
    assert!(again.contains("done once more"), "{again}");
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "out"), ["A1_proxy.mp4", "A1_proxy_2.mp4"]);
}

#[rstest]
fn taking_in_survives_a_kill(
    #[values("about to move the original", "original moved", "taken in")] moment: &str,
) {
    let house = House::with("original = \"move first\"\ndone = \"done\"", "");
    house.drop_in("A1.mp4", clip());
    house.killed_at(moment);
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(
        (tree(&house, "done"), tree(&house, "out")),
        (vec!["A1.mp4".into()], vec!["A1_proxy.mp4".into()])
    );
    assert_eq!(std::fs::read(house.path("done/A1.mp4")).unwrap(), clip());
}

#[test]
fn names_that_differ_only_in_case_are_taken() {
    let house = House::with(MOVE, "");
    std::fs::write(house.path("out/BRU\u{308}CKE_Proxy.mp4"), b"somebody's").unwrap();
    house.drop_in("br\u{fc}cke.mp4", clip());
    house.drop_in("Cup.mp4", clip());
    assert!(house.run_once().status.success());
    house.drop_in("CUP.mp4", clip());
    assert!(house.run_once().status.success());
    let mut made = tree(&house, "out");
    made.sort();
    assert_eq!(
        made,
        ["BRU\u{308}CKE_Proxy.mp4", "CUP_proxy_2.mp4", "Cup_proxy.mp4", "br\u{fc}cke_proxy_2.mp4"]
    );
    assert_eq!(std::fs::read(house.path("out/BRU\u{308}CKE_Proxy.mp4")).unwrap(), b"somebody's");
}

#[test]
fn a_watch_takes_the_kinds_and_the_names_it_says() {
    let house = House::with(&format!("{MOVE}\nkinds = [\"video\"]\nfrom_file = \"A003_C002.mp4\""), "");
    for name in ["A003_C001.mp4", "A003_C2.mp4", "A003_C010.MP4", "A010_C001.mp4", "z.wav"] {
        house.drop_in(name, clip());
    }
    assert!(house.run_once().status.success());
    assert_eq!(tree(&house, "out"), ["A003_C010_proxy.mp4", "A003_C2_proxy.mp4", "A010_C001_proxy.mp4"]);
    assert_eq!(tree(&house, "in"), ["A003_C001.mp4", "z.wav"]);
}

#[test]
fn what_was_there_before_the_first_use_is_left_alone() {
    let house = House::with(&format!("{MOVE}\nsince = \"first use\""), "");
    house.drop_in("old.mp4", clip());
    std::thread::sleep(std::time::Duration::from_millis(20));
    assert!(house.run_once().status.success());
    house.drop_in("new.mp4", clip());
    assert!(house.run_once().status.success());
    assert_eq!(
        (tree(&house, "out"), tree(&house, "in")),
        (vec!["new_proxy.mp4".into()], vec!["old.mp4".into()])
    );
}

#[test]
fn conditions_ask_tracks_sidecars_and_parts_of_names() {
    let house = House::with(&format!("{MOVE}\nsidecars = [\"*.json\"]"), "");
    house.reconfigure(
        "name = \"Estuary Hours\"",
        "name = \"Estuary Hours\"\nname_parts = 'EP(?<episode>[0-9]+)_SC(?<scene>[0-9]+)'",
    );
    house.reconfigure(
        "when = 'kind == \"video\"'\nmake = [{ preset = \"proxy\", name = \"{stem}_proxy\"",
        "when = 'sounds.exists(s, s.channels == 2 && s.codec == \"AAC\") && \"unit\" in sidecar && sidecar.unit == \"B\" && parts.episode == \"03\"'\n\
         make = [{ preset = \"proxy\", name = \"ep{parts.episode}-{parts.scene}_{sounds.size()}\"",
    );
    house.drop_in("EP03_SC12.mp4", clip());
    house.drop_in("EP03_SC12.json", br#"{"unit": "B"}"#);
    house.drop_in("EP03_SC13.mp4", clip());
    house.drop_in("EP03_SC13.json", br#"{"unit": "A"}"#);
    house.drop_in("EP04_SC1.mp4", clip());
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    assert_eq!(tree(&house, "out"), ["ep03-12_1.mp4"]);
    assert_eq!(tree(&house, "away").iter().filter(|n| n.ends_with(".why.txt")).count(), 2);
}

#[rstest]
#[case("sounds.exists(s, s.chanels == 6)", "'channels', not 'chanels'")]
#[case("sounds > 2", "do not go together")]
#[case("tags", "true or false")]
fn wrong_conditions_on_lists_are_told_when_they_are_read(#[case] when: &str, #[case] want: &str) {
    let house = House::new();
    house.reconfigure("when = 'kind == \"video\"'", &format!("when = '{when}'"));
    let out = text(&porter(&house, &["check"]));
    assert!(out.contains(want), "{out}");
}

#[test]
fn a_configuration_may_stand_in_several_files() {
    let house = House::with(MOVE, "");
    std::fs::create_dir_all(house.path("parts")).unwrap();
    let part = |name: &str, text: &str| std::fs::write(house.path("parts").join(name), text).unwrap();
    part("10-places.toml", "[[place]]\nname = \"archive\"\nfolder = \"archive\"\n");
    part(
        "20-rules.toml",
        "# more\n[[rule]]\nname = \"keep\"\nwhen = 'true'\nmake = [{ original = true, to = [\"archive\"] }]\n",
    );
    std::fs::create_dir(house.path("archive")).unwrap();
    house.drop_in("cup.mp4", clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(
        (tree(&house, "archive"), tree(&house, "out")),
        (vec!["cup.mp4".into()], vec!["cup_proxy.mp4".into()])
    );
    let shown = text(&porter(&house, &["config", "show"]));
    assert!(shown.contains("[[rule]]\nname = \"keep\""), "{shown}");
    // What is wrong is told with its own file and line,
    part(
        "20-rules.toml",
        "# more\n[[rule]]\nname = \"keep\"\nwhen = 'hight > 3'\nmake = [{ original = true, to = [\"archive\"] }]\n",
    );
    let out = text(&porter(&house, &["check"]));
    assert!(out.contains("20-rules.toml:4:") && out.contains("'height', not 'hight'"), "{out}");
    // and a key of nobody's does not fall into the table before it.
    part("20-rules.toml", "priority = 5\n[[rule]]\nname = \"keep\"\n");
    let out = text(&porter(&house, &["check"]));
    assert!(out.contains("20-rules.toml:1:") && out.contains("unknown field 'priority'"), "{out}");
    let status = porter(&house, &["status"]);
    assert!(text(&status).contains("cup.mp4"), "{}", text(&status));
}

#[test]
fn parts_are_taken_up_by_a_porter_at_work() {
    let house = House::with(MOVE, "");
    let running = house.start();
    house.wait_until("it works", |s| s["watches"].is_array());
    std::fs::create_dir_all(house.path("parts")).unwrap();
    let rule = "[[rule]]\nname = \"too\"\nwhen = 'kind == \"video\"'\nmake = [{ preset = \"sound\", name = \"{stem}_too\", to = [\"editors\"] }]\n";
    std::fs::write(house.path("parts/more.toml"), rule).unwrap();
    let start = std::time::Instant::now();
    while !text(&porter(&house, &["config", "show"])).contains("too") && start.elapsed().as_secs() < 30 {
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    let mut n = 0;
    // The porter looks at its files now and then: what arrives after that goes by the new rule.
    while !tree(&house, "out").iter().any(|f| f.ends_with("_too.m4a")) {
        assert!(start.elapsed().as_secs() < 60, "{:?}", tree(&house, "out"));
        n += 1;
        house.drop_in(format!("cup{n}.mp4"), clip());
        std::thread::sleep(std::time::Duration::from_millis(1500));
    }
    running.interrupt();
}

#[test]
fn what_says_no_place_goes_where_its_watch_says() {
    let house = House::with(&format!("{MOVE}\nto = [\"editors\"]"), "");
    house.reconfigure(
        "make = [{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }]",
        "make = [{ preset = \"proxy\", name = \"{id}_{stem}\" }]",
    );
    house.drop_in("cup.mp4", clip());
    assert!(house.run_once().status.success());
    let made = tree(&house, "out");
    let (id, rest) = made[0].split_once('_').unwrap();
    assert_eq!((made.len(), id.len(), rest), (1, 6, "cup.mp4"), "{made:?}");
    house.reconfigure("to = [\"editors\"]\nturned", "turned");
    let out = text(&porter(&house, &["check"]));
    assert!(out.contains("no key 'to'") && out.contains("in watch \"cards\""), "{out}");
    house.reconfigure("turned_away = \"away\"", "turned_away = \"away\"\nto = [\"editor\"]");
    let out = text(&porter(&house, &["check"]));
    assert!(out.contains("watch \"cards\": to 1") && out.contains("the name of a place"), "{out}");
}

/// The schema that editors are given knows the keys that the program knows, and so does the page of keys.
#[test]
fn the_schema_of_the_configuration_is_published() {
    let schema = support::published("configuration.json", &["config", "schema"]);
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/config.md")).unwrap();
    let mut keys = Vec::new();
    let mut all: Vec<&serde_json::Value> = schema["$defs"].as_object().unwrap().values().collect();
    all.push(&schema);
    for table in all {
        assert_eq!(table["additionalProperties"], false, "{table:#}");
        keys.extend(table["properties"].as_object().unwrap().keys().cloned());
    }
    assert!(keys.len() > 150 && keys.iter().any(|k| k == "whole_folders"));
    // In tables, in lists of keys, and in the heads of tables (`[preset.video]`).
    let is_told = |key: &String| {
        [format!("`{key}`"), format!("`{key} "), format!(".{key}]"), format!("[[{key}]]"), format!("[{key}]")]
            .iter()
            .any(|form| page.contains(form))
    };
    let missing: Vec<&String> = keys.iter().filter(|k| !is_told(k)).collect();
    assert!(missing.is_empty(), "not in docs/config.md: {missing:?}");
}

#[test]
fn check_tries_what_the_porter_will_do() {
    let house = House::with(MOVE, "");
    let out = porter(&house, &["check", "--json"]);
    let told: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    let folders = told["folders"].as_array().unwrap();
    assert!(folders.iter().any(|f| f["free"].as_u64().is_some_and(|n| n > 0)), "{told:#}");
    assert!(tree(&house, "out").is_empty() && house.list("in").iter().all(|n| !n.contains("check")));
    let shown = text(&porter(&house, &["check"]));
    assert!(shown.contains(" free)"), "{shown}");
}

/// A card goes to two places with a manifest each, which the standard's own reader takes; what was a generation before
/// stays one.
#[test]
fn a_folder_is_handed_over_with_its_manifest() {
    let house = House::with(&format!("whole_folders = true\n{MOVE}"), "");
    house.append(
        "[[place]]\nname = \"backup\"\nfolder = \"backup\"\n\
         [[rule]]\nname = \"copy\"\nwhen = 'kind == \"folder\"'\n\
         make = [{ original = true, manifest = true, name = \"{name}\", to = [\"editors\", \"backup\"] }]\n",
    );
    std::fs::create_dir(house.path("backup")).unwrap();
    card(&house, "A001");
    // One that was copied here by hand brings its history along.
    card(&house, "source");
    let (from, to) = (house.path("in/source"), house.path("in"));
    std::fs::rename(&from, house.path("A002")).unwrap();
    let copy =
        Command::new(PROGRAM).arg("copy").arg(house.path("A002")).arg("--to").arg(&to).output().unwrap();
    assert!(copy.status.success(), "{}", text(&copy));
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let generations = |folder: &str| {
        let all = std::fs::read_dir(house.path(folder).join("ascmhl")).unwrap().flatten();
        all.filter(|e| e.file_name().to_string_lossy().ends_with(".mhl")).count()
    };
    for (folder, count) in [("out/A001", 1), ("backup/A001", 1), ("out/A002", 2), ("backup/A002", 2)] {
        assert_eq!(generations(folder), count, "{folder}");
        let verify = Command::new(PROGRAM).arg("verify").arg(house.path(folder)).output().unwrap();
        assert!(verify.status.success(), "{}", text(&verify));
        assert!(text(&verify).contains("4 as they were"), "{}", text(&verify));
    }
    // The original is as it came.
    assert!(!house.path("done/A001/ascmhl").exists());
    assert_eq!(generations("done/A002"), 1);
    let Some(readers) = support::readers() else { return };
    let judge = |folder: &str| {
        Command::new("python3")
            .env("PYTHONPATH", &readers)
            .args(["-c", "from ascmhl.cli.ascmhl import mhltool_cli as m; m()", "create", "-h", "xxh64"])
            .arg(house.path(folder))
            .output()
            .unwrap()
    };
    for folder in ["out/A001", "out/A002"] {
        let told = judge(folder);
        assert!(told.status.success(), "{}", text(&told));
    }
    std::fs::write(house.path("backup/A002/INDEX.BIN"), "other").unwrap();
    assert!(!judge("backup/A002").status.success());
}

#[test]
fn a_manifest_is_of_an_original() {
    let house = House::new();
    house.reconfigure("{ preset = \"proxy\", name", "{ preset = \"proxy\", manifest = true, name");
    let out = text(&porter(&house, &["check"]));
    assert!(out.contains("'manifest' without 'original'"), "{out}");
}

#[test]
fn the_same_content_once_more_is_a_version_where_the_watch_says_so() {
    let house = House::with(&format!("same_content = \"version\"\n{MOVE}"), "");
    for turn in 0..3 {
        house.drop_in("cup.mp4", clip());
        let out = house.run_once();
        assert!(out.status.success(), "{turn}: {}", text(&out));
    }
    // Another content of the same name is numbered, as ever.
    house.drop_in("cup.mp4", &support::make_clip(&Clip { frames: 24, ..Clip::default() }));
    assert!(house.run_once().status.success());
    let made = tree(&house, "out");
    for name in ["cup_proxy.mp4", "cup_proxy_v002.mp4", "cup_proxy_v003.mp4", "cup_proxy_2.mp4"] {
        assert!(made.contains(&name.to_owned()), "{name}: {made:?}");
    }
    let log = text(&porter(&house, &["log", "--job", "2"]));
    assert!(log.contains("job 1 was of the same content: what is made is a version"), "{log}");
}

#[test]
fn a_name_that_is_taken_can_become_a_version() {
    let house = House::with(MOVE, "");
    house.append(
        "[[rule]]\nname = \"cut\"\nmake = [{ preset = \"proxy\", name = \"{stem}\", to = [\"editors\"], if_taken = \"version\" }]\n",
    );
    std::fs::write(house.path("out/sh010_v07.mp4"), "an older one").unwrap();
    for name in ["sh010_v07.mp4", "sh020.mp4", "sh020.mov"] {
        house.drop_in(name, clip());
        assert!(house.run_once().status.success());
    }
    let made = tree(&house, "out");
    for name in ["sh010_v08.mp4", "sh020.mp4", "sh020_v002.mp4"] {
        assert!(made.contains(&name.to_owned()), "{name}: {made:?}");
    }
    assert_eq!(std::fs::read(house.path("out/sh010_v07.mp4")).unwrap(), b"an older one");
}

/// A table beside the files says what a sidecar would, to conditions and to what is published; it is no arrival.
#[test]
fn a_table_says_fields_of_files() {
    let house = House::with(&format!("table = \"titles.csv\"\n{MOVE}"), "");
    house.append(
        "[[rule]]\nname = \"told\"\nwhen = '\"title\" in sidecar && sidecar.episode == \"3\"'\n\
         make = [{ preset = \"proxy\", name = \"{sidecar.title}\", to = [\"editors\"] }]\n",
    );
    house.drop_in("titles.csv", b"file;title;episode\ncup.mp4;Low tide;3\nsaucer;High tide;4\n");
    house.drop_in("cup.mp4", clip());
    house.drop_in("saucer.mp4", clip());
    let rehearsed = porter(&house, &["rehearse", house.path("in/cup.mp4").to_str().unwrap()]);
    assert!(text(&rehearsed).contains("Low tide.mp4"), "{}", text(&rehearsed));
    house.run_once();
    let made = tree(&house, "out");
    assert!(made.contains(&"Low tide.mp4".to_owned()), "{made:?}");
    assert!(!made.iter().any(|n| n.contains("High")), "{made:?}");
    assert!(house.path("in/titles.csv").exists());
}

/// What is delivered says in its own metadata where it comes from: read by another program.
#[test]
fn delivered_files_say_what_they_were_made_of() {
    let house = House::with(MOVE, "");
    let sounds = [("flac16", "flac"), ("mp3", "mp3"), ("opus", "opus"), ("pcm16", "wav")];
    let mut presets = String::new();
    let mut makes = Vec::new();
    for (codec, ending) in sounds {
        presets.push_str(&format!("[[preset]]\nname = \"{ending}\"\n[preset.audio]\ncodec = \"{codec}\"\n"));
        makes.push(format!("{{ preset = \"{ending}\", name = \"{{stem}}\", to = [\"editors\"] }}"));
    }
    presets.push_str("[[preset]]\nname = \"silent\"\ncomment = false\n[preset.audio]\n");
    makes.push("{ preset = \"silent\", name = \"silent\", to = [\"editors\"] }".into());
    house.append(&format!("{presets}[[rule]]\nname = \"all\"\nmake = [{}]\n", makes.join(", ")));
    house.drop_in("Ebb & flow.mp4", clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let read = "import sys, mutagen\n\
        for p in sys.argv[1:]:\n\
        \x20 t = mutagen.File(p).tags\n\
        \x20 print(t.pprint() if t else 'none')";
    let at = |name: &str| house.path("out").join(name);
    for name in ["Ebb & flow_proxy.mp4", "Ebb & flow.flac", "Ebb & flow.mp3", "Ebb & flow.opus"] {
        let Some(told) = support::python(read, &[&at(name)]) else { return };
        assert!(told.contains("Estuary Hours, job 1, made of Ebb & flow.mp4"), "{name}: {told}");
    }
    let Some(told) = support::python(read, &[&at("silent.m4a")]) else { return };
    assert_eq!(told.trim(), "none");
    let wav = std::fs::read(at("Ebb & flow.wav")).unwrap();
    assert!(String::from_utf8_lossy(&wav).contains("ICMT"));
}

/// What is spoilt in its middle is found before anything is made, where the watch wants all of it decoded; a rule can say
/// otherwise for what it makes.
#[test]
fn a_watch_can_have_everything_decoded_first() {
    let good = support::make_clip(&Clip { frames: 60, ..Clip::default() });
    // A dozen bytes in the middle of the pictures are others: head and index are whole.
    let mut spoilt = good.clone();
    let middle = spoilt.len() / 2;
    spoilt[middle..middle + 400].iter_mut().for_each(|b| *b ^= 0x5a);
    let house = House::with(&format!("check = \"whole\"\n{MOVE}"), "");
    house.drop_in("good.mp4", &good);
    house.drop_in("spoilt.mp4", &spoilt);
    house.run_once();
    let status = house.status();
    let of = |name: &str| {
        let ended = status["ended"].as_array().unwrap();
        ended.iter().find(|j| j["path"] == name).unwrap_or_else(|| panic!("{status:#}")).clone()
    };
    assert_eq!(of("good.mp4")["state"], "done", "{status:#}");
    assert_eq!(of("spoilt.mp4")["state"], "turned away", "{status:#}");
    let why = of("spoilt.mp4")["reason"].to_string();
    assert!(why.contains("track 1") && why.contains("spoilt") || why.contains("cannot be read"), "{why}");
    // Recorded with what is to be made.
    let recipe = text(&porter(&house, &["jobs", "show", "1", "--json"]));
    assert!(recipe.contains("good_proxy.mp4"), "{recipe}");
    let quick = House::new();
    quick.drop_in("spoilt.mp4", &spoilt);
    quick.run_once();
    assert_eq!(tree(&quick, "out"), ["spoilt_proxy.mp4"], "what can be made of it is made");
    let wrong = House::with(&format!("check = \"deep\"\n{MOVE}"), "");
    let told = text(&porter(&wrong, &["check"]));
    assert!(told.contains("\"quick\" or \"whole\"") || told.contains("whole"), "{told}");
}
