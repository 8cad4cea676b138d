//! Servers of others, on loopback, each in a folder of its own; they end with what started them.

use super::skipped;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

pub struct Server {
    /// What it serves.
    pub root: PathBuf,
    pub port: u16,
    dir: tempfile::TempDir,
    command: Box<dyn Fn() -> Command + Send + Sync>,
    child: Option<Child>,
    /// It sees its files on a disk of its own, so large.
    disk: Option<&'static str>,
}

impl Drop for Server {
    fn drop(&mut self) {
        self.stop();
    }
}

pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// One whose neighbour 10,000 above is free as well: some servers take that without asking.
fn low_port() -> u16 {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    loop {
        let n = NEXT.fetch_add(1, Ordering::Relaxed) + std::process::id() as usize * 17;
        let port = 12_000 + (n % 8_000) as u16;
        let free = |p: u16| TcpListener::bind(("127.0.0.1", p)).is_ok();
        if free(port) && free(port + 10_000) {
            return port;
        }
    }
}

fn installed(inside: &str) -> Option<PathBuf> {
    let at = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/servers").join(inside);
    let at = at.canonicalize().ok();
    if at.is_none() {
        skipped("the servers of places are not installed (tools/place-servers)");
    }
    at
}

impl Server {
    fn start(
        dir: tempfile::TempDir,
        root: PathBuf,
        port: u16,
        command: impl Fn() -> Command + Send + Sync + 'static,
    ) -> Server {
        let mut server = Server { root, port, dir, command: Box::new(command), child: None, disk: None };
        server.go_on();
        server
    }

    /// A file of the server's own: keys, certificates.
    pub fn file(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// With every connection that it has a process for.
    pub fn stop(&mut self) {
        if let Some(mut child) = self.child.take() {
            let family = family_of(child.id());
            let _ = child.kill();
            let _ = child.wait();
            for pid in family.into_iter().filter_map(|p| rustix::process::Pid::from_raw(p as i32)) {
                let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
            }
        }
    }

    /// From now on its files lie on an empty disk of this size; `None` where nothing may be mounted.
    pub fn on_a_disk_of(mut self, size: &'static str) -> Option<Server> {
        let allowed =
            Command::new("unshare").args([own_mounts(), "mount", "-t", "tmpfs", "none", "/mnt"]).status();
        if !allowed.is_ok_and(|s| s.success()) {
            skipped("mounting in a namespace is not allowed here");
            return None;
        }
        self.stop();
        self.disk = Some(size);
        self.go_on();
        Some(self)
    }

    /// Its files as it sees them.
    pub fn seen(&self) -> PathBuf {
        match (&self.child, self.disk) {
            (Some(child), Some(_)) => {
                PathBuf::from(format!("/proc/{}/root{}", child.id(), self.root.display()))
            }
            _ => self.root.clone(),
        }
    }

    /// Its disk is a larger one.
    pub fn grow(&self, size: &str) {
        let pid = self.child.as_ref().unwrap().id().to_string();
        let how = format!("remount,size={size}");
        let mut inside = vec!["-t", &pid, "-m"];
        if own_mounts() == "-rm" {
            inside.extend(["-U", "--preserve-credentials"]);
        }
        let root = self.root.display().to_string();
        run("nsenter", &[&inside[..], &["mount", "-o", &how, "none", &root]].concat());
    }

    /// After a stop, with what it had.
    pub fn go_on(&mut self) {
        let log = std::fs::File::options().create(true).append(true).open(self.file("log")).unwrap();
        let mut command = (self.command)();
        if let Some(size) = self.disk {
            command = on_a_disk(&command, &self.root, size);
        }
        command.stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log);
        self.child = Some(command.spawn().unwrap());
        let start = Instant::now();
        while TcpStream::connect(("127.0.0.1", self.port)).is_err() {
            let log = || std::fs::read_to_string(self.file("log")).unwrap_or_default();
            assert!(start.elapsed() < Duration::from_secs(60), "no server: {}", log());
            std::thread::sleep(Duration::from_millis(30));
        }
    }
}

/// Processes that a process started; of one that is gone, none.
pub fn started_by(pid: u32) -> Vec<u32> {
    let mut out = Vec::new();
    for task in std::fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten() {
        let list = std::fs::read_to_string(task.path().join("children")).unwrap_or_default();
        out.extend(list.split_whitespace().map(|p| p.parse::<u32>().unwrap()));
    }
    out
}

/// All that a porter started, and what that started.
pub fn family_of(pid: u32) -> Vec<u32> {
    let own = started_by(pid);
    own.iter().flat_map(|p| started_by(*p)).chain(own.iter().copied()).collect()
}

/// Whoever may mount does so without being another user.
fn own_mounts() -> &'static str {
    if me() == "root" { "-m" } else { "-rm" }
}

/// The same in a mount namespace of its own.
fn on_a_disk(command: &Command, root: &Path, size: &str) -> Command {
    let mut c = Command::new("unshare");
    let line = format!("mount -t tmpfs -o size={size} none '{}' && exec \"$@\"", root.display());
    c.args([own_mounts(), "sh", "-c", &line, "sh"]).arg(command.get_program()).args(command.get_args());
    for (name, value) in command.get_envs() {
        c.env(name, value.unwrap_or_default());
    }
    c
}

fn run(program: &str, args: &[&str]) {
    let out = Command::new(program).args(args).output().unwrap();
    assert!(out.status.success(), "{program} {args:?}: {}", String::from_utf8_lossy(&out.stderr));
}

/// OpenSSH's own; the user's key is in `user`, and `known` has the host's.
pub fn ssh() -> Option<Server> {
    if !Path::new("/usr/sbin/sshd").exists() {
        skipped("openssh-server is not installed");
        return None;
    }
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| dir.path().join(name);
    let shown = |name: &str| at(name).display().to_string();
    let _ = std::fs::create_dir_all("/run/sshd");
    for key in ["host", "user", "stranger"] {
        run("ssh-keygen", &["-q", "-t", "ed25519", "-N", "", "-f", &shown(key)]);
    }
    std::fs::copy(at("user.pub"), at("authorized")).unwrap();
    let port = free_port();
    let host = std::fs::read_to_string(at("host.pub")).unwrap();
    std::fs::write(at("known"), format!("[127.0.0.1]:{port} {host}")).unwrap();
    let config = format!(
        "Port {port}\nListenAddress 127.0.0.1\nHostKey {}\nPidFile {}\nAuthorizedKeysFile {}\nStrictModes no\n\
         UsePAM no\nPasswordAuthentication yes\nSubsystem sftp internal-sftp\n",
        shown("host"),
        shown("pid"),
        shown("authorized")
    );
    std::fs::write(at("config"), config).unwrap();
    let root = at("files");
    std::fs::create_dir(&root).unwrap();
    let config = at("config");
    Some(Server::start(dir, root, port, move || {
        let mut c = Command::new("/usr/sbin/sshd");
        c.args(["-D", "-e", "-f"]).arg(&config);
        c
    }))
}

/// Who `ssh` lets in: whoever runs the tests.
pub fn me() -> String {
    let out = Command::new("id").arg("-un").output().unwrap();
    String::from_utf8(out.stdout).unwrap().trim().to_owned()
}

/// A CA's certificate, and one of it for this host that counts for so many days, in PEM.
pub fn certify(dir: &Path, days: &str) {
    let at = |name: &str| dir.join(name).display().to_string();
    let new = ["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=Tidewater test"];
    run("openssl", &[&new[..], &["-keyout", &at("ca.key"), "-out", &at("ca.pem")]].concat());
    let ask = ["req", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=127.0.0.1"];
    run("openssl", &[&ask[..], &["-keyout", &at("tls.key"), "-out", &at("tls.csr")]].concat());
    std::fs::write(at("tls.ext"), "subjectAltName=IP:127.0.0.1,DNS:localhost\nbasicConstraints=CA:FALSE\n")
        .unwrap();
    let sign = ["x509", "-req", "-CAcreateserial", "-days", days];
    let files =
        ["-in", &at("tls.csr"), "-CA", &at("ca.pem"), "-CAkey", &at("ca.key"), "-extfile", &at("tls.ext")];
    run("openssl", &[&sign[..], &files[..], &["-out", &at("tls.pem")]].concat());
}

/// FTP, or explicit FTPS with `ca.pem` in front of it; user `anna`, password `tide-and-time`.
pub fn ftp(tls: bool) -> Option<Server> {
    ftp_with(tls.then_some("2"))
}

/// With a certificate that counts for so many days.
pub fn ftp_with(certificate: Option<&str>) -> Option<Server> {
    let tls = certificate.is_some();
    let python = installed("python")?;
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().join("files");
    std::fs::create_dir(&root).unwrap();
    if let Some(days) = certificate {
        certify(dir.path(), days);
    }
    let (port, files, own) = (free_port(), root.clone(), dir.path().to_owned());
    Some(Server::start(dir, root, port, move || {
        let mut c = Command::new("python3");
        c.env("PYTHONPATH", &python).args(["-m", "pyftpdlib", "-i", "127.0.0.1", "-w", "-p"]);
        c.arg(port.to_string()).arg("-d").arg(&files).args(["-u", "anna", "-P", "tide-and-time"]);
        if tls {
            c.arg("--tls")
                .arg("--keyfile")
                .arg(own.join("tls.key"))
                .arg("--certfile")
                .arg(own.join("tls.pem"));
            c.args(["--tls-control-required", "--tls-data-required"]);
        }
        c
    }))
}

/// Object storage with the bucket `out`; the key is `anna`, its secret `tide-and-time`. It is there when it
/// has kept an object: it answers long before.
pub fn s3() -> Option<Server> {
    let python = installed("python")?;
    for _ in 0..3 {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path().join("store");
        std::fs::create_dir(&root).unwrap();
        let (port, files, weed) = (low_port(), root.clone(), python.join("bin/weed"));
        let server = Server::start(dir, root, port, move || {
            let mut c = Command::new(&weed);
            c.arg("mini").arg(format!("-dir={}", files.display()));
            c.args(["-ip=127.0.0.1", "-ip.bind=127.0.0.1", "-bucket=out", "-admin.ui=false"]);
            // However little room the disk has: by itself it counts its volumes by that.
            c.args(["-master.volumeSizeLimitMB=64", "-volume.max=60"]);
            c.arg(format!("-s3.port={port}"));
            for name in ["master", "volume", "filer", "webdav", "admin"] {
                c.arg(format!("-{name}.port={}", low_port()));
            }
            c.env("AWS_ACCESS_KEY_ID", "anna").env("AWS_SECRET_ACCESS_KEY", "tide-and-time");
            c
        });
        if keeps_objects(port) {
            return Some(server);
        }
        eprintln!("{}", std::fs::read_to_string(server.file("log")).unwrap_or_default());
    }
    panic!("object storage that keeps nothing");
}

fn keeps_objects(port: u16) -> bool {
    let endpoint = format!("http://127.0.0.1:{port}").parse().unwrap();
    let bucket = rusty_s3::Bucket::new(endpoint, rusty_s3::UrlStyle::Path, "out", "us-east-1").unwrap();
    let credentials = rusty_s3::Credentials::new("anna", "tide-and-time");
    let minute = Duration::from_secs(60);
    let start = Instant::now();
    while start.elapsed() < minute {
        let put = rusty_s3::S3Action::sign(&bucket.put_object(Some(&credentials), "ready"), minute);
        let gone = rusty_s3::S3Action::sign(&bucket.delete_object(Some(&credentials), "ready"), minute);
        if ureq::put(put.as_str()).send(&[7u8; 2000][..]).is_ok() {
            return ureq::delete(gone.as_str()).call().is_ok();
        }
        std::thread::sleep(Duration::from_millis(200));
    }
    false
}

/// What is in the bucket of object storage, by a client that is not ours.
pub fn objects(port: u16) -> Vec<Vec<u8>> {
    use rusty_s3::S3Action;
    let endpoint = format!("http://127.0.0.1:{port}").parse().unwrap();
    let bucket = rusty_s3::Bucket::new(endpoint, rusty_s3::UrlStyle::Path, "out", "us-east-1").unwrap();
    let login = rusty_s3::Credentials::new("anna", "tide-and-time");
    let minute = Duration::from_secs(60);
    let get = |url: String| ureq::get(url).call().unwrap().body_mut().read_to_vec().unwrap();
    let listing = get(bucket.list_objects_v2(Some(&login)).sign(minute).to_string());
    let listing = String::from_utf8(listing).unwrap();
    let keys = rusty_s3::actions::ListObjectsV2::parse_response(&listing).unwrap().contents;
    let read = |c: rusty_s3::actions::list_objects_v2::ListObjectsContent| {
        let key = porter::deliver::remote::decoded(&c.key);
        get(bucket.get_object(Some(&login), &key).sign(minute).to_string())
    };
    keys.into_iter().map(read).collect()
}

/// What a platform that ships with the program has published, and it has nothing else.
pub fn published(keep: &Path) -> Vec<Vec<u8>> {
    let items = std::fs::read_to_string(keep.join("items.json")).unwrap_or_else(|_| "[]".into());
    let items: Vec<serde_json::Value> = serde_json::from_str(&items).unwrap();
    let each = items.iter().map(|item| {
        assert_eq!(item["state"], "published", "{item}");
        std::fs::read(keep.join(format!("{}.media", item["id"].as_str().unwrap()))).unwrap()
    });
    each.collect()
}

/// WebDAV without a login.
pub fn webdav() -> Option<Server> {
    let python = installed("python")?;
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().join("files");
    std::fs::create_dir(&root).unwrap();
    let (port, files) = (free_port(), root.clone());
    Some(Server::start(dir, root, port, move || {
        let mut c = Command::new("python3");
        c.arg(python.join("bin/wsgidav")).env("PYTHONPATH", &python);
        c.args(["--host", "127.0.0.1", "--auth", "anonymous", "--server", "cheroot", "--port"]);
        c.arg(port.to_string()).arg("--root").arg(&files);
        c
    }))
}

/// Uploads by tus, below `/files`.
pub fn tus() -> Option<Server> {
    let node = installed("node")?;
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().join("files");
    std::fs::create_dir(&root).unwrap();
    let (port, files, script) = (free_port(), root.clone(), node.join("serve.mjs"));
    std::fs::write(
        &script,
        "import { Server } from '@tus/server';\nimport { FileStore } from '@tus/file-store';\n\
         const [directory, port] = process.argv.slice(2);\n\
         new Server({ path: '/files', datastore: new FileStore({ directory }) })\
         .listen({ host: '127.0.0.1', port: Number(port) });\n",
    )
    .unwrap();
    Some(Server::start(dir, root, port, move || {
        let mut c = Command::new("node");
        c.arg(&script).arg(&files).arg(port.to_string());
        c
    }))
}

/// Stands between, and cuts the line after so many bytes towards the server; as often as it is told to.
pub struct Cutter {
    pub port: u16,
    left: Arc<AtomicI64>,
    pub cut: Arc<AtomicUsize>,
}

impl Cutter {
    pub fn before(server: u16) -> Cutter {
        Self::new(server, false)
    }

    /// Counts what comes back from the server.
    pub fn behind(server: u16) -> Cutter {
        Self::new(server, true)
    }

    /// Before a server of FTP: every line that it opens for files is counted with the first.
    pub fn before_ftp(server: u16) -> Cutter {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let (left, cut) = (Arc::new(AtomicI64::new(i64::MAX)), Arc::new(AtomicUsize::new(0)));
        let counted: Counted = (left.clone(), cut.clone());
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Ok(to) = TcpStream::connect(("127.0.0.1", server)) else { continue };
                pass(client.try_clone().unwrap(), to.try_clone().unwrap(), Some(counted.clone()));
                let counted = counted.clone();
                std::thread::spawn(move || replies_of_ftp(to, client, &counted));
            }
        });
        Cutter { port, left, cut }
    }

    fn new(server: u16, back: bool) -> Cutter {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let (left, cut) = (Arc::new(AtomicI64::new(i64::MAX)), Arc::new(AtomicUsize::new(0)));
        let (l, c) = (left.clone(), cut.clone());
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Ok(to) = TcpStream::connect(SocketAddr::from(([127, 0, 0, 1], server))) else { continue };
                let counted = Some((l.clone(), c.clone()));
                let (there, again) = if back { (None, counted) } else { (counted, None) };
                pass(client.try_clone().unwrap(), to.try_clone().unwrap(), there);
                pass(to, client, again);
            }
        });
        Cutter { port, left, cut }
    }

    pub fn cut_after(&self, bytes: i64) {
        self.left.store(bytes, Ordering::SeqCst);
    }
}

/// Bytes that may still pass, and how often a line was cut.
type Counted = (Arc<AtomicI64>, Arc<AtomicUsize>);

/// What the server says, with ports of ours in place of those that it opens (227, RFC 959).
fn replies_of_ftp(from: TcpStream, mut to: TcpStream, counted: &Counted) {
    let mut lines = BufReader::new(&from);
    let mut line = String::new();
    while lines.read_line(&mut line).is_ok_and(|n| n > 0) {
        if let Some(numbers) = line.strip_prefix("227 ").and_then(|l| l.split(['(', ')']).nth(1)) {
            let n: Vec<u16> = numbers.split(',').map(|n| n.parse().unwrap()).collect();
            let server = n[4] * 256 + n[5];
            let listener = TcpListener::bind("127.0.0.1:0").unwrap();
            let port = listener.local_addr().unwrap().port();
            line = format!("227 Entering passive mode (127,0,0,1,{},{}).\r\n", port / 256, port % 256);
            let counted = counted.clone();
            std::thread::spawn(move || {
                let (Ok((client, _)), Ok(to)) =
                    (listener.accept(), TcpStream::connect(("127.0.0.1", server)))
                else {
                    return;
                };
                pass(client.try_clone().unwrap(), to.try_clone().unwrap(), Some(counted));
                pass(to, client, None);
            });
        }
        if to.write_all(line.as_bytes()).is_err() {
            break;
        }
        line.clear();
    }
    let _ = from.shutdown(std::net::Shutdown::Both);
    let _ = to.shutdown(std::net::Shutdown::Both);
}

fn pass(mut from: TcpStream, mut to: TcpStream, cut: Option<Counted>) {
    std::thread::spawn(move || {
        let mut block = [0; 16_384];
        while let Ok(n) = from.read(&mut block) {
            if n == 0 {
                break;
            }
            let mut n = n;
            let mut over = false;
            if let Some((left, count)) = &cut {
                let before = left.fetch_sub(n as i64, Ordering::SeqCst);
                if before <= n as i64 {
                    n = before.max(0) as usize;
                    over = true;
                    left.store(i64::MAX, Ordering::SeqCst);
                    count.fetch_add(1, Ordering::SeqCst);
                }
            }
            if to.write_all(&block[..n]).is_err() || over {
                break;
            }
        }
        let _ = from.shutdown(std::net::Shutdown::Both);
        let _ = to.shutdown(std::net::Shutdown::Both);
    });
}

/// Mail: what comes in is kept below `root` as a maildir.
pub fn mail() -> Option<Server> {
    let python = installed("python")?;
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().join("mail");
    let (port, files) = (free_port(), root.clone());
    Some(Server::start(dir, root, port, move || {
        let mut c = Command::new("python3");
        c.env("PYTHONPATH", &python).args(["-m", "aiosmtpd", "-n", "-l"]).arg(format!("127.0.0.1:{port}"));
        c.args(["-c", "aiosmtpd.handlers.Mailbox"]).arg(&files);
        c
    }))
}
