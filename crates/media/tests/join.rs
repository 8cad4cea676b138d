//! Several files as one.

mod room;

use media::container::wrap::Wrap;
use media::container::{self, Demux};
use media::error::{Error, Result};
use media::filter::video::{Converter, Scaler};
use media::frame::{Pool, VideoFrame};
use media::join::Joined;
use media::plan::plan;
use media::recipe::*;
use media::run::{self, Control, Made};
use media::testkit::{Clip, psnr};
use media::units::Ratio;
use room::{Room, all_of, film, mono, shift, target};
use rstest::rstest;
use std::fs::File;
use std::path::{Path, PathBuf};

fn joined(paths: &[PathBuf]) -> Result<Joined> {
    let open = |p: &PathBuf| container::open(Box::new(File::open(p).unwrap())).unwrap();
    let named = |p: &PathBuf| p.file_name().unwrap().to_string_lossy().into_owned();
    Joined::new(paths.iter().map(|p| (named(p), open(p))).collect())
}

/// Makes one file of several.
fn make(paths: &[PathBuf], recipe: Recipe, to: &Path) -> Result<Made> {
    let mut demux = joined(paths)?;
    let mut plan = plan(demux.tracks(), &[recipe])?;
    run::measure(&mut || Ok(Box::new(joined(paths)?)), &mut plan, &Control::new(1))?;
    let mut made = run::run(&mut demux, &plan, vec![target(to, false)], &Control::new(1))?;
    let made = made.remove(0)?;
    media::check::output(Box::new(File::open(to).unwrap()), &made, &Default::default())?;
    Ok(made)
}

fn sure(codec: VideoCodec) -> Option<VideoRecipe> {
    Some(VideoRecipe { codec, ..VideoRecipe::default() })
}

fn plain(f: &VideoFrame) -> VideoFrame {
    Converter::new(Pool::new()).convert(f).unwrap()
}

/// Every picture at its time, and the sound of each file against its pictures.
#[rstest]
#[case::pal(Ratio { num: 25, den: 1 })]
#[case::ntsc(Ratio { num: 30_000, den: 1001 })]
fn files_of_one_kind_stand_one_behind_the_other(#[case] rate: Ratio) {
    let clips = [(50, 0), (31, 7), (44, 3)]
        .map(|(frames, timecode)| Room::with(&Clip { rate, frames, timecode, ..Clip::default() }));
    let paths: Vec<PathBuf> = clips.iter().map(|r| r.source.clone()).collect();
    let out = tempfile::tempdir().unwrap();
    let to = out.path().join("out.mkv");
    let made =
        make(&paths, film(sure(VideoCodec::Ffv1), Some(AudioCodec::Pcm16), Some(Wrap::Mkv)), &to).unwrap();
    assert_eq!((made.frames, made.notes.len()), (125, 0), "{:?}", made.notes);
    let (pictures, sound, from, channels) = all_of(&to);
    assert_eq!(pictures.len(), 125);
    let mut n = 0;
    let mut heard = 0usize;
    for path in &paths {
        let (own, own_sound, ..) = all_of(path);
        let count = own.len();
        for (k, (_, f)) in own.iter().enumerate() {
            let (at, p) = &pictures[n + k];
            assert!((at - (n + k) as f64 / rate.value()).abs() < 0.0011, "picture {} at {at}", n + k);
            assert!(psnr(p, f).is_infinite() || psnr(p, f) > 90.0);
        }
        // As long as its pictures, and at the same moment.
        let end = ((n + count) as f64 / rate.value() * 48_000.0).round() as usize;
        let (a, b) = (mono(&own_sound, 2), mono(&sound, channels));
        assert_eq!(shift(&a[..a.len().min(end - heard)], &b[heard..end]), 0);
        (n, heard) = (n + count, end);
    }
    assert!(from.abs() < 0.001);
    assert_eq!(mono(&sound, channels).len(), heard);
}

/// Another size, shape, turn and rate: whole in the frame of the first.
#[test]
fn what_differs_is_brought_to_the_form_of_the_first() {
    let rate = Ratio { num: 50, den: 1 };
    let one = Room::with(&Clip::default());
    let other =
        Room::with(&Clip { width: 160, height: 96, rate, rotation: 90, frames: 100, ..Clip::default() });
    let to = one.path(0);
    let paths = [one.source.clone(), other.source.clone()];
    let made = make(&paths, film(sure(VideoCodec::Ffv1), Some(AudioCodec::Flac16), None), &to).unwrap();
    assert_eq!(made.frames, 100, "two seconds each, at 25 a second");
    let (pictures, ..) = all_of(&to);
    assert!(pictures.iter().all(|(_, p)| (p.width, p.height) == (320, 180)));
    // The other lies on its side: 108 wide in the middle, black beside it.
    let (own, ..) = all_of(&other.source);
    let turned = media::filter::video::turn::turn(&own[20].1, 90, &Pool::new()).unwrap();
    let small = Scaler::new(108, 180, Pool::new()).scale(&plain(&turned)).unwrap();
    let p = &pictures[60].1;
    assert_eq!((p.planes[0].at(50, 90), p.planes[0].at(300, 90)), (16, 16));
    let mut near = 0;
    for (x, y) in [(10, 20), (50, 90), (90, 160), (54, 100)] {
        near = near.max(p.planes[0].at(x + 106, y).abs_diff(small.planes[0].at(x, y)));
    }
    assert!(near <= 3, "{near}");
}

/// One of them is silent, one speaks longer than it shows, one file has one channel of another rate.
#[test]
fn sound_that_is_missing_is_silent_and_its_form_is_the_firsts() {
    let room = Room::with(&Clip { frames: 25, ..Clip::default() });
    let silent = room.dir.path().join("silent.mkv");
    let recipe = film(sure(VideoCodec::H264), None, Some(Wrap::Mkv));
    make(std::slice::from_ref(&room.source), recipe, &silent).unwrap();
    let other = room.dir.path().join("other.mkv");
    let audio =
        AudioRecipe { codec: AudioCodec::Pcm16, channels: 1, rate: Some(32_000), ..AudioRecipe::default() };
    let recipe = Recipe { audio: Some(audio), ..film(sure(VideoCodec::H264), None, Some(Wrap::Mkv)) };
    make(std::slice::from_ref(&room.source), recipe, &other).unwrap();
    let to = room.path(0);
    let paths = [room.source.clone(), silent.clone(), other, silent];
    let recipe = film(sure(VideoCodec::H264), Some(AudioCodec::Pcm16), Some(Wrap::Mov));
    make(&paths, recipe, &to).unwrap();
    let (pictures, sound, from, channels) = all_of(&to);
    assert_eq!((pictures.len(), channels, from.abs() < 0.001), (100, 2, true));
    let sound = mono(&sound, channels);
    assert_eq!(sound.len(), 4 * 48_000);
    let loud = |part: &[f32]| part.iter().map(|s| s.abs()).fold(0.0, f32::max);
    let each: Vec<bool> = sound.chunks(48_000).map(|c| loud(&c[200..47_800]) > 0.01).collect();
    assert_eq!(each, [true, false, true, false]);
    assert_eq!(shift(&sound[..48_000], &sound[96_000..144_000]), 0);
}

#[test]
fn sound_alone_is_joined_and_brought_to_a_loudness_as_a_whole() {
    let room = Room::with(&Clip::default());
    let parts = [(0, 44_100), (1, 48_000)].map(|(n, rate)| {
        let audio = AudioRecipe {
            codec: AudioCodec::Pcm16,
            rate: Some(rate),
            gain: f64::from(n) * -12.0,
            ..AudioRecipe::default()
        };
        let to = room.dir.path().join(format!("{n}.wav"));
        make(std::slice::from_ref(&room.source), Recipe { audio: Some(audio), ..Recipe::default() }, &to)
            .unwrap();
        to
    });
    let loudness = Some(Loudness { target: -20.0, peak: -1.0 });
    let audio = AudioRecipe { codec: AudioCodec::Flac24, loudness, ..AudioRecipe::default() };
    let to = room.path(0);
    make(&parts, Recipe { audio: Some(audio), ..Recipe::default() }, &to).unwrap();
    let (_, sound, _, channels) = all_of(&to);
    let sound = mono(&sound, channels);
    assert_eq!(sound.len(), 4 * 44_100);
    let strength = |part: &[f32]| part.iter().map(|s| f64::from(s * s)).sum::<f64>();
    let db = 10.0 * (strength(&sound[..88_200]) / strength(&sound[88_200..])).log10();
    assert!((db - 12.0).abs() < 0.3, "one gain for both: {db} dB between them");
}

/// What is damaged is told with the name of its file, and what is behind it comes.
#[test]
fn a_file_that_is_cut_off_gives_what_it_has() {
    let room = Room::with(&Clip::default());
    let cut = room.dir.path().join("cut.mp4");
    let mut bytes = std::fs::read(&room.source).unwrap();
    bytes.truncate(bytes.len() * 6 / 10);
    std::fs::write(&cut, bytes).unwrap();
    let to = room.path(0);
    let paths = [room.source.clone(), cut, room.source.clone()];
    let made = make(&paths, film(sure(VideoCodec::H264), Some(AudioCodec::Aac), None), &to).unwrap();
    assert!((110..150).contains(&made.frames), "{}", made.frames);
    assert!(made.notes.iter().any(|n| n.contains("cut.mp4")), "{:?}", made.notes);
    let (last, first) = (all_of(&to).0.pop().unwrap().1, all_of(&room.source).0.pop().unwrap().1);
    assert!(psnr(&plain(&last), &plain(&first)) > 30.0);
}

#[test]
fn what_cannot_be_joined_says_why() {
    let room = Room::with(&Clip { frames: 5, ..Clip::default() });
    let wav = room.dir.path().join("sound.wav");
    make(std::slice::from_ref(&room.source), film(None, Some(AudioCodec::Pcm16), None), &wav).unwrap();
    let why = |paths: &[PathBuf]| match joined(paths) {
        Err(e) => e.to_string(),
        Ok(_) => panic!("joined"),
    };
    let text = why(&[room.source.clone(), wav]);
    assert!(text.contains("source.mp4 has pictures, and sound.wav has none"), "{text}");
    assert!(why(&[]).contains("none to join"));
    // Packets as they are: there are none of the whole.
    let recipe = film(sure(VideoCodec::Copy), None, Some(Wrap::Mp4));
    let paths = [room.source.clone(), room.source.clone()];
    let e = make(&paths, recipe, &room.path(0)).unwrap_err();
    assert!(matches!(e, Error::Setting(_) | Error::Unsupported(_)), "{e}");
}
