//! Folders that are taken whole: each folder directly in the watch is one arrival, once nothing in it changes. Pure: looks go
//! in with a time, folders come out.

use super::beside::Belonging;
use super::steady::{Waiting, Why};
use crate::config::Pattern;
use crate::files::Seen;
use crate::files::many::{InTree, Kind, Tree, together};
use std::collections::BTreeMap;
use std::path::{Component, Path, PathBuf};
use std::time::{Duration, Instant};

/// What a watch takes whole folders by.
#[derive(Debug)]
pub struct Trees {
    steady_ms: i64,
    unfinished: Vec<Pattern>,
    belonging: Belonging,
    /// By the name of the folder.
    trees: BTreeMap<PathBuf, State>,
    look: u64,
    changes: u64,
}

#[derive(Debug)]
struct State {
    /// By the path inside; folders in it are known by what is in them.
    files: BTreeMap<PathBuf, (Seen, Kind, u64)>,
    since: i64,
    first: i64,
    given: bool,
}

/// A folder that is ready.
#[derive(Clone, Debug, PartialEq)]
pub struct Whole {
    pub path: PathBuf,
    pub seen: Seen,
    pub tree: Tree,
}

/// The folder that a path is in, and its path in there; `None` for what lies in the watch itself.
pub fn split(path: &Path) -> Option<(PathBuf, PathBuf)> {
    let mut parts = path.components();
    let Some(Component::Normal(top)) = parts.next() else { return None };
    let rest = parts.as_path();
    (!rest.as_os_str().is_empty()).then(|| (PathBuf::from(top), rest.to_owned()))
}

impl Trees {
    pub fn new(steady_ms: i64, unfinished: Vec<Pattern>, belonging: Belonging) -> Trees {
        Trees { steady_ms, unfinished, belonging, trees: BTreeMap::new(), look: 0, changes: 0 }
    }

    /// A look at one path inside the watch. False: it lies in no folder.
    pub fn see(&mut self, now: i64, path: &Path, seen: Option<(Seen, Kind)>) -> bool {
        let Some((top, inside)) = split(path) else { return false };
        let new = || State { files: BTreeMap::new(), since: now, first: now, given: false };
        match seen {
            Some((seen, kind)) => {
                let tree = self.trees.entry(top).or_insert_with(new);
                let was = tree.files.insert(inside, (seen, kind, self.look));
                if was.is_none_or(|w| (w.0, w.1) != (seen, kind)) {
                    (tree.since, tree.given) = (now, false);
                    self.changes += 1;
                }
            }
            None => {
                if let Some(tree) = self.trees.get_mut(&top)
                    && tree.files.remove(&inside).is_some()
                {
                    (tree.since, tree.given) = (now, false);
                    self.changes += 1;
                    if tree.files.is_empty() {
                        self.trees.remove(&top);
                    }
                }
            }
        }
        true
    }

    pub fn changes(&self) -> u64 {
        self.changes
    }

    pub fn begin_look(&mut self) {
        self.look += 1;
    }

    /// What the look did not show is gone.
    pub fn end_look(&mut self, now: i64) {
        let look = self.look;
        for tree in self.trees.values_mut() {
            let before = tree.files.len();
            tree.files.retain(|_, f| f.2 == look);
            if tree.files.len() != before {
                (tree.since, tree.given) = (now, false);
                self.changes += 1;
            }
        }
        self.trees.retain(|_, t| !t.files.is_empty());
    }

    fn why(&self, tree: &State) -> Option<Why> {
        let mut files = tree.files.iter();
        if files.any(|(path, f)| f.1 == Kind::File && self.unfinished.iter().any(|p| p.fits(path))) {
            return Some(Why::Unfinished);
        }
        if tree.files.values().any(|f| f.1 == Kind::Other) {
            return Some(Why::OtherInIt);
        }
        let marked = |path: &PathBuf| path.components().count() == 1 && self.belonging.is_marker(path);
        if self.belonging.marker.is_some() && !tree.files.keys().any(marked) {
            return Some(Why::Unmarked);
        }
        None
    }

    /// Folders whose time is over: the caller looks through each once more and asks [`Self::take`].
    pub fn due(&self, now: i64) -> Vec<PathBuf> {
        let over = |t: &State| !t.given && now - t.since >= self.steady_ms && self.why(t).is_none();
        self.trees.iter().filter(|(_, t)| over(t)).map(|(p, _)| p.clone()).collect()
    }

    /// Hands a folder over if it is now what it was all the time: `found` is all that is in it.
    pub fn take(&mut self, now: i64, path: &Path, found: &[InTree]) -> Option<Whole> {
        let look = self.look;
        let tree = self.trees.get_mut(path)?;
        let files = found.iter().filter(|f| f.kind != Kind::Folder);
        let files: BTreeMap<_, _> = files.map(|f| (f.path.clone(), (f.seen, f.kind, look))).collect();
        let plain = |all: &BTreeMap<PathBuf, (Seen, Kind, u64)>| -> Vec<(PathBuf, Seen, Kind)> {
            all.iter().map(|(p, f)| (p.clone(), f.0, f.1)).collect()
        };
        if plain(&files) != plain(&tree.files) {
            (tree.since, tree.given) = (now, false);
            self.changes += 1;
        }
        tree.files = files;
        let tree = self.trees.get(path)?;
        if tree.given || now - tree.since < self.steady_ms || self.why(tree).is_some() {
            return None;
        }
        let (seen, whole) = together(found);
        self.trees.get_mut(path)?.given = true;
        Some(Whole { path: path.to_owned(), seen, tree: whole })
    }

    /// When the next folder may become ready.
    pub fn next_due(&self) -> Option<i64> {
        let waits = self.trees.values().filter(|t| !t.given && self.why(t).is_none());
        waits.map(|t| t.since + self.steady_ms).min()
    }

    /// Folders that were not given on, and why.
    pub fn waiting(&self, began: Instant, now: i64) -> Vec<Waiting> {
        let span = |since: i64| Duration::from_millis((now - since).max(0) as u64);
        let waits = self.trees.iter().filter(|(_, t)| !t.given);
        waits
            .map(|(path, t)| Waiting {
                path: path.clone(),
                size: t.files.values().map(|f| f.0.size).sum(),
                why: self.why(t).unwrap_or(Why::Changing),
                at: began + Duration::from_millis(now.max(0) as u64),
                seen_for: span(t.first),
                steady_for: span(t.since),
                wanted: Duration::from_millis(self.steady_ms.max(0) as u64),
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn seen(size: u64, modified: i64) -> Seen {
        Seen { size, modified, changed: modified, inode: 1 }
    }

    fn trees(marker: Option<&str>) -> Trees {
        let unfinished = vec![Pattern::parse("*.part").unwrap()];
        let belonging = Belonging { marker: marker.map(String::from), ..Belonging::default() };
        Trees::new(100, unfinished, belonging)
    }

    fn found(all: &[(&str, u64, i64)]) -> Vec<InTree> {
        let one = |(path, size, modified): &(&str, u64, i64)| InTree {
            path: path.into(),
            seen: seen(*size, *modified),
            kind: Kind::File,
        };
        all.iter().map(one).collect()
    }

    #[test]
    fn a_folder_comes_once_when_nothing_in_it_changes() {
        let mut t = trees(None);
        assert!(!t.see(0, Path::new("loose.mov"), Some((seen(1, 1), Kind::File))));
        assert!(t.see(0, Path::new("A/clips/1.mxf"), Some((seen(5, 1), Kind::File))));
        t.see(0, Path::new("B/1.mxf"), Some((seen(5, 1), Kind::File)));
        t.see(60, Path::new("A/2.mxf"), Some((seen(0, 1), Kind::File)));
        assert_eq!(t.due(100), [PathBuf::from("B")]);
        assert_eq!(t.next_due(), Some(100));
        let whole = t.take(100, Path::new("B"), &found(&[("1.mxf", 5, 1)])).unwrap();
        assert_eq!((whole.seen.size, whole.tree.files), (5, 1));
        assert_eq!(t.take(100, Path::new("B"), &found(&[("1.mxf", 5, 1)])), None);
        // What the last look shows counts, not what was told before.
        let more = found(&[("2.mxf", 7, 2), ("clips/1.mxf", 5, 1)]);
        assert_eq!(t.take(160, Path::new("A"), &more), None);
        assert_eq!(t.next_due(), Some(260));
        assert_eq!(t.take(260, Path::new("A"), &more).unwrap().seen.size, 12);
        // A file that comes later makes it another arrival.
        t.see(300, Path::new("A/3.mxf"), Some((seen(1, 1), Kind::File)));
        assert_eq!(t.next_due(), Some(400));
        // What is gone is forgotten.
        t.begin_look();
        t.see(310, Path::new("B/1.mxf"), Some((seen(5, 1), Kind::File)));
        t.end_look(310);
        assert_eq!((t.next_due(), t.waiting(Instant::now(), 400).len()), (None, 0));
    }

    #[test]
    fn what_a_folder_waits_for_is_told() {
        let mut t = trees(Some(".done"));
        let why = |t: &Trees| t.waiting(Instant::now(), 500)[0].why;
        t.see(0, Path::new("A/1.mxf.part"), Some((seen(5, 1), Kind::File)));
        assert_eq!((why(&t), t.next_due()), (Why::Unfinished, None));
        t.see(10, Path::new("A/1.mxf.part"), None);
        t.see(10, Path::new("A/1.mxf"), Some((seen(5, 1), Kind::File)));
        assert_eq!(why(&t), Why::Unmarked);
        t.see(20, Path::new("A/deep/copy.done"), Some((seen(0, 1), Kind::File)));
        assert_eq!(why(&t), Why::Unmarked);
        t.see(30, Path::new("A/copy.done"), Some((seen(0, 1), Kind::File)));
        t.see(30, Path::new("A/link"), Some((seen(0, 1), Kind::Other)));
        assert_eq!(why(&t), Why::OtherInIt);
        t.see(40, Path::new("A/link"), None);
        assert_eq!((why(&t), t.next_due()), (Why::Changing, Some(140)));
    }

    proptest! {
        /// Whatever order looks come in: a folder is handed over only when all that is in it was as it is for the whole
        /// time, and once for each state.
        #[test]
        fn nothing_is_handed_over_that_changed_lately(
            steps in proptest::collection::vec((0..3usize, 0..4u64, 1..80i64), 1..60)
        ) {
            let mut t = trees(None);
            let names = ["1", "2", "3"];
            let mut there: BTreeMap<&str, u64> = BTreeMap::new();
            let (mut now, mut changed, mut last) = (0, 0, None);
            for (file, size, later) in steps {
                now += later;
                let name = names[file];
                let before = there.clone();
                if size == 0 { there.remove(name); } else { there.insert(name, size); }
                if there != before { changed = now; }
                // Half of the events are lost; the look just before it is handed over tells.
                if file != 1 {
                    let seen = (size > 0).then(|| (seen(size, 1), Kind::File));
                    t.see(now, &Path::new("A").join(name), seen);
                }
                let all: Vec<(&str, u64, i64)> = there.iter().map(|(n, s)| (*n, *s, 1)).collect();
                for due in t.due(now) {
                    if let Some(whole) = t.take(now, &due, &found(&all)) {
                        prop_assert!(now - changed >= 0 && whole.tree.files == there.len() as u64);
                        prop_assert!(last.as_ref() != Some(&(there.clone(), changed)), "twice");
                        last = Some((there.clone(), changed));
                    }
                }
            }
        }
    }
}
