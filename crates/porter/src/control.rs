//! What a running porter tells of itself: what it does at this moment is nowhere stored, for it is true only while it
//! runs. Others ask over a local socket in the state folder, which only the house's own user can reach: one line of
//! JSON in, one out.

use crate::clock::{self, Micros};
use crate::error::{Error, Result};
use crate::item::Fields;
use crate::progress::Progress;
use crate::store::{JobId, TaskKey};
use crate::watch::steady::{Waiting, Why};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::fd::AsRawFd;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::{Duration, Instant};

/// Version of the questions and answers; they grow by adding fields only.
pub const PROTOCOL_VERSION: u32 = 1;
const SOCKET: &str = "porter.socket";
/// Longest wait for the other end.
const PATIENCE: Duration = Duration::from_secs(2);
/// Longest question, and answer.
const MAX_LINE: u64 = 16_000_000;
/// Waiting files that are listed one by one; of more the number is told.
const MAX_LISTED: usize = 500;

#[derive(Debug, Serialize, Deserialize)]
pub struct Question {
    pub version: u32,
    pub ask: Ask,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    /// What is going on.
    Now,
    /// Something is to be done.
    Do(Order),
    #[serde(other)]
    Unknown,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Order {
    /// Begin nothing more.
    Pause,
    Resume,
    Cancel {
        jobs: Vec<JobId>,
    },
    /// Ended jobs are done once more.
    Again {
        jobs: Vec<JobId>,
    },
    /// Nothing more of these is begun.
    Hold {
        jobs: Vec<JobId>,
    },
    Release {
        jobs: Vec<JobId>,
    },
    /// From -9 to 9, or 10 for before all others.
    Rank {
        jobs: Vec<JobId>,
        priority: i64,
    },
    /// Fields of what is published with an output.
    SetItem {
        job: JobId,
        output: u32,
        fields: Fields,
        by: String,
    },
    /// It goes, or it does not.
    Review {
        job: JobId,
        output: u32,
        yes: bool,
        by: String,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        why: Option<String>,
    },
    /// Take nothing more in, and end when all is done that can be.
    Drain,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Answer {
    Now(Box<Now>),
    /// A line for each thing that was asked for; `refused`: one of them was not done.
    Done {
        said: Vec<String>,
        refused: bool,
    },
    Refused {
        why: String,
    },
}

/// What a porter does at this moment.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Now {
    pub version: u32,
    pub process: u32,
    pub running: Vec<Running>,
    pub watches: Vec<WatchNow>,
    /// Places that take nothing now.
    pub resting: Vec<Resting>,
    /// Nothing more is begun.
    #[serde(default)]
    pub paused: bool,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Running {
    pub task: TaskKey,
    pub progress: Progress,
    /// In this stage.
    pub seconds: f64,
}

#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct WatchNow {
    pub name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<Trouble>,
    /// Files that wait, and how many of them are listed.
    pub waiting: usize,
    pub files: Vec<Waits>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Trouble {
    pub since: Micros,
    pub why: String,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Waits {
    #[serde(with = "crate::bytes")]
    pub path: PathBuf,
    pub bytes: u64,
    pub why: String,
    pub seconds: f64,
}

/// Why a place takes nothing now.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Rests {
    /// There is no room in it.
    Full,
    /// Nothing is carried there at this time of day.
    Hours,
    /// It cannot be reached, or is not itself; or a later program's word that is not known here.
    #[default]
    #[serde(other)]
    Away,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Resting {
    pub place: String,
    #[serde(default)]
    pub how: Rests,
    pub why: String,
    pub next_try_seconds: f64,
}

/// Where a porter writes down what it does.
pub struct Board {
    began: Instant,
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    running: BTreeMap<TaskKey, (Progress, Instant)>,
    watches: Vec<OnWatch>,
    resting: BTreeMap<String, (Rests, String, Instant)>,
    paused: bool,
}

struct OnWatch {
    name: String,
    trouble: Option<Trouble>,
    files: Vec<Waiting>,
    /// What waits until something else of the same name has ended.
    later: Vec<Waiting>,
}

impl OnWatch {
    fn new(name: &str) -> OnWatch {
        OnWatch { name: name.to_owned(), trouble: None, files: Vec::new(), later: Vec::new() }
    }

    fn waiting(&self) -> usize {
        self.files.len() + self.later.len()
    }
}

/// One task at work, on the board while it lives.
pub struct Seat {
    board: Arc<Board>,
    key: TaskKey,
}

impl Seat {
    pub fn tell(&self, progress: Progress) {
        if let Some((held, since)) = self.board.inner().running.get_mut(&self.key) {
            if held.stage != progress.stage {
                *since = Instant::now();
            }
            *held = progress;
        }
    }

    pub fn tell_done(&self, done: u64) {
        if let Some((held, _)) = self.board.inner().running.get_mut(&self.key) {
            held.done = done;
        }
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        self.board.inner().running.remove(&self.key);
    }
}

impl Board {
    pub fn new<'a>(watches: impl Iterator<Item = &'a str>) -> Board {
        let watches = watches.map(OnWatch::new).collect();
        Board { began: Instant::now(), inner: Mutex::new(Inner { watches, ..Inner::default() }) }
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(|e| e.into_inner())
    }

    pub fn sit(self: &Arc<Self>, key: &TaskKey) -> Seat {
        self.inner().running.insert(key.clone(), (Progress::default(), Instant::now()));
        Seat { board: self.clone(), key: key.clone() }
    }

    pub fn set_waiting(&self, watch: &str, files: Vec<Waiting>) {
        if let Some(w) = self.inner().watches.iter_mut().find(|w| w.name == watch) {
            w.files = files;
        }
    }

    /// What arrived waits until what is in work under its name has ended.
    pub fn set_later(&self, watch: &str, path: &Path, size: u64) {
        if let Some(w) = self.inner().watches.iter_mut().find(|w| w.name == watch) {
            w.later.retain(|f| f.path != path);
            w.later.push(Waiting {
                path: path.to_owned(),
                size,
                why: Why::InWork,
                at: Instant::now(),
                seen_for: Duration::ZERO,
                steady_for: Duration::ZERO,
                wanted: Duration::ZERO,
            });
        }
    }

    /// Nothing waits so any more.
    pub fn clear_later(&self) {
        self.inner().watches.iter_mut().for_each(|w| w.later.clear());
    }

    pub fn set_trouble(&self, watch: &str, why: Option<&str>) {
        if let Some(w) = self.inner().watches.iter_mut().find(|w| w.name == watch) {
            w.trouble = why.map(|why| Trouble { since: clock::now(), why: why.to_owned() });
        }
    }

    pub fn set_paused(&self, yes: bool) {
        self.inner().paused = yes;
    }

    /// A place that takes nothing now, why, and for how long it is left alone.
    pub fn set_rest(&self, place: &str, rest: Option<(Rests, String, Duration)>) {
        let mut inner = self.inner();
        match rest {
            Some((how, why, wait)) => {
                inner.resting.insert(place.to_owned(), (how, why, Instant::now() + wait));
            }
            None => _ = inner.resting.remove(place),
        }
    }

    /// Another configuration: what is known of watches that stay is kept until they say more.
    pub fn set_watches<'a>(&self, names: impl Iterator<Item = &'a str>) {
        let mut inner = self.inner();
        let mut before = std::mem::take(&mut inner.watches);
        inner.watches = names
            .map(|name| match before.iter().position(|w| w.name == name) {
                Some(at) => before.swap_remove(at),
                None => OnWatch::new(name),
            })
            .collect();
    }

    /// Files that wait in all watches.
    pub fn waiting(&self) -> usize {
        self.inner().watches.iter().map(OnWatch::waiting).sum()
    }

    pub fn now(&self) -> Now {
        let now = self.began.elapsed();
        let inner = self.inner();
        let running = inner.running.iter().map(|(task, (progress, since))| Running {
            task: task.clone(),
            progress: *progress,
            seconds: since.elapsed().as_secs_f64(),
        });
        let watches = inner.watches.iter().map(|w| WatchNow {
            name: w.name.clone(),
            trouble: w.trouble.clone(),
            waiting: w.waiting(),
            files: w
                .later
                .iter()
                .chain(&w.files)
                .take(MAX_LISTED)
                .map(|f| Waits {
                    path: f.path.clone(),
                    bytes: f.size,
                    why: f.words(f.at.elapsed()),
                    seconds: (f.at.elapsed() + f.seen_for).as_secs_f64(),
                })
                .collect(),
        });
        let resting = inner.resting.iter().map(|(place, (how, why, until))| Resting {
            place: place.clone(),
            how: *how,
            why: why.clone(),
            next_try_seconds: until.saturating_duration_since(self.began + now).as_secs_f64(),
        });
        Now {
            version: PROTOCOL_VERSION,
            process: std::process::id(),
            running: running.collect(),
            watches: watches.collect(),
            resting: resting.collect(),
            paused: inner.paused,
        }
    }
}

/// The address of a socket in a folder, however long the folder's path is: a socket's own may have 107 bytes.
fn address(folder: &std::fs::File) -> PathBuf {
    PathBuf::from(format!("/proc/self/fd/{}/{SOCKET}", folder.as_raw_fd()))
}

/// Answers until it is dropped.
pub struct Server {
    stop: Arc<AtomicBool>,
    at: PathBuf,
}

impl Server {
    /// The state folder is closed to others, and its lock is held: a socket that lies there is a left-over.
    pub fn start(
        state: &Path,
        board: Arc<Board>,
        order: impl Fn(Order) -> Answer + Send + 'static,
    ) -> Result<Server> {
        let at = state.join(SOCKET);
        let fail = |e| Error::path("cannot listen at", &at)(e);
        match std::fs::remove_file(&at) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(fail(e)),
            _ => (),
        }
        let folder = std::fs::File::open(state).map_err(fail)?;
        let listener = UnixListener::bind(address(&folder)).map_err(fail)?;
        std::fs::set_permissions(&at, std::os::unix::fs::PermissionsExt::from_mode(0o600)).map_err(fail)?;
        let stop = Arc::new(AtomicBool::new(false));
        let stopping = stop.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if stopping.load(Ordering::Relaxed) {
                    return;
                }
                // Who asks and does not read keeps nobody waiting for longer than this.
                let _ = serve(&stream, &board, &order);
            }
        });
        Ok(Server { stop, at })
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        let _ = std::fs::remove_file(&self.at);
    }
}

fn serve(stream: &UnixStream, board: &Board, order: &impl Fn(Order) -> Answer) -> io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    let mut line = String::new();
    BufReader::new(stream).take(MAX_LINE).read_line(&mut line)?;
    let answer = match serde_json::from_str::<Question>(&line) {
        Ok(Question { ask: Ask::Now, .. }) => Answer::Now(Box::new(board.now())),
        Ok(Question { ask: Ask::Do(what), .. }) => order(what),
        Ok(_) => {
            Answer::Refused { why: format!("this porter knows protocol version {PROTOCOL_VERSION} only") }
        }
        Err(e) => Answer::Refused { why: format!("that is no question: {e}") },
    };
    let mut bytes = serde_json::to_vec(&answer)?;
    bytes.push(b'\n');
    (&mut &*stream).write_all(&bytes)
}

/// Asks the porter that works on this state folder; `None`: there is none, or it does not answer.
pub fn ask(state: &Path, ask: Ask) -> Option<Answer> {
    let folder = std::fs::File::open(state).ok()?;
    let stream = UnixStream::connect(address(&folder)).ok()?;
    // An order is waited for by the porter itself.
    let patience = if ask == Ask::Now { PATIENCE } else { PATIENCE * 8 };
    stream.set_read_timeout(Some(patience)).ok()?;
    stream.set_write_timeout(Some(PATIENCE)).ok()?;
    let mut line = serde_json::to_vec(&Question { version: PROTOCOL_VERSION, ask }).ok()?;
    line.push(b'\n');
    (&mut &stream).write_all(&line).ok()?;
    let mut answer = String::new();
    BufReader::new(&stream).take(MAX_LINE).read_line(&mut answer).ok()?;
    serde_json::from_str(&answer).ok()
}

/// What the porter that works on this state folder does now.
pub fn ask_now(state: &Path) -> Option<Now> {
    match ask(state, Ask::Now)? {
        Answer::Now(now) => Some(*now),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::progress::Stage;
    use crate::store::Step;

    fn server() -> (tempfile::TempDir, PathBuf, Arc<Board>, Server) {
        let dir = tempfile::tempdir().unwrap();
        // Deeper than a socket's own address could be.
        let state = dir.path().join("deep/".repeat(40));
        std::fs::create_dir_all(&state).unwrap();
        let board = Arc::new(Board::new(["cards"].into_iter()));
        let order = |order| match order {
            Order::Pause => Answer::Done { said: vec!["paused".into()], refused: false },
            other => Answer::Refused { why: format!("{other:?}") },
        };
        let server = Server::start(&state, board.clone(), order).unwrap();
        (dir, state, board, server)
    }

    #[test]
    fn what_is_going_on_is_told_while_it_goes_on() {
        let (_dir, state, board, server) = server();
        let key = TaskKey { job: 7, step: Step::Make };
        let seat = board.sit(&key);
        seat.tell(Progress { stage: Stage::Making, done: 3, of: Some(9), ..Progress::default() });
        board.set_trouble("cards", Some("gone"));
        board.set_rest("nas", Some((Rests::Away, "no route".into(), Duration::from_secs(60))));
        let now = ask_now(&state).unwrap();
        assert_eq!((now.running[0].task.job, now.running[0].progress.done), (7, 3));
        assert_eq!(now.watches[0].trouble.as_ref().unwrap().why, "gone");
        assert!(now.resting[0].next_try_seconds > 50.0);
        drop(seat);
        assert!(ask_now(&state).unwrap().running.is_empty());
        drop(server);
        assert!(ask_now(&state).is_none());
    }

    #[test]
    fn orders_are_passed_on_with_what_they_are_about() {
        let (_dir, state, _board, _server) = server();
        let said = |order| match ask(&state, Ask::Do(order)).unwrap() {
            Answer::Done { said, .. } => said.join(","),
            Answer::Refused { why } => why,
            Answer::Now(_) => String::new(),
        };
        assert_eq!(said(Order::Pause), "paused");
        assert_eq!(said(Order::Cancel { jobs: vec![3, 8] }), "Cancel { jobs: [3, 8] }");
    }

    #[test]
    fn strangers_questions_and_silence_do_no_harm() {
        let (_dir, state, _board, _server) = server();
        let folder = std::fs::File::open(&state).unwrap();
        for question in ["", "hello\n", "{\"version\":9,\"ask\":\"dance\"}\n"] {
            let stream = UnixStream::connect(address(&folder)).unwrap();
            (&stream).write_all(question.as_bytes()).unwrap();
            stream.shutdown(std::net::Shutdown::Write).unwrap();
            let mut answer = String::new();
            (&stream).read_to_string(&mut answer).unwrap();
            assert!(answer.contains("refused"), "{answer}");
        }
        let _silent = UnixStream::connect(address(&folder)).unwrap();
        std::thread::sleep(PATIENCE);
        assert!(ask_now(&state).is_some(), "one who says nothing is given up");
    }
}
