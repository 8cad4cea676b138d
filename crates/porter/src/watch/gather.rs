//! Which files are frames of a run, and when is the run ready? Pure: looks go in with a time, runs come out.
//!
//! A run is given on when none of its frames changed for the set time. While numbers are missing in it, it waits longer; then
//! it is given on with its holes. A run of one frame is a file like any other.

use super::steady::{Waiting, Why};
use crate::config::Pattern;
use crate::files::Seen;
use crate::files::frames::{Frames, Together, split};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// What makes a run, and when it is ready.
#[derive(Clone, Debug, PartialEq)]
pub struct Gathering {
    /// Names of files that are frames of runs.
    pub patterns: Vec<Pattern>,
    /// None of them changed for so long.
    pub steady: Duration,
    /// So long where numbers are missing.
    pub holes: Duration,
}

/// Folder, and what is in front of the number and behind it.
type Key = (PathBuf, String, String);

#[derive(Debug)]
struct State {
    /// By number: the digits as they are written, and what the file is.
    frames: BTreeMap<u64, (usize, bool, Seen)>,
    /// When one of them was first seen as it is now.
    since: i64,
    first: i64,
    /// It was given on as it is.
    given: bool,
    /// Files that are empty yet.
    empty: usize,
}

/// A run that is ready.
#[derive(Clone, Debug, PartialEq)]
pub struct Ready {
    /// Of the run or, where it is one file, of that.
    pub path: PathBuf,
    pub seen: Seen,
    pub frames: Option<Frames>,
}

#[derive(Debug)]
pub struct Gather {
    settings: Gathering,
    runs: BTreeMap<Key, State>,
}

fn key(path: &Path) -> Option<(Key, u64, usize, bool)> {
    let (prefix, digits, suffix) = split(path.file_name()?)?;
    let folder = path.parent().unwrap_or(Path::new("")).to_owned();
    let zeros = digits.len() > 1 && digits.starts_with('0');
    Some(((folder, prefix.to_owned(), suffix.to_owned()), digits.parse().ok()?, digits.len(), zeros))
}

impl State {
    /// Zeros in front make the width of all; what does not fit in is none of the run.
    fn padding(&self) -> usize {
        let mut zeros = self.frames.values().filter(|f| f.1).map(|f| f.0);
        let mut widths = self.frames.values().map(|f| f.0);
        let first = widths.next().unwrap_or(0);
        zeros.next().unwrap_or(if widths.all(|w| w == first) { first } else { 0 })
    }

    fn frames(&self, key: &Key) -> Option<Frames> {
        let (first, last) = (*self.frames.keys().next()?, *self.frames.keys().next_back()?);
        let mut missing = Vec::new();
        let mut next = first;
        for &n in self.frames.keys() {
            if n > next {
                missing.push((next, n - 1));
            }
            next = n + 1;
        }
        let (prefix, suffix) = (key.1.clone(), key.2.clone());
        Some(Frames { prefix, suffix, padding: self.padding(), first, last, missing })
    }

    /// All names are written in one way.
    fn is_even(&self) -> bool {
        let padding = self.padding();
        let width = |n: u64| (n.checked_ilog10().unwrap_or(0) as usize + 1).max(padding);
        self.frames.iter().all(|(n, f)| f.0 == width(*n))
    }

    fn has_holes(&self) -> bool {
        match (self.frames.keys().next(), self.frames.keys().next_back()) {
            (Some(first), Some(last)) => last - first + 1 != self.frames.len() as u64,
            _ => false,
        }
    }

    fn seen(&self) -> Seen {
        let mut all = Together::default();
        self.frames.iter().for_each(|(n, f)| all.add(*n, &f.2));
        all.seen()
    }
}

impl Gather {
    pub fn new(settings: Gathering) -> Gather {
        Gather { settings, runs: BTreeMap::new() }
    }

    /// Whether a file is a frame by its name.
    pub fn takes(&self, path: &Path) -> bool {
        self.settings.patterns.iter().any(|p| p.fits(path)) && key(path).is_some()
    }

    /// A look at a frame: what is there, or that nothing is. False: another file has its number.
    pub fn see(&mut self, now: i64, path: &Path, seen: Option<Seen>) -> bool {
        let Some((key, number, width, zeros)) = key(path) else { return false };
        let Some(seen) = seen else {
            if let Some(run) = self.runs.get_mut(&key)
                && let Some((.., was)) = run.frames.remove(&number)
            {
                (run.since, run.given) = (now, false);
                run.empty -= usize::from(was.size == 0);
                if run.frames.is_empty() {
                    self.runs.remove(&key);
                }
            }
            return true;
        };
        let new = || State { frames: BTreeMap::new(), since: now, first: now, given: false, empty: 0 };
        let run = self.runs.entry(key).or_insert_with(new);
        if run.frames.get(&number).is_some_and(|f| f.0 != width) {
            return false;
        }
        match run.frames.insert(number, (width, zeros, seen)) {
            Some((.., was)) if was == seen => (),
            was => {
                (run.since, run.given) = (now, false);
                run.empty -= usize::from(was.is_some_and(|(.., w)| w.size == 0));
                run.empty += usize::from(seen.size == 0);
            }
        }
        true
    }

    pub fn is_empty(&self) -> bool {
        self.runs.is_empty()
    }

    /// A whole look through the folder has ended: what it did not show is gone.
    pub fn keep_only(&mut self, now: i64, shown: &BTreeSet<PathBuf>) {
        self.runs.retain(|key, run| {
            let before = run.frames.len();
            run.frames.retain(|n, f| {
                let width = f.0;
                shown.contains(&key.0.join(format!("{}{n:0width$}{}", key.1, key.2)))
            });
            if run.frames.len() != before {
                (run.since, run.given) = (now, false);
                run.empty = run.frames.values().filter(|f| f.2.size == 0).count();
            }
            !run.frames.is_empty()
        });
    }

    fn wanted(&self, run: &State) -> i64 {
        let span = if run.has_holes() {
            self.settings.holes.max(self.settings.steady)
        } else {
            self.settings.steady
        };
        span.as_millis() as i64
    }

    /// Frames of runs whose time is over: the caller looks at each once more, [`Self::see`]s it, and then [`Self::take`]s.
    pub fn due(&self, now: i64) -> Vec<PathBuf> {
        let mut out = Vec::new();
        for (key, run) in &self.runs {
            if run.empty == 0 && now - run.since >= self.wanted(run) && !run.given {
                out.extend(run.frames.iter().map(|(n, f)| {
                    let width = f.0;
                    key.0.join(format!("{}{n:0width$}{}", key.1, key.2))
                }));
            }
        }
        out
    }

    /// Runs that are ready, once for each state of them.
    pub fn take(&mut self, now: i64) -> Vec<Ready> {
        let mut out = Vec::new();
        let wanted: Vec<i64> = self.runs.values().map(|run| self.wanted(run)).collect();
        for ((key, run), wanted) in self.runs.iter_mut().zip(wanted) {
            if run.empty > 0 || now - run.since < wanted || run.given {
                continue;
            }
            let Some(frames) = run.frames(key) else { continue };
            run.given = true;
            let alone = |(n, f): (&u64, &(usize, bool, Seen))| {
                let path = key.0.join(format!("{}{n:0width$}{}", key.1, key.2, width = f.0));
                Ready { path, seen: f.2, frames: None }
            };
            if run.frames.len() > 1 && run.is_even() {
                out.push(Ready {
                    path: key.0.join(frames.pattern()),
                    seen: run.seen(),
                    frames: Some(frames),
                });
            } else {
                out.extend(run.frames.iter().map(alone));
            }
        }
        out
    }

    /// When the next run may become ready.
    pub fn next_due(&self) -> Option<i64> {
        let waits = self.runs.values().filter(|r| r.empty == 0 && !r.given);
        waits.map(|r| r.since + self.wanted(r)).min()
    }

    /// Runs that were not given on, and why.
    pub fn waiting(&self, began: Instant, now: i64) -> Vec<Waiting> {
        let span = |since: i64| Duration::from_millis((now - since).max(0) as u64);
        let waits = self.runs.iter().filter(|(_, r)| r.empty > 0 || !r.given);
        waits
            .filter_map(|(key, run)| {
                let frames = run.frames(key)?;
                let why = match run {
                    r if r.empty > 0 => Why::Empty,
                    r if r.has_holes() => Why::Holes,
                    _ => Why::Changing,
                };
                Some(Waiting {
                    path: key.0.join(if run.frames.len() == 1 {
                        frames.name(frames.first)
                    } else {
                        frames.pattern()
                    }),
                    size: run.seen().size,
                    why,
                    at: began + Duration::from_millis(now.max(0) as u64),
                    seen_for: span(run.first),
                    steady_for: span(run.since),
                    wanted: Duration::from_millis(self.wanted(run).max(0) as u64),
                })
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn gather() -> Gather {
        let patterns = vec![Pattern::parse("*.dpx").unwrap(), Pattern::parse("*.exr").unwrap()];
        Gather::new(Gathering {
            patterns,
            steady: Duration::from_millis(100),
            holes: Duration::from_millis(1000),
        })
    }

    fn seen(n: u64) -> Option<Seen> {
        Some(Seen { size: 10, modified: n as i64, changed: n as i64, inode: n })
    }

    fn see(g: &mut Gather, now: i64, names: impl IntoIterator<Item = u64>) {
        for n in names {
            g.see(now, Path::new(&format!("day 1/shot.{n:04}.dpx")), seen(n));
        }
    }

    #[test]
    fn many_frames_are_one_arrival_when_they_rest() {
        let mut g = gather();
        assert!(g.takes(Path::new("a/shot.0001.DPX")) && !g.takes(Path::new("a/shot.dpx")));
        assert!(!g.takes(Path::new("IMG_0001.jpg")));
        see(&mut g, 0, 1..=50);
        see(&mut g, 90, 51..=60);
        assert_eq!(g.take(100), [], "it still grew");
        assert_eq!(g.next_due(), Some(190));
        assert_eq!(g.due(190).len(), 60);
        let all = g.take(190);
        assert_eq!((all.len(), all[0].path.to_str()), (1, Some("day 1/shot.####.dpx")));
        let frames = all[0].frames.clone().unwrap();
        assert_eq!((frames.first, frames.last, frames.count(), all[0].seen.size), (1, 60, 60, 600));
        assert_eq!((g.take(9999), g.next_due(), g.waiting(Instant::now(), 9999).len()), (vec![], None, 0));
        // Some frames rendered anew are a new state of the run.
        g.see(10_000, Path::new("day 1/shot.0007.dpx"), seen(777));
        let again = g.take(10_100);
        assert_eq!(again.len(), 1);
        assert_ne!(again[0].seen, all[0].seen);
    }

    #[test]
    fn holes_are_waited_for_and_then_told() {
        let mut g = gather();
        see(&mut g, 0, (1..=6).chain(9..=10));
        assert_eq!(g.take(500), []);
        assert_eq!(g.waiting(Instant::now(), 500)[0].why, Why::Holes);
        // They come in the end.
        let mut filled = gather();
        see(&mut filled, 0, (1..=6).chain(9..=10));
        see(&mut filled, 600, 7..=8);
        assert_eq!(filled.take(700)[0].frames.as_ref().unwrap().missing, []);
        let taken = g.take(1000);
        assert_eq!(taken[0].frames.as_ref().unwrap().missing, [(7, 8)]);
    }

    #[test]
    fn one_frame_is_a_file_and_an_empty_one_is_waited_for() {
        let mut g = gather();
        see(&mut g, 0, [4]);
        let one = g.take(100);
        assert_eq!((one[0].path.to_str(), &one[0].frames), (Some("day 1/shot.0004.dpx"), &None));
        let mut g = gather();
        see(&mut g, 0, 1..=3);
        g.see(0, Path::new("day 1/shot.0002.dpx"), Some(Seen { size: 0, modified: 1, changed: 1, inode: 2 }));
        assert_eq!((g.take(9999), g.next_due()), (vec![], None));
        g.see(10_000, Path::new("day 1/shot.0002.dpx"), seen(2));
        assert_eq!(g.take(10_100).len(), 1);
    }

    #[test]
    fn names_that_do_not_go_together_stay_files() {
        let mut g = gather();
        assert!(g.see(0, Path::new("s.9.dpx"), seen(9)));
        assert!(!g.see(0, Path::new("s.009.dpx"), seen(10)), "the number is taken");
        g.see(0, Path::new("s.0010.dpx"), seen(11));
        let paths: Vec<_> = g.take(5000).into_iter().map(|r| (r.path, r.frames)).collect();
        assert_eq!(paths, [("s.9.dpx".into(), None), ("s.0010.dpx".into(), None)]);
        // 0999 and 1000 do.
        let mut g = gather();
        g.see(0, Path::new("s.0999.dpx"), seen(1));
        g.see(0, Path::new("s.1000.dpx"), seen(2));
        assert_eq!(g.take(100)[0].frames.as_ref().unwrap().name(1000), "s.1000.dpx");
    }

    #[test]
    fn what_is_gone_is_gone() {
        let mut g = gather();
        see(&mut g, 0, 1..=3);
        let left = (1..=2).map(|n| PathBuf::from(format!("day 1/shot.{n:04}.dpx"))).collect();
        g.keep_only(50, &left);
        assert_eq!(g.take(100), [], "it changed just now");
        assert_eq!(g.take(150)[0].frames.as_ref().unwrap().last, 2);
        g.keep_only(200, &BTreeSet::new());
        assert_eq!((g.next_due(), g.due(9999).len()), (None, 0));
    }

    proptest! {
        /// Whatever comes in whatever order: what is given on names files that were seen, all of them, and each state once.
        #[test]
        fn runs_name_what_is_there(steps in prop::collection::vec((0u64..30, 0u8..3, 0i64..200), 1..200)) {
            let mut g = gather();
            let mut there: BTreeMap<String, Seen> = BTreeMap::new();
            let (mut now, mut given) = (0, 0);
            for (n, what, wait) in steps {
                now += wait;
                let name = format!("s.{n:03}.exr");
                match what {
                    0 => {
                        there.remove(&name);
                        g.see(now, Path::new(&name), None);
                    }
                    _ => {
                        let s = Seen { size: u64::from(what), modified: now / 50, changed: 1, inode: n };
                        there.insert(name.clone(), s);
                        g.see(now, Path::new(&name), Some(s));
                    }
                }
                for ready in g.take(now) {
                    match &ready.frames {
                        Some(f) => {
                            let names: Vec<String> = f.numbers().map(|n| f.name(n)).collect();
                            prop_assert_eq!(&names, &there.keys().cloned().collect::<Vec<_>>());
                            prop_assert_eq!(ready.seen.size, there.values().map(|s| s.size).sum::<u64>());
                        }
                        None => prop_assert_eq!(there.len(), 1),
                    }
                    given += 1;
                }
            }
            prop_assert!(given <= 200);
        }
    }
}
