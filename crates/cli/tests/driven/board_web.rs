//! The board in a browser: what it shows, who may give orders, and who is not answered at all.

use crate::support::{self, House, PROGRAM, clip};
use rstest::rstest;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

struct Board {
    child: Child,
    host: String,
    token: Option<String>,
}

impl Board {
    fn start(house: &House, args: &[&str]) -> Board {
        let mut c = Command::new(PROGRAM);
        c.args(["board", "--web", "--listen", "0", "--house"]).arg(house.path(""));
        let mut child = c.args(args).stdout(Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
        let address = line.trim().rsplit(' ').next().unwrap().strip_prefix("http://").unwrap().to_owned();
        let (host, rest) = address.split_once('/').unwrap();
        let token = rest.strip_prefix("#token=").map(String::from);
        Board { child, host: host.into(), token }
    }

    /// Status and body of a request as it stands here.
    fn say(&self, request: &str) -> (u16, String) {
        let mut s = TcpStream::connect(&self.host).unwrap();
        s.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        s.write_all(request.as_bytes()).unwrap();
        let mut text = String::new();
        let _ = s.read_to_string(&mut text);
        let status = text.split(' ').nth(1).and_then(|n| n.parse().ok()).unwrap_or(0);
        (status, text)
    }

    fn get(&self, path: &str) -> (u16, String) {
        self.say(&format!("GET {path} HTTP/1.1\r\nHost: {}\r\nConnection: close\r\n\r\n", self.host))
    }

    fn order(&self, body: &str, token: &str, more: &str) -> (u16, String) {
        let token = format!("Authorization: Bearer {token}\r\n");
        self.say(&format!(
            "POST /order HTTP/1.1\r\nHost: {}\r\n{token}{more}Content-Length: {}\r\nConnection: close\r\n\r\n{body}",
            self.host,
            body.len()
        ))
    }
}

impl Drop for Board {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn it_shows_what_status_shows_and_tells_of_changes() {
    let house = House::new();
    let board = Board::start(&house, &[]);
    let (status, page) = board.get("/");
    assert!(status == 200 && page.contains("<title>Deft Porter board</title>"), "{page}");
    assert!(page.contains("default-src 'none'") && page.contains("frame-ancestors 'none'"), "{page}");
    assert!(!page.contains("https://") && !page.contains("src=\""), "nothing from outside");
    // Whoever watches is told of a job that comes and goes.
    let mut feed = TcpStream::connect(&board.host).unwrap();
    feed.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    write!(feed, "GET /events HTTP/1.1\r\nHost: {}\r\n\r\n", board.host).unwrap();
    house.drop_in("tide.mp4", clip());
    house.run_once();
    let mut lines = BufReader::new(feed).lines();
    let told =
        lines.by_ref().map_while(Result::ok).find(|l| l.starts_with("data: ") && l.contains("delivered"));
    assert!(told.is_some_and(|l| l.contains("tide.mp4")));
    let (_, text) = board.get("/status");
    let json: serde_json::Value = serde_json::from_str(text.split_once("\r\n\r\n").unwrap().1).unwrap();
    assert_eq!(json["ended"][0]["path"], "tide.mp4");
    let job = json["ended"][0]["job"].as_i64().unwrap();
    let (status, text) = board.get(&format!("/job/{job}"));
    assert!(status == 200 && text.contains("\"events\"") && text.contains("tide_proxy.mp4"), "{text}");
    assert_eq!(board.get("/job/999").0, 404);
    assert_eq!(board.get("/../deft-porter.toml").0, 404);
}

#[test]
fn orders_need_the_token_and_come_from_this_machine_only() {
    let house = House::new();
    house.drop_in("tide.mp4", clip());
    house.run_once();
    let job = house.status()["ended"][0]["job"].as_i64().unwrap();
    let again = format!("{{\"again\":{{\"jobs\":[{job}]}}}}");
    let board = Board::start(&house, &["--control"]);
    let token = board.token.clone().unwrap();
    assert_eq!(token.len(), 32);
    for (wrong, more) in [("", ""), ("0123456789abcdef0123456789abcdef", ""), (&token[..31], "")] {
        assert_eq!(board.order(&again, wrong, more).0, 401);
    }
    assert_eq!(board.order(&again, &token, "Origin: http://estuary.example\r\n").0, 403);
    assert_eq!(board.order(&again, &token, "Origin: null\r\n").0, 403);
    assert_eq!(board.order("{\"burn\":{}}", &token, "").0, 400);
    assert_eq!(board.order(&"x".repeat(100_000), &token, "").0, 413);
    // An order that cannot be done says why.
    assert_eq!(board.order("{\"hold\":{\"jobs\":[999]}}", &token, "").0, 409);
    let running = house.start();
    house.wait_until("the porter works", |s| s["running"] == true);
    let (status, said) = board.order("\"pause\"", &token, "");
    assert_eq!((status, house.status()["paused"] == true), (200, true), "{said}");
    let (status, said) = board.order("\"resume\"", &token, "Origin: http://localhost:1\r\n");
    assert_eq!((status, house.status()["paused"] == true), (403, true), "{said}");
    assert_eq!(board.order("\"resume\"", &token, "").0, 200);
    assert!(house.status()["paused"] == false);
    running.interrupt();
}

#[rstest]
#[case("estuary.example")]
#[case("127.0.0.1")]
#[case("127.0.0.1:1")]
#[case("")]
fn a_name_that_is_not_this_machine_is_not_answered(#[case] host: &str) {
    let house = House::new();
    let board = Board::start(&house, &[]);
    let (status, text) =
        board.say(&format!("GET /status HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n"));
    assert!(matches!(status, 400 | 403) && !text.contains("Estuary Hours"), "{text}");
}

#[test]
fn a_board_for_reading_takes_no_orders() {
    let house = House::new();
    let board = Board::start(&house, &[]);
    assert!(board.token.is_none());
    let (status, text) = board.order("\"pause\"", "x", "");
    assert!(status == 403 && text.contains("--control"), "{text}");
    let out = Command::new(PROGRAM)
        .args(["board", "--web", "--listen", "0.0.0.0:0", "--house"])
        .arg(house.path(""))
        .output()
        .unwrap();
    assert!(
        !out.status.success() && support::text(&out).contains("this machine alone"),
        "{}",
        support::text(&out)
    );
}

/// A browser that is not ours draws it.
#[test]
fn a_browser_draws_it() {
    if Command::new("chromium").arg("--version").output().is_err() {
        return support::skipped("chromium is not installed");
    }
    let house = House::new();
    house.drop_in("tide & <b>ebb.mp4", clip());
    house.run_once();
    let board = Board::start(&house, &["--control"]);
    let address = format!("http://{}/#token={}", board.host, board.token.as_ref().unwrap());
    let profile = tempfile::tempdir().unwrap();
    let began = Instant::now();
    // The feed never ends, so that the page is dumped after a time.
    let out = Command::new("timeout")
        .args([
            "60",
            "chromium",
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--dump-dom",
            "--timeout=4000",
        ])
        .arg(format!("--user-data-dir={}", profile.path().display()))
        .arg(&address)
        .output()
        .unwrap();
    let dom = String::from_utf8_lossy(&out.stdout);
    assert!(dom.contains("tide &amp; &lt;b&gt;ebb.mp4"), "{:?}: {dom}", began.elapsed());
    assert!(dom.contains("no porter is running") && dom.contains("Again"), "{dom}");
}
