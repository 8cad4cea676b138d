//! What is read and written, by the tables that do it: what people are told of it comes from here.

use crate::codec::coders::{AUDIO_CODERS, VIDEO_CODERS};
use crate::codec::rows::{CODECS, Decode};
use crate::container::known::KNOWN;
use crate::container::wrap::WRAPPERS;
use crate::container::{self};
use crate::still;
use serde::Serialize;

/// On what a reader was tried, beside what is made here; `tests/tried.rs` holds it against the files that are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Tried {
    /// Bytes that the tests put together, by the book.
    Made,
    /// A signal of ours, in a file that another program wrote.
    Writers,
    /// Files that others made of something of theirs.
    Files,
}

impl Tried {
    pub const ALL: [Tried; 3] = [Tried::Files, Tried::Writers, Tried::Made];

    pub fn words(self) -> &'static str {
        match self {
            Tried::Files => "others' files",
            Tried::Writers => "others' writers",
            Tried::Made => "by the book",
        }
    }
}

#[derive(Debug, PartialEq, Serialize)]
pub struct Formats {
    pub reads: Reads,
    /// What is read, by what it was tried on.
    pub tried: Vec<TriedOn>,
    pub writes: Writes,
    /// Known by name, and not read.
    pub known: Vec<Known>,
}

#[derive(Debug, PartialEq, Serialize)]
pub struct TriedOn {
    pub on: Tried,
    pub names: Vec<&'static str>,
}

#[derive(Debug, PartialEq, Serialize)]
pub struct Reads {
    pub containers: Vec<&'static str>,
    pub pictures: Vec<&'static str>,
    pub sound: Vec<&'static str>,
    pub stills: Vec<&'static str>,
}

#[derive(Debug, PartialEq, Serialize)]
pub struct Writes {
    pub containers: Vec<Container>,
    pub stills: Vec<&'static str>,
}

/// What settings call a container, and what goes into it.
#[derive(Debug, PartialEq, Serialize)]
pub struct Container {
    pub name: &'static str,
    pub pictures: Vec<&'static str>,
    pub sound: Vec<&'static str>,
}

#[derive(Debug, PartialEq, Serialize)]
pub struct Known {
    pub name: &'static str,
    /// What would work in its place.
    pub instead: &'static str,
}

pub fn all() -> Formats {
    let codecs = |moving: bool| {
        let of_kind = CODECS.iter().filter(move |c| matches!(c.decode, Decode::Video(_)) == moving);
        of_kind.map(|c| c.name).filter(|n| !n.is_empty()).collect()
    };
    let mut containers: Vec<_> = container::FORMATS.iter().map(|f| f.name).collect();
    containers.dedup();
    let stills = still::FORMATS.iter().map(|f| f.name).collect();
    let written = WRAPPERS.iter().filter(|w| !w.name.is_empty()).map(|w| Container {
        name: w.name,
        pictures: VIDEO_CODERS.iter().filter(|c| w.video.contains(&c.codec)).map(|c| c.name).collect(),
        sound: AUDIO_CODERS.iter().filter(|c| w.takes(None, Some(c.codec))).map(|c| c.name).collect(),
    });
    let mut known: Vec<Known> = KNOWN.iter().map(|k| Known { name: k.name, instead: k.instead }).collect();
    known.dedup();
    let rows = container::FORMATS.iter().map(|f| (f.name, f.tried));
    let rows = rows.chain(CODECS.iter().map(|c| (c.name, c.tried)));
    let rows: Vec<_> = rows.chain(still::FORMATS.iter().map(|f| (f.name, f.tried))).collect();
    let tried = Tried::ALL.map(|how| {
        let mut names: Vec<_> = rows.iter().filter(|r| r.1 == how && !r.0.is_empty()).map(|r| r.0).collect();
        let mut known = std::collections::HashSet::new();
        names.retain(|n| known.insert(*n));
        TriedOn { on: how, names }
    });
    Formats {
        tried: tried.into(),
        reads: Reads { containers, pictures: codecs(true), sound: codecs(false), stills },
        writes: Writes {
            containers: written.collect(),
            stills: still::StillCodec::ALL.iter().map(|s| s.0).collect(),
        },
        known,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn each_is_told_once_and_has_a_name() {
        let f = all();
        let lists =
            [&f.reads.containers, &f.reads.pictures, &f.reads.sound, &f.reads.stills, &f.writes.stills];
        for list in lists {
            assert!(list.len() >= 8 && list.iter().all(|n| !n.is_empty()), "{list:?}");
            assert_eq!(list.iter().collect::<BTreeSet<_>>().len(), list.len(), "{list:?}");
        }
        let names: BTreeSet<_> = f.known.iter().map(|k| k.name).collect();
        assert_eq!(names.len(), f.known.len());
    }

    #[test]
    fn nothing_is_told_to_be_read_and_not_read() {
        let f = all();
        let read: BTreeSet<_> = f.reads.containers.iter().chain(&f.reads.stills).collect();
        assert!(f.known.iter().all(|k| !read.contains(&k.name)));
    }

    #[test]
    fn whatever_is_coded_has_a_file_to_go_into() {
        let f = all();
        for c in VIDEO_CODERS {
            assert!(f.writes.containers.iter().any(|w| w.pictures.contains(&c.name)), "{}", c.name);
        }
        for c in AUDIO_CODERS {
            assert!(f.writes.containers.iter().any(|w| w.sound.contains(&c.name)), "{}", c.name);
        }
        assert!(f.writes.containers.iter().all(|w| !w.pictures.is_empty() || !w.sound.is_empty()));
    }
}
