//! Tracks that are copied: the same pictures and sound at the same times in another container, nothing coded again.

mod room;

use media::container::wrap::{WRAPPERS, Wrap};
use media::container::{self, Codec};
use media::error::Error;
use media::frame::{Pool, VideoFrame};
use media::plan::plan;
use media::recipe::*;
use media::testkit::Clip;
use media::units::Ratio;
use room::{Room, all_of, film};
use rstest::rstest;
use std::fs::File;
use std::path::{Path, PathBuf};

fn copy(wrap: Wrap) -> Recipe {
    let video = VideoRecipe { codec: VideoCodec::Copy, ..VideoRecipe::default() };
    film(Some(video), Some(AudioCodec::Copy), Some(wrap))
}

fn same(a: &VideoFrame, b: &VideoFrame) -> bool {
    (a.width, a.height, a.chroma, a.depth) == (b.width, b.height, b.chroma, b.depth) && a.planes == b.planes
}

fn open(path: &Path) -> Box<dyn container::Demux> {
    container::open(Box::new(File::open(path).unwrap())).unwrap()
}

/// Everything that a file shows and sounds is what another does.
fn alike(copied: &Path, source: &Path, what: &str) {
    let (a, heard_a, start_a, _) = all_of(copied);
    let (b, heard_b, start_b, _) = all_of(source);
    assert_eq!(a.len(), b.len(), "{what}: pictures");
    for (n, ((at, p), (want, q))) in a.iter().zip(&b).enumerate() {
        assert!((at - want).abs() < 0.0011, "{what}: picture {n} at {at}, not {want}");
        assert!(same(p, q), "{what}: picture {n} is another");
    }
    if !heard_b.is_empty() {
        assert!((start_a - start_b).abs() < 0.0011, "{what}: sound from {start_a}, not {start_b}");
        assert_eq!(heard_a.len(), heard_b.len(), "{what}: samples");
        assert!(heard_a == heard_b, "{what}: the samples are others");
    }
}

#[rstest]
fn a_clip_is_the_same_in_another_container(
    #[values(Wrap::Mp4, Wrap::Mov, Wrap::Mkv)] wrap: Wrap,
    #[values(Ratio { num: 25, den: 1 }, Ratio { num: 30_000, den: 1001 })] rate: Ratio,
) {
    let room = Room::with(&Clip { rate, ..Clip::default() });
    let made = room.make(&[copy(wrap)]);
    assert_eq!(made[0].frames, 50);
    alike(&room.path(0), &room.source, "copied");
    if wrap != Wrap::Mkv {
        let source = media::facts::of(Box::new(File::open(&room.source).unwrap())).unwrap();
        assert_eq!(room.facts(0).timecode.unwrap().start, source.timecode.unwrap().start);
    }
}

/// Files of other makers, each into every container that holds its tracks.
#[test]
fn files_of_others_are_the_same_in_other_containers() {
    let mut all: Vec<PathBuf> = Vec::new();
    let mut folders = vec![
        PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/real"),
        PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures"),
    ];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            if entry.path().is_dir() { folders.push(entry.path()) } else { all.push(entry.path()) }
        }
    }
    all.sort();
    let (mut made, mut with_late) = (0, 0);
    for path in all {
        let Ok(demux) = container::open(Box::new(File::open(&path).unwrap())) else { continue };
        let tracks = demux.tracks().to_vec();
        let media: Vec<_> = tracks.iter().filter(|t| t.video().is_some() || t.audio().is_some()).collect();
        if media.is_empty() || media.iter().any(|t| media::codec::why_not(t).is_some()) {
            continue;
        }
        if !std::panic::catch_unwind(|| all_of(&path)).is_ok_and(|a| !a.0.is_empty() || !a.1.is_empty()) {
            continue;
        }
        for w in WRAPPERS {
            let recipe = Recipe {
                wrap: Some(w.wrap),
                video: Some(VideoRecipe { codec: VideoCodec::Copy, ..VideoRecipe::default() }),
                audio: Some(AudioRecipe { codec: AudioCodec::Copy, ..AudioRecipe::default() }),
                ..Recipe::default()
            };
            if plan(&tracks, std::slice::from_ref(&recipe)).is_err() {
                continue;
            }
            let room = Room::of(&path);
            println!("{} as {}", path.display(), w.name);
            room.make(&[recipe]);
            alike(&room.path(0), &path, &format!("{} as {}", path.display(), w.name));
            made += 1;
            with_late += usize::from(media.iter().any(|t| matches!(t.codec, Codec::H264 | Codec::Hevc)));
        }
    }
    assert!(made >= 20 && with_late >= 6, "{made} copies, {with_late} of H.264 or HEVC");
}

/// A part begins where it is asked for, whatever key picture lies before it, and the rest is not shown.
#[rstest]
#[case(1240, Some(1640))]
#[case(40, None)]
#[case(0, Some(999))]
fn a_part_is_shown_exactly(
    #[case] from: u64,
    #[case] to: Option<u64>,
    #[values(Wrap::Mp4, Wrap::Mov)] wrap: Wrap,
) {
    let room = Room::with(&Clip { frames: 75, ..Clip::default() });
    let part = Part { from: Some(Moment::Ms(from)), to: to.map(Moment::Ms) };
    let made = room.make(&[Recipe { part: Some(part), ..copy(wrap) }]);
    let (first, end) =
        (from.div_ceil(40) as usize, to.map_or(75, |t| ((t as f64 / 40.0).round() as usize).min(75)));
    assert_eq!(made[0].frames as usize, end - first);
    let (got, sound, start, _) = all_of(&room.path(0));
    let (source, heard, ..) = all_of(&room.source);
    assert_eq!(got.len(), end - first);
    for ((at, p), (was, q)) in got.iter().zip(&source[first..end]) {
        assert!((at - (was - first as f64 / 25.0)).abs() < 0.001 && same(p, q), "at {at}");
    }
    assert!(start.abs() < 0.001, "sound from {start}");
    let offset = first * 1920 * 2;
    // A decoder that begins in the middle needs a packet to be right.
    let (a, b) = (&sound[4096.min(sound.len())..], &heard[offset + 4096..]);
    assert!(a.iter().zip(b).all(|(a, b)| (a - b).abs() < 1e-4), "the same sound");
    assert!((sound.len() as i64 - ((end - first) * 1920 * 2) as i64).abs() <= 2 * 1920, "{}", sound.len());
}

#[test]
fn pictures_are_copied_and_sound_is_coded() {
    let room = Room::with(&Clip::default());
    let video = VideoRecipe { codec: VideoCodec::Copy, ..VideoRecipe::default() };
    let loud = AudioRecipe {
        codec: AudioCodec::Aac,
        loudness: Some(Loudness { target: -20.0, peak: -1.0 }),
        ..AudioRecipe::default()
    };
    let recipes = [
        Recipe { wrap: Some(Wrap::Mp4), video: Some(video.clone()), audio: Some(loud), ..Recipe::default() },
        film(Some(video), Some(AudioCodec::Flac24), Some(Wrap::Mkv)),
        film(
            Some(VideoRecipe { fit: (160, 90), ..VideoRecipe::default() }),
            Some(AudioCodec::Copy),
            Some(Wrap::Mov),
        ),
        // Beside others that decode.
        film(Some(VideoRecipe { fit: (80, 0), ..VideoRecipe::default() }), Some(AudioCodec::Aac), None),
    ];
    let made = room.make(&recipes);
    let (source, heard, ..) = all_of(&room.source);
    for n in [0, 1] {
        let (pictures, ..) = all_of(&room.path(n));
        assert_eq!(pictures.len(), source.len());
        assert!(pictures.iter().zip(&source).all(|(a, b)| same(&a.1, &b.1) && (a.0 - b.0).abs() < 0.0011));
    }
    let (_, sound, ..) = all_of(&room.path(2));
    assert!(sound == heard, "the sound is the source's");
    assert!(made.iter().all(|m| m.frames == 50 && m.sound.len() == 1));
}

#[rstest]
#[case::not_held(Wrap::Webm, false, "does not hold H.264 as it is; mp4, mkv, mov would hold it")]
#[case::no_edits(Wrap::Mkv, true, "begins at a key picture")]
fn what_cannot_be_copied_is_refused(#[case] wrap: Wrap, #[case] part: bool, #[case] words: &str) {
    let room = Room::with(&Clip::default());
    let part = part.then_some(Part { from: Some(Moment::Ms(500)), to: None });
    let e = plan(open(&room.source).tracks(), &[Recipe { part, ..copy(wrap) }]).unwrap_err();
    assert!(matches!(e, Error::Unsupported(_) | Error::Setting(_)) && e.to_string().contains(words), "{e}");
    let _ = Pool::new();
}
