//! The built program and each kind of place, on servers of others: killed at any moment, the server killed and started again
//! while bytes flow, a disk there that is full, certificates that count no more. What was made arrives whole, once.
//!
//! A test run kills a few times; MOMENTS=50 as often for each kind of place.

use crate::support::servers::{self, Server};
use crate::support::{self, House, PROGRAM, StandIn, clip, family_of, is_alive, make_clip, text};
use media::testkit::Clip;
use porter::deliver::remote::Protocol;
use porter::deliver::{Remote, Remotes, Trouble};
use porter::services::Login;
use rstest::rstest;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

#[derive(Clone, Copy, PartialEq, Debug)]
enum Kind {
    Sftp,
    Ftp,
    WebDav,
    Objects,
    Uploads,
    Platform,
}

/// The other end.
struct Far {
    kind: Kind,
    server: Option<Server>,
    platform: Option<StandIn>,
    /// What the platform keeps, and secrets.
    own: tempfile::TempDir,
    port: u16,
}

impl Far {
    /// `None` where its server is not installed.
    fn start(kind: Kind) -> Option<Far> {
        let server = match kind {
            Kind::Sftp => Some(servers::ssh()?),
            Kind::Ftp => Some(servers::ftp(false)?),
            Kind::WebDav => Some(servers::webdav()?),
            Kind::Objects => Some(servers::s3()?),
            Kind::Uploads => Some(servers::tus()?),
            Kind::Platform => None,
        };
        let port = server.as_ref().map_or_else(servers::free_port, |s| s.port);
        let own = tempfile::tempdir().unwrap();
        let secret = own.path().join("secret");
        std::fs::write(&secret, "tide-and-time").unwrap();
        std::fs::set_permissions(&secret, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
        let mut far = Far { kind, server, platform: None, own, port };
        if kind == Kind::Platform {
            far.go_on();
        }
        Some(far)
    }

    fn stop(&mut self) {
        self.platform = None;
        if let Some(server) = &mut self.server {
            server.stop();
        }
    }

    fn go_on(&mut self) {
        match &mut self.server {
            Some(server) => server.go_on(),
            None => {
                let keep = self.own.path().join("platform");
                let port = self.port.to_string();
                let args = ["platform", "--port", &port, "--keep", keep.to_str().unwrap()];
                self.platform = Some(StandIn::start(&args));
            }
        }
    }

    /// As a house has it.
    fn place(&self) -> String {
        let port = self.port;
        let secret = self.own.path().join("secret");
        let login = format!("user = \"anna\"\npassword_file = \"{}\"", secret.display());
        let server = || self.server.as_ref().unwrap();
        let how = match self.kind {
            Kind::Sftp => format!(
                "address = \"sftp://127.0.0.1:{port}{}\"\nuser = \"{}\"\nkey_file = \"{}\"\nknown_hosts = \"{}\"",
                server().root.display(),
                servers::me(),
                server().file("user").display(),
                server().file("known").display()
            ),
            Kind::Ftp => format!("address = \"ftp://127.0.0.1:{port}\"\n{login}"),
            Kind::WebDav => format!("address = \"http://127.0.0.1:{port}\"\nprotocol = \"webdav\""),
            Kind::Objects => {
                format!("address = \"http://127.0.0.1:{port}/out\"\nprotocol = \"s3\"\n{login}")
            }
            Kind::Uploads => format!("address = \"http://127.0.0.1:{port}/files\"\nprotocol = \"tus\""),
            Kind::Platform => {
                let address = &self.platform.as_ref().unwrap().address;
                format!("address = \"{address}\"\nprotocol = \"publish\"")
            }
        };
        format!("[[place]]\nname = \"far\"\ntimeout = \"5 s\"\n{how}\n")
    }

    /// What stands there under final names, and nothing else stands there: what it holds, in some order.
    fn there(&self) -> Vec<Vec<u8>> {
        let mut all = match self.kind {
            Kind::Objects => servers::objects(self.port),
            Kind::Platform => servers::published(&self.own.path().join("platform")),
            kind => {
                let root = self.server.as_ref().unwrap().seen();
                // Beside an upload lies what is known of it; one whose address was not recorded yet when the porter was
                // killed stays empty, until the server forgets it.
                let is_file = |p: &PathBuf| kind != Kind::Uploads || p.extension().is_none();
                let all = files(&root).into_iter().filter(is_file).map(|p| std::fs::read(p).unwrap());
                all.filter(|bytes| kind != Kind::Uploads || !bytes.is_empty()).collect()
            }
        };
        all.sort();
        all
    }
}

fn files(root: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(root).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() { all.extend(files(&path)) } else { all.push(path) }
    }
    all
}

/// One that delivers its proxies here and there.
fn house(far: &Far, more: &str) -> House {
    let house = House::new();
    house.append(&(far.place() + more));
    let fields = if far.kind == Kind::Platform { ", item = { title = \"{stem}\" }" } else { "" };
    house.reconfigure(
        "to = [\"editors\"] }]\n\n[[rule]]",
        &format!("to = [\"editors\", \"far\"]{fields} }}]\n\n[[rule]]"),
    );
    house
}

/// The same film with other bytes.
fn film(n: u32) -> Vec<u8> {
    let mut bytes = clip().to_vec();
    bytes.extend_from_slice(&[0, 0, 0, 12]);
    bytes.extend_from_slice(b"free");
    bytes.extend_from_slice(&n.to_be_bytes());
    bytes
}

/// What is here is there, each once, and it was delivered so many times.
fn judge(house: &House, far: &Far, many: usize, after: &str) {
    let mut here: Vec<Vec<u8>> =
        files(&house.path("out")).iter().map(|p| std::fs::read(p).unwrap()).collect();
    here.sort();
    let there = far.there();
    let sizes = |all: &[Vec<u8>]| all.iter().map(Vec::len).collect::<Vec<_>>();
    assert_eq!(here.len(), many, "{after}");
    assert!(here == there, "{after}: {:?} here, {:?} there", sizes(&here), sizes(&there));
    let status = house.status();
    let ended = status["ended"].as_array().unwrap();
    assert!(ended.iter().all(|j| j["state"] == "done"), "{after}: {status:#}");
}

#[rstest]
fn a_kill_at_any_moment_delivers_once(
    #[values(Kind::Sftp, Kind::Ftp, Kind::WebDav, Kind::Objects, Kind::Uploads, Kind::Platform)] kind: Kind,
) {
    let Some(far) = Far::start(kind) else { return };
    let house = house(&far, "");
    let many: usize = std::env::var("MOMENTS").ok().and_then(|n| n.parse().ok()).unwrap_or(2);
    house.drop_in("clip 0.mp4", &film(0));
    let start = Instant::now();
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let whole = start.elapsed();
    judge(&house, &far, 1, "not killed");
    let mut kills = 0;
    for n in 1..=many {
        house.drop_in(format!("clip {n}.mp4"), &film(n as u32));
        // From where something is made to where all is over, which is sooner than the first time.
        let at = 0.3 + 0.5 * (n as f64 * 0.618_033_988_75).fract();
        let mut c = Command::new(PROGRAM);
        c.args(["run", "--once"]).arg(house.path("")).stdout(Stdio::null()).stderr(Stdio::null());
        let mut porter = c.spawn().unwrap();
        std::thread::sleep(whole.mul_f64(at));
        let was_there = porter.try_wait().unwrap().is_none();
        let family = family_of(porter.id());
        porter.kill().unwrap();
        porter.wait().unwrap();
        kills += usize::from(was_there);
        let start = Instant::now();
        while family.iter().any(|pid| is_alive(*pid)) {
            assert!(start.elapsed() < Duration::from_secs(10), "children outlive the porter");
            std::thread::sleep(Duration::from_millis(5));
        }
        let out = house.run_once();
        assert!(out.status.success(), "killed after {at:.3} of a run: {}", text(&out));
        judge(&house, &far, n + 1, &format!("killed after {at:.3} of a run"));
    }
    println!("{kind:?}: {kills} kills, each film there once");
}

/// Long enough to be on its way for a while.
fn long_film() -> Vec<u8> {
    make_clip(&Clip { frames: 250, width: 640, height: 360, ..Clip::default() })
}

#[rstest]
fn a_server_that_is_killed_while_bytes_flow_has_it_once(
    #[values(Kind::Sftp, Kind::Ftp, Kind::WebDav, Kind::Objects, Kind::Uploads, Kind::Platform)] kind: Kind,
) {
    let Some(mut far) = Far::start(kind) else { return };
    let house = house(&far, "pace = \"800 kB/s\"\n");
    house.reconfigure("fit = \"160x90\"", "fit = \"320x180\"\nbitrate = \"2 Mbit/s\"");
    house.drop_in("heron.mp4", &long_film());
    let porter = house.start();
    house.wait_until("is delivered here", |_| house.list("out").iter().any(|n| n == "heron_proxy.mp4"));
    std::thread::sleep(Duration::from_millis(700));
    far.stop();
    house.wait_until("is the place away", |s| s.to_string().contains("refused"));
    far.go_on();
    house.wait_until("is done", |s| s["ended"].as_array().is_some_and(|e| e.len() == 1));
    porter.interrupt();
    judge(&house, &far, 1, "its server was killed");
}

#[rstest]
fn a_disk_that_is_full_there_is_waited_for(
    #[values(Kind::Sftp, Kind::Ftp, Kind::WebDav, Kind::Uploads)] kind: Kind,
) {
    let Some(mut far) = Far::start(kind) else { return };
    let Some(server) = far.server.take().unwrap().on_a_disk_of("600k") else { return };
    far.server = Some(server);
    let house = house(&far, "");
    house.reconfigure("fit = \"160x90\"", "fit = \"320x180\"\nbitrate = \"2 Mbit/s\"");
    house.drop_in("heron.mp4", &long_film());
    let porter = house.start();
    let waits = house.wait_until("does it say why it waits", |s| {
        s["open"][0]["held"].as_str().is_some_and(|why| !why.is_empty())
    });
    let why = waits["open"][0]["held"].as_str().unwrap();
    println!("{kind:?}: {why}");
    assert!(house.path("in/heron.mp4").exists(), "the original stays: {why}");
    far.server.as_ref().unwrap().grow("90m");
    house.wait_until("is done", |s| s["ended"].as_array().is_some_and(|e| e.len() == 1));
    porter.interrupt();
    judge(&house, &far, 1, "the disk there was full");
}

fn remote(protocol: Protocol, scheme: &str, port: u16, trusted: PathBuf) -> Remote {
    Remote {
        protocol,
        address: format!("{scheme}://127.0.0.1:{port}/in"),
        host: "127.0.0.1".into(),
        port,
        base: "/in".into(),
        tls: true,
        login: Login::None,
        key: None,
        known_hosts: None,
        host_key: None,
        certificates: Some(trusted),
        timeout: Duration::from_secs(5),
        region: "us-east-1".into(),
        storage_class: None,
        link: None,
    }
}

fn is_expired(remote: &Remote) {
    let all = Arc::<Remotes>::default();
    let trouble = all.open(remote).and_then(|place| place.look()).unwrap_err();
    let Trouble::Refused(why) = &trouble else { panic!("{trouble:?}") };
    assert!(why.to_lowercase().contains("expired"), "{why}");
}

#[test]
fn a_certificate_that_counts_no_more_is_a_persons_business() {
    let Some(server) = servers::ftp_with(Some("-1")) else { return };
    is_expired(&remote(Protocol::Ftp, "ftps", server.port, server.file("ca.pem")));
    // Another's TLS in front of what speaks HTTP.
    let dir = tempfile::tempdir().unwrap();
    servers::certify(dir.path(), "-1");
    let port = servers::free_port();
    let mut c = Command::new("openssl");
    c.args([
        "s_server",
        "-quiet",
        "-www",
        "-accept",
        &port.to_string(),
        "-cert",
        "tls.pem",
        "-key",
        "tls.key",
    ]);
    c.current_dir(dir.path()).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let _server = support::Running(c.spawn().unwrap());
    let start = Instant::now();
    while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
        assert!(start.elapsed() < Duration::from_secs(20), "no server");
        std::thread::sleep(Duration::from_millis(30));
    }
    for protocol in [Protocol::WebDav, Protocol::Tus, Protocol::Publish] {
        is_expired(&remote(protocol, "https", port, dir.path().join("ca.pem")));
    }
}
