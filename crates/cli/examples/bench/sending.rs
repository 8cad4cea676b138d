//! Sending: packages beside the usual packer, many small files beside `cp -r`, two disks, and servers of others beside `curl`.

use super::carry::{deliver, sh, timed};
use super::{Anyhow, Bench, figure, median};
use porter::deliver::remote::Protocol;
use porter::deliver::{Cargo, FolderPlace, Remote, Remotes};
use porter::files::{Dir, Quiet, copy};
use porter::offload::sums::Kind;
use porter::package::{self, Form, Part};
use porter::services::{Login, Secret};
use porter::store::MadeFile;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

#[allow(dead_code)]
#[path = "../../tests/driven/support/servers.rs"]
mod servers;

/// What the servers of the tests say where they are not installed.
fn skipped(why: &str) {
    println!("{why}");
}

const TIMES: usize = 3;

fn part(path: &Path, name: &str) -> Result<Part, Anyhow> {
    let bytes = std::fs::metadata(path)?.len();
    Ok(Part { from: path.to_owned(), name: name.into(), bytes, digest: copy::digest(path, false)? })
}

/// Words of no language, which deflate as text does.
fn words(bytes: usize) -> Vec<u8> {
    let stems =
        ["tide", "mud", "heron", "ebb", "marsh", "reed", "salt", "gull", "creek", "moon", "sluice", "dyke"];
    let (mut out, mut n) = (Vec::with_capacity(bytes + 64), 1u32);
    while out.len() < bytes {
        n = n.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let word = stems[(n >> 16) as usize % stems.len()];
        out.extend_from_slice(word.as_bytes());
        out.extend_from_slice(format!("{} ", n >> 25).as_bytes());
        if n >> 28 == 0 {
            out.extend_from_slice(b"\n00:00:04,120 --> 00:00:06,480\n");
        }
    }
    out.truncate(bytes);
    out
}

fn packages(dir: &Path) -> Result<(), Anyhow> {
    let (film, text) = (dir.join("film.mp4"), dir.join("words.srt"));
    let noise: Vec<u8> = (0..1_000_003u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    std::fs::write(&film, noise.iter().copied().cycle().take(1_000_000_000).collect::<Vec<u8>>())?;
    std::fs::write(&text, words(300_000_000))?;
    let (film, text) = (part(&film, "film.mp4")?, part(&text, "words.srt")?);
    let (mut speeds, mut slower, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..TIMES {
        let at = dir.join("film.zip");
        for (sums, speeds) in [(Kind::Xxh64, &mut speeds), (Kind::Sha256, &mut slower)] {
            let parts = std::slice::from_ref(&film);
            let stored = timed(|| Ok(package::write(Form::Zip, sums, &at, parts, &Quiet)?))?;
            std::fs::remove_file(&at)?;
            speeds.push(film.bytes as f64 / 1e6 / stored);
        }
        let theirs =
            timed(|| sh("zip -q -6 theirs.zip words.srt && sync theirs.zip && unzip -tq theirs.zip", dir))?;
        let at = dir.join("words.zip");
        let parts = std::slice::from_ref(&text);
        let ours = timed(|| Ok(package::write(Form::Zip, Kind::Xxh64, &at, parts, &Quiet)?))?;
        let size = |name: &str| std::fs::metadata(dir.join(name)).map_or(0, |m| m.len());
        eprintln!("  deflated to {} bytes, by zip -6 to {}", size("words.zip"), size("theirs.zip"));
        sh("rm -f theirs.zip words.zip", dir)?;
        ratios.push(theirs / ours);
    }
    figure("a ZIP, 1 GB stored, with its checksums, synced, read back", median(speeds), "MB/s", 500.0, false);
    println!("{:<58} {:>9.0} MB/s", "  the same with SHA-256", median(slower));
    figure("a ZIP, deflated and read back / zip -6, sync and test, speed", median(ratios), "x", 1.5, false);
    Ok(())
}

fn small_files(dir: &Path) -> Result<(), Anyhow> {
    let (from, to) = (dir.join("many"), dir.join("to"));
    std::fs::create_dir_all(&from)?;
    std::fs::create_dir_all(&to)?;
    let mut files = Vec::new();
    for n in 0..10_000u32 {
        let inside = format!("{:02}/{n:05}.jpg", n / 500);
        let path = from.join(&inside);
        std::fs::create_dir_all(path.parent().ok_or("no folder")?)?;
        let content: Vec<u8> = (0..20_000u32).map(|i| (i.wrapping_mul(n + 7) >> 5) as u8).collect();
        std::fs::write(&path, content)?;
        files.push(MadeFile { inside, bytes: 20_000, digest: copy::digest(&path, false)?, ours: false });
    }
    sh("sync -f many", dir)?;
    let cargo = Cargo { path: from, files, ..Cargo::default() };
    let place = FolderPlace::new(Dir::open(&to)?);
    let (mut plain, mut same) = (Vec::new(), Vec::new());
    // Nothing is removed in between: ext4 looks at each number that was given back in the last minutes before it gives out
    // another, and a copy right after a removal takes ten times as long, whoever makes it.
    for n in 0..TIMES {
        let copied = timed(|| sh(&format!("cp -r many to/copy-{n}"), dir))?;
        sh("sync -f to", dir)?;
        let and = format!("cp -r many to/kept-{n} && sync -f to && cat to/kept-{n}/*/* > /dev/null");
        let kept = timed(|| sh(&and, dir))?;
        let ours = timed(|| deliver(&place, &cargo, n))?;
        sh("sync -f to", dir)?;
        eprintln!("  cp -r {copied:.2} s, with sync and a read {kept:.2} s, carried {ours:.2} s");
        plain.push(copied / ours);
        same.push(kept / ours);
    }
    sh("rm -rf to many", dir)?;
    figure("10,000 small files, synced, read back / cp -r alone, speed", median(plain), "x", 0.8, false);
    println!("{:<58} {:>9.3} x", "  the same / cp -r, sync and a read", median(same));
    Ok(())
}

/// A card to a disk and to memory at once, beside the slower of the two alone.
fn two_places(dir: &Path) -> Result<(), Anyhow> {
    let memory = tempfile::tempdir_in("/dev/shm")?;
    let card = dir.join("card");
    std::fs::create_dir_all(&card)?;
    let noise: Vec<u8> = (0..1_000_003u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    std::fs::write(
        card.join("A001.mov"),
        noise.iter().copied().cycle().take(1_000_000_000).collect::<Vec<u8>>(),
    )?;
    sh("sync -f card", dir)?;
    let copy = |to: &[PathBuf]| -> Result<f64, Anyhow> {
        for t in to {
            let _ = std::fs::remove_dir_all(t);
            std::fs::create_dir_all(t)?;
        }
        let seconds = timed(|| match porter::offload::copy(&card, to, &Quiet)?.safe_to_erase {
            true => Ok(()),
            false => Err("the copy is not whole".into()),
        })?;
        to.iter().try_for_each(std::fs::remove_dir_all)?;
        Ok(seconds)
    };
    let (disk, other) = (dir.join("disk"), memory.path().join("disk"));
    let mut ratios = Vec::new();
    for _ in 0..TIMES {
        let slower = copy(std::slice::from_ref(&disk))?.max(copy(std::slice::from_ref(&other))?);
        ratios.push(copy(&[disk.clone(), other.clone()])? / slower);
    }
    figure("a card to two places / to the slower of them alone, wall time", median(ratios), "x", 1.15, true);
    Ok(())
}

fn remote(protocol: Protocol, port: u16, base: &str, login: Login) -> Remote {
    Remote {
        protocol,
        address: format!("http://127.0.0.1:{port}{base}"),
        host: "127.0.0.1".into(),
        port,
        base: base.into(),
        tls: false,
        login,
        key: None,
        known_hosts: None,
        host_key: None,
        certificates: None,
        timeout: Duration::from_secs(60),
        region: "us-east-1".into(),
        storage_class: None,
        link: None,
    }
}

fn servers_of_others(dir: &Path) -> Result<(), Anyhow> {
    const BYTES: usize = 300_000_000;
    let path = dir.join("send.bin");
    let noise: Vec<u8> = (0..1_000_003u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    std::fs::write(&path, noise.iter().copied().cycle().take(BYTES).collect::<Vec<u8>>())?;
    let digest = copy::digest(&path, false)?;
    let file = MadeFile { inside: String::new(), bytes: BYTES as u64, digest, ours: false };
    let cargo = Cargo { path, files: vec![file], ..Cargo::default() };
    let all = Arc::<Remotes>::default();
    let race = |name: &str, line: &str, remote: &Remote| -> Result<(), Anyhow> {
        let mut ratios = Vec::new();
        for n in 0..5 {
            let theirs = timed(|| sh(&line.replace("{n}", &n.to_string()), dir))?;
            let ours = timed(|| deliver(all.open(remote)?.as_ref(), &cargo, n))?;
            eprintln!("  {name}: curl {theirs:.2} s, ours {ours:.2} s");
            ratios.push(theirs / ours);
        }
        figure(&format!("{name}, 300 MB / curl to the same server, speed"), median(ratios), "x", 0.9, false);
        Ok(())
    };
    if let Some(server) = servers::s3() {
        let secret = dir.join("secret");
        std::fs::write(&secret, "tide-and-time")?;
        std::fs::set_permissions(&secret, std::os::unix::fs::PermissionsExt::from_mode(0o600))?;
        let login = Login::Password { user: "anna".into(), password: Secret::File(secret) };
        let line = format!(
            "curl -sf --aws-sigv4 aws:amz:us-east-1:s3 --user anna:tide-and-time -T send.bin \
             http://127.0.0.1:{}/out/theirs-{{n}}.bin",
            server.port
        );
        let place = remote(Protocol::S3, server.port, "/out", login);
        race("object storage (S3)", &line, &place)?;
    }
    if let Some(server) = servers::tus() {
        let line = format!(
            "at=$(curl -sfi -X POST -H 'Tus-Resumable: 1.0.0' -H 'Upload-Length: {BYTES}' http://127.0.0.1:{}/files \
             | tr -d '\\r' | sed -n 's/^[Ll]ocation: //p'); curl -sf -X PATCH -H 'Tus-Resumable: 1.0.0' -H 'Upload-Offset: 0' \
             -H 'Content-Type: application/offset+octet-stream' -T send.bin \"$at\"",
            server.port
        );
        race("resumable uploads (tus)", &line, &remote(Protocol::Tus, server.port, "/files", Login::None))?;
    }
    Ok(())
}

pub fn many(b: &Bench) -> Result<(), Anyhow> {
    let dir = b.dir.join("many");
    std::fs::create_dir_all(&dir)?;
    small_files(&dir)
}

pub fn sending(b: &Bench) -> Result<(), Anyhow> {
    let dir = b.dir.join("sending");
    std::fs::create_dir_all(&dir)?;
    packages(&dir)?;
    two_places(&dir)?;
    servers_of_others(&dir)
}
