//! Whole transcodes, on clips made in code and on real ones.

use media::container::wrap::Target;
use media::container::{self, Demux};
use media::facts::{self, Facts};
use media::frame::{Pool, VideoFrame};
use media::recipe::{AudioRecipe, Recipe, VideoRecipe};
use media::run::{Control, Made};
use media::testkit::{Clip, psnr, write_clip};
use media::units::Ratio;
use media::{check, codec, plan, run};
use rstest::rstest;
use std::fs::File;
use std::path::{Path, PathBuf};

fn proxy(fit: (u32, u32)) -> Recipe {
    Recipe {
        video: Some(VideoRecipe { fit, ..VideoRecipe::default() }),
        audio: Some(AudioRecipe::default()),
        ..Recipe::default()
    }
}

fn open(path: &Path) -> Box<dyn Demux> {
    container::open(Box::new(File::open(path).unwrap())).unwrap()
}

fn facts_of(path: &Path) -> Facts {
    facts::of(Box::new(File::open(path).unwrap())).unwrap()
}

fn transcode(from: &Path, to: &[&Path], recipes: &[Recipe]) -> media::Result<Vec<Made>> {
    let mut demux = open(from);
    let plan = plan::plan(demux.tracks(), recipes)?;
    let sinks = to
        .iter()
        .map(|p| {
            let file = File::options().read(true).write(true).create(true).truncate(true).open(p);
            Target::File(Box::new(file.unwrap()))
        })
        .collect();
    let control = Control::new(to.len());
    let made = run::run(demux.as_mut(), &plan, sinks, &control)?;
    let made = made.into_iter().collect::<media::Result<Vec<_>>>()?;
    for (m, p) in made.iter().zip(to) {
        check::output(Box::new(File::open(p).unwrap()), m, &Default::default())?;
    }
    Ok(made)
}

fn real(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/real").join(name)
}

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
    out
}

fn sound(path: &Path) -> Vec<f32> {
    let mut d = open(path);
    let i = d.tracks().iter().position(|t| t.audio().is_some()).unwrap();
    let mut decoder = codec::audio_decoder(&d.tracks()[i]).unwrap();
    let channels = usize::from(d.tracks()[i].audio().unwrap().channels);
    d.choose(&[i]);
    let mut out = Vec::new();
    while let Some(p) = d.next_packet().unwrap() {
        let mut f = decoder.decode(&p).unwrap();
        if p.shown {
            f.trim(p.trim_start as usize, 0);
            f.trim(0, f.len().saturating_sub(p.keep.map_or(f.len(), |k| k as usize)));
            out.extend(f.samples.iter().step_by(channels));
        }
    }
    out
}

/// Shift in samples at which two sounds are most alike, and how alike they are then.
fn alignment(a: &[f32], b: &[f32]) -> (i64, f32) {
    let n = a.len().min(b.len()).min(200_000);
    let like = |shift: i64| {
        let (mut ab, mut aa, mut bb) = (0.0f64, 0.0f64, 0.0f64);
        for i in (2_000..n as i64 - 2_000).step_by(3) {
            let (x, y) = (f64::from(a[i as usize]), f64::from(b[(i + shift) as usize]));
            (ab, aa, bb) = (ab + x * y, aa + x * x, bb + y * y);
        }
        (ab / (aa * bb).sqrt().max(1e-12)) as f32
    };
    (-1200..=1200).map(|s| (s, like(s))).max_by(|x, y| x.1.total_cmp(&y.1)).unwrap()
}

#[rstest]
#[case::pal(Clip { rate: Ratio { num: 25, den: 1 }, ..Clip::default() })]
#[case::ntsc(Clip { rate: Ratio { num: 30_000, den: 1001 }, timecode: 107_892, drop_frame: true, ..Clip::default() })]
#[case::fast(Clip { rate: Ratio { num: 60, den: 1 }, width: 640, height: 352, ..Clip::default() })]
#[case::on_its_side(Clip { rotation: 90, reel: Some("A014".into()), ..Clip::default() })]
fn a_proxy_keeps_rate_count_start_and_timecode(#[case] clip: Clip) {
    let dir = tempfile::tempdir().unwrap();
    let (source, out) = (dir.path().join("in.mp4"), dir.path().join("out.mp4"));
    write_clip(
        &clip,
        Box::new(File::options().read(true).write(true).create_new(true).open(&source).unwrap()),
    )
    .unwrap();
    transcode(&source, &[&out], &[proxy((200, 200))]).unwrap();
    let (a, b) = (facts_of(&source), facts_of(&out));
    let (va, vb) = (a.picture().unwrap(), b.picture().unwrap());
    assert_eq!((va.frames, va.rate, va.duration, va.start), (vb.frames, vb.rate, vb.duration, vb.start));
    assert_eq!(va.rotation, vb.rotation);
    assert_eq!(vb.width.max(vb.height), 200);
    assert_eq!(a.timecode, b.timecode);
    assert_eq!(a.audio[0].duration, b.audio[0].duration);
    let (shift, alike) = alignment(&sound(&source), &sound(&out));
    assert!(shift == 0 && alike > 0.97, "sound is {shift} samples off, likeness {alike}");
}

#[test]
fn one_pass_makes_several_outputs_with_the_same_pictures() {
    let dir = tempfile::tempdir().unwrap();
    let path = |n: &str| dir.path().join(n);
    write_clip(
        &Clip::default(),
        Box::new(File::options().read(true).write(true).create_new(true).open(path("in.mp4")).unwrap()),
    )
    .unwrap();
    let sound_only = Recipe { audio: proxy((0, 0)).audio, ..Recipe::default() };
    let made = transcode(
        &path("in.mp4"),
        &[&path("a.mp4"), &path("b.mp4"), &path("c.m4a")],
        &[proxy((0, 0)), proxy((160, 90)), sound_only],
    )
    .unwrap();
    assert_eq!(made.iter().map(|m| m.frames).collect::<Vec<_>>(), [50, 50, 0]);
    let (source, full) = (pictures(&path("in.mp4")), pictures(&path("a.mp4")));
    assert_eq!(source.len(), full.len());
    let worst = source.iter().zip(&full).map(|(a, b)| psnr(a, b)).fold(f64::INFINITY, f64::min);
    assert!(worst > 33.0, "{worst} dB");
    assert_eq!(facts_of(&path("c.m4a")).kind, facts::Kind::Audio);
}

#[rstest]
#[case("same-clip/demo.mp4", 0)]
#[case("same-clip/demo.mov", 0)]
#[case("timecode/linear_speed_effects_aaf.mov", 0)]
#[case("timecode/misc_speed_effects_aaf.mov", 0)]
fn real_clips_of_other_encoders_come_out_whole(#[case] name: &str, #[case] lost: usize) {
    let source = real(name);
    let dir = tempfile::tempdir().unwrap();
    let out = dir.path().join("out.mp4");
    let made = transcode(&source, &[&out], &[proxy((960, 540))]).unwrap();
    let (a, b) = (facts_of(&source), facts_of(&out));
    let (va, vb) = (a.picture().unwrap(), b.picture().unwrap());
    assert_eq!((va.frames, va.rate, va.start), (vb.frames, vb.rate, vb.start), "{made:?}");
    assert_eq!(made[0].notes.len(), lost, "{:?}", made[0].notes);
    assert_eq!(a.audio.len(), b.audio.len());
    assert_eq!(a.timecode, b.timecode);
    if !a.audio.is_empty() {
        let (x, y) = (sound(&source), sound(&out));
        if x.iter().all(|v| v.abs() < 1e-4) {
            // One of these clips is silent, and stays so.
            assert!(y.iter().all(|v| v.abs() < 1e-3));
            return;
        }
        let (shift, alike) = alignment(&x, &y);
        assert!(shift.abs() <= 2 && alike > 0.95, "{name}: {shift} samples off, likeness {alike}");
    }
}

/// Larger than what is looked through at first: length from the end of the file, and every frame in the output.
#[test]
fn a_large_transport_stream_is_measured_at_its_end_and_made_whole() {
    let dir = tempfile::tempdir().unwrap();
    let path = |n: &str| dir.path().join(n);
    let create =
        |p: PathBuf| Box::new(File::options().read(true).write(true).create_new(true).open(p).unwrap());
    let clip = Clip { width: 320, height: 180, frames: 300, quantiser: 12, sound: None, ..Clip::default() };
    write_clip(&clip, create(path("in.mp4"))).unwrap();
    let mut d = open(&path("in.mp4"));
    let sets = media::codec::h264::Config::parse(&d.tracks()[0].setup).unwrap();
    d.choose(&[0]);
    let mut pictures = Vec::new();
    while let Some(p) = d.next_packet().unwrap() {
        let units = media::codec::h264::nal_units(&p.data, 4).map(|u| u.unwrap().to_vec());
        let all = sets.sps.iter().chain(&sets.pps).filter(|_| p.key).cloned().chain(units);
        // Filler data (unit type 12) makes it large.
        let filler = [vec![12], vec![0xff; 60_000], vec![0x80]].concat();
        let stream: Vec<u8> = all.chain([filler]).flat_map(|u| [vec![0, 0, 0, 1], u].concat()).collect();
        pictures.push((pictures.len() as u64 * 3600, stream));
    }
    let bytes = media::testkit::wrap::transport(&pictures, &[], 188);
    assert!(bytes.len() > 16 << 20, "{} bytes", bytes.len());
    std::fs::write(path("in.ts"), bytes).unwrap();
    let f = facts_of(&path("in.ts"));
    let v = f.picture().unwrap();
    assert_eq!((v.rate, v.constant_rate, v.frames), (Ratio::new(25, 1), true, None));
    assert_eq!(v.duration.exact, media::units::Time::new(300, 25));
    let made = transcode(&path("in.ts"), &[&path("out.mp4")], &[proxy((160, 90))]).unwrap();
    assert_eq!(made[0].frames, 300);
    let out = facts_of(&path("out.mp4"));
    assert_eq!((out.video[0].frames, out.video[0].duration.exact), (Some(300), v.duration.exact));
}

/// A packet of which nothing can be decoded is shown as the picture before it, and the count holds.
#[test]
fn damaged_packets_are_counted_and_the_length_stays() {
    let dir = tempfile::tempdir().unwrap();
    let (source, out) = (dir.path().join("in.mp4"), dir.path().join("out.mp4"));
    write_clip(
        &Clip { frames: 120, ..Clip::default() },
        Box::new(File::options().read(true).write(true).create_new(true).open(&source).unwrap()),
    )
    .unwrap();
    let mut bytes = std::fs::read(&source).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle..middle + 3000].fill(0xA5);
    std::fs::write(&source, bytes).unwrap();
    let made = transcode(&source, &[&out], &[proxy((0, 0))]).unwrap();
    assert_eq!(made[0].frames, 120);
    assert!(!made[0].notes.is_empty());
}

#[test]
fn a_stopped_run_ends_with_stopped() {
    let dir = tempfile::tempdir().unwrap();
    let (source, out) = (dir.path().join("in.mp4"), dir.path().join("out.mp4"));
    let create =
        |p: &Path| Box::new(File::options().read(true).write(true).create_new(true).open(p).unwrap());
    write_clip(&Clip::default(), create(&source)).unwrap();
    let mut demux = open(&source);
    let plan = plan::plan(demux.tracks(), &[proxy((0, 0))]).unwrap();
    let control = Control::new(1);
    control.stop();
    let e = run::run(demux.as_mut(), &plan, vec![Target::File(create(&out))], &control).unwrap_err();
    assert_eq!(e.class(), "stopped");
}
