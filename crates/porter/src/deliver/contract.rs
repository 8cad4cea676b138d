//! What every place must keep. To add a place, run [`all`] on it.

use super::{Cargo, Place, Published, Ticket, Trouble, Whose};
use crate::files::{Quiet, Watching, copy};
use crate::store::MadeFile;
use std::any::Any;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};

/// A fresh, empty place, and what must live as long as it.
pub type Fresh = (Box<dyn Any>, Box<dyn Place>);

/// A cargo of one file.
pub fn one_file(work: &Path, content: &[u8]) -> Cargo {
    let path = work.join("output-0.mp4");
    std::fs::write(&path, content).expect("a work folder");
    let digest = copy::digest(&path, false).expect("it was just written");
    Cargo {
        path,
        files: vec![MadeFile { inside: String::new(), bytes: content.len() as u64, digest, ours: false }],
        ..Cargo::default()
    }
}

/// A cargo of several files.
pub fn many_files(work: &Path) -> Cargo {
    let path = work.join("output-1");
    let mut files = Vec::new();
    for (inside, content) in
        [("index.m3u8", &b"#EXTM3U"[..]), ("low/1.m4s", &[7; 3000]), ("low/2.m4s", &[8; 2000])]
    {
        let at = path.join(inside);
        std::fs::create_dir_all(at.parent().expect("inside")).expect("a work folder");
        std::fs::write(&at, content).expect("a work folder");
        let digest = copy::digest(&at, false).expect("it was just written");
        files.push(MadeFile { inside: inside.into(), bytes: content.len() as u64, digest, ours: false });
    }
    Cargo { path, files, ..Cargo::default() }
}

struct Counter {
    bytes: AtomicU64,
    stop_at: u64,
}

impl Watching for Counter {
    fn stopping(&self) -> bool {
        self.bytes.load(Ordering::Relaxed) >= self.stop_at
    }
    fn passed(&self, n: u64) {
        self.bytes.fetch_add(n, Ordering::Relaxed);
    }
}

/// The whole contract.
pub fn all(fresh: &dyn Fn() -> Fresh) {
    let work = tempfile::tempdir().expect("a temporary folder");
    let content: Vec<u8> = (0..3_000_000u32).map(|n| (n % 251) as u8).collect();
    for cargo in [one_file(work.path(), &content), many_files(work.path())] {
        publishing(fresh, &cargo);
        after_a_kill(fresh, &cargo);
    }
    let cargo = one_file(work.path(), &content);
    taking_over(fresh, &cargo);
    houses_side_by_side(fresh, &cargo, &one_file(tempfile::tempdir().expect("a folder").path(), b"other"));
    watching(fresh, &cargo);
    nothing_made(fresh, &cargo);
    paths(fresh, &cargo);
    let mut lie = cargo.clone();
    lie.files[0].digest = "xxh3-128:0".into();
    let (_keep, p) = fresh();
    let t = p.begin("lie").expect("a ticket");
    assert!(
        matches!(put(p.as_ref(), &lie, "x.mp4", &t, &Quiet), Err(Trouble::Changed(_))),
        "made and carried are the same"
    );
    assert!(!p.has("x.mp4").expect("a look"));
}

/// Begins and stages; gives the ticket by which it is found again.
fn put(
    p: &dyn Place,
    cargo: &Cargo,
    name: &str,
    ticket: &Ticket,
    w: &dyn Watching,
) -> Result<Ticket, Trouble> {
    let ticket = p.prepare(cargo, name, ticket)?;
    let proof = p.stage(cargo, name, &ticket, w)?;
    assert_eq!(proof, p.about().proof);
    Ok(ticket)
}

fn publishing(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    let p = p.as_ref();
    p.look().expect("it can be used");
    let name = "day 1/clip_proxy";
    assert!(!p.has(name).expect("a look"));
    let first = p.begin("h1-1-0").expect("a ticket");
    let first = put(p, cargo, name, &first, &Quiet).expect("staging");
    assert!(!p.has(name).expect("a look"), "nothing stands under the final name while it is staged");
    assert_eq!(p.whose(name, &first, cargo).expect("a look"), Whose::Nothing);
    assert_eq!(p.publish(&first, name).expect("publishing"), Published::Done);
    assert_eq!(p.whose(name, &first, cargo).expect("a look"), Whose::Ours);
    // A second delivery does not touch the first.
    let second = p.begin("h1-2-0").expect("a ticket");
    let mut second = put(p, cargo, name, &second, &Quiet).expect("staging");
    assert_eq!(p.publish(&second, name).expect("publishing"), Published::Taken);
    assert_eq!(p.whose(name, &second, cargo).expect("a look"), Whose::Other);
    if p.about().staged_by_name {
        p.discard(name, &second).expect("discarding");
        second = p.begin("h1-2-1").expect("a ticket");
        second = put(p, cargo, "day 1/clip_proxy_2", &second, &Quiet).expect("staging");
    }
    assert_eq!(p.publish(&second, "day 1/clip_proxy_2").expect("publishing"), Published::Done);
    p.discard(name, &second).expect("nothing is left to discard");
    p.discard("no such folder/x", &second).expect("nothing was ever there");
    assert_eq!(p.whose(name, &first, cargo).expect("a look"), Whose::Ours);
    assert_eq!(p.whose("day 1/clip_proxy_2", &second, cargo).expect("a look"), Whose::Ours);
}

fn after_a_kill(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    let p = p.as_ref();
    let t = p.begin("h1-1-0").expect("a ticket");
    // Staged twice: made anew, or gone on with.
    let t = put(p, cargo, "a", &t, &Quiet).expect("staging");
    let t = put(p, cargo, "a", &t, &Quiet).expect("staging again");
    assert_eq!(p.publish(&t, "a").expect("publishing"), Published::Done);
    assert_eq!(p.whose("a", &t, cargo).expect("a look"), Whose::Ours);
    let given_up = p.begin("h1-1-1").expect("a ticket");
    let given_up = put(p, cargo, "b", &given_up, &Quiet).expect("staging");
    p.discard("b", &given_up).expect("discarding");
    assert!(p.publish(&given_up, "b").is_err(), "what was discarded cannot be published");
    assert!(!p.has("b").expect("a look"));
    broken_off(p, cargo);
}

/// Stopped at several moments, and gone on with by a later try.
fn broken_off(p: &dyn Place, cargo: &Cargo) {
    let whole: u64 = cargo.files.iter().map(|f| f.bytes).sum();
    let mut t = p.begin("h1-1-2").expect("a ticket");
    for n in 1..4 {
        t = p.prepare(cargo, "c", &t).expect("a beginning");
        let w = Counter { bytes: AtomicU64::new(0), stop_at: whole * n / 4 };
        assert_eq!(p.stage(cargo, "c", &t, &w), Err(Trouble::Stopped));
        assert!(!p.has("c").expect("a look"));
        assert_ne!(p.whose("c", &t, cargo).expect("a look"), Whose::Ours);
    }
    let t = put(p, cargo, "c", &t, &Quiet).expect("staging on");
    assert_eq!(p.publish(&t, "c").expect("publishing"), Published::Done);
    assert_eq!(p.whose("c", &t, cargo).expect("a look"), Whose::Ours);
}

/// What was made is gone from the work folder: what stands under the name is nobody's of us.
fn nothing_made(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    let p = p.as_ref();
    let theirs = put(p, cargo, "a", &p.begin("theirs").expect("a ticket"), &Quiet).expect("staging");
    assert_eq!(p.publish(&theirs, "a").expect("publishing"), Published::Done);
    let ours = p.begin("ours").expect("a ticket");
    let empty = Cargo { path: cargo.path.clone(), ..Cargo::default() };
    assert_eq!(p.whose("a", &ours, &empty).expect("a look"), Whose::Other);
}

/// Two houses whose jobs have the same numbers.
fn houses_side_by_side(fresh: &dyn Fn() -> Fresh, mine: &Cargo, theirs: &Cargo) {
    let (_keep, p) = fresh();
    let p = p.as_ref();
    let (a, b) = (p.begin("aaaa-1-0").expect("a ticket"), p.begin("bbbb-1-0").expect("a ticket"));
    assert_ne!(a, b);
    let a = put(p, mine, "a", &a, &Quiet).expect("staging");
    let b = put(p, theirs, "b", &b, &Quiet).unwrap_or(b);
    assert_eq!(p.publish(&a, "a").expect("publishing"), Published::Done);
    assert_eq!(p.whose("a", &a, mine).expect("a look"), Whose::Ours);
    assert_eq!(p.whose("a", &b, theirs).expect("a look"), Whose::Other);
}

/// What has a name gets another one, and nothing of it is lost; a place that cannot says so and leaves it.
fn taking_over(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    let p = p.as_ref();
    let old = put(p, cargo, "d/a", &p.begin("old").expect("a ticket"), &Quiet).expect("staging");
    assert_eq!(p.publish(&old, "d/a").expect("publishing"), Published::Done);
    match p.set_aside("d/a", "d/a_before") {
        Ok(done) => {
            assert_eq!(done, Published::Done);
            assert!(!p.has("d/a").expect("a look"));
            assert_eq!(p.whose("d/a_before", &old, cargo).expect("a look"), Whose::Ours);
            let new = put(p, cargo, "d/a", &p.begin("new").expect("a ticket"), &Quiet).expect("staging");
            assert_eq!(p.publish(&new, "d/a").expect("publishing"), Published::Done);
            assert_eq!(p.set_aside("d/a", "d/a_before").expect("a look"), Published::Taken);
            assert!(p.has("d/a").expect("a look"));
        }
        Err(Trouble::Refused(_)) => assert!(p.has("d/a").expect("a look")),
        Err(e) => panic!("{e}"),
    }
}

fn watching(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    let p = p.as_ref();
    let t: Ticket = p.begin("w").expect("a ticket");
    let w = Counter { bytes: AtomicU64::new(0), stop_at: u64::MAX };
    put(p, cargo, "a", &t, &w).expect("staging");
    assert!(w.bytes.load(Ordering::Relaxed) >= cargo.files[0].bytes, "progress is told");
    let t = p.begin("s").expect("a ticket");
    let w = Counter { bytes: AtomicU64::new(0), stop_at: 1 };
    assert_eq!(put(p, cargo, "b", &t, &w), Err(Trouble::Stopped));
    assert!(!p.has("b").expect("a look"));
}

/// No name leads out of the place.
fn paths(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    for name in ["../out", "a/../../out", "/out", ".."] {
        let t = p.begin("p").expect("a ticket");
        assert!(put(p.as_ref(), cargo, name, &t, &Quiet).is_err(), "{name}");
    }
}
