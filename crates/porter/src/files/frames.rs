//! Numbered files of one folder as one thing: a run of frames.

use super::{Dir, Seen};
use serde::{Deserialize, Serialize};
use std::ffi::OsStr;
use std::io;
use std::path::{Path, PathBuf};
use xxhash_rust::xxh3::Xxh3;

/// Longest number that counts frames.
const MAX_DIGITS: usize = 12;

/// A run of frames, by its names.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Frames {
    /// In front of the number, and behind it: `shot_0101.` and `.dpx`.
    pub prefix: String,
    pub suffix: String,
    /// Digits of a number with zeros in front; 0: without.
    pub padding: usize,
    pub first: u64,
    pub last: u64,
    /// Spans of numbers that are not there, with both ends.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<(u64, u64)>,
}

/// A name around its last number: `shot_0101.0007.dpx` is `shot_0101.`, `0007` and `.dpx`.
pub fn split(name: &OsStr) -> Option<(&str, &str, &str)> {
    let name = name.to_str()?;
    let dot = name.rfind('.').filter(|at| *at > 0)?;
    let (stem, suffix) = name.split_at(dot);
    let digits = stem.len() - stem.trim_end_matches(|c: char| c.is_ascii_digit()).len();
    let (prefix, number) = stem.split_at(stem.len() - digits);
    (1..=MAX_DIGITS).contains(&digits).then_some((prefix, number, suffix))
}

impl Frames {
    pub fn name(&self, number: u64) -> String {
        format!("{}{number:0width$}{}", self.prefix, self.suffix, width = self.padding)
    }

    pub fn numbers(&self) -> impl Iterator<Item = u64> {
        let mut holes = self.missing.iter().peekable();
        (self.first..=self.last).filter(move |n| {
            while holes.next_if(|(_, to)| to < n).is_some() {}
            holes.peek().is_none_or(|(from, _)| n < from)
        })
    }

    pub fn count(&self) -> u64 {
        let missing: u64 = self.missing.iter().map(|(from, to)| to - from + 1).sum();
        self.last - self.first + 1 - missing
    }

    /// `shot_0101.####.dpx`.
    pub fn pattern(&self) -> String {
        format!("{}{}{}", self.prefix, "#".repeat(self.padding.max(1)), self.suffix)
    }

    /// What it is called without its numbers: `shot_0101`.
    pub fn title(&self) -> &str {
        match self.prefix.trim_end_matches(['.', '_', '-', ' ']) {
            "" => "frames",
            title => title,
        }
    }

    /// `1001 to 1120, 5 missing (1007 to 1009, 1050 to 1051)`.
    pub fn words(&self) -> String {
        let span =
            |(from, to): &(u64, u64)| if from == to { from.to_string() } else { format!("{from} to {to}") };
        let mut out = format!("{} to {}", self.first, self.last);
        if !self.missing.is_empty() {
            const MOST: usize = 5;
            let all: u64 = self.missing.iter().map(|(from, to)| to - from + 1).sum();
            let listed: Vec<String> = self.missing.iter().take(MOST).map(span).collect();
            let more = if self.missing.len() > MOST { ", ..." } else { "" };
            out.push_str(&format!(", {all} missing ({}{more})", listed.join(", ")));
        }
        out
    }

    /// All of it as it is now, through the folder's handle; `None` if one of them is gone or is no file.
    pub fn look(&self, dir: &Dir) -> io::Result<Option<Seen>> {
        let mut all = Together::default();
        for n in self.numbers() {
            match dir.look(OsStr::new(&self.name(n)))? {
                Some(e) if e.is_file() => all.add(n, &e.seen),
                _ => return Ok(None),
            }
        }
        Ok(Some(all.seen()))
    }
}

/// Many files as one: another one when any of them is.
#[derive(Default)]
pub struct Together {
    size: u64,
    modified: i64,
    changed: i64,
    hash: Xxh3,
}

impl Together {
    pub fn add(&mut self, number: u64, seen: &Seen) {
        self.size += seen.size;
        self.modified = self.modified.max(seen.modified);
        self.changed = self.changed.max(seen.changed);
        for n in [number, seen.size, seen.modified as u64, seen.inode] {
            self.hash.update(&n.to_le_bytes());
        }
    }

    pub fn seen(&self) -> Seen {
        // A number that a store can keep.
        let inode = self.hash.digest() & (i64::MAX as u64);
        Seen { size: self.size, modified: self.modified, changed: self.changed, inode }
    }
}

/// The path of a run in its watch folder.
pub fn path(folder: &Path, frames: &Frames) -> PathBuf {
    folder.join(frames.pattern())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("shot_0101.0007.dpx", Some(("shot_0101.", "0007", ".dpx")))]
    #[case("a9.exr", Some(("a", "9", ".exr")))]
    #[case("0007.tif", Some(("", "0007", ".tif")))]
    #[case("clip.mov", None)]
    #[case(".0007", None)]
    #[case("a1234567890123.dpx", None)]
    fn names_are_taken_apart(#[case] name: &str, #[case] want: Option<(&str, &str, &str)>) {
        assert_eq!(split(OsStr::new(name)), want);
    }

    #[test]
    fn a_run_knows_its_names_and_its_holes() {
        let run = Frames {
            prefix: "shot_0101.".into(),
            suffix: ".dpx".into(),
            padding: 4,
            first: 998,
            last: 1003,
            missing: vec![(999, 1000), (1002, 1002)],
        };
        assert_eq!(run.numbers().collect::<Vec<_>>(), [998, 1001, 1003]);
        assert_eq!((run.count(), run.name(998)), (3, "shot_0101.0998.dpx".to_owned()));
        assert_eq!((run.pattern().as_str(), run.title()), ("shot_0101.####.dpx", "shot_0101"));
        assert_eq!(run.words(), "998 to 1003, 3 missing (999 to 1000, 1002)");
        let plain = Frames { prefix: "".into(), padding: 0, missing: Vec::new(), ..run };
        assert_eq!(
            (plain.name(7), plain.pattern(), plain.title()),
            ("7.dpx".into(), "#.dpx".into(), "frames")
        );
    }
}
