//! Making: one pass for several outputs, filters alone, loudness.

use super::{Anyhow, Bench, QUANTISER, create, figure, hd_clip, median, order_of, processor, work};
use media::codec::yardstick as bare;
use media::filter::video::convert::HD;
use media::filter::video::{Deinterlacing, Form, Grading, Kernel, Shown, Step, Wanted};
use media::frame::{Chroma, Colour, Fields, Pool, VideoFrame};
use media::recipe::{AudioCodec, AudioRecipe, BitRecipe, Loudness, Recipe, VideoRecipe};
use media::testkit::{Clip, write_clip};
use media::units::Ratio;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::time::Instant;

const LARGE: (u32, u32) = (1920, 1080);
const SMALL: (u32, u32) = (1280, 720);

fn film(fit: (u32, u32)) -> Recipe {
    let video = VideoRecipe { fit, rate: BitRecipe::Quantiser(QUANTISER), ..VideoRecipe::default() };
    Recipe { video: Some(video), audio: Some(AudioRecipe::default()), ..Recipe::default() }
}

fn sound() -> Recipe {
    Recipe { audio: Some(AudioRecipe::default()), ..Recipe::default() }
}

fn named(b: &Bench, recipes: Vec<Recipe>) -> Vec<(PathBuf, Recipe)> {
    recipes.into_iter().enumerate().map(|(n, r)| (b.dir.join(format!("made-{n}")), r)).collect()
}

/// Processor seconds, wall seconds and peak memory (MB) of one pass.
fn pass(b: &Bench, source: &Path, outputs: &[(PathBuf, Recipe)]) -> Result<(f64, f64, f64), Anyhow> {
    let p = super::pass_in_child(b, source, &order_of(outputs)?, outputs.len())?;
    Ok((p.cpu, p.wall, p.peak))
}

pub fn make(b: &Bench) -> Result<(), Anyhow> {
    let clip = hd_clip(b, "ten-seconds.mp4", 1)?;
    let three = named(b, vec![film(LARGE), film(SMALL), sound()]);
    let me = std::env::current_exe()?;
    let (mut ratios, mut walls, mut apart) = (Vec::new(), Vec::new(), Vec::new());
    let cores = std::thread::available_parallelism()?.get() as f64;
    for _ in 0..3 {
        let (cpu, wall, _) = pass(b, &clip, &three)?;
        let bare = processor(Command::new(&me).arg("bare-three").arg(&clip))?;
        ratios.push(cpu / bare);
        walls.push(wall / (cpu / cores));
        let mut alone = 0.0;
        for one in &three {
            alone += pass(b, &clip, std::slice::from_ref(one))?.1;
        }
        apart.push(alone / wall);
    }
    let name = "1080p to 1080p, 720p and sound";
    figure(&format!("{name}: processor time / bare calls"), median(ratios), "x", 1.10, true);
    figure(&format!("{name}: wall / (processor time / cores)"), median(walls), "x", 1.15, true);
    figure("the same as three runs / as one, wall", median(apart), "x", 1.3, false);
    let (_, _, peak) = pass(b, &hd_clip(b, "one-minute.mp4", 6)?, &three)?;
    figure(&format!("{name}, a minute: peak memory"), peak, "MB", 400.0, true);
    Ok(())
}

pub fn bare_three(path: &Path) -> Result<(), Anyhow> {
    let (frames, _) = bare::transcode(&work(path)?, &[LARGE, SMALL], 3)?;
    assert_eq!(frames, 250);
    Ok(())
}

/// Three small outputs of a 10-bit 4:2:2 source and one of them.
pub fn deep(b: &Bench) -> Result<(), Anyhow> {
    let path = b.dir.join("deep.y4m");
    let mut file = std::io::BufWriter::new(create(&path)?);
    writeln!(file, "YUV4MPEG2 W1920 H1080 F25:1 Ip A1:1 C422p10")?;
    let (w, h) = LARGE;
    let row = |n: usize, y: usize, width: u32, i: usize| -> Vec<u8> {
        let value = |x: usize| 200 + ((x * 3 + y * 5 + n * 7 + i * 90) % 600) as u16;
        (0..width as usize).flat_map(|x| value(x).to_le_bytes()).collect()
    };
    for n in 0..50 {
        file.write_all(b"FRAME\n")?;
        for i in 0..3 {
            let width = if i == 0 { w } else { w / 2 };
            (0..h as usize).try_for_each(|y| file.write_all(&row(n, y, width, i)))?;
        }
    }
    file.flush()?;
    let small = |fit| Recipe { audio: None, ..film(fit) };
    let all = named(b, vec![small((640, 360)), small((480, 270)), small((320, 180))]);
    let mut ratios = Vec::new();
    for _ in 0..5 {
        let three = pass(b, &path, &all)?.0;
        let one = pass(b, &path, &all[..1])?.0;
        ratios.push(three / one);
    }
    figure("three small outputs of 10-bit 4:2:2 / one, processor time", median(ratios), "x", 1.4, true);
    std::fs::remove_file(path)?;
    Ok(())
}

fn picture(chroma: Chroma, depth: u8) -> VideoFrame {
    let mut f =
        VideoFrame::new(&Pool::new(), LARGE.0, LARGE.1, chroma, depth).unwrap_or_else(|e| panic!("{e}"));
    f.colour = HD;
    f.fields = Fields::TopFirst;
    f
}

/// 1080p pictures a second of one processor, through one filter. Every fourth picture is another, so that there is movement.
fn speed(step: &Step, chroma: Chroma, depth: u8, colour: Colour) -> Result<f64, Anyhow> {
    let mut frames: Vec<Arc<VideoFrame>> = Vec::new();
    for n in 0..4usize {
        let mut f = picture(chroma, depth);
        f.colour = colour;
        for p in &mut f.planes {
            for y in 0..p.height as usize {
                for x in 0..p.width as usize {
                    // Half of the picture moves.
                    let moved = if x > p.width as usize / 2 { n * 11 } else { 0 };
                    p.put(x, y, ((((x + moved) * 5 + y * 3) % 200 + 20) as u16) << (depth - 8));
                }
            }
        }
        frames.push(Arc::new(f));
    }
    let f = &frames[0];
    let form = Form {
        width: f.width,
        height: f.height,
        chroma,
        depth,
        colour: f.colour,
        fields: f.fields,
        pixel_shape: Ratio::ONE,
        rotation: 0,
        rate: Ratio::new(25, 1),
        timescale: 25,
    };
    let mut filter = step.start(&form, &Pool::new())?;
    let mut best = 0f64;
    for _ in 0..3 {
        let start = Instant::now();
        let mut out = Vec::new();
        for n in 0..40i64 {
            let frame = frames[n as usize % 4].clone();
            filter.push(Shown { frame, pts: n, duration: 1 }, &mut out)?;
            out.clear();
        }
        best = best.max(40.0 / start.elapsed().as_secs_f64());
    }
    Ok(best)
}

pub fn filters(_: &Bench) -> Result<(), Anyhow> {
    let scale = |kernel| Step::Scale { width: SMALL.0, height: SMALL.1, kernel };
    let to_hd = Step::Grade(Grading { to_hd: true, look: None });
    let of: [(&str, Step, Chroma, u8); 9] = [
        ("scale to 720p, bilinear", scale(Kernel::Bilinear), Chroma::C420, 8),
        ("scale to 720p, Catmull-Rom", scale(Kernel::CatmullRom), Chroma::C420, 8),
        ("scale to 720p, Catmull-Rom, 10-bit 4:2:2", scale(Kernel::CatmullRom), Chroma::C422, 10),
        ("halve, 10-bit 4:2:2", Step::Halve, Chroma::C422, 10),
        ("colour: 10-bit 4:2:2 to 8-bit 4:2:0", Step::As(Wanted::PLAIN), Chroma::C422, 10),
        ("colour: RGB to 8-bit 4:2:0", Step::As(Wanted::PLAIN), Chroma::Rgb, 8),
        ("colour: the matrix of BT.601 to that of BT.709", to_hd.clone(), Chroma::C420, 8),
        ("colour: the same, 10-bit 4:2:2", to_hd.clone(), Chroma::C422, 10),
        ("deinterlace by movement", Step::Deinterlace(Deinterlacing::default()), Chroma::C420, 8),
    ];
    for (name, step, chroma, depth) in of {
        figure(name, speed(&step, chroma, depth, HD)?, "/s", 200.0, false);
    }
    let pq = Colour { primaries: 9, transfer: 16, matrix: 9, full_range: false };
    for (name, chroma, depth) in [
        ("colour: BT.709 from PQ, 10-bit 4:2:0", Chroma::C420, 10),
        ("colour: the same, 10-bit 4:2:2", Chroma::C422, 10),
    ] {
        figure(name, speed(&to_hd, chroma, depth, pq)?, "/s", 200.0, false);
    }
    Ok(())
}

/// Measuring and levelling on top of making the same sound without.
pub fn loudness(b: &Bench) -> Result<(), Anyhow> {
    let path = b.dir.join("long.mp4");
    let clip = Clip { width: 64, height: 48, frames: 250, times: 30, ..Clip::default() };
    write_clip(&clip, create(&path)?)?;
    let with = |loudness| {
        let audio = AudioRecipe { codec: AudioCodec::Pcm16, loudness, ..AudioRecipe::default() };
        named(b, vec![Recipe { audio: Some(audio), ..Recipe::default() }])
    };
    let levelled = with(Some(Loudness { target: -16.0, peak: -1.0 }));
    let cpu = (0..3).map(|_| Ok(pass(b, &path, &levelled)?.0)).collect::<Result<Vec<f64>, Anyhow>>()?;
    figure("loudness normalising, read to written", 300.0 / median(cpu), "x", 200.0, false);
    Ok(())
}
