//! Telling people and programs what happened: notices by mail, to a web address, through a command of the house. Each
//! notice reads the record behind the event that it told last, which is recorded too: what could not be sent is sent
//! later, also by the next porter, and no job waits for it.

mod command;
mod mail;
pub mod message;
mod webhook;

pub use message::{Message, What};

use crate::clock;
use crate::config::House;
use crate::error::Result;
use crate::jobs::Porter;
use crate::services::{Login, Secret};
use crate::store::Change;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// How often the record is looked at.
const LOOK: Duration = Duration::from_millis(500);
/// Longest wait between two tries.
const LONGEST: Duration = Duration::from_secs(600);
/// What is still untold when a run ends by itself gets this long.
const LAST_WORDS: Duration = Duration::from_secs(20);
/// Most events of one message; more are in the next.
const MOST: usize = 500;

/// A notice of the house.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Notice {
    pub name: String,
    pub on: Vec<What>,
    /// Names of the watches it is about, all if there is none.
    pub watches: Vec<String>,
    /// Names of the rules it is about: of a job only what they made.
    pub rules: Vec<String>,
    /// With what was said in what they made.
    pub summary: bool,
    pub when: When,
    pub way: Way,
}

/// When what happened is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum When {
    /// So long after the first of it.
    Gathered(Duration),
    /// Every day at this time here, in minutes.
    Daily(u16),
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Way {
    Mail(Mail),
    Webhook(Webhook),
    /// A program and its arguments; the message comes in as JSON.
    Command(Vec<String>),
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mail {
    pub server: String,
    pub port: u16,
    pub tls: Tls,
    pub login: Login,
    pub certificates: Option<PathBuf>,
    pub from: String,
    pub to: Vec<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tls {
    /// Asked for on a plain connection (RFC 3207).
    Start,
    /// From the first byte (RFC 8314).
    Whole,
    No,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Webhook {
    pub address: String,
    pub secret: Option<Secret>,
    pub certificates: Option<PathBuf>,
}

impl Way {
    /// Sends a message, or says why not.
    pub fn send(&self, message: &Message) -> std::result::Result<(), String> {
        match self {
            Way::Mail(m) => mail::send(m, message),
            Way::Webhook(w) => webhook::send(w, message),
            Way::Command(c) => command::run(c, message),
        }
    }
}

/// How far a notice is.
struct Stand {
    /// The last event that was looked at and is none of this notice, or was told.
    seen: i64,
    /// When what waits is due; what else happens until then comes along.
    waits: Option<Due>,
    next_try: Instant,
    pause: Duration,
    failing: bool,
}

#[derive(Clone, Copy)]
enum Due {
    At(Instant),
    /// By the clock on the wall.
    On(clock::Micros),
}

impl Due {
    fn is_over(self) -> bool {
        match self {
            Due::At(at) => Instant::now() >= at,
            Due::On(at) => clock::now() >= at,
        }
    }
}

/// The thread that tells.
pub struct Teller {
    state: Arc<AtomicU8>,
    thread: JoinHandle<()>,
}

const TELLS: u8 = 0;
const ENDS: u8 = 1;
const LAST: u8 = 2;

impl Teller {
    pub fn start(porter: &Arc<Porter>) -> Teller {
        let state: Arc<AtomicU8> = Arc::default();
        let (told, porter) = (state.clone(), porter.clone());
        let thread = std::thread::spawn(move || {
            let mut all: HashMap<String, Stand> = HashMap::new();
            let mut last = -1;
            while told.load(Ordering::Relaxed) == TELLS {
                round(&porter, &mut all, &mut last, false);
                std::thread::park_timeout(LOOK);
            }
            let until = Instant::now() + LAST_WORDS;
            while told.load(Ordering::Relaxed) == LAST
                && Instant::now() < until
                && !round(&porter, &mut all, &mut last, true)
            {
                std::thread::sleep(LOOK);
            }
        });
        Teller { state, thread }
    }

    /// After the run. One that came to its end by itself says its last words; what a person ends does not wait for them:
    /// the next porter tells what is left.
    pub fn end(self, last_words: bool) {
        self.state.store(if last_words { LAST } else { ENDS }, Ordering::Relaxed);
        self.thread.thread().unpark();
        if last_words {
            let _ = self.thread.join();
        }
    }
}

/// Looks for what is to be told and tells it; true if nothing is left.
fn round(porter: &Porter, all: &mut HashMap<String, Stand>, last: &mut i64, at_once: bool) -> bool {
    let house = porter.house();
    let now = porter.store.last_recorded();
    let mut idle = true;
    for notice in &house.notices {
        match one(porter, &house, notice, all, now > *last || at_once, at_once) {
            Ok(done) => idle &= done,
            Err(e) => {
                tracing::warn!("notice \"{}\": {e}", notice.name);
                idle = false;
            }
        }
    }
    *last = now;
    idle
}

fn one(
    porter: &Porter,
    house: &House,
    notice: &Notice,
    all: &mut HashMap<String, Stand>,
    is_new: bool,
    at_once: bool,
) -> Result<bool> {
    let now = Instant::now();
    if !all.contains_key(&notice.name) {
        let seen = match porter.store.read(|v| v.noticed(&notice.name))? {
            Some(seen) => seen,
            // What happened before there was such a notice is not told.
            None => {
                let through = porter.store.read(|v| v.last_event())?;
                let name = notice.name.clone();
                porter.store.commit([Change::Noticed { notice: name, through, events: 0 }])?;
                through
            }
        };
        let stand = Stand { seen, waits: None, next_try: now, pause: LOOK, failing: false };
        all.insert(notice.name.clone(), stand);
    }
    let Some(stand) = all.get_mut(&notice.name) else { return Ok(true) };
    if !is_new && stand.waits.is_none() {
        return Ok(true);
    }
    // Until then nothing has to be looked up.
    if stand.waits.is_some_and(|due| !due.is_over() && !at_once) {
        return Ok(false);
    }
    if now < stand.next_try {
        // A run that ends tries once more, and leaves the rest to the next one.
        return Ok(at_once && stand.failing);
    }
    let (message, through) =
        message::gather(&porter.store, &|job| porter.said_in(job), house, notice, stand.seen, MOST)?;
    if message.events.is_empty() {
        stand.seen = through;
        stand.waits = None;
        return Ok(true);
    }
    let due = *stand.waits.get_or_insert(match notice.when {
        When::Gathered(span) => Due::At(now + span),
        When::Daily(minute) => Due::On(message.due(minute).unwrap_or(0)),
    });
    if !due.is_over() && !at_once {
        return Ok(false);
    }
    match notice.way.send(&message) {
        Ok(()) => {
            let (notice, events) = (notice.name.clone(), message.events.len() as u32);
            porter.store.commit([Change::Noticed { notice, through, events }])?;
            *stand = Stand { seen: through, waits: None, next_try: now, pause: LOOK, failing: false };
            Ok(false)
        }
        Err(why) => {
            stand.pause = (stand.pause * 4).min(LONGEST).max(house.retry_after);
            stand.next_try = now + stand.pause;
            if !std::mem::replace(&mut stand.failing, true) {
                let notice = notice.name.clone();
                porter.store.commit([Change::NotNoticed { notice, why }])?;
            }
            Ok(false)
        }
    }
}
