//! Jobs: from an arrival to its record. A job's work is a set of tasks ([`crate::store::Step`]); [`schedule`] says
//! which is next, [`tasks`] does one, [`run`] keeps them going. Each step is recorded before it is acted on, and each
//! is safe to begin again.

mod back;
pub mod folders;
mod hands;
mod keeping;
mod orders;
pub mod room;
mod run;
pub mod schedule;
pub mod state;
mod tasks;

pub use run::{Stopper, slots};
pub use tasks::look::{facts_of, facts_with};
pub use tasks::original::numbered_file;
pub use tasks::reason::{ENDING as REASON_ENDING, LAST_LINE as REASON_LAST_LINE};

use crate::config::{House, Place, Since, Watch};
use crate::control::{Board, Server};
use crate::deliver::listed::Listed;
use crate::deliver::{Pace, Remotes};
use crate::error::{Error, Result};
use crate::maker::{Nursery, Stayed};
use crate::store::{Change, JobId, Said, Store};
use folders::Folders;
use state::StateFolder;
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, RwLock};
use std::time::{Duration, Instant};

/// A store that another program keeps locked (a backup, somebody's look into it) is waited for this long.
const LOCKED_AT_MOST: Duration = Duration::from_secs(300);

/// A house at work.
pub struct Porter {
    /// The configuration in force; it can be changed while the porter works.
    house: RwLock<Arc<House>>,
    pub store: Store,
    /// Opened when something was heard.
    said: Mutex<Option<Said>>,
    folders: Folders,
    /// Names in the folders of places.
    listed: Listed,
    /// Connections to places of a network.
    remotes: Arc<Remotes>,
    /// How fast each place may be filled.
    paces: Mutex<HashMap<String, Arc<Pace>>>,
    board: Arc<Board>,
    /// Tells this house's marks from those of every other.
    id: String,
    /// This program, to start children of.
    program: PathBuf,
    /// Children that looked at something and wait to make of it. Before what bore them, which waits for their end.
    stayed: Stayed,
    nursery: Nursery,
    stop: Stopper,
    /// Jobs that a person does not want any more: what works on them ends.
    cancelled: Mutex<HashSet<JobId>>,
    state: StateFolder,
    /// The number of the configuration in force; 0: it could not be kept.
    configuration: AtomicI64,
    /// Answers `status` and the like; ends with the porter.
    _server: Option<Server>,
}

/// How a run ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
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

/// Opens the store as soon as nobody else keeps it locked: no porter is alive then, for the folder's lock is held.
fn open_unlocked(state: &StateFolder, house: &House, stop: &Stopper) -> Result<Store> {
    let began = Instant::now();
    let mut told = false;
    loop {
        match state.open_store(house) {
            Err(e) if e.is_locked() && !stop.is_stopping() && began.elapsed() < LOCKED_AT_MOST => {
                if !std::mem::replace(&mut told, true) {
                    tracing::warn!("{e}: waiting until it is free");
                }
            }
            other => return other,
        }
    }
}

/// Keeps the configuration under a number, a new one where it is not as it was; gives the number. Without one the work
/// goes on.
fn keep_configuration(house: &House, store: &Store) -> Option<i64> {
    let keep = || -> Result<i64> {
        let text = house.whole_text()?;
        house.keep_accepted(&text)?;
        let last = store.read(|v| {
            let last = v.configurations()?.last().map_or(0, |c| c.0);
            Ok((last, v.configuration(last)?))
        })?;
        match last {
            (number, Some(before)) if before == text => Ok(number),
            (number, _) => {
                store.commit([Change::Accepted { number: number + 1, text }])?;
                Ok(number + 1)
            }
        }
    };
    keep().inspect_err(|e| tracing::warn!("{e}")).ok()
}

impl Porter {
    /// A watch that leaves what was there before it was used first, with the moment of that.
    fn since(&self, w: &Watch) -> Watch {
        let mut watch = w.clone();
        if w.since == Some(Since::FirstUse) {
            let known = || self.store.read(|v| v.first_use(&w.name));
            let note = || self.store.commit([Change::FirstUsed { watch: w.name.clone() }]);
            let first = known().and_then(|at| match at {
                Some(at) => Ok(Some(at)),
                None => note().and_then(|_| known()),
            });
            // What cannot be recorded now is at the next start.
            watch.since = Some(Since::Moment(first.ok().flatten().unwrap_or_else(crate::clock::now)));
        }
        watch
    }

    /// Opens the house's state, or says who else works on it.
    pub fn open(house: House, program: PathBuf, stop: Stopper) -> Result<Porter> {
        crate::config::apart_on_disk(&house)?;
        let state = StateFolder::take(&house)?;
        let store = open_unlocked(&state, &house, &stop)?;
        let configuration = keep_configuration(&house, &store);
        // Of an older program: no work waits for it.
        if store.read(|v| v.has_old_transcripts())?
            && let Err(e) = Said::open(&house.said_file(), &house.store_file())
        {
            tracing::warn!("what was transcribed before cannot be searched yet: {e}");
        }
        let said = Mutex::new(None);
        let id = store.read(|v| v.house())?.unwrap_or_default();
        let board = Arc::new(Board::new(house.watches.iter().map(|w| w.name.as_str())));
        // Without it nobody sees progress; the work does not need it.
        let orders = stop.clone();
        let server = Server::start(&house.state, board.clone(), move |order| orders.order(order))
            .inspect_err(|e| tracing::warn!("status shows no progress: {e}"))
            .ok();
        let folders = Folders::default();
        Ok(Porter {
            house: RwLock::new(Arc::new(house)),
            store,
            said,
            folders,
            listed: Listed::default(),
            remotes: Arc::default(),
            paces: Mutex::default(),
            board,
            id,
            nursery: Nursery::new(&program),
            stayed: Stayed::default(),
            program,
            stop,
            cancelled: Mutex::default(),
            state,
            configuration: AtomicI64::new(configuration.unwrap_or(0)),
            _server: server,
        })
    }

    /// What it does at this moment.
    pub fn now(&self) -> crate::control::Now {
        self.board.now()
    }

    /// The number of the configuration in force.
    fn configuration(&self) -> Option<i64> {
        Some(self.configuration.load(Ordering::Relaxed)).filter(|n| *n > 0)
    }

    pub fn stopping(&self) -> bool {
        self.stop.is_stopping()
    }

    fn cancelled(&self) -> MutexGuard<'_, HashSet<JobId>> {
        self.cancelled.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// What was said in what a job made.
    pub fn said_in(&self, job: JobId) -> Result<Option<words::Transcript>> {
        let said = self.said.lock().unwrap_or_else(|e| e.into_inner());
        match &*said {
            Some(said) => said.of_job(job),
            None => Said::look(&self.house().said_file())?.map_or(Ok(None), |said| said.of_job(job)),
        }
    }

    /// Keeps what was heard, for the search over all transcripts.
    fn keep_said(&self, job: JobId, watch: &str, heard: &[words::Transcript]) -> Result<()> {
        let mut said = self.said.lock().unwrap_or_else(|e| e.into_inner());
        let said = match &mut *said {
            Some(said) => said,
            none => none.insert(Said::open(&self.house().said_file(), &self.house().store_file())?),
        };
        said.keep(job, watch, crate::clock::now(), heard)
    }

    /// The measure that all share who carry to a place.
    fn pace(&self, place: &Place) -> Option<Arc<Pace>> {
        let per_second = place.pace?;
        let mut all = self.paces.lock().unwrap_or_else(|e| e.into_inner());
        let known = all.get(&place.name).filter(|p| p.per_second() == per_second).cloned();
        Some(known.unwrap_or_else(|| {
            let pace = Arc::new(Pace::new(per_second));
            all.insert(place.name.clone(), pace.clone());
            pace
        }))
    }

    fn work_folder(&self, id: JobId) -> PathBuf {
        self.house().work().join(format!("job-{id}"))
    }

    /// What tells a mark of this house's job from every other.
    fn tag(&self, job: JobId) -> String {
        format!("{}-{job}", self.id)
    }

    pub fn house(&self) -> Arc<House> {
        self.house.read().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// Takes another configuration of the same house up: what begins from now on goes by it.
    fn change_house(&self, house: House) -> Result<()> {
        let now = self.house();
        if house.state != now.state {
            let what = "the state folder is another one: that takes a restart";
            return Err(Error::NotConfigured(what.into()));
        }
        crate::config::apart_on_disk(&house)?;
        let number = keep_configuration(&house, &self.store);
        self.configuration.store(number.unwrap_or(0), Ordering::Relaxed);
        self.board.set_watches(house.watches.iter().map(|w| w.name.as_str()));
        *self.house.write().unwrap_or_else(|e| e.into_inner()) = Arc::new(house);
        Ok(())
    }
}
