//! Kills, full disks, places that are away: nothing is lost, nothing is delivered twice, and work goes on
//! when the fault is mended.

use crate::support::{self, House, PROGRAM, Running, clip, make_clip, text};
use media::testkit::Clip;
use rstest::rstest;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

/// Kills the porter again and again at moments spread over the whole way of a file; then lets it finish.
#[test]
fn a_kill_at_any_moment_loses_nothing_and_delivers_once() {
    let house = House::new();
    let bytes = make_clip(&Clip { frames: 100, ..Clip::default() });
    let mut kills = 0;
    for round in 0..6u64 {
        house.drop_in(format!("clip-{round}.mp4"), &bytes);
        for step in 0..5u64 {
            let running = house.start();
            // From before the lock is taken to well into carrying.
            std::thread::sleep(Duration::from_millis(40 + (round * 131 + step * 173) % 900));
            running.kill();
            kills += 1;
            no_partial_outputs(&house);
        }
    }
    let out = house.run_once();
    assert!(out.status.success(), "after {kills} kills: {}", text(&out));
    let want: Vec<String> = (0..6).map(|n| format!("clip-{n}_proxy.mp4")).collect();
    assert_eq!(house.list("out"), want, "each once, and no stage is left");
    assert_eq!(house.list("done").len(), 6);
    assert!(house.list("in").is_empty() && house.list("away").is_empty());
    let ended = house.status()["ended"].as_array().unwrap().clone();
    assert_eq!(ended.iter().filter(|j| j["state"] == "done").count(), 6);
}

/// Whatever stands under a final name reads back whole.
fn no_partial_outputs(house: &House) {
    for name in house.list("out").iter().filter(|n| !n.starts_with('.')) {
        let facts = house.facts(&format!("out/{name}"));
        assert_eq!((facts.picture().unwrap().frames, facts.damage), (Some(100), None), "{name}");
    }
}

#[test]
fn a_kill_takes_the_child_along() {
    let house = House::new();
    house.drop_in("long.mp4", &make_clip(&Clip { frames: 1500, width: 640, height: 360, ..Clip::default() }));
    let running = house.start();
    house.wait_until("making", |s| s["open"][0]["progress"]["done"].as_u64().is_some_and(|d| d > 0));
    let children = support::children_of(running.pid());
    assert_eq!(children.len(), 1);
    running.kill();
    let start = Instant::now();
    while support::is_alive(children[0]) {
        assert!(start.elapsed() < Duration::from_secs(5), "the child outlived the porter");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[rstest]
#[case::missing(|h: &House| std::fs::remove_dir(h.path("out")).unwrap(), |_: &House| ())]
#[case::not_a_folder(
    |h: &House| { std::fs::remove_dir(h.path("out")).unwrap(); std::fs::write(h.path("out"), b"x").unwrap() },
    |h: &House| std::fs::remove_file(h.path("out")).unwrap()
)]
fn a_place_that_is_away_holds_the_job_until_it_is_back(
    #[case] break_it: fn(&House),
    #[case] clear: fn(&House),
) {
    let house = House::new();
    break_it(&house);
    house.drop_in("a.mp4", clip());
    let _running = house.start();
    let status = house.wait_until("held", |s| s["open"][0]["held"].is_string());
    let held = status["open"][0]["held"].as_str().unwrap();
    assert!(held.contains("place \"editors\"") && held.contains("/out"), "{held}");
    assert!(house.path("in/a.mp4").exists(), "the source is kept");
    clear(&house);
    std::fs::create_dir(house.path("out")).unwrap();
    house.wait_until("done", |s| s["ended"][0]["state"] == "done");
    assert_eq!(house.list("out"), ["a_proxy.mp4"]);
}

#[test]
fn a_watch_folder_that_goes_away_is_reported_and_found_again() {
    let house = House::new();
    let _running = house.start();
    house.wait_until("running", |s| s["running"].as_bool().unwrap());
    std::fs::rename(house.path("in"), house.path("in-away")).unwrap();
    let status = house.wait_until("in trouble", |s| s["watches"][0]["trouble"].is_string());
    assert!(status["watches"][0]["trouble"].as_str().unwrap().contains("/in"));
    std::fs::rename(house.path("in-away"), house.path("in")).unwrap();
    house.wait_until("well again", |s| s["watches"][0]["trouble"].is_null());
    house.drop_in("a.mp4", clip());
    house.wait_until("done", |s| s["ended"][0]["state"] == "done");
}

/// A real full disk: the places and the state lie on a file system of 1.2 MB, in a mount namespace of the
/// porter's own.
#[rstest]
#[case::place("out", 1_100_000)]
#[case::state("porter-state", 950_000)]
fn a_full_disk_holds_the_job_until_there_is_room(#[case] folder: &str, #[case] filler: u32) {
    let house = House::new();
    let at = house.path(folder);
    std::fs::create_dir_all(&at).unwrap();
    house.drop_in("a.mp4", &make_clip(&Clip { frames: 250, width: 640, height: 360, ..Clip::default() }));
    let script = format!(
        "mount -t tmpfs -o size=1200k none '{0}' && head -c {filler} /dev/zero > '{0}/filler'; exec '{1}' run '{2}' 2>&1",
        at.display(),
        support::PROGRAM,
        house.path("").display()
    );
    let mut command = std::process::Command::new("unshare");
    command
        .args(["-rm", "sh", "-c", &script])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null());
    let Ok(child) = command.spawn() else {
        return support::skipped("no 'unshare' here");
    };
    let mut running = Running(child);
    let inside = std::path::PathBuf::from(format!("/proc/{}/root{}", running.pid(), at.display()));
    // What the record says is read from the porter's own lines: its state may lie on the full disk.
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(running.0.stdout.take().unwrap()));
    let held = lines.by_ref().map_while(Result::ok).find(|l| l.contains("held") || l.contains("is full"));
    let Some(held) = held else {
        let allowed = std::process::Command::new("unshare")
            .args(["-rm", "mount", "-t", "tmpfs", "none", "/mnt"])
            .status();
        assert!(!allowed.is_ok_and(|s| s.success()), "mounting works here, but the job was not held");
        return support::skipped("mounting in a namespace is not allowed here");
    };
    assert!(held.contains("No space left") || folder == "porter-state", "{held}");
    assert!(house.path("in/a.mp4").exists(), "the source is kept");
    std::fs::remove_file(inside.join("filler")).unwrap();
    // "07:05:49  job 1  done", and not the line that tells of the folder for done originals.
    let done = lines.map_while(Result::ok).find(|l| l.split_whitespace().nth(3) == Some("done"));
    assert!(done.is_some());
    assert!(house.path("done/a.mp4").exists(), "{done:?}, {:?}", house.list("in"));
    if folder == "out" {
        let names: Vec<_> = std::fs::read_dir(&inside).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert_eq!(names, ["a_proxy.mp4"]);
    }
}

/// What is expected to need more than the disk has is not begun: the disk stays free for the record.
#[test]
fn a_film_that_needs_more_disk_than_there_is_waits_for_it() {
    let house = House::new();
    let at = house.path("porter-state");
    std::fs::create_dir_all(&at).unwrap();
    let allowed =
        std::process::Command::new("unshare").args(["-rm", "mount", "-t", "tmpfs", "none", "/mnt"]).status();
    if !allowed.is_ok_and(|s| s.success()) {
        return support::skipped("mounting in a namespace is not allowed here");
    }
    // Ten seconds of it are ten megabytes.
    house.reconfigure("fit = \"160x90\"", "fit = \"160x90\"\nbitrate = \"8 Mbit/s\"");
    house.drop_in("a.mp4", &make_clip(&Clip { frames: 250, ..Clip::default() }));
    let script = format!(
        "mount -t tmpfs -o size=6m none '{0}'; '{1}' run '{2}' 2>&1 & read line; \
         mount -o remount,size=90m none '{0}'; wait",
        at.display(),
        support::PROGRAM,
        house.path("").display()
    );
    let mut command = std::process::Command::new("timeout");
    command.args(["60", "unshare", "-rm", "--kill-child", "sh", "-c", &script]);
    command.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
    let mut shell = Running(command.spawn().unwrap());
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(shell.0.stdout.take().unwrap()));
    let mut until = |words: &str| lines.by_ref().map_while(Result::ok).find(|l| l.contains(words));
    let held = until("held").expect("it is held");
    assert!(held.contains("about 11 MB are to be made") && held.contains("MB free"), "{held}");
    assert!(house.path("in/a.mp4").exists() && house.list("out").is_empty());
    std::io::Write::write_all(&mut shell.0.stdin.take().unwrap(), b"there is room\n").unwrap();
    assert!(until("original at").is_some(), "it goes on when there is room");
    assert_eq!(house.list("out").iter().filter(|n| n.ends_with("_proxy.mp4")).count(), 1);
}

/// The store lies on a disk that is really full: the porter ends in time, and goes on later.
#[test]
fn it_stops_in_time_while_the_disk_of_its_state_is_full() {
    let house = House::new();
    let at = house.path("porter-state");
    std::fs::create_dir_all(&at).unwrap();
    let script = format!(
        "mount -t tmpfs -o size=600k none '{0}' && echo mounted; '{1}' run '{2}' 2>&1 & porter=$!; \
         while read line; do eval \"$line\"; done",
        at.display(),
        support::PROGRAM,
        house.path("").display()
    );
    let allowed =
        std::process::Command::new("unshare").args(["-rm", "mount", "-t", "tmpfs", "none", "/mnt"]).status();
    if !allowed.is_ok_and(|s| s.success()) {
        return support::skipped("mounting in a namespace is not allowed here");
    }
    let mut command = std::process::Command::new("timeout");
    command.args(["100", "unshare", "-rm", "sh", "-c", &script]).stdin(std::process::Stdio::piped());
    command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::null());
    let mut shell = command.spawn().unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(shell.stdout.take().unwrap()));
    let mut until = |words: &str| {
        let mut all = String::new();
        let found = lines.by_ref().map_while(Result::ok).any(|l| {
            all = format!("{all}{l}\n");
            l.contains(words)
        });
        assert!(found, "never \"{words}\": {all}");
        all
    };
    let mut tell = |line: String| {
        use std::io::Write;
        writeln!(shell.stdin.as_mut().unwrap(), "{line}").unwrap();
    };
    until("Watching for");
    tell(format!("head -c 600k /dev/zero > '{}/filler'; echo filled", at.display()));
    until("filled");
    house.drop_in("a.mp4", clip());
    until("full");
    tell("from=$(date +%s%N); kill $porter; wait $porter; echo ended $(( ($(date +%s%N) - from) / 1000000 )) ms".into());
    let said = until("ended ");
    let took: u64 = said.lines().last().unwrap().split(' ').nth(1).unwrap().parse().unwrap();
    assert!(took < 2000, "{took} ms");
    assert!(house.path("in/a.mp4").exists() && house.list("out").is_empty());
    tell(format!(
        "rm '{}/filler'; '{}' run --once '{}' 2>&1",
        at.display(),
        support::PROGRAM,
        house.path("").display()
    ));
    until("1 done");
    drop(shell.stdin.take());
    let _ = shell.wait();
    assert_eq!((house.list("in").len(), house.list("out").len()), (0, 1));
}

#[test]
fn a_making_that_needs_too_much_memory_ends_with_the_reason() {
    let house = House::with("original = \"move\"\ndone = \"done\"", "maker = { memory = \"64 MB\" }");
    house.drop_in("large.mp4", &make_clip(&Clip { frames: 3, width: 4096, height: 2304, ..Clip::default() }));
    house.drop_in("small.mp4", clip());
    let out = house.run_once();
    assert!(text(&out).contains("memory"), "{}", text(&out));
    let why = std::fs::read_to_string(house.path("away/large.mp4.why.txt")).unwrap();
    assert!(why.contains("memory"), "{why}");
    assert_eq!(house.list("done"), ["small.mp4"], "the porter goes on");
}

#[test]
fn a_watch_taken_out_of_the_configuration_holds_its_jobs() {
    let house = House::new();
    std::fs::remove_dir(house.path("out")).unwrap();
    house.drop_in("a.mp4", clip());
    assert_eq!(house.run_once().status.code(), Some(1));
    house.reconfigure("name = \"cards\"", "name = \"other\"");
    house.reconfigure("\"in\"", "\"in2\"");
    std::fs::create_dir(house.path("in2")).unwrap();
    assert_eq!(house.run_once().status.code(), Some(1));
    let held = house.status()["open"][0]["held"].as_str().unwrap().to_owned();
    assert!(held.contains("\"cards\" is not in the configuration"), "{held}");
}

/// Pictures of a file, packet by packet.
fn pictures(path: &Path) -> Vec<(i64, Vec<u8>)> {
    use media::container::Demux;
    let mut demux = media::container::open(Box::new(std::fs::File::open(path).unwrap())).unwrap();
    let track = demux.tracks().iter().position(|t| t.video().is_some()).unwrap();
    demux.choose(&[track]);
    let mut all = Vec::new();
    while let Some(p) = demux.next_packet().unwrap() {
        all.push((p.pts, p.data));
    }
    all
}

#[test]
fn a_long_encode_goes_on_where_it_was_killed() {
    let clip = make_clip(&Clip { frames: 50, times: 80, ..Clip::default() });
    let unbroken = House::new();
    unbroken.drop_in("tide.mp4", &clip);
    assert!(unbroken.run_once().status.success());
    let house = House::new();
    house.drop_in("tide.mp4", &clip);
    // Twice: the second time it has something to go on with.
    for percent in [40.0, 75.0] {
        let porter = house.start();
        house.wait_until("it is so far", |s| {
            s["open"][0]["progress"]["percent"].as_f64().unwrap_or(0.0) > percent
        });
        porter.kill();
        assert!(house.list("out").iter().all(|n| n.starts_with('.')), "{:?}", house.list("out"));
    }
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let shown =
        Command::new(PROGRAM).args(["jobs", "show", "1", "--house"]).arg(house.path("")).output().unwrap();
    assert!(text(&shown).contains("gone on with after"), "{}", text(&shown));
    let (one, other) =
        (pictures(&unbroken.path("out/tide_proxy.mp4")), pictures(&house.path("out/tide_proxy.mp4")));
    assert_eq!((one.len(), other.len()), (4000, 4000));
    assert!(one == other);
    assert_eq!(std::fs::read_dir(house.path("porter-state/work")).unwrap().count(), 0);
}
