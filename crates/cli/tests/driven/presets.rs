//! Every shipped preset on every kind of file: what is made is what it says, and where nothing is made the reason is told.

use crate::support::make_clip;
use media::facts::{self, Facts};
use media::recipe::{Recipe, VideoCodec};
use media::run::Control;
use media::testkit::Clip;
use porter::config::{Preset, presets};
use porter::convert;
use porter::naming::Template;
use rstest::rstest;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

const SECONDS: f64 = 3.0;

/// A source, and what it has.
struct Source {
    path: PathBuf,
    pictures: bool,
    sound: bool,
    still: bool,
}

fn y4m(path: &Path, fields: bool) {
    let (w, h) = (320usize, 180usize);
    let kind = if fields { "It" } else { "Ip" };
    let mut bytes = format!("YUV4MPEG2 W{w} H{h} F25:1 {kind} A1:1 C420mpeg2\n").into_bytes();
    for n in 0..(25.0 * SECONDS) as usize {
        bytes.extend(b"FRAME\n");
        let luma = (0..h).flat_map(|y| (0..w).map(move |x| (x, y)));
        bytes.extend(luma.map(|(x, y)| (60 + (x + 2 * n + y % 2 * usize::from(fields)) * 3 % 150) as u8));
        bytes.extend(vec![120u8; w * h / 2]);
    }
    std::fs::write(path, bytes).unwrap();
}

fn source(dir: &Path, kind: &str) -> Source {
    let film = dir.join("film.mp4");
    let clip = Clip { frames: (25.0 * SECONDS) as u32, ..Clip::default() };
    std::fs::write(&film, make_clip(&clip)).unwrap();
    let made = |preset: &str| -> PathBuf {
        let one: Vec<Arc<Preset>> = shipped().into_iter().filter(|p| p.name == preset).collect();
        let mut all = run(&film, &one, dir);
        all.remove(0).end.unwrap().0
    };
    let (path, pictures, sound, still) = match kind {
        "film" => (film, true, true, false),
        "silent film" => (dir.join("silent.y4m"), true, false, false),
        "fields" => (dir.join("fields.y4m"), true, false, false),
        "sound" => (made("sound-master"), false, true, false),
        _ => (made("poster"), false, false, true),
    };
    if path.extension().is_some_and(|e| e == "y4m") {
        y4m(&path, kind == "fields");
    }
    Source { path, pictures, sound, still }
}

fn shipped() -> Vec<Arc<Preset>> {
    presets::shipped().to_vec()
}

fn run(path: &Path, presets: &[Arc<Preset>], to: &Path) -> Vec<convert::Converted> {
    let planned = convert::plan(path, presets).unwrap();
    let control = Control::new(planned.outputs().len());
    planned.run(to, &Template::parse("{stem}_{preset}").unwrap(), &control).unwrap()
}

/// Whether a source has what a recipe is made of.
fn applies(r: &Recipe, of: &Source) -> bool {
    let captions = r.video.as_ref().is_some_and(|v| v.captions.is_some());
    let pictures = r.video.is_some() || r.pictures.is_some() || r.stream.is_some() || r.still.is_some();
    if of.still {
        return r.still.is_some();
    }
    if captions {
        return false;
    }
    match (of.pictures, of.sound) {
        (true, true) => true,
        (true, false) => pictures,
        // Of a film's preset the sound alone.
        _ => r.stream.is_none() && (r.audio.is_some() || r.waveform.is_some()),
    }
}

fn facts_of(path: &Path) -> Facts {
    facts::of(Box::new(File::open(path).unwrap())).unwrap()
}

fn codec_name(codec: VideoCodec) -> &'static str {
    match codec {
        VideoCodec::H264 | VideoCodec::Copy => "H.264",
        VideoCodec::Vp9 => "VP9",
        VideoCodec::Av1 | VideoCodec::Av1Ten => "AV1",
        VideoCodec::MotionJpeg => "Motion JPEG",
        VideoCodec::V210 => "uncompressed 10-bit 4:2:2",
        VideoCodec::Ffv1 => "FFV1",
        VideoCodec::Planes => "uncompressed 8-bit 4:2:0",
    }
}

/// Of a film or a sound: codecs, size, rate and length.
fn holds(made: &Facts, r: &Recipe, of: &Source, name: &str) {
    let seconds = made.duration.map_or(0.0, |d| d.seconds);
    if let Some(v) = r.video.as_ref().filter(|_| of.pictures) {
        let track = &made.video[0];
        assert_eq!(track.codec, codec_name(v.codec), "{name}");
        let (w, h) = v.fit;
        assert!(
            (w == 0 || track.width <= w) && (h == 0 || track.height <= h),
            "{name}: {}x{}",
            track.width,
            track.height
        );
        if let Some(rate) = v.frame_rate {
            assert_eq!(track.rate.as_ref().map(|r| r.num), Some(rate.num), "{name}");
        }
        let pace = v.pace.map_or(1.0, |p| f64::from(p) / 1000.0);
        assert!((seconds - SECONDS / pace).abs() < 0.25, "{name}: {seconds} s");
    } else {
        assert!(made.video.is_empty() && (seconds - SECONDS).abs() < 0.1, "{name}: {seconds} s");
    }
    let heard = r.audio.as_ref().is_some_and(|a| of.sound || a.silence);
    let quiet = of.pictures && r.video.as_ref().and_then(|v| v.pace).is_some();
    assert_eq!(!made.audio.is_empty(), heard && !quiet, "{name}: sound");
}

#[rstest]
fn every_preset_makes_what_it_says_or_says_why(
    #[values("film", "silent film", "fields", "sound", "still")] kind: &str,
) {
    let dir = tempfile::tempdir().unwrap();
    let of = source(dir.path(), kind);
    let to = dir.path().join("out");
    let all = shipped();
    let mut missing = Vec::new();
    for came in run(&of.path, &all, &to) {
        let name = format!("{} of {kind}", came.preset.name);
        let [part] = came.preset.parts.as_slice() else {
            assert!(came.end.err().unwrap().to_string().contains("transcribe"), "{name}");
            continue;
        };
        let recipe = &part.recipe.media;
        let wanted = part.recipe.transcript.is_none() && applies(recipe, &of);
        // Tracks that are not coded go as they are where the container holds them.
        let either = recipe.copies() && of.path.extension().is_some_and(|e| e != "mp4");
        match came.end {
            Ok((path, made)) => {
                assert!(wanted || either, "{name} was made: {}", path.display());
                if path.is_dir() {
                    assert!(std::fs::read_dir(&path).unwrap().count() > 0, "{name}");
                } else if recipe.still.is_some() || recipe.pictures.is_some() || recipe.waveform.is_some() {
                    assert!(made.size.is_none_or(|s| s.0 > 0 && s.1 > 0), "{name}");
                    assert!(!facts_of(&path).video.is_empty(), "{name}");
                } else if !recipe.copies() {
                    holds(&facts_of(&path), recipe, &of, &name);
                }
                let ending = path.extension().map(|e| e.to_string_lossy().into_owned());
                assert!(path.is_dir() || ending.as_deref() == Some(&part.extension), "{name}: {ending:?}");
            }
            Err(e) => {
                let why = e.to_string();
                assert!(why.len() > 10, "{name}: {why}");
                if wanted && !either {
                    missing.push(format!("{name}: {why}"));
                }
            }
        }
    }
    assert!(missing.is_empty(), "{missing:#?}");
    // Nothing half made lies about.
    let hidden = |e: &std::fs::DirEntry| e.file_name().to_string_lossy().starts_with('.');
    assert!(!std::fs::read_dir(&to).unwrap().any(|e| hidden(&e.unwrap())));
}

/// Every output has a sibling of the same preset when it is made again, and nothing is written over.
#[test]
fn what_is_made_twice_lies_side_by_side() {
    let dir = tempfile::tempdir().unwrap();
    let of = source(dir.path(), "film");
    let chosen: Vec<Arc<Preset>> = shipped()
        .into_iter()
        .filter(|p| ["web-720", "poster", "thumbnails", "podcast"].contains(&p.name.as_str()))
        .collect();
    let to = dir.path().join("out");
    let first: Vec<PathBuf> = run(&of.path, &chosen, &to).into_iter().map(|c| c.end.unwrap().0).collect();
    let before: Vec<u64> = first.iter().map(|p| std::fs::metadata(p).unwrap().len()).collect();
    let second: Vec<PathBuf> = run(&of.path, &chosen, &to).into_iter().map(|c| c.end.unwrap().0).collect();
    assert!(first.iter().zip(&second).all(|(a, b)| a != b));
    let after: Vec<u64> = first.iter().map(|p| std::fs::metadata(p).unwrap().len()).collect();
    assert_eq!((before, second.len()), (after, 4));
}

/// What is joined says of which file it cannot be done, and presets that take tracks as they are say that.
#[test]
fn what_cannot_be_joined_is_told_by_name() {
    let dir = tempfile::tempdir().unwrap();
    let of = source(dir.path(), "film");
    let still = source(dir.path(), "still").path;
    let all = shipped();
    let why = |other: &Path| match convert::plan_joined(&[of.path.clone(), other.to_owned()], &all) {
        Err(e) => e.to_string(),
        Ok(_) => panic!("planned"),
    };
    assert!(why(&still).contains("are not joined"));
    assert!(why(&dir.path().join("nothing.mov")).contains("nothing.mov"));
    assert!(why(dir.path()).contains(&*dir.path().to_string_lossy()));
    let planned = convert::plan_joined(&[of.path.clone(), of.path.clone()], &all).unwrap();
    for (preset, end) in &planned.each {
        let [part] = preset.parts.as_slice() else { continue };
        if part.recipe.media.copies() {
            assert!(end.as_ref().unwrap_err().contains("joined are decoded"), "{}: {end:?}", preset.name);
        }
    }
    assert!((planned.facts.duration.unwrap().seconds - 2.0 * SECONDS).abs() < 0.1);
}
