//! Telling people: by mail to a real mail server, to a web address, through a command; and what happens when nobody is there.

use crate::support::servers;
use crate::support::{self, House, PROGRAM, clip, text};
use rstest::rstest;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use std::sync::{Arc, Mutex};

fn log(house: &House) -> String {
    text(&Command::new(PROGRAM).args(["status", "--json"]).arg(house.path("")).output().unwrap())
        + &text(&Command::new(PROGRAM).args(["log"]).arg("--house").arg(house.path("")).output().unwrap())
}

#[test]
fn one_mail_tells_all_of_a_batch_as_text_and_as_a_page() {
    let Some(server) = servers::mail() else { return };
    let house = House::new();
    house.append(&format!(
        "[[notice]]\nname = \"desk\"\non = [\"done\", \"turned away\"]\ngather = \"1 s\"\n\
         [notice.mail]\nserver = \"127.0.0.1\"\nport = {}\ntls = \"no\"\n\
         from = \"porter@estuary.example\"\nto = [\"desk@estuary.example\", \"night@estuary.example\"]\n",
        server.port
    ));
    house.drop_in("heron.mp4", clip());
    house.drop_in("<b>note & more.txt", b"a poem about the tide, long enough to be no empty file");
    house.run_once();
    // Read by another program's reader of mail.
    let read = "import mailbox,sys,email.policy,email\n\
        for m in mailbox.Maildir(sys.argv[1]):\n\
        \x20 m=email.message_from_bytes(m.as_bytes(), policy=email.policy.default)\n\
        \x20 print(m['from'],m['to'],m['subject'],sep='|')\n\
        \x20 print(m.get_body(('plain',)).get_content())\n\
        \x20 print(m.get_body(('html',)).get_content())";
    let out = Command::new("python3").args(["-c", read]).arg(&server.root).output().unwrap();
    let mail = text(&out);
    assert_eq!(mail.matches("porter@estuary.example|").count(), 1, "{mail}");
    for words in [
        "desk@estuary.example, night@estuary.example|Estuary Hours: 1 done, 1 turned away",
        "DONE  heron.mp4  (watch \"cards\")",
        "editors: heron_proxy.mp4 (read back, checksum verified)",
        "TURNED AWAY  <b>note & more.txt",
        "&lt;b&gt;note &amp; more.txt",
    ] {
        assert!(mail.contains(words), "{words}: {mail}");
    }
    let record =
        Command::new(PROGRAM).args(["history", "--json", "--house"]).arg(house.path("")).output().unwrap();
    assert!(record.status.success());
}

#[test]
fn a_server_that_is_away_gets_it_later_and_once() {
    let Some(mut server) = servers::mail() else { return };
    server.stop();
    let house = House::new();
    house.append(&format!(
        "[[notice]]\nname = \"desk\"\non = [\"done\"]\ngather = \"100 ms\"\n\
         [notice.mail]\nserver = \"127.0.0.1\"\nport = {}\ntls = \"no\"\n\
         from = \"porter@estuary.example\"\nto = [\"desk@estuary.example\"]\n",
        server.port
    ));
    let running = house.start();
    house.drop_in("heron.mp4", clip());
    house.wait_until("done", |s| s["ended"].as_array().unwrap().len() == 1);
    std::thread::sleep(std::time::Duration::from_secs(1));
    running.kill();
    server.go_on();
    let running = house.start();
    let count = || std::fs::read_dir(server.root.join("new")).map_or(0, |d| d.count());
    house.wait_until("told", |_| count() > 0);
    std::thread::sleep(std::time::Duration::from_secs(2));
    running.interrupt();
    // Another run tells nothing twice.
    house.run_once();
    assert_eq!(count(), 1);
}

/// Heads and bodies.
type Got = Arc<Mutex<Vec<(String, String)>>>;

/// A web address that keeps what it gets, and answers as it is told to.
fn web(answers: &'static [u16]) -> (u16, Got) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let got = Got::default();
    let keep = got.clone();
    std::thread::spawn(move || {
        for (n, stream) in listener.incoming().flatten().enumerate() {
            let mut reader = BufReader::new(stream.try_clone().unwrap());
            let (mut head, mut length) = (String::new(), 0);
            loop {
                let mut line = String::new();
                if reader.read_line(&mut line).unwrap_or(0) == 0 || line == "\r\n" {
                    break;
                }
                let (name, value) = line.split_once(':').unwrap_or((line.trim(), ""));
                if name.eq_ignore_ascii_case("content-length") {
                    length = value.trim().parse().unwrap();
                }
                head.push_str(&line.to_lowercase());
            }
            let mut body = vec![0; length];
            reader.read_exact(&mut body).unwrap();
            keep.lock().unwrap().push((head, String::from_utf8(body).unwrap()));
            let status = answers.get(n).or(answers.last()).unwrap();
            let mut stream = stream;
            let _ = write!(
                stream,
                "HTTP/1.1 {status} X\r\nContent-Length: 0\r\nLocation: http://127.0.0.1:9/\r\nConnection: close\r\n\r\n"
            );
        }
    });
    (port, got)
}

#[test]
fn a_web_address_gets_json_with_a_signature_that_another_program_finds_right() {
    let (port, got) = web(&[503, 302, 204]);
    let house = House::new();
    std::fs::write(house.path("hook"), "tide-and-time").unwrap();
    std::fs::set_permissions(house.path("hook"), std::fs::Permissions::from_mode(0o600)).unwrap();
    house.append(&format!(
        "[[notice]]\nname = \"hook\"\non = [\"done\"]\ngather = \"100 ms\"\nwatch = [\"cards\"]\n\
         [notice.webhook]\naddress = \"http://127.0.0.1:{port}/in?key=hidden\"\nsecret_file = \"hook\"\n"
    ));
    let running = house.start();
    house.drop_in("heron.mp4", clip());
    house.wait_until("told at the third try", |_| got.lock().unwrap().len() >= 3);
    std::thread::sleep(std::time::Duration::from_millis(1500));
    running.interrupt();
    let all = got;
    let got = all.lock().unwrap().clone();
    assert_eq!(got.len(), 3, "a redirection is not followed, and what was told is told");
    let (head, body) = &got[2];
    let field = |name: &str| {
        head.lines().find_map(|l| l.strip_prefix(&format!("{name}: "))).unwrap().trim().to_owned()
    };
    let check = "import hmac,hashlib,base64,sys\n\
        m=(sys.argv[1]+'.'+sys.argv[2]+'.').encode()+sys.argv[3].encode()\n\
        print('v1,'+base64.b64encode(hmac.new(b'tide-and-time',m,hashlib.sha256).digest()).decode())";
    let out = Command::new("python3")
        .args(["-c", check, &field("webhook-id"), &field("webhook-timestamp"), body])
        .output()
        .unwrap();
    assert_eq!(text(&out).trim().to_lowercase(), field("webhook-signature"));
    assert_eq!(got[0].1, got[2].1, "the same message, word for word");
    let message: serde_json::Value = serde_json::from_str(body).unwrap();
    let published = support::published("notice.json", &["notice", "--schema"]);
    assert!(jsonschema::is_valid(&published, &message));
    let tried =
        Command::new(PROGRAM).args(["notice", "hook", "--house"]).arg(house.path("")).output().unwrap();
    assert!(tried.status.success() && text(&tried).contains("was sent"), "{}", text(&tried));
    assert_eq!(message["events"][0]["delivered"][0]["name"], "heron_proxy.mp4");
    assert_eq!(message["summary"], "1 done");
    let log = log(&house);
    assert!(!log.contains("hidden"), "an address may hold a secret");
    for words in ["notice not sent", "hook: 1 events", "delivered", "job 1"] {
        assert!(log.contains(words), "{words}: {log}");
    }
}

#[rstest]
#[case("on = [\"finished\"]\ncommand = [\"true\"]", "done, turned away")]
#[case("on = [\"done\"]", "one of [notice.mail]")]
#[case("on = [\"done\"]\ncommand = []", "a program and its arguments")]
#[case("on = [\"done\"]\ncommand = [\"true\"]\ndaily = \"7 o'clock\"", "07:30")]
#[case("on = [\"done\"]\ncommand = [\"true\"]\nwatch = [\"card\"]", "cards")]
#[case("on = [\"done\"]\n[notice.webhook]\naddress = \"nas\"", "a whole address")]
#[case("on = [\"done\"]\n[notice.mail]\nserver = \"m\"\nfrom = \"porter\"\nto = [\"a@b\"]", "a mail address")]
#[case(
    "on = [\"done\"]\n[notice.mail]\nserver = \"m\"\nfrom = \"a@b\"\nto = [\"a@b\"]\ntls = \"no\"\nuser = \"u\"\npassword_env = \"P\"",
    "in the clear"
)]
fn a_false_notice_says_what_is_right(#[case] lines: &str, #[case] wanted: &str) {
    let house = House::new();
    house.append(&format!("[[notice]]\nname = \"n\"\n{lines}\n"));
    let out = Command::new(PROGRAM).arg("check").arg(house.path("")).output().unwrap();
    assert!(!out.status.success() && text(&out).contains(wanted), "{}", text(&out));
}

#[test]
fn a_command_that_hangs_keeps_no_job_waiting() {
    let house = House::new();
    house.append(
        "[[notice]]\nname = \"bell\"\non = [\"done\", \"watch lost\", \"configuration refused\"]\ngather = \"100 ms\"\n\
         command = [\"/bin/sh\", \"-c\", \"cat >>told; sleep 100\"]\n",
    );
    let mut c = Command::new(PROGRAM);
    c.arg("run").arg(house.path("")).current_dir(house.path("")).stdout(std::process::Stdio::null());
    let running = support::Running(c.spawn().unwrap());
    house.drop_in("heron.mp4", clip());
    house.wait_until("told", |_| {
        std::fs::read_to_string(house.path("told")).is_ok_and(|t| t.contains("heron"))
    });
    house.drop_in("otter.mp4", clip());
    house.wait_until("both done", |s| s["ended"].as_array().unwrap().len() == 2);
    let start = std::time::Instant::now();
    running.interrupt();
    assert!(start.elapsed() < std::time::Duration::from_secs(10), "a stop does not wait for it");
}

#[test]
fn little_room_is_told_once_and_so_is_room_again() {
    let house = House::new();
    house.reconfigure("retry_after =", "disk_low = \"900 TB\"\nretry_after =");
    let told = house.path("told");
    let script = house.path("tell");
    std::fs::write(&script, format!("#!/bin/sh\necho \"$1\" >> {}\n", told.display())).unwrap();
    std::fs::set_permissions(&script, std::fs::Permissions::from_mode(0o755)).unwrap();
    house.append(&format!(
        "[[notice]]\nname = \"desk\"\non = [\"disk low\", \"room again\"]\ngather = \"100 ms\"\n\
         command = [\"{}\", \"{{summary}}\"]\n",
        script.display()
    ));
    let running = house.start();
    let said = || std::fs::read_to_string(&told).unwrap_or_default();
    let start = std::time::Instant::now();
    while said().is_empty() && start.elapsed().as_secs() < 20 {
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    std::thread::sleep(std::time::Duration::from_millis(2500));
    assert_eq!(said(), "1 disk low\n");
    house.reconfigure("900 TB", "1 kB");
    while said().lines().count() < 2 && start.elapsed().as_secs() < 40 {
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    assert_eq!(said(), "1 disk low\n1 room again\n");
    drop(running);
    assert_eq!(log(&house).matches("disk low").count(), 1);
}

/// A rule's own notice: what that rule made, with what was said in it, and nothing of others.
#[test]
fn a_notice_can_be_of_one_rule_with_a_summary() {
    let house = House::new();
    let kept = house.path("told.json");
    let hook = house.path("hook");
    std::fs::write(&hook, format!("#!/bin/sh\ncat >> '{}'\n", kept.display())).unwrap();
    std::fs::set_permissions(&hook, std::fs::Permissions::from_mode(0o755)).unwrap();
    house.append(&format!(
        "[[preset]]\nname = \"words\"\n[preset.transcript]\nas = [\"txt\"]\n\
         [[rule]]\nname = \"interviews\"\nwhen = 'folder == \"interviews\"'\n\
         make = [{{ preset = \"words\", name = \"{{stem}}\", to = [\"editors\"] }}]\n\
         [[notice]]\nname = \"desk\"\non = [\"done\"]\nrule = [\"interviews\"]\nsummary = true\ngather = \"1 s\"\n\
         command = ['{}']\n",
        hook.display()
    ));
    house.drop_in("cup.mp4", clip());
    std::fs::create_dir(house.path("in/interviews")).unwrap();
    let voice = concat!(env!("CARGO_MANIFEST_DIR"), "/../../models/speech-en/samples/austen-0930.wav");
    house.drop_in("interviews/tide.wav", &std::fs::read(voice).unwrap());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let told: serde_json::Value = serde_json::from_slice(&std::fs::read(&kept).unwrap()).unwrap();
    let events = told["events"].as_array().unwrap();
    assert_eq!(events.len(), 1, "{told:#}");
    assert_eq!(events[0]["path"], "interviews/tide.wav");
    // Of the outputs only those of the rule; the other rule made a proxy or nothing of it.
    let names: Vec<&str> =
        events[0]["delivered"].as_array().unwrap().iter().map(|d| d["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["tide.txt"], "{told:#}");
    let said = events[0]["summary"].as_array().unwrap();
    assert!(!said.is_empty() && said[0]["text"].as_str().unwrap().split(' ').count() > 3, "{told:#}");
    let wrong = house.path("deft-porter.toml");
    let text_of =
        std::fs::read_to_string(&wrong).unwrap().replace("rule = [\"interviews\"]", "rule = [\"interview\"]");
    std::fs::write(&wrong, text_of).unwrap();
    let out = Command::new(PROGRAM).arg("check").arg(house.path("")).output().unwrap();
    assert!(text(&out).contains("the name of a rule"), "{}", text(&out));
}
