//! Places of a network, on servers of others: the contract of all places, lines that break, servers that are gone, keys
//! that are wrong; and a whole house that delivers there.

use crate::support::servers::{self, Cutter, Server};
use crate::support::{self, House, StandIn, text};
use porter::deliver::contract::{self, Fresh};
use porter::deliver::remote::Protocol;
use porter::deliver::{Cargo, Place, Proof, Published, Remote, Remotes, Trouble, Whose};
use porter::files::{Quiet, copy};
use porter::services::{Login, Secret};
use porter::store::MadeFile;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

/// A file that holds a secret.
fn secret(server: &Server, text: &str) -> Secret {
    let path = server.file(&format!("secret-{text}"));
    std::fs::write(&path, text).unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
    Secret::File(path)
}

fn remote(protocol: Protocol, scheme: &str, port: u16, base: &str, login: Login) -> Remote {
    Remote {
        protocol,
        address: format!("{scheme}://127.0.0.1:{port}{base}"),
        host: "127.0.0.1".into(),
        port,
        base: base.into(),
        tls: matches!(scheme, "https" | "ftps"),
        login,
        key: None,
        known_hosts: None,
        host_key: None,
        certificates: None,
        timeout: Duration::from_secs(5),
        region: "us-east-1".into(),
        storage_class: None,
        link: None,
    }
}

fn sftp(server: &Server) -> Remote {
    let base = server.root.display().to_string();
    let remote = remote(Protocol::Sftp, "sftp", server.port, &base, Login::User(servers::me()));
    Remote { key: Some(server.file("user")), known_hosts: Some(server.file("known")), ..remote }
}

fn password(server: &Server, text: &str) -> Login {
    Login::Password { user: "anna".into(), password: secret(server, text) }
}

fn open(remote: &Remote) -> Result<Box<dyn Place>, Trouble> {
    Arc::<Remotes>::default().open(remote)
}

/// A place in a folder of its own on a server.
fn fresh(remote: &Remote, make: impl Fn(&Path)) -> Fresh {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    let own = format!("{}/place {}", remote.base, NEXT.fetch_add(1, Ordering::Relaxed));
    make(Path::new(&own));
    let place = open(&Remote { base: own, ..remote.clone() }).expect("the server is there");
    (Box::new(()), place)
}

fn make_below(root: &Path) -> impl Fn(&Path) {
    let root = root.to_owned();
    move |at| std::fs::create_dir_all(root.join(at.strip_prefix("/").unwrap())).unwrap()
}

#[test]
fn sftp_keeps_the_contract() {
    let Some(server) = servers::ssh() else { return };
    let remote = sftp(&server);
    contract::all(&|| fresh(&remote, |at| std::fs::create_dir_all(at).unwrap()));
}

#[test]
fn ftp_keeps_the_contract() {
    let Some(server) = servers::ftp(false) else { return };
    let remote = remote(Protocol::Ftp, "ftp", server.port, "", password(&server, "tide-and-time"));
    contract::all(&|| fresh(&remote, make_below(&server.root)));
}

#[test]
fn ftps_keeps_the_contract_and_needs_the_right_certificate() {
    let Some(server) = servers::ftp(true) else { return };
    let plain = remote(Protocol::Ftp, "ftps", server.port, "", password(&server, "tide-and-time"));
    let remote = Remote { certificates: Some(server.file("ca.pem")), ..plain.clone() };
    contract::all(&|| fresh(&remote, make_below(&server.root)));
    let trouble = open(&plain).err().unwrap();
    assert!(matches!(&trouble, Trouble::Refused(why) if why.contains("certificate")), "{trouble:?}");
}

#[test]
fn webdav_keeps_the_contract() {
    let Some(server) = servers::webdav() else { return };
    let remote = remote(Protocol::WebDav, "http", server.port, "", Login::None);
    contract::all(&|| fresh(&remote, make_below(&server.root)));
}

fn s3(server: &Server) -> Remote {
    let login = password(server, "tide-and-time");
    remote(Protocol::S3, "http", server.port, "/out", login)
}

#[test]
fn object_storage_keeps_the_contract() {
    let Some(server) = servers::s3() else { return };
    let remote = s3(&server);
    contract::all(&|| fresh(&remote, |_| ()));
    // A secret that is wrong, a bucket that is not there.
    let wrong = Remote { login: password(&server, "another"), ..remote.clone() };
    let trouble = open(&wrong).unwrap().look().unwrap_err();
    assert!(
        matches!(trouble, Trouble::Refused(_)) && !trouble.to_string().contains("another"),
        "{trouble:?}"
    );
    let gone = Remote { base: "/nowhere".into(), ..remote.clone() };
    assert!(open(&gone).unwrap().has("a").is_err() || open(&gone).unwrap().look().is_err());
    parts(&remote);
    large_files_of_many(&remote);
}

/// A folder with a file that is sent in parts: what is whole of it is not sent again.
fn large_files_of_many(remote: &Remote) {
    let work = tempfile::tempdir().unwrap();
    let mut cargo = contract::many_files(work.path());
    let long: Vec<u8> = (0..70_000_000u32).map(|n| (n % 241) as u8).collect();
    std::fs::write(cargo.path.join("long.mov"), &long).unwrap();
    let digest = copy::digest(&cargo.path.join("long.mov"), false).unwrap();
    cargo.files.push(MadeFile { inside: "long.mov".into(), bytes: 70_000_000, digest, ours: false });
    let cutter = Cutter::before(remote.port);
    let place = open(&Remote { port: cutter.port, ..remote.clone() }).unwrap();
    let ticket = place.prepare(&cargo, "card", &place.begin("h-9").unwrap()).unwrap();
    cutter.cut_after(40_000_000);
    let trouble = place.stage(&cargo, "card", &ticket, &Quiet).unwrap_err();
    assert!(matches!(trouble, Trouble::Away(_)), "{trouble:?}");
    cutter.cut_after(i64::MAX);
    assert_eq!(place.whose("card", &ticket, &cargo).unwrap(), Whose::Nothing);
    assert_eq!(place.stage(&cargo, "card", &ticket, &Quiet).unwrap(), Proof::Checksum);
    // All of it is there: hardly anything is sent once more.
    cutter.cut_after(1_000_000);
    assert_eq!(place.stage(&cargo, "card", &ticket, &Quiet).unwrap(), Proof::Checksum);
    cutter.cut_after(i64::MAX);
    // Made anew, as long as before: what is staged of the first is not taken for it.
    let anew: Vec<u8> = (0..70_000_000u32).map(|n| (n % 239) as u8).collect();
    std::fs::write(cargo.path.join("long.mov"), &anew).unwrap();
    let digest = copy::digest(&cargo.path.join("long.mov"), false).unwrap();
    cargo.files.last_mut().unwrap().digest = digest;
    cutter.cut_after(1_000_000);
    assert!(place.stage(&cargo, "card", &ticket, &Quiet).is_err(), "it has to be sent");
    cutter.cut_after(i64::MAX);
    place.stage(&cargo, "card", &ticket, &Quiet).unwrap();
    assert_eq!(place.publish(&ticket, "card").unwrap(), Published::Done);
    assert_eq!(place.whose("card", &ticket, &cargo).unwrap(), Whose::Ours);
}

/// A file of several parts goes on where it broke off.
fn parts(remote: &Remote) {
    let work = tempfile::tempdir().unwrap();
    let content: Vec<u8> = (0..20_000_000u32).map(|n| (n % 241) as u8).collect();
    let cargo = contract::one_file(work.path(), &content);
    let cutter = Cutter::before(remote.port);
    let through = Remote { port: cutter.port, ..remote.clone() };
    let place = open(&through).unwrap();
    let ticket = place.prepare(&cargo, "long.mp4", &place.begin("h-1").unwrap()).unwrap();
    cutter.cut_after(12_000_000);
    let trouble = place.stage(&cargo, "long.mp4", &ticket, &Quiet).unwrap_err();
    assert!(matches!(trouble, Trouble::Away(_)), "{trouble:?}");
    // What is left is less than the whole.
    cutter.cut_after(13_500_000);
    assert_eq!(place.prepare(&cargo, "long.mp4", &ticket).unwrap(), ticket);
    assert_eq!(place.stage(&cargo, "long.mp4", &ticket, &Quiet).unwrap(), Proof::Checksum);
    assert_eq!(place.publish(&ticket, "long.mp4").unwrap(), Published::Done);
    assert_eq!(cutter.cut.load(Ordering::SeqCst), 1);
    assert_eq!(place.whose("long.mp4", &ticket, &cargo).unwrap(), Whose::Ours);
    cutter.cut_after(i64::MAX);
    // Made anew and shorter: parts of the longer one do not come along.
    let begun = place.prepare(&cargo, "short.mp4", &place.begin("h-2").unwrap()).unwrap();
    place.stage(&cargo, "short.mp4", &begun, &Quiet).unwrap();
    let anew = tempfile::tempdir().unwrap();
    let short = contract::one_file(anew.path(), &content[..9_000_000]);
    let begun = place.prepare(&short, "short.mp4", &begun).unwrap();
    assert!(matches!(place.stage(&short, "short.mp4", &begun, &Quiet), Err(Trouble::Away(_))));
    let fresh = place.prepare(&short, "short.mp4", &begun).unwrap();
    assert_ne!(fresh, begun);
    place.stage(&short, "short.mp4", &fresh, &Quiet).unwrap();
    assert_eq!(place.publish(&fresh, "short.mp4").unwrap(), Published::Done);
    assert_eq!(place.whose("short.mp4", &fresh, &short).unwrap(), Whose::Ours);
}

#[test]
fn an_upload_goes_on_and_is_there_once() {
    let Some(server) = servers::tus() else { return };
    let cutter = Cutter::before(server.port);
    let remote = remote(Protocol::Tus, "http", cutter.port, "/files", Login::None);
    let place = open(&remote).unwrap();
    place.look().unwrap();
    let work = tempfile::tempdir().unwrap();
    let content: Vec<u8> = (0..20_000_000u32).map(|n| (n % 239) as u8).collect();
    let cargo = contract::one_file(work.path(), &content);
    let mut ticket = place.begin("h-1").unwrap();
    for after in [3_000_000, 9_000_000] {
        ticket = place.prepare(&cargo, "day 1/clip.mp4", &ticket).unwrap();
        cutter.cut_after(after);
        let trouble = place.stage(&cargo, "day 1/clip.mp4", &ticket, &Quiet).unwrap_err();
        assert!(matches!(trouble, Trouble::Away(_)), "{trouble:?}");
        assert_eq!(place.whose("day 1/clip.mp4", &ticket, &cargo).unwrap(), Whose::Nothing);
    }
    assert_eq!(place.prepare(&cargo, "day 1/clip.mp4", &ticket).unwrap(), ticket, "the same upload");
    assert_eq!(place.stage(&cargo, "day 1/clip.mp4", &ticket, &Quiet).unwrap(), Proof::Counted);
    assert_eq!(place.whose("day 1/clip.mp4", &ticket, &cargo).unwrap(), Whose::Ours);
    let there: Vec<PathBuf> = files(&server.root).into_iter().filter(|p| p.extension().is_none()).collect();
    assert_eq!(there.len(), 1);
    assert_eq!(std::fs::read(&there[0]).unwrap(), content);
    // Made anew, and another file of the same length: what was begun of the first is not gone on with.
    let begun = place.prepare(&cargo, "y", &place.begin("h-4").unwrap()).unwrap();
    cutter.cut_after(9_000_000);
    place.stage(&cargo, "y", &begun, &Quiet).unwrap_err();
    let other: Vec<u8> = content.iter().map(|b| b ^ 1).collect();
    let anew = tempfile::tempdir().unwrap();
    let other = contract::one_file(anew.path(), &other);
    let fresh = place.prepare(&other, "y", &begun).unwrap();
    assert_ne!(fresh, begun);
    place.stage(&other, "y", &fresh, &Quiet).unwrap();
    assert_eq!(place.whose("y", &fresh, &other).unwrap(), Whose::Ours);
    place.discard("y", &fresh).unwrap();
    // What is not what was made is not published: its last byte never goes out.
    let mut lie = cargo.clone();
    lie.files[0].digest = "xxh3-128:0".into();
    let ticket = place.prepare(&lie, "x", &place.begin("h-2").unwrap()).unwrap();
    assert!(matches!(place.stage(&lie, "x", &ticket, &Quiet), Err(Trouble::Changed(_))));
    assert_eq!(place.whose("x", &ticket, &lie).unwrap(), Whose::Nothing);
    assert!(matches!(
        place.prepare(&contract::many_files(work.path()), "f", &ticket),
        Err(Trouble::Refused(_))
    ));
    let other = place.begin("h-3").unwrap();
    assert!(matches!(
        place.prepare(&contract::many_files(work.path()), "f", &other),
        Err(Trouble::Refused(_))
    ));
}

fn files(root: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(root).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() { all.extend(files(&path)) } else { all.push(path) }
    }
    all
}

/// Cut at many places of the way, each time gone on with: whole, once, nothing beside it.
fn cut_often(remote: &Remote, server: u16, root: &Path, times: usize) -> usize {
    let there = || files(root).into_iter().map(|p| std::fs::read(p).unwrap()).collect();
    cut_often_by(Cutter::before(server), remote, &there, times)
}

/// The same with another cutter, and `there` for what the place has.
fn cut_often_by(cutter: Cutter, remote: &Remote, there: &dyn Fn() -> Vec<Vec<u8>>, times: usize) -> usize {
    let through = Remote { port: cutter.port, host_key: None, ..remote.clone() };
    let work = tempfile::tempdir().unwrap();
    let content: Vec<u8> = (0..2_000_000u32).map(|n| (n * 7 % 253) as u8).collect();
    let item = [("title".to_owned(), "The Marsh at Dusk".to_owned())].into_iter().collect();
    let cargo = Cargo { item, ..contract::one_file(work.path(), &content) };
    let all = Arc::<Remotes>::default();
    let mut failed = 0;
    for n in 0..times {
        let name = format!("clip {n}.mp4");
        let mut known = None;
        cutter.cut_after((n * 2_100_000 / times) as i64 + 1);
        loop {
            let attempt = || -> Result<(), Trouble> {
                let place = all.open(&through)?;
                let ticket = match &known {
                    Some(ticket) => {
                        if place.whose(&name, ticket, &cargo)? == Whose::Ours {
                            return Ok(());
                        }
                        Clone::clone(ticket)
                    }
                    None => place.begin(&format!("h-{n}"))?,
                };
                known = Some(ticket.clone());
                let ticket = place.prepare(&cargo, &name, &ticket)?;
                known = Some(ticket.clone());
                place.stage(&cargo, &name, &ticket, &Quiet)?;
                assert_eq!(place.publish(&ticket, &name)?, Published::Done);
                Ok(())
            };
            let mut attempt = attempt;
            match attempt() {
                Ok(()) => break,
                // A server may need a moment to see that a line is gone, and a porter waits before it tries again.
                Err(Trouble::Away(_)) => std::thread::sleep(Duration::from_millis(50)),
                Err(t) => panic!("{t:?}"),
            }
            failed += 1;
            assert!(failed < times * 4);
        }
    }
    let there = there();
    assert_eq!(there.len(), times);
    assert!(there.iter().all(|bytes| *bytes == content));
    assert!(failed >= times / 2, "{failed} lines were cut");
    failed
}

/// As many as a test run has time for; CUTS=50 for a longer one.
fn cuts() -> usize {
    std::env::var("CUTS").ok().and_then(|n| n.parse().ok()).unwrap_or(12)
}

#[test]
fn a_line_that_breaks_anywhere_loses_nothing_over_sftp() {
    let Some(server) = servers::ssh() else { return };
    // Through the cutter the host has another port: its key is told.
    let key =
        std::process::Command::new("ssh-keygen").arg("-lf").arg(server.file("host.pub")).output().unwrap();
    let key = text(&key).split(' ').nth(1).unwrap().to_owned();
    let remote = Remote { known_hosts: None, ..sftp(&server) };
    let told = Remote { host_key: Some(key), ..remote.clone() };
    open(&told).unwrap().look().unwrap();
    let known = server.file("known-any");
    let host = std::fs::read_to_string(server.file("host.pub")).unwrap();
    let cutting = Cutter::before(server.port);
    std::fs::write(&known, format!("[127.0.0.1]:{} {host}", cutting.port)).unwrap();
    drop(cutting);
    cut_often_known(&remote, &server, &host, 50);
}

/// The cutter's port is known before only to itself: the list of hosts is written for every port.
fn cut_often_known(remote: &Remote, server: &Server, host: &str, times: usize) {
    let known = server.file("known-all");
    let lines: String = (1024..65_536).map(|p| format!("[127.0.0.1]:{p} {host}")).collect();
    std::fs::write(&known, lines).unwrap();
    cut_often(&Remote { known_hosts: Some(known), ..remote.clone() }, server.port, &server.root, times);
}

#[test]
fn a_line_that_breaks_anywhere_loses_nothing_over_webdav() {
    let Some(server) = servers::webdav() else { return };
    let remote = remote(Protocol::WebDav, "http", server.port, "", Login::None);
    cut_often(&remote, server.port, &server.root, 50);
}

#[test]
fn a_line_that_breaks_anywhere_loses_nothing_over_ftp() {
    let Some(server) = servers::ftp(false) else { return };
    let remote = remote(Protocol::Ftp, "ftp", server.port, "", password(&server, "tide-and-time"));
    let there = || files(&server.root).into_iter().map(|p| std::fs::read(p).unwrap()).collect();
    cut_often_by(Cutter::before_ftp(server.port), &remote, &there, cuts());
}

#[test]
fn a_line_that_breaks_anywhere_loses_nothing_in_object_storage() {
    let Some(server) = servers::s3() else { return };
    let there = || servers::objects(server.port);
    cut_often_by(Cutter::before(server.port), &s3(&server), &there, cuts());
}

#[test]
fn a_line_that_breaks_anywhere_loses_nothing_of_an_upload() {
    let Some(server) = servers::tus() else { return };
    let remote = remote(Protocol::Tus, "http", server.port, "/files", Login::None);
    // One whose address never came back stays empty, until the server forgets it.
    let there = || {
        let uploads = files(&server.root).into_iter().filter(|p| p.extension().is_none());
        uploads.map(|p| std::fs::read(p).unwrap()).filter(|b| !b.is_empty()).collect()
    };
    cut_often_by(Cutter::before(server.port), &remote, &there, cuts());
}

#[test]
fn a_line_that_breaks_anywhere_publishes_once() {
    let keep = tempfile::tempdir().unwrap();
    let (path, port) = (keep.path().to_str().unwrap(), servers::free_port());
    let _platform = StandIn::start(&["platform", "--port", &port.to_string(), "--keep", path]);
    let remote = remote(Protocol::Publish, "http", port, "/publish", Login::None);
    let there = || servers::published(keep.path());
    cut_often_by(Cutter::before(port), &remote, &there, cuts());
}

#[test]
fn another_host_and_another_key_are_refused() {
    let Some(mut server) = servers::ssh() else { return };
    let right = sftp(&server);
    let refused = |remote: Remote, words: &str| {
        let trouble = open(&remote).err().unwrap();
        assert!(matches!(&trouble, Trouble::Refused(why) if why.contains(words)), "{trouble:?}");
    };
    std::fs::write(server.file("empty"), "").unwrap();
    refused(
        Remote { known_hosts: Some(server.file("empty")), ..right.clone() },
        "write host_key = \"SHA256:",
    );
    let other = std::fs::read_to_string(server.file("stranger.pub")).unwrap();
    std::fs::write(server.file("other"), format!("[127.0.0.1]:{} {other}", server.port)).unwrap();
    refused(Remote { known_hosts: Some(server.file("other")), ..right.clone() }, "is it another host?");
    refused(Remote { host_key: Some("SHA256:0000".into()), ..right.clone() }, "is it another host?");
    refused(Remote { key: Some(server.file("stranger")), ..right.clone() }, "is not accepted");
    refused(Remote { key: Some(server.file("no such key")), ..right.clone() }, "no such key");
    // A folder in the home of whoever logs in.
    let home = Remote { base: "/~".into(), ..right.clone() };
    assert!(!open(&home).unwrap().has("no such file here.mp4").unwrap());
    // A server that is away is waited for, and taken again when it is back.
    let all = Arc::<Remotes>::default();
    all.open(&right).unwrap().look().unwrap();
    server.stop();
    let trouble = open(&right).err().unwrap();
    assert!(matches!(trouble, Trouble::Away(_)), "{trouble:?}");
    server.go_on();
    open(&right).unwrap().look().unwrap();
    all.open(&right).unwrap().look().unwrap();
    // The folder is never made, and a link in the way is not gone through.
    let away = Remote { base: format!("{}/no share", right.base), ..right.clone() };
    assert!(matches!(open(&away).unwrap().look(), Err(Trouble::Away(_))));
    let outside = tempfile::tempdir().unwrap();
    std::os::unix::fs::symlink(outside.path(), server.root.join("day 1")).unwrap();
    let work = tempfile::tempdir().unwrap();
    let cargo = contract::one_file(work.path(), b"proxy");
    let place = open(&right).unwrap();
    let ticket = place.begin("t").unwrap();
    assert!(matches!(place.stage(&cargo, "day 1/a.mp4", &ticket, &Quiet), Err(Trouble::Refused(_))));
    assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 0);
}

#[test]
fn a_wrong_password_is_a_persons_business() {
    let Some(server) = servers::ftp(false) else { return };
    let wrong = remote(Protocol::Ftp, "ftp", server.port, "", password(&server, "another-one"));
    let trouble = open(&wrong).err().unwrap();
    assert!(
        matches!(&trouble, Trouble::Refused(why) if why.contains("anna") && !why.contains("another-one"))
    );
}

/// The built program: one output to a folder and to four places of a network; one is away and keeps nobody waiting.
#[test]
fn a_house_delivers_to_places_of_a_network() {
    let (Some(ssh), Some(mut dav), Some(tus)) = (servers::ssh(), servers::webdav(), servers::tus()) else {
        return;
    };
    let house = House::new();
    house.append(&format!(
        r#"
[[place]]
name = "partner"
address = "sftp://127.0.0.1:{}{}"
user = "{}"
key_file = "{}"
known_hosts = "{}"
pace = "50 MB/s"
at_once = 1

[[place]]
name = "cloud"
address = "http://127.0.0.1:{}"
protocol = "webdav"
timeout = "2 s"

[[place]]
name = "site"
address = "http://127.0.0.1:{}/files"
protocol = "tus"
"#,
        ssh.port,
        ssh.root.display(),
        servers::me(),
        ssh.file("user").display(),
        ssh.file("known").display(),
        dav.port,
        tus.port,
    ));
    house.reconfigure(
        "name = \"{stem}_proxy\", to = [\"editors\"]",
        "name = \"{date}/{stem}_proxy\", to = [\"editors\", \"partner\", \"cloud\", \"site\"]",
    );
    dav.stop();
    house.drop_in("heron.mp4", support::clip());
    let running = house.start();
    house.wait_until("everywhere but in the cloud", |_| {
        !files(&ssh.root).is_empty() && files(&tus.root).iter().any(|p| p.extension().is_none())
    });
    house.wait_until("the cloud is away", |s| s.to_string().contains("Connection refused"));
    dav.go_on();
    house.wait_until("done", |s| s["ended"].as_array().is_some_and(|e| e.len() == 1));
    running.interrupt();
    let made = files(&house.path("out"));
    let bytes = std::fs::read(&made[0]).unwrap();
    for root in [&ssh.root, &dav.root, &tus.root] {
        let there: Vec<PathBuf> =
            files(root).into_iter().filter(|p| root != &tus.root || p.extension().is_none()).collect();
        assert_eq!(there.len(), 1, "{there:?}");
        assert!(std::fs::read(&there[0]).unwrap() == bytes, "{there:?}");
    }
    // `check` logs in to each, and says which cannot be used.
    let check =
        || std::process::Command::new(support::PROGRAM).arg("check").arg(house.path("")).output().unwrap();
    let out = check();
    assert!(out.status.success() && text(&out).contains("Places of a network"), "{}", text(&out));
    dav.stop();
    let out = check();
    assert!(!out.status.success() && text(&out).contains("What goes there waits for it"), "{}", text(&out));
}
