//! When is a file ready? Pure: what was seen goes in with a time, arrivals come out.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// What a look at one file showed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Seen {
    pub size: u64,
    /// Nanoseconds since 1970.
    pub modified: i64,
    /// Tells a file from another one that took its name.
    pub inode: u64,
}

/// Why a file in a watch folder is not being worked on yet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// It changed less than the steady time ago.
    Changing,
    Empty,
    /// Hidden, or a name that download programs use for what is not finished.
    Unfinished,
    /// Neither a file nor a folder that is looked into.
    NotAFile,
}

impl Why {
    pub fn words(self) -> &'static str {
        match self {
            Why::Changing => "still changing",
            Why::Empty => "empty",
            Why::Unfinished => "a name for unfinished or hidden files",
            Why::NotAFile => "not a file",
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
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Waiting {
    pub path: PathBuf,
    pub size: u64,
    pub first: i64,
    pub why: Why,
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
        let why = if !is_file {
            Some(Why::NotAFile)
        } else if unfinished(path) {
            Some(Why::Unfinished)
        } else if seen.size == 0 {
            Some(Why::Empty)
        } else {
            None
        };
        match self.files.get_mut(path) {
            Some(e) if e.seen == seen => e.why = why,
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

    /// Lets a file that was handed over be handed over again.
    pub fn give_back(&mut self, path: &Path) {
        if let Some(e) = self.files.get_mut(path) {
            e.given = false;
        }
    }

    /// When the next file may become steady.
    pub fn next_due(&self) -> Option<i64> {
        self.files.values().filter(|e| e.why.is_none() && !e.given).map(|e| e.since + self.steady_ms).min()
    }

    /// Files that are not handed over, and why.
    pub fn waiting(&self) -> Vec<Waiting> {
        let waits = self.files.iter().filter(|(_, e)| !e.given);
        waits
            .map(|(p, e)| Waiting {
                path: p.clone(),
                size: e.seen.size,
                first: e.first,
                why: e.why.unwrap_or(Why::Changing),
            })
            .collect()
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
        Some(Seen { size, modified, inode: 1 })
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
    fn a_file_replaced_under_its_name_is_another_file() {
        let mut s = Steady::new(10);
        let p = Path::new("a");
        s.see(0, p, Some(Seen { size: 5, modified: 1, inode: 1 }), true);
        assert!(s.take(10, p).is_some());
        s.see(20, p, Some(Seen { size: 5, modified: 1, inode: 2 }), true);
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
        assert_eq!(s.waiting().iter().map(|w| w.why).collect::<Vec<_>>(), [Why::Changing, Why::Empty]);
        assert_eq!(s.due(100), [PathBuf::from("a")]);
        s.keep_only(&[PathBuf::from("b")].into());
        assert_eq!(s.next_due(), None);
    }
}
