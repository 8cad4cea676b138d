//! Versions in names: `v003` as a folder, or at the end of a name behind a sign, as the trade writes them.

use std::path::{Component, Path, PathBuf};

/// A name without the mark of its version, and which version it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Versioned {
    /// The same for all versions of one thing: `shots/sh010.mov`.
    pub thing: PathBuf,
    /// 0: it does not say.
    pub number: u32,
}

/// Most digits of a version.
const MOST: usize = 6;

fn number(mark: &str) -> Option<u32> {
    let digits = mark.strip_prefix(['v', 'V'])?;
    let is_number = (1..=MOST).contains(&digits.len()) && digits.bytes().all(|b| b.is_ascii_digit());
    is_number.then(|| digits.parse().ok()).flatten()
}

/// A stem without the mark at its end: `sh010_v003` is `sh010` and 3.
pub fn split(stem: &str) -> Option<(&str, u32)> {
    let at = stem.rfind(['_', '-', '.', ' ']).filter(|at| *at > 0)?;
    Some((&stem[..at], number(&stem[at + 1..])?))
}

/// Of a path inside a watch. Of several marks the last one counts.
pub fn of(path: &Path) -> Versioned {
    let (mut thing, mut found) = (PathBuf::new(), 0);
    let mut parts = path.components().peekable();
    while let Some(part) = parts.next() {
        let Component::Normal(name) = part else { continue };
        let is_last = parts.peek().is_none();
        let Some(text) = name.to_str() else {
            thing.push(name);
            continue;
        };
        if !is_last {
            match (number(text), split(text)) {
                (Some(n), _) => found = n,
                (None, Some((rest, n))) => {
                    found = n;
                    thing.push(rest);
                }
                (None, None) => thing.push(text),
            }
            continue;
        }
        let (stem, ending) = match text.rfind('.').filter(|at| *at > 0) {
            // `sh010.v003` is a name without an ending.
            Some(at) if number(&text[at + 1..]).is_none() => text.split_at(at),
            _ => (text, ""),
        };
        match split(stem) {
            Some((rest, n)) => {
                found = n;
                thing.push(format!("{rest}{ending}"));
            }
            None => thing.push(text),
        }
    }
    Versioned { thing, number: found }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("shots/v003/sh010.mov", "shots/sh010.mov", 3)]
    #[case("shots/sh010_v012.mov", "shots/sh010.mov", 12)]
    #[case("sh010_V2/sh010-v002.exr", "sh010/sh010.exr", 2)]
    #[case("v001/sh010_v004.exr", "sh010.exr", 4)]
    #[case("sh010.v003", "sh010", 3)]
    #[case("sh010.v003.mov", "sh010.mov", 3)]
    #[case("v1.mov", "v1.mov", 0)]
    #[case("video.mov", "video.mov", 0)]
    #[case("a_vv1.mov", "a_vv1.mov", 0)]
    #[case("a_v1234567.mov", "a_v1234567.mov", 0)]
    #[case("_v1.mov", "_v1.mov", 0)]
    #[case("v2", "v2", 0)]
    fn marks_are_taken_out_of_names(#[case] path: &str, #[case] thing: &str, #[case] number: u32) {
        assert_eq!(of(Path::new(path)), Versioned { thing: thing.into(), number });
    }

    proptest::proptest! {
        #[test]
        fn any_path_has_a_thing(path in "([a-zA-Z0-9_.v é-]{1,12}/){0,3}[a-zA-Z0-9_.v é-]{1,12}") {
            let path = Path::new(&path);
            proptest::prop_assume!(path.components().any(|c| matches!(c, Component::Normal(_))));
            let v = of(path);
            proptest::prop_assert!(!v.thing.as_os_str().is_empty());
            proptest::prop_assert!(v.thing.is_relative());
        }
    }
}
