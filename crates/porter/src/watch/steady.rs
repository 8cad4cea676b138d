//! When is a file ready? Pure: what was seen goes in with a time, arrivals come out.

use super::beside::{Belonging, Beside, begins_with};
use crate::config::Pattern;
use crate::files::Seen;
use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
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
    /// In a folder that is taken whole.
    OtherInIt,
    /// What was taken of it before has not ended.
    InWork,
    /// A reason that was written beside a file turned away.
    Reason,
    /// It belongs to a file that is not there.
    Alone,
    /// No marker says that it is finished.
    Unmarked,
    /// Something that belongs to it is not steady.
    Beside,
    /// The watch takes nothing at this time of day.
    Hours,
    /// The watch took as many as it takes in one look.
    Enough,
}

impl Why {
    pub fn words(self) -> &'static str {
        match self {
            Why::Changing => "not steady yet",
            Why::Empty => "empty",
            Why::Unfinished => "a name for unfinished or hidden files",
            Why::Holes => "frames are missing in it, and may still come",
            Why::NotAFile => "not a file",
            Why::OtherInIt => "a link or a device is in it, which cannot be taken along",
            Why::InWork => "what was taken under this name before is still in work",
            Why::Alone => "waits for the file that it belongs to",
            Why::Unmarked => "no marker file beside it says that it is finished",
            Why::Beside => "a file that belongs to it is not steady yet",
            Why::Hours => "the watch takes nothing at this time of day",
            Why::Enough => "the next look takes it: as many as one look takes were taken",
            Why::Reason => "the reason of a file that was turned away; it can be removed",
        }
    }
}

#[derive(Clone, Debug)]
struct Entry {
    seen: Seen,
    is_file: bool,
    /// When it was first seen as it is now, in milliseconds of the caller's clock.
    since: i64,
    first: i64,
    why: Option<Why>,
    /// Handed over; it comes again only if it changes.
    given: bool,
    /// The last look that showed it.
    look: u64,
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
    unfinished: Vec<Pattern>,
    belonging: Belonging,
    /// By path, as bytes: their order costs the least.
    files: BTreeMap<OsString, Entry>,
    /// The look that is under way or was the last.
    look: u64,
    /// How often anything was otherwise than before.
    changes: u64,
    /// Files that were not handed over as they are now.
    open: usize,
}

impl Steady {
    /// `unfinished`: names of files that are not finished.
    pub fn new(steady_ms: i64, unfinished: Vec<Pattern>, belonging: Belonging) -> Self {
        Steady { steady_ms, unfinished, belonging, files: BTreeMap::new(), look: 0, changes: 0, open: 0 }
    }

    /// What belongs to a file, by the names of both.
    fn beside(&self, path: &Path) -> Vec<(&Path, &Entry)> {
        if self.belonging.is_none() {
            return Vec::new();
        }
        let Some(stem) = path.file_stem() else { return Vec::new() };
        let mut out = Vec::new();
        for sign in self.belonging.signs() {
            let mut from = stem.to_owned();
            from.push(sign);
            let from = path.with_file_name(from).into_os_string();
            let all = self.files.range(from.clone()..).map(|(p, e)| (Path::new(p), e));
            out.extend(
                all.take_while(|(p, _)| p.as_os_str().as_bytes().starts_with(from.as_bytes())).filter(
                    |(p, _)| {
                        let is_near = p.parent() == path.parent()
                            && p.file_name().is_some_and(|n| begins_with(n, stem, sign));
                        is_near
                            && *p != path
                            && self.belonging.belongs(p)
                            && self.main_of(p).as_deref() == Some(path)
                    },
                ),
            );
        }
        out
    }

    /// The file that another belongs to: the one with the longest name that it begins with, and of those that differ only
    /// in their endings the first.
    fn main_of(&self, path: &Path) -> Option<PathBuf> {
        let name = path.file_name()?.as_bytes();
        let signs: &[u8] = if self.belonging.is_sound(path) { b"._- " } else { b"." };
        let ends = name.iter().enumerate().filter(|(at, b)| signs.contains(b) && *at > 0).map(|(at, _)| at);
        let mut heads: Vec<usize> = ends.collect();
        heads.reverse();
        for end in heads {
            let head = OsStr::from_bytes(&name[..end]);
            let whole = path.with_file_name(head);
            let is_main = |p: &Path| {
                self.files.get(p.as_os_str()).is_some_and(|e| e.is_file) && !self.belonging.belongs(p)
            };
            if is_main(&whole) {
                return Some(whole);
            }
            let mut from = head.to_owned();
            from.push(".");
            let from = path.with_file_name(from).into_os_string();
            let found = self
                .files
                .range(from.clone()..)
                .map(|(p, _)| Path::new(p))
                .take_while(|p| p.as_os_str().as_bytes().starts_with(from.as_bytes()))
                .filter(|p| p.parent() == path.parent())
                .find(|p| p.file_stem() == Some(head) && is_main(p));
            if let Some(found) = found {
                return Some(found.to_owned());
            }
        }
        None
    }

    /// Why a file that is steady itself still waits, for what belongs to it or for what it belongs to.
    fn waits_for(&self, now: i64, path: &Path) -> Option<Why> {
        if self.belonging.is_none() {
            return None;
        }
        if self.belonging.belongs(path) {
            return Some(if self.main_of(path).is_some() { Why::Beside } else { Why::Alone });
        }
        let beside = self.beside(path);
        if self.belonging.marker.is_some() && !beside.iter().any(|(p, _)| self.belonging.is_marker(p)) {
            return Some(Why::Unmarked);
        }
        // A marker may be empty.
        let ready = |(p, e): &(&Path, &Entry)| {
            let empty = e.why == Some(Why::Empty) && self.belonging.is_marker(p);
            (e.why.is_none() || empty) && now - e.since >= self.steady_ms
        };
        (!beside.iter().all(ready)).then_some(Why::Beside)
    }

    /// A look at one path: what is there, or that nothing is.
    pub fn see(&mut self, now: i64, path: &Path, seen: Option<Seen>, is_file: bool) {
        let Some(seen) = seen else {
            if let Some(gone) = self.files.remove(path.as_os_str()) {
                self.changes += 1;
                self.open -= usize::from(!gone.given);
            }
            return;
        };
        let look = self.look;
        let known = self.files.get_mut(path.as_os_str());
        if let Some(e) = known.filter(|e| e.seen == seen && e.is_file == is_file) {
            e.look = look;
            return;
        }
        let why = why(path, &seen, is_file, &self.unfinished);
        let entry = Entry { seen, is_file, since: now, first: now, why, given: false, look };
        self.changes += 1;
        match self.files.get_mut(path.as_os_str()) {
            Some(e) => {
                self.open += usize::from(e.given);
                *e = Entry { first: e.first, ..entry };
            }
            None => {
                self.open += 1;
                self.files.insert(path.as_os_str().to_owned(), entry);
            }
        }
    }

    /// A look at what was handed over and is as it was: nothing else need be asked of it. False: it is something else.
    pub fn see_given(&mut self, path: &Path, seen: &Seen) -> bool {
        let look = self.look;
        let given = self.files.get_mut(path.as_os_str()).filter(|e| e.given && e.seen == *seen);
        given.map(|e| e.look = look).is_some()
    }

    /// How often anything was otherwise than before.
    pub fn changes(&self) -> u64 {
        self.changes
    }

    /// A look through the whole folder begins.
    pub fn begin_look(&mut self) {
        self.look += 1;
    }

    /// It has ended: what it did not show is gone.
    pub fn end_look(&mut self) {
        let (look, before) = (self.look, self.files.len());
        let mut open = 0;
        self.files.retain(|_, e| {
            let stays = e.look == look;
            open += usize::from(stays && !e.given);
            stays
        });
        self.open = open;
        self.changes += (before - self.files.len()) as u64;
    }

    /// Paths whose steady time is over. The caller looks at each once more, [`Self::see`]s it, and then
    /// asks [`Self::take`].
    pub fn due(&self, now: i64) -> Vec<PathBuf> {
        if self.open == 0 {
            return Vec::new();
        }
        let over = |e: &Entry| e.why.is_none() && !e.given && now - e.since >= self.steady_ms;
        let all = self.files.iter().filter(|(_, e)| over(e)).map(|(p, _)| Path::new(p));
        let mut out = Vec::new();
        for path in all.filter(|p| self.waits_for(now, p).is_none()) {
            out.extend(self.beside(path).into_iter().map(|(p, _)| p.to_owned()));
            out.push(path.to_owned());
        }
        out
    }

    /// Hands a file over if it is steady now, with what belongs to it; once for each state of it.
    pub fn take(&mut self, now: i64, path: &Path) -> Option<(Seen, Vec<Beside>)> {
        let e = self.files.get(path.as_os_str())?;
        if e.why.is_some() || e.given || now - e.since < self.steady_ms || self.waits_for(now, path).is_some()
        {
            return None;
        }
        let seen = e.seen;
        let beside: Vec<(PathBuf, Beside)> = self
            .beside(path)
            .into_iter()
            .map(|(p, e)| {
                let name = PathBuf::from(p.file_name().unwrap_or_default());
                (
                    p.to_owned(),
                    Beside {
                        name,
                        seen: e.seen,
                        marker: self.belonging.is_marker(p),
                        sound: self.belonging.is_sound(p),
                    },
                )
            })
            .collect();
        for p in beside.iter().map(|(p, _)| p.as_path()).chain([path]) {
            if let Some(e) = self.files.get_mut(p.as_os_str()) {
                self.open -= usize::from(!std::mem::replace(&mut e.given, true));
            }
        }
        Some((seen, beside.into_iter().map(|(_, b)| b).collect()))
    }

    /// A file waits for another reason than its look told, until it changes.
    pub fn wait(&mut self, path: &Path, why: Why) {
        if let Some(e) = self.files.get_mut(path.as_os_str()) {
            e.why = Some(why);
        }
    }

    /// When the next file may become steady.
    pub fn next_due(&self) -> Option<i64> {
        if self.open == 0 {
            return None;
        }
        let waits =
            self.files.iter().filter(|(_, e)| e.why.is_none() && !e.given).map(|(p, e)| (Path::new(p), e));
        // What waits for another file is ready when that is; a look tells.
        waits
            .filter(|(p, e)| {
                self.waits_for(e.since + self.steady_ms, p).is_none_or(|w| w == Why::Beside)
                    && !self.belonging.belongs(p)
            })
            .map(|(p, e)| {
                let beside = self.beside(p).into_iter().map(|(_, b)| b.since).max();
                beside.unwrap_or(0).max(e.since) + self.steady_ms
            })
            .min()
    }

    /// Files that are not handed over, and why. `began` is the caller's clock at 0.
    pub fn waiting(&self, began: Instant, now: i64) -> Vec<Waiting> {
        if self.open == 0 {
            return Vec::new();
        }
        let waits = self.files.iter().filter(|(_, e)| !e.given).map(|(p, e)| (Path::new(p), e));
        let span = |since: i64| Duration::from_millis((now - since).max(0) as u64);
        waits
            .map(|(p, e)| Waiting {
                path: p.to_owned(),
                size: e.seen.size,
                why: e.why.unwrap_or_else(|| match self.waits_for(now, p) {
                    Some(why) if why == Why::Alone || now - e.since >= self.steady_ms => why,
                    _ => Why::Changing,
                }),
                at: began + Duration::from_millis(now.max(0) as u64),
                seen_for: span(e.first),
                steady_for: span(e.since),
                wanted: Duration::from_millis(self.steady_ms.max(0) as u64),
            })
            .collect()
    }
}

/// Why a file is never steady, however long it is left alone.
pub fn why(path: &Path, seen: &Seen, is_file: bool, names: &[Pattern]) -> Option<Why> {
    if !is_file {
        Some(Why::NotAFile)
    } else if unfinished(path, names) {
        Some(Why::Unfinished)
    } else if seen.size == 0 {
        Some(Why::Empty)
    } else {
        None
    }
}

/// Names that many programs give to files they have not finished.
pub const UNFINISHED: [&str; 8] =
    ["*.part", "*.partial", "*.crdownload", "*.download", "*.tmp", "*.temp", "*.filepart", "*~"];

/// Hidden files, files in hidden folders, and what is not finished by its name.
pub fn unfinished(path: &Path, names: &[Pattern]) -> bool {
    let bytes = path.as_os_str().as_bytes();
    let hidden = bytes.first() == Some(&b'.') || bytes.windows(2).any(|w| w == b"/.");
    hidden || names.iter().any(|p| p.fits(path))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn patterns(all: &[&str]) -> Vec<Pattern> {
        all.iter().map(|p| Pattern::parse(p).unwrap()).collect()
    }

    fn steady(ms: i64) -> Steady {
        Steady::new(ms, patterns(&UNFINISHED), Belonging::default())
    }

    fn with_sidecars(marker: Option<&str>) -> Steady {
        let belonging = Belonging {
            sidecars: patterns(&["*.srt", "*.xml"]),
            marker: marker.map(String::from),
            ..Belonging::default()
        };
        Steady::new(100, patterns(&UNFINISHED), belonging)
    }

    fn names(beside: &[Beside]) -> Vec<&str> {
        beside.iter().map(|b| b.name.to_str().unwrap()).collect()
    }

    /// What was handed over is known by what it is; how many still wait is counted right whatever happens to them.
    #[test]
    fn what_was_handed_over_is_known_until_it_changes() {
        let mut s = steady(100);
        let (a, b) = (Path::new("a.mov"), Path::new("b.mov"));
        s.see(0, a, seen(5, 1), true);
        assert!(!s.see_given(a, &seen(5, 1).unwrap()), "it was not handed over yet");
        assert!(s.take(100, a).is_some());
        assert_eq!((s.open, s.next_due()), (0, None));
        s.begin_look();
        assert!(s.see_given(a, &seen(5, 1).unwrap()));
        assert!(!s.see_given(b, &seen(5, 1).unwrap()));
        s.end_look();
        assert_eq!(s.files.len(), 1, "the look showed it");
        // Otherwise than it was: the caller asks everything of it.
        assert!(!s.see_given(a, &seen(6, 2).unwrap()));
        s.see(200, a, seen(6, 2), true);
        s.see(200, b, seen(1, 1), true);
        assert_eq!((s.open, s.next_due()), (2, Some(300)));
        s.see(210, b, None, true);
        assert_eq!(s.open, 1);
        assert!(s.take(300, a).is_some() && s.take(300, a).is_none());
        assert_eq!(s.open, 0);
        s.see(310, a, seen(6, 2), false);
        assert_eq!((s.open, s.waiting(Instant::now(), 320)[0].why), (1, Why::NotAFile));
        s.begin_look();
        s.end_look();
        assert_eq!((s.open, s.files.len()), (0, 0));
    }

    #[test]
    fn sidecars_come_with_their_file_and_are_none_by_themselves() {
        let mut s = with_sidecars(None);
        for name in
            ["d/a.mov", "d/a.srt", "d/a.en.srt", "d/a.mov.xml", "d/a2.srt", "d/a2.mov", "lone.xml", "a.srt"]
        {
            s.see(0, Path::new(name), seen(5, 1), true);
        }
        s.see(50, Path::new("d/a.en.srt"), seen(6, 2), true);
        assert_eq!(s.due(100), ["d/a2.srt", "d/a2.mov"].map(PathBuf::from));
        assert_eq!(s.take(100, Path::new("d/a.mov")), None);
        assert_eq!(s.take(100, Path::new("lone.xml")), None);
        assert_eq!(names(&s.take(100, Path::new("d/a2.mov")).unwrap().1), ["a2.srt"]);
        assert_eq!(s.next_due(), Some(150));
        let waiting = |s: &Steady, name: &str| {
            s.waiting(Instant::now(), 120).into_iter().find(|w| w.path == Path::new(name)).map(|w| w.why)
        };
        assert_eq!(waiting(&s, "d/a.mov"), Some(Why::Beside));
        assert_eq!(waiting(&s, "lone.xml"), Some(Why::Alone));
        let (_, beside) = s.take(150, Path::new("d/a.mov")).unwrap();
        assert_eq!(names(&beside), ["a.en.srt", "a.mov.xml", "a.srt"]);
        assert_eq!(s.next_due(), None);
    }

    #[test]
    fn sound_in_files_of_its_own_comes_with_its_pictures() {
        let belonging = Belonging { sounds: patterns(&["*.wav"]), ..Belonging::default() };
        let mut s = Steady::new(100, patterns(&UNFINISHED), belonging);
        for name in
            ["A1.mov", "A1_1.wav", "A1_2.WAV", "A1.L.wav", "A1_2.mov", "A12.wav", "A1_2-R.wav", "A1_x.txt"]
        {
            s.see(0, Path::new(name), seen(5, 1), true);
        }
        s.see(60, Path::new("A1_1.wav"), seen(6, 1), true);
        let take =
            |s: &mut Steady, now, name: &str| s.take(now, Path::new(name)).map(|(_, b)| names(&b).join(" "));
        assert_eq!(take(&mut s, 100, "A1_2.mov").as_deref(), Some("A1_2.WAV A1_2-R.wav"));
        assert_eq!((take(&mut s, 100, "A1.mov"), take(&mut s, 100, "A12.wav")), (None, None));
        assert_eq!(take(&mut s, 100, "A1_x.txt").as_deref(), Some(""));
        // The longest name that it begins with is whose it is: there is a picture A1_2.
        let (_, all) = s.take(160, Path::new("A1.mov")).unwrap();
        assert_eq!((names(&all).join(" "), all.iter().all(|b| b.sound)), ("A1.L.wav A1_1.wav".into(), true));
        let left = s.waiting(Instant::now(), 500);
        let left: Vec<_> = left.iter().map(|w| (w.path.to_str().unwrap(), w.why)).collect();
        assert_eq!(left, [("A12.wav", Why::Alone)]);
    }

    #[test]
    fn a_file_waits_for_its_marker_which_may_be_empty() {
        let mut s = with_sidecars(Some(".done"));
        let main = Path::new("a.mov");
        s.see(0, main, seen(5, 1), true);
        assert_eq!((s.take(500, main), s.next_due()), (None, None));
        assert_eq!(s.waiting(Instant::now(), 500)[0].why, Why::Unmarked);
        s.see(500, Path::new("a.mov.done"), seen(0, 1), true);
        assert_eq!((s.take(550, main), s.next_due()), (None, Some(600)));
        let (_, beside) = s.take(600, main).unwrap();
        assert_eq!((beside.len(), beside[0].marker), (1, true));
        assert_eq!(s.take(900, main), None);
    }

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
        let mut s = steady(3000);
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
        let mut s = steady(10);
        let p = Path::new("a");
        s.see(0, p, Some(Seen { size: 5, modified: 1, changed: 1, inode: 1 }), true);
        assert!(s.take(10, p).is_some());
        s.see(20, p, Some(Seen { size: 5, modified: 1, changed: 2, inode: 1 }), true);
        assert!(s.take(30, p).is_some());
    }

    #[test]
    fn a_file_replaced_under_its_name_is_another_file() {
        let mut s = steady(10);
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
        assert_eq!(unfinished(Path::new(name), &patterns(&UNFINISHED)), want);
        let mut s = steady(0);
        s.see(0, Path::new(name), seen(5, 1), true);
        assert_eq!(s.take(5, Path::new(name)).is_none(), want);
    }

    proptest! {
        /// Whatever order looks come in, and whichever of them are lost: a file is handed over only when it was seen as it
        /// is for the whole time, with all that belongs to it as it is, and once for each state of it.
        #[test]
        fn nothing_is_handed_over_that_changed_lately(
            steps in proptest::collection::vec((0..4usize, 0..4u64, 1..90i64, any::<bool>()), 1..80)
        ) {
            const NAMES: [&str; 4] = ["a.mov", "a.srt", "a.en.srt", "b.mov"];
            let mut s = with_sidecars(None);
            // What is there, and since when each has been seen as it is.
            let mut there: BTreeMap<&str, (u64, i64)> = BTreeMap::new();
            let mut told: BTreeMap<&str, u64> = BTreeMap::new();
            let mut given = std::collections::BTreeSet::new();
            let mut now = 0;
            for (file, size, later, lost) in steps {
                now += later;
                let name = NAMES[file];
                match size {
                    0 => _ = there.remove(name),
                    _ if there.get(name).is_none_or(|t| t.0 != size) => _ = there.insert(name, (size, now)),
                    _ => (),
                }
                if !lost {
                    let is = there.get(name).map(|t| t.0);
                    s.see(now, Path::new(name), is.and_then(|size| seen(size, 1)), true);
                    match is {
                        Some(size) => _ = told.insert(name, size),
                        None => _ = told.remove(name),
                    }
                }
                for path in s.due(now) {
                    let name = NAMES.iter().find(|n| Path::new(n) == path).unwrap();
                    // As the service does it: each is looked at once more.
                    let is = there.get(name).map(|t| t.0);
                    s.see(now, &path, is.and_then(|size| seen(size, 1)), true);
                    match is {
                        Some(size) => _ = told.insert(name, size),
                        None => _ = told.remove(name),
                    }
                    let Some((what, beside)) = s.take(now, &path) else { continue };
                    let (size, since) = there[name];
                    prop_assert_eq!(what.size, size);
                    prop_assert!(!name.ends_with(".srt"), "a sidecar by itself");
                    prop_assert!(now - since >= 100 || told.get(name) == Some(&size), "{name} changed lately");
                    for b in &beside {
                        prop_assert!(name.starts_with('a') && there.contains_key(b.name.to_str().unwrap()) || told.contains_key(b.name.to_str().unwrap()));
                    }
                    prop_assert!(given.insert((*name, size, since)), "{} twice", name);
                }
            }
        }
    }

    #[test]
    fn what_waits_says_why_and_when_to_look() {
        let mut s = steady(100);
        s.see(0, Path::new("a"), seen(5, 1), true);
        s.see(7, Path::new("b"), seen(0, 1), true);
        assert_eq!(s.next_due(), Some(100));
        let waiting = s.waiting(Instant::now(), 60);
        assert_eq!(waiting.iter().map(|w| w.why).collect::<Vec<_>>(), [Why::Changing, Why::Empty]);
        assert_eq!(waiting[0].words(Duration::from_millis(20)), "steady for 0 of 0.1 s");
        assert_eq!(s.due(100), [PathBuf::from("a")]);
        s.begin_look();
        s.see(101, Path::new("b"), seen(0, 1), true);
        s.end_look();
        assert_eq!(s.next_due(), None);
    }
}
