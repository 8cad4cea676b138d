//! Jobs: from an arrival to its record. [`Porter`] dispatches; [`steps`] does the work of one job, step by
//! step, each recorded before it is acted on and each safe to begin again.

mod original;
mod steps;

pub use steps::facts_of;

use crate::clock::{self, Micros};
use crate::config::House;
use crate::error::{Error, Result};
use crate::store::{Event, JobId, State, Store, WaitingFile};
use crate::watch::service::{self, Arrival, News, Order};
use std::collections::HashMap;
use std::fs::{File, TryLockError};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::time::Duration;

/// A house at work.
pub struct Porter {
    pub house: Arc<House>,
    pub store: Arc<Store>,
    /// This program, to start children of.
    program: PathBuf,
    stop: Arc<AtomicBool>,
    _lock: File,
}

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ended {
    /// Jobs that wait for something to be mended.
    pub held: usize,
    /// Jobs turned away during this run.
    pub turned_away: usize,
    /// Jobs done during this run.
    pub done: usize,
    /// Files in watch folders that are not ready.
    pub waiting: usize,
}

enum Message {
    News(News),
    /// A job went as far as it could; true if the store could not take what happened.
    JobPaused(JobId, bool),
}

/// What waits in the folders is written down at most this often.
const WAITING_EVERY: Micros = 300_000;

/// The lock that only one porter of a house holds.
pub fn lock_file(house: &House) -> PathBuf {
    house.state.join("lock")
}

/// True if a porter works on this house now.
pub fn is_running(house: &House) -> bool {
    let Ok(file) = File::open(lock_file(house)) else { return false };
    matches!(file.try_lock_shared(), Err(TryLockError::WouldBlock))
}

impl Porter {
    /// Opens the house's state, or says who else works on it.
    pub fn open(house: House, program: PathBuf, stop: Arc<AtomicBool>) -> Result<Porter> {
        std::fs::create_dir_all(house.work())
            .map_err(Error::path("cannot make the folder", &house.work()))?;
        let path = lock_file(&house);
        let lock = File::create(&path).map_err(Error::path("cannot write", &path))?;
        match lock.try_lock() {
            Ok(()) => (),
            Err(TryLockError::WouldBlock) => return Err(Error::Locked(path)),
            Err(TryLockError::Error(e)) => return Err(Error::path("cannot lock", &path)(e)),
        }
        let store = Arc::new(Store::open(&house.store_file())?);
        Ok(Porter { house: Arc::new(house), store, program, stop, _lock: lock })
    }

    /// Works until stopped or, with `once`, until all that is in the watch folders has come to an end.
    /// `tell` is called with each event of the record as it is written.
    pub fn run(&self, once: bool, mut tell: impl FnMut(&Event)) -> Result<Ended> {
        self.store.clear_passing()?;
        self.sweep_work()?;
        let mut told = self.store.last_event()?;
        self.store.note("porter started", Some(&self.house.name))?;
        let (to_desk, desk) = channel();
        let (to_watch, orders) = service::orders();
        let result = std::thread::scope(|scope| {
            let (house, watch_news) = (self.house.clone(), to_desk.clone());
            scope.spawn(move || service::run(&house, orders, &|n| drop(watch_news.send(Message::News(n)))));
            let mut d = Dispatch {
                porter: self,
                once,
                busy: Vec::new(),
                quiet: false,
                waiting: HashMap::new(),
                written: 0,
                rest_until: 0,
                ended: Ended { held: 0, turned_away: 0, done: 0, waiting: 0 },
            };
            let result = loop {
                match d.turn(scope, &to_desk, &desk) {
                    Ok(over) => {
                        for (id, event) in self.store.events_after(told).unwrap_or_default() {
                            told = id;
                            d.count(&event);
                            tell(&event);
                        }
                        if over {
                            break Ok(d.ended);
                        }
                    }
                    // A store that cannot be written (a full disk) stops everything but the looking: what
                    // is not recorded must not be done.
                    Err(e) if e.may_pass() && !once && !self.stopping() => {
                        tracing::warn!("{e}");
                        std::thread::sleep(self.house.retry_after);
                    }
                    Err(e) => break Err(e),
                }
            };
            // Children end, steps stay where they are, and the next porter goes on from there.
            self.stop.store(true, Ordering::Relaxed);
            let _ = to_watch.send(Order::Stop);
            result
        });
        let _ = self.store.note("porter stopped", None);
        for (_, event) in self.store.events_after(told).unwrap_or_default() {
            tell(&event);
        }
        result
    }

    pub fn stopping(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    fn work_folder(&self, id: JobId) -> PathBuf {
        self.house.work().join(format!("job-{id}"))
    }

    /// Work folders of jobs that ended are left-overs of a kill.
    fn sweep_work(&self) -> Result<()> {
        let open: Vec<PathBuf> = self.store.open_jobs()?.iter().map(|j| self.work_folder(j.id)).collect();
        let Ok(entries) = std::fs::read_dir(self.house.work()) else { return Ok(()) };
        for entry in entries.flatten().filter(|e| !open.contains(&e.path())) {
            let _ = std::fs::remove_dir_all(entry.path());
        }
        Ok(())
    }

    fn arrive(&self, a: &Arrival) -> Result<()> {
        let watch = &self.house.watches[a.watch];
        self.store.arrive(&watch.name, &a.path, a.seen.size, a.seen.modified, a.seen.inode, a.steady_at)?;
        Ok(())
    }
}

struct Dispatch<'p> {
    porter: &'p Porter,
    once: bool,
    busy: Vec<JobId>,
    quiet: bool,
    /// What waits in each watch and is not written down yet.
    waiting: HashMap<usize, Vec<WaitingFile>>,
    written: Micros,
    /// No job is begun before: what happens could not be recorded.
    rest_until: Micros,
    ended: Ended,
}

impl<'p> Dispatch<'p> {
    /// One turn: take news, start jobs. True when it is over.
    fn turn<'s>(
        &mut self,
        scope: &'s std::thread::Scope<'s, 'p>,
        to_desk: &Sender<Message>,
        desk: &std::sync::mpsc::Receiver<Message>,
    ) -> Result<bool> {
        let porter = self.porter;
        let resting = clock::now() < self.rest_until;
        while !porter.stopping() && !resting && self.busy.len() < porter.house.jobs_at_once {
            let Some(job) = porter.store.next_job(clock::now(), &self.busy)? else { break };
            self.busy.push(job.id);
            let to_desk = to_desk.clone();
            scope.spawn(move || {
                let id = job.id;
                let result = steps::work(porter, job);
                if let Err(e) = &result {
                    tracing::warn!("job {id}: {e}");
                }
                let _ = to_desk.send(Message::JobPaused(id, result.is_err()));
            });
        }
        if porter.stopping() && self.busy.is_empty() {
            return Ok(true);
        }
        if self.once && self.quiet && self.busy.is_empty() {
            let open = porter.store.open_jobs()?;
            if open.iter().all(|j| j.held.is_some() && !j.held.as_deref().is_some_and(steps::is_second_look))
            {
                self.write_waiting()?;
                self.ended.held = open.len();
                self.ended.waiting = porter.store.waiting()?.len();
                return Ok(true);
            }
        }
        match desk.recv_timeout(Duration::from_millis(200)) {
            Ok(message) => {
                self.take(message)?;
                while let Ok(message) = desk.try_recv() {
                    self.take(message)?;
                }
            }
            Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => (),
        }
        if clock::now() - self.written > WAITING_EVERY {
            self.write_waiting()?;
        }
        Ok(false)
    }

    fn take(&mut self, message: Message) -> Result<()> {
        let name = |i: usize| self.porter.house.watches[i].name.clone();
        match message {
            Message::JobPaused(id, unrecorded) => {
                self.busy.retain(|b| *b != id);
                if unrecorded {
                    self.rest_until = clock::now() + self.porter.house.retry_after.as_micros() as i64;
                }
            }
            Message::News(News::Arrived(a)) => {
                self.quiet = false;
                self.porter.arrive(&a)?;
            }
            Message::News(News::Quiet) => self.quiet = true,
            Message::News(News::Waiting { watch, files }) => {
                let name = name(watch);
                let rows = files.into_iter().map(|f| WaitingFile {
                    watch: name.clone(),
                    path: f.path,
                    size: f.size,
                    first: f.first * 1000,
                    why: f.why.words().to_owned(),
                });
                self.waiting.insert(watch, rows.collect());
            }
            Message::News(News::Lost { watch, why }) => {
                self.porter.store.set_trouble(&name(watch), Some(&why))?
            }
            Message::News(News::Back { watch }) => self.porter.store.set_trouble(&name(watch), None)?,
        }
        Ok(())
    }

    fn write_waiting(&mut self) -> Result<()> {
        for (watch, files) in std::mem::take(&mut self.waiting) {
            self.porter.store.set_waiting(&self.porter.house.watches[watch].name, &files)?;
            self.written = clock::now();
        }
        Ok(())
    }

    fn count(&mut self, event: &Event) {
        match State::from_name(&event.what) {
            State::Done => self.ended.done += 1,
            State::TurnedAway => self.ended.turned_away += 1,
            _ => (),
        }
    }
}

/// A path inside a watch folder, for people: with what is not text made visible.
pub fn show_path(path: &Path) -> String {
    path.to_string_lossy().chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect()
}
