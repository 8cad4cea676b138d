//! One watch folder at work: events where the file system gives them, polling everywhere. Each has a thread of its own,
//! so that a share that hangs keeps no other watch waiting.

use super::beside::Beside;
use super::folder::{self, Found};
use super::gather::Gather;
use super::steady::{Steady, Waiting, Why};
use super::trees::Trees;
use crate::config::Watch;
use crate::files::known;
use crate::files::many::{self, Kind, Many};
use crate::files::{Dir, Seen};
use notify::{RecursiveMode, Watcher as _};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::{Duration, Instant};

/// A file that became steady.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Arrival {
    pub watch: usize,
    /// Inside the watch folder.
    pub path: PathBuf,
    pub seen: Seen,
    /// It is of many files.
    pub many: Option<Many>,
    /// What belongs to it.
    pub beside: Vec<Beside>,
}

/// What a watch tells.
#[derive(Debug)]
pub enum News {
    Arrived(Arrival),
    /// What waits in a watch, when that changed.
    Waiting {
        watch: usize,
        files: Vec<Waiting>,
    },
    /// A watch folder cannot be read; told once until it can again.
    Lost {
        watch: usize,
        why: String,
    },
    Back {
        watch: usize,
    },
    /// The folder was looked through, and no file in it can still become steady.
    Quiet {
        watch: usize,
    },
    /// It is not quiet any more.
    Busy {
        watch: usize,
    },
}

/// What it is told.
enum Order {
    Stop,
    /// Something happened at a path (or, without one, somewhere).
    Look(Option<PathBuf>),
}

/// Gives a watch's folder, if it is there and is itself.
type Opens = Box<dyn Fn(&Watch) -> Result<Dir, String> + Send>;

/// What waits is told at most this often.
const TELL_EVERY: Duration = Duration::from_millis(300);

/// So many looks in a row that found nothing new make a folder calm,
const CALM: u32 = 3;
/// and it is gone through so often then, for what no event tells.
const CALM_LOOK: Duration = Duration::from_secs(180);

/// The thread of one watch. It ends some time after it was told to; nobody waits for it.
pub struct WatchThread {
    stop: Box<dyn Fn() + Send>,
}

impl WatchThread {
    /// `open` gives the folder, if it is there and is itself.
    pub fn start(
        index: usize,
        watch: Watch,
        open: impl Fn(&Watch) -> Result<Dir, String> + Send + 'static,
        news: impl Fn(News) + Send + 'static,
    ) -> WatchThread {
        let (orders, from) = channel();
        let to_self = orders.clone();
        std::thread::spawn(move || {
            let ms = watch.steady.as_millis() as i64;
            let steady = Steady::new(ms, watch.unfinished.clone(), watch.belonging.clone());
            let trees = Trees::new(ms, watch.unfinished.clone(), watch.belonging.clone());
            let mut desk = Desk {
                index,
                events: Events::start(to_self, &watch.folder, watch.depth > 0),
                open: Box::new(open),
                news: Box::new(news),
                began: Instant::now(),
                folder: None,
                gather: Gather::new(watch.gathering.clone()),
                watch,
                steady,
                trees,
                next_look: 0,
                next_walk: 0,
                calm: 0,
                one_disk: false,
                handed: 0,
                lost: false,
                told: Vec::new(),
                tell_next: Instant::now(),
            };
            desk.work(&from);
        });
        WatchThread { stop: Box::new(move || _ = orders.send(Order::Stop)) }
    }

    /// Another thread that brings files into a watch folder; it ends when it is told to.
    pub fn of(work: impl FnOnce(&Receiver<()>) + Send + 'static) -> WatchThread {
        let (stop, told) = channel();
        std::thread::spawn(move || work(&told));
        WatchThread { stop: Box::new(move || _ = stop.send(())) }
    }

    pub fn stop(&self) {
        (self.stop)();
    }
}

struct Desk {
    index: usize,
    watch: Watch,
    open: Opens,
    news: Box<dyn Fn(News) + Send>,
    events: Events,
    /// The clock of this watch starts here, and nobody sets it.
    began: Instant,
    folder: Option<Dir>,
    steady: Steady,
    gather: Gather,
    trees: Trees,
    next_look: i64,
    /// When the whole folder is gone through at the latest, how many looks in a row found nothing new, and whether all of it
    /// lies on one disk.
    next_walk: i64,
    calm: u32,
    one_disk: bool,
    /// How many were handed over since the last look through the folder.
    handed: usize,
    lost: bool,
    told: Vec<Waiting>,
    tell_next: Instant,
}

impl Desk {
    fn millis(&self) -> i64 {
        self.began.elapsed().as_millis() as i64
    }

    fn work(&mut self, from: &Receiver<Order>) {
        let mut quiet = false;
        loop {
            let now = self.millis();
            if now >= self.next_look {
                self.look_through(now);
            }
            self.hand_over();
            let telling = self.tell_waiting();
            let next = [self.steady.next_due(), self.gather.next_due(), self.trees.next_due()];
            let next = next.into_iter().flatten().min();
            // What is ready and not taken now waits for the next look.
            let next = next.map(|due| if self.takes_now() { due } else { due.max(self.next_look) });
            let is_quiet = next.is_none() && !telling;
            if is_quiet != quiet {
                let watch = self.index;
                (self.news)(if is_quiet { News::Quiet { watch } } else { News::Busy { watch } });
                quiet = is_quiet;
            }
            let due = next.unwrap_or(i64::MAX).min(self.next_look);
            let mut pause = Duration::from_millis((due - self.millis()).max(0) as u64);
            if telling {
                pause = pause.min(TELL_EVERY);
            }
            match from.recv_timeout(pause) {
                Ok(Order::Stop) | Err(RecvTimeoutError::Disconnected) => return,
                Ok(Order::Look(path)) => {
                    self.note(path.as_deref());
                    // A copy makes thousands of events: take those that wait together.
                    while let Ok(order) = from.try_recv() {
                        match order {
                            Order::Stop => return,
                            Order::Look(path) => self.note(path.as_deref()),
                        }
                    }
                }
                Err(RecvTimeoutError::Timeout) => (),
            }
        }
    }

    fn note(&mut self, path: Option<&Path>) {
        let now = self.millis();
        self.calm = 0;
        match path {
            None => self.next_look = now,
            Some(path) => {
                if let Ok(inside) = path.strip_prefix(&self.watch.folder) {
                    self.look_at(now, inside);
                }
            }
        }
    }

    fn look_at(&mut self, now: i64, inside: &Path) {
        let deep = inside.components().count() > self.watch.depth + 1;
        if inside.as_os_str().is_empty() || inside == Path::new(crate::files::known::MARKER) || deep {
            return;
        }
        let Some(folder) = self.folder.as_ref() else { return };
        match folder::look_at(folder, inside) {
            Some(f) => self.see(now, &f),
            // A folder that came or went holds files of its own.
            None => {
                if !self.watch.whole_folders || !self.trees.see(now, inside, None) {
                    self.gather.see(now, inside, None);
                    self.steady.see(now, inside, None, true);
                }
                self.next_look = now;
            }
        }
    }

    fn see(&mut self, now: i64, f: &Found) {
        if self.watch.whole_folders
            && let Some((top, _)) = super::trees::split(&f.path)
        {
            let seen = (f.seen, if f.is_file { Kind::File } else { Kind::Other });
            self.trees.see(now, &f.path, self.watch.fits(&top).then_some(seen));
            return;
        }
        if f.is_file && self.steady.see_given(&f.path, &f.seen) {
            return;
        }
        if f.is_file && !self.watch.takes(&f.path, &f.seen) {
            self.gather.see(now, &f.path, None);
            self.steady.see(now, &f.path, None, true);
            return;
        }
        if f.is_file
            && self.gather.takes(&f.path)
            && !super::steady::unfinished(&f.path, &self.watch.unfinished)
            && self.gather.see(now, &f.path, Some(f.seen))
        {
            return;
        }
        self.steady.see(now, &f.path, Some(f.seen), f.is_file);
    }

    fn look_through(&mut self, now: i64) {
        self.next_look = now + self.watch.look_every.as_millis() as i64;
        self.handed = 0;
        if self.is_calm(now) {
            return;
        }
        let opened = (self.open)(&self.watch);
        let found = opened.and_then(|folder| {
            let found = folder::look_at_all(&folder, self.watch.depth).map_err(|e| {
                format!("{}: {}", media::show::path(folder.path()), crate::files::known::plain(&e))
            })?;
            Ok((folder, found))
        });
        match found {
            Ok((folder, (found, one))) => {
                self.events.follow(&folder);
                self.folder = Some(folder);
                if std::mem::take(&mut self.lost) {
                    (self.news)(News::Back { watch: self.index });
                }
                if !self.gather.is_empty() {
                    self.gather.keep_only(now, &folder::paths(&found));
                }
                let before = (self.steady.changes(), self.trees.changes());
                self.steady.begin_look();
                self.trees.begin_look();
                found.iter().for_each(|f| self.see(now, f));
                self.steady.end_look();
                self.trees.end_look(now);
                self.one_disk = one;
                let same = (self.steady.changes(), self.trees.changes()) == before;
                self.calm = if same { self.calm + 1 } else { 0 };
                self.next_walk =
                    now + (CALM_LOOK.as_millis() as i64).max(self.watch.look_every.as_millis() as i64);
            }
            Err(why) => {
                self.folder = None;
                self.events.lose();
                if !std::mem::replace(&mut self.lost, true) {
                    (self.news)(News::Lost { watch: self.index, why });
                }
            }
        }
    }

    /// Nothing happened for a while, nothing waits, and whatever happens is told by the system: the folder is known to be
    /// itself, and need not be gone through now.
    fn is_calm(&self, now: i64) -> bool {
        let Some(folder) = &self.folder else { return false };
        let due = [self.steady.next_due(), self.gather.next_due(), self.trees.next_due()];
        let waits = due.iter().any(Option::is_some);
        self.calm >= CALM
            && !self.lost
            && !waits
            && self.one_disk
            && now < self.next_walk
            && self.events.tell(folder)
            && is_at(folder, &self.watch.folder)
    }

    /// It is the time of day for it, and this look did not take enough.
    fn takes_now(&self) -> bool {
        self.is_open() && self.watch.most_at_once.is_none_or(|most| self.handed < most)
    }

    fn is_open(&self) -> bool {
        self.watch.hours.is_none_or(|h| h.is_open_now())
    }

    /// Files whose time is over are looked at once more and given on.
    fn hand_over(&mut self) {
        let now = self.millis();
        if !self.takes_now() {
            return;
        }
        self.hand_over_runs(now);
        self.hand_over_trees(now);
        let due = self.steady.due(now);
        let Some(folder) = self.folder.as_ref().filter(|_| !due.is_empty()) else { return };
        for path in due {
            let look = folder::look_at(folder, &path);
            let is_file = look.as_ref().is_none_or(|f| f.is_file);
            self.steady.see(now, &path, look.as_ref().map(|f| f.seen), is_file);
            if folder::is_reason(folder, &path) {
                self.steady.wait(&path, Why::Reason);
                continue;
            }
            if !self.takes_now() {
                return;
            }
            if let Some((seen, beside)) = self.steady.take(now, &path) {
                self.handed += 1;
                (self.news)(News::Arrived(Arrival { watch: self.index, path, seen, many: None, beside }));
            }
        }
    }

    /// The same for folders that are taken whole: each is looked through once more.
    fn hand_over_trees(&mut self, now: i64) {
        let due = self.trees.due(now);
        let Some(folder) = self.folder.as_ref().filter(|_| !due.is_empty()) else { return };
        for path in due {
            if !self.takes_now() {
                return;
            }
            // What cannot be looked through now is told by the next look.
            let Ok(found) = folder.inside(&path).and_then(|top| many::walk(&top)) else { continue };
            if let Some(whole) = self.trees.take(now, &path, &found) {
                self.handed += 1;
                (self.news)(News::Arrived(Arrival {
                    watch: self.index,
                    path: whole.path,
                    seen: whole.seen,
                    many: Some(Many::Tree(whole.tree)),
                    beside: Vec::new(),
                }));
            }
        }
    }

    /// The same for runs of frames: every frame is looked at once more.
    fn hand_over_runs(&mut self, now: i64) {
        let due = self.gather.due(now);
        let Some(folder) = self.folder.as_ref().filter(|_| !due.is_empty()) else { return };
        for path in due {
            let look = folder::look_at(folder, &path).filter(|f| f.is_file);
            self.gather.see(now, &path, look.map(|f| f.seen));
        }
        for ready in self.gather.take(now) {
            let (path, seen, many) = (ready.path, ready.seen, ready.frames.map(Many::Run));
            self.handed += 1;
            (self.news)(News::Arrived(Arrival { watch: self.index, path, seen, many, beside: Vec::new() }));
        }
    }

    /// True if there is something to tell that was not told yet.
    fn tell_waiting(&mut self) -> bool {
        let mut files = self.steady.waiting(self.began, self.millis());
        files.extend(self.gather.waiting(self.began, self.millis()));
        files.extend(self.trees.waiting(self.began, self.millis()));
        if !self.takes_now() {
            let why = if self.is_open() { Why::Enough } else { Why::Hours };
            let ready = files.iter_mut().filter(|w| w.why == Why::Changing && w.steady_for >= w.wanted);
            ready.for_each(|w| w.why = why);
        }
        let same = files.len() == self.told.len() && files.iter().zip(&self.told).all(|(a, b)| a.is_as(b));
        if same {
            return false;
        }
        if Instant::now() < self.tell_next {
            return true;
        }
        self.tell_next = Instant::now() + TELL_EVERY;
        self.told.clone_from(&files);
        (self.news)(News::Waiting { watch: self.index, files });
        false
    }
}

/// What is at a path is the folder that is open: a mount that is gone, or another folder there, is not.
fn is_at(folder: &Dir, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let (Ok(there), Ok(open)) = (std::fs::metadata(path), crate::files::dir::entry_of(folder.fd())) else {
        return false;
    };
    (there.dev(), there.ino()) == (open.device, open.node)
}

/// File system events, as far as there are any.
struct Events {
    watcher: Option<notify::RecommendedWatcher>,
    path: PathBuf,
    mode: RecursiveMode,
    /// The folder that is followed, by device and number: another one under the same path must be asked for anew.
    followed: Option<(u64, u64)>,
    /// It is on a disk of this machine.
    is_local: bool,
}

impl Events {
    fn start(to: Sender<Order>, path: &Path, subfolders: bool) -> Events {
        let watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| match event {
            Ok(event) if event.kind.is_access() => (),
            Ok(event) => event.paths.into_iter().for_each(|p| {
                let _ = to.send(Order::Look(Some(p)));
            }),
            // Events were lost: look through everything.
            Err(_) => {
                let _ = to.send(Order::Look(None));
            }
        });
        let mode = if subfolders { RecursiveMode::Recursive } else { RecursiveMode::NonRecursive };
        Events { watcher: watcher.ok(), path: path.to_owned(), mode, followed: None, is_local: false }
    }

    /// Whether every change in the folder is told.
    fn tell(&self, folder: &Dir) -> bool {
        let Ok(entry) = crate::files::dir::entry_of(folder.fd()) else { return false };
        self.is_local && self.followed == Some((entry.device, entry.node))
    }

    /// Asks for events of the folder. Where there are none, polling does it alone.
    fn follow(&mut self, folder: &Dir) {
        let Some(watcher) = &mut self.watcher else { return };
        let Ok(entry) = crate::files::dir::entry_of(folder.fd()) else { return };
        let now = Some((entry.device, entry.node));
        if now == self.followed {
            return;
        }
        if self.followed.take().is_some() {
            let _ = watcher.unwatch(&self.path);
        }
        if watcher.watch(&self.path, self.mode).is_ok() {
            self.followed = now;
            self.is_local = known::is_local(folder);
        }
    }

    fn lose(&mut self) {
        if let Some(watcher) = &mut self.watcher
            && self.followed.take().is_some()
        {
            let _ = watcher.unwatch(&self.path);
        }
    }
}
