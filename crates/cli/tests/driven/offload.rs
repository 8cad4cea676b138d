//! Copies that can be trusted: to several places, again, with things in the way; manifests read by another program; files
//! held against lists of other programs; and where a delivered file comes from.

use crate::support::{self, House, PROGRAM, clip, text};
use rstest::rstest;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

fn run(args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).output().unwrap()
}

fn at(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// A card, and two disks.
struct Desk {
    dir: tempfile::TempDir,
}

impl Desk {
    fn new() -> Desk {
        let desk = Desk { dir: tempfile::tempdir().unwrap() };
        for folder in ["CARD_A/DCIM/100", "CARD_A/audio", "disk 1", "disk 2"] {
            std::fs::create_dir_all(desk.path(folder)).unwrap();
        }
        let content = |n: usize| -> Vec<u8> { (0..n).map(|i| (i * 7 % 251) as u8).collect() };
        for (name, bytes) in [
            ("DCIM/100/A001.mp4", 3_000_000),
            ("DCIM/100/A002 & <b>.mp4", 10),
            ("audio/鷺.wav", 1_500_000),
            ("empty.txt", 0),
        ] {
            std::fs::write(desk.path("CARD_A").join(name), content(bytes)).unwrap();
        }
        desk
    }

    fn path(&self, inside: &str) -> PathBuf {
        self.dir.path().join(inside)
    }

    fn copy(&self) -> Output {
        let (card, one, two) = (self.path("CARD_A"), self.path("disk 1"), self.path("disk 2"));
        run(&["copy", at(&card), "--to", at(&one), "--to", at(&two)])
    }
}

#[test]
fn a_card_is_copied_twice_with_one_read_and_a_manifest_that_another_program_takes() {
    let desk = Desk::new();
    let out = desk.copy();
    assert!(out.status.success() && text(&out).contains("Safe to erase"), "{}", text(&out));
    for disk in ["disk 1", "disk 2"] {
        let to = desk.path(disk).join("CARD_A");
        for name in ["DCIM/100/A001.mp4", "DCIM/100/A002 & <b>.mp4", "audio/鷺.wav", "empty.txt"] {
            let (from, to) = (desk.path("CARD_A").join(name), to.join(name));
            assert!(std::fs::read(&from).unwrap() == std::fs::read(&to).unwrap(), "{name}");
            let time = |p: &Path| p.metadata().unwrap().modified().unwrap();
            assert_eq!(time(&from), time(&to), "{name}");
        }
        let out = run(&["verify", at(&to)]);
        assert!(out.status.success() && text(&out).contains("ok: 4 as they were"), "{}", text(&out));
    }
    assert_eq!(std::fs::read_dir(desk.path("CARD_A")).unwrap().count(), 3, "nothing on the card is touched");
    // The standard's own reader holds chain, manifest and every file against each other and adds a generation of its own;
    // where a file was changed, it says so.
    let Some(readers) = support::readers() else { return };
    let judge = |path: &Path| {
        Command::new("python3")
            .env("PYTHONPATH", &readers)
            .args(["-c", "from ascmhl.cli.ascmhl import mhltool_cli as m; m()", "create", "-h", "xxh64"])
            .arg(path)
            .output()
            .unwrap()
    };
    let to = desk.path("disk 1/CARD_A");
    let out = judge(&to);
    assert!(out.status.success(), "{}", text(&out));
    // What it wrote is read here.
    let out = run(&["verify", at(&to)]);
    assert!(out.status.success() && text(&out).contains("0002_CARD_A_"), "{}", text(&out));
    std::fs::write(to.join("DCIM/100/A002 & <b>.mp4"), "0123456789").unwrap();
    assert!(!judge(&to).status.success());
    let out = run(&["verify", at(&to)]);
    assert!(
        !out.status.success() && text(&out).contains("CHANGED   DCIM/100/A002 & <b>.mp4: xxh64 is"),
        "{}",
        text(&out)
    );
}

#[test]
fn a_copy_goes_on_where_it_was_and_copies_over_nothing() {
    let desk = Desk::new();
    // One is there already and right; another has the name of one and is something else.
    std::fs::create_dir_all(desk.path("disk 1/CARD_A/DCIM/100")).unwrap();
    let name = "DCIM/100/A001.mp4";
    std::fs::copy(desk.path("CARD_A").join(name), desk.path("disk 1/CARD_A").join(name)).unwrap();
    std::fs::write(desk.path("disk 1/CARD_A/empty.txt"), "mine").unwrap();
    let out = desk.copy();
    let said = text(&out);
    assert!(!out.status.success() && said.contains("NOT safe to erase"), "{said}");
    assert!(said.contains("1 were there and are the same") && said.contains("is left alone"), "{said}");
    assert_eq!(std::fs::read(desk.path("disk 1/CARD_A/empty.txt")).unwrap(), b"mine");
    std::fs::remove_file(desk.path("disk 1/CARD_A/empty.txt")).unwrap();
    let out = desk.copy();
    assert!(out.status.success() && text(&out).contains("Safe to erase"), "{}", text(&out));
    // Two generations, and the later one says what was only verified.
    let list = std::fs::read_dir(desk.path("disk 2/CARD_A/ascmhl")).unwrap().count();
    assert_eq!(list, 3, "a chain and two generations");
    // Nothing hidden is left anywhere.
    let found = Command::new("find").arg(desk.path("")).args(["-name", "*.part"]).output().unwrap();
    assert_eq!(text(&found), "");
}

/// What comes with a history of its own keeps it, and it goes on; empty folders come along.
#[test]
fn a_card_with_manifests_of_its_own_loses_none_of_them() {
    let desk = Desk::new();
    std::fs::create_dir_all(desk.path("CARD_A/DCIM/empty")).unwrap();
    assert!(desk.copy().status.success());
    let (card, to) = (desk.path("disk 1/CARD_A"), desk.path("third"));
    std::fs::create_dir(&to).unwrap();
    // Once, and once more over what is there.
    for generations in [2, 3] {
        let out = run(&["copy", at(&card), "--to", at(&to)]);
        assert!(out.status.success() && text(&out).contains("Safe to erase"), "{}", text(&out));
        let found = std::fs::read_dir(to.join("CARD_A/ascmhl")).unwrap().count();
        assert_eq!(found, generations + 1, "a chain and the generations");
    }
    assert!(to.join("CARD_A/DCIM/empty").is_dir());
    assert!(run(&["verify", at(&to.join("CARD_A"))]).status.success());
    let Some(readers) = support::readers() else { return };
    let out = Command::new("python3")
        .env("PYTHONPATH", &readers)
        .args(["-c", "from ascmhl.cli.ascmhl import mhltool_cli as m; m()", "create", "-h", "xxh64"])
        .arg(to.join("CARD_A"))
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", text(&out));
}

#[test]
fn what_cannot_be_copied_keeps_the_card_from_being_erased() {
    let desk = Desk::new();
    symlink("/etc/hostname", desk.path("CARD_A/link.mp4")).unwrap();
    let out = desk.copy();
    let said = text(&out);
    assert!(
        !out.status.success() && said.contains("link.mp4") && said.contains("NOT safe to erase"),
        "{said}"
    );
    assert!(!desk.path("disk 1/CARD_A/link.mp4").exists());
    // A link planted where a folder of the card is to come: nothing goes through it.
    let outside = tempfile::tempdir().unwrap();
    let desk = Desk::new();
    std::fs::create_dir(desk.path("disk 1/CARD_A")).unwrap();
    symlink(outside.path(), desk.path("disk 1/CARD_A/DCIM")).unwrap();
    let out = desk.copy();
    assert!(!out.status.success(), "{}", text(&out));
    assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 0);
    assert!(desk.path("disk 2/CARD_A/DCIM/100/A001.mp4").exists(), "the other disk is whole");
    // A place in the source, the same place twice, a place that is not there.
    let card = desk.path("CARD_A");
    for to in
        [vec![card.join("audio")], vec![desk.path("disk 2"), desk.path("disk 2")], vec![desk.path("no disk")]]
    {
        let mut args = vec!["copy", at(&card), "--name", "x"];
        to.iter().for_each(|t| args.extend(["--to", at(t)]));
        let out = run(&args);
        assert!(!out.status.success(), "{to:?}: {}", text(&out));
    }
    assert_eq!(
        std::fs::read_dir(card.join("audio")).unwrap().count(),
        2,
        "only the folder that was asked for"
    );
}

/// Cards and other people's disks do not take every name: the others are copied, and why is told.
#[test]
fn a_name_that_a_disk_does_not_take_is_told_as_that() {
    let desk = Desk::new();
    let (card, one) = (desk.path("CARD_A"), desk.path("disk 1"));
    let copy = |more: &[&str]| {
        let mut c = Command::new(PROGRAM);
        c.args(["copy", at(&card), "--to", at(&one)]).args(more);
        let out = c.env("DEFT_PORTER_TEST_COMMON_NAMES", "1").output().unwrap();
        (out.status.code(), text(&out))
    };
    let (code, said) = copy(&["--name", "CARD: A"]);
    assert!(code == Some(1) && said.contains("does not take a name with :"), "{said}");
    assert_eq!(std::fs::read_dir(&one).unwrap().count(), 0);
    let (code, said) = copy(&[]);
    assert!(code == Some(1) && said.contains("NOT safe to erase"), "{said}");
    let why = "DCIM/100/A002 & <b>.mp4: the disk there does not take a name with < >";
    assert!(said.contains(why) && said.contains("3 copied and read back"), "{said}");
}

#[test]
fn a_stopped_copy_leaves_no_half_file_and_goes_on() {
    let desk = Desk::new();
    let big: Vec<u8> = (0..60_000_000u32).map(|n| (n % 253) as u8).collect();
    std::fs::write(desk.path("CARD_A/big.mov"), &big).unwrap();
    for n in 0..6 {
        let (card, one) = (desk.path("CARD_A"), desk.path("disk 1"));
        let mut child = Command::new(PROGRAM).args(["copy", at(&card), "--to", at(&one)]).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(10 + n * 15));
        let pid = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
        let signal = if n % 2 == 0 { rustix::process::Signal::KILL } else { rustix::process::Signal::INT };
        let _ = rustix::process::kill_process(pid, signal);
        child.wait().unwrap();
        let there = desk.path("disk 1/CARD_A/big.mov");
        assert!(!there.exists() || std::fs::read(&there).unwrap() == big, "half a file has its name");
    }
    let (card, one) = (desk.path("CARD_A"), desk.path("disk 1"));
    assert!(run(&["copy", at(&card), "--to", at(&one)]).status.success());
    assert!(run(&["verify", at(&one.join("CARD_A"))]).status.success());
}

/// Lists that other programs wrote.
#[rstest]
#[case("sha1sum", &[])]
#[case("md5sum", &[])]
#[case("sha256sum", &[])]
#[case("md5sum", &["--tag"])]
fn files_are_held_against_lists_of_other_programs(#[case] program: &str, #[case] options: &[&str]) {
    let desk = Desk::new();
    let card = desk.path("CARD_A");
    let names = ["DCIM/100/A001.mp4", "audio/鷺.wav", "empty.txt"];
    let out = Command::new(program).args(options).args(names).current_dir(&card).output().unwrap();
    std::fs::write(card.join("list.txt"), &out.stdout).unwrap();
    let list = card.join("list.txt");
    let out = run(&["verify", at(&list)]);
    assert!(out.status.success() && text(&out).contains("ok: 3 as they were"), "{}", text(&out));
    std::fs::write(card.join("audio/鷺.wav"), "other").unwrap();
    std::fs::remove_file(card.join("empty.txt")).unwrap();
    let out = run(&["verify", at(&list), "--json"]);
    let v: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(
        (&v["good"], &v["missing"][0], &v["changed"][0]["path"]),
        (&1.into(), &"empty.txt".into(), &"audio/鷺.wav".into())
    );
}

#[test]
fn a_manifest_that_leads_out_or_is_none_is_told() {
    let desk = Desk::new();
    let list = desk.path("CARD_A/list.md5");
    std::fs::write(&list, "900150983cd24fb0d6963f7d28e17f72  ../../../etc/hostname\n").unwrap();
    let out = run(&["verify", at(&list)]);
    assert!(!out.status.success() && text(&out).contains("leads out of the folder"), "{}", text(&out));
    for (content, words) in
        [("a poem\n", "no checksum and name"), ("", "no checksums"), ("<html></html>", "no media hash list")]
    {
        std::fs::write(&list, content).unwrap();
        let out = run(&["verify", at(&list)]);
        assert!(!out.status.success() && text(&out).contains(words), "{}", text(&out));
    }
    let out = run(&["verify", at(&desk.path("CARD_A"))]);
    assert!(!out.status.success() && text(&out).contains("has no manifest"), "{}", text(&out));
}

#[test]
fn a_delivered_file_is_traced_by_its_content_and_by_its_name() {
    let house = House::new();
    house.drop_in("heron.mp4", clip());
    assert!(house.run_once().status.success());
    let trace = |file: &Path| {
        Command::new(PROGRAM).arg("trace").arg(file).arg("--house").arg(house.path("")).output().unwrap()
    };
    let elsewhere = house.path("renamed by an editor.mp4");
    std::fs::copy(house.path("out/heron_proxy.mp4"), &elsewhere).unwrap();
    let out = trace(&elsewhere);
    let said = text(&out);
    assert!(out.status.success(), "{said}");
    for words in [
        "output \"proxy\" of job 1, byte for byte",
        "heron.mp4",
        "read back, checksum verified",
        "What happened",
    ] {
        assert!(said.contains(words), "{words}: {said}");
    }
    let changed = house.path("heron_proxy.mp4");
    std::fs::write(&changed, b"something else").unwrap();
    let out = trace(&changed);
    assert!(!out.status.success() && text(&out).contains("is NOT what was delivered"), "{}", text(&out));
    let stranger = house.path("stranger.mp4");
    std::fs::write(&stranger, b"something else").unwrap();
    assert!(
        text(&trace(&stranger)).contains("neither its content nor its name"),
        "{}",
        text(&trace(&stranger))
    );
}

/// Where a place says so its disk is trusted; the record says what was done, and what was not.
#[test]
fn what_was_not_read_back_is_not_said_to_be() {
    let house = House::new();
    house.reconfigure("folder = \"out\"", "folder = \"out\"\nread_back = false");
    house.drop_in("heron.mp4", clip());
    assert!(house.run_once().status.success());
    let delivered = house.path("out/heron_proxy.mp4");
    let mut trace = Command::new(PROGRAM);
    let out = trace.arg("trace").arg(&delivered).arg("--house").arg(house.path("")).output().unwrap();
    let said = text(&out);
    assert!(said.contains("written with its checksum, not read back"), "{said}");
    assert!(!said.contains("verified"), "{said}");
    assert_eq!(house.list("out").len(), 1);
}
