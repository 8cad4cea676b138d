//! The watch folders of a house, at work: events where the file system gives them, polling everywhere.

use super::folder;
use super::steady::{Seen, Steady, Waiting};
use crate::clock::{self, Micros};
use crate::config::{House, Watch};
use notify::{RecursiveMode, Watcher as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::Duration;

/// A file that became steady.
#[derive(Clone, Debug)]
pub struct Arrival {
    pub watch: usize,
    /// Inside the watch folder.
    pub path: PathBuf,
    pub seen: Seen,
    /// When its steady time was over.
    pub steady_at: Micros,
}

/// What the service tells.
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
    /// Every folder was looked through once, and no file in them can still become steady.
    Quiet,
}

/// What the service is told.
#[derive(Debug)]
pub enum Order {
    Stop,
    /// Something happened at a path (or, without one, somewhere).
    Look(Option<PathBuf>),
}

struct Desk<'a> {
    watch: &'a Watch,
    index: usize,
    steady: Steady,
    next_look: i64,
    lost: bool,
    told: Vec<Waiting>,
    looked: bool,
}

/// Runs until told to stop. Blocking; give it a thread of its own.
pub fn run(house: &Arc<House>, orders: (Sender<Order>, Receiver<Order>), news: &dyn Fn(News)) {
    let (to_self, from) = orders;
    let mut events = Events::start(to_self);
    let mut desks: Vec<Desk<'_>> = house
        .watches
        .iter()
        .enumerate()
        .map(|(index, watch)| Desk {
            watch,
            index,
            steady: Steady::new(watch.steady.as_millis() as i64),
            next_look: 0,
            lost: false,
            told: Vec::new(),
            looked: false,
        })
        .collect();
    let mut quiet = false;
    loop {
        let now = millis();
        for desk in &mut desks {
            if now >= desk.next_look {
                events.follow(desk.watch);
                desk.look_through(now, news);
            }
            desk.hand_over(news);
            desk.tell_waiting(news);
        }
        let is_quiet = desks.iter().all(|d| (d.looked || d.lost) && d.steady.next_due().is_none());
        if is_quiet && !quiet {
            news(News::Quiet);
        }
        quiet = is_quiet;
        let wake =
            desks.iter().filter_map(|d| d.steady.next_due().into_iter().chain([d.next_look]).min()).min();
        let pause = wake.map_or(1000, |w| (w - millis()).max(0)) as u64;
        match from.recv_timeout(Duration::from_millis(pause)) {
            Ok(Order::Stop) | Err(RecvTimeoutError::Disconnected) => return,
            Ok(Order::Look(path)) => {
                quiet = false;
                note(&mut desks, path.as_deref());
                // A copy makes thousands of events: take those that wait together.
                while let Ok(order) = from.try_recv() {
                    match order {
                        Order::Stop => return,
                        Order::Look(path) => note(&mut desks, path.as_deref()),
                    }
                }
            }
            Err(RecvTimeoutError::Timeout) => (),
        }
    }
}

fn millis() -> i64 {
    clock::now() / 1000
}

fn note(desks: &mut [Desk<'_>], path: Option<&Path>) {
    let now = millis();
    let Some(path) = path else {
        desks.iter_mut().for_each(|d| d.next_look = now);
        return;
    };
    for desk in desks {
        if let Ok(inside) = path.strip_prefix(&desk.watch.folder) {
            desk.look_at(now, inside);
        }
    }
}

impl Desk<'_> {
    fn look_at(&mut self, now: i64, inside: &Path) {
        if inside.as_os_str().is_empty() || (!self.watch.subfolders && inside.components().count() > 1) {
            return;
        }
        match folder::look_at(&self.watch.folder, inside) {
            Some(f) => self.steady.see(now, inside, Some(f.seen), f.is_file),
            // A folder that came or went holds files of its own.
            None => {
                self.steady.see(now, inside, None, true);
                self.next_look = now;
            }
        }
    }

    fn look_through(&mut self, now: i64, news: &dyn Fn(News)) {
        self.next_look = now + self.watch.look_every.as_millis() as i64;
        match folder::look_through(&self.watch.folder, self.watch.subfolders) {
            Ok(found) => {
                if std::mem::take(&mut self.lost) {
                    news(News::Back { watch: self.index });
                }
                self.steady.keep_only(&folder::paths(&found));
                found.iter().for_each(|f| self.steady.see(now, &f.path, Some(f.seen), f.is_file));
                self.looked = true;
            }
            Err(e) => {
                if !std::mem::replace(&mut self.lost, true) {
                    let why = format!("{}: {e}", self.watch.folder.display());
                    news(News::Lost { watch: self.index, why });
                }
            }
        }
    }

    /// Files whose time is over are looked at once more and given on.
    fn hand_over(&mut self, news: &dyn Fn(News)) {
        let now = millis();
        for path in self.steady.due(now) {
            let look = folder::look_at(&self.watch.folder, &path);
            self.steady.see(
                now,
                &path,
                look.as_ref().map(|f| f.seen),
                look.as_ref().is_none_or(|f| f.is_file),
            );
            if let Some(seen) = self.steady.take(now, &path) {
                let arrival = Arrival { watch: self.index, path, seen, steady_at: clock::now() };
                news(News::Arrived(arrival));
            }
        }
    }

    fn tell_waiting(&mut self, news: &dyn Fn(News)) {
        let files = self.steady.waiting();
        if files != self.told {
            self.told.clone_from(&files);
            news(News::Waiting { watch: self.index, files });
        }
    }
}

/// File system events, as far as there are any.
struct Events {
    watcher: Option<notify::RecommendedWatcher>,
    followed: Vec<PathBuf>,
}

impl Events {
    fn start(to: Sender<Order>) -> Events {
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
        Events { watcher: watcher.ok(), followed: Vec::new() }
    }

    /// Asks for events of a watch folder. Where there are none, polling does it alone.
    fn follow(&mut self, watch: &Watch) {
        let Some(watcher) = &mut self.watcher else { return };
        if !watch.folder.is_dir() {
            // A folder that went away (a share) must be asked for again when it is back.
            if let Some(i) = self.followed.iter().position(|f| *f == watch.folder) {
                let _ = watcher.unwatch(&watch.folder);
                self.followed.remove(i);
            }
        } else if !self.followed.contains(&watch.folder) {
            let mode = if watch.subfolders { RecursiveMode::Recursive } else { RecursiveMode::NonRecursive };
            if watcher.watch(&watch.folder, mode).is_ok() {
                self.followed.push(watch.folder.clone());
            }
        }
    }
}

/// A channel for orders, both ends: the service keeps one sender for events.
pub fn orders() -> (Sender<Order>, (Sender<Order>, Receiver<Order>)) {
    let (to, from) = channel();
    (to.clone(), (to, from))
}
