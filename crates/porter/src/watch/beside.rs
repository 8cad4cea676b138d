//! Files that belong to another: sidecars, and markers that say that it is finished. They lie in its folder, and their names
//! begin with its name or stem and a dot: `clip.srt`, `clip.en.srt` and `clip.mov.xml` belong to `clip.mov`.

use crate::config::Pattern;
use crate::files::Seen;
use serde::{Deserialize, Serialize};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// Which files belong to others.
#[derive(Clone, Debug, Default)]
pub struct Belonging {
    pub sidecars: Vec<Pattern>,
    /// Files that are the sound of another: their names begin with its stem and one of [`SIGNS`].
    pub sounds: Vec<Pattern>,
    /// The ending of markers: a file without one is not ready.
    pub marker: Option<String>,
}

/// A file that belongs to a job's.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Beside {
    #[serde(with = "crate::bytes")]
    pub name: PathBuf,
    pub seen: Seen,
    /// It says that the other is finished, and nothing else.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub marker: bool,
    /// It is sound of the other's pictures.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub sound: bool,
}

/// What stands between the name of pictures and what tells their sounds apart: `clip_1.wav`, `clip.L.wav`.
pub const SIGNS: [&str; 4] = [".", "_", "-", " "];

impl Beside {
    /// What stands behind the stem of the file that it belongs to: `en.srt`.
    pub fn ending(&self, main: &Path) -> String {
        let name = self.name.to_string_lossy();
        let stem = main.file_stem().unwrap_or_default().to_string_lossy();
        let ending = name.get(stem.len() + 1..).unwrap_or_default();
        ending.to_owned()
    }
}

/// Whether a name is another one, or its stem, with something behind this sign.
pub fn begins_with(name: &OsStr, stem: &OsStr, sign: &str) -> bool {
    let rest = name.as_bytes().strip_prefix(stem.as_bytes());
    rest.is_some_and(|rest| rest.len() > 1 && rest.starts_with(sign.as_bytes()))
}

impl Belonging {
    pub fn is_none(&self) -> bool {
        self.sidecars.is_empty() && self.sounds.is_empty() && self.marker.is_none()
    }

    pub fn is_marker(&self, path: &Path) -> bool {
        let name = path.file_name().map(|n| n.to_string_lossy().to_lowercase()).unwrap_or_default();
        self.marker.as_ref().is_some_and(|m| name.len() > m.len() && name.ends_with(&m.to_lowercase()))
    }

    /// It is no arrival by itself.
    pub fn belongs(&self, path: &Path) -> bool {
        self.is_marker(path) || self.is_sound(path) || self.sidecars.iter().any(|p| p.fits(path))
    }

    pub fn is_sound(&self, path: &Path) -> bool {
        self.sounds.iter().any(|p| p.fits(path))
    }

    /// What may stand behind the stem of a file in the names of those that belong to it.
    pub fn signs(&self) -> &'static [&'static str] {
        if self.sounds.is_empty() { &SIGNS[..1] } else { &SIGNS }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("clip.srt", "clip", true)]
    #[case("clip.en.srt", "clip", true)]
    #[case("clip.mov.xml", "clip", true)]
    #[case("clip2.srt", "clip", false)]
    #[case("clip", "clip", false)]
    #[case("clip.", "clip", false)]
    fn names_that_begin_with_another(#[case] name: &str, #[case] stem: &str, #[case] want: bool) {
        assert_eq!(begins_with(name.as_ref(), stem.as_ref(), "."), want);
    }

    #[test]
    fn what_belongs_keeps_its_ending() {
        let b = Beside {
            name: "Take 1.en.srt".into(),
            seen: Seen { size: 1, modified: 1, changed: 1, inode: 1 },
            marker: false,
            sound: false,
        };
        assert_eq!(b.ending(Path::new("day1/Take 1.mov")), "en.srt");
    }

    #[test]
    fn markers_are_told_by_their_ending_alone() {
        let b = Belonging {
            sidecars: vec![Pattern::parse("*.xml").unwrap()],
            marker: Some(".ok".into()),
            ..Belonging::default()
        };
        let all = ["a.ok", "A.MOV.OK", ".ok", "a.xml", "a.mov"].map(|n| b.belongs(Path::new(n)));
        assert_eq!(all, [true, true, false, true, false]);
    }
}
