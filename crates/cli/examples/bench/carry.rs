//! Carrying: to a folder beside `cp`, over SFTP beside OpenSSH's own client, a card to two disks beside one.

use super::{Anyhow, Bench, figure, median};
use porter::deliver::remote::Protocol;
use porter::deliver::{Cargo, FolderPlace, Place, Published, Remote, Remotes};
use porter::files::{Dir, Quiet, copy};
use porter::services::Login;
use porter::store::MadeFile;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

const BYTES: usize = 1_000_000_000;
const TIMES: usize = 5;

fn cargo_of(dir: &Path) -> Result<Cargo, Anyhow> {
    let path = dir.join("carry.bin");
    let block: Vec<u8> = (0..1_000_003u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    let mut content = Vec::with_capacity(BYTES);
    while content.len() < BYTES {
        content.extend_from_slice(&block[..block.len().min(BYTES - content.len())]);
    }
    std::fs::write(&path, &content)?;
    let digest = copy::digest(&path, false)?;
    Ok(Cargo {
        files: vec![MadeFile { inside: String::new(), bytes: BYTES as u64, digest, ours: false }],
        path,
        ..Cargo::default()
    })
}

pub fn deliver(place: &dyn Place, cargo: &Cargo, n: usize) -> Result<(), Anyhow> {
    let name = format!("carried {n}.bin");
    let ticket = place.prepare(cargo, &name, &place.begin(&format!("b-{n}"))?)?;
    place.stage(cargo, &name, &ticket, &Quiet)?;
    match place.publish(&ticket, &name)? {
        Published::Done => Ok(()),
        Published::Taken => Err("the name was taken".into()),
    }
}

pub fn timed(work: impl FnOnce() -> Result<(), Anyhow>) -> Result<f64, Anyhow> {
    let start = Instant::now();
    work()?;
    Ok(start.elapsed().as_secs_f64())
}

pub fn sh(line: &str, dir: &Path) -> Result<(), Anyhow> {
    let out = Command::new("sh").args(["-c", line]).current_dir(dir).output()?;
    if out.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&out.stderr).into_owned().into()) }
}

pub fn carry(b: &Bench) -> Result<(), Anyhow> {
    let dir: PathBuf = b.dir.join("carry");
    std::fs::create_dir_all(dir.join("to"))?;
    let cargo = cargo_of(&dir)?;
    let place = FolderPlace::new(Dir::open(&dir.join("to"))?);
    let (mut ratios, mut others) = (Vec::new(), Vec::new());
    for n in 0..TIMES {
        // What is measured is on the disk in both cases, and read from there.
        let theirs = timed(|| {
            sh(
                "cp carry.bin to/copy && sync to/copy && dd if=to/copy of=/dev/null bs=1M iflag=direct 2>/dev/null",
                &dir,
            )
        })?;
        sh("rm to/copy", &dir)?;
        let ours = timed(|| deliver(&place, &cargo, n))?;
        sh("rm to/carried*", &dir)?;
        ratios.push(ours / theirs);
        others.push(BYTES as f64 / 1e6 / ours);
    }
    let name = "a folder, 1 GB with its checksum and read back / cp, sync and a read, wall time";
    figure(name, median(ratios), "", 1.25, true);
    println!("{:<70} {:>8.0} MB/s", "  speed of that", median(others));
    let trusted = FolderPlace::trusted(Dir::open(&dir.join("to"))?);
    let mut ratios = Vec::new();
    for n in 0..TIMES {
        let theirs = timed(|| sh("cp carry.bin to/copy && sync to/copy", &dir))?;
        sh("rm to/copy", &dir)?;
        let ours = timed(|| deliver(&trusted, &cargo, n))?;
        sh("rm to/carried*", &dir)?;
        ratios.push(ours / theirs);
    }
    figure(
        "a folder, 1 GB with its checksum, not read back / cp and sync, wall time",
        median(ratios),
        "",
        1.10,
        true,
    );
    two_disks(&dir)?;
    match Sshd::start(&dir)? {
        Some(host) => sftp(&host, &dir, &cargo),
        None => {
            println!("SFTP: openssh-server is not installed");
            Ok(())
        }
    }
}

fn two_disks(dir: &Path) -> Result<(), Anyhow> {
    let card = dir.join("card");
    std::fs::create_dir_all(&card)?;
    std::fs::rename(dir.join("carry.bin"), card.join("carry.bin"))?;
    let mut ratios = Vec::new();
    for n in 0..3 {
        let to: Vec<PathBuf> = (0..3).map(|k| dir.join(format!("disk {n} {k}"))).collect();
        to.iter().try_for_each(std::fs::create_dir)?;
        let copy = |to: &[PathBuf]| -> Result<(), Anyhow> {
            match porter::offload::copy(&card, to, &Quiet)?.safe_to_erase {
                true => Ok(()),
                false => Err("the copy is not whole".into()),
            }
        };
        let one = timed(|| copy(&to[..1]))?;
        let two = timed(|| copy(&to[1..]))?;
        ratios.push(two / one);
        to.iter().try_for_each(std::fs::remove_dir_all)?;
    }
    std::fs::rename(card.join("carry.bin"), dir.join("carry.bin"))?;
    // Both disks are one here, which writes twice as much and reads it back: the figure is `sending`'s.
    println!("{:<70} {:>8.2}", "  a card to two folders of one disk / to one, wall time", median(ratios));
    Ok(())
}

struct Sshd {
    child: Child,
    port: u16,
}

impl Drop for Sshd {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Sshd {
    fn start(dir: &Path) -> Result<Option<Sshd>, Anyhow> {
        if !Path::new("/usr/sbin/sshd").exists() {
            return Ok(None);
        }
        let _ = std::fs::create_dir_all("/run/sshd");
        sh(
            "rm -f host user; ssh-keygen -q -t ed25519 -N '' -f host; ssh-keygen -q -t ed25519 -N '' -f user; cp user.pub authorized",
            dir,
        )?;
        let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
        let at = dir.display();
        std::fs::write(
            dir.join("config"),
            format!(
                "Port {port}\nListenAddress 127.0.0.1\nHostKey {at}/host\nPidFile {at}/pid\nStrictModes no\n\
                 AuthorizedKeysFile {at}/authorized\nUsePAM no\nSubsystem sftp internal-sftp\n"
            ),
        )?;
        let host = std::fs::read_to_string(dir.join("host.pub"))?;
        std::fs::write(dir.join("known"), format!("[127.0.0.1]:{port} {host}"))?;
        let child = Command::new("/usr/sbin/sshd")
            .args(["-D", "-e", "-f"])
            .arg(dir.join("config"))
            .stderr(Stdio::null())
            .spawn()?;
        let start = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            if start.elapsed() > Duration::from_secs(10) {
                return Err("no SSH server".into());
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Ok(Some(Sshd { child, port }))
    }
}

fn sftp(host: &Sshd, dir: &Path, cargo: &Cargo) -> Result<(), Anyhow> {
    let user = String::from_utf8(Command::new("id").arg("-un").output()?.stdout)?.trim().to_owned();
    let remote = Remote {
        protocol: Protocol::Sftp,
        address: format!("sftp://127.0.0.1:{}", host.port),
        host: "127.0.0.1".into(),
        port: host.port,
        base: dir.join("to").display().to_string(),
        tls: false,
        login: Login::User(user.clone()),
        key: Some(dir.join("user")),
        known_hosts: Some(dir.join("known")),
        host_key: None,
        certificates: None,
        timeout: Duration::from_secs(30),
        region: String::new(),
        storage_class: None,
        link: None,
    };
    let line = format!(
        "printf 'put carry.bin to/theirs\\nget to/theirs /dev/null\\n' | sftp -q -b - -P {} -i user \
         -o UserKnownHostsFile=known {user}@127.0.0.1:{}",
        host.port,
        dir.display()
    );
    let all = Arc::<Remotes>::default();
    let mut ratios = Vec::new();
    for n in 0..3 {
        let theirs = timed(|| sh(&line, dir))?;
        let ours = timed(|| deliver(all.open(&remote)?.as_ref(), cargo, n))?;
        sh("rm -f to/*", dir)?;
        ratios.push(theirs / ours);
    }
    figure("SFTP, 1 GB and read back / OpenSSH's client, put and get, speed", median(ratios), "", 0.9, false);
    Ok(())
}
