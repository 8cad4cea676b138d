//! `check`: is the configuration right, are the folders there and themselves, what can this build and this machine do?

use crate::args;
use crate::ui;
use anyhow::{Context, Result};
use media::show;
use porter::config::House;
use porter::files::Dir;
use porter::files::known::{self, Identity, Mount, Role};
use porter::jobs::folders::{Used, mark, used};
use porter::jobs::state;
use porter::maker::{self, Nursery, Order, Outcome, Run, Work, sandbox};
use porter::store::Store;
use schemars::JsonSchema;
use serde::Serialize;
use std::ffi::OsStr;
use std::io::{Read, Write};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;

/// What was found, for people and programs.
#[derive(Serialize, JsonSchema)]
struct Checked {
    version: u32,
    configuration: String,
    good: bool,
    folders: Vec<Folder>,
    /// Places of a network: each was logged in to, written to and cleared again.
    places: Vec<Service>,
    services: Vec<Service>,
    parts: Vec<Part>,
    /// What a child that reads files was able to do, of all it should not.
    child: Vec<Tried>,
}

#[derive(Serialize, JsonSchema)]
struct Folder {
    what: String,
    path: String,
    /// "ok", or what is wrong.
    state: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    on: Option<String>,
    marked: bool,
    needed: bool,
    /// Bytes that fit in there.
    #[serde(skip_serializing_if = "Option::is_none")]
    free: Option<u64>,
}

#[derive(Serialize, JsonSchema)]
struct Service {
    name: String,
    address: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<String>,
}

#[derive(Serialize, JsonSchema)]
struct Part {
    name: String,
    state: String,
}

#[derive(Serialize, JsonSchema)]
struct Tried {
    what: String,
    could: bool,
}

pub fn check(a: &args::Check) -> Result<ExitCode> {
    if a.schema {
        ui::print_json(&schemars::schema_for!(Checked))?;
        return Ok(ExitCode::SUCCESS);
    }
    let house = House::load(&a.house.find())?;
    porter::config::apart_on_disk(&house)?;
    if a.mark {
        mark_all(&house, a.json)?;
    }
    let store = Store::look(&house.store_file()).ok().flatten();
    let mut folders: Vec<Folder> = used(&house).iter().map(|u| folder(u, store.as_ref())).collect();
    folders.push(state_folder(&house));
    let services: Vec<Service> = house
        .services
        .iter()
        .map(|s| Service { name: s.name.clone(), address: s.address.clone(), why: s.look().err() })
        .collect();
    let places: Vec<Service> =
        house.places.iter().filter_map(|p| Some((p, p.remote()?))).map(remote).collect();
    let sources = house.watches.iter().filter_map(|w| Some((w, w.from.as_ref()?))).map(source);
    let places: Vec<Service> = places.into_iter().chain(sources).collect();
    let (walls, child) = try_child(&house)?;
    let mut parts: Vec<Part> =
        media::parts::all().iter().map(|p| Part { name: p.name.to_owned(), state: p.state() }).collect();
    parts.push(Part { name: "walls around children".into(), state: walls });
    let good = folders.iter().all(|f| f.state == "ok" || !f.needed)
        && services.iter().chain(&places).all(|s| s.why.is_none());
    let configuration = house.file_shown();
    let checked = Checked { version: 1, configuration, good, folders, places, services, parts, child };
    if a.json {
        ui::print_json(&checked)?;
    } else {
        tell(&house, &checked);
    }
    Ok(ExitCode::from(if good { 0 } else { ui::errors::FAILED }))
}

fn tell(house: &House, c: &Checked) {
    crate::say!("{}: the configuration is valid", c.configuration);
    crate::say!(
        "  {}, {}, {}, {}",
        count(house.watches.len(), "watch folder"),
        count(house.rules.len(), "rule"),
        count(house.presets.len(), "preset"),
        count(house.places.len(), "place"),
    );
    crate::say!("\nFolders");
    for f in &c.folders {
        let state = if f.state == "ok" || f.needed { f.state.as_str() } else { "made when needed" };
        let marked = if f.marked { ", marked" } else { "" };
        let free = f.free.map_or(String::new(), |free| format!(", {} free", ui::bytes(free)));
        let on = f.on.as_ref().map_or(String::new(), |on| format!("  ({on}{marked}{free})"));
        crate::say!("  {state:<20} {:<28} {}{on}", f.what, f.path);
        if let Some(why) = f.why.as_ref().filter(|_| f.needed) {
            crate::say!("  {:<20} {why}", "");
        }
    }
    for (title, all) in [("Places of a network", &c.places), ("Services", &c.services)] {
        if !all.is_empty() {
            crate::say!("\n{title}");
        }
        for s in all {
            let state = if s.why.is_none() { "ok" } else { "NOT USABLE NOW" };
            crate::say!("  {state:<20} {:<28} {}", s.name, s.address);
            if let Some(why) = &s.why {
                crate::say!("  {:<20} {why}", "");
            }
        }
    }
    crate::say!("\nParts of this program");
    for p in &c.parts {
        crate::say!("  {:<22} {}", p.name, p.state);
    }
    let could: Vec<&str> = c.child.iter().filter(|t| t.could).map(|t| t.what.as_str()).collect();
    if could.is_empty() {
        crate::say!("  {:<22} tried {} forbidden things and could do none of them", "", c.child.len());
    } else {
        crate::say!("  {:<22} a child that reads files could: {}", "", could.join(", "));
    }
    if c.folders.iter().any(|f| f.needed && f.state != "ok") {
        crate::say!("\nSome folders cannot be used. Make them, mount them or mend their permissions.");
    }
    if c.places.iter().any(|s| s.why.is_some()) {
        crate::say!("\nA place cannot be used now. What goes there waits for it; nothing else does.");
    }
    if c.services.iter().any(|s| s.why.is_some()) {
        crate::say!(
            "\nA service cannot be used now. Its jobs wait for it, or are done here where if_away = \"here\"."
        );
    }
}

/// A place of a network, tried.
/// Where the files of a watch are fetched from: looked at, nothing more.
fn source((watch, from): (&porter::config::Watch, &porter::config::Fetch)) -> Service {
    let tried = porter::deliver::remote::far::open(&from.remote).and_then(|mut far| far.list(0));
    let why = tried.err().map(|e| e.to_string());
    Service { name: format!("from of watch {}", watch.name), address: from.remote.address.clone(), why }
}

fn remote((place, remote): (&porter::config::Place, &porter::deliver::Remote)) -> Service {
    let tried = Arc::<porter::deliver::Remotes>::default().open(remote).and_then(|p| p.look());
    let why = tried.err().map(|t| {
        let why = t.to_string();
        why.strip_prefix(&format!("{}: ", remote.address)).unwrap_or(&why).to_owned()
    });
    Service { name: place.name.clone(), address: remote.address.clone(), why }
}

fn mark_all(house: &House, quiet: bool) -> Result<()> {
    if state::is_running(house) {
        anyhow::bail!("a porter works on this house; stop it first, for it holds the record");
    }
    let taken = state::StateFolder::take(house)?;
    let store = taken.open_store(house)?;
    for (u, result) in mark(house, &store)? {
        if !quiet {
            let word = if result.is_ok() { "marked" } else { "NOT MARKED" };
            crate::say!("  {word:<20} {:<28} {}", named(&u), show::path(&u.path));
            if let Err(why) = result {
                crate::say!("  {:<20} {why}", "");
            }
        }
    }
    if !quiet {
        crate::say!("");
    }
    Ok(())
}

fn count(n: usize, what: &str) -> String {
    format!("{n} {what}{}", if n == 1 { "" } else { "s" })
}

fn named(u: &Used) -> String {
    match u.role {
        Role::Watch => format!("watch {}", u.name),
        Role::Done => "  done originals".into(),
        Role::TurnedAway => "  turned away".into(),
        Role::Place => format!("place {}", u.name),
    }
}

fn folder(u: &Used, store: Option<&Store>) -> Folder {
    let noted: Option<Identity> = store
        .and_then(|s| s.read(|v| v.folder(u.role, &u.name)).ok().flatten())
        .filter(|(path, _)| *path == u.path)
        .map(|(_, identity)| identity);
    let needed = matches!(u.role, Role::Watch | Role::Place);
    look(named(u), &u.path, noted.as_ref(), needed)
}

fn state_folder(house: &House) -> Folder {
    look("state".into(), &house.state, None, false)
}

/// A folder that is there, is itself, and can be written: tried, not guessed.
fn look(what: String, path: &Path, noted: Option<&Identity>, needed: bool) -> Folder {
    let mut f = Folder {
        what,
        path: show::path(path),
        state: "ok".into(),
        why: None,
        on: None,
        marked: false,
        needed,
        free: None,
    };
    let dir = match Dir::open(path) {
        Ok(dir) => dir,
        Err(e) => {
            f.state =
                if e.kind() == std::io::ErrorKind::NotFound { "MISSING".into() } else { "NOT USABLE".into() };
            f.why = Some(match e.kind() {
                std::io::ErrorKind::NotFound => "make it, or mount its share".into(),
                _ => known::plain(&e),
            });
            return f;
        }
    };
    f.on = Mount::of(&dir).map(|m| m.to_string());
    f.marked = known::marker(&dir).is_some();
    if let Some(Err(why)) = noted.map(|n| known::recognise(&dir, n)) {
        f.state = "NOT ITSELF".into();
        f.why = Some(why);
        f.needed = true;
        return f;
    }
    match try_writing(&dir) {
        Ok(apart) => {
            f.why = (apart > MOST_APART).then(|| {
                format!(
                    "its clock and this machine's are {apart} s apart: times of files there are not of here"
                )
            });
        }
        Err((state, e)) => {
            f.state = state.into();
            f.why = Some(known::plain(&e));
        }
    }
    f.free = rustix::fs::fstatvfs(dir.fd()).ok().map(|s| s.f_bavail * s.f_frsize);
    f
}

/// Clocks this many seconds apart are told.
const MOST_APART: u64 = 5;

/// Writes a file, reads it back, gives it another name that is free and takes it away again. Gives how many seconds the
/// clock is off that gave it its time.
fn try_writing(dir: &Dir) -> std::result::Result<u64, (&'static str, std::io::Error)> {
    let named = |end: &str| format!(".deft-porter-check-{}{end}", porter::clock::nonce());
    let (probe, other) = (named(""), named("-2"));
    let (probe, other): (&OsStr, &OsStr) = (probe.as_ref(), other.as_ref());
    let tried = (|| {
        let said = b"tried";
        let file = dir.create(probe).and_then(|mut f| f.write_all(said).and_then(|()| f.sync_all()));
        file.map_err(|e| ("NOT WRITABLE", e))?;
        let mut found = Vec::new();
        let read = dir.read(probe).and_then(|mut f| f.read_to_end(&mut found));
        read.map_err(|e| ("NOT READABLE", e))?;
        if found != said {
            return Err((
                "NOT READABLE",
                std::io::Error::other("a file that was just written reads back otherwise"),
            ));
        }
        let now =
            std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_secs());
        let there = dir.look(probe).map_err(|e| ("NOT READABLE", e))?;
        let apart = there.map_or(0, |e| (e.seen.modified / 1_000_000_000).unsigned_abs().abs_diff(now));
        match dir.rename_if_free(probe, dir, other) {
            Ok(true) => Ok(apart),
            Ok(false) => Err(("NO RENAMING", std::io::Error::other("a name that is free counts as taken"))),
            Err(e) => Err(("NO RENAMING", e)),
        }
    })();
    let cleared = dir.remove(probe).and_then(|_| dir.remove(other)).map_err(|e| ("NO REMOVING", e));
    tried.and_then(|apart| cleared.map(|_| apart))
}

/// What a child of this program is able to do here: tried by one.
fn try_child(house: &House) -> Result<(String, Vec<Tried>)> {
    let program = std::env::current_exe().context("cannot find this program's own file")?;
    let folder = tempfile::tempdir().context("cannot make a temporary folder")?;
    let order = Order::new(Work::Try, folder.path().to_owned());
    // As a porter's children come into being.
    let nursery = Nursery::new(&program);
    let run = Run { program: &program, nursery: Some(&nursery), limits: &house.maker, source: None, order };
    match maker::run(run, |_| (), || false)? {
        Outcome::Tried(parts, tried) => {
            let tried = tried.into_iter().map(|(what, could)| Tried { what, could }).collect();
            Ok((parts.words(), tried))
        }
        Outcome::Failed { message, .. } | Outcome::Broke(message) => {
            Ok((format!("could not be tried: {message}"), Vec::new()))
        }
        _ => Ok((sandbox::Parts::default().words(), Vec::new())),
    }
}
