//! Watches whose files arrive at a place of a network: on servers of others.

use crate::support::servers::{self, Cutter, Server};
use crate::support::{self, House, PROGRAM, clip, text};
use rstest::rstest;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::Ordering;
use std::time::Duration;

const SECRET: &str = "tide-and-time";

/// A house whose watch fetches from there.
fn house_from(from: &str, more: &str) -> House {
    let house = House::new();
    std::fs::write(house.path("secret"), SECRET).unwrap();
    std::fs::set_permissions(house.path("secret"), std::fs::Permissions::from_mode(0o600)).unwrap();
    house.reconfigure(
        "turned_away = \"away\"",
        &format!("turned_away = \"away\"\n{more}\n[watch.from]\n{from}"),
    );
    house
}

fn sftp(server: &Server, port: u16) -> String {
    format!(
        "address = \"sftp://127.0.0.1:{port}{}\"\nuser = \"{}\"\nkey_file = \"{}\"\nhost_key = \"{}\"\n",
        server.root.display(),
        servers::me(),
        server.file("user").display(),
        host_key(server)
    )
}

fn host_key(server: &Server) -> String {
    let out = Command::new("ssh-keygen").arg("-lf").arg(server.file("host.pub")).output().unwrap();
    text(&out).split_whitespace().nth(1).unwrap().to_owned()
}

fn delivered(house: &House) -> Vec<String> {
    house.list("out").into_iter().filter(|n| !n.starts_with('.')).collect()
}

/// Files of the server's folder and below.
fn files(root: &Path) -> Vec<String> {
    let all = walk(root);
    let mut names: Vec<String> =
        all.iter().map(|p| p.strip_prefix(root).unwrap().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

fn walk(dir: &Path) -> Vec<std::path::PathBuf> {
    let mut out = Vec::new();
    for e in std::fs::read_dir(dir).unwrap().flatten() {
        if e.path().is_dir() { out.extend(walk(&e.path())) } else { out.push(e.path()) }
    }
    out
}

enum Kind {
    Sftp,
    Ftp,
    WebDav,
}

impl Kind {
    /// One of it, and the lines of a watch that name it.
    fn server(&self) -> Option<(Server, String)> {
        let server = match self {
            Kind::Sftp => servers::ssh(),
            Kind::Ftp => servers::ftp(false),
            Kind::WebDav => servers::webdav(),
        }?;
        let login = "user = \"anna\"\npassword_file = \"secret\"";
        let from = match self {
            Kind::Sftp => sftp(&server, server.port),
            Kind::Ftp => format!("address = \"ftp://127.0.0.1:{}/\"\n{login}\n", server.port),
            Kind::WebDav => {
                format!("address = \"http://127.0.0.1:{}/\"\nprotocol = \"webdav\"\n", server.port)
            }
        };
        Some((server, from))
    }
}

#[rstest]
#[case::sftp(Kind::Sftp)]
#[case::ftp(Kind::Ftp)]
#[case::webdav(Kind::WebDav)]
fn files_are_fetched_and_moved_there(#[case] kind: Kind) {
    let Some((server, from)) = kind.server() else { return };
    let house =
        house_from(&format!("{from}after = \"move\"\nmove_to = \"taken/here\""), "exclude = [\"*.txt\"]");
    std::fs::create_dir(server.root.join("day 1")).unwrap();
    std::fs::write(server.root.join("day 1/cup ü.mp4"), clip()).unwrap();
    std::fs::write(server.root.join("note.txt"), b"not for us").unwrap();
    std::fs::write(server.root.join("half.mp4.part"), b"not whole").unwrap();
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(delivered(&house), ["cup ü_proxy.mp4"]);
    assert_eq!(std::fs::read(house.path("done/day 1/cup ü.mp4")).unwrap(), clip());
    assert_eq!(files(&server.root), ["half.mp4.part", "note.txt", "taken/here/day 1/cup ü.mp4"]);
    // The same name with another content is another arrival; what is there already is not taken away.
    std::fs::write(server.root.join("day 1/cup ü.mp4"), support::make_clip(&media::testkit::Clip::default()))
        .unwrap();
    assert!(house.run_once().status.success());
    assert_eq!(delivered(&house).len(), 2);
    assert!(
        files(&server.root).contains(&"taken/here/day 1/cup ü_2.mp4".to_owned()),
        "{:?}",
        files(&server.root)
    );
    let check = Command::new(PROGRAM).args(["check", "--mark"]).arg(house.path("")).output().unwrap();
    assert!(check.status.success(), "{}", text(&check));
    assert!(text(&check).contains("from of watch cards"), "{}", text(&check));
}

#[test]
fn what_is_left_there_is_fetched_once_and_what_grows_is_waited_for() {
    let Some(server) = servers::ssh() else { return };
    let house = house_from(&sftp(&server, server.port), "");
    house.reconfigure("steady = \"300 ms\"", "steady = \"2 s\"");
    let path = server.root.join("cup.mp4");
    std::fs::write(&path, &clip()[..1000]).unwrap();
    let porter = house.start();
    // It goes on growing for longer than it has to be steady.
    for n in 1..12 {
        std::thread::sleep(Duration::from_millis(250));
        std::fs::write(&path, &clip()[..1000 + 10 * n]).unwrap();
    }
    assert!(house.status()["open"].as_array().unwrap().is_empty());
    std::fs::write(&path, clip()).unwrap();
    house.wait_until("is done", |s| s["ended"][0]["state"] == "done");
    drop(porter);
    for _ in 0..2 {
        assert!(house.run_once().status.success());
    }
    assert_eq!(delivered(&house), ["cup_proxy.mp4"]);
    assert_eq!(files(&server.root), ["cup.mp4"]);
}

#[test]
fn a_server_that_is_gone_is_one_alarm_and_it_goes_on_when_it_is_back() {
    let Some(mut server) = servers::ssh() else { return };
    let house = house_from(&sftp(&server, server.port), "");
    server.stop();
    let porter = house.start();
    house.wait_until("is in trouble", |s| s["watches"][0]["trouble"].is_string());
    std::fs::write(server.root.join("cup.mp4"), clip()).unwrap();
    server.go_on();
    house.wait_until("is done", |s| s["ended"][0]["state"] == "done");
    assert!(house.status()["watches"][0]["trouble"].is_null());
    drop(porter);
    let log =
        Command::new(PROGRAM).args(["log", "--last", "100", "--house"]).arg(house.path("")).output().unwrap();
    assert_eq!(text(&log).matches("watch folder lost").count(), 1, "{}", text(&log));
}

#[test]
fn a_line_that_breaks_is_gone_on_with() {
    let Some(server) = servers::ssh() else { return };
    let cutter = Cutter::behind(server.port);
    let house = house_from(&sftp(&server, cutter.port), "");
    // A film with much behind it that no player looks at.
    let mut big = clip().to_vec();
    let free = 6_000_000u32;
    big.extend_from_slice(&free.to_be_bytes());
    big.extend_from_slice(b"free");
    big.extend((0..free as usize - 8).map(|n| (n % 253) as u8));
    std::fs::write(server.root.join("cup.mp4"), &big).unwrap();
    cutter.cut_after(2_000_000);
    let porter = house.start();
    for _ in 0..2 {
        let before = cutter.cut.load(Ordering::Relaxed);
        let start = std::time::Instant::now();
        while cutter.cut.load(Ordering::Relaxed) == before && start.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(20));
        }
        cutter.cut_after(2_500_000);
    }
    cutter.cut_after(i64::MAX);
    house.wait_until("is done", |s| s["ended"][0]["state"] == "done");
    drop(porter);
    assert!(cutter.cut.load(Ordering::Relaxed) >= 2);
    assert_eq!(std::fs::read(house.path("done/cup.mp4")).unwrap(), big);
    assert!(house.list("in").iter().all(|n| !n.starts_with(".fetch")), "{:?}", house.list("in"));
}

#[rstest]
fn a_kill_at_any_step_fetches_each_file_once(
    #[values("fetched, not named", "fetched and named")] moment: &str,
    #[values("leave", "remove")] after: &str,
) {
    let Some(server) = servers::ssh() else { return };
    let house = house_from(&format!("{}after = \"{after}\"", sftp(&server, server.port)), "");
    std::fs::write(server.root.join("cup.mp4"), clip()).unwrap();
    house.killed_at(moment);
    assert_eq!(files(&server.root), ["cup.mp4"], "it is there until it is here under its name");
    for _ in 0..2 {
        assert!(house.run_once().status.success());
    }
    assert_eq!(delivered(&house), ["cup_proxy.mp4"]);
    assert_eq!(std::fs::read(house.path("done/cup.mp4")).unwrap(), clip());
    assert_eq!(files(&server.root).len(), usize::from(after == "leave"));
}

#[test]
fn names_there_lead_nowhere_else_and_links_are_not_gone_through() {
    let Some(server) = servers::ssh() else { return };
    let outside = tempfile::tempdir().unwrap();
    std::fs::write(outside.path().join("other.mp4"), clip()).unwrap();
    std::os::unix::fs::symlink(outside.path(), server.root.join("linked")).unwrap();
    std::os::unix::fs::symlink(outside.path().join("other.mp4"), server.root.join("link.mp4")).unwrap();
    std::fs::write(server.root.join("two\nlines.mp4"), clip()).unwrap();
    std::fs::write(server.root.join("cup.mp4"), clip()).unwrap();
    let house = house_from(&format!("{}after = \"remove\"", sftp(&server, server.port)), "");
    // What stands under the name here already stays as it is.
    std::fs::create_dir(house.path("elsewhere")).unwrap();
    std::os::unix::fs::symlink(house.path("elsewhere"), house.path("in/cup.mp4")).unwrap();
    assert!(house.run_once().status.success());
    assert_eq!(delivered(&house), ["cup_2_proxy.mp4"]);
    assert!(outside.path().join("other.mp4").exists());
    assert_eq!(house.list("elsewhere"), Vec::<String>::new());
    assert!(!server.root.join("cup.mp4").exists() && server.root.join("two\nlines.mp4").exists());
}

#[rstest]
#[case::sftp(Kind::Sftp)]
#[case::ftp(Kind::Ftp)]
fn a_name_that_is_not_utf_8_is_told_once_and_keeps_no_other_waiting(#[case] kind: Kind) {
    use std::os::unix::ffi::OsStrExt;
    let Some((server, from)) = kind.server() else { return };
    // As an older server or a shared disk has them; more than the failures that end a look.
    for n in 0..7 {
        let name = [b"caf\xe9", &[b'0' + n][..], b".mp4"].concat();
        std::fs::write(server.root.join(std::ffi::OsStr::from_bytes(&name)), clip()).unwrap();
    }
    std::fs::write(server.root.join("cup.mp4"), clip()).unwrap();
    let house = house_from(&from, "");
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(delivered(&house), ["cup_proxy.mp4"], "{}", text(&out));
    assert_eq!(text(&out).matches("not fetched").count(), 7, "{}", text(&out));
    let why = ["is not UTF-8", "cannot be found by this name"];
    assert!(why.iter().any(|w| text(&out).contains(w)), "{}", text(&out));
    assert_eq!(walk(&server.root).len(), 8);
}

#[rstest]
fn what_comes_under_a_name_that_was_tidied_is_another(#[values("remove", "move")] after: &str) {
    let Some(server) = servers::ssh() else { return };
    let to = if after == "move" { "\nmove_to = \"taken\"" } else { "" };
    let house = house_from(&format!("{}after = \"{after}\"{to}", sftp(&server, server.port)), "");
    let at = server.root.join("cup.mp4");
    // As long, and of the same time: only its bytes are others.
    let mut other = clip().to_vec();
    let free = other.windows(4).rposition(|w| w == b"mdat").unwrap();
    other[free + 4..].iter_mut().rev().take(1).for_each(|b| *b ^= 1);
    let old = std::time::SystemTime::now() - Duration::from_secs(3600);
    for content in [clip(), &other] {
        std::fs::write(&at, content).unwrap();
        std::fs::File::options().write(true).open(&at).unwrap().set_modified(old).unwrap();
        assert!(house.run_once().status.success() || content == other);
        assert!(!at.exists());
    }
    let kept: Vec<String> =
        house.list("done").into_iter().chain(house.list("away")).filter(|n| n.ends_with(".mp4")).collect();
    assert_eq!(kept.len(), 2, "{kept:?}");
}

#[test]
fn a_file_that_cannot_be_read_there_keeps_no_other_waiting() {
    let Some(server) = servers::ftp(false) else { return };
    let login = "user = \"anna\"\npassword_file = \"secret\"";
    let house = house_from(&format!("address = \"ftp://127.0.0.1:{}/\"\n{login}\n", server.port), "");
    // A pipe: whoever reads it would wait for ever, and it is no file.
    assert!(Command::new("mkfifo").arg(server.root.join("a pipe.mp4")).status().unwrap().success());
    std::os::unix::fs::symlink("/nowhere", server.root.join("b gone.mp4")).unwrap();
    std::fs::write(server.root.join("cup.mp4"), clip()).unwrap();
    let porter = house.start();
    house.wait_until("is done", |s| s["ended"][0]["state"] == "done");
    drop(porter);
    assert_eq!(delivered(&house), ["cup_proxy.mp4"]);
}

#[test]
fn objects_are_fetched_with_their_checksum() {
    let Some(server) = servers::s3() else { return };
    let login = "user = \"anna\"\npassword_file = \"secret\"";
    let address = format!("http://127.0.0.1:{}/out/incoming", server.port);
    let from =
        format!("address = \"{address}\"\nprotocol = \"s3\"\n{login}\nafter = \"move\"\nmove_to = \"taken\"");
    let house = house_from(&from, "");
    // Put there by a house that delivers to it.
    let other = House::new();
    std::fs::write(other.path("secret"), SECRET).unwrap();
    std::fs::set_permissions(other.path("secret"), std::fs::Permissions::from_mode(0o600)).unwrap();
    other.reconfigure(
        "folder = \"out\"",
        &format!("address = \"{address}\"\nprotocol = \"s3\"\nlink = \"1 h\"\n{login}"),
    );
    other.drop_in("cup.mp4", clip());
    let out = other.run_once();
    assert!(out.status.success(), "{}", text(&out));
    // The link in the record opens without a login, and a changed one does not.
    let status = other.status();
    let delivery = &status["ended"][0]["outputs"][0]["deliveries"][0];
    let link = delivery["address"].as_str().unwrap();
    let there = ureq::get(link).call().unwrap().body_mut().read_to_vec().unwrap();
    assert_eq!(Some(there.len() as u64), status["ended"][0]["outputs"][0]["bytes"].as_u64());
    assert!(!link.contains(SECRET) && ureq::get(link.replace("Signature=", "Signature=0")).call().is_err());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(delivered(&house), ["cup_proxy_proxy.mp4"]);
    assert!(house.run_once().status.success());
    assert_eq!(delivered(&house).len(), 1);
    let log =
        Command::new(PROGRAM).args(["log", "--last", "200", "--house"]).arg(house.path("")).output().unwrap();
    assert_eq!(text(&log).matches("fetched").count(), 1, "{}", text(&log));
    // A third house leaves what is there, with a tag that everybody's client can see.
    let tagged = house_from(
        &format!(
            "address = \"{address}/taken\"\nprotocol = \"s3\"\n{login}\nafter = \"tag\"\ntag = \"porter job=taken\""
        ),
        "",
    );
    for _ in 0..2 {
        let out = tagged.run_once();
        assert!(out.status.success(), "{}", text(&out));
    }
    assert_eq!(delivered(&tagged), ["cup_proxy_proxy.mp4"]);
    assert_eq!(tags(server.port, "out/incoming/taken/cup_proxy.mp4"), ["porter job=taken"]);
}

/// The tags of an object, asked by another client.
fn tags(port: u16, key: &str) -> Vec<String> {
    let (bucket, object) = key.split_once('/').unwrap();
    let endpoint = format!("http://127.0.0.1:{port}").parse().unwrap();
    let bucket =
        rusty_s3::Bucket::new(endpoint, rusty_s3::UrlStyle::Path, bucket.to_owned(), "us-east-1").unwrap();
    let credentials = rusty_s3::Credentials::new("anna", SECRET);
    let mut get = bucket.get_object(Some(&credentials), object);
    rusty_s3::S3Action::query_mut(&mut get).insert("tagging", "");
    let url = rusty_s3::S3Action::sign(&get, Duration::from_secs(60));
    let text = ureq::get(url.as_str()).call().unwrap().body_mut().read_to_string().unwrap();
    let between = |t: &str, name: &str| {
        let t = t.split(&format!("<{name}>")).nth(1).unwrap();
        t.split("</").next().unwrap().replace("&amp;", "&")
    };
    text.split("<Tag>").skip(1).map(|t| format!("{}={}", between(t, "Key"), between(t, "Value"))).collect()
}

/// A place that says that something came is looked at then, whatever the interval.
#[test]
fn a_bucket_says_that_something_came() {
    let Some(server) = servers::webdav() else { return };
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let house = house_from(
        &format!(
            "address = \"http://127.0.0.1:{}/\"\nprotocol = \"webdav\"\n\
             told_at = \"127.0.0.1:{port}\"\ntold_token_file = \"told\"",
            server.port
        ),
        "",
    );
    house.reconfigure("look_every = \"200 ms\"", "look_every = \"10 min\"");
    std::fs::write(house.path("told"), "a word between us").unwrap();
    std::fs::set_permissions(house.path("told"), std::fs::Permissions::from_mode(0o600)).unwrap();
    let address = format!("http://127.0.0.1:{port}/notify");
    let event = r#"{"EventName":"s3:ObjectCreated:Put","Records":[{"eventVersion":"2.1","eventName":"ObjectCreated:Put",
        "s3":{"bucket":{"name":"incoming"},"object":{"key":"cup.mp4","size":5}}}]}"#;
    let say = |token: &str, body: &str| {
        let config = ureq::Agent::config_builder().http_status_as_error(false).build();
        let to = ureq::Agent::new_with_config(config).post(&address);
        to.header("authorization", format!("Bearer {token}")).send(body).map(|r| r.status().as_u16())
    };
    let porter = house.start();
    let start = std::time::Instant::now();
    while say("a word between us", event).is_err() {
        assert!(start.elapsed().as_secs() < 30);
        std::thread::sleep(Duration::from_millis(100));
    }
    std::thread::sleep(Duration::from_secs(1));
    std::fs::write(server.root.join("cup.mp4"), clip()).unwrap();
    std::thread::sleep(Duration::from_millis(1500));
    assert!(delivered(&house).is_empty());
    // Who does not know the word, or says nothing that is a notification, is not heard.
    assert_eq!(say("another word", event).unwrap(), 401);
    assert_eq!(say("a word between us", "{\"hello\": 1}").unwrap(), 400);
    assert_eq!(say("a word between us", &"x".repeat(3 << 20)).map_or(413, |s| s), 413);
    std::thread::sleep(Duration::from_millis(1500));
    assert!(delivered(&house).is_empty());
    assert_eq!(say("a word between us", event).unwrap(), 200);
    house.wait_until("is done", |s| s["ended"][0]["state"] == "done");
    drop(porter);
    assert_eq!(delivered(&house), ["cup_proxy.mp4"]);
}

#[test]
fn who_may_say_that_something_came_has_to_know_a_word_where_others_can_reach_it() {
    let from = "address = \"https://s3.example/incoming\"\nprotocol = \"s3\"\ntold_at = ";
    let told = |at: &str| text(&house_from(&format!("{from}{at}"), "").run_once());
    let out = told("\"0.0.0.0:9690\"");
    assert!(out.contains("without a token") && out.contains("told_token_file"), "{out}");
    let out = told("\"here\"");
    assert!(out.contains("an address and a port of this machine"), "{out}");
}
