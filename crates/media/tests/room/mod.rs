//! A source in a folder of its own, and what is made of it.

#![allow(dead_code)]

use media::check;
use media::container::wrap::{Target, Wrap};
use media::container::{self, Demux};
use media::facts::{self, Facts};
use media::frame::Pool;
use media::plan::plan;
use media::read::{Got, Reader};
use media::recipe::*;
use media::run::{self, Control, Made};
use media::testkit::{Clip, write_clip};
use std::fs::File;
use std::path::{Path, PathBuf};

pub struct Room {
    pub dir: tempfile::TempDir,
    pub source: PathBuf,
}

impl Room {
    pub fn with(clip: &Clip) -> Room {
        let dir = tempfile::tempdir().unwrap();
        let source = dir.path().join("source.mp4");
        write_clip(clip, Box::new(new_file(&source))).unwrap();
        Room { dir, source }
    }

    /// Of a file that is there.
    pub fn of(path: &Path) -> Room {
        Room { dir: tempfile::tempdir().unwrap(), source: path.to_owned() }
    }

    pub fn path(&self, n: usize) -> PathBuf {
        self.dir.path().join(format!("out-{n}"))
    }

    /// Makes all and reads each back.
    pub fn make(&self, recipes: &[Recipe]) -> Vec<Made> {
        let open = || container::open(Box::new(File::open(&self.source).unwrap()));
        let mut demux = open().unwrap();
        let mut plan = plan(demux.tracks(), recipes).unwrap();
        let control = Control::new(recipes.len());
        run::measure(&mut || open(), &mut plan, &control).unwrap();
        let targets = plan.outputs.iter().enumerate().map(|(n, o)| target(&self.path(n), o.is_folder()));
        let made = run::run(demux.as_mut(), &plan, targets.collect(), &control).unwrap();
        let made: Vec<Made> = made.into_iter().map(|m| m.unwrap()).collect();
        let is_film = |n: usize| plan.outputs[n].film().is_some();
        for (n, m) in made.iter().enumerate().filter(|(n, _)| is_film(*n)) {
            check::output(Box::new(File::open(self.path(n)).unwrap()), m, &Default::default())
                .unwrap_or_else(|e| panic!("output {n}: {e}"));
        }
        made
    }

    pub fn facts(&self, n: usize) -> Facts {
        facts::of(Box::new(File::open(self.path(n)).unwrap())).unwrap()
    }
}

pub fn target(path: &Path, is_folder: bool) -> Target {
    if is_folder {
        std::fs::create_dir(path).unwrap();
        return Target::Folder(Box::new(path.to_owned()));
    }
    Target::File(Box::new(new_file(path)))
}

pub fn new_file(path: &Path) -> File {
    File::options().read(true).write(true).create(true).truncate(true).open(path).unwrap()
}

/// Pictures with their times in seconds, and the first sound track with the time of its first sample.
pub fn all_of(path: &Path) -> (Vec<(f64, media::frame::VideoFrame)>, Vec<f32>, f64, u16) {
    let demux = container::open(Box::new(File::open(path).unwrap())).unwrap();
    let tracks = demux.tracks().to_vec();
    let wanted: Vec<usize> =
        (0..tracks.len()).filter(|&i| tracks[i].video().is_some() || tracks[i].audio().is_some()).collect();
    let mut reader = Reader::new(demux, &wanted, &Pool::new()).unwrap();
    let (mut pictures, mut sound, mut first, mut channels) = (Vec::new(), Vec::new(), None, 0);
    while let Some(got) = reader.next_one().unwrap() {
        match got {
            Got::Picture { track, frame } => {
                pictures.push((frame.pts as f64 / f64::from(tracks[track].timescale), frame));
            }
            Got::Sound { frame, .. } => {
                first.get_or_insert(frame.pts as f64 / f64::from(frame.rate));
                channels = frame.channels;
                sound.extend(frame.samples);
            }
            Got::Lost { .. } => panic!("a picture is lost"),
            Got::Packet(_) => panic!("a packet that nobody asked for"),
        }
    }
    (pictures, sound, first.unwrap_or(0.0), channels)
}

pub fn film(video: Option<VideoRecipe>, audio: Option<AudioCodec>, wrap: Option<Wrap>) -> Recipe {
    Recipe {
        wrap,
        video,
        audio: audio.map(|codec| AudioRecipe { codec, ..AudioRecipe::default() }),
        ..Recipe::default()
    }
}

/// Shift in samples at which two sounds of one channel are most alike.
pub fn shift(a: &[f32], b: &[f32]) -> i64 {
    let n = a.len().min(b.len()) as i64;
    let like = |s: i64| -> f64 {
        (3_000..n - 3_000).step_by(2).map(|i| f64::from(a[i as usize]) * f64::from(b[(i + s) as usize])).sum()
    };
    (-1500..=1500).max_by(|x, y| like(*x).total_cmp(&like(*y))).unwrap()
}

pub fn mono(samples: &[f32], channels: u16) -> Vec<f32> {
    samples.iter().step_by(channels.into()).copied().collect()
}
