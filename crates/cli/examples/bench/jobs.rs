//! What the house costs beside the work: many small stills, and a board that looks on.

use super::house::new_house;
use super::{Anyhow, Bench, figure, processor};
use media::container;
use media::plan::plan;
use media::recipe::{Recipe, StillChoice, StillRecipe};
use media::run::{self, Control};
use media::still;
use media::testkit::{Clip, write_clip};
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

const STILLS: usize = 5_000;

fn recipe(fit: (u32, u32)) -> Recipe {
    let still = StillRecipe { fit, format: StillChoice::Jpeg(85), at: None, alpha: Default::default() };
    Recipe { still: Some(still), ..Recipe::default() }
}

/// `whole`: a picture is decoded in its full size, wherever it goes.
fn make(source: &Path, to: &Path, fit: (u32, u32), whole: bool) -> Result<(), Anyhow> {
    if source.extension().is_some_and(|e| e == "jpg" || e == "ppm") {
        let mut file = File::open(source)?;
        let mut head = vec![0; 4096];
        let n = std::io::Read::read(&mut file, &mut head)?;
        let format = still::recognise(&head[..n], &mut file)?.ok_or("no picture")?;
        let picture = match whole {
            true => still::decode(format, &mut file)?,
            false => still::decode_for(format, &mut file, &[fit])?,
        };
        still::convert(&picture, fit, still::StillCodec::Jpeg(85), &mut super::create(to)?)?;
        return Ok(());
    }
    let mut demux = container::open(Box::new(File::open(source)?))?;
    let plan = plan(demux.tracks(), &[recipe(fit)])?;
    let sink = super::create(to)?;
    let control = Control::new(1);
    run::run(demux.as_mut(), &plan, vec![(sink as Box<dyn container::wrap::Sink>).into()], &control)?
        .remove(0)?;
    Ok(())
}

/// The same stills with nothing around the work: read, scale, write, on two threads.
pub fn bare_stills(dir: &Path, whole: bool) -> Result<(), Anyhow> {
    let next = AtomicUsize::new(0);
    let out = dir.join("bare");
    std::fs::create_dir_all(&out)?;
    let all = std::fs::read_dir(dir.join("in"))?.count();
    std::thread::scope(|s| {
        let work = || -> Result<(), String> {
            loop {
                let n = next.fetch_add(1, Ordering::Relaxed);
                if n >= all {
                    return Ok(());
                }
                let (from, to) = (dir.join(format!("in/{n}.jpg")), out.join(format!("{n}.jpg")));
                make(&from, &to, (320, 240), whole).map_err(|e| e.to_string())?;
            }
        };
        let both = [s.spawn(work), s.spawn(work)];
        both.into_iter().try_for_each(|t| t.join().unwrap_or_else(|_| Err("a thread broke".into())))
    })?;
    Ok(())
}

pub fn stills(b: &Bench) -> Result<(), Anyhow> {
    let dir = b.dir.join("stills");
    new_house(&dir)?;
    let text = "[house]\nname = \"Estuary Hours\"\njobs_at_once = 2\n[[watch]]\nname = \"in\"\nfolder = \"in\"\n\
        steady = \"200 ms\"\nlook_every = \"1 s\"\noriginal = \"leave\"\nturned_away = \"away\"\n[[place]]\nname = \"out\"\nfolder = \"out\"\n\
        [[preset]]\nname = \"small\"\n[preset.still]\nfit = \"320x240\"\n\
        [[rule]]\nname = \"all\"\nmake = [{ preset = \"small\", to = [\"out\"] }]\n";
    std::fs::write(dir.join("deft-porter.toml"), text)?;
    // One picture of a clip, as a camera's small JPEG, so many times.
    let clip = b.dir.join("picture.mp4");
    write_clip(&Clip { width: 1280, height: 960, frames: 2, ..Clip::default() }, super::create(&clip)?)?;
    let first = b.dir.join("picture.jpg");
    make(&clip, &first, (0, 0), true)?;
    let bytes = std::fs::read(&first)?;
    for n in 0..STILLS {
        let mut file = File::create(dir.join(format!("in/{n}.jpg")))?;
        file.write_all(&bytes)?;
        // Each is another content.
        file.write_all(&(n as u32).to_le_bytes())?;
    }
    let me = std::env::current_exe()?;
    let bare = |part: &str| -> Result<(f64, f64), Anyhow> {
        let start = Instant::now();
        let time = processor(Command::new(&me).arg(part).arg(&dir))?;
        Ok((STILLS as f64 / start.elapsed().as_secs_f64(), time))
    };
    let (whole, _) = bare("bare-stills-whole")?;
    let (bare, bare_time) = bare("bare-stills")?;
    let start = Instant::now();
    let time = processor(Command::new(&b.program).args(["run", "--once"]).arg(&dir).stdout(Stdio::null()))?;
    let ours = STILLS as f64 / start.elapsed().as_secs_f64();
    let made = std::fs::read_dir(dir.join("out"))?
        .flatten()
        .filter(|e| e.path().extension().is_some_and(|x| x == "jpg"))
        .count();
    if made != STILLS {
        return Err(format!("{made} of {STILLS} stills were made").into());
    }
    eprintln!(
        "  bare {bare:.0}/s ({bare_time:.1} s of processor time), through the house {ours:.0}/s ({time:.1} s)"
    );
    figure("5,000 small stills through the house / bare work", ours / bare, "x", 0.7, false);
    figure("  the same / bare work that decodes each in its full size", ours / whole, "x", 0.7, false);
    Ok(())
}

const CAMERA: usize = 1_000;

/// Thumbnails of a camera's JPEGs beside what another program takes for the same, if that is there.
pub fn thumbnails(b: &Bench) -> Result<(), Anyhow> {
    const OTHER: &str = "vipsthumbnail";
    if Command::new(OTHER).arg("--version").output().is_err() {
        println!(
            "thumbnails of camera JPEGs: not measured, {OTHER} is not there (apt install libvips-tools)"
        );
        return Ok(());
    }
    let dir = b.dir.join("camera");
    let [from, ours, other] = ["from", "ours", "other"].map(|n| dir.join(n));
    for dir in [&from, &ours, &other] {
        std::fs::create_dir_all(dir)?;
    }
    let mut bytes = 0;
    for n in 0..10 {
        let (raw, first) = (dir.join("raw.ppm"), from.join(format!("{n}.jpg")));
        std::fs::write(&raw, camera_picture(n))?;
        make(&raw, &first, (0, 0), true)?;
        bytes += std::fs::metadata(&first)?.len();
        for k in 1..CAMERA as u32 / 10 {
            std::fs::hard_link(&first, from.join(format!("{}.jpg", n + k * 10)))?;
        }
    }
    let mut all: Vec<PathBuf> = std::fs::read_dir(&from)?.flatten().map(|e| e.path()).collect();
    all.sort();
    let seconds = |command: &mut Command| -> Result<f64, Anyhow> {
        let start = Instant::now();
        super::quiet(command)?;
        Ok(start.elapsed().as_secs_f64())
    };
    let mine = seconds(
        Command::new(&b.program)
            .arg("convert")
            .args(&all)
            .args(["--preset", "thumbnail", "--name", "{stem}", "--to"])
            .arg(&ours),
    )?;
    let to = format!("{}/%s.jpg", other.display());
    let theirs = seconds(Command::new(OTHER).args(&all).args(["--size", "320x", "-o", &to]))?;
    for dir in [&ours, &other] {
        let made = std::fs::read_dir(dir)?.count();
        if made != CAMERA {
            return Err(format!("{made} of {CAMERA} thumbnails were made in {}", dir.display()).into());
        }
    }
    eprintln!("  {CAMERA} of {:.1} MB: {mine:.1} s, {OTHER} {theirs:.1} s", bytes as f64 / 1e7);
    figure("thumbnails of 1,000 JPEGs of 24 megapixels / another's", mine / theirs, "x", 1.0, true);
    std::fs::remove_dir_all(dir)?;
    Ok(())
}

/// Light and shade, edges and grain, 24 megapixels.
fn camera_picture(n: u32) -> Vec<u8> {
    let (w, h) = (6_000u32, 4_000u32);
    let mut all = format!("P6 {w} {h} 255\n").into_bytes();
    let mut grain = n + 1;
    for y in 0..h {
        for x in 0..w {
            grain = grain.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let noise = (grain >> 28) as f32 - 7.5;
            let (u, v) = (x as f32 / w as f32, y as f32 / h as f32);
            let wave = ((u * 9.0 + v * 4.0 * (n + 1) as f32).sin() * (v * 13.0).cos()) * 60.0;
            let edge = if (x / 173 + y / 131 + n).is_multiple_of(3) { 40.0 } else { 0.0 };
            let value = |by: f32| (110.0 + wave * by + edge + noise) as u8;
            all.extend([value(1.0), value(0.7), value(0.4 + u)]);
        }
    }
    all
}

/// A board on a terminal while the house works.
pub fn board(b: &Bench) -> Result<(), Anyhow> {
    const SECONDS: u64 = 20;
    let dir: PathBuf = b.dir.join("board");
    new_house(&dir)?;
    let clip = b.dir.join("board.mp4");
    write_clip(
        &Clip { width: 1280, height: 720, frames: 250, times: 20, ..Clip::default() },
        super::create(&clip)?,
    )?;
    for n in 0..20 {
        std::fs::copy(&clip, dir.join(format!("in/{n}.mp4")))?;
    }
    let mut porter = Command::new(&b.program).arg("run").arg(&dir).stdout(Stdio::null()).spawn()?;
    std::thread::sleep(Duration::from_secs(2));
    // On a terminal of its own, which another program gives it.
    let line = format!("stty cols 120 rows 40; exec '{}' board '{}'", b.program.display(), dir.display());
    let own = || super::house::own_time(porter.id());
    let before = own()?;
    std::thread::sleep(Duration::from_secs(SECONDS));
    let alone = own()? - before;
    let before = own()?;
    let mut script = Command::new("script");
    script.args(["-qec", &line, "/dev/null"]).stdin(Stdio::piped()).stdout(Stdio::null());
    let mut child = script.spawn()?;
    std::thread::sleep(Duration::from_secs(SECONDS));
    child.stdin.take().map(|mut stdin| stdin.write_all(b"q")).transpose()?;
    let watched = own()? - before;
    let board = super::children_time(child)?;
    porter.kill()?;
    porter.wait()?;
    let asked = (watched - alone).max(0.0);
    eprintln!("  the board itself {board:.2} s, what the porter answered {asked:.2} s, in {SECONDS} s");
    figure("a board's own cost, of one core", (board + asked) / SECONDS as f64 * 100.0, "%", 2.0, true);
    Ok(())
}
