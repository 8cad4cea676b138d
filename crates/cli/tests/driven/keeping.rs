//! The porter as a service, and its record kept and put back.

use crate::support::{self, House, PROGRAM, clip, text};
use std::os::unix::net::UnixDatagram;
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

fn run(house: &House, args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).arg("--house").arg(house.path("")).output().unwrap()
}

#[test]
fn a_backup_of_a_working_porter_is_put_back_and_nothing_is_done_twice() {
    let house = House::with("original = \"leave\"", "");
    let running = house.start();
    house.drop_in("heron.mp4", clip());
    house.wait_until("done", |s| s["ended"].as_array().unwrap().len() == 1);
    let kept = house.path("kept");
    let kept = kept.to_str().unwrap();
    let out = run(&house, &["backup", kept]);
    assert!(out.status.success() && text(&out).contains("jobs.sqlite"), "{}", text(&out));
    assert!(!run(&house, &["backup", kept]).status.success(), "never over what is there");
    assert!(text(&run(&house, &["restore", kept])).contains("porter"), "not while one works");
    running.interrupt();
    // The state is lost; a house without its record would do everything again.
    std::fs::remove_dir_all(house.path("porter-state")).unwrap();
    let out = run(&house, &["restore", kept]);
    assert!(out.status.success(), "{}", text(&out));
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["heron_proxy.mp4"]);
    // Put back over a record: that is kept.
    let out = run(&house, &["restore", kept]);
    assert!(out.status.success() && text(&out).contains("before-restore-"), "{}", text(&out));
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["heron_proxy.mp4"]);
    // What is no backup, or is not whole, is refused and changes nothing.
    let jobs = format!("{kept}/jobs.sqlite");
    let whole = std::fs::read(&jobs).unwrap();
    std::fs::write(&jobs, &whole[..whole.len() / 2]).unwrap();
    assert!(!run(&house, &["restore", kept]).status.success());
    assert!(!run(&house, &["restore", house.path("out").to_str().unwrap()]).status.success());
    assert!(text(&run(&house, &["jobs", "list"])).contains("heron.mp4"));
}

#[test]
fn a_service_manager_hears_that_it_is_ready_lives_and_stops() {
    let house = House::new();
    let at = house.path("notify");
    let socket = UnixDatagram::bind(&at).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let mut c = Command::new(PROGRAM);
    c.arg("run").arg(house.path("")).stdout(Stdio::null()).stderr(Stdio::null());
    c.env("NOTIFY_SOCKET", &at).env("WATCHDOG_USEC", "900000");
    let mut child = c.spawn().unwrap();
    let hear = || {
        let mut text = [0; 200];
        let n = socket.recv(&mut text).unwrap();
        String::from_utf8_lossy(&text[..n]).into_owned()
    };
    assert!(hear().starts_with("READY=1"));
    assert_eq!((hear(), hear()), ("WATCHDOG=1".into(), "WATCHDOG=1".into()));
    let pid = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
    // A reload: the configuration is taken up, and the porter goes on.
    house.reconfigure("name = \"Estuary Hours\"", "name = \"Estuary Nights\"");
    rustix::process::kill_process(pid, rustix::process::Signal::HUP).unwrap();
    house.wait_until("taken up", |s| s["house"] == "Estuary Nights");
    house.drop_in("heron.mp4", clip());
    house.wait_until("done", |s| s["ended"].as_array().unwrap().len() == 1);
    assert!(child.try_wait().unwrap().is_none());
    let start = Instant::now();
    rustix::process::kill_process(pid, rustix::process::Signal::TERM).unwrap();
    while hear() != "STOPPING=1" {}
    assert!(child.wait().unwrap().success());
    assert!(start.elapsed() < Duration::from_secs(10));
}

#[test]
fn units_and_recipes_name_every_folder() {
    let house = House::new();
    house.reconfigure("folder = \"out\"", "folder = \"out 100%\"");
    std::fs::create_dir(house.path("out 100%")).unwrap();
    let print = |form: &str| {
        let out = Command::new(PROGRAM)
            .args(["service", "print", "--form", form])
            .arg(house.path(""))
            .output()
            .unwrap();
        assert!(out.status.success(), "{}", text(&out));
        text(&out)
    };
    let unit = print("systemd");
    for words in [
        "Type=notify",
        "ProtectSystem=strict",
        "out\\x20100%%",
        "WatchdogSec",
        "/done",
        "/away",
        "porter-state",
    ] {
        assert!(unit.contains(words), "{words}: {unit}");
    }
    assert!(print("container").contains("FROM debian"));
}

#[test]
fn figures_are_told_in_the_open_form() {
    let house = House::new();
    let port = support::servers::free_port();
    house.reconfigure("retry_after =", &format!("metrics = \"127.0.0.1:{port}\"\nretry_after ="));
    house.drop_in("heron.mp4", clip());
    let running = house.start();
    house.wait_until("done", |s| s["ended"].as_array().unwrap().len() == 1);
    let mut answer = ureq::get(format!("http://127.0.0.1:{port}/metrics")).call().unwrap();
    let kind = answer.headers().get("content-type").unwrap().to_str().unwrap().to_owned();
    assert!(kind.starts_with("application/openmetrics-text; version=1.0.0"), "{kind}");
    let told = answer.body_mut().read_to_string().unwrap();
    assert!(told.contains("deft_porter_jobs_ended_total{state=\"done\"} 1\n"), "{told}");
    assert!(told.contains("deft_porter_watch_up{watch=\"cards\"} 1\n"), "{told}");
    // Who connects and says nothing keeps nobody waiting for long.
    let _silent = std::net::TcpStream::connect(("127.0.0.1", port)).unwrap();
    let began = Instant::now();
    let elsewhere = ureq::get(format!("http://127.0.0.1:{port}/")).call();
    assert!(matches!(elsewhere, Err(ureq::Error::StatusCode(404))), "{elsewhere:?}");
    assert!(began.elapsed() < Duration::from_secs(6));
    let file = house.path("figures.txt");
    std::fs::write(&file, &told).unwrap();
    let script = "import sys\nfrom prometheus_client.openmetrics.parser import text_string_to_metric_families as p\n\
        print(sorted(f.name for f in p(open(sys.argv[1]).read())))";
    if let Some(said) = support::python(script, &[&file]) {
        assert!(
            said.contains("'deft_porter_jobs_ended'") && said.contains("'deft_porter_place_up'"),
            "{said}"
        );
    }
    assert!(running.interrupt().success());
    house.reconfigure(&format!("127.0.0.1:{port}"), "0.0.0.0:9680");
    let wrong = text(&house.run_once());
    assert!(wrong.contains("an address of this machine alone"), "{wrong}");
}

/// Makes every job look as if it had ended long ago.
fn age(house: &House, days: i64) {
    let script = "import sqlite3,sys\ndb=sqlite3.connect(sys.argv[1])\n\
        db.execute('UPDATE job SET ended = ended - ? * 86400000000, arrived = arrived - ? * 86400000000', [int(sys.argv[2])]*2)\n\
        db.commit()";
    let at = house.path("porter-state/jobs.sqlite");
    let out = Command::new("python3").args(["-c", script]).arg(at).arg(days.to_string()).output().unwrap();
    assert!(out.status.success(), "{}", text(&out));
}

#[test]
fn old_records_are_forgotten_but_for_what_still_lies_there() {
    let house = House::new();
    house.reconfigure("name = \"Estuary Hours\"", "name = \"Estuary Hours\"\nkeep_records = \"30 days\"");
    house.append("[[watch]]\nname = \"left\"\nfolder = \"left\"\nsteady = \"300 ms\"\nlook_every = \"200 ms\"\noriginal = \"leave\"\nturned_away = \"away\"\n");
    std::fs::create_dir(house.path("left")).unwrap();
    house.drop_in("cup.mp4", clip());
    std::fs::write(house.path("left/saucer.mp4"), clip()).unwrap();
    std::fs::write(house.path("left/notes.txt"), "no media").unwrap();
    house.run_once();
    let jobs = |house: &House| house.status()["ended"].as_array().unwrap().len();
    assert_eq!(jobs(&house), 3);
    age(&house, 29);
    let porter = house.start();
    std::thread::sleep(std::time::Duration::from_secs(5));
    assert_eq!(jobs(&house), 3);
    porter.interrupt();
    age(&house, 2);
    let porter = house.start();
    house.wait_until("it is forgotten", |s| s["ended"].as_array().unwrap().len() == 2);
    // What lies there is known, and does not arrive anew; what has the old name is another delivery beside the first.
    house.drop_in("cup.mp4", clip());
    house.wait_until("the new one is done", |s| s["ended"].as_array().unwrap().len() == 3);
    porter.interrupt();
    assert_eq!(house.list("out"), ["cup_proxy.mp4", "cup_proxy_2.mp4", "saucer_proxy.mp4"]);
    let log =
        Command::new(PROGRAM).args(["log", "--last", "300", "--house"]).arg(house.path("")).output().unwrap();
    assert!(text(&log).contains("1 job that ended long ago"), "{}", text(&log));
    assert!(house.path("left/notes.txt").exists() && house.path("done/cup.mp4").exists());
}
