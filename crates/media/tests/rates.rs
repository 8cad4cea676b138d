//! How many bits pictures get, held against what was asked for by reading the file that was made.

mod room;

use media::container::wrap::Wrap;
use media::container::{self, Demux};
use media::frame::{Chroma, Pool, VideoFrame};
use media::plan::plan;
use media::recipe::*;
use media::run::{self, Control};
use room::{Room, all_of, film, target};
use rstest::rstest;
use std::fs::File;
use std::path::Path;

const FPS: usize = 25;

/// Five scenes of six seconds, from one that hardly moves to one of noise: as Y4M.
fn film_of_scenes(path: &Path) {
    let (w, h) = (192usize, 112usize);
    let mut bytes = format!("YUV4MPEG2 W{w} H{h} F{FPS}:1 Ip A1:1 C420mpeg2\n").into_bytes();
    for n in 0..5 * 6 * FPS {
        let (scene, t) = (n / (6 * FPS), (n % (6 * FPS)) as f32);
        let speed = [0.0, 0.4, 2.0, 5.0, 3.0][scene];
        let noise = [0, 4, 10, 20, 60][scene];
        bytes.extend(b"FRAME\n");
        for (pw, ph) in [(w, h), (w / 2, h / 2), (w / 2, h / 2)] {
            for (y, x) in (0..ph).flat_map(|y| (0..pw).map(move |x| (y, x))) {
                let wave = ((x as f32 + t * speed) * 0.21 + scene as f32).sin() * (y as f32 * 0.17).cos();
                let dice = (x * 7919 + y * 104_729 + n * 15_485_863 + (x * y) % 977 * 31) as u32;
                let rain = (dice.wrapping_mul(2_654_435_761) >> 24) as i32 * noise / 256 - noise / 2;
                bytes.push(((120.0 + 60.0 * wave) as u8).saturating_add_signed(rain.clamp(-60, 60) as i8));
            }
        }
    }
    std::fs::write(path, bytes).unwrap();
}

struct Made {
    /// Bits of each picture, and whether it is a key picture.
    pictures: Vec<(f64, bool)>,
    frames: Vec<VideoFrame>,
}

fn make(room: &Room, rate: BitRecipe, n: usize) -> Made {
    let open = || container::open(Box::new(File::open(&room.source).unwrap()));
    let mut demux = open().unwrap();
    let recipe = film(Some(VideoRecipe { rate, ..VideoRecipe::default() }), None, Some(Wrap::Mkv));
    let mut plan = plan(demux.tracks(), &[recipe]).unwrap();
    run::look_ahead(&mut || open(), &mut plan, &Control::new(1)).unwrap();
    let to = room.path(n);
    run::run(demux.as_mut(), &plan, vec![target(&to, false)], &Control::new(1)).unwrap().remove(0).unwrap();
    let mut made = container::open(Box::new(File::open(&to).unwrap())).unwrap();
    let mut pictures = Vec::new();
    while let Some(p) = made.next_packet().unwrap() {
        pictures.push((p.data.len() as f64 * 8.0, p.key));
    }
    Made { pictures, frames: all_of(&to).0.into_iter().map(|p| p.1).collect() }
}

fn scenes() -> Room {
    let dir = tempfile::tempdir().unwrap();
    let source = dir.path().join("scenes.y4m");
    film_of_scenes(&source);
    Room { dir, source }
}

fn steered(average: Option<u32>, quality: Option<u8>, most: Option<Most>, twice: bool) -> BitRecipe {
    BitRecipe::Steered(Steered { average, quality, most, twice })
}

fn rate_of(pictures: &[(f64, bool)]) -> f64 {
    pictures.iter().map(|p| p.0).sum::<f64>() * FPS as f64 / pictures.len() as f64
}

/// The worst of the scenes, in dB.
fn worst(made: &Made, source: &Room) -> f64 {
    let (own, ..) = all_of(&source.source);
    let each: Vec<f64> =
        made.frames.iter().zip(&own).map(|(a, (_, b))| media::testkit::psnr(a, b).min(60.0)).collect();
    each.chunks(6 * FPS).map(|s| s.iter().sum::<f64>() / s.len() as f64).fold(f64::INFINITY, f64::min)
}

#[test]
fn an_average_is_kept_and_a_first_pass_shares_it_out_better() {
    let room = scenes();
    let (once, twice) = (
        make(&room, BitRecipe::Average(400_000), 0),
        make(&room, steered(Some(400_000), None, None, true), 1),
    );
    assert_eq!((once.pictures.len(), twice.pictures.len()), (750, 750));
    let (a, b) = (rate_of(&once.pictures) / 400_000.0, rate_of(&twice.pictures) / 400_000.0);
    assert!((0.85..1.1).contains(&a), "{a} of the rate in one pass");
    assert!((0.95..1.05).contains(&b), "{b} of the rate in two");
    let (w1, w2) = (worst(&once, &room), worst(&twice, &room));
    assert!(w2 > w1 - 0.2, "the worst scene: {w1:.1} dB in one pass, {w2:.1} in two");
    // A cut between scenes is a key picture, wherever it lies.
    for scene in 1..5 {
        assert!(once.pictures[scene * 6 * FPS].1, "scene {scene}");
    }
}

/// Counted as a player does whose buffer fills evenly: what a picture needs is there when it is its turn.
#[rstest]
#[case::of_an_average(Some(300_000), None, false)]
#[case::shared_out(Some(300_000), None, true)]
#[case::of_a_quality(None, Some(75), false)]
fn a_limit_holds_at_every_picture(
    #[case] average: Option<u32>,
    #[case] quality: Option<u8>,
    #[case] twice: bool,
) {
    let room = scenes();
    let most = Most { bits: 500_000, buffer_ms: 1000 };
    let made = make(&room, steered(average, quality, Some(most), twice), 0);
    let (size, flow) = (f64::from(most.bits), f64::from(most.bits) / FPS as f64);
    let mut held = size;
    let mut short = 0;
    for (bits, _) in &made.pictures {
        short += usize::from(*bits > held);
        held = (held - bits).max(0.0) + flow;
        held = held.min(size);
    }
    assert!(short == 0, "{short} pictures came too late");
    if quality.is_some() {
        let free = make(&room, BitRecipe::Quality(75), 1);
        assert!(rate_of(&free.pictures) > 1.2 * rate_of(&made.pictures), "the limit is none");
    }
}

/// More quality is more bits; and a quality spends less where movement hides than the same quantiser everywhere does.
#[test]
fn a_quality_moves_the_quantiser_with_the_pictures() {
    let room = scenes();
    let [low, middle, high] =
        [40, 60, 80].map(|q| rate_of(&make(&room, BitRecipe::Quality(q), usize::from(q)).pictures));
    assert!(low * 1.3 < middle && middle * 1.3 < high, "{low:.0}, {middle:.0}, {high:.0} bit/s");
    let quality = make(&room, BitRecipe::Quality(60), 1);
    let same = make(&room, BitRecipe::Quantiser(quantiser_of(60)), 2);
    let share = |m: &Made| {
        let bits =
            |from: usize| m.pictures[from * 6 * FPS..(from + 1) * 6 * FPS].iter().map(|p| p.0).sum::<f64>();
        bits(4) / bits(1)
    };
    assert!(
        share(&quality) < share(&same),
        "noise takes {} of the calm, {} before",
        share(&quality),
        share(&same)
    );
}

/// Pictures of one gray, of one sample's side and of odd forms break nothing, and cost next to nothing.
#[test]
fn what_is_flat_or_small_is_no_division_by_nothing() {
    use media::codec::h264::control::{Aim, Control, Looker};
    for (w, h, depth) in [(16, 16, 8), (1, 1, 8), (3, 500, 10), (640, 360, 8)] {
        let mut f = VideoFrame::new(&Pool::new(), w, h, Chroma::C420, depth).unwrap();
        for p in &mut f.planes {
            let (pw, ph) = (p.width as usize, p.height as usize);
            (0..ph).flat_map(|y| (0..pw).map(move |x| (x, y))).for_each(|(x, y)| p.put(x, y, 100));
        }
        let mut looker = Looker::default();
        let (a, b) = (looker.look(&f), looker.look(&f));
        assert_eq!((a.alone, b.behind), (0.0, 0.0));
        for aim in [Aim::Average(32_000), Aim::Quality(1), Aim::Quality(100)] {
            let cap = Some(Most { bits: 32_000, buffer_ms: 100 });
            let mut control = Control::new((aim, cap), (w, h), (f64::NAN, 0, false), None, b"nonsense");
            for n in 0..100 {
                let (quantiser, key) = control.next(&f, n, n == 0);
                assert!((10..=51).contains(&quantiser));
                control.took(if n % 7 == 0 { 100_000 } else { 0 }, key);
            }
            let (state, mut other) = (
                control.memory(),
                Control::new((aim, cap), (w, h), (f64::NAN, 0, false), None, &control.memory()),
            );
            assert_eq!(other.memory(), state);
            assert_eq!(other.next(&f, 100, true).0, control.next(&f, 100, true).0);
        }
    }
}
