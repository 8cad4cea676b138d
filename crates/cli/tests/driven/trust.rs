//! Attacks from beside the path of a file: other houses, links, mounts, stores, clocks, limits, signals, pipes.

use crate::support::{self, House, PROGRAM, Running, clip, make_clip, skipped, text};
use media::testkit::Clip;
use rstest::rstest;
use std::io::{BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

fn porter(args: &[&str], house: &House) -> std::process::Output {
    Command::new(PROGRAM).args(args).arg(house.path("")).output().unwrap()
}

fn store(house: &House) -> rusqlite::Connection {
    rusqlite::Connection::open(house.path("porter-state/jobs.sqlite")).unwrap()
}

fn signal(child: &Child, signal: rustix::process::Signal) {
    let pid = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
    rustix::process::kill_process(pid, signal).unwrap();
}

/// How long a process takes to end after this.
fn ends_within(child: &mut Child, most: Duration) -> Duration {
    let start = Instant::now();
    while child.try_wait().unwrap().is_none() {
        assert!(start.elapsed() < most, "it did not end within {most:?}");
        std::thread::sleep(Duration::from_millis(10));
    }
    start.elapsed()
}

const TWO_SECONDS: Duration = Duration::from_secs(2);

// ---- other houses, links, mounts

#[test]
fn two_houses_that_deliver_the_same_names_at_once_keep_apart() {
    let (a, b) = (House::new(), House::new());
    b.reconfigure("folder = \"out\"", &format!("folder = \"{}\"", a.path("out").display()));
    for n in 0..6 {
        a.drop_in(format!("clip-{n}.mp4"), &make_clip(&Clip { frames: 20, ..Clip::default() }));
        b.drop_in(format!("clip-{n}.mp4"), &make_clip(&Clip { frames: 25, ..Clip::default() }));
    }
    let mut runs = [a.spawn(&["run", "--once"]), b.spawn(&["run", "--once"])];
    assert!(runs.iter_mut().all(|r| r.wait().unwrap().success()));
    for (house, frames) in [(&a, 20), (&b, 25)] {
        for job in house.status()["ended"].as_array().unwrap() {
            let o = &job["outputs"][0];
            let name = o["deliveries"][0]["name"].as_str().unwrap();
            let there = a.path("out").join(name);
            assert_eq!(o["checksum"], porter::files::copy::digest(&there, true).unwrap(), "{name}");
            assert_eq!(a.facts(&format!("out/{name}")).picture().unwrap().frames, Some(frames), "{name}");
        }
    }
    assert_eq!(a.list("out").len(), 12);
}

#[test]
fn links_in_shared_folders_are_not_followed() {
    let house = House::new();
    let outside = tempfile::tempdir().unwrap();
    let victim = outside.path().join("victim");
    std::fs::write(&victim, b"precious").unwrap();
    // Under the reason's name, under the target's, and as a folder on the way.
    symlink(&victim, house.path("away/notes.mp4.why.txt")).unwrap();
    symlink(&victim, house.path("out/a_proxy.mp4")).unwrap();
    symlink(outside.path(), house.path("away/day 1")).unwrap();
    std::fs::create_dir(house.path("in/day 1")).unwrap();
    house.drop_in("notes.mp4", b"a call sheet\n");
    house.drop_in("day 1/more.mp4", b"a call sheet\n");
    house.drop_in("a.mp4", clip());
    house.run_once();
    assert_eq!(std::fs::read(&victim).unwrap(), b"precious");
    assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 1, "nothing was put behind a link");
    assert!(house.path("away/notes_2.mp4.why.txt").exists() && house.path("out/a_proxy_2.mp4").exists());
    assert!(house.path("in/day 1/more.mp4").exists(), "held, not moved behind the link");
}

/// In a mount namespace of its own; `None` where mounting is not allowed.
fn with_mounts(script: &str) -> Option<Child> {
    let allowed = Command::new("unshare").args(["-rm", "mount", "-t", "tmpfs", "none", "/mnt"]).status();
    if !allowed.is_ok_and(|s| s.success()) {
        skipped("mounting in a namespace is not allowed here");
        return None;
    }
    let mut c = Command::new("unshare");
    c.args(["-rm", "sh", "-c", script]).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    Some(c.spawn().unwrap())
}

/// What the shell of a namespace is told to do, and that it has done it.
fn tell(child: &mut Child, line: &str) {
    writeln!(child.stdin.as_mut().unwrap(), "{line}").unwrap();
}

#[rstest]
#[case::place("out")]
#[case::done("done")]
fn a_share_that_is_not_mounted_is_not_taken_for_the_folder(#[case] folder: &str) {
    let house = House::new();
    let at = house.path(folder);
    let Some(mut shell) = with_mounts(&format!(
        "mount -t tmpfs share '{0}' && echo mounted; while read line; do eval \"$line\"; echo did; done",
        at.display()
    )) else {
        return;
    };
    let mut lines = BufReader::new(shell.stdout.take().unwrap()).lines().map_while(Result::ok);
    assert_eq!(lines.next().as_deref(), Some("mounted"));
    let mut run = |shell: &mut Child, line: String| {
        tell(shell, &line);
        lines.by_ref().take_while(|l| l != "did").collect::<Vec<_>>().join("\n")
    };
    let once = format!("'{PROGRAM}' run --once '{}' 2>&1", house.path("").display());
    house.drop_in("a.mp4", clip());
    assert!(run(&mut shell, once.clone()).contains("1 done"));
    house.drop_in("b.mp4", clip());
    run(&mut shell, format!("umount '{}'", at.display()));
    let said = run(&mut shell, once.clone());
    assert!(
        said.contains("1 held") && said.contains("lay on tmpfs share") && said.contains("check --mark"),
        "{said}"
    );
    assert!(house.path("in/b.mp4").exists() && house.list(folder).is_empty(), "{said}");
    run(&mut shell, format!("mount -t tmpfs share '{}'", at.display()));
    assert!(run(&mut shell, once).contains("1 done"));
    drop(shell.stdin.take());
    let _ = shell.wait();
    assert!(!house.path("in/b.mp4").exists() && house.list("out").len() < 3);
}

/// What lies on the local disk under the mount point is not taken for what lies on the share, and the share's files are
/// neither gone nor new when it is back.
#[test]
fn a_watch_whose_share_is_not_mounted_is_away_until_it_is_back() {
    let house = House::with("original = \"leave\"", "");
    let (at, keep) = (house.path("in"), house.path("keep"));
    std::fs::write(&keep, clip()).unwrap();
    // Two names of one mounted share, so that it keeps its files while the watch does not see it.
    std::fs::create_dir(house.path("share")).unwrap();
    let (at, keep, share) = (at.display(), keep.display(), house.path("share").display().to_string());
    let Some(mut shell) = with_mounts(&format!(
        "mount -t tmpfs share '{share}' && mount --bind '{share}' '{at}' && echo mounted; \
         while read line; do eval \"$line\"; echo did; done"
    )) else {
        return;
    };
    let mut lines = BufReader::new(shell.stdout.take().unwrap()).lines().map_while(Result::ok);
    assert_eq!(lines.next().as_deref(), Some("mounted"));
    let mut run = |shell: &mut Child, line: String| {
        tell(shell, &line);
        lines.by_ref().take_while(|l| l != "did").collect::<Vec<_>>().join("\n")
    };
    let once = format!("'{PROGRAM}' run --once '{}' 2>&1", house.path("").display());
    assert!(run(&mut shell, format!("cp '{keep}' '{at}/a.mp4'; {once}")).contains("1 done"));
    // Unmounted, and somebody saves to the folder below it.
    let said = run(&mut shell, format!("umount '{at}'; cp '{keep}' '{at}/local.mp4'; {once}"));
    assert!(said.contains("lay on tmpfs share") && said.contains("check --mark"), "{said}");
    assert!(!said.contains("local.mp4") && !said.contains("arrived"), "{said}");
    assert_eq!(house.list("in"), ["local.mp4"], "nothing was written there, and nothing taken");
    let said = run(&mut shell, format!("mount --bind '{share}' '{at}'; {once}"));
    assert!(said.contains("0 done") && !said.contains("arrived"), "neither gone nor new: {said}");
    // And while it runs: the share goes and comes back, and what was saved there meanwhile is seen.
    let state = house.path("porter-state").display().to_string();
    let wait = |for_: &str| {
        format!("for n in $(seq 300); do grep -q '{for_}' '{state}/said.txt' && break; sleep 0.1; done")
    };
    let begin =
        format!("'{PROGRAM}' run '{}' > '{state}/said.txt' 2>&1 & porter=$!", house.path("").display());
    run(&mut shell, begin);
    run(&mut shell, wait("Watching for"));
    run(&mut shell, format!("umount -l '{at}'; {}", wait("lay on tmpfs share")));
    run(&mut shell, format!("cp '{keep}' '{share}/b.mp4'; printf x >> '{share}/b.mp4'"));
    run(&mut shell, format!("mount --bind '{share}' '{at}'; {}", wait("b.mp4.* done")));
    let said = run(&mut shell, format!("kill $porter; wait $porter; cat '{state}/said.txt'"));
    assert!(said.contains("lay on tmpfs share") && said.contains("b.mp4"), "{said}");
    assert!(!said.contains("local.mp4"), "{said}");
    drop(shell.stdin.take());
    let _ = shell.wait();
    assert_eq!(house.list("out"), ["a_proxy.mp4", "b_proxy.mp4"]);
}

#[test]
fn a_marked_folder_is_known_by_its_marker() {
    let house = House::new();
    let out = Command::new(PROGRAM).args(["check", "--mark"]).arg(house.path("")).output().unwrap();
    assert!(out.status.success() && text(&out).contains("marked"), "{}", text(&out));
    house.drop_in("a.mp4", clip());
    assert!(house.run_once().status.success());
    std::fs::rename(house.path("out"), house.path("unmounted")).unwrap();
    std::fs::create_dir(house.path("out")).unwrap();
    house.drop_in("b.mp4", clip());
    let out = house.run_once();
    assert!(text(&out).contains("lost its marker"), "{}", text(&out));
    assert!(house.list("out").is_empty() && house.path("in/b.mp4").exists());
    let check = porter(&["check"], &house);
    assert!(check.status.code() == Some(1) && text(&check).contains("NOT ITSELF"), "{}", text(&check));
    // A person says that it is right so.
    assert!(
        Command::new(PROGRAM)
            .args(["check", "--mark"])
            .arg(house.path(""))
            .output()
            .unwrap()
            .status
            .success()
    );
    assert!(house.run_once().status.success());
    assert!(house.path("out/b_proxy.mp4").exists());
}

#[rstest]
#[case::done_in_state("done = \"done\"", "done = \"trash\"", "trash", "porter-state/work")]
#[case::state_in_watch("retry_after", "state = \"st\"\nretry_after", "st", "in/state")]
#[case::place_in_watch("folder = \"out\"", "folder = \"linked\"", "linked", "in/inner")]
#[case::one_watch_twice("folder = \"out\"", "folder = \"linked\"", "linked", "in")]
fn folders_that_are_one_through_a_link_are_refused(
    #[case] from: &str,
    #[case] to: &str,
    #[case] link: &str,
    #[case] target: &str,
) {
    let house = House::new();
    std::fs::create_dir_all(house.path(target)).unwrap();
    std::fs::set_permissions(house.path("porter-state"), PermissionsExt::from_mode(0o700)).ok();
    symlink(house.path(target), house.path(link)).unwrap();
    house.reconfigure(from, to);
    house.drop_in("a.mp4", clip());
    for out in [porter(&["check"], &house), house.run_once()] {
        assert_eq!(out.status.code(), Some(1), "{}", text(&out));
        assert!(text(&out).contains("lies in") || text(&out).contains("is a link"), "{}", text(&out));
    }
    assert_eq!(std::fs::read(house.path("in/a.mp4")).unwrap(), clip());
}

#[test]
fn a_place_in_a_watch_through_a_mount_is_refused() {
    let house = House::new();
    std::fs::create_dir(house.path("in/inner")).unwrap();
    let Some(shell) = with_mounts(&format!(
        "mount --bind '{}' '{}' && '{PROGRAM}' check '{}' 2>&1",
        house.path("in/inner").display(),
        house.path("out").display(),
        house.path("").display()
    )) else {
        return;
    };
    let out = shell.wait_with_output().unwrap();
    assert!(text(&out).contains("lies in watch folder \"cards\""), "{}", text(&out));
}

// ---- originals

#[test]
fn a_file_that_is_to_be_left_stays_also_when_it_is_refused() {
    let house = House::with("original = \"leave\"", "");
    house.drop_in("notes.mp4", b"a call sheet\n");
    assert_eq!(house.run_once().status.code(), Some(1));
    assert_eq!(house.list("in"), ["notes.mp4"]);
    assert_eq!(house.list("away"), ["notes.mp4.why.txt"]);
    // And is known: it is not refused again.
    assert!(text(&house.run_once()).contains("0 done, 0 turned away"));
}

#[test]
fn an_edit_in_place_with_its_time_set_back_is_seen_and_a_touch_is_not_taken_for_one() {
    let house = House::with("original = \"leave\"", "");
    let path = house.path("in/a.mp4");
    house.drop_in("a.mp4", clip());
    assert!(house.run_once().status.success());
    // Other rights, a further name: the same content.
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o600)).unwrap();
    std::fs::hard_link(&path, house.path("another name")).unwrap();
    let out = house.run_once();
    assert!(text(&out).contains("this very content"), "{}", text(&out));
    assert_eq!(house.list("out").len(), 1);
    assert!(!text(&house.run_once()).contains("arrived"), "once is enough");
    let time = path.metadata().unwrap().modified().unwrap();
    let mut file = std::fs::File::options().write(true).open(&path).unwrap();
    // A byte of the picture data at the end.
    file.seek(SeekFrom::End(-4)).unwrap();
    file.write_all(b"\x12").unwrap();
    file.set_modified(time).unwrap();
    drop(file);
    house.run_once();
    assert_eq!(house.list("out").len(), 2, "what it is now was made");
}

#[test]
fn a_made_file_that_was_damaged_is_made_again() {
    let house = House::new();
    std::fs::remove_dir(house.path("out")).unwrap();
    house.drop_in("a.mp4", clip());
    house.run_once();
    let made = house.path("porter-state/work/job-1/output-0.mp4");
    let mut file = std::fs::File::options().write(true).open(&made).unwrap();
    file.seek(SeekFrom::Start(2000)).unwrap();
    file.write_all(b"rotten").unwrap();
    drop(file);
    std::fs::create_dir(house.path("out")).unwrap();
    let out = house.run_once();
    assert!(out.status.success() && text(&out).contains("made again"), "{}", text(&out));
    let o = &house.status()["ended"][0]["outputs"][0];
    assert_eq!(o["checksum"], porter::files::copy::digest(&house.path("out/a_proxy.mp4"), true).unwrap());
}

#[test]
fn a_watch_that_goes_away_before_the_original_is_moved_is_waited_for() {
    let house = House::new();
    house.drop_in("a.mp4", clip());
    let mut c = Command::new(PROGRAM);
    c.args(["run", "--once"])
        .arg(house.path(""))
        .env("DEFT_PORTER_TEST_KILL_AT", "about to move the original:1");
    c.output().unwrap();
    std::fs::rename(house.path("in"), house.path("unmounted")).unwrap();
    let out = house.run_once();
    assert!(text(&out).contains("1 held") && text(&out).contains("watch folder \"cards\""), "{}", text(&out));
    std::fs::rename(house.path("unmounted"), house.path("in")).unwrap();
    assert!(house.run_once().status.success());
    assert_eq!((house.list("in").len(), house.list("done").len()), (0, 1));
}

/// Copying to another disk takes a while: whatever is written to the original meanwhile is somewhere at the end.
#[test]
fn an_original_that_grows_while_it_is_moved_keeps_its_last_bytes() {
    let house = House::new();
    let far = tempfile::tempdir_in("/dev/shm").unwrap();
    if far.path().metadata().unwrap().dev() == house.path("in").metadata().unwrap().dev() {
        return skipped("no second file system");
    }
    house.reconfigure("turned_away = \"away\"", &format!("turned_away = \"{}\"", far.path().display()));
    house.reconfigure("steady = \"300 ms\"", "steady = \"100 ms\"");
    let _running = house.start();
    for round in 0..8u64 {
        let name = format!("notes-{round}.txt");
        let path = house.path("in").join(&name);
        let mut whole = vec![b'x'; 30_000_000];
        std::fs::write(&path, &whole).unwrap();
        // At another moment each time: about when it is moved.
        let moving = || !names(far.path()).is_empty() || !path.exists();
        let start = Instant::now();
        while !moving() && start.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(1));
        }
        std::thread::sleep(Duration::from_millis(round * 4));
        if let Ok(mut file) = std::fs::File::options().append(true).open(&path) {
            file.write_all(b"the last bytes").unwrap();
            whole.extend(b"the last bytes");
        }
        let start = Instant::now();
        let there = |n: &str| std::fs::read(far.path().join(n)).is_ok_and(|b| b == whole);
        while !(1..4).any(|n| there(&if n > 1 { format!("notes-{round}_{n}.txt") } else { name.clone() })) {
            assert!(start.elapsed() < Duration::from_secs(20), "round {round}: {:?}", names(far.path()));
            std::thread::sleep(Duration::from_millis(20));
        }
        for n in names(far.path()) {
            std::fs::remove_file(far.path().join(n)).unwrap();
        }
    }
}

fn names(folder: &Path) -> Vec<String> {
    std::fs::read_dir(folder)
        .unwrap()
        .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
        .collect()
}

// ---- outputs that have ends of their own

const SILENT_RULE: &str = r#"
[[preset]]
name = "words"
[preset.transcript]
[[rule]]
name = "spoken"
when = 'kind == "video"'
make = [{ preset = "words", to = ["editors"] }]
"#;

/// Pictures alone: what a preset without sound makes of a clip.
fn silent_clip() -> &'static [u8] {
    static BYTES: std::sync::LazyLock<Vec<u8>> = std::sync::LazyLock::new(|| {
        let house = House::new();
        house.reconfigure("fit = \"160x90\"\n[preset.audio]", "fit = \"160x90\"");
        house.drop_in("a.mp4", clip());
        assert!(house.run_once().status.success());
        std::fs::read(house.path("out/a_proxy.mp4")).unwrap()
    });
    &BYTES
}

#[test]
fn what_cannot_be_made_of_a_clip_does_not_keep_the_rest_back() {
    let house = House::new();
    house.append(SILENT_RULE);
    house.drop_in("silent.mp4", silent_clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(house.list("out"), ["silent_proxy.mp4"]);
    let outputs = house.status()["ended"][0]["outputs"].clone();
    assert_eq!(
        (outputs[0]["end"].as_str(), outputs[1]["end"].as_str()),
        (Some("made"), Some("not applicable"))
    );
    assert!(outputs[1]["why"].as_str().unwrap().contains("sound"), "{outputs}");
}

#[test]
fn a_service_that_is_away_holds_its_own_output_only() {
    let house = House::new();
    house.append(
        "[[service]]\nname = \"desk\"\naddress = \"http://127.0.0.1:9/hear\"\ntries = 1\n\
         [[preset]]\nname = \"words\"\n[preset.transcript]\nservice = \"desk\"\n\
         [[rule]]\nname = \"spoken\"\nmake = [{ preset = \"words\", to = [\"editors\"] }]\n",
    );
    house.drop_in("a.mp4", include_bytes!("../../../../demo/media/warden-interview.mp4"));
    assert_eq!(house.run_once().status.code(), Some(1));
    assert_eq!(house.list("out"), ["a_proxy.mp4"], "what is made goes out");
    assert_eq!(house.run_once().status.code(), Some(1));
    let events = house.events(1);
    assert_eq!(events.iter().filter(|e| *e == "made").count(), 1, "made once: {events:?}");
    assert!(house.path("in/a.mp4").exists());
}

#[test]
fn a_stored_recipe_that_cannot_be_read_holds_the_job_and_says_so() {
    let house = House::new();
    std::fs::remove_dir(house.path("out")).unwrap();
    house.drop_in("a.mp4", clip());
    house.run_once();
    let db = store(&house);
    db.execute("UPDATE output SET recipe = '{\"video\": 7}', end = 'open'", []).unwrap();
    db.execute("INSERT INTO task (job, step) VALUES (1, 'make')", []).unwrap();
    drop(db);
    std::fs::create_dir(house.path("out")).unwrap();
    let out = house.run_once();
    assert!(
        text(&out).contains("1 held") && text(&out).contains("cannot be read any more"),
        "{}",
        text(&out)
    );
    store(&house).execute("UPDATE output SET recipe_version = 99", []).unwrap();
    let out = house.run_once();
    assert!(text(&out).contains("planned by a newer program"), "{}", text(&out));
    assert!(house.path("in/a.mp4").exists() && house.list("away").is_empty());
}

// ---- what may stop a house

#[rstest]
#[case::jpeg("huge.jpg", b"\xff\xd8\xff\xe0\x00\x10JFIF\0", 6_000_000_000)]
#[case::transport_stream("huge.ts", b"", 8_000_000_000_000)]
fn a_hostile_size_ends_with_a_reason_and_the_house_goes_on(
    #[case] name: &str,
    #[case] head: &[u8],
    #[case] size: u64,
) {
    let house = House::with(
        "original = \"move\"\ndone = \"done\"",
        "maker = { memory = \"500 MB\", stall = \"4 s\" }",
    );
    let path = house.path("in").join(name);
    let mut file = std::fs::File::create(&path).unwrap();
    if head.is_empty() {
        if !endless_transport_stream(&path, size) {
            return skipped("no file of this size here");
        }
    } else {
        file.write_all(head).unwrap();
        file.set_len(size).unwrap();
    }
    drop(file);
    house.drop_in("good.mp4", clip());
    let running = house.start();
    let status = house.wait_until("both ended", |s| s["ended"].as_array().unwrap().len() == 2);
    let peak = std::fs::read_to_string(format!("/proc/{}/status", running.pid())).unwrap();
    let peak: u64 = peak
        .lines()
        .find_map(|l| l.strip_prefix("VmHWM:"))
        .unwrap()
        .trim()
        .trim_end_matches(" kB")
        .parse()
        .unwrap();
    assert!(peak < 300_000, "the porter itself took {peak} kB");
    let huge = status["ended"].as_array().unwrap().iter().find(|j| j["path"] == name).unwrap();
    assert_eq!(huge["state"], "turned away", "{huge}");
    assert!(house.path("out/good_proxy.mp4").exists());
}

/// Packets of a transport stream without a program, and then nothing for a very long time. False where no file can be so
/// long.
fn endless_transport_stream(path: &Path, size: u64) -> bool {
    let mut file = std::fs::File::create(path).unwrap();
    for n in 0..2000u32 {
        let mut packet = [0xffu8; 188];
        packet[..4].copy_from_slice(&[0x47, 0x1f, 0xff, 0x10 | (n % 16) as u8]);
        file.write_all(&packet).unwrap();
    }
    file.set_len(size).is_ok()
}

#[test]
fn a_look_that_takes_long_hears_the_signal() {
    let house = House::new();
    endless_transport_stream(&house.path("in/huge.ts"), 3_000_000_000_000);
    let mut running = house.start();
    // The look has begun, and is still the same one a second later.
    let start = Instant::now();
    let looking = loop {
        if let [child] = support::children_of(running.pid())[..] {
            break child;
        }
        assert!(start.elapsed() < Duration::from_secs(20), "no look was begun");
        std::thread::sleep(Duration::from_millis(5));
    };
    std::thread::sleep(Duration::from_secs(1));
    assert_eq!(support::children_of(running.pid()), [looking], "the look is still going on");
    signal(&running.0, rustix::process::Signal::TERM);
    ends_within(&mut running.0, TWO_SECONDS);
    let open = &house.status()["open"][0];
    assert!(open["path"] == "huge.ts" && house.path("in/huge.ts").exists(), "not decided: {open}");
}

/// Many names that wait, one of them changing all the time: none of it is written to the record.
#[test]
fn ten_thousand_unfinished_names_write_nothing() {
    let house = House::new();
    for n in 0..10_000 {
        house.drop_in(format!("card-{n}.mov.part"), b"");
    }
    let running = house.start();
    let waits = |s: &serde_json::Value| {
        s["arriving"].as_array().unwrap().len() as u64 + s["arriving_not_listed"].as_u64().unwrap() == 10_000
    };
    house.wait_until("all wait", waits);
    // Two seconds after the start old records are looked at, once: that writes.
    std::thread::sleep(Duration::from_secs(3));
    let written = || -> u64 {
        let io = std::fs::read_to_string(format!("/proc/{}/io", running.pid())).unwrap();
        let line = |name: &str| -> u64 {
            io.lines().find_map(|l| l.strip_prefix(name)).unwrap().trim().parse().unwrap()
        };
        line("wchar:").max(line("write_bytes:"))
    };
    let before = written();
    assert!(before > 1000, "what it writes is counted");
    let mut growing = std::fs::File::options().append(true).open(house.path("in/card-77.mov.part")).unwrap();
    for _ in 0..50 {
        growing.write_all(&[7; 1000]).unwrap();
        std::thread::sleep(Duration::from_millis(100));
    }
    let written = written() - before;
    println!("written in 5 s: {written} bytes");
    assert!(written < 200_000, "{written} bytes written in five seconds");
}

/// A clock that is set while the porter runs: the kernel's cannot be set for a test, so the C library's answer to "what
/// time is it?" is moved by what a file says.
#[rstest]
#[case::back_a_day(-86_400)]
#[case::forward_a_day(86_400)]
fn a_clock_that_is_set_stops_nothing_and_makes_nothing_steady(#[case] by: i64) {
    let house = House::new();
    let (moved, shim) = (house.path("moved-by"), house.path("clock.so"));
    std::fs::write(&moved, "0").unwrap();
    std::fs::write(
        house.path("clock.c"),
        r#"#define _GNU_SOURCE
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#include <unistd.h>
#include <sys/syscall.h>
int clock_gettime(clockid_t which, struct timespec *t) {
    long r = syscall(SYS_clock_gettime, which, t), by = 0;
    const char *path = getenv("MOVED_BY");
    if (which == CLOCK_REALTIME && path) {
        FILE *f = fopen(path, "r");
        if (f) { if (fscanf(f, "%ld", &by) != 1) by = 0; fclose(f); }
        t->tv_sec += by;
    }
    return r;
}
"#,
    )
    .unwrap();
    let built =
        Command::new("cc").args(["-shared", "-fPIC", "-o"]).args([&shim, &house.path("clock.c")]).status();
    if !built.is_ok_and(|s| s.success()) {
        return skipped("no C compiler");
    }
    let mut c = Command::new(PROGRAM);
    c.arg("run").arg(house.path("")).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let _running = Running(c.env("LD_PRELOAD", &shim).env("MOVED_BY", &moved).spawn().unwrap());
    house.drop_in("before.mp4", clip());
    house.wait_until("done before", |s| s["ended"].as_array().unwrap().len() == 1);
    // One that grows while the clock is set, one that waits for its steady time, and one held for its place.
    std::fs::rename(house.path("out"), house.path("out-away")).unwrap();
    house.drop_in("held.wav", &short_wav(7));
    house.wait_until("held", |s| s["open"][0]["held"].is_string());
    let whole = clip();
    let (first, rest) = whole.split_at(whole.len() / 2);
    house.drop_in("grows.mp4", first);
    house.drop_in("steady.mp4", &make_clip(&Clip { frames: 12, ..Clip::default() }));
    std::fs::write(&moved, by.to_string()).unwrap();
    std::fs::rename(house.path("out-away"), house.path("out")).unwrap();
    let mut growing = std::fs::File::options().append(true).open(house.path("in/grows.mp4")).unwrap();
    for piece in rest.chunks(rest.len().div_ceil(25)) {
        growing.write_all(piece).unwrap();
        std::thread::sleep(Duration::from_millis(100));
        let known = house.status();
        let all = known["open"].as_array().unwrap().iter().chain(known["ended"].as_array().unwrap());
        assert!(all.clone().all(|j| j["path"] != "grows.mp4"), "taken while it grew: {known:#}");
    }
    drop(growing);
    let start = Instant::now();
    house.wait_until("all done", |s| s["ended"].as_array().unwrap().len() == 4);
    assert!(start.elapsed() < Duration::from_secs(15), "a wait of {:?}", start.elapsed());
    // The clock was really another one for the program.
    let apart: i64 = store(&house)
        .query_row(
            "SELECT (max(ended) - (SELECT ended FROM job WHERE id = 1)) / 1000000 FROM job WHERE id > 1",
            [],
            |r| r.get(0),
        )
        .unwrap();
    // Set back, the later jobs ended before the first by its clock.
    assert!((apart - by).abs() < 60, "{apart} s apart");
}

#[test]
fn held_jobs_do_not_keep_new_ones_from_being_made() {
    let house = House::new();
    std::fs::remove_dir(house.path("out")).unwrap();
    for n in 0..60 {
        house.drop_in(format!("held-{n}.wav"), &short_wav(n));
    }
    let running = house.start();
    house
        .wait_until("held", |s| s["away"].as_array().is_some_and(|a| !a.is_empty()) && s["open_count"] == 60);
    house.append("[[place]]\nname = \"other\"\nfolder = \"other\"\n");
    assert!(running.interrupt().success());
    std::fs::create_dir(house.path("other")).unwrap();
    house.reconfigure(
        "name = \"{stem}_proxy\", to = [\"editors\"]",
        "name = \"{stem}_proxy\", to = [\"other\"]",
    );
    let _running = house.start();
    house.drop_in("new.mp4", clip());
    let start = Instant::now();
    while !house.path("other/new_proxy.mp4").exists() {
        assert!(start.elapsed() < Duration::from_secs(20), "not delivered");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// A tenth of a second of sound, each of its own.
fn short_wav(n: u8) -> Vec<u8> {
    let data: Vec<u8> =
        (0..1600u32).flat_map(|i| (((i * (u32::from(n) + 3)) % 2000) as i16).to_le_bytes()).collect();
    let mut out = b"RIFF".to_vec();
    out.extend((36 + data.len() as u32).to_le_bytes());
    out.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0\x80\x3e\0\0\0\x7d\0\0\x02\0\x10\0data");
    out.extend((data.len() as u32).to_le_bytes());
    out.extend(data);
    out
}

/// A changed configuration is taken up without a restart; a wrong one is said and the one before stays in force; what is
/// being worked on goes on with the one it began with.
#[test]
fn a_changed_configuration_is_taken_up_while_it_runs() {
    let house = House::new();
    let running = house.start();
    house.drop_in("a.mp4", clip());
    house.wait_until("done", |s| s["ended"].as_array().unwrap().len() == 1);
    // Another watch, another preset for clips.
    std::fs::create_dir(house.path("cards-2")).unwrap();
    house.append("[[watch]]\nname = \"second\"\nfolder = \"cards-2\"\nsteady = \"200 ms\"\nlook_every = \"200 ms\"\noriginal = \"leave\"\nturned_away = \"away\"");
    house.reconfigure("fit = \"160x90\"", "fit = \"80x46\"");
    let accepted = || std::fs::read_to_string(house.path("porter-state/accepted.toml")).unwrap_or_default();
    house.wait_until("taken up", |_| accepted().contains("80x46"));
    std::fs::write(house.path("cards-2/b.mp4"), make_clip(&Clip { frames: 11, ..Clip::default() })).unwrap();
    house.drop_in("c.mp4", &make_clip(&Clip { frames: 12, ..Clip::default() }));
    house.wait_until("all done", |s| s["ended"].as_array().unwrap().len() == 3);
    let width = |name: &str| house.facts(&format!("out/{name}_proxy.mp4")).picture().unwrap().width;
    assert_eq!((width("a"), width("b"), width("c")), (160, 80, 80));
    // A slip of the pen stops nothing.
    house.reconfigure("fit = \"80x46\"", "fit = \"eighty\"");
    std::thread::sleep(Duration::from_millis(3500));
    house.drop_in("d.mp4", &make_clip(&Clip { frames: 13, ..Clip::default() }));
    let start = Instant::now();
    while !house.path("out/d_proxy.mp4").exists() {
        assert!(start.elapsed() < Duration::from_secs(20), "it does not work on");
        std::thread::sleep(Duration::from_millis(50));
    }
    assert_eq!(width("d"), 80);
    assert!(running.interrupt().success());
    let events = porter::store::Store::open(&house.path("porter-state/jobs.sqlite")).unwrap();
    let events = events.read(|v| v.events_after(0, 10_000)).unwrap();
    let told: Vec<String> = events
        .iter()
        .filter(|e| matches!(e.change, porter::store::Change::Configured { .. }))
        .map(|e| format!("{:?}", porter::report::told(&e.change)))
        .collect();
    assert!(told.len() == 2 && told[0].contains("taken up") && told[1].contains("eighty"), "{told:?}");
}

#[test]
fn a_hang_up_ends_it_unless_it_is_to_be_ignored() {
    for ignored in [false, true] {
        let house = House::new();
        // Whatever whoever runs the tests ignores.
        let mut c = if ignored { Command::new("nohup") } else { Command::new("env") };
        if !ignored {
            c.arg("--default-signal=HUP");
        }
        c.arg(PROGRAM)
            .arg("run")
            .arg(house.path(""))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let mut running = Running(c.spawn().unwrap());
        house.wait_until("running", |s| s["running"].as_bool().unwrap());
        signal(&running.0, rustix::process::Signal::HUP);
        std::thread::sleep(Duration::from_millis(700));
        assert_eq!(running.0.try_wait().unwrap().is_none(), ignored);
        if ignored {
            signal(&running.0, rustix::process::Signal::TERM);
            ends_within(&mut running.0, TWO_SECONDS);
        }
    }
}

#[test]
fn a_pipe_that_nobody_reads_stops_nothing() {
    let house = House::new();
    // More lines than a pipe holds.
    let long = "a very long name that fills the pipe ".repeat(4);
    for n in 0..150 {
        house.drop_in(format!("{long}{n}.wav"), &short_wav(n));
    }
    let mut c = Command::new(PROGRAM);
    c.arg("run").arg(house.path("")).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut running = Running(c.spawn().unwrap());
    let start = Instant::now();
    while house.list("done").len() < 150 {
        assert!(start.elapsed() < Duration::from_secs(100), "{} of 150", house.list("done").len());
        std::thread::sleep(Duration::from_millis(100));
    }
    signal(&running.0, rustix::process::Signal::TERM);
    ends_within(&mut running.0, TWO_SECONDS);
}

#[test]
fn it_stops_while_the_store_cannot_be_written_and_arrivals_wait_for_it() {
    let house = House::new();
    let running = house.start();
    house.wait_until("running", |s| s["running"].as_bool().unwrap());
    let db = store(&house);
    db.execute_batch("BEGIN IMMEDIATE; UPDATE fact SET value = value").unwrap();
    house.drop_in("a.mp4", clip());
    std::thread::sleep(Duration::from_secs(4));
    assert!(house.path("in/a.mp4").exists() && house.list("out").is_empty());
    db.execute_batch("ROLLBACK").unwrap();
    house.wait_until("done", |s| s["ended"].as_array().unwrap().iter().any(|j| j["state"] == "done"));
    db.execute_batch("BEGIN IMMEDIATE; UPDATE fact SET value = value").unwrap();
    house.drop_in("b.mp4", clip());
    std::thread::sleep(Duration::from_millis(1500));
    let mut running = running;
    signal(&running.0, rustix::process::Signal::TERM);
    ends_within(&mut running.0, TWO_SECONDS);
}

#[test]
fn a_store_that_is_locked_when_the_porter_starts_is_waited_for() {
    let house = House::new();
    let state = house.path("porter-state");
    std::fs::create_dir_all(&state).unwrap();
    let db = rusqlite::Connection::open(state.join("jobs.sqlite")).unwrap();
    db.execute_batch("BEGIN EXCLUSIVE").unwrap();
    house.drop_in("a.mp4", clip());
    let mut stopped = house.start();
    std::thread::sleep(Duration::from_secs(2));
    assert!(stopped.0.try_wait().unwrap().is_none(), "it waits");
    signal(&stopped.0, rustix::process::Signal::TERM);
    ends_within(&mut stopped.0, TWO_SECONDS);
    let _running = house.start();
    std::thread::sleep(Duration::from_secs(2));
    assert!(house.path("in/a.mp4").exists(), "nothing is taken");
    db.execute_batch("ROLLBACK").unwrap();
    house.wait_until("done", |s| s["ended"].as_array().unwrap().iter().any(|j| j["state"] == "done"));
}

#[test]
fn a_move_of_a_large_original_hears_the_signal_and_a_second_signal_ends_at_once() {
    let house = House::new();
    let Ok(far) = tempfile::tempdir_in("/dev/shm") else { return skipped("no second file system") };
    house.reconfigure("turned_away = \"away\"", &format!("turned_away = \"{}\"", far.path().display()));
    let bytes = vec![b'x'; 900_000_000];
    house.drop_in("large.txt", &bytes);
    let mut running = house.start();
    let start = Instant::now();
    while names(far.path()).is_empty() {
        assert!(start.elapsed() < Duration::from_secs(30), "never begun");
        std::thread::sleep(Duration::from_millis(5));
    }
    signal(&running.0, rustix::process::Signal::TERM);
    signal(&running.0, rustix::process::Signal::TERM);
    ends_within(&mut running.0, TWO_SECONDS);
    assert_eq!(std::fs::metadata(house.path("in/large.txt")).map_or(0, |m| m.len()), bytes.len() as u64);
    house.run_once();
    assert_eq!(std::fs::metadata(far.path().join("large.txt")).unwrap().len(), bytes.len() as u64);
    assert_eq!(names(far.path()).len(), 2, "{:?}", names(far.path()));
}

#[test]
fn a_state_folder_that_is_taken_away_ends_the_porter() {
    let house = House::new();
    let mut running = house.start();
    house.wait_until("running", |s| s["running"].as_bool().unwrap());
    std::fs::rename(house.path("porter-state"), house.path("gone")).unwrap();
    ends_within(&mut running.0, Duration::from_secs(5));
}

#[rstest]
#[case::gone(|h: &House| std::fs::remove_file(h.path("porter-state/jobs.sqlite")).unwrap(), "it is gone")]
#[case::cut_to_nothing(|h: &House| std::fs::write(h.path("porter-state/jobs.sqlite"), b"").unwrap(), "it is empty")]
#[case::damaged(|h: &House| std::fs::write(h.path("porter-state/jobs.sqlite"), [7; 9000]).unwrap(), "it is damaged")]
#[case::anothers(|h: &House| {
    let other = House::new();
    other.drop_in("x.mp4", clip());
    other.run_once();
    std::fs::copy(other.path("porter-state/jobs.sqlite"), h.path("porter-state/jobs.sqlite")).unwrap();
}, "it is of another house")]
fn a_store_that_is_lost_is_not_silently_begun_anew(#[case] lose: fn(&House), #[case] words: &str) {
    let house = House::with("original = \"leave\"", "");
    house.drop_in("a.mp4", clip());
    assert!(house.run_once().status.success());
    for extra in ["jobs.sqlite-wal", "jobs.sqlite-shm"] {
        let _ = std::fs::remove_file(house.path("porter-state").join(extra));
    }
    lose(&house);
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1));
    assert!(text(&out).contains(words) && text(&out).contains("backup"), "{}", text(&out));
    assert_eq!(house.list("out"), ["a_proxy.mp4"], "nothing is delivered again");
    // A person decides to begin anew.
    std::fs::remove_file(house.path("porter-state/house.json")).unwrap();
    std::fs::remove_file(house.path("porter-state/jobs.sqlite")).ok();
    assert!(house.run_once().status.success());
}

// ---- leaks and doors

#[test]
fn nobody_else_can_read_the_state_or_take_the_lock() {
    let house = House::new();
    // As an older program, or a careless hand, left it.
    std::fs::create_dir(house.path("porter-state")).unwrap();
    std::fs::set_permissions(house.path("porter-state"), PermissionsExt::from_mode(0o777)).unwrap();
    std::fs::write(house.path("porter-state/lock"), b"").unwrap();
    house.drop_in("a.mp4", clip());
    let _running = house.start();
    house.wait_until("done", |s| !s["ended"].as_array().unwrap().is_empty());
    let mut all = vec![house.path("porter-state")];
    while let Some(path) = all.pop() {
        let about = path.symlink_metadata().unwrap();
        assert_eq!(about.mode() & 0o077, 0, "{} has mode {:o}", path.display(), about.mode());
        // What lies deeper, nobody else can reach.
        if path.ends_with("porter-state") {
            all.extend(std::fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        }
    }
}

#[test]
fn a_child_can_do_none_of_what_it_must_not() {
    let house = House::new();
    let mut c = Command::new(PROGRAM);
    c.args(["check", "--json"]).arg(house.path("")).env("DEFT_PORTER_SECRET", "tide-and-time");
    // A file that the caller left open, as a shell's `5<file` does.
    let out = Command::new("sh")
        .args(["-c", "exec 5</etc/hostname 6</etc/passwd; exec \"$@\"", "sh"])
        .arg(c.get_program())
        .args(c.get_args())
        .env("DEFT_PORTER_SECRET", "x")
        .output()
        .unwrap();
    let v: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    let tried = v["child"].as_array().unwrap();
    assert!(tried.len() > 10, "{v:#}");
    let could: Vec<&str> =
        tried.iter().filter(|t| t["could"] == true).map(|t| t["what"].as_str().unwrap()).collect();
    assert!(could.is_empty(), "a child could: {could:?}");
    let walls = v["parts"].as_array().unwrap().iter().find(|p| p["name"] == "walls around children").unwrap();
    let words = walls["state"].as_str().unwrap();
    assert!(words.contains("Landlock") && words.contains("seccomp"), "{words}");
}

#[test]
fn a_token_that_a_service_repeats_is_nowhere_shown() {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut head = [0; 4096];
            let _ = stream.read(&mut head);
            let _ = stream.write_all(b"HTTP/1.1 401 No\r\nconnection: close\r\n\r\n{\"title\":\"no such token: salt-and-samphire\"}");
        }
    });
    let house = House::new();
    let token = house.path("token");
    std::fs::write(&token, "salt-and-samphire\n").unwrap();
    std::fs::set_permissions(&token, PermissionsExt::from_mode(0o600)).unwrap();
    house.append(&format!(
        "[[service]]\nname = \"desk\"\naddress = \"http://{address}/hear\"\ntries = 1\ntoken_file = \"token\"\n\
         [[preset]]\nname = \"words\"\n[preset.transcript]\nservice = \"desk\"\n\
         [[rule]]\nname = \"spoken\"\nmake = [{{ preset = \"words\", to = [\"editors\"] }}]\n"
    ));
    house.drop_in("a.mp4", include_bytes!("../../../../demo/media/warden-interview.mp4"));
    let out = house.run_once();
    assert!(text(&out).contains("(secret)"), "{}", text(&out));
    let status = porter(&["status", "--job", "1"], &house);
    assert!(text(&status).contains("(secret)"), "{}", text(&status));
    let mut all: Vec<PathBuf> = vec![house.path("porter-state"), house.path("away")];
    let mut shown = text(&out) + &text(&status);
    while let Some(path) = all.pop() {
        if path.is_dir() {
            all.extend(std::fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        } else if let Ok(bytes) = std::fs::read(&path) {
            shown.push_str(&String::from_utf8_lossy(&bytes));
        }
    }
    assert!(!shown.contains("salt-and-samphire"));
    // Others can read it: then it is none.
    std::fs::set_permissions(&token, PermissionsExt::from_mode(0o644)).unwrap();
    let check = porter(&["check"], &house);
    assert!(check.status.code() == Some(1) && text(&check).contains("chmod 600"), "{}", text(&check));
}

#[test]
fn a_name_cannot_forge_a_line() {
    let house = House::new();
    let forged = "x.mp4\n07:00:00  job 99   done             original at \x1b[32m";
    house.drop_in(forged, b"not media");
    let out = house.run_once();
    let status = porter(&["status"], &house);
    let why = house.list("away").into_iter().find(|n| n.ends_with(".why.txt")).unwrap();
    let why = std::fs::read_to_string(house.path("away").join(why)).unwrap();
    let inspect = Command::new(PROGRAM).arg("inspect").arg(house.path("away")).output().unwrap();
    for shown in [text(&out), text(&status), why, text(&inspect)] {
        assert!(!shown.contains('\x1b') && !shown.lines().any(|l| l.starts_with("07:00:00")), "{shown}");
    }
}

/// Paths are shown by one function only.
#[test]
fn no_path_is_shown_raw() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut raw = Vec::new();
    for entry in walkdir::WalkDir::new(root).into_iter().flatten() {
        let path = entry.path();
        let is_code =
            path.extension().is_some_and(|e| e == "rs") && path.components().any(|c| c.as_os_str() == "src");
        if is_code {
            let text = std::fs::read_to_string(path).unwrap();
            // Tests may say what they like.
            let code = text.split("#[cfg(test)]").next().unwrap_or("");
            let named = |line: &&str| {
                line.contains(".display()") || line.contains("to_string_lossy()") && line.contains("format!")
            };
            raw.extend(code.lines().filter(named).map(|l| format!("{}: {}", path.display(), l.trim())));
        }
    }
    assert!(raw.is_empty(), "{raw:#?}");
}

/// Waiting is measured on a clock that nobody sets.
#[test]
fn no_wait_depends_on_the_time_of_day() {
    let src = Path::new(env!("CARGO_MANIFEST_DIR")).join("../porter/src");
    for file in [
        "watch/steady.rs",
        "watch/service.rs",
        "watch/folder.rs",
        "jobs/schedule.rs",
        "jobs/run.rs",
        "maker/parent.rs",
    ] {
        let text = std::fs::read_to_string(src.join(file)).unwrap();
        assert!(!text.contains("SystemTime") && !text.contains("clock::now"), "{file}");
    }
}

/// A record replayed gives the same store.
#[test]
fn the_record_of_a_whole_run_replayed_gives_the_same_store() {
    let house = House::new();
    house.append(SILENT_RULE);
    for n in 0..3 {
        house.drop_in(format!("a{n}.mp4"), &make_clip(&Clip { frames: 20 + n, ..Clip::default() }));
    }
    house.drop_in("silent.mp4", silent_clip());
    house.drop_in("notes.mp4", b"a call sheet\n");
    house.drop_in("cut.mp4", &clip()[..clip().len() / 2]);
    house.run_once();
    let store = porter::store::Store::open(&house.path("porter-state/jobs.sqlite")).unwrap();
    let events = store.read(|v| v.events_after(0, 100_000)).unwrap();
    assert!(events.len() > 40, "{}", events.len());
    let other = porter::store::Store::open(&house.path("replayed.sqlite")).unwrap();
    other.replay(&events).unwrap();
    let (a, b) = (store.read(|v| v.dump()).unwrap(), other.read(|v| v.dump()).unwrap());
    assert!(a.lines().count() > 20);
    for (x, y) in a.lines().zip(b.lines()) {
        assert_eq!(x, y);
    }
    assert_eq!(a.lines().count(), b.lines().count());
}

#[test]
fn a_child_started_by_hand_ends_with_its_parent() {
    // The porter dies before its first word.
    let (ours, its) = std::os::unix::net::UnixStream::pair().unwrap();
    let mut c = Command::new(PROGRAM);
    c.arg("make-in-child").stdin(Stdio::null()).stdout(std::os::fd::OwnedFd::from(its)).process_group(0);
    let mut child = c.spawn().unwrap();
    drop(c);
    drop(ours);
    ends_within(&mut child, TWO_SECONDS);
}
