//! Parts of a source, and sound that is changed on its way.

mod room;

use media::container::{self, Demux};
use media::error::Error;
use media::filter::audio::fade::Fade;
use media::filter::video::Converter;
use media::frame::Pool;
use media::plan::plan;
use media::read::{Got, Reader};
use media::recipe::*;
use media::run::{self, Control};
use media::testkit::{Clip, psnr};
use media::units::Ratio;
use room::{Room, all_of, film, mono, shift, target};
use rstest::rstest;
use std::fs::File;

fn part(from: Moment, to: Option<Moment>) -> Option<Part> {
    Some(Part { from: Some(from), to })
}

fn code(text: &str) -> Moment {
    Moment::Timecode(text.into())
}

/// Pictures and sound of a part are those of the source, from there on, and its timecode goes on counting.
#[rstest]
#[case::seconds(Moment::Ms(2520), Some(Moment::Ms(4000)), 63, 100, "10:00:02:13")]
#[case::to_the_end(Moment::Ms(4000), None, 100, 150, "10:00:04:00")]
#[case::timecodes(code("10:00:01:00"), Some(code("10:00:03:12")), 25, 87, "10:00:01:00")]
#[case::between_pictures(Moment::Ms(1011), Some(Moment::Ms(2005)), 25, 50, "10:00:01:00")]
#[case::past_the_end(Moment::Ms(5000), Some(Moment::Ms(99_000)), 125, 150, "10:00:05:00")]
fn a_part_is_what_the_source_has_there(
    #[case] from: Moment,
    #[case] to: Option<Moment>,
    #[case] first: usize,
    #[case] end: usize,
    #[case] timecode: &str,
) {
    let room = Room::with(&Clip { frames: 150, ..Clip::default() });
    let seconds = first as f64 / 25.0;
    let mut recipe = film(Some(VideoRecipe::default()), Some(AudioCodec::Aac), None);
    recipe.part = part(from, to);
    let made = room.make(&[recipe]);
    assert_eq!(made[0].frames as usize, end - first);
    let (pictures, sound, start, channels) = all_of(&room.path(0));
    let (source, heard, from, _) = all_of(&room.source);
    for (n, ((at, p), (was, s))) in pictures.iter().zip(&source[first..end]).enumerate() {
        let want = was - seconds;
        assert!((at - want).abs() < 0.001, "picture {n} at {at}, not {want}");
        assert!(psnr(p, s) > 30.0, "picture {n}: {} dB", psnr(p, s));
    }
    assert!(start < 0.001 && from < 0.001);
    let offset = (seconds * 48_000.0).round() as usize;
    let (a, b) = (mono(&heard, 2), mono(&sound, channels));
    assert_eq!(shift(&a[offset..], &b), 0, "sound at the same moment");
    let until = ((end as f64 / 25.0 - seconds) * 48_000.0).round() as usize;
    assert!(b.len().abs_diff(until) <= 1920, "{} samples, wanted {until}", b.len());
    assert_eq!(room.facts(0).timecode.unwrap().start, timecode);
}

/// Only what is needed is read: a poster late in a long film does not decode the film.
#[test]
fn what_lies_before_a_part_is_not_decoded() {
    let room = Room::with(&Clip { frames: 50, times: 20, ..Clip::default() });
    let still = |at| Recipe {
        still: Some(StillRecipe {
            fit: (0, 0),
            format: StillChoice::Png,
            at: Some(Moment::Ms(at)),
            alpha: Default::default(),
        }),
        ..Recipe::default()
    };
    for (at, most) in [(39_000, 80), (1000, 120)] {
        let mut demux = container::open(Box::new(File::open(&room.source).unwrap())).unwrap();
        let plan = plan(demux.tracks(), &[still(at)]).unwrap();
        let control = Control::new(1);
        let to = target(&room.path(0), false);
        run::run(demux.as_mut(), &plan, vec![to], &control).unwrap().remove(0).unwrap();
        assert!((1..most).contains(&control.done()), "{} pictures were decoded for {at} ms", control.done());
        let pool = Pool::new();
        let picture = media::still::frame_of(&mut File::open(room.path(0)).unwrap(), &pool).unwrap();
        let picture = Converter::new(pool).convert(&picture).unwrap();
        let (source, ..) = all_of(&room.source);
        let like = psnr(&picture, &source[at as usize / 40].1);
        assert!(like > 35.0, "the picture of {at} ms: {like} dB");
    }
}

/// Wherever a reader is told to begin, it begins at or before, and everything behind comes.
#[test]
fn a_reader_that_begins_late_has_all_that_comes_behind() {
    let room = Room::with(&Clip { frames: 50, times: 4, ..Clip::default() });
    let open = || container::open(Box::new(File::open(&room.source).unwrap())).unwrap();
    let read = |from: f64| {
        let mut reader = Reader::new(open(), &[0, 1], &Pool::new()).unwrap();
        reader.begin_at(from).unwrap();
        let (mut pictures, mut sound) = (Vec::new(), Vec::new());
        while let Some(got) = reader.next_one().unwrap() {
            match got {
                Got::Picture { frame, .. } => pictures.push(frame.pts),
                Got::Sound { frame, .. } => sound.extend((0..frame.len() as i64).map(|i| frame.pts + i)),
                Got::Lost { .. } | Got::Packet(_) => panic!("lost"),
            }
        }
        (pictures, sound)
    };
    let (all, samples) = read(0.0);
    let scale = open().tracks()[0].timescale as f64;
    for tenths in 1..80 {
        let from = f64::from(tenths) / 10.0;
        let (pictures, sound) = read(from);
        assert!(all.ends_with(&pictures) && samples.ends_with(&sound), "from {from}");
        assert!(pictures[0] as f64 / scale <= from && sound[0] as f64 / 48_000.0 <= from, "from {from}");
        assert!(pictures.len() < all.len() || from < 2.0, "it did begin late, from {from}");
    }
}

#[rstest]
#[case::behind_the_end(part(Moment::Ms(60_000), None), "6.000 s long")]
#[case::backwards(part(Moment::Ms(2000), Some(Moment::Ms(1000))), "behind 'from'")]
#[case::before_the_start(part(code("09:59:59:00"), None), "begins at 10:00:00:00")]
#[case::no_label(part(code("10:00:00:25"), None), "fewer than 25 frames")]
fn a_part_that_is_not_there_is_refused(#[case] wrong: Option<Part>, #[case] words: &str) {
    let room = Room::with(&Clip { frames: 150, ..Clip::default() });
    let demux = container::open(Box::new(File::open(&room.source).unwrap())).unwrap();
    let recipe = Recipe { part: wrong, ..film(Some(VideoRecipe::default()), None, None) };
    let e = plan(demux.tracks(), &[recipe]).unwrap_err();
    assert!(matches!(e, Error::Unsupported(_) | Error::Setting(_)) && e.to_string().contains(words), "{e}");
}

/// Pictures alone, and a preset that wants sound with them: a silent track as long as the pictures.
#[rstest]
#[case(AudioCodec::Aac, None)]
#[case(AudioCodec::Opus, Some(media::container::wrap::Wrap::Mkv))]
fn a_source_without_sound_gets_silence_where_that_is_wished(
    #[case] codec: AudioCodec,
    #[case] wrap: Option<media::container::wrap::Wrap>,
) {
    let room = Room::with(&Clip { rate: Ratio { num: 24_000, den: 1001 }, frames: 71, ..Clip::default() });
    room.make(&[film(Some(VideoRecipe::default()), None, None)]);
    std::fs::copy(room.path(0), &room.source).unwrap();
    let mut recipe = film(Some(VideoRecipe::default()), Some(codec), wrap);
    recipe.audio.as_mut().unwrap().silence = true;
    let made = room.make(&[recipe]);
    let (samples, rate, _) = made[0].sound[0];
    let want = 71.0 * 1001.0 / 24_000.0 * f64::from(rate);
    assert!((samples as f64 - want).abs() <= 1.0, "{samples} of {want}");
    let (_, sound, ..) = all_of(&room.path(0));
    assert!(!sound.is_empty() && sound.iter().all(|s| s.abs() < 1e-4));
}

#[test]
fn gain_fade_and_dynamics_are_heard() {
    let tone: Vec<f32> = (0..48_000 * 4).flat_map(|i| [(i as f32 * 0.05).sin() * 0.1; 2]).collect();
    let room = Room::with(&Clip { frames: 100, sound: Some(tone), ..Clip::default() });
    let recipe = |change: fn(&mut AudioRecipe)| {
        let mut audio = AudioRecipe { codec: AudioCodec::Pcm16, ..AudioRecipe::default() };
        change(&mut audio);
        Recipe { audio: Some(audio), ..Recipe::default() }
    };
    room.make(&[
        recipe(|_| ()),
        recipe(|a| a.gain = 12.0),
        recipe(|a| a.even = true),
        recipe(|a| a.fade = Fade { in_ms: 1000, out_ms: 1000 }),
    ]);
    let level = |n: usize, seconds: std::ops::Range<f64>| {
        let (_, sound, ..) = all_of(&room.path(n));
        let at = |s: f64| (s * 96_000.0) as usize;
        let part = &sound[at(seconds.start)..at(seconds.end)];
        10.0 * (part.iter().map(|v| f64::from(v * v)).sum::<f64>() / part.len() as f64).log10()
    };
    let plain = level(0, 1.0..3.0);
    assert!((level(1, 1.0..3.0) - plain - 12.0).abs() < 0.1);
    assert!((level(2, 1.0..3.0) - plain - 3.7).abs() < 1.0, "{}", level(2, 1.0..3.0) - plain);
    assert!((level(3, 1.5..2.5) - plain).abs() < 0.1);
    assert!(level(3, 0.0..0.1) < plain - 20.0 && level(3, 3.9..4.0) < plain - 20.0);
}
