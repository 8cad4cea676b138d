//! Long encodes that are broken off and gone on with: the result is the one of an unbroken run, packet for packet.

mod room;

use media::container::wrap::Wrap;
use media::container::{self, Demux, Packet};
use media::error::Error;
use media::filter::audio::fade::Fade;
use media::plan::plan;
use media::recipe::*;
use media::run::kept::{Keeps, Kept};
use media::run::{self, Control};
use media::testkit::Clip;
use room::{Room, target};
use rstest::rstest;
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

fn kept(room: &Room) -> Kept {
    kept_part(room, 0)
}

/// Pictures and one sound track.
fn keeps(room: &Room) -> Keeps {
    Keeps { pictures: Some(kept(room)), sounds: vec![Some(kept_part(room, 1))] }
}

fn kept_part(room: &Room, part: u128) -> Kept {
    let path = room.dir.path().join(if part == 0 { "kept" } else { "kept-1" });
    let file = File::options().read(true).write(true).create(true).truncate(false).open(path).unwrap();
    Kept::open(Box::new(file), 1 + part).unwrap()
}

/// Makes the output, and stops when so many pictures of it are done.
fn make(
    room: &Room,
    recipe: &Recipe,
    to: &Path,
    kept: Option<Keeps>,
    stop: Option<u64>,
) -> Result<Vec<String>, Error> {
    let mut demux = container::open(Box::new(File::open(&room.source).unwrap())).unwrap();
    let mut plan = plan(demux.tracks(), std::slice::from_ref(recipe)).unwrap();
    let again = || container::open(Box::new(File::open(&room.source)?));
    run::look_ahead(&mut || again(), &mut plan, &Control::new(1)).unwrap();
    assert!(plan.outputs[0].is_long());
    let control = Arc::new(Control::new(1));
    let watcher = stop.map(|stop| {
        let control = control.clone();
        std::thread::spawn(move || {
            while control.done_by(0) < stop {
                std::thread::sleep(std::time::Duration::from_millis(1));
            }
            control.stop();
        })
    });
    let made =
        run::run_on(demux.as_mut(), &plan, vec![target(to, false)], vec![kept.unwrap_or_default()], &control);
    if let Some(watcher) = watcher {
        watcher.join().unwrap();
    }
    let made = made?.remove(0)?;
    media::check::output(Box::new(File::open(to).unwrap()), &made, &Default::default()).unwrap();
    Ok(made.notes)
}

fn packets(path: &Path) -> Vec<Vec<Packet>> {
    let mut demux = container::open(Box::new(File::open(path).unwrap())).unwrap();
    let mut all = vec![Vec::new(); demux.tracks().len()];
    while let Some(p) = demux.next_packet().unwrap() {
        all[p.track].push(p);
    }
    all
}

fn recipe(video: VideoRecipe, wrap: Option<Wrap>, audio: Option<AudioCodec>) -> Recipe {
    let audio = audio.map(|codec| AudioRecipe { codec, ..AudioRecipe::default() });
    Recipe { video: Some(video), audio, wrap, ..Recipe::default() }
}

fn long() -> Room {
    Room::with(&Clip { width: 64, height: 48, frames: 50, times: 36, ..Clip::default() })
}

#[rstest]
#[case::bits(VideoRecipe { rate: BitRecipe::Average(150_000), ..VideoRecipe::default() }, None, Some(AudioCodec::Aac), true)]
#[case::steered(
    VideoRecipe {
        rate: BitRecipe::Steered(Steered {
            average: Some(120_000), quality: None, twice: true, most: Some(Most { bits: 200_000, buffer_ms: 800 }),
        }),
        ..VideoRecipe::default()
    },
    None, Some(AudioCodec::Aac), true
)]
#[case::quantiser(VideoRecipe { rate: BitRecipe::Quantiser(30), ..VideoRecipe::default() }, None, None, true)]
#[case::a_filter_that_remembers(
    VideoRecipe { rate: BitRecipe::Quantiser(30), fade: Fade { in_ms: 2000, out_ms: 30_000 }, ..VideoRecipe::default() },
    None, Some(AudioCodec::Aac), false
)]
#[case::vp9(
    VideoRecipe { codec: VideoCodec::Vp9, rate: BitRecipe::Average(150_000), ..VideoRecipe::default() },
    Some(Wrap::Mkv), Some(AudioCodec::Opus), true
)]
#[case::av1(
    VideoRecipe { codec: VideoCodec::Av1, fit: (64, 64), framing: Framing::Stretch, rate: BitRecipe::Average(150_000), ..VideoRecipe::default() },
    Some(Wrap::Webm), Some(AudioCodec::Opus), true
)]
fn what_was_broken_off_ends_as_if_it_had_not_been(
    #[case] video: VideoRecipe,
    #[case] wrap: Option<Wrap>,
    #[case] audio: Option<AudioCodec>,
    #[case] skips: bool,
) {
    let room = long();
    let recipe = recipe(video, wrap, audio);
    let whole = room.path(0);
    assert!(make(&room, &recipe, &whole, None, None).unwrap().is_empty());
    let broken = room.path(1);
    // Broken off twice: in the second segment, and in the one behind.
    for stop in [700, 1300] {
        assert!(matches!(make(&room, &recipe, &broken, Some(keeps(&room)), Some(stop)), Err(Error::Stopped)));
        let frames = kept(&room).whole().frames;
        assert!(frames >= 500 && frames <= stop + 100, "{frames} of {stop}");
    }
    let notes = make(&room, &recipe, &broken, Some(keeps(&room)), None).unwrap();
    assert_eq!(notes.iter().any(|n| n.contains("gone on with after")), skips, "{notes:?}");
    let (one, other) = (packets(&whole), packets(&broken));
    assert_eq!(one.len(), other.len());
    for (a, b) in one.iter().zip(&other) {
        assert_eq!(a.len(), b.len());
        for (n, (a, b)) in a.iter().zip(b).enumerate() {
            assert_eq!((a.pts, a.duration, a.key, a.data == b.data), (b.pts, b.duration, b.key, true), "{n}");
        }
    }
    assert_eq!(one.iter().map(Vec::len).max(), Some(if audio.is_some() { one[1].len() } else { 1800 }));
    assert_eq!(one[0].len(), 1800);
    // What is whole need not be made at all.
    let again = kept(&room).whole().frames;
    assert!(again >= 1500, "{again}");
}

/// Damaged on the disk: what is whole before it is taken, and the result is the same.
#[test]
fn what_was_kept_and_damaged_is_made_again() {
    let room = long();
    let recipe = recipe(VideoRecipe { rate: BitRecipe::Quantiser(30), ..VideoRecipe::default() }, None, None);
    make(&room, &recipe, &room.path(0), None, None).unwrap();
    assert!(make(&room, &recipe, &room.path(1), Some(keeps(&room)), Some(1300)).is_err());
    let at = room.dir.path().join("kept");
    let mut bytes = std::fs::read(&at).unwrap();
    let middle = bytes.len() * 2 / 3;
    bytes[middle] ^= 1;
    std::fs::write(&at, bytes).unwrap();
    assert_eq!(kept(&room).whole().frames, 500);
    make(&room, &recipe, &room.path(1), Some(keeps(&room)), None).unwrap();
    let (one, other) = (packets(&room.path(0)), packets(&room.path(1)));
    assert!(one[0].iter().zip(&other[0]).all(|(a, b)| a.pts == b.pts && a.data == b.data));
    assert_eq!(one[0].len(), other[0].len());
}

/// Loudness that was measured once need not be measured again, and of another plan nothing is taken.
#[test]
fn measured_loudness_is_taken_over() {
    let room = Room::with(&Clip { frames: 100, ..Clip::default() });
    let audio = |codec| AudioRecipe {
        codec,
        loudness: Some(Loudness { target: -23.0, peak: -1.0 }),
        ..AudioRecipe::default()
    };
    let recipes =
        [AudioCodec::Aac, AudioCodec::Flac24].map(|c| Recipe { audio: Some(audio(c)), ..Recipe::default() });
    let open = || container::open(Box::new(File::open(&room.source).unwrap()));
    let planned = || plan(open().unwrap().tracks(), &recipes).unwrap();
    let mut measured = planned();
    run::measure(&mut || open(), &mut measured, &Control::new(2)).unwrap();
    let levels = run::levels(&measured);
    assert!(levels.len() == 2 && levels.iter().all(|l| l.is_some_and(|l| l != 1.0 && l > 0.0)), "{levels:?}");
    let mut again = planned();
    assert_eq!(run::levels(&again), [None, None]);
    // As it is stored.
    let stored: Vec<Option<f32>> = serde_json::from_str(&serde_json::to_string(&levels).unwrap()).unwrap();
    assert!(run::set_levels(&mut again, &stored));
    assert_eq!(run::levels(&again), levels);
    let mut other = planned();
    assert!(!run::set_levels(&mut other, &levels[..1]));
    assert!(!run::set_levels(&mut other, &[Some(f32::NAN), None]));
    assert_eq!(run::levels(&other), [None, None]);
}
