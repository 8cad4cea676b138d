//! What is made of many files gathers in a folder, and goes on as one package.

use crate::support::{self, House, PROGRAM, clip, text};
use rstest::rstest;
use std::collections::BTreeMap;
use std::process::Command;
use std::time::Duration;

/// Clips gather as they arrived, by name, and each folder of them becomes one package.
fn gathering(name: &str, form: &str) -> House {
    let house = House::with("original = \"move\"\ndone = \"done\"", "");
    house.reconfigure(
        "when = 'kind == \"video\"'\nmake = [{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }]",
        &format!("watch = [\"cards\"]\nmake = [{{ original = true, name = \"{name}\", to = [\"gathered\"] }}]"),
    );
    house.reconfigure("name = \"recordings\"\n", "name = \"recordings\"\nwatch = [\"cards\"]\n");
    house.append(&format!(
        "[[place]]\nname = \"gathered\"\nfolder = \"batch\"\n\
         [[watch]]\nname = \"batches\"\nfolder = \"batch\"\nwhole_folders = true\nsteady = \"400 ms\"\n\
         look_every = \"100 ms\"\noriginal = \"remove\"\nturned_away = \"away\"\n\
         [[rule]]\nname = \"hand over\"\nwatch = [\"batches\"]\n\
         make = [{{ original = true, to = [] }}, \
         {{ package = \"{form}\", of = [\"original\"], name = \"{{name}}\", to = [\"editors\"] }}]\n"
    ));
    std::fs::create_dir(house.path("batch")).unwrap();
    house
}

/// A clip that is like no other.
fn numbered(n: u32) -> Vec<u8> {
    let mut bytes = clip().to_vec();
    bytes.extend([0, 0, 0, 12]);
    bytes.extend(b"free");
    bytes.extend(n.to_be_bytes());
    bytes
}

/// What the packages hold, by name.
fn packed(house: &House) -> BTreeMap<String, Vec<Vec<u8>>> {
    let mut all: BTreeMap<String, Vec<Vec<u8>>> = BTreeMap::new();
    for package in house.list("out") {
        let to = house.path("unpacked").join(&package);
        support::unpack(&house.path("out").join(&package), &to);
        let list = to.join("checksums.xxh64");
        let checked = Command::new(PROGRAM).arg("verify").arg(&list).output().unwrap();
        assert!(checked.status.success(), "{package}: {}", text(&checked));
        for file in std::fs::read_to_string(&list).unwrap().lines() {
            let (_, name) = file.split_once("  ").unwrap();
            all.entry(name.to_owned()).or_default().push(std::fs::read(to.join(name)).unwrap());
        }
    }
    all
}

/// Other programs see when each file was changed: to the second in a TAR, to two in a ZIP.
#[rstest]
#[case("zip")]
#[case("tar")]
fn files_in_a_package_keep_their_times(#[case] form: &str) {
    let house = gathering("reel/{stem}", form);
    let reel = house.path("batch/reel");
    std::fs::create_dir(&reel).unwrap();
    std::fs::write(reel.join("take.mp4"), numbered(1)).unwrap();
    let then = std::time::UNIX_EPOCH + Duration::from_secs(1_700_000_001);
    std::fs::File::options().write(true).open(reel.join("take.mp4")).unwrap().set_modified(then).unwrap();
    let said = text(&house.run_once());
    let script = "import sys, tarfile, time, zipfile\n\
        if sys.argv[1].endswith('.zip'):\n\
        \x20   all = zipfile.ZipFile(sys.argv[1]).infolist()\n\
        \x20   print([int(time.mktime(i.date_time + (0, 0, -1))) for i in all if i.filename.endswith('mp4')][0])\n\
        else:\n\
        \x20   print([int(m.mtime) for m in tarfile.open(sys.argv[1]) if m.name.endswith('mp4')][0])\n";
    let package = house.path(format!("out/reel.{form}"));
    let Some(seen) = support::python(script, &[&package]) else { return };
    let want = if form == "zip" { "1700000000" } else { "1700000001" };
    assert_eq!(seen.trim(), want, "{said}");
}

#[rstest]
#[case("zip")]
#[case("tar")]
fn what_is_made_of_many_files_goes_into_one_package(#[case] form: &str) {
    let house = gathering("reel 1/{stem}", form);
    for n in 0..3 {
        house.drop_in(format!("take {n}.mp4"), &numbered(n));
    }
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(house.list("out"), [format!("reel 1.{form}")], "{}", text(&out));
    let all = packed(&house);
    for n in 0..3 {
        assert_eq!(all[&format!("reel 1/take {n}.mp4")], [numbered(n)], "{:?}", all.keys());
    }
    assert_eq!((all.len(), house.list("batch").len(), house.list("done").len()), (3, 0, 3));
}

/// Files come while folders of them are packed: each is in one package, and in one alone.
#[rstest]
#[case("remove", "remove", "")]
#[case("move", "move", "done = \"packed\"\n")]
#[case("move_first", "move first", "done = \"packed\"\n")]
fn what_comes_late_goes_into_the_next_package(
    #[case] _what: &str,
    #[case] original: &str,
    #[case] done: &str,
) {
    let house = gathering("reel/{stem}", "zip");
    house.reconfigure("original = \"remove\"\n", &format!("original = \"{original}\"\n{done}"));
    let running = house.start();
    for n in 0..24 {
        house.drop_in(format!("take {n}.mp4"), &numbered(n));
        std::thread::sleep(Duration::from_millis(u64::from(n) * 37 % 700));
    }
    // Gone before this status was asked for: a folder that is moved first is gone before its job has ended.
    let mut was_gone = false;
    house.wait_until("all is handed over", |s| {
        let ended = s["ended"].as_array().unwrap();
        let gone = std::mem::replace(&mut was_gone, !house.path("batch/reel").exists());
        ended.iter().filter(|j| j["watch"] == "cards").count() == 24
            && s["open_count"] == 0
            && gone
            && was_gone
    });
    running.interrupt();
    let all = packed(&house);
    for n in 0..24 {
        let found = &all[&format!("reel/take {n}.mp4")];
        assert!(*found == [numbered(n)], "take {n} is {} times in {:?}", found.len(), house.list("out"));
    }
    assert!(all.len() == 24 && house.list("out").len() > 1, "{:?}", house.list("out"));
    assert!(house.list("batch").is_empty() && house.list("away").is_empty());
}

/// What comes into a folder that is in work waits, and `status` says what for.
#[rstest]
#[case("original = \"remove\"\n")]
#[case("original = \"move\"\ndone = \"packed\"\n")]
fn what_waits_for_the_same_folder_is_shown(#[case] original: &str) {
    let house = gathering("reel/{stem}", "zip");
    house.reconfigure("original = \"remove\"\n", original);
    let reel = house.path("batch/reel");
    std::fs::create_dir(&reel).unwrap();
    std::fs::write(reel.join("take 0.mp4"), numbered(0)).unwrap();
    // Its package waits for a place that is gone.
    std::fs::rename(house.path("out"), house.path("elsewhere")).unwrap();
    let running = house.start();
    house.wait_until("the package waits", |s| s["open"].to_string().contains("place"));
    std::fs::write(reel.join("take 1.mp4"), numbered(1)).unwrap();
    house.wait_until("the late file is told", |s| {
        s["arriving"].to_string().contains("under this name before is still in work")
    });
    std::fs::rename(house.path("elsewhere"), house.path("out")).unwrap();
    let all_went = |s: &serde_json::Value| {
        s["open_count"] == 0 && s["arriving"].as_array().unwrap().is_empty() && !reel.exists()
    };
    house.wait_until("all went", all_went);
    running.interrupt();
    let all = packed(&house);
    for n in 0..2 {
        assert_eq!(all[&format!("reel/take {n}.mp4")], [numbered(n)], "{:?}", house.list("out"));
    }
}

/// A move of a folder that a kill broke off is ended with the files that it began with.
#[rstest]
#[case::before("about to move the original")]
#[case::within("frame moved")]
fn what_comes_while_the_porter_is_away_goes_on_as_well(#[case] moment: &str) {
    let house = gathering("reel/{stem}", "zip");
    house.reconfigure("original = \"remove\"\n", "original = \"move\"\ndone = \"packed\"\n");
    let reel = house.path("batch/reel");
    std::fs::create_dir(&reel).unwrap();
    for n in 0..3 {
        std::fs::write(reel.join(format!("take {n}.mp4")), numbered(n)).unwrap();
    }
    house.killed_at(moment);
    std::fs::write(reel.join("take 3.mp4"), numbered(3)).unwrap();
    let said = text(&house.run_once());
    let all = packed(&house);
    for n in 0..4 {
        assert_eq!(all[&format!("reel/take {n}.mp4")], [numbered(n)], "{n}: {said}");
        let folder = if n < 3 { "packed/reel" } else { "packed/reel_2" };
        assert_eq!(std::fs::read(house.path(folder).join(format!("take {n}.mp4"))).unwrap(), numbered(n));
    }
    assert!(house.list("batch").is_empty() && house.list("out").len() == 2, "{:?}", house.list("out"));
}

#[test]
fn what_would_come_round_again_is_refused() {
    let house = gathering("reel/{stem}", "zip");
    let check = || text(&Command::new(PROGRAM).arg("check").arg(house.path("")).output().unwrap());
    assert!(!check().contains("lies in"), "{}", check());
    house.reconfigure("name = \"{name}\", to = [\"editors\"]", "name = \"{name}\", to = [\"gathered\"]");
    assert!(check().contains("where rule \"hand over\" delivers what comes of this watch"), "{}", check());
    house.reconfigure("name = \"{name}\", to = [\"gathered\"]", "name = \"{name}\", to = [\"editors\"]");
    house.reconfigure("whole_folders = true\n", "");
    assert!(check().contains("which lies in watch folder \"batches\""), "{}", check());
}
