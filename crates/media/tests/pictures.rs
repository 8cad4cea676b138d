//! Several pictures of one film, writing in pictures, and a picture of the sound.

mod room;

use image::{AnimationDecoder, RgbImage};
use media::container::wrap::Wrap;
use media::container::{Demux, Source};
use media::filter::video::burn::TIMECODE;
use media::filter::video::{Burn, Side};
use media::frame::Chroma;
use media::plan::plan;
use media::recipe::*;
use media::run::{self, Control};
use media::still;
use media::testkit::Clip;
use media::units::Ratio;
use room::{Room, all_of, film};
use rstest::rstest;
use std::io::Cursor;
use std::path::Path;

fn pictures(kind: PicturesKind, fit: (u32, u32)) -> Recipe {
    let format = StillChoice::Png;
    Recipe {
        pictures: Some(PicturesRecipe { kind, fit, format, burn: Vec::new(), alpha: Alpha::default() }),
        ..Recipe::default()
    }
}

fn image(path: &Path) -> RgbImage {
    let bytes = std::fs::read(path).unwrap();
    image::load_from_memory(&bytes).unwrap().to_rgb8()
}

/// Mean brightness of a part of a picture.
fn mean(p: &RgbImage, (x, y, w, h): (u32, u32, u32, u32)) -> f64 {
    let part = image::imageops::crop_imm(p, x, y, w, h).to_image();
    part.as_raw().iter().map(|v| f64::from(*v)).sum::<f64>() / part.as_raw().len() as f64
}

/// 150 pictures, each as bright as its number: found again wherever it is shown.
fn stairs() -> Room {
    let room = Room::with(&Clip::default());
    let mut bytes = b"YUV4MPEG2 W128 H72 F25:1 Ip A1:1 C420jpeg\n".to_vec();
    for n in 0..150u32 {
        bytes.extend(b"FRAME\n");
        bytes.extend(vec![(40 + n) as u8; 128 * 72]);
        bytes.extend([128; 64 * 36 * 2]);
    }
    std::fs::write(&room.source, bytes).unwrap();
    room
}

/// What a picture of that number looks like when shown: from limited to full range.
fn bright(number: f64) -> f64 {
    (40.0 + number - 16.0) * 255.0 / 219.0
}

#[rstest]
#[case(3, 2)]
#[case(5, 4)]
#[case(1, 1)]
fn a_sheet_has_pictures_of_the_whole_film_in_order(#[case] columns: u32, #[case] rows: u32) {
    let room = stairs();
    let kind = PicturesKind::Sheet { columns, rows, title: "stairs".into() };
    let made = room.make(&[pictures(kind, (64, 0))]);
    let sheet = image(&room.path(0));
    assert_eq!(made[0].size, Some(sheet.dimensions()));
    assert_eq!(made[0].frames, u64::from(columns * rows));
    let (w, gap) = (64, 2);
    assert_eq!(sheet.width(), columns * (w + gap) + gap);
    let top = sheet.height() - (rows * (36 + gap) + gap);
    assert!(top > 10, "a title stands above");
    for n in 0..columns * rows {
        let at = (gap + n % columns * (w + gap) + 4, top + gap + n / columns * (36 + gap) + 4, 40, 20);
        let want = bright(((f64::from(n) + 0.5) * 150.0 / f64::from(columns * rows)).floor());
        assert!((mean(&sheet, at) - want).abs() < 4.0, "picture {n}: {}, not {want}", mean(&sheet, at));
    }
}

#[rstest]
#[case(Some(1000), 6)]
#[case(Some(400), 15)]
#[case(None, 150)]
fn a_run_has_a_file_for_each(#[case] every_ms: Option<u64>, #[case] count: usize) {
    let room = stairs();
    let made = room.make(&[pictures(PicturesKind::Run { every_ms }, (0, 0))]);
    assert_eq!(made[0].frames as usize, count);
    let mut names: Vec<_> = std::fs::read_dir(room.path(0)).unwrap().map(|e| e.unwrap().path()).collect();
    names.sort();
    assert_eq!(names.len(), count);
    for (n, path) in names.iter().enumerate() {
        assert!(path.ends_with(format!("{:06}.png", n + 1)));
        let p = image(path);
        assert_eq!(p.dimensions(), (128, 72));
        let want = bright(n as f64 * every_ms.unwrap_or(40) as f64 / 40.0);
        assert!((mean(&p, (0, 0, 128, 72)) - want).abs() < 1.5, "file {n}");
    }
}

/// The index leads to the picture of each moment, as a player follows it.
#[test]
fn thumbnails_are_found_by_their_index() {
    let room = stairs();
    let kind = PicturesKind::Strip { every_ms: 400, columns: 3, rows: 2 };
    let made = room.make(&[pictures(kind, (32, 0))]);
    assert_eq!((made[0].frames, made[0].size), (15, Some((32, 18))));
    let index = std::fs::read_to_string(room.path(0).join("thumbnails.vtt")).unwrap();
    let cues: Vec<&str> = index.split("\n\n").skip(1).collect();
    assert!(index.starts_with("WEBVTT\n") && cues.len() == 15);
    for (n, cue) in cues.iter().enumerate() {
        let (times, target) = cue.trim().split_once('\n').unwrap();
        let ms = |n: usize| format!("00:00:{:02}.{:03}", n * 400 / 1000, n * 400 % 1000);
        assert_eq!(times, format!("{} --> {}", ms(n), ms(n + 1)));
        let (file, part) = target.split_once("#xywh=").unwrap();
        let at: Vec<u32> = part.split(',').map(|v| v.parse().unwrap()).collect();
        let sheet = image(&room.path(0).join(file));
        let found = mean(&sheet, (at[0], at[1], at[2], at[3]));
        assert!((found - bright(n as f64 * 10.0)).abs() < 2.0, "cue {n}: {found}");
    }
    // The last sheet has no empty rows.
    assert_eq!(image(&room.path(0).join("thumbnails-003.png")).dimensions(), (96, 18));
}

#[test]
fn a_preview_moves_through_the_whole_film() {
    let room = stairs();
    let kind = PicturesKind::Preview { pieces: 3, piece_ms: 500, rate: 8, form: Moving::Gif };
    let made = room.make(&[pictures(kind, (64, 0))]);
    assert_eq!((made[0].frames, made[0].size), (12, Some((64, 36))));
    let mut reader = gif::DecodeOptions::new();
    reader.set_color_output(gif::ColorOutput::RGBA);
    let mut reader = reader.read_info(std::fs::File::open(room.path(0)).unwrap()).unwrap();
    let mut found = Vec::new();
    while let Some(frame) = reader.read_next_frame().unwrap() {
        assert_eq!(frame.delay, 12);
        found.push(f64::from(frame.buffer[0]));
    }
    assert_eq!(found.len(), 12);
    for (n, v) in found.iter().enumerate() {
        let seconds = 1.0 + (n / 4) as f64 * 2.0 - 0.25 + (n % 4) as f64 / 8.0;
        assert!((v - bright((seconds * 25.0).floor())).abs() < 5.0, "picture {n}: {v}");
    }
}

#[test]
fn a_preview_as_webp_has_the_same_pictures() {
    let room = stairs();
    let form = Moving::Webp(80);
    let kind = PicturesKind::Preview { pieces: 3, piece_ms: 500, rate: 8, form };
    let made = room.make(&[pictures(kind, (64, 0))]);
    assert_eq!((made[0].frames, made[0].size, made[0].seconds), (12, Some((64, 36)), 1.5));
    let file = std::io::BufReader::new(std::fs::File::open(room.path(0)).unwrap());
    let frames = image::codecs::webp::WebPDecoder::new(file).unwrap().into_frames().collect_frames().unwrap();
    assert_eq!(frames.len(), 12);
    for (n, f) in frames.iter().enumerate() {
        assert_eq!(f.delay().numer_denom_ms(), (125, 1));
        let seconds = 1.0 + (n / 4) as f64 * 2.0 - 0.25 + (n % 4) as f64 / 8.0;
        let v = f64::from(f.buffer().get_pixel(20, 20)[0]);
        assert!((v - bright((seconds * 25.0).floor())).abs() < 4.0, "picture {n}: {v}");
    }
}

/// A film that can be seen through on its right.
fn half_seen(pictures: u64) -> still::run::Run {
    let picture = image::RgbaImage::from_fn(64, 64, |x, _| match x < 32 {
        true => image::Rgba([200, 30, 30, 255]),
        false => image::Rgba([0, 0, 0, 0]),
    });
    let mut png = Cursor::new(Vec::new());
    picture.write_to(&mut png, image::ImageFormat::Png).unwrap();
    let frame =
        move |_| -> media::Result<Box<dyn Source>> { Ok(Box::new(Cursor::new(png.get_ref().clone()))) };
    let rate = Ratio { num: 25, den: 1 };
    still::run::Run::with_numbers(Box::new(frame), (1..=pictures).collect(), rate).unwrap()
}

/// A film that can be seen through on its right: the ground is seen there, or it stays so.
#[rstest]
#[case(AlphaWay::Keep, [255, 255, 255])]
#[case(AlphaWay::Fill, [255, 255, 255])]
#[case(AlphaWay::Drop, [0, 0, 0])]
fn a_film_that_can_be_seen_through(#[case] way: AlphaWay, #[case] behind: [u8; 3]) {
    let room = Room::with(&Clip::default());
    let mut demux = half_seen(3);
    let alpha = Alpha { way, ground: [255; 3] };
    let run =
        PicturesRecipe { alpha, ..pictures(PicturesKind::Run { every_ms: None }, (32, 0)).pictures.unwrap() };
    let jpeg = PicturesRecipe { format: StillChoice::Jpeg(95), ..run.clone() };
    let recipes = [run, jpeg].map(|p| Recipe { pictures: Some(p), ..Recipe::default() });
    let plan = plan(demux.tracks(), &recipes).unwrap();
    let targets = (0..2).map(|n| room::target(&room.path(n), true)).collect();
    let control = Control::new(2);
    run::run(&mut demux, &plan, targets, &control).unwrap().into_iter().for_each(|m| assert!(m.is_ok()));
    let first = |n: usize| std::fs::read_dir(room.path(n)).unwrap().map(|e| e.unwrap().path()).min().unwrap();
    let kept = image::load_from_memory(&std::fs::read(first(0)).unwrap()).unwrap();
    assert_eq!(kept.color().has_alpha(), way == AlphaWay::Keep);
    let kept = kept.to_rgba8();
    assert_eq!(kept.get_pixel(4, 16).0, [200, 30, 30, 255]);
    match way {
        AlphaWay::Keep => assert_eq!(kept.get_pixel(28, 16)[3], 0),
        _ => assert_eq!(kept.get_pixel(28, 16).0[..3], behind),
    }
    let jpeg = image(&first(1)).get_pixel(28, 16).0;
    assert!(jpeg.iter().zip(behind).all(|(a, b)| a.abs_diff(b) < 8), "{jpeg:?}");
}

/// VP9 keeps what can be seen through: in WebM, as it is copied to Matroska, and in what is made of that.
#[test]
fn a_film_that_can_be_seen_through_stays_so_in_vp9() {
    let room = Room::with(&Clip::default());
    let mut demux = half_seen(60);
    let vp9 =
        VideoRecipe { codec: VideoCodec::Vp9, rate: BitRecipe::Quantiser(20), ..VideoRecipe::default() };
    let alpha = Alpha { way: AlphaWay::Fill, ground: [255; 3] };
    let recipes = [film(Some(vp9.clone()), None, None), film(Some(VideoRecipe { alpha, ..vp9 }), None, None)];
    let plan = plan(demux.tracks(), &recipes).unwrap();
    let targets = (0..2).map(|n| room::target(&room.path(n), false)).collect();
    let made = run::run(&mut demux, &plan, targets, &Control::new(2)).unwrap();
    for (n, m) in made.into_iter().enumerate() {
        let file = std::fs::File::open(room.path(n)).unwrap();
        media::check::output(Box::new(file), &m.unwrap(), &Default::default()).unwrap();
    }
    let facts = [0, 1].map(|n| room.facts(n).video[0].clone());
    assert_eq!(facts.clone().map(|f| f.coverage), [true, false]);
    assert_eq!(facts[0].chroma, Some(Chroma::C420));
    let copied = Room::of(&room.path(0));
    let copy = VideoRecipe { codec: VideoCodec::Copy, ..VideoRecipe::default() };
    copied.make(&[film(Some(copy), None, Some(Wrap::Mkv))]);
    for path in [room.path(0), copied.path(0)] {
        let (pictures, ..) = all_of(&path);
        assert_eq!(pictures.len(), 60);
        for (_, f) in &pictures {
            let at = |x| [0, 1, 2, 3].map(|i: usize| i32::from(f.planes[i].at(x, 30)));
            assert_eq!(f.chroma, Chroma::Rgba);
            assert!(at(8).iter().zip([200, 30, 30, 255]).all(|(a, b)| (a - b).abs() < 8), "{:?}", at(8));
            assert!(at(56)[3] < 4, "{:?}", at(56));
        }
    }
    let again = Room::of(&copied.path(0));
    let still = StillRecipe { fit: (0, 0), format: StillChoice::Png, at: None, alpha: Alpha::default() };
    again.make(&[Recipe { still: Some(still), ..Recipe::default() }]);
    let seen = image::load_from_memory(&std::fs::read(again.path(0)).unwrap()).unwrap().to_rgba8();
    assert!(seen.get_pixel(56, 30)[3] < 4 && seen.get_pixel(8, 30)[3] > 251);
}

#[test]
fn a_waveform_is_high_where_the_sound_is_loud() {
    let sound = (0..48_000 * 4).flat_map(|i| {
        let loud = (48_000..96_000).contains(&i);
        [(i as f32 * 0.3).sin() * if loud { 0.8 } else { 0.1 }; 2]
    });
    let room = Room::with(&Clip { frames: 100, sound: Some(sound.collect()), ..Clip::default() });
    let look = WaveRecipe { width: 400, height: 101, colour: [0, 0, 0], ground: [255; 3] };
    let made = room.make(&[Recipe { waveform: Some(look), ..Recipe::default() }]);
    let p = image(&room.path(0));
    assert_eq!(made[0].size, Some((400, 101)));
    let height = |x: u32| (0..101).filter(|y| p.get_pixel(x, *y).0[0] == 0).count();
    assert!((105..195).all(|x| (70..95).contains(&height(x))), "{}", height(150));
    assert!((5..95).chain(205..395).all(|x| (5..20).contains(&height(x))), "{}", height(50));
}

/// The numbers in the picture are read back by comparing them with the same numbers drawn alone.
#[rstest]
#[case::whole(None, 0)]
#[case::part(Some(Part { from: Some(Moment::Timecode("10:00:01:05".into())), to: None }), 30)]
fn the_timecode_burnt_in_is_that_of_the_picture(#[case] part: Option<Part>, #[case] first: u32) {
    let room = Room::with(&Clip { frames: 50, ..Clip::default() });
    let burn = |text: &str| Burn {
        size: 12.0,
        shade: 1.0,
        across: Side::Start,
        down: Side::Start,
        ..Burn::plain(text)
    };
    let recipe = |text: &str| Recipe {
        part: part.clone(),
        ..film(
            Some(VideoRecipe {
                rate: BitRecipe::Quantiser(14),
                burn: vec![burn(text)],
                ..VideoRecipe::default()
            }),
            None,
            None,
        )
    };
    let label = |n: u32| media::timecode::label(900_000 + n, 25, false);
    let (a, b) = (first + 3, first + 17);
    room.make(&[recipe(TIMECODE), recipe(&label(a)), recipe(&label(b))]);
    let (running, ..) = all_of(&room.path(0));
    let (fixed_a, ..) = all_of(&room.path(1));
    let (fixed_b, ..) = all_of(&room.path(2));
    let differ = |x: &media::frame::VideoFrame, y: &media::frame::VideoFrame| -> u32 {
        let all = (0..50u32).flat_map(|y| (0..200u32).map(move |x| (x, y)));
        all.map(|(px, py)| u32::from(x.planes[0].at(px, py).abs_diff(y.planes[0].at(px, py)))).sum::<u32>()
            / 10_000
    };
    let at = |n: u32| (n - first) as usize;
    let same = [differ(&running[at(a)].1, &fixed_a[at(a)].1), differ(&running[at(b)].1, &fixed_b[at(b)].1)];
    let other = differ(&running[at(b)].1, &fixed_a[at(b)].1);
    assert!(same.iter().all(|s| *s < 20_000 && other > 2 * s), "the same: {same:?}, another: {other}");
}

/// Drop frame, another rate than the source's: the timecode is the source's all the same.
#[test]
fn a_timecode_keeps_to_the_source_at_another_rate() {
    let rate = Ratio { num: 30_000, den: 1001 };
    let clip = Clip { rate, frames: 60, timecode: 1795, drop_frame: true, ..Clip::default() };
    let room = Room::with(&clip);
    let burn = |text: &str| vec![Burn { size: 12.0, shade: 1.0, down: Side::Start, ..Burn::plain(text) }];
    let at_ten = |text: &str| {
        let rate = BitRecipe::Quantiser(14);
        let frame_rate = Ratio::new(10_000, 1001);
        film(Some(VideoRecipe { rate, frame_rate, burn: burn(text), ..VideoRecipe::default() }), None, None)
    };
    room.make(&[at_ten(TIMECODE), at_ten("00:01:00;03")]);
    let ((running, ..), (fixed, ..)) = (all_of(&room.path(0)), all_of(&room.path(1)));
    // The third picture is the source's sixth: 1795 + 6 = 1801, labels 0 and 1 of the minute being left out.
    let row = |f: &media::frame::VideoFrame| -> Vec<u16> {
        (0..50).flat_map(|y| (60..260).map(move |x| (x, y))).map(|(x, y)| f.planes[0].at(x, y)).collect()
    };
    let near = |n: usize| row(&running[n].1).iter().zip(row(&fixed[n].1)).all(|(a, b)| a.abs_diff(b) < 40);
    assert!(near(2) && !near(5));
}

/// Encoders of AV1 films and of AVIF stills take turns, and what would wait for the other for ever says so by itself.
#[test]
fn av1_films_and_avif_stills_are_made_in_one_pass() {
    let still = |at| {
        let (fit, format) = ((160, 0), StillChoice::Avif(60));
        Recipe { still: Some(StillRecipe { fit, format, at, alpha: Alpha::default() }), ..Recipe::default() }
    };
    let av1 = |fit, codec| Recipe {
        video: Some(VideoRecipe { codec, fit, ..VideoRecipe::default() }),
        ..Recipe::default()
    };
    let mut every = pictures(PicturesKind::Run { every_ms: Some(500) }, (160, 0));
    every.pictures.as_mut().unwrap().format = StillChoice::Avif(60);
    let all = [
        av1((160, 90), VideoCodec::Av1),
        av1((256, 144), VideoCodec::Av1Ten),
        still(None),
        still(Some(Moment::Ms(400))),
        every,
    ];
    let room = Room::with(&Clip::default());
    let mut demux = media::container::open(Box::new(std::fs::File::open(&room.source).unwrap())).unwrap();
    let plan = plan(demux.tracks(), &all).unwrap();
    let targets = plan.outputs.iter().enumerate().map(|(n, o)| room::target(&room.path(n), o.is_folder()));
    let control = Control::new(all.len());
    let mut made = run::run(demux.as_mut(), &plan, targets.collect(), &control).unwrap();
    let why = made.pop().unwrap().unwrap_err().to_string();
    assert!(why.contains("by a rule or a run of their own"), "{why}");
    let frames: Vec<u64> = made.into_iter().map(|m| m.unwrap().frames).collect();
    assert_eq!(frames, [50, 50, 1, 1]);
    for n in 2..4 {
        let facts = room.facts(n);
        assert_eq!((facts.format.as_str(), facts.damage.clone()), ("AVIF", None));
    }
}
