//! When is a file ready? Pure: what was seen goes in with a time, arrivals come out.

use crate::files::Seen;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Why a file in a watch folder is not being worked on yet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// It changed less than the steady time ago.
    Changing,
    Empty,
    /// Hidden, or a name that download programs use for what is not finished.
    Unfinished,
    /// A run of frames in which numbers are missing.
    Holes,
    /// Neither a file nor a folder that is looked into.
    NotAFile,
    /// A reason that was written beside a file turned away.
    Reason,
}

impl Why {
    pub fn words(self) -> &'static str {
        match self {
            Why::Changing => "not steady yet",
            Why::Empty => "empty",
            Why::Unfinished => "a name for unfinished or hidden files",
            Why::Holes => "frames are missing in it, and may still come",
            Why::NotAFile => "not a file",
            Why::Reason => "the reason of a file that was turned away; it can be removed",
        }
    }
}

#[derive(Clone, Debug)]
struct Entry {
    seen: Seen,
    /// When it was first seen as it is now, in milliseconds of the caller's clock.
    since: i64,
    first: i64,
    why: Option<Why>,
    /// Handed over; it comes again only if it changes.
    given: bool,
}

/// A file that waits, for showing.
#[derive(Clone, Debug)]
pub struct Waiting {
    pub path: PathBuf,
    pub size: u64,
    pub why: Why,
    /// At the moment `at`: how long it had been seen, and how long it had been as it is.
    pub at: Instant,
    pub seen_for: Duration,
    pub steady_for: Duration,
    /// How long it has to be.
    pub wanted: Duration,
}

impl Waiting {
    /// Why it waits, this long after it was told.
    pub fn words(&self, later: Duration) -> String {
        match self.why {
            Why::Changing => {
                let seconds = |d: Duration| format!("{:.0}", d.as_secs_f64().floor());
                let so_far = (self.steady_for + later).min(self.wanted);
                let wanted = self.wanted.as_secs_f64();
                let wanted = if wanted < 10.0 && wanted.fract() > 0.0 {
                    format!("{wanted:.1}")
                } else {
                    format!("{wanted:.0}")
                };
                format!("steady for {} of {wanted} s", seconds(so_far))
            }
            why => why.words().to_owned(),
        }
    }

    /// True if it is shown like that one.
    pub fn is_as(&self, other: &Waiting) -> bool {
        let since = |w: &Waiting| w.at.checked_sub(w.steady_for);
        (&self.path, self.size, self.why, since(self)) == (&other.path, other.size, other.why, since(other))
    }
}

/// The files of one watch folder, by their path inside it.
#[derive(Debug)]
pub struct Steady {
    steady_ms: i64,
    files: BTreeMap<PathBuf, Entry>,
}

impl Steady {
    pub fn new(steady_ms: i64) -> Self {
        Steady { steady_ms, files: BTreeMap::new() }
    }

    /// A look at one path: what is there, or that nothing is.
    pub fn see(&mut self, now: i64, path: &Path, seen: Option<Seen>, is_file: bool) {
        let Some(seen) = seen else {
            self.files.remove(path);
            return;
        };
        let why = why(path, &seen, is_file);
        match self.files.get_mut(path) {
            Some(e) if e.seen == seen && e.why != Some(Why::Reason) => e.why = why,
            Some(e) if e.seen == seen => (),
            Some(e) => {
                *e = Entry { seen, since: now, first: e.first, why, given: false };
            }
            None => {
                self.files.insert(path.to_owned(), Entry { seen, since: now, first: now, why, given: false });
            }
        }
    }

    /// A whole look through the folder has ended: what it did not show is gone.
    pub fn keep_only(&mut self, shown: &std::collections::BTreeSet<PathBuf>) {
        self.files.retain(|p, _| shown.contains(p));
    }

    /// Paths whose steady time is over. The caller looks at each once more, [`Self::see`]s it, and then
    /// asks [`Self::take`].
    pub fn due(&self, now: i64) -> Vec<PathBuf> {
        let over = |e: &Entry| e.why.is_none() && !e.given && now - e.since >= self.steady_ms;
        self.files.iter().filter(|(_, e)| over(e)).map(|(p, _)| p.clone()).collect()
    }

    /// Hands a file over if it is steady now; once for each state of it.
    pub fn take(&mut self, now: i64, path: &Path) -> Option<Seen> {
        let e = self.files.get_mut(path)?;
        if e.why.is_some() || e.given || now - e.since < self.steady_ms {
            return None;
        }
        e.given = true;
        Some(e.seen)
    }

    /// A file waits for another reason than its look told, until it changes.
    pub fn wait(&mut self, path: &Path, why: Why) {
        if let Some(e) = self.files.get_mut(path) {
            e.why = Some(why);
        }
    }

    /// When the next file may become steady.
    pub fn next_due(&self) -> Option<i64> {
        self.files.values().filter(|e| e.why.is_none() && !e.given).map(|e| e.since + self.steady_ms).min()
    }

    /// Files that are not handed over, and why. `began` is the caller's clock at 0.
    pub fn waiting(&self, began: Instant, now: i64) -> Vec<Waiting> {
        let waits = self.files.iter().filter(|(_, e)| !e.given);
        let span = |since: i64| Duration::from_millis((now - since).max(0) as u64);
        waits
            .map(|(p, e)| Waiting {
                path: p.clone(),
                size: e.seen.size,
                why: e.why.unwrap_or(Why::Changing),
                at: began + Duration::from_millis(now.max(0) as u64),
                seen_for: span(e.first),
                steady_for: span(e.since),
                wanted: Duration::from_millis(self.steady_ms.max(0) as u64),
            })
            .collect()
    }
}

/// Why a file is never steady, however long it is left alone.
pub fn why(path: &Path, seen: &Seen, is_file: bool) -> Option<Why> {
    if !is_file {
        Some(Why::NotAFile)
    } else if unfinished(path) {
        Some(Why::Unfinished)
    } else if seen.size == 0 {
        Some(Why::Empty)
    } else {
        None
    }
}

/// Endings that many programs give to files they have not finished.
const ENDINGS: [&str; 8] =
    [".part", ".partial", ".crdownload", ".download", ".tmp", ".temp", ".filepart", "~"];

/// Hidden files, files in hidden folders, and unfinished downloads by name.
pub fn unfinished(path: &Path) -> bool {
    let hidden = path.components().any(|c| c.as_os_str().to_string_lossy().starts_with('.'));
    let name = path.file_name().map(|n| n.to_string_lossy().to_lowercase()).unwrap_or_default();
    hidden || ENDINGS.iter().any(|e| name.ends_with(e))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn seen(size: u64, modified: i64) -> Option<Seen> {
        Some(Seen { size, modified, changed: modified, inode: 1 })
    }

    /// (time, size, modified) looks in; arrival times out.
    #[rstest]
    #[case::copied_at_once(vec![(0, 9, 1), (1000, 9, 1), (3000, 9, 1), (9000, 9, 1)], vec![3000])]
    #[case::grows(vec![(0, 1, 1), (2000, 5, 2), (4000, 9, 3), (6000, 9, 3), (7000, 9, 3)], vec![7000])]
    #[case::same_size_new_time(vec![(0, 9, 1), (2900, 9, 2), (3000, 9, 2), (5900, 9, 2)], vec![5900])]
    #[case::empty_then_filled(vec![(0, 0, 1), (9000, 0, 1), (10_000, 4, 2), (13_000, 4, 2)], vec![13_000])]
    #[case::changed_after_arrival(vec![(0, 4, 1), (3000, 4, 1), (5000, 8, 2), (8000, 8, 2)], vec![3000, 8000])]
    fn arrivals(#[case] looks: Vec<(i64, u64, i64)>, #[case] want: Vec<i64>) {
        let mut s = Steady::new(3000);
        let path = Path::new("a.mp4");
        let mut got = Vec::new();
        for (now, size, modified) in looks {
            s.see(now, path, seen(size, modified), true);
            got.extend(s.take(now, path).map(|_| now));
        }
        assert_eq!(got, want);
    }

    #[test]
    fn an_edit_in_place_with_its_time_set_back_is_a_change() {
        let mut s = Steady::new(10);
        let p = Path::new("a");
        s.see(0, p, Some(Seen { size: 5, modified: 1, changed: 1, inode: 1 }), true);
        assert!(s.take(10, p).is_some());
        s.see(20, p, Some(Seen { size: 5, modified: 1, changed: 2, inode: 1 }), true);
        assert!(s.take(30, p).is_some());
    }

    #[test]
    fn a_file_replaced_under_its_name_is_another_file() {
        let mut s = Steady::new(10);
        let p = Path::new("a");
        s.see(0, p, Some(Seen { size: 5, modified: 1, changed: 1, inode: 1 }), true);
        assert!(s.take(10, p).is_some());
        s.see(20, p, Some(Seen { size: 5, modified: 1, changed: 1, inode: 2 }), true);
        assert_eq!(s.take(20, p), None);
        assert!(s.take(30, p).is_some());
    }

    #[rstest]
    #[case("clip.mp4.part", true)]
    #[case("Clip.CRDOWNLOAD", true)]
    #[case(".DS", true)]
    #[case(".hidden/clip.mp4", true)]
    #[case("reel.part2.mp4", false)]
    #[case("-rf.mp4", false)]
    fn unfinished_names(#[case] name: &str, #[case] want: bool) {
        assert_eq!(unfinished(Path::new(name)), want);
        let mut s = Steady::new(0);
        s.see(0, Path::new(name), seen(5, 1), true);
        assert_eq!(s.take(5, Path::new(name)).is_none(), want);
    }

    #[test]
    fn what_waits_says_why_and_when_to_look() {
        let mut s = Steady::new(100);
        s.see(0, Path::new("a"), seen(5, 1), true);
        s.see(7, Path::new("b"), seen(0, 1), true);
        assert_eq!(s.next_due(), Some(100));
        let waiting = s.waiting(Instant::now(), 60);
        assert_eq!(waiting.iter().map(|w| w.why).collect::<Vec<_>>(), [Why::Changing, Why::Empty]);
        assert_eq!(waiting[0].words(Duration::from_millis(20)), "steady for 0 of 0.1 s");
        assert_eq!(s.due(100), [PathBuf::from("a")]);
        s.keep_only(&[PathBuf::from("b")].into());
        assert_eq!(s.next_due(), None);
    }
}
