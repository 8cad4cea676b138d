//! `kill -9` at every named step boundary of the program, on file systems of several kinds, with one house and with two
//! on one place: nothing is lost, nothing is delivered twice, nothing foreign stands under a name.
//!
//! A test run kills once at each boundary of each kind of house. KILLS=500 spreads that many over all moments, and prints
//! the counts that docs/reliability.md holds.

use crate::support::{PROGRAM, family_of, is_alive, make_clip, text};
use media::testkit::Clip;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::LazyLock;
use std::time::{Duration, Instant};

/// Where a house and its folders lie.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Kind {
    name: &'static str,
    /// What happens to originals.
    original: &'static str,
    /// The folder for done originals and the place are on another file system than the watch.
    apart: bool,
    /// The file system refuses to rename without replacing.
    old_renames: bool,
    /// A second house delivers to the same place.
    two: bool,
    /// What is still in the watch folder after the kill grows, before the porter is started again.
    grows: bool,
    /// One output is a folder with a file for each picture.
    folders: bool,
}

const PLAIN: Kind = Kind {
    name: "move",
    original: "move",
    apart: false,
    old_renames: false,
    two: false,
    grows: false,
    folders: false,
};

const KINDS: [Kind; 13] = [
    PLAIN,
    Kind { name: "move to another disk", apart: true, ..PLAIN },
    Kind { name: "move, old renames", old_renames: true, ..PLAIN },
    Kind { name: "move to another disk, old renames", apart: true, old_renames: true, ..PLAIN },
    Kind { name: "leave", original: "leave", ..PLAIN },
    Kind { name: "remove, another disk", original: "remove", apart: true, ..PLAIN },
    Kind { name: "two houses on one place", apart: true, two: true, ..PLAIN },
    Kind { name: "move, originals grow", grows: true, ..PLAIN },
    Kind { name: "move to another disk, originals grow", apart: true, grows: true, ..PLAIN },
    Kind { name: "outputs that are folders, another disk", apart: true, folders: true, ..PLAIN },
    Kind { name: "outputs that are folders, old renames", old_renames: true, folders: true, ..PLAIN },
    Kind { name: "move first", original: "move first", ..PLAIN },
    Kind {
        name: "move first to another disk, old renames",
        original: "move first",
        apart: true,
        old_renames: true,
        ..PLAIN
    },
];

/// Frames of the clips that the first and the second house are given: by them outputs are told apart.
const FRAMES: [u64; 2] = [20, 24];

fn clips() -> &'static [Vec<u8>; 2] {
    static CLIPS: LazyLock<[Vec<u8>; 2]> = LazyLock::new(|| {
        FRAMES.map(|frames| {
            make_clip(&Clip { frames: frames as u32, width: 64, height: 48, ..Clip::default() })
        })
    });
    &CLIPS
}

struct Site {
    kind: Kind,
    near: tempfile::TempDir,
    far: tempfile::TempDir,
}

impl Site {
    fn new(kind: Kind) -> Site {
        let near = tempfile::tempdir().unwrap();
        // Memory is another file system than a disk.
        let far = if kind.apart { tempfile::tempdir_in("/dev/shm") } else { tempfile::tempdir() };
        let site = Site { kind, near, far: far.unwrap() };
        std::fs::create_dir(site.far.path().join("out")).unwrap();
        for n in 0..site.houses() {
            for folder in ["in", "state"] {
                std::fs::create_dir_all(site.house(n).join(folder)).unwrap();
            }
            site.configure(n);
            std::fs::write(site.house(n).join("in/clip.mp4"), &clips()[n]).unwrap();
            std::fs::write(site.house(n).join("in/notes.mp4"), format!("call sheet of house {n}\n")).unwrap();
        }
        site
    }

    fn houses(&self) -> usize {
        1 + usize::from(self.kind.two)
    }

    fn house(&self, n: usize) -> PathBuf {
        self.near.path().join(format!("house-{n}"))
    }

    fn far(&self, n: usize, folder: &str) -> PathBuf {
        self.far.path().join(format!("{folder}-{n}"))
    }

    fn out(&self) -> PathBuf {
        self.far.path().join("out")
    }

    fn configure(&self, n: usize) {
        let text = format!(
            r#"
[house]
name = "Estuary Hours"
state = "state"
retry_after = "100 ms"
[[watch]]
name = "cards"
folder = "in"
steady = "100 ms"
look_every = "100 ms"
second_look = "100 ms"
original = "{}"
done = "{}"
turned_away = "{}"
[[place]]
name = "editors"
folder = "{}"
[[preset]]
name = "proxy"
[preset.video]
fit = "32x24"
[[preset]]
name = "sound"
[preset.audio]
[[rule]]
name = "clips"
when = 'kind == "video"'
make = [{{ preset = "proxy", name = "{{stem}}_proxy", to = ["editors"] }}, {{ preset = "sound", to = ["editors"] }}{}]
[[preset]]
name = "pictures"
[preset.frames]
format = "png"
"#,
            self.kind.original,
            self.far(n, "done").display(),
            self.far(n, "away").display(),
            self.out().display(),
            if self.kind.folders { ", { preset = \"pictures\", to = [\"editors\"] }" } else { "" },
        );
        std::fs::write(self.house(n).join("deft-porter.toml"), text).unwrap();
    }

    fn command(&self, n: usize) -> Command {
        let mut c = Command::new(PROGRAM);
        c.args(["run", "--once"]).arg(self.house(n)).stdin(Stdio::null());
        if self.kind.old_renames {
            c.env("DEFT_PORTER_TEST_OLD_RENAMES", "1");
        }
        c
    }

    /// Runs the first house until it is killed there; true if it was.
    fn killed_at(&self, stop: &str) -> bool {
        let mut second = (self.kind.two)
            .then(|| self.command(1).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
        let seen = self.near.path().join("stops");
        let _ = std::fs::remove_file(&seen);
        self.command(0)
            .env("DEFT_PORTER_TEST_KILL_AT", stop)
            .env("DEFT_PORTER_TEST_STOPS", &seen)
            .output()
            .unwrap();
        if let Some(second) = &mut second {
            second.wait().unwrap();
        }
        std::fs::read_to_string(&seen).unwrap_or_default().contains("KILLED")
    }

    /// Lets every original grow that still lies in the watch folder: what each is now, by its name.
    fn grow(&self) -> Vec<(String, Vec<u8>)> {
        let inbox = self.house(0).join("in");
        let grown = names(&inbox).into_iter().map(|name| {
            let path = inbox.join(&name);
            let mut bytes = std::fs::read(&path).unwrap();
            // A box that readers pass over; of the call sheet simply more text.
            bytes.extend(b"\0\0\0\x12freelast bytes");
            std::fs::write(&path, &bytes).unwrap();
            (name, bytes)
        });
        grown.collect()
    }

    /// After growing: every byte of every original is somewhere, and every output under a name is whole and of its record.
    fn finish_and_judge_grown(&self, grown: &[(String, Vec<u8>)], after: &str) {
        let what = format!("{}, {after}", self.kind.name);
        // Twice: what is new for the first run may be told as such and be taken by the second.
        for _ in 0..2 {
            let out = self.command(0).output().unwrap();
            assert!(out.status.code().is_some(), "{what}: {}", text(&out));
        }
        let kept: Vec<Vec<u8>> = [self.far(0, "done"), self.far(0, "away")]
            .iter()
            .flat_map(|folder| names(folder).into_iter().map(|n| std::fs::read(folder.join(n)).unwrap()))
            .collect();
        assert_eq!(names(&self.house(0).join("in")).len(), 0, "{what}");
        for (name, bytes) in grown {
            assert!(kept.contains(bytes), "{what}: {name} as it grew is lost");
        }
        let notes = b"call sheet of house 0\n".to_vec();
        for (name, first) in [("clip.mp4", &clips()[0]), ("notes.mp4", &notes)] {
            assert!(
                kept.iter().any(|k| k.starts_with(first)),
                "{what}: {name} is lost, of {} files",
                kept.len()
            );
        }
        let status = Command::new(PROGRAM).args(["status", "--json"]).arg(self.house(0)).output().unwrap();
        let status: serde_json::Value = serde_json::from_slice(&status.stdout).unwrap();
        assert_eq!(status["open"].as_array().unwrap().len(), 0, "{what}: {status:#}");
        let mut delivered = BTreeSet::new();
        for d in status["ended"].as_array().unwrap().iter().flat_map(|j| j["outputs"].as_array().unwrap()) {
            if let Some(name) =
                d["deliveries"][0]["name"].as_str().filter(|_| d["deliveries"][0]["delivered"].is_string())
            {
                let digest = porter::files::copy::digest(&self.out().join(name), true).unwrap();
                assert_eq!(d["checksum"], digest, "{what}: {name} is not what its record says");
                assert!(delivered.insert(name.to_owned()), "{what}: {name} is of two jobs");
            }
        }
        assert!(delivered.len() >= 2, "{what}: {delivered:?}");
        assert_eq!(
            names(&self.out()).into_iter().collect::<BTreeSet<_>>(),
            delivered,
            "{what}: neither twice nor left over"
        );
    }

    /// Every stop that a whole run passes, as `name:count`, in order.
    fn stops(&self) -> Vec<String> {
        let seen = self.near.path().join("stops");
        self.command(0).env("DEFT_PORTER_TEST_STOPS", &seen).output().unwrap();
        let mut counts = BTreeMap::new();
        let names = std::fs::read_to_string(&seen).unwrap();
        let numbered = names.lines().map(|name| {
            let n = counts.entry(name.to_owned()).or_insert(0);
            *n += 1;
            format!("{name}:{n}")
        });
        numbered.collect()
    }

    /// Runs every house to its end and looks at all that is there.
    fn finish_and_judge(&self, after: &str) {
        for n in 0..self.houses() {
            let out = self.command(n).output().unwrap();
            assert!(out.status.code().is_some(), "{after}: {}", text(&out));
        }
        let what = format!("{}, {after}", self.kind.name);
        let mut delivered = BTreeSet::new();
        for (n, frames) in FRAMES.into_iter().enumerate().take(self.houses()) {
            let status =
                Command::new(PROGRAM).args(["status", "--json"]).arg(self.house(n)).output().unwrap();
            let status: serde_json::Value = serde_json::from_slice(&status.stdout).unwrap();
            assert_eq!(status["open"].as_array().unwrap().len(), 0, "{what}: {status:#}");
            let done: Vec<&serde_json::Value> =
                status["ended"].as_array().unwrap().iter().filter(|j| j["state"] == "done").collect();
            assert_eq!(done.len(), 1, "{what}: {status:#}");
            for o in done[0]["outputs"].as_array().unwrap() {
                let d = &o["deliveries"][0];
                let name = d["name"].as_str().unwrap();
                assert!(d["delivered"].is_string(), "{what}: {d}");
                let path = self.out().join(name);
                if path.is_dir() {
                    let whole = |n: &String| {
                        media::still::facts_of(&mut std::fs::File::open(path.join(n)).unwrap()).is_ok()
                    };
                    let files = names(&path);
                    assert!(files.len() as u64 == frames && files.iter().all(whole), "{what}: {files:?}");
                    assert!(delivered.insert(name.to_owned()), "{what}: {name} is of two jobs");
                    continue;
                }
                // Its own bytes, and whole.
                let digest = porter::files::copy::digest(&path, true).unwrap();
                assert_eq!(o["checksum"], digest, "{what}: {name} is not what its record says");
                let facts = media::facts::of(Box::new(std::fs::File::open(&path).unwrap())).unwrap();
                if let Some(v) = facts.picture() {
                    assert_eq!(v.frames, Some(frames), "{what}: {name} is of another house");
                }
                assert!(delivered.insert(name.to_owned()), "{what}: {name} is of two jobs");
            }
            self.judge_originals(n, &what);
        }
        let there: BTreeSet<String> = names(&self.out()).into_iter().collect();
        assert_eq!(there, delivered, "{what}: neither twice nor left over");
    }

    fn judge_originals(&self, n: usize, what: &str) {
        let inbox = self.house(n).join("in");
        let (done, away) = (names(&self.far(n, "done")), names(&self.far(n, "away")));
        let read = |p: PathBuf| std::fs::read(&p).unwrap_or_else(|e| panic!("{what}: {}: {e}", p.display()));
        let notes = format!("call sheet of house {n}\n").into_bytes();
        match self.kind.original {
            "leave" => {
                assert_eq!(names(&inbox), ["clip.mp4", "notes.mp4"], "{what}");
                assert_eq!(
                    (read(inbox.join("clip.mp4")), read(inbox.join("notes.mp4"))),
                    (clips()[n].clone(), notes)
                );
                assert_eq!((done.len(), away), (0, vec!["notes.mp4.why.txt".to_owned()]), "{what}");
            }
            original => {
                assert_eq!(names(&inbox).len(), 0, "{what}");
                assert_eq!(away, ["notes.mp4", "notes.mp4.why.txt"], "{what}");
                assert_eq!(read(self.far(n, "away").join("notes.mp4")), notes, "{what}");
                if original.starts_with("move") {
                    assert_eq!(done, ["clip.mp4"], "{what}");
                    assert_eq!(read(self.far(n, "done").join("clip.mp4")), clips()[n], "{what}");
                }
            }
        }
        assert_eq!(names(&self.house(n).join("state/work")).len(), 0, "{what}: work is cleared away");
    }
}

fn names(folder: &Path) -> Vec<String> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut names: Vec<String> =
        entries.map(|e| e.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

/// Step boundaries that a house of each kind must pass: a boundary that is not there any more is not tested any more.
fn wanted(kind: &Kind) -> Vec<&'static str> {
    let mut all = vec![
        "about to record",
        "recorded",
        "made, not recorded",
        "staged, not read back",
        "staged",
        "published",
        "reason written",
    ];
    match kind.original {
        "move" => all.extend(["about to move the original", "original moved"]),
        "move first" => all.extend(["about to move the original", "original moved", "taken in"]),
        "remove" => all.push("about to remove the original"),
        _ => (),
    }
    if kind.apart && kind.original.starts_with("move") {
        all.extend(["original copied", "original copy published"]);
    }
    if kind.old_renames {
        all.push("linked");
    }
    all
}

#[rstest::rstest]
fn a_kill_at_any_boundary_loses_nothing_and_doubles_nothing(
    #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] which: usize,
) {
    let kind = KINDS[which];
    let stops = Site::new(kind).stops();
    for name in wanted(&kind) {
        assert!(
            stops.iter().any(|s| s.rsplit_once(':').unwrap().0 == name),
            "{}: no stop \"{name}\" in {stops:?}",
            kind.name
        );
    }
    let many: usize = std::env::var("KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(0);
    let chosen: Vec<&String> = if many > 0 {
        let each = many.div_ceil(KINDS.len());
        (0..each).map(|i| &stops[i * stops.len() / each]).collect()
    } else {
        // The first time each is passed, and once in the middle of all that is recorded.
        let middle = stops.iter().filter(|s| s.starts_with("recorded:")).count() / 2;
        stops.iter().filter(|s| s.ends_with(":1") || **s == format!("recorded:{middle}")).collect()
    };
    let mut kills = 0;
    for stop in chosen {
        let site = Site::new(kind);
        let killed = site.killed_at(stop);
        // With another house beside it the order of things is another each time; the first of each kind comes always.
        assert!(killed || many > 0 || !stop.ends_with(":1"), "{}: \"{stop}\" was not reached", kind.name);
        kills += usize::from(killed);
        let after = format!("killed at \"{stop}\"");
        match kind.grows {
            true => site.finish_and_judge_grown(&site.grow(), &after),
            false => site.finish_and_judge(&after),
        }
    }
    println!("{}: {kills} kills, 0 lost, 0 doubled, 0 foreign", kind.name);
}

/// Moments between boundaries: while a child works, while bytes flow, while the record is written.
impl Site {
    /// Kills the porter of the first house so long after its start; what it had begun must end with it.
    fn killed_after(&self, wait: Duration) -> bool {
        let mut second = (self.kind.two)
            .then(|| self.command(1).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
        let mut porter = self.command(0).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(wait);
        let was_there = porter.try_wait().unwrap().is_none();
        let family = if was_there { family_of(porter.id()) } else { Vec::new() };
        porter.kill().unwrap();
        porter.wait().unwrap();
        let start = Instant::now();
        while family.iter().any(|pid| is_alive(*pid)) {
            assert!(
                start.elapsed() < Duration::from_secs(10),
                "{}: children outlive the porter",
                self.kind.name
            );
            std::thread::sleep(Duration::from_millis(5));
        }
        if let Some(second) = &mut second {
            second.wait().unwrap();
        }
        was_there
    }
}

/// A test run kills at a few moments of each kind of house; MOMENTS=500 at that many in all, spread evenly over a whole run.
/// Every third house is killed once more while it mends what the first kill left.
#[rstest::rstest]
fn a_kill_at_any_moment_loses_nothing_and_doubles_nothing(
    #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] which: usize,
) {
    let kind = KINDS[which];
    let site = Site::new(kind);
    let start = Instant::now();
    assert!(site.command(0).output().unwrap().status.code().is_some());
    let whole = start.elapsed();
    let many: usize = std::env::var("MOMENTS").ok().and_then(|n| n.parse().ok()).unwrap_or(2 * KINDS.len());
    let mut kills = 0;
    for n in 0..many.div_ceil(KINDS.len()) {
        // Evenly, and at other places for each kind (the golden section).
        let at = ((n * KINDS.len() + which) as f64 * 0.618_033_988_75).fract();
        let site = Site::new(kind);
        kills += usize::from(site.killed_after(whole.mul_f64(at)));
        if n % 3 == 2 && !kind.grows {
            kills += usize::from(site.killed_after(whole.mul_f64(1.0 - at)));
        }
        let after = format!("killed after {:.3} of a run", at);
        match kind.grows {
            true => site.finish_and_judge_grown(&site.grow(), &after),
            false => site.finish_and_judge(&after),
        }
    }
    println!("{}: {kills} kills, 0 lost, 0 doubled, 0 foreign, 0 orphans", kind.name);
}
