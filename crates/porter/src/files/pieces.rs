//! Files of a folder that are one, one behind the other.

use crate::config::{kinds, natural};
use crate::error::{Error, Result};
use std::path::{Path, PathBuf};

/// All are open while they are read.
pub const MOST: usize = 500;
pub const NOT_COPIED: &str = "files that are joined are decoded; the preset takes tracks as they are";

/// Of the names of a folder those of its films, or where it has none of its sounds, in their order: numbers are compared as
/// numbers, `A2` before `A10`.
pub fn of(names: &[PathBuf]) -> Result<Vec<String>> {
    let is_hidden = |p: &Path| p.components().any(|c| c.as_os_str().as_encoded_bytes().starts_with(b"."));
    let seen: Vec<&str> = names.iter().filter(|p| !is_hidden(p)).filter_map(|p| p.to_str()).collect();
    let of_kind = |kind: &str| -> Vec<String> {
        seen.iter().filter(|n| kinds::by_name(Path::new(n)) == Some(kind)).map(|n| (*n).to_owned()).collect()
    };
    let mut pieces = of_kind(kinds::VIDEO);
    if pieces.is_empty() {
        pieces = of_kind(kinds::AUDIO);
    }
    pieces.sort_by(|a, b| natural::compare(a, b).then_with(|| a.cmp(b)));
    let refused = |why: String| Err(Error::Media(media::Error::unsupported("", why)));
    match pieces.len() {
        0 => refused("there is neither a film nor a sound in the folder that could be joined".into()),
        n if n > MOST => refused(format!("there are {n} files to join in the folder; up to {MOST} can be")),
        _ => Ok(pieces),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&["A10.mov", "A2.MOV", "A1.mov"], "A1.mov A2.MOV A10.mov")]
    #[case(&["b/2.mp4", "a/9.mp4", "notes.txt", "1.wav"], "a/9.mp4 b/2.mp4")]
    #[case(&["take 2.wav", "take 1.wav", ".take 0.wav", "cover.jpg"], "take 1.wav take 2.wav")]
    fn films_or_sounds_in_their_order(#[case] names: &[&str], #[case] want: &str) {
        let names: Vec<PathBuf> = names.iter().map(PathBuf::from).collect();
        assert_eq!(of(&names).unwrap().join(" "), want);
    }

    #[test]
    fn nothing_and_too_many_are_told() {
        let e = of(&[PathBuf::from("notes.txt")]).unwrap_err();
        assert!(e.to_string().contains("neither a film nor a sound"), "{e}");
        let many: Vec<PathBuf> = (0..=MOST).map(|n| format!("{n}.mov").into()).collect();
        assert!(of(&many).unwrap_err().to_string().contains("501"));
    }
}
