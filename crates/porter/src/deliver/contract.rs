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
    Cargo { path, files: vec![MadeFile { inside: String::new(), bytes: content.len() as u64, digest }] }
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
        files.push(MadeFile { inside: inside.into(), bytes: content.len() as u64, digest });
    }
    Cargo { path, files }
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
    houses_side_by_side(fresh, &cargo, &one_file(tempfile::tempdir().expect("a folder").path(), b"other"));
    watching(fresh, &cargo);
    paths(fresh, &cargo);
    let mut lie = cargo.clone();
    lie.files[0].digest = "xxh3-128:0".into();
    let (_keep, p) = fresh();
    let t = p.begin("lie").expect("a ticket");
    assert!(
        matches!(p.stage(&lie, "x.mp4", &t, &Quiet), Err(Trouble::Changed(_))),
        "made and carried are the same"
    );
    assert!(!p.has("x.mp4").expect("a look"));
}

fn publishing(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    p.look().expect("it can be used");
    let name = "day 1/clip_proxy";
    assert!(!p.has(name).expect("a look"));
    let first = p.begin("h1-1-0").expect("a ticket");
    let proof = p.stage(cargo, name, &first, &Quiet).expect("staging");
    assert_eq!(proof, p.about().proof);
    assert!(!p.has(name).expect("a look"), "nothing stands under the final name while it is staged");
    assert_eq!(p.whose(name, &first, cargo).expect("a look"), Whose::Nothing);
    assert_eq!(p.publish(&first, name).expect("publishing"), Published::Done);
    assert_eq!(p.whose(name, &first, cargo).expect("a look"), Whose::Ours);
    // A second delivery does not touch the first.
    let second = p.begin("h1-2-0").expect("a ticket");
    p.stage(cargo, name, &second, &Quiet).expect("staging");
    assert_eq!(p.publish(&second, name).expect("publishing"), Published::Taken);
    assert_eq!(p.whose(name, &second, cargo).expect("a look"), Whose::Other);
    assert_eq!(p.publish(&second, "day 1/clip_proxy_2").expect("publishing"), Published::Done);
    p.discard(name, &second).expect("nothing is left to discard");
    p.discard("no such folder/x", &second).expect("nothing was ever there");
    assert_eq!(p.whose(name, &first, cargo).expect("a look"), Whose::Ours);
}

fn after_a_kill(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    let t = p.begin("h1-1-0").expect("a ticket");
    // Staged twice: made anew, not written over.
    p.stage(cargo, "a", &t, &Quiet).expect("staging");
    p.stage(cargo, "a", &t, &Quiet).expect("staging again");
    assert_eq!(p.publish(&t, "a").expect("publishing"), Published::Done);
    assert_eq!(p.whose("a", &t, cargo).expect("a look"), Whose::Ours);
    let given_up = p.begin("h1-1-1").expect("a ticket");
    p.stage(cargo, "b", &given_up, &Quiet).expect("staging");
    p.discard("b", &given_up).expect("discarding");
    assert!(p.publish(&given_up, "b").is_err(), "what was discarded cannot be published");
    assert!(!p.has("b").expect("a look"));
}

/// Two houses whose jobs have the same numbers.
fn houses_side_by_side(fresh: &dyn Fn() -> Fresh, mine: &Cargo, theirs: &Cargo) {
    let (_keep, p) = fresh();
    let (a, b) = (p.begin("aaaa-1-0").expect("a ticket"), p.begin("bbbb-1-0").expect("a ticket"));
    assert_ne!(a, b);
    p.stage(mine, "a", &a, &Quiet).expect("staging");
    let _ = p.stage(theirs, "b", &b, &Quiet);
    assert_eq!(p.publish(&a, "a").expect("publishing"), Published::Done);
    assert_eq!(p.whose("a", &a, mine).expect("a look"), Whose::Ours);
    assert_eq!(p.whose("a", &b, theirs).expect("a look"), Whose::Other);
}

fn watching(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    let t: Ticket = p.begin("w").expect("a ticket");
    let w = Counter { bytes: AtomicU64::new(0), stop_at: u64::MAX };
    p.stage(cargo, "a", &t, &w).expect("staging");
    assert!(w.bytes.load(Ordering::Relaxed) >= cargo.files[0].bytes, "progress is told");
    let t = p.begin("s").expect("a ticket");
    let w = Counter { bytes: AtomicU64::new(0), stop_at: 1 };
    assert_eq!(p.stage(cargo, "b", &t, &w), Err(Trouble::Stopped));
    assert!(!p.has("b").expect("a look"));
}

/// No name leads out of the place.
fn paths(fresh: &dyn Fn() -> Fresh, cargo: &Cargo) {
    let (_keep, p) = fresh();
    for name in ["../out", "a/../../out", "/out", ".."] {
        let t = p.begin("p").expect("a ticket");
        assert!(p.stage(cargo, name, &t, &Quiet).is_err(), "{name}");
    }
}
