//! One clip, one sound and one picture that others coded in many formats: once decoded, all must agree.

use media::container::{self, Demux};
use media::facts::{self, Facts, Kind};
use media::frame::{Pool, VideoFrame};
use media::testkit::compare::{alignment, luma_difference};
use media::units::Ratio;
use media::{codec, still};
use rstest::rstest;
use std::fs::File;
use std::path::{Path, PathBuf};

fn real(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/real").join(name)
}

fn open(path: &Path) -> Box<dyn Demux> {
    container::open(Box::new(File::open(path).unwrap())).unwrap()
}

fn facts_of(path: &Path) -> Facts {
    facts::of(Box::new(File::open(path).unwrap())).unwrap()
}

/// Every picture, as 8-bit luma of its own size.
fn pictures(path: &Path) -> Vec<VideoFrame> {
    let mut d = open(path);
    let i = d.tracks().iter().position(|t| t.video().is_some()).unwrap();
    let mut decoder = codec::video_decoder(&d.tracks()[i], &Pool::new()).unwrap();
    d.choose(&[i]);
    let mut out = Vec::new();
    while let Some(p) = d.next_packet().unwrap() {
        decoder.decode(&p, &mut out).unwrap();
    }
    decoder.flush(&mut out).unwrap();
    assert!(decoder.take_lost().is_empty());
    out
}

/// The first channel's sound, as it is presented from moment 0.
fn sound(path: &Path) -> (u32, Vec<f32>) {
    let mut d = open(path);
    let i = d.tracks().iter().position(|t| t.audio().is_some()).unwrap();
    let mut decoder = codec::audio_decoder(&d.tracks()[i]).unwrap();
    let a = d.tracks()[i].audio().unwrap().clone();
    d.choose(&[i]);
    let mut out = Vec::new();
    while let Some(p) = d.next_packet().unwrap() {
        let mut f = decoder.decode(&p).unwrap();
        assert_eq!((f.rate, f.channels), (a.rate, a.channels), "what is decoded is what was described");
        if p.shown {
            f.trim(p.trim_start as usize, 0);
            f.trim(0, f.len().saturating_sub(p.keep.map_or(f.len(), |k| k as usize)));
            // Packets tell truly how long they are.
            assert_eq!(f.len() as i64, p.duration, "at {}", p.pts);
            out.resize(p.pts as usize, 0.0);
            out.extend(f.samples.iter().step_by(usize::from(a.channels)));
        }
    }
    assert_eq!(out.len() as i64, d.tracks()[i].duration.ticks, "as long as the track says");
    (a.rate, out)
}

#[rstest]
#[case("demo.mov", 1.0)]
#[case("demo.mkv", 1.0)]
#[case("demo.webm", 1.0)]
// Its pictures between key pictures, of which each twelfth is one, are broken in the stream itself (docs/reliability.md).
#[case("demo.ogv", 1.0)]
#[case("demo.m1v", 1.0)]
#[case("demo.mpg", 1.0)]
#[case("demo.vob", 1.0)]
fn pictures_agree_with_the_mp4(#[case] name: &str, #[case] seconds: f64) {
    let (mp4, other) = (real("same-clip/demo.mp4"), real(&format!("same-clip/{name}")));
    let (a, b) = (pictures(&mp4), pictures(&other));
    assert!(a.len().abs_diff(b.len()) <= 1, "{} and {}", a.len(), b.len());
    assert!(b.windows(2).all(|w| w[0].pts < w[1].pts), "in order");
    let step = if name == "demo.ogv" { 12 } else { 1 };
    let pairs = || a.iter().zip(&b).take(980).step_by(step);
    let worst = pairs().map(|(x, y)| luma_difference(x, y)).fold(f64::INFINITY, f64::min);
    let mean: f64 =
        pairs().map(|(x, y)| luma_difference(x, y).min(99.0)).sum::<f64>() / pairs().count() as f64;
    assert!(mean > 28.0, "{mean} dB on average, {worst} dB at worst");
    let times = |f: &[VideoFrame], p: &Path| {
        let scale = open(p).tracks().iter().find(|t| t.video().is_some()).unwrap().timescale;
        f.last().unwrap().pts as f64 / f64::from(scale)
    };
    assert!((times(&a, &mp4) - times(&b, &other)).abs() < seconds / 24.0 * 1.5);
}

#[rstest]
#[case("demo.mov")]
#[case("demo.mkv")]
#[case("demo.webm")]
#[case("demo.ogv")]
#[case("demo.avi")]
#[case("demo.mpg")]
#[case("demo.vob")]
fn the_clips_sound_agrees_with_the_mp4(#[case] name: &str) {
    let (mp4, other) = (real("same-clip/demo.mp4"), real(&format!("same-clip/{name}")));
    like(&sound(&mp4), &sound(&other), name);
}

#[rstest]
#[case("demo.aac")]
#[case("demo.aif")]
#[case("demo.mp3")]
#[case("withcover.mp3")]
#[case("demo.ogg")]
#[case("demo.opus")]
fn sounds_agree_with_the_wav(#[case] name: &str) {
    let (wav, other) = (real("same-sound/demo.wav"), real(&format!("same-sound/{name}")));
    like(&sound(&wav), &sound(&other), name);
}

/// Alike once aligned, over a good part of their length, and nearly as long.
fn like(a: &(u32, Vec<f32>), b: &(u32, Vec<f32>), name: &str) {
    let length = |s: &(u32, Vec<f32>)| s.1.len() as f64 / f64::from(s.0);
    assert!((length(a) - length(b)).abs() < 0.15, "{name}: {} s and {} s", length(a), length(b));
    let (shift, alike) = alignment(a, b);
    eprintln!(
        "{name}: {:.1} ms off, likeness {alike:.4}, lengths {:.4} and {:.4} s",
        shift * 1000.0,
        length(a),
        length(b)
    );
    assert!(alike > 0.95, "{name}: likeness {alike} at a shift of {shift} s");
    assert!(shift.abs() < 0.06, "{name}: {shift} s off");
}

#[rstest]
#[case("demo.avi", "MPEG-4 part 2", None, "AVI", false)]
#[case("demo.m1v", "MPEG-1 video", None, "plain picture stream", true)]
#[case("demo.mpg", "MPEG-1 video", None, "MPEG program stream", true)]
#[case("demo.vob", "MPEG-2", Some("Main"), "MPEG program stream", true)]
fn older_pictures_are_named_and_told_whether_they_are_decoded(
    #[case] name: &str,
    #[case] codec: &str,
    #[case] profile: Option<&str>,
    #[case] format: &str,
    #[case] decoded: bool,
) {
    let path = real(&format!("same-clip/{name}"));
    let f = facts_of(&path);
    let v = f.picture().unwrap();
    assert_eq!((v.codec.as_str(), v.profile.as_deref(), f.format.as_str()), (codec, profile, format));
    assert_eq!((v.width, v.height, v.frames), (176, 144, Some(1441)));
    assert!((v.rate.unwrap().value() - 24.0).abs() < 0.05, "{:?}", v.rate);
    match &v.cannot_decode {
        Some(why) => assert!(!decoded && why.contains(codec) && why.contains("H.264"), "{why}"),
        None => assert!(decoded),
    }
}

#[rstest]
#[case("demo.mp4", true)]
#[case("demo.mov", true)]
#[case("demo.webm", true)]
#[case("demo.m1v", true)]
#[case("demo.ogv", true)]
#[case("demo.mpg", true)]
#[case("demo.vob", true)]
fn frame_rates_are_exact(#[case] name: &str, #[case] constant: bool) {
    let path = real(&format!("same-clip/{name}"));
    let v = facts_of(&path).video.remove(0);
    assert_eq!((v.rate, v.constant_rate), (Ratio::new(24, 1), constant));
}

#[rstest]
#[case("demo.bmp", 40.0)]
#[case("demo.jpg", 30.0)]
#[case("demo.tif", 40.0)]
#[case("demo.gif", 24.0)]
fn pictures_agree_with_the_png(#[case] name: &str, #[case] least: f64) {
    let (png, other) = (real("same-picture/demo.png"), real(&format!("same-picture/{name}")));
    let frame = |p: &Path| still::frame_of(&mut File::open(p).unwrap(), &Pool::new()).unwrap();
    let alike = luma_difference(&frame(&png), &frame(&other));
    assert!(alike > least, "{name}: {alike} dB");
    let f = facts_of(&other);
    assert_eq!((f.kind, f.video[0].width, f.video[0].height), (Kind::Image, 200, 133));
}

/// The animated GIF shows the first five seconds in 256 colours without smoothing: alike, but coarse.
#[test]
fn the_gif_shows_the_same_pictures() {
    let (mp4, gif) = (real("same-clip/demo.mp4"), real("same-clip/demo.gif"));
    let (a, b) = (pictures(&mp4), pictures(&gif));
    assert_eq!(b.len(), 120);
    let mean: f64 = a.iter().zip(&b).map(|(x, y)| luma_difference(x, y).min(99.0)).sum::<f64>() / 120.0;
    eprintln!("GIF: {mean:.1} dB on average");
    assert!(mean > 20.0, "{mean} dB");
}
