//! The porter at work: news from the watches go in, tasks are given out, what came of them is taken back. Everything
//! that may take long (a folder, a child, a place) has a thread of its own, which nothing here waits for: when the
//! porter is told to stop it stops, and what was cut off goes on at the next start.

use super::back::has_come_back;
use super::hands::Hands;
use super::room;
use super::schedule::{Schedule, Slots, Tick, Weight};
use super::tasks::{self, How, Worker};
use super::{Ended, Porter};
use crate::alive::Alive;
use crate::config::{House, Looked, Original, Watch};
use crate::control::{Answer, Order};
use crate::error::{Error, Result};
use crate::files::many::Many;
use crate::notify::Teller;
use crate::store::OpenRank;
use crate::store::{Cause, Change, Event, Job, JobId, Step, TaskKey, View};
use crate::watch::fetch::Fetcher;
use crate::watch::service::{Arrival, News, WatchThread};
use std::collections::{HashSet, VecDeque};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// Told to stop, work that is under way gets this long to come to an end by itself.
const GRACE: Duration = Duration::from_millis(1200);
/// How often it is looked whether the state folder is still there.
const LOOK_AFTER_STATE: Duration = Duration::from_secs(1);
/// Old records are looked at a while after the start, and once an hour.
const FORGET_SOON: Duration = Duration::from_secs(2);
const FORGET_EVERY: Duration = Duration::from_secs(3600);
/// Arrivals recorded in one transaction.
const MOST_AT_ONCE: usize = 200;
/// Events told at a time.
const MOST_EVENTS: u32 = 500;
const CARRIES: usize = 8;
const CARRIES_EACH: usize = 2;
const MOVES: usize = 2;
/// How long somebody who gave an order waits.
const ORDER_PATIENCE: Duration = Duration::from_secs(10);

/// Ends a porter from elsewhere: a signal, a test.
#[derive(Clone, Default)]
pub struct Stopper(Arc<Stop>);

#[derive(Default)]
struct Stop {
    stopping: AtomicBool,
    wake: Mutex<Option<Sender<Message>>>,
}

impl Stopper {
    pub fn stop(&self) {
        self.0.stopping.store(true, Ordering::Relaxed);
        if let Some(to) = &*self.0.wake.lock().unwrap_or_else(|e| e.into_inner()) {
            let _ = to.send(Message::Wake);
        }
    }

    pub fn is_stopping(&self) -> bool {
        self.0.stopping.load(Ordering::Relaxed)
    }
}

enum Message {
    News(News),
    /// A task is not being worked on any more.
    Ended(TaskKey, How),
    Wake,
    /// A person asks for something, and waits for what comes of it.
    Order(Order, Sender<Answer>),
}

impl Stopper {
    /// Has an order done by the porter that works.
    pub fn order(&self, order: Order) -> Answer {
        let (back, answer) = channel();
        let asked = Instant::now();
        // One that is just starting is waited for.
        let to = loop {
            let to = self.0.wake.lock().unwrap_or_else(|e| e.into_inner()).clone();
            if to.is_some() || self.is_stopping() || asked.elapsed() > ORDER_PATIENCE / 2 {
                break to;
            }
            std::thread::sleep(Duration::from_millis(20));
        };
        let sent = to.is_some_and(|to| to.send(Message::Order(order, back)).is_ok());
        let refused = |why: &str| Answer::Refused { why: why.to_owned() };
        if !sent {
            return refused("the porter is just starting, or stopping");
        }
        answer.recv_timeout(ORDER_PATIENCE).unwrap_or_else(|_| {
            refused("the porter did not come to it in time; its record says whether it did since")
        })
    }
}

impl Porter {
    /// Works until stopped or, with `once`, until all that is in the watch folders has come to an end. `tell` is
    /// called with each event of the record behind the start, and must not wait for anything.
    pub fn run(self: &Arc<Self>, once: bool, tell: impl FnMut(&Event)) -> Result<Ended> {
        let (to_desk, desk) = channel();
        *self.stop.0.wake.lock().unwrap_or_else(|e| e.into_inner()) = Some(to_desk.clone());
        self.sweep_work()?;
        let told = self.store.read(|v| v.last_event())?;
        let now = self.house();
        let (house, program) = (now.name.clone(), env!("CARGO_PKG_VERSION").to_owned());
        let (names, watches) = self.start_watches(0, &to_desk);
        let file = now.looked.clone().unwrap_or_else(|| Looked::at(&now.file));
        let mut d = Dispatch {
            porter: self.clone(),
            began: Instant::now(),
            schedule: Schedule::new(slots(&now)),
            once,
            to_desk,
            desk,
            names,
            watches,
            file,
            quiet: HashSet::new(),
            arrivals: VecDeque::new(),
            postponed: Vec::new(),
            notes: VecDeque::from([Change::Started { house, program }]),
            rest_until: Tick::ZERO,
            memory: room::Memory::default(),
            state_seen: Instant::now(),
            hands: Hands::default(),
            told,
            tell,
            ended: Ended::default(),
            alive: Alive::new(),
            on_hold: HashSet::new(),
            draining: false,
            low: false,
            forgetting: (FORGET_SOON, None),
            paused: !once && self.store.read(|v| v.is_paused())?,
        };
        self.board.set_paused(d.paused);
        if let Some(at) = now.metrics.filter(|_| !once)
            && let Err(e) = crate::metrics::serve(self, at)
        {
            // The work does not need them.
            tracing::warn!("{e}");
        }
        let teller = Teller::start(self);
        d.alive.ready();
        let result = d.work();
        d.watches.iter().for_each(|w| w.stop());
        d.alive.stopping();
        let by_itself = !self.stopping();
        self.stop.stop();
        let _ = self.store.commit([Change::Stopped]);
        teller.end(by_itself);
        let _ = d.tell_events();
        result.map(|()| d.ended)
    }

    /// A thread for each watch; the first has the number `from`.
    fn start_watches(
        self: &Arc<Self>,
        from: usize,
        to_desk: &Sender<Message>,
    ) -> (Vec<String>, Vec<WatchThread>) {
        let house = self.house();
        for off in house.watches.iter().filter(|w| !w.on) {
            self.board.set_trouble(&off.name, Some("switched off (on = false)"));
        }
        let all = house.watches.iter().filter(|w| w.on).enumerate().map(|(i, w)| {
            let (porter, to_desk) = (self.clone(), to_desk.clone());
            let thread = WatchThread::start(
                from + i,
                self.since(w),
                move |w| porter.open_watch(w).map_err(|e| e.to_string()),
                move |news| drop(to_desk.send(Message::News(news))),
            );
            (w.name.clone(), thread)
        });
        let (mut names, mut threads): (Vec<String>, Vec<WatchThread>) = all.unzip();
        for w in house.watches.iter().filter(|w| w.on) {
            let Some(fetch) = w.from.clone() else { continue };
            let to_desk = to_desk.clone();
            let news = move |news| drop(to_desk.send(Message::News(news)));
            let fetcher = Fetcher::new(self.clone(), w.clone(), fetch, from + names.len(), news);
            threads.push(WatchThread::of(move |stop| fetcher.work(stop)));
            names.push(w.name.clone());
        }
        (names, threads)
    }

    /// Work folders of jobs that ended are left-overs of a kill.
    fn sweep_work(&self) -> Result<()> {
        let open: HashSet<JobId> = self.store.read(|v| v.tasks())?.iter().map(|t| t.key.job).collect();
        let Ok(entries) = std::fs::read_dir(self.house().work()) else { return Ok(()) };
        for entry in entries.flatten() {
            let job = entry.file_name().to_str().and_then(|n| n.strip_prefix("job-")?.parse().ok());
            if job.is_some_and(|job: JobId| !open.contains(&job)) {
                let _ = std::fs::remove_dir_all(entry.path());
            }
        }
        Ok(())
    }
}

/// One line of what is wrong with a configuration.
fn plain(e: &Error) -> String {
    match e {
        Error::Config { problems, .. } => {
            let first = problems.first().map_or(String::new(), |p| {
                let name = p.part.as_ref().and_then(|part| part.file.file_name());
                let part = name.map_or(String::new(), |n| format!("{}, ", media::show::path(n)));
                format!("{part}line {}: {}: found {}, wanted {}", p.line, p.place, p.found, p.wanted)
            });
            let more = problems.len().saturating_sub(1);
            if more > 0 { format!("{first} (and {more} more)") } else { first }
        }
        e => e.to_string(),
    }
}

/// Places that say how many are carried there at once.
fn each(house: &House) -> Vec<(String, usize)> {
    house.places.iter().filter_map(|p| Some((p.name.clone(), p.at_once?))).collect()
}

/// Stills and sound keep every core busy while others of them wait for the record.
pub fn slots(house: &House) -> Slots {
    let cores = std::thread::available_parallelism().map_or(1, |n| n.get());
    Slots {
        look: 1,
        make: house.jobs_at_once,
        light: house.jobs_at_once.max(cores + 1),
        hear: house.jobs_at_once,
        carry: CARRIES,
        carry_each: CARRIES_EACH,
        moving: MOVES,
    }
}

struct Dispatch<F> {
    porter: Arc<Porter>,
    began: Instant,
    schedule: Schedule,
    once: bool,
    to_desk: Sender<Message>,
    desk: Receiver<Message>,
    /// The name of each watch by its number. Numbers go on when the configuration changes, so that late news of a watch
    /// that was stopped are still of that one.
    names: Vec<String>,
    watches: Vec<WatchThread>,
    /// The configuration's file, as it was when it was read last.
    file: Looked,
    /// Watches in which nothing can become steady any more.
    quiet: HashSet<usize>,
    /// What arrived and is not recorded yet: it stays here until it is.
    arrivals: VecDeque<Arrival>,
    /// What has the path of an original that is just being moved: it may be that very file.
    postponed: Vec<Arrival>,
    /// What else happened and is not recorded yet.
    notes: VecDeque<Change>,
    /// Nothing is begun before: what happens could not be recorded.
    rest_until: Tick,
    memory: room::Memory,
    state_seen: Instant,
    hands: Hands,
    told: i64,
    tell: F,
    ended: Ended,
    /// Who manages this program hears that it lives.
    alive: Alive,
    /// The disk of the state folder has less room than the house wants.
    low: bool,
    /// When old records are looked at next, and who does it.
    forgetting: (Tick, Option<JoinHandle<()>>),
    /// Nothing more is begun until a person says so.
    paused: bool,
    /// Jobs of which nothing is begun until a person says so.
    on_hold: HashSet<JobId>,
    /// Nothing more is taken in: when all is done that can be, it is over.
    draining: bool,
}

impl<F: FnMut(&Event)> Dispatch<F> {
    fn now(&self) -> Tick {
        self.began.elapsed()
    }

    fn work(&mut self) -> Result<()> {
        self.schedule.set_each(each(&self.porter.house()));
        let tasks = self.porter.store.read(|v| v.tasks())?;
        // A job that is being cancelled has nothing else to do.
        let cancelled = tasks.iter().filter(|t| t.key.step == Step::Cancel).map(|t| t.key.job);
        self.porter.cancelled().extend(cancelled);
        for OpenRank { job, watch, path, priority, on_hold, light, .. } in
            self.porter.store.read(|v| v.open_ranks())?
        {
            self.enter(job, (&watch, &path), priority, light.unwrap_or(false));
            if on_hold {
                self.on_hold.insert(job);
            }
        }
        for task in tasks {
            if task.key.step != Step::Cancel && self.on_hold.contains(&task.key.job) {
                continue;
            }
            if task.key.step != Step::Cancel && self.porter.cancelled().contains(&task.key.job) {
                continue;
            }
            match &task.cause {
                // It is given its whole time again: how much of it went by nobody knows.
                Some(Cause::SecondLook { .. } | Cause::Filling { .. }) => {
                    let wait = self.second_look(task.key.job)?;
                    self.schedule.hold(&task.key, self.now() + wait, true);
                }
                _ => self.schedule.add(&task.key),
            }
        }
        loop {
            match self.turn() {
                Ok(true) => return Ok(()),
                Ok(false) => (),
                // A store that cannot be written (a full disk) stops everything but the looking: what is not recorded
                // must not be done.
                Err(e @ Error::Store { .. }) if !self.once => {
                    tracing::warn!("{e}");
                    self.rest();
                }
                Err(e) => return Err(e),
            }
        }
    }

    /// A job comes in, before its tasks do.
    fn enter(&mut self, job: JobId, (watch, path): (&str, &Path), priority: i64, light: bool) {
        self.schedule.enter(job, watch, priority);
        let house = self.porter.house();
        let look_whole = house.watch(watch).is_some_and(Watch::looks_at_all);
        let at_once = house.makes_at_once(watch, path);
        self.schedule.weigh(job, Weight { look_whole, light, at_once });
    }

    fn second_look(&self, job: JobId) -> Result<Duration> {
        let job = self.porter.store.read(|v| v.job(job))?;
        let house = self.porter.house();
        let watch = job.and_then(|j| house.watch(&j.watch));
        Ok(watch.map_or(Duration::ZERO, |w| w.second_look))
    }

    fn rest(&mut self) {
        self.rest_until = self.now() + self.porter.house().retry_after;
    }

    /// One turn: record what came, begin what can begin, wait for more. True when it is over.
    fn turn(&mut self) -> Result<bool> {
        self.alive.turn();
        if self.porter.stopping() {
            self.let_end();
            return Ok(true);
        }
        if self.state_seen.elapsed() > LOOK_AFTER_STATE {
            self.state_seen = Instant::now();
            if !self.porter.state.is_there() {
                return Err(Error::StateGone(self.porter.house().state.clone()));
            }
            if !self.once {
                self.look_after_configuration();
            }
            self.look_after_room();
            self.porter.stayed.let_go();
            self.look_after_records();
        }
        if self.now() >= self.rest_until {
            self.record()?;
            self.begin_all();
        }
        self.tell_events()?;
        if (self.once || self.draining) && self.is_over() {
            let open = self.porter.store.read(|v| v.open_count())?;
            self.ended.held = open as usize;
            self.ended.waiting = self.porter.board.waiting();
            return Ok(true);
        }
        let wake = self.schedule.wake(self.now()).unwrap_or(Tick::MAX).max(self.rest_until);
        let pause = wake.saturating_sub(self.now()).min(LOOK_AFTER_STATE);
        match self.desk.recv_timeout(pause) {
            Ok(message) => {
                self.take(message)?;
                while let Ok(message) = self.desk.try_recv() {
                    self.take(message)?;
                }
            }
            Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => (),
        }
        Ok(false)
    }

    /// A configuration that was changed is taken up as soon as its file is at rest, if it is valid; if it is not, that is
    /// said once, and the one in force stays.
    fn look_after_configuration(&mut self) {
        let house = self.porter.house();
        if !self.file.has_changed(&house.file) {
            return;
        }
        let taken = House::load(&house.file).and_then(|new| self.porter.change_house(new));
        match taken {
            Ok(()) => {
                self.watches.iter().for_each(WatchThread::stop);
                let (names, watches) = self.porter.start_watches(self.names.len(), &self.to_desk);
                self.names.extend(names);
                self.watches = watches;
                self.quiet.clear();
                self.schedule.set_slots(slots(&self.porter.house()));
                self.schedule.set_each(each(&self.porter.house()));
                self.notes.push_back(Change::Configured { refused: None });
            }
            Err(e) => self.notes.push_back(Change::Configured { refused: Some(plain(&e)) }),
        }
    }

    /// What is old is forgotten while nothing else is to be done, by a thread of its own: it looks into watch folders, and a
    /// share that hangs must keep nothing else waiting.
    fn look_after_records(&mut self) {
        let (next, at_work) = &self.forgetting;
        let is_over = at_work.as_ref().is_none_or(JoinHandle::is_finished);
        if self.now() < *next || !is_over || self.schedule.running() > 0 {
            return;
        }
        let porter = self.porter.clone();
        let work = std::thread::spawn(move || {
            let mut behind = 0;
            // What cannot be recorded now is tried at the next turn.
            while let Ok(Some(next)) = porter.forget_some(behind) {
                behind = next;
                if porter.stopping() {
                    return;
                }
            }
        });
        self.forgetting = (self.now() + FORGET_EVERY, Some(work));
    }

    /// Little room is told once, and again when there is enough; a little more than that, so that it does not go to and fro.
    fn look_after_room(&mut self) {
        let house = self.porter.house();
        let Some(least) = house.disk_low else { return };
        let Some(free) = room::disk(&house.state) else { return };
        if !self.low && free < least {
            self.low = true;
            self.notes.push_back(Change::DiskLow { free });
        } else if self.low && free >= least + least / 10 {
            self.low = false;
            self.notes.push_back(Change::RoomAgain { free });
        }
    }

    fn is_over(&self) -> bool {
        (self.draining || self.quiet.len() == self.watches.len())
            && self.arrivals.is_empty()
            && self.schedule.only_held(self.now())
    }

    /// Arrivals and notes, a transaction for many. What cannot be recorded stays.
    fn record(&mut self) -> Result<()> {
        while !self.notes.is_empty() {
            let all: Vec<Change> = self.notes.iter().cloned().collect();
            self.porter.store.commit(all)?;
            self.notes.clear();
        }
        while !self.arrivals.is_empty() {
            let some: Vec<Arrival> = self.arrivals.iter().take(MOST_AT_ONCE).cloned().collect();
            let (names, house) = (&self.names, self.porter.house());
            let ((jobs, postponed), _) = self.porter.store.change(|tx| {
                let (mut jobs, mut postponed) = (Vec::new(), Vec::new());
                for a in &some {
                    let watch = &names[a.watch];
                    let known = tx.known(watch, &a.path, &a.seen)?;
                    // With other attributes than it was known by, its content has to be looked at. (A store of an older
                    // program does not have them all.)
                    let same = |j: &Job| j.seen.changed == a.seen.changed || j.seen.changed == 0;
                    if let Some(j) = known.filter(same) {
                        let back = house.watch(watch).map(|w| has_come_back(tx, w, &j)).transpose()?;
                        if back != Some(true) {
                            continue;
                        }
                    }
                    // Of a folder that goes away when it went on, what came meanwhile is what is left of it then.
                    let goes = matches!(a.many, Some(Many::Tree(_)))
                        && house
                            .watch(watch)
                            .is_some_and(|w| w.original != Original::Leave && !w.moves_first);
                    if tx.is_being_cleared(watch, &a.path)? || (goes && tx.is_worked_on(watch, &a.path)?) {
                        postponed.push(a.clone());
                        continue;
                    }
                    let (job, watch, path) = (tx.next_job()?, watch.clone(), a.path.clone());
                    let priority = house.watch(&watch).map_or(0, |w| w.priority);
                    let many = a.many.clone().map(Box::new);
                    let (of, seen) = (watch.clone(), a.seen);
                    let beside = a.beside.clone();
                    tx.put(Change::Arrived { job, watch: of, path, seen, priority, many, beside })?;
                    jobs.push((job, watch, a.path.clone(), priority));
                }
                Ok((jobs, postponed))
            })?;
            self.arrivals.drain(..some.len());
            for a in postponed {
                self.porter.board.set_later(&self.names[a.watch], &a.path, a.seen.size);
                self.postponed.retain(|p| (p.watch, &p.path) != (a.watch, &a.path));
                self.postponed.push(a);
            }
            for (job, watch, path, priority) in jobs {
                self.enter(job, (&watch, &path), priority, false);
                self.schedule.add(&TaskKey { job, step: Step::Look });
            }
        }
        Ok(())
    }

    /// Begins what has a slot, and memory: where there is too little of that, one at a time.
    fn begin_all(&mut self) {
        // What is cancelled is cleared away while nothing else is begun.
        let paused = self.paused;
        let mut taken = 0;
        loop {
            let alone = self.schedule.making() == 0;
            let may = |key: &TaskKey, weight: Weight| match paused {
                true => key.step == Step::Cancel,
                false => self.memory.has(room::wanted(&key.step, weight), taken, alone),
            };
            let Some(key) = self.schedule.next_of(self.now(), may) else { return self.memory.settle() };
            taken += room::wanted(&key.step, self.schedule.weight(key.job));
            self.begin(key);
        }
    }

    fn begin(&self, key: TaskKey) {
        let (porter, to_desk) = (self.porter.clone(), self.to_desk.clone());
        self.hands.give(move || {
            let worker = Worker::start(&porter, &key);
            let how = tasks::run(&porter, &key, &worker);
            drop(worker);
            let _ = to_desk.send(Message::Ended(key, how));
        });
    }

    fn take(&mut self, message: Message) -> Result<()> {
        match message {
            Message::Wake => (),
            Message::Ended(key, how) => self.task_ended(&key, how)?,
            Message::News(news) => self.take_news(news),
            Message::Order(order, back) => {
                let answer = self.take_order(&order);
                let _ = back.send(answer);
            }
        }
        Ok(())
    }

    fn take_order(&mut self, order: &Order) -> Answer {
        let done = match self.porter.order(order) {
            Ok(done) => done,
            Err(e) => return Answer::Refused { why: e.to_string() },
        };
        if let Order::Pause | Order::Resume = order {
            // One that is to come to an end by itself does not stand still.
            self.paused = *order == Order::Pause && !self.once;
            self.porter.board.set_paused(self.paused);
        }
        for job in done.cancelled {
            self.schedule.renew(job, &[]);
            self.cancel_when_free(job);
        }
        for (job, watch, path, priority) in done.again {
            self.enter(job, (&watch, &path), priority, false);
            self.schedule.add(&TaskKey { job, step: Step::Look });
        }
        for job in done.held {
            self.on_hold.insert(job);
            self.schedule.renew(job, &[]);
        }
        for job in done.released {
            self.on_hold.remove(&job);
            match self.porter.store.read(|v| v.tasks_of(job)) {
                Ok(tasks) => {
                    // What was held for its sake is tried at once.
                    self.schedule.renew(job, &[]);
                    tasks.iter().for_each(|t| self.schedule.add(&t.key));
                }
                Err(e) => return Answer::Refused { why: e.to_string() },
            }
        }
        for (job, priority) in done.ranked {
            self.schedule.rank(job, priority);
        }
        if let Order::Drain = order {
            self.draining = true;
            self.watches.iter().for_each(WatchThread::stop);
        }
        Answer::Done { said: done.said, refused: done.refused }
    }

    /// A job is cancelled as soon as nothing works on it.
    fn cancel_when_free(&mut self, job: JobId) {
        if !self.schedule.is_running(job) {
            self.schedule.add(&TaskKey { job, step: Step::Cancel });
        }
    }

    fn take_news(&mut self, news: News) {
        let board = &self.porter.board;
        let name = |i: usize| self.names[i].clone();
        match news {
            // It is still there when the next porter looks.
            News::Arrived(_) if self.draining => (),
            News::Arrived(a) => {
                self.quiet.remove(&a.watch);
                self.arrivals.push_back(a);
            }
            News::Busy { watch } => _ = self.quiet.remove(&watch),
            News::Quiet { watch } => _ = self.quiet.insert(watch),
            News::Waiting { watch, files } => board.set_waiting(&name(watch), files),
            News::Lost { watch, why } => {
                board.set_trouble(&name(watch), Some(&why));
                self.notes.push_back(Change::WatchLost { watch: name(watch), why });
            }
            News::Back { watch } => {
                board.set_trouble(&name(watch), None);
                self.notes.push_back(Change::WatchBack { watch: name(watch) });
            }
        }
    }

    fn task_ended(&mut self, key: &TaskKey, how: How) -> Result<()> {
        self.schedule.ended(key);
        if key.step != Step::Cancel && self.porter.cancelled().contains(&key.job) {
            self.cancel_when_free(key.job);
            return Ok(());
        }
        let place = match &key.step {
            Step::Carry { place, .. } => Some(place.as_str()),
            _ => None,
        };
        match how {
            How::Moved => {
                if let Some(place) = place {
                    self.schedule.well(place);
                    self.porter.board.set_rest(place, None);
                }
                // A store that cannot be read now must not lose them.
                let looked = key.step == Step::Look;
                let read = |v: &View<'_>| Ok((v.tasks_of(key.job)?, looked && v.is_light(key.job)?));
                let (tasks, light) = self.porter.store.read(read).inspect_err(|_| {
                    self.schedule.hold(key, Tick::ZERO, true);
                })?;
                if looked {
                    self.schedule.weigh(key.job, Weight { light, ..self.schedule.weight(key.job) });
                }
                let keys: Vec<TaskKey> = tasks.into_iter().map(|t| t.key).collect();
                if self.on_hold.contains(&key.job) && !keys.is_empty() {
                    self.schedule.renew(key.job, &[]);
                } else {
                    self.schedule.renew(key.job, &keys);
                }
                if looked && let Some(job) = self.porter.store.read(|v| v.job(key.job))? {
                    // A rule may have put it in front of others.
                    self.schedule.rank(job.id, job.priority);
                }
                if keys.is_empty() || matches!(key.step, Step::Look | Step::Clear | Step::TurnAway) {
                    self.arrivals.extend(self.postponed.drain(..));
                    self.porter.board.clear_later();
                }
                if keys.is_empty() {
                    self.schedule.leave(key.job);
                    self.on_hold.remove(&key.job);
                    self.porter.cancelled().remove(&key.job);
                    let _ = std::fs::remove_dir_all(self.porter.work_folder(key.job));
                }
            }
            How::Held { wait, passing, rest } => {
                let until = self.now() + wait;
                if self.on_hold.contains(&key.job) {
                    return Ok(());
                }
                self.schedule.hold(key, until, passing);
                if let (Some(place), Some((how, why))) = (place, rest) {
                    self.schedule.rest(place, self.now(), until);
                    self.porter.board.set_rest(place, Some((how, why, wait)));
                }
            }
            How::Stopped if self.on_hold.contains(&key.job) => (),
            How::Stopped => self.schedule.add(key),
            How::Unrecorded(e) => {
                tracing::warn!("job {}: {e}", key.job);
                if !self.on_hold.contains(&key.job) {
                    self.schedule.add(key);
                }
                self.rest();
                if self.once {
                    return Err(e);
                }
            }
        }
        Ok(())
    }

    fn tell_events(&mut self) -> Result<()> {
        if self.porter.store.last_recorded() <= self.told {
            return Ok(());
        }
        loop {
            let events = self.porter.store.read(|v| v.events_after(self.told, MOST_EVENTS))?;
            for event in &events {
                self.told = event.id;
                match event.change {
                    Change::Done { .. } => self.ended.done += 1,
                    Change::TurnedAway { .. } => self.ended.turned_away += 1,
                    _ => (),
                }
                (self.tell)(event);
            }
            if events.len() < MOST_EVENTS as usize {
                return Ok(());
            }
        }
    }

    /// Work that is under way is told to end; what does not in time is left as a kill would leave it.
    fn let_end(&mut self) {
        let until = Instant::now() + GRACE;
        while self.schedule.running() > 0 {
            let Some(left) = until.checked_duration_since(Instant::now()) else { return };
            match self.desk.recv_timeout(left) {
                Ok(Message::Ended(key, _)) => self.schedule.ended(&key),
                Ok(_) => (),
                Err(_) => return,
            }
        }
    }
}
