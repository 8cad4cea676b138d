//! `make bench`: one line a figure - name, value, bound, ok or short. Ratios are measured side by side, in
//! turn, in one run; processor time is the system's own account of finished processes.
//!
//! With arguments it is one of its own measured parts, started by itself.

mod camera;
mod carry;
mod house;
mod jobs;
mod make;
mod quality;
mod search;
mod sending;
mod speech;
mod watches;

use media::codec::yardstick as bare;
use media::container::{self, Source};
use media::frame::Pool;
use media::recipe::{AudioRecipe, BitRecipe, Recipe, VideoRecipe};
use media::testkit::{Clip, layout::with_index_last, wrap, write_clip};
use porter::maker::{Bounds, Order, Ordered, Work};
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

type Anyhow = Box<dyn std::error::Error>;

type Part = fn(&Bench) -> Result<(), Anyhow>;

const QUANTISER: u8 = 26;
const FIT: (u32, u32) = (960, 540);

fn main() -> Result<(), Anyhow> {
    media::codec::svt::quiet();
    let args: Vec<String> = std::env::args().collect();
    match args.get(1).map(String::as_str) {
        Some("bare-transcode") => return bare_transcode(Path::new(&args[2])),
        Some("bare-stills") => return jobs::bare_stills(Path::new(&args[2]), false),
        Some("bare-stills-whole") => return jobs::bare_stills(Path::new(&args[2]), true),
        Some("bare-three") => return make::bare_three(Path::new(&args[2])),
        Some("bare-tiles") => return camera::bare_tiles(),
        Some("bare-decode") => return bare_decode(Path::new(&args[2])),
        Some("our-decode") => return our_decode(Path::new(&args[2])),
        Some("demux") => return demux(Path::new(&args[2])),
        _ => (),
    }
    let wanted = args.get(1).cloned().unwrap_or_default();
    let dir = tempfile::tempdir()?;
    let bench = Bench { dir: dir.path().to_owned(), program: program()? };
    let parts: [(&str, Part); 25] = [
        ("help", help),
        ("sparse", sparse),
        ("folder", folder),
        ("steady", steady),
        ("idle", house::idle),
        ("watches", watches::watches),
        ("tree", watches::tree),
        ("dispatch", house::dispatch),
        ("resume", house::resume),
        ("stills", jobs::stills),
        ("thumbnails", jobs::thumbnails),
        ("board", jobs::board),
        ("decode", decode),
        ("camera", camera::camera),
        ("transcode", transcode),
        ("carry", carry::carry),
        ("sending", sending::sending),
        ("many", sending::many),
        ("make", make::make),
        ("deep", make::deep),
        ("filters", make::filters),
        ("loudness", make::loudness),
        ("quality", quality::quality),
        ("words", speech::words),
        ("search", search::search),
    ];
    for (name, part) in parts {
        if wanted.is_empty() || wanted == name {
            part(&bench)?;
        }
    }
    Ok(())
}

struct Bench {
    dir: PathBuf,
    program: PathBuf,
}

/// The release build of the program, beside this example.
fn program() -> Result<PathBuf, Anyhow> {
    let path = std::env::current_exe()?
        .parent()
        .and_then(Path::parent)
        .ok_or("no target folder")?
        .join("deft-porter");
    if !path.exists() {
        return Err(format!("{} is not built: use 'make bench'", path.display()).into());
    }
    Ok(path)
}

fn figure(name: &str, value: f64, unit: &str, bound: f64, at_most: bool) {
    let good = if at_most { value <= bound } else { value >= bound };
    let (sign, word) = (if at_most { "<=" } else { ">=" }, if good { "ok" } else { "short" });
    println!("{name:<58} {value:>9.3} {unit:<6} {sign} {bound} {unit}  {word}");
}

fn median(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}

fn create(path: &Path) -> std::io::Result<Box<File>> {
    Ok(Box::new(File::options().read(true).write(true).create(true).truncate(true).open(path)?))
}

fn hd_clip(bench: &Bench, name: &str, times: u32) -> Result<PathBuf, Anyhow> {
    let path = bench.dir.join(name);
    if !path.exists() {
        let clip = Clip { width: 1920, height: 1080, frames: 250, quantiser: 24, times, ..Clip::default() };
        write_clip(&clip, create(&path)?)?;
    }
    Ok(path)
}

/// Wall time of whole runs of the program, in milliseconds.
fn wall(mut run: impl FnMut() -> Result<(), Anyhow>, times: usize) -> Result<f64, Anyhow> {
    let mut all = Vec::new();
    for _ in 0..times {
        let start = Instant::now();
        run()?;
        all.push(start.elapsed().as_secs_f64() * 1000.0);
    }
    Ok(median(all))
}

fn quiet(command: &mut Command) -> Result<(), Anyhow> {
    quiet_with(command, 0)
}

fn quiet_with(command: &mut Command, code: i32) -> Result<(), Anyhow> {
    let status = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status()?;
    if status.code() != Some(code) {
        return Err(format!("{command:?} ended with {status}").into());
    }
    Ok(())
}

fn help(b: &Bench) -> Result<(), Anyhow> {
    let ms = wall(|| quiet(Command::new(&b.program).arg("--help")), 41)?;
    figure("deft-porter --help, wall", ms, "ms", 10.0, true);
    Ok(())
}

/// A file of many gigabytes whose index, of an hour at 25 frames a second with sound, stands at its end.
fn sparse(b: &Bench) -> Result<(), Anyhow> {
    let small = b.dir.join("hour.mp4");
    write_clip(&Clip { width: 64, height: 64, frames: 250, times: 360, ..Clip::default() }, create(&small)?)?;
    let bytes = std::fs::read(&small)?;
    for (gigabytes, memory) in [(20u64, None), (50, Some(20.0))] {
        let path = b.dir.join(format!("sparse-{gigabytes}.mp4"));
        let total = gigabytes << 30;
        let (head, index, end) = with_index_last(&bytes, Some(total));
        let mut file = create(&path)?;
        file.write_all(&head)?;
        std::io::Seek::seek(&mut file, std::io::SeekFrom::Start(end))?;
        file.write_all(&index)?;
        let ms = wall(|| quiet(Command::new(&b.program).arg("inspect").arg(&path)), 15)?;
        figure(
            &format!("inspect of a {gigabytes} GB sparse MP4, index at the end, wall"),
            ms,
            "ms",
            50.0,
            true,
        );
        if let Some(bound) = memory {
            let mut child =
                Command::new(&b.program).arg("inspect").arg(&path).stdout(Stdio::null()).spawn()?;
            let peak = peak_memory(&mut child)?;
            figure(&format!("inspect of a {gigabytes} GB sparse MP4, peak memory"), peak, "MB", bound, true);
        }
        std::fs::remove_file(path)?;
    }
    Ok(())
}

fn folder(b: &Bench) -> Result<(), Anyhow> {
    let dir = b.dir.join("many");
    std::fs::create_dir(&dir)?;
    write_clip(
        &Clip { width: 64, height: 64, frames: 25, ..Clip::default() },
        create(&b.dir.join("small.mp4"))?,
    )?;
    let samples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/media");
    let mut kinds = vec![b.dir.join("small.mp4")];
    kinds.extend(std::fs::read_dir(samples)?.flatten().map(|e| e.path()));
    let fixtures = Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/fixtures");
    kinds.extend(std::fs::read_dir(fixtures)?.flatten().map(|e| e.path()));
    for n in 0..2000 {
        let from = &kinds[n % kinds.len()];
        let name = format!("{n:04}-{}", from.file_name().unwrap_or_default().to_string_lossy());
        std::fs::hard_link(from, dir.join(&name))
            .or_else(|_| std::fs::copy(from, dir.join(&name)).map(|_| ()))?;
    }
    // Some of the samples are damaged or no media: the status says so.
    let ms = wall(|| quiet_with(Command::new(&b.program).arg("inspect").arg(&dir), 1), 5)?;
    figure(
        &format!("inspect of a folder of 2000 small files of {} kinds", kinds.len()),
        2000.0 / (ms / 1000.0),
        "/s",
        1000.0,
        false,
    );
    Ok(())
}

const HOUSE: &str = r#"
[house]
name = "Bench"
[[watch]]
name = "in"
folder = "in"
steady = "500 ms"
look_every = "10 s"
original = "leave"
turned_away = "away"
[[place]]
name = "out"
folder = "out"
[[preset]]
name = "sound"
[preset.audio]
[[rule]]
name = "all"
make = [{ preset = "sound", to = ["out"] }]
"#;

/// From the moment a file is steady (its event's time) to the start of its job, with file system events.
fn steady(b: &Bench) -> Result<(), Anyhow> {
    let dir = b.dir.join("house");
    for folder in ["in", "out", "away"] {
        std::fs::create_dir_all(dir.join(folder))?;
    }
    std::fs::write(dir.join("deft-porter.toml"), HOUSE)?;
    let small = b.dir.join("steady.mp4");
    write_clip(&Clip { width: 64, height: 64, frames: 25, ..Clip::default() }, create(&small)?)?;
    let mut porter = Command::new(&b.program).arg("run").arg(&dir).stdout(Stdio::null()).spawn()?;
    std::thread::sleep(Duration::from_millis(700));
    let mut worst = 0.0f64;
    for n in 1..=12i64 {
        std::fs::copy(&small, dir.join(format!("in/{n}.mp4")))?;
        std::thread::sleep(Duration::from_millis(900));
        let out = Command::new(&b.program)
            .args(["status", "--json", "--job", &n.to_string()])
            .arg(&dir)
            .output()?;
        let v: serde_json::Value = serde_json::from_slice(&out.stdout)?;
        let at = |what: &str| {
            v["events"]
                .as_array()
                .and_then(|e| e.iter().find(|e| e["what"] == what))
                .and_then(|e| milliseconds(e["at"].as_str()?))
        };
        let (Some(arrived), Some(started)) = (at("arrived"), at("started")) else {
            return Err("a job did not start".into());
        };
        worst = worst.max(started - arrived);
    }
    porter.kill()?;
    porter.wait()?;
    figure("from steady to job started, worst of 12", worst, "ms", 250.0, true);
    Ok(())
}

/// The time of day in `2026-11-23T07:05:49.123+00:00`.
fn milliseconds(at: &str) -> Option<f64> {
    let mut parts = at.get(11..23)?.split(':').map(|p| p.parse::<f64>().unwrap_or(0.0));
    Some(((parts.next()? * 60.0 + parts.next()?) * 60.0 + parts.next()?) * 1000.0)
}

/// Processor seconds (user and system) of a finished child and all it waited for.
fn processor(command: &mut Command) -> Result<f64, Anyhow> {
    let before = waited_for()?;
    let status = command.stdin(Stdio::null()).stdout(Stdio::null()).status()?;
    if !status.success() {
        return Err(format!("{command:?} ended with {status}").into());
    }
    Ok(waited_for()? - before)
}

/// Processor time of a child that is ending, and of all that it waited for.
fn children_time(mut child: Child) -> Result<f64, Anyhow> {
    let before = waited_for()?;
    child.wait()?;
    Ok(waited_for()? - before)
}

/// Fields 16 and 17 of /proc/self/stat: ticks of 1/100 s of children that were waited for.
fn waited_for() -> Result<f64, Anyhow> {
    let stat = std::fs::read_to_string("/proc/self/stat")?;
    let fields: Vec<&str> = stat.rsplit(") ").next().unwrap_or("").split(' ').collect();
    let ticks: f64 = fields[13].parse::<f64>()? + fields[14].parse::<f64>()?;
    Ok(ticks / 100.0)
}

/// One pass in a child, as the porter starts it.
struct Pass {
    cpu: f64,
    wall: f64,
    /// MB.
    peak: f64,
}

/// Does an order that makes `outputs` files.
fn pass_in_child(b: &Bench, source: &Path, line: &[u8], outputs: usize) -> Result<Pass, Anyhow> {
    let (before, start) = (waited_for()?, Instant::now());
    let (mut ours, its) = UnixStream::pair()?;
    let mut c = Command::new(&b.program);
    c.arg("make-in-child").stdin(File::open(source)?).stdout(OwnedFd::from(its));
    let mut child = c.spawn()?;
    drop(c);
    ours.write_all(line)?;
    let mut from = ours.try_clone()?;
    let reader = std::thread::spawn(move || {
        let mut text = String::new();
        let _ = from.read_to_string(&mut text);
        text
    });
    let peak = peak_memory(&mut child)?;
    let wall = start.elapsed().as_secs_f64();
    let said = reader.join().unwrap_or_default();
    if said.matches("\"made\":{\"made\"").count() != outputs {
        return Err(format!("not all was made: {said}").into());
    }
    Ok(Pass { cpu: waited_for()? - before, wall, peak })
}

fn order(out: &Path) -> Result<Vec<u8>, Anyhow> {
    let video = VideoRecipe { fit: FIT, rate: BitRecipe::Quantiser(QUANTISER), ..VideoRecipe::default() };
    let recipe = Recipe { video: Some(video), audio: Some(AudioRecipe::default()), ..Recipe::default() };
    order_of(&[(out.to_owned(), recipe)])
}

/// One pass for these.
fn order_of(outputs: &[(PathBuf, Recipe)]) -> Result<Vec<u8>, Anyhow> {
    let folder = outputs.first().and_then(|(p, _)| p.parent()).ok_or("no folder")?.to_owned();
    let ordered = outputs.iter().enumerate().map(|(n, (path, recipe))| Ordered {
        number: n as u32,
        path: path.clone(),
        recipe: recipe.clone().into(),
    });
    let bounds = Bounds { memory: 4_000_000_000, ..Bounds::default() };
    let order =
        Order { name: "clip.mp4".into(), bounds, ..Order::new(Work::Make(ordered.collect()), folder) };
    let mut line = serde_json::to_vec(&order)?;
    line.push(b'\n');
    Ok(line)
}

fn transcode(b: &Bench) -> Result<(), Anyhow> {
    let clip = hd_clip(b, "ten-seconds.mp4", 1)?;
    let line = order(&b.dir.join("out.mp4"))?;
    let me = std::env::current_exe()?;
    let mut ratios = Vec::new();
    for _ in 0..5 {
        let ours = pass_in_child(b, &clip, &line, 1)?.cpu;
        let bare = processor(Command::new(&me).arg("bare-transcode").arg(&clip))?;
        ratios.push(ours / bare);
    }
    figure("processor time, 1080p to 540p proxy / bare library calls", median(ratios), "x", 1.15, true);

    let peak = |clip: &Path| pass_in_child(b, clip, &line, 1).map(|p| p.peak);
    let short = peak(&clip)?;
    figure("peak memory of a 1080p job, 10 s", short, "MB", 250.0, true);
    let long = peak(&hd_clip(b, "ten-minutes.mp4", 60)?)?;
    figure("peak memory of a 1080p job, 10 min", long, "MB", 250.0, true);
    figure("the same, 10 min / 10 s", long / short, "x", 1.1, true);
    Ok(())
}

/// Highest resident size of a child over its life, in MB: the system's own high-water mark, read until the end.
fn peak_memory(child: &mut Child) -> Result<f64, Anyhow> {
    let path = format!("/proc/{}/status", child.id());
    let start = Instant::now();
    let mut peak = 0.0f64;
    while child.try_wait()?.is_none() {
        let text = std::fs::read_to_string(&path).unwrap_or_default();
        let line = text.lines().find_map(|l| l.strip_prefix("VmHWM:"));
        if let Some(kb) = line.and_then(|l| l.trim().trim_end_matches(" kB").parse::<f64>().ok()) {
            peak = peak.max(kb * 1024.0 / 1e6);
        }
        // A short life is read as closely as it goes; a long one need not be.
        if start.elapsed() > Duration::from_millis(200) {
            std::thread::sleep(Duration::from_millis(2));
        }
    }
    Ok(peak)
}

fn decode(b: &Bench) -> Result<(), Anyhow> {
    let clip = hd_clip(b, "ten-seconds.mp4", 1)?;
    let me = std::env::current_exe()?;
    // The least of each, in turn: on a shared machine every reading is the work and what others took from it.
    let (mut bare, mut ours) = (f64::MAX, f64::MAX);
    for _ in 0..12 {
        bare = bare.min(processor(Command::new(&me).arg("bare-decode").arg(&clip))?);
        ours = ours.min(processor(Command::new(&me).arg("our-decode").arg(&clip))?);
    }
    figure("H.264 decoding through our traits / bare library, frames", bare / ours, "x", 0.95, false);
    let long = hd_clip(b, "ten-minutes.mp4", 60)?;
    let bytes = std::fs::metadata(&long)?.len() as f64;
    let ms = wall(|| quiet(Command::new(&me).arg("demux").arg(&long)), 5)?;
    figure("demuxing alone, MP4", bytes / 1e9 / (ms / 1000.0), "GB/s", 1.0, false);
    others(b, &clip)
}

/// The other containers, laid out by the testkit around the same packets again and again.
fn others(b: &Bench, clip: &Path) -> Result<(), Anyhow> {
    const SIZE: usize = 200 << 20;
    let work = work(clip)?;
    let pictures: Vec<Vec<u8>> = work
        .pictures
        .iter()
        .cycle()
        .scan(0, |sum, p| {
            *sum += p.len();
            (*sum < SIZE).then(|| p.clone())
        })
        .collect();
    let timed: Vec<wrap::Timed> = (0u64..).zip(&pictures).map(|(n, p)| (n * 3600, p.clone())).collect();
    let block =
        |n: usize, p: &[u8]| [&[0x81][..], &((n % 100 * 40) as u16).to_be_bytes(), &[0x80], p].concat();
    let clusters: Vec<(u64, Vec<Vec<u8>>)> = pictures
        .chunks(100)
        .enumerate()
        .map(|(c, all)| (c as u64 * 4000, all.iter().enumerate().map(|(n, p)| block(n, p)).collect()))
        .collect();
    let video = [wrap::element(0xb0, &[64]), wrap::element(0xba, &[64])].concat();
    let entry = [
        wrap::element(0xd7, &[1]),
        wrap::element(0x83, &[1]),
        wrap::element(0x86, b"V_MJPEG"),
        wrap::element(0xe0, &video),
    ]
    .concat();
    let fixture = |name: &str| {
        std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/fixtures").join(name))
    };
    // Frames of sound behind each other, without the one that counts them.
    let mp3 = fixture("tone.mp3")?;
    let frames =
        mp3.windows(4).position(|w| w[0] == 0xff && w[1] & 0xe0 == 0xe0).map_or(&mp3[..], |at| &mp3[at..]);
    let frames =
        &frames[frames.windows(4).skip(4).position(|w| w[..2] == frames[..2]).map_or(0, |at| at + 4)..];
    for (name, bytes) in [
        ("MPEG-TS", wrap::transport(&timed, &[], 188)),
        ("Matroska", wrap::matroska(&entry, &clusters)),
        ("AVI", wrap::avi(b"MJPG", 24, (64, 64), &pictures, &[], usize::MAX)),
        ("MP3", frames.iter().copied().cycle().take(SIZE).collect()),
    ] {
        let path = b.dir.join(name);
        std::fs::write(&path, &bytes)?;
        let me = std::env::current_exe()?;
        let ms = wall(|| quiet(Command::new(&me).arg("demux").arg(&path)), 5)?;
        figure(
            &format!("demuxing alone, {name}"),
            bytes.len() as f64 / 1e9 / (ms / 1000.0),
            "GB/s",
            1.0,
            false,
        );
        std::fs::remove_file(path)?;
    }
    Ok(())
}

fn open(path: &Path) -> Result<Box<dyn container::Demux>, Anyhow> {
    let file: Box<dyn Source> = Box::new(File::open(path)?);
    Ok(container::open(file)?)
}

fn demux(path: &Path) -> Result<(), Anyhow> {
    let mut d = open(path)?;
    let mut bytes = 0u64;
    loop {
        match d.next_packet() {
            Ok(Some(p)) => bytes += p.data.len() as u64,
            Ok(None) => break,
            Err(e) => eprintln!("{e}"),
        }
    }
    // A reader that gives less than nearly all of the file would look fast.
    assert!(bytes > std::fs::metadata(path)?.len() * 8 / 10, "{bytes} bytes of packets");
    Ok(())
}

fn our_decode(path: &Path) -> Result<(), Anyhow> {
    let mut d = open(path)?;
    let mut decoder = media::codec::video_decoder(&d.tracks()[0], &Pool::new())?;
    d.choose(&[0]);
    let (mut out, mut frames) = (Vec::new(), 0);
    while let Some(p) = d.next_packet()? {
        decoder.decode(&p, &mut out)?;
        frames += out.drain(..).count();
    }
    decoder.flush(&mut out)?;
    frames += out.len();
    assert_eq!(frames, 250);
    Ok(())
}

/// Packets for the bare libraries: pictures in Annex B, parameter sets in front.
fn work(path: &Path) -> Result<bare::Work, Anyhow> {
    use media::codec::{PictureForm, h264};
    let mut d = open(path)?;
    let config = h264::Config::parse(&d.tracks()[0].setup)?;
    let v = d.tracks()[0].video().ok_or("no picture")?.clone();
    let mut work = bare::Work {
        pictures: Vec::new(),
        sound: Vec::new(),
        sound_setup: d.tracks()[1].setup.clone(),
        form: PictureForm { colour: v.colour, ..PictureForm::plain(FIT.0, FIT.1, v.rate.ok_or("no rate")?) },
        quantiser: QUANTISER,
        key_every: 50,
    };
    while let Some(p) = d.next_packet()? {
        if p.track == 0 {
            let mut data = Vec::new();
            let sets = config.sps.iter().chain(&config.pps).filter(|_| work.pictures.is_empty());
            sets.for_each(|n| data.extend([&[0, 0, 0, 1], n.as_slice()].concat()));
            for nal in h264::nal_units(&p.data, config.length_size) {
                data.extend([&[0, 0, 0, 1], nal?].concat());
            }
            work.pictures.push(data);
        } else if p.track == 1 {
            work.sound.push(p.data);
        }
    }
    Ok(work)
}

fn bare_transcode(path: &Path) -> Result<(), Anyhow> {
    let (frames, _) = bare::transcode(&work(path)?, &[FIT], 1)?;
    assert_eq!(frames, 250);
    Ok(())
}

fn bare_decode(path: &Path) -> Result<(), Anyhow> {
    assert_eq!(bare::decode(&work(path)?.pictures, |_, _, _| ())?, 250);
    Ok(())
}
