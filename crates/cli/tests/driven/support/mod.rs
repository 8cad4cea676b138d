//! A house in a temporary folder, and the built program on it.
#![allow(dead_code, unused_imports)]

pub mod servers;

pub use servers::family_of;

use media::facts::Facts;
use media::testkit::{Clip, write_clip};
use servers::started_by;
use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

pub const PROGRAM: &str = env!("CARGO_BIN_EXE_deft-porter");

pub struct House {
    dir: tempfile::TempDir,
}

pub const CONFIG: &str = r#"
[house]
name = "Estuary Hours"
retry_after = "300 ms"
MAKER

[[watch]]
name = "cards"
folder = "in"
steady = "300 ms"
look_every = "200 ms"
second_look = "600 ms"
ORIGINAL
turned_away = "away"

[[place]]
name = "editors"
folder = "out"

[[preset]]
name = "proxy"
[preset.video]
fit = "160x90"
[preset.audio]

[[preset]]
name = "sound"
[preset.audio]

[[rule]]
name = "clips"
when = 'kind == "video"'
make = [{ preset = "proxy", name = "{stem}_proxy", to = ["editors"] }]

[[rule]]
name = "recordings"
when = 'kind == "audio"'
make = [{ preset = "sound", to = ["editors"] }]
"#;

impl House {
    pub fn new() -> House {
        House::with("original = \"move\"\ndone = \"done\"", "")
    }

    /// With other settings for originals and the maker.
    pub fn with(original: &str, maker: &str) -> House {
        let house = House { dir: tempfile::tempdir().unwrap() };
        house.configure(original, maker);
        for folder in ["in", "out", "done", "away"] {
            std::fs::create_dir(house.path(folder)).unwrap();
        }
        house
    }

    pub fn configure(&self, original: &str, maker: &str) {
        let text = CONFIG.replace("ORIGINAL", original).replace("MAKER", maker);
        std::fs::write(self.path("deft-porter.toml"), text).unwrap();
    }

    /// Adds to the configuration.
    pub fn append(&self, more: &str) {
        let path = self.path("deft-porter.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        std::fs::write(&path, format!("{text}\n{more}")).unwrap();
    }

    /// Changes one setting.
    pub fn reconfigure(&self, from: &str, to: &str) {
        let path = self.path("deft-porter.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.contains(from), "{from}");
        std::fs::write(&path, text.replace(from, to)).unwrap();
    }

    pub fn path(&self, inside: impl AsRef<Path>) -> PathBuf {
        self.dir.path().join(inside)
    }

    /// Drops bytes into the watch folder.
    pub fn drop_in(&self, name: impl AsRef<Path>, bytes: &[u8]) {
        std::fs::write(self.path("in").join(name), bytes).unwrap();
    }

    /// `deft-porter run --once`.
    pub fn run_once(&self) -> Output {
        let mut child = self.spawn(&["run", "--once"]);
        let start = Instant::now();
        while child.try_wait().unwrap().is_none() {
            assert!(start.elapsed() < Duration::from_secs(120), "the run did not end");
            std::thread::sleep(Duration::from_millis(20));
        }
        child.wait_with_output().unwrap()
    }

    /// The same, killed at the first of these moments.
    pub fn killed_at(&self, moment: &str) {
        let killed = Command::new(PROGRAM)
            .args(["run", "--once"])
            .arg(self.dir.path())
            .env("DEFT_PORTER_TEST_KILL_AT", format!("{moment}:1"))
            .output()
            .unwrap();
        assert!(!killed.status.success(), "it was not killed at \"{moment}\"");
    }

    pub fn spawn(&self, args: &[&str]) -> Child {
        let mut c = Command::new(PROGRAM);
        c.args(args).arg(self.dir.path()).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        c.spawn().unwrap()
    }

    /// Starts a porter whose output nobody reads.
    pub fn start(&self) -> Running {
        let mut c = Command::new(PROGRAM);
        c.arg("run").arg(self.dir.path()).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        Running(c.spawn().unwrap())
    }

    pub fn status(&self) -> serde_json::Value {
        let out = Command::new(PROGRAM)
            .arg("status")
            .arg(self.dir.path())
            .args(["--json", "--ended", "1000"])
            .output()
            .unwrap();
        // 3: no porter runs; 4: something waits for a person.
        assert!(matches!(out.status.code(), Some(0 | 3 | 4)), "{}", String::from_utf8_lossy(&out.stderr));
        serde_json::from_slice(&out.stdout).unwrap()
    }

    /// Waits until the status is as wished; four gigabytes that are looked through take a minute on a busy machine.
    pub fn wait_until(
        &self,
        what: &str,
        mut good: impl FnMut(&serde_json::Value) -> bool,
    ) -> serde_json::Value {
        let start = Instant::now();
        loop {
            let status = self.status();
            if good(&status) {
                return status;
            }
            assert!(start.elapsed() < Duration::from_secs(150), "never {what}: {status:#}");
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    /// Names in a folder of the house, hidden ones as well, sorted.
    pub fn list(&self, folder: &str) -> Vec<String> {
        let mut names: Vec<String> = std::fs::read_dir(self.path(folder))
            .unwrap()
            .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        names.sort();
        names
    }

    pub fn facts(&self, inside: &str) -> Facts {
        media::facts::of(Box::new(File::open(self.path(inside)).unwrap())).unwrap()
    }

    /// Events of a job by name, in order.
    pub fn events(&self, job: i64) -> Vec<String> {
        let out = Command::new(PROGRAM)
            .arg("status")
            .arg(self.dir.path())
            .args(["--json", "--job", &job.to_string()])
            .output()
            .unwrap();
        let v: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
        v["events"].as_array().unwrap().iter().map(|e| e["what"].as_str().unwrap().to_owned()).collect()
    }
}

pub struct Running(pub Child);

impl Running {
    pub fn pid(&self) -> u32 {
        self.0.id()
    }
    /// `kill -9`.
    pub fn kill(mut self) {
        self.0.kill().unwrap();
        self.0.wait().unwrap();
    }
    /// Ctrl-C.
    pub fn interrupt(mut self) -> std::process::ExitStatus {
        let pid = rustix::process::Pid::from_raw(self.0.id() as i32).unwrap();
        rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
        self.0.wait().unwrap()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Those that a porter started for a hidden command. One that is just being started still has the porter's own line.
fn started_for(pid: u32, command: &str) -> Vec<u32> {
    let is_for = |p: &u32| {
        std::fs::read(format!("/proc/{p}/cmdline"))
            .is_ok_and(|line| line.split(|b| *b == 0).any(|word| word == command.as_bytes()))
    };
    started_by(pid).into_iter().filter(is_for).collect()
}

/// Processes that a porter started and that bear its children.
pub fn mothers_of(pid: u32) -> Vec<u32> {
    started_for(pid, "bear-children")
}

/// A porter's children that look, make and hear.
pub fn children_of(pid: u32) -> Vec<u32> {
    let born = mothers_of(pid).into_iter().flat_map(started_by);
    started_for(pid, "make-in-child").into_iter().chain(born).collect()
}

/// It is there, and has not ended.
pub fn is_alive(pid: u32) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
    !stat.is_empty() && !stat.contains(") Z ")
}

/// A small clip with sound, as bytes; made once.
pub fn clip() -> &'static [u8] {
    static BYTES: std::sync::LazyLock<Vec<u8>> =
        std::sync::LazyLock::new(|| make_clip(&Clip { frames: 30, ..Clip::default() }));
    &BYTES
}

pub fn make_clip(clip: &Clip) -> Vec<u8> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("clip.mp4");
    let file = File::options().read(true).write(true).create_new(true).open(&path).unwrap();
    write_clip(clip, Box::new(file)).unwrap();
    std::fs::read(&path).unwrap()
}

/// A ZIP or TAR taken apart by another program, which finds it whole.
pub fn unpack(package: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    let script = "import sys, shutil; shutil.unpack_archive(sys.argv[1], sys.argv[2])";
    let out = Command::new("python3").args(["-c", script]).arg(package).arg(to).output().unwrap();
    assert!(out.status.success(), "{}: {}", package.display(), String::from_utf8_lossy(&out.stderr));
}

/// Something the test needs is not here: said, and a failure where nothing may be skipped.
pub fn skipped(why: &str) {
    assert!(std::env::var_os("DEFT_PORTER_SKIP_NOTHING").is_none(), "skipped: {why}");
    eprintln!("SKIPPED: {why}");
    // `make test` counts and names them at its end.
    let test = std::thread::current().name().unwrap_or("a test").to_owned();
    let list = Path::new(env!("CARGO_TARGET_TMPDIR")).join("skipped");
    let file = File::options().create(true).append(true).open(list);
    let _ = file.map(|mut f| std::io::Write::write_all(&mut f, format!("{test}: {why}\n").as_bytes()));
}

pub fn text(out: &Output) -> String {
    String::from_utf8_lossy(&out.stdout).into_owned() + &String::from_utf8_lossy(&out.stderr)
}

/// `deft-porter stand-in`, and where it listens.
pub struct StandIn {
    child: Child,
    pub address: String,
}

impl StandIn {
    pub fn start(args: &[&str]) -> StandIn {
        let mut c = Command::new(PROGRAM);
        c.arg("stand-in").args(args).stdin(Stdio::null()).stdout(Stdio::piped());
        let mut child = c.spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
        let address = line.trim().rsplit(' ').next().unwrap().to_owned();
        StandIn { child, address }
    }

    /// Ends it; what it said of each request.
    pub fn end(mut self) -> Vec<String> {
        self.child.kill().unwrap();
        let mut said = String::new();
        self.child.stdout.as_mut().unwrap().read_to_string(&mut said).unwrap();
        said.lines().map(String::from).collect()
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Where the independent readers are.
pub fn readers() -> Option<PathBuf> {
    let readers = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/readers").canonicalize().ok();
    if readers.is_none() {
        skipped("the independent readers are not installed (tools/set-up test)");
    }
    readers
}

/// Python with the independent readers that `tools/set-up test` puts beside the build; `None`, with a word, without them.
pub fn python(script: &str, args: &[&Path]) -> Option<String> {
    let readers = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/readers");
    if !readers.join("pypdf").exists() {
        skipped("the independent readers are not installed (tools/set-up test)");
        return None;
    }
    let out =
        Command::new("python3").env("PYTHONPATH", readers).arg("-c").arg(script).args(args).output().unwrap();
    assert!(out.status.success(), "{}", text(&out));
    Some(String::from_utf8(out.stdout).unwrap())
}

/// What the program prints with these arguments, which is also a published document. With UPDATE_SCHEMA=1 it is
/// written anew.
pub fn published(name: &str, args: &[&str]) -> serde_json::Value {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema").join(name);
    let printed = Command::new(PROGRAM).args(args).output().unwrap().stdout;
    if std::env::var_os("UPDATE_SCHEMA").is_some() {
        std::fs::write(&path, &printed).unwrap();
    }
    let held = std::fs::read(&path).unwrap_or_default();
    assert!(held == printed, "docs/schema/{name} is not of today: run the tests with UPDATE_SCHEMA=1");
    serde_json::from_slice(&printed).unwrap()
}
