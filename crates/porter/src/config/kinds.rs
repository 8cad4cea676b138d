//! Kinds of files by the endings of their names: what a file is, is known when it is looked at only.

use std::path::Path;

pub const VIDEO: &str = "video";
pub const AUDIO: &str = "audio";
pub const IMAGE: &str = "image";

pub const NAMES: [&str; 3] = [VIDEO, AUDIO, IMAGE];

/// Each kind with the endings of its names.
const KINDS: [(&str, &[&str]); 3] = [
    (
        VIDEO,
        &[
            "mov", "mp4", "m4v", "mxf", "mkv", "webm", "avi", "mpg", "mpeg", "m2v", "ts", "m2ts", "mts",
            "m2t", "vob", "3gp", "3g2", "ogv", "ogm", "wmv", "asf", "flv", "f4v", "dv", "y4m", "rm", "rmvb",
            "qt",
        ],
    ),
    (
        AUDIO,
        &[
            "wav", "bwf", "rf64", "w64", "aif", "aiff", "aifc", "caf", "au", "snd", "flac", "mp3", "mp2",
            "m4a", "aac", "ac3", "ogg", "oga", "opus", "spx", "amr", "wma", "mka",
        ],
    ),
    (
        IMAGE,
        &[
            "jpg", "jpeg", "jpe", "png", "tif", "tiff", "dpx", "cin", "exr", "heic", "heif", "avif", "webp",
            "bmp", "gif", "tga", "jp2", "j2k", "jxl", "psd", "pnm", "pbm", "pgm", "ppm", "hdr", "dng", "nef",
            "cr2", "cr3", "arw", "raf", "orf", "rw2",
        ],
    ),
];

pub fn endings(kind: &str) -> impl Iterator<Item = &'static str> {
    KINDS.iter().filter(move |k| k.0 == kind).flat_map(|k| k.1.iter().copied())
}

/// What a file seems to be.
pub fn by_name(path: &Path) -> Option<&'static str> {
    let ending = path.extension()?.to_str()?.to_ascii_lowercase();
    KINDS.iter().find(|k| k.1.contains(&ending.as_str())).map(|k| k.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::collections::BTreeSet;

    #[rstest]
    #[case("A001.MOV", Some(VIDEO))]
    #[case("day 1/take.wav", Some(AUDIO))]
    #[case("still.0001.dpx", Some(IMAGE))]
    #[case("IMG_0001.HEIC", Some(IMAGE))]
    #[case("notes.txt", None)]
    #[case("mov", None)]
    #[case(".mov", None)]
    #[case("clip.mov.part", None)]
    fn a_name_says_what_a_file_seems_to_be(#[case] name: &str, #[case] want: Option<&str>) {
        assert_eq!(by_name(Path::new(name)), want);
    }

    #[test]
    fn an_ending_is_of_one_kind() {
        let all: Vec<&str> = NAMES.iter().flat_map(|kind| endings(kind)).collect();
        assert_eq!(all.iter().collect::<BTreeSet<_>>().len(), all.len());
        assert!(all.iter().all(|e| e.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit())));
    }
}
