//! Orders to a porter: cancel, do again, pause and go on; with one that runs, and without.

use crate::support::{self, House, PROGRAM, clip, make_clip, text};
use media::testkit::Clip;
use rstest::rstest;
use std::process::{Command, Output};
use std::time::{Duration, Instant};

fn order(house: &House, args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).arg("--house").arg(house.path("")).output().unwrap()
}

/// A clip that takes some seconds to be made into a proxy.
fn long_clip() -> Vec<u8> {
    make_clip(&Clip { frames: 250, times: 8, width: 640, height: 360, ..Clip::default() })
}

fn state_of(status: &serde_json::Value, job: i64) -> String {
    let lists = [&status["open"], &status["ended"]];
    let all = lists.iter().flat_map(|l| l.as_array().unwrap());
    let found = all.into_iter().find(|j| j["job"] == job);
    found.map_or(String::new(), |j| j["state"].as_str().unwrap().to_owned())
}

fn left_overs(house: &House) -> Vec<String> {
    let hidden =
        |folder: &str| house.list(folder).into_iter().filter(|n| n.starts_with('.') && !n.contains("marker"));
    hidden("out").chain(house.list("porter-state/work")).collect()
}

#[test]
fn a_job_that_is_being_made_is_cancelled_within_a_second_and_leaves_nothing() {
    let house = House::new();
    let running = house.start();
    house.drop_in("long.mp4", &long_clip());
    house.wait_until("being made", |s| s["open"][0]["progress"]["done"].as_u64().is_some_and(|n| n > 0));
    let start = Instant::now();
    let out = order(&house, &["jobs", "cancel", "1"]);
    assert!(out.status.success() && text(&out).contains("is being cancelled"), "{}", text(&out));
    house.wait_until("cancelled", |s| state_of(s, 1) == "cancelled");
    assert!(start.elapsed() < Duration::from_secs(2), "{:?}", start.elapsed());
    assert!(house.path("in/long.mp4").exists(), "the original stays");
    assert_eq!((left_overs(&house), house.list("out").len()), (Vec::new(), 0));
    // It is not taken again, not even after a restart.
    running.interrupt();
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out").len(), 0);
    // Cancelling what ended is refused; doing it again is not.
    assert!(!order(&house, &["jobs", "cancel", "1", "77"]).status.success());
    let out = order(&house, &["jobs", "again", "1"]);
    assert!(text(&out).contains("No porter is running: the next one goes by this."), "{}", text(&out));
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["long_proxy.mp4"]);
    assert!(house.path("done/long.mp4").exists());
}

#[test]
fn what_was_turned_away_is_put_back_and_tried_again() {
    let house = House::new();
    house.drop_in("a.wav", b"RIFF not yet");
    house.run_once();
    assert_eq!(house.list("away"), ["a.wav", "a.wav.why.txt"]);
    // Another file has the place by now.
    house.drop_in("a.wav", b"other");
    let out = order(&house, &["jobs", "again", "1"]);
    assert!(!out.status.success() && text(&out).contains("is taken by another file"), "{}", text(&out));
    assert_eq!(house.list("away"), ["a.wav", "a.wav.why.txt"]);
    std::fs::remove_file(house.path("in/a.wav")).unwrap();
    let out = order(&house, &["jobs", "again", "1"]);
    assert!(out.status.success() && text(&out).contains("put back into the watch folder"), "{}", text(&out));
    assert_eq!(std::fs::read(house.path("in/a.wav")).unwrap(), b"RIFF not yet");
    house.run_once();
    assert_eq!(house.list("away"), ["a.wav", "a.wav.why.txt"]);
}

#[test]
fn what_was_left_is_made_again_beside_what_was_made() {
    let house = House::with("original = \"leave\"", "");
    house.drop_in("a.mp4", clip());
    assert!(house.run_once().status.success());
    assert!(order(&house, &["jobs", "again", "1"]).status.success());
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["a_proxy.mp4", "a_proxy_2.mp4"]);
    let counts = house.status()["ended_counts"].clone();
    assert_eq!(counts, serde_json::json!([{ "state": "done", "jobs": 1 }]));
    // One whose original was moved says where it is.
    house.configure("original = \"move\"\ndone = \"done\"", "");
    house.drop_in("b.mp4", clip());
    assert!(house.run_once().status.success());
    let out = order(&house, &["jobs", "again", "2"]);
    assert!(!out.status.success() && text(&out).contains("done/b.mp4; put it back"), "{}", text(&out));
    // And one that changed since is not what was worked on.
    house.drop_in("a.mp4", &long_clip());
    let out = order(&house, &["jobs", "again", "1"]);
    assert!(!out.status.success() && text(&out).contains("is not what it was"), "{}", text(&out));
}

#[test]
fn a_paused_porter_begins_nothing_and_stays_so_after_a_restart() {
    let house = House::new();
    let running = house.start();
    house.wait_until("running", |s| s["running"] == true);
    assert!(order(&house, &["pause"]).status.success());
    house.drop_in("a.mp4", clip());
    house.wait_until("arrived", |s| s["open"].as_array().unwrap().len() == 1);
    std::thread::sleep(Duration::from_millis(700));
    let status = house.status();
    assert_eq!((state_of(&status, 1).as_str(), &status["paused"]), ("waiting", &true.into()));
    running.interrupt();
    assert_eq!(house.status()["paused"], true);
    let running = house.start();
    house.wait_until("running", |s| s["running"] == true);
    std::thread::sleep(Duration::from_millis(700));
    assert_eq!(state_of(&house.status(), 1), "waiting");
    assert!(text(&order(&house, &["pause"])).contains("paused already"));
    // What is not wanted is cancelled all the same.
    house.drop_in("b.mp4", clip());
    house.wait_until("arrived", |s| s["open"].as_array().unwrap().len() == 2);
    assert!(order(&house, &["jobs", "cancel", "2"]).status.success());
    house.wait_until("cancelled", |s| state_of(s, 2) == "cancelled");
    assert!(order(&house, &["resume"]).status.success());
    house.wait_until("done", |s| state_of(s, 1) == "done");
    running.interrupt();
}

/// Cancelled at any moment of its life, and killed right after: it ends cancelled or done, whole at its place or not at all.
#[rstest]
fn a_cancel_at_any_moment_ends_clean(#[values(0, 40, 90, 160, 260, 420)] wait: u64) {
    let house = House::new();
    house.drop_in("a.mp4", &make_clip(&Clip { frames: 50, width: 320, height: 180, ..Clip::default() }));
    let running = house.start();
    house.wait_until("there", |s| {
        s["open"].as_array().unwrap().len() + s["ended"].as_array().unwrap().len() == 1
    });
    std::thread::sleep(Duration::from_millis(wait));
    let out = order(&house, &["jobs", "cancel", "1"]);
    if wait.is_multiple_of(80) {
        running.kill();
    } else {
        std::thread::sleep(Duration::from_millis(300));
        running.interrupt();
    }
    assert!(house.run_once().status.success());
    let state = state_of(&house.status(), 1);
    let accepted = text(&out).contains("is being cancelled");
    assert!(state == "done" || state == "cancelled", "{state}: {}", text(&out));
    assert!(!accepted || state == "cancelled", "what was accepted is done: {state}");
    let out = house.list("out");
    // It may have been delivered before the cancel reached it; then it is recorded, and whole.
    assert!(out.is_empty() || out == ["a_proxy.mp4"], "{out:?}");
    if !out.is_empty() {
        assert!(house.facts("out/a_proxy.mp4").damage.is_none());
        assert!(house.events(1).contains(&"delivered".to_owned()));
    }
    assert_eq!(house.path("in/a.mp4").exists(), state == "cancelled");
    assert_eq!(left_overs(&house), Vec::<String>::new());
}

#[test]
fn jobs_are_listed_by_state_and_watch() {
    let house = House::new();
    house.drop_in("a.mp4", clip());
    house.drop_in("b.txt", b"no media");
    house.run_once();
    let list = |args: &[&str]| {
        let out = order(&house, &[&["jobs", "list", "--json"], args].concat());
        let all: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
        all.as_array().unwrap().iter().map(|j| j["path"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(list(&["--state", "done"]), ["a.mp4"]);
    assert_eq!(list(&["--state", "turned away"]), ["b.txt"]);
    assert_eq!((list(&[]).len(), list(&["--most", "1"]).len(), list(&["--watch", "cards"]).len()), (2, 1, 2));
    let out = order(&house, &["jobs", "list", "--state", "finished"]);
    assert!(!out.status.success() && text(&out).contains("is no state of a job"), "{}", text(&out));
    let out = order(&house, &["jobs", "show", "1"]);
    assert!(text(&out).contains("nothing left to carry"), "{}", text(&out));
    let table = text(&order(&house, &["jobs", "list"]));
    assert!(table.contains("a_proxy.mp4") && table.contains("turned away"), "{table}");
}

fn ended_order(house: &House) -> Vec<i64> {
    let mut all: Vec<i64> =
        house.status()["ended"].as_array().unwrap().iter().map(|j| j["job"].as_i64().unwrap()).collect();
    all.reverse();
    all
}

#[test]
fn a_job_on_hold_waits_for_a_person_and_not_for_a_restart() {
    let house = House::new();
    let running = house.start();
    house.drop_in("long.mp4", &long_clip());
    house.wait_until("being made", |s| s["open"][0]["progress"]["done"].as_u64().is_some_and(|n| n > 0));
    // At once: where the machine stands still while it is written, it is taken, given up and taken again as job 3.
    std::fs::write(house.path("heron.mp4"), clip()).unwrap();
    std::fs::rename(house.path("heron.mp4"), house.path("in/heron.mp4")).unwrap();
    house.wait_until("both are jobs", |s| s["open_count"] == 2);
    let out = order(&house, &["jobs", "hold", "--name", "HERON*"]);
    assert!(out.status.success() && text(&out).contains("job 2: is on hold"), "{}", text(&out));
    house.wait_until("the other is done", |s| state_of(s, 1) == "done");
    let status = house.status();
    assert_eq!((&status["open"][0]["job"], &status["open"][0]["on_hold"]), (&2.into(), &true.into()));
    assert!(status["open"][0]["held"].as_str().unwrap().contains("jobs release 2"));
    running.interrupt();
    // Not even a run that ends by itself touches it.
    house.run_once();
    assert_eq!(house.list("out"), ["long_proxy.mp4"]);
    let list = order(&house, &["jobs", "list", "--state", "on hold"]);
    assert!(text(&list).contains("heron.mp4") && !text(&list).contains("long.mp4"), "{}", text(&list));
    assert!(!order(&house, &["jobs", "hold", "1"]).status.success(), "it ended");
    assert!(!order(&house, &["jobs", "hold"]).status.success(), "which?");
    assert!(!order(&house, &["jobs", "hold", "2", "--state", "waiting"]).status.success(), "not both");
    assert!(!order(&house, &["jobs", "hold", "--name", "otter*"]).status.success(), "none");
    let out = order(&house, &["jobs", "release", "--state", "on hold"]);
    assert!(out.status.success(), "{}", text(&out));
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["heron_proxy.mp4", "long_proxy.mp4"]);
}

#[test]
fn jobs_go_first_by_number_by_watch_and_by_rule() {
    let house = House::new();
    house.reconfigure("look_every = \"200 ms\"", "look_every = \"200 ms\"\npriority = -1");
    house.reconfigure("name = \"recordings\"", "name = \"recordings\"\npriority = 5");
    let running = house.start();
    house.wait_until("running", |s| s["running"] == true);
    assert!(order(&house, &["pause"]).status.success());
    for name in ["a.mp4", "b.mp4", "c.mp4"] {
        house.drop_in(name, clip());
        house.wait_until("it is a job", |s| s["open"].to_string().contains(name));
    }
    assert_eq!(house.status()["open"][0]["priority"], -1);
    let out = order(&house, &["jobs", "first", "3"]);
    assert!(text(&out).contains("job 3: goes before all others"), "{}", text(&out));
    assert!(order(&house, &["jobs", "priority", "-3", "1"]).status.success());
    assert!(!order(&house, &["jobs", "priority", "10", "1"]).status.success(), "9 is the highest");
    order(&house, &["resume"]);
    house.wait_until("all are done", |s| s["ended"].as_array().unwrap().len() == 3);
    assert_eq!(ended_order(&house), [3, 2, 1]);
    running.interrupt();
}

#[test]
fn a_porter_that_drains_takes_nothing_more_in_and_ends() {
    let house = House::new();
    let mut child = house.spawn(&["run"]);
    house.drop_in("long.mp4", &long_clip());
    house.wait_until("being made", |s| s["open"][0]["progress"]["done"].as_u64().is_some_and(|n| n > 0));
    let out = order(&house, &["drain"]);
    assert!(out.status.success(), "{}", text(&out));
    house.drop_in("late.mp4", clip());
    let start = Instant::now();
    while child.try_wait().unwrap().is_none() {
        assert!(start.elapsed() < Duration::from_secs(180), "it did not end");
        std::thread::sleep(Duration::from_millis(50));
    }
    assert!(child.wait().unwrap().success());
    assert_eq!(
        (house.list("out"), house.list("in").len()),
        (vec!["long_proxy.mp4".to_owned()], 1),
        "what came late is left"
    );
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out").len(), 2);
}

#[test]
fn the_history_has_every_job_and_the_sums() {
    let house = House::new();
    house.reconfigure("[house]", "[house]\nhand_work = \"30 min\"");
    house.drop_in("heron.mp4", clip());
    house.drop_in("=1+1, \"note\".txt", b"a poem about the tide, long enough to be no empty file");
    house.run_once();
    let out = order(&house, &["history", "--json"]);
    let h: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    let t = &h["totals"];
    assert_eq!(
        (&t["jobs"], &t["done"], &t["turned_away"], &t["delivered"]),
        (&2.into(), &1.into(), &1.into(), &1.into())
    );
    assert_eq!(t["hand_hours"], 0.5);
    let bytes = std::fs::metadata(house.path("out/heron_proxy.mp4")).unwrap().len();
    assert_eq!(t["delivered_bytes"], bytes);
    assert!(t["seconds_median"].as_f64().unwrap() < 60.0 && t["media_hours"].as_f64().unwrap() > 0.0);
    let schema = support::published("history.json", &["history", "--schema"]);
    assert!(jsonschema::is_valid(&schema, &h));
    // Read by another program's reader of such files.
    let csv = order(&house, &["history", "--csv"]);
    let path = house.path("history.csv");
    std::fs::write(&path, &csv.stdout).unwrap();
    let read = "import csv,sys\nfor r in csv.DictReader(open(sys.argv[1], newline='')): print(r['path'], r['state'])";
    let out = Command::new("python3").args(["-c", read]).arg(&path).output().unwrap();
    let mut lines: Vec<String> = text(&out).lines().map(str::to_owned).collect();
    lines.sort();
    assert_eq!(lines, ["'=1+1, \"note\".txt turned away", "heron.mp4 done"]);
    // The same as a page: nothing of it comes from elsewhere, and a name is text.
    let page = house.path("report.html");
    let out = order(&house, &["report", "--to", page.to_str().unwrap()]);
    assert!(out.status.success(), "{}", text(&out));
    let html = std::fs::read_to_string(&page).unwrap();
    assert!(
        !html.contains("http") && !html.contains("<script") && html.contains("=1+1, &quot;note&quot;.txt")
    );
    let count = "import sys,html.parser as h\n\
        class P(h.HTMLParser):\n\
        \x20 rows=0; rects=0\n\
        \x20 def handle_starttag(s,t,a):\n\
        \x20   s.rows+=t=='tr'; s.rects+=t=='rect'\n\
        p=P(); p.feed(open(sys.argv[1]).read()); print(p.rows, p.rects > 8)";
    let out = Command::new("python3").args(["-c", count]).arg(&page).output().unwrap();
    assert_eq!(text(&out), "5 True\n", "a head and one turned away, a head and two jobs");
    assert!(!order(&house, &["report", "--watch", "otters"]).status.success());
    let words = text(&order(&house, &["history"]));
    assert!(words.contains("2 jobs in all") && words.contains("half of them within"), "{words}");
    assert!(text(&order(&house, &["history", "--until", "2020-01-01"])).contains("no job ended"));
    assert!(!order(&house, &["history", "--since", "yesterday"]).status.success());
    assert!(!order(&house, &["history", "--state", "making"]).status.success());
}

/// The board in a terminal of another program's making: keys take a hand in the house, and the terminal is left as it was.
#[test]
fn the_board_shows_the_house_and_takes_keys() {
    let house = House::new();
    let no_terminal = Command::new(PROGRAM).arg("board").arg(house.path("")).output().unwrap();
    assert!(!no_terminal.status.success() && text(&no_terminal).contains("needs a terminal"));
    let running = house.start();
    house.wait_until("running", |s| s["running"] == true);
    order(&house, &["pause"]);
    house.drop_in("heron.mp4", clip());
    house.wait_until("a job", |s| s["open_count"] == 1);
    let script = r#"
import os, pty, select, sys, time
pid, fd = pty.fork()
if pid == 0:
    os.environ["TERM"] = "xterm-256color"
    os.execv(sys.argv[1], [sys.argv[1], "board", sys.argv[2]])
import fcntl, struct, termios
fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 80, 0, 0))
out = b""
def read(seconds):
    global out
    end = time.time() + seconds
    while time.time() < end:
        if select.select([fd], [], [], 0.1)[0]:
            try: out += os.read(fd, 65536)
            except OSError: return
read(2)
for keys in [b"\x1b[B", b"h", b"\r", b"\x1b", b"p", b"q"]:
    os.write(fd, keys); read(1.2)
_, status = os.waitpid(pid, 0)
sys.stdout.buffer.write(out)
sys.exit(os.waitstatus_to_exitcode(status))
"#;
    let out = Command::new("python3").args(["-c", script, PROGRAM]).arg(house.path("")).output().unwrap();
    let seen = text(&out);
    assert!(out.status.success(), "{seen}");
    for words in ["Estuary Hours", "heron.mp4", "happened", "PAUSED", "on hold"] {
        assert!(seen.contains(words), "{words}: {seen}");
    }
    assert!(seen.trim_end().contains("\u{1b}[?1049l"), "the screen before is back");
    let status = house.status();
    assert_eq!((&status["open"][0]["on_hold"], &status["paused"]), (&true.into(), &false.into()));
    running.interrupt();
}
