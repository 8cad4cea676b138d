//! What every filter on pictures must keep to, for every depth, chroma layout and odd size.

use super::frame::{Fill, Place, Rect};
use super::*;
use crate::track::TimecodeTrack;
use rstest::rstest;

fn steps(w: u32, h: u32) -> Vec<Step> {
    vec![
        Step::Deinterlace(Deinterlacing::default()),
        Step::Deinterlace(Deinterlacing { every_field: true, ..Default::default() }),
        Step::Unpull,
        Step::Rate(Ratio { num: 50, den: 1 }),
        Step::Rate(Ratio { num: 10, den: 1 }),
        Step::Crop(Rect { x: w / 3, y: h / 3, width: w.div_ceil(2), height: h.div_ceil(2) }),
        Step::Halve,
        Step::Scale { width: 9, height: 5, kernel: Kernel::Bilinear },
        Step::Scale { width: 70, height: 50, kernel: Kernel::Lanczos },
        Step::Blend(Ratio { num: 30, den: 1 }),
        Step::Denoise(500),
        Step::Sharpen(700),
        Step::Fade(Fading { up: 0, down: 0, end: 1 << 40 }),
        Step::Grade(Grading { to_hd: false, look: None }),
        Step::Flatten(Some([128; 3])),
        Step::Flatten(None),
        Step::Turn(90),
        Step::Turn(180),
        Step::Place(Place { width: w + 5, height: h + 8, fill: Fill::Black }),
        Step::Place(Place { width: w + 32, height: h + 2, fill: Fill::Blur }),
        Step::As(Wanted::PLAIN),
        Step::As(Wanted::JPEG),
        Step::As(Wanted::TEN_BITS),
        // Nothing is written: what it writes is not flat.
        Step::Burn(Box::new(Burning {
            burn: Burn::plain(""),
            code: TimecodeTrack::counting(Ratio { num: 25, den: 1 }),
        })),
    ]
}

pub fn form(width: u32, height: u32, chroma: Chroma, depth: u8) -> Form {
    Form {
        width,
        height,
        chroma,
        depth,
        colour: Colour { primaries: 1, transfer: 1, matrix: 1, full_range: false },
        fields: Fields::Progressive,
        pixel_shape: Ratio::ONE,
        rotation: 0,
        rate: Ratio::new(25, 1),
        timescale: 25_000,
    }
}

/// A gray that is the same in every form: nothing a filter does may change it.
fn flat(pool: &Pool, w: u32, h: u32, chroma: Chroma, depth: u8) -> VideoFrame {
    let mut f = VideoFrame::new(pool, w, h, chroma, depth).unwrap();
    f.colour = Colour { primaries: 1, transfer: 1, matrix: 1, full_range: false };
    for p in &mut f.planes {
        p.fill(128 << (depth - 8));
    }
    f
}

#[rstest]
fn every_filter_keeps_the_contract(
    #[values(8, 10, 12, 16)] depth: u8,
    #[values(Chroma::Gray, Chroma::C420, Chroma::C422, Chroma::C444, Chroma::Rgb, Chroma::Rgba)]
    chroma: Chroma,
    #[values((1, 1), (2, 3), (33, 17), (64, 48))] size: (u32, u32),
) {
    let (w, h) = size;
    let pool = Pool::new();
    let form = Form { fields: Fields::TopFirst, ..form(w, h, chroma, depth) };
    for step in steps(w, h) {
        let what = format!("{step:?} on {w}x{h} {chroma:?} {depth}-bit");
        let to = step.form(&form).unwrap_or_else(|e| panic!("{what}: {e}"));
        let mut filter = step.start(&form, &pool).unwrap_or_else(|e| panic!("{what}: {e}"));
        let mut out = Vec::new();
        for n in 0..10i64 {
            let frame = Arc::new(flat(&pool, w, h, chroma, depth));
            filter.push(Shown { frame, pts: n * 1000, duration: 1000 }, &mut out).unwrap();
        }
        filter.finish(&mut out).unwrap();
        let rate = to.rate.unwrap().value();
        assert!((out.len() as f64 - rate * 0.4).abs() <= 1.0, "{what}: {} pictures", out.len());
        assert!(out.windows(2).all(|s| s[0].pts + s[0].duration == s[1].pts), "{what}: times");
        let end = out.last().map(|s| (s.pts + s.duration) as f64 / f64::from(to.timescale));
        assert!((end.unwrap() - 0.4).abs() < 0.001, "{what}: ends at {end:?}");
        for s in &out {
            let f = &s.frame;
            let quarter = matches!(step, Step::Turn(90)) && chroma == Chroma::C422;
            assert_eq!((f.width, f.height, f.depth), (to.width, to.height, to.depth), "{what}");
            assert!(f.chroma == to.chroma || quarter, "{what}: {:?}", f.chroma);
            for (i, p) in f.planes.iter().enumerate() {
                let (pw, ph) = f.chroma.plane_size(i, f.width, f.height);
                assert_eq!((p.width, p.height), (pw, ph), "{what}");
                assert!(p.stride >= pw as usize);
            }
        }
        // What is beside a placed picture is another colour, and gray of red, green and blue is told in other words.
        let same = !matches!(step, Step::Place(_) | Step::As(_) | Step::Flatten(Some(_)));
        for p in out.iter().flat_map(|s| &s.frame.planes).filter(|_| same) {
            let v = 128 << (depth - 8);
            assert!((0..p.height).all(|y| (0..p.width).all(|x| p.at(x, y) == v)), "{what}: not flat");
        }
    }
}

/// A stream that changes its form midway is gone on with, or refused with words; it never breaks a filter.
#[rstest]
fn a_change_midway_breaks_nothing(
    #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22)] which: usize,
) {
    let pool = Pool::new();
    let first = flat(&pool, 64, 48, Chroma::C420, 8);
    let form = Form {
        width: 64,
        height: 48,
        chroma: Chroma::C420,
        depth: 8,
        colour: first.colour,
        fields: Fields::TopFirst,
        pixel_shape: Ratio::ONE,
        rotation: 0,
        rate: None,
        timescale: 25,
    };
    let mut filter = steps(64, 48)[which].start(&form, &pool).unwrap();
    let others = [
        first,
        flat(&pool, 20, 100, Chroma::C422, 10),
        flat(&pool, 128, 96, Chroma::Rgba, 16),
        flat(&pool, 1, 1, Chroma::Gray, 8),
    ];
    let mut out = Vec::new();
    for (n, f) in others.into_iter().enumerate() {
        let shown = Shown { frame: Arc::new(f), pts: n as i64, duration: 1 };
        if let Err(e) = filter.push(shown, &mut out) {
            assert_eq!(e.class(), "setting", "{e}");
        }
    }
    filter.finish(&mut out).unwrap();
}
