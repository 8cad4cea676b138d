//! `demo`: a working house from sample media, the real porter on it, and a check of all that came out.

use super::init;
use crate::args::Demo;
use crate::ui;
use anyhow::{Context, Result, bail};
use porter::config::{FILE_NAME, House};
use porter::report::{self, JobStatus};
use porter::store::State;
use std::fs::File;
use std::io::Write;
use std::path::Path;
use std::process::{Child, Command, ExitCode, Stdio};
use std::time::{Duration, Instant};
use words::write::Form;

const CONFIG: &str = include_str!("../../../../demo/deft-porter.toml");

/// A sample, and what must come of it.
struct Sample {
    name: &'static str,
    bytes: &'static [u8],
    wanted: Wanted,
}

#[derive(Clone, Copy)]
enum Wanted {
    /// These outputs at these places.
    Delivered(&'static [(&'static str, &'static str)]),
    /// Turned away, with these words in the reason.
    TurnedAway(&'static str),
}

macro_rules! sample {
    ($name:literal, $wanted:expr) => {
        Sample {
            name: $name,
            bytes: include_bytes!(concat!("../../../../demo/media/", $name)),
            wanted: $wanted,
        }
    };
}

const CAMERA: &str = "hide-camera-A014.mp4";

const SAMPLES: &[Sample] = &[
    sample!(
        "hide-camera-A014.mp4",
        Wanted::Delivered(&[
            ("editors", "hide-camera-A014_proxy.mp4"),
            ("archive", "A014/hide-camera-A014_listen.m4a")
        ])
    ),
    sample!(
        "warden-interview.mp4",
        Wanted::Delivered(&[
            ("editors", "warden-interview_proxy.mp4"),
            ("archive", "B002/warden-interview_listen.m4a"),
            ("editors", "warden-interview.txt"),
            ("editors", "warden-interview.srt"),
            ("editors", "warden-interview.vtt"),
            ("editors", "warden-interview.json"),
            ("editors", "warden-interview.html"),
            ("editors", "warden-interview.summary.html"),
            ("editors", "warden-interview_sheet.jpg"),
            ("archive", "warden-interview_stream")
        ])
    ),
    sample!("dawn-north-sluice.wav", Wanted::Delivered(&[("editors", "dawn-north-sluice_listen.m4a")])),
    sample!(
        "avocet-by-the-sluice.jpg",
        Wanted::Delivered(&[
            ("editors", "avocet-by-the-sluice_preview.jpg"),
            ("archive", "avocet-by-the-sluice_preview.jpg")
        ])
    ),
    sample!("card-2-damaged.mp4", Wanted::TurnedAway("cut off")),
    sample!("call-sheet-day-3.txt", Wanted::TurnedAway("this is text")),
];

/// What the camera clip gives when it is dropped a second time.
const AGAIN: Wanted = Wanted::Delivered(&[
    ("editors", "hide-camera-A014_proxy_2.mp4"),
    ("archive", "A014/hide-camera-A014_listen_2.m4a"),
]);

/// A copy is written in this many parts, with a pause after each: slower than the watch's steady time.
const PARTS: usize = 6;
const PAUSE: Duration = Duration::from_millis(250);
const PATIENCE: Duration = Duration::from_secs(50);

pub fn demo(a: &Demo) -> Result<ExitCode> {
    let started = Instant::now();
    clear(&a.dir)?;
    let house = init::build(&a.dir, CONFIG)?;
    let arrivals = house.watches[0].folder.clone();
    crate::say!("\"{}\" is a house in {}", house.name, media::show::path(&a.dir));
    crate::say!(
        "Starting the porter on it, and copying {} files in as a card reader would.\n",
        SAMPLES.len()
    );
    let mut porter = Porter::start(&a.dir)?;
    std::thread::scope(|scope| {
        let copies: Vec<_> =
            SAMPLES.iter().map(|s| scope.spawn(|| copy_slowly(&arrivals.join(s.name), s.bytes))).collect();
        copies.into_iter().try_for_each(|c| c.join().unwrap_or_else(|_| bail!("a copy ended early")))
    })?;
    wait_for(&house, &mut porter, SAMPLES.len())?;
    crate::say!("\nThe same card again: {CAMERA} under the same name.\n");
    copy_slowly(&arrivals.join(CAMERA), SAMPLES[0].bytes)?;
    wait_for(&house, &mut porter, SAMPLES.len() + 1)?;
    porter.stop();

    let good = show_results(&house, &a.dir)?;
    crate::say!("\nTook {}.", ui::seconds(started.elapsed().as_secs_f64()));
    if good {
        crate::say!("Everything is as it should be. Have a look:\n");
        crate::say!(
            "  deft-porter status {0}\n  deft-porter status {0} --job 1\n  deft-porter inspect {0}/editors\n  deft-porter find tide --house {0}\n  cat {0}/turned-away/*.why.txt",
            init::quoted(&a.dir)
        );
    } else {
        crate::say!("SOMETHING IS NOT AS IT SHOULD BE; see the lines marked WRONG.");
    }
    Ok(ExitCode::from(u8::from(!good)))
}

/// Only an earlier demo is cleared away, never anything else.
fn clear(dir: &Path) -> Result<()> {
    let Ok(mut entries) = std::fs::read_dir(dir) else { return Ok(()) };
    let earlier = std::fs::read_to_string(dir.join(FILE_NAME)).is_ok_and(|c| c == CONFIG);
    if earlier {
        return std::fs::remove_dir_all(dir)
            .with_context(|| format!("cannot clear {}", media::show::path(dir)));
    }
    if entries.next().is_some() {
        bail!("{} is not empty and no earlier demo; give another folder", media::show::path(dir));
    }
    Ok(())
}

fn copy_slowly(to: &Path, bytes: &[u8]) -> Result<()> {
    let mut file = File::create(to).with_context(|| format!("cannot write {}", media::show::path(to)))?;
    for part in bytes.chunks(bytes.len().div_ceil(PARTS)) {
        file.write_all(part).with_context(|| format!("cannot write {}", media::show::path(to)))?;
        file.flush()?;
        std::thread::sleep(PAUSE);
    }
    Ok(())
}

/// The real porter, as its own process.
struct Porter(Child);

impl Porter {
    fn start(dir: &Path) -> Result<Porter> {
        let program = std::env::current_exe().context("cannot find this program's own file")?;
        let child = Command::new(program)
            .arg("run")
            .arg(dir)
            .stdin(Stdio::null())
            .spawn()
            .context("cannot start the porter")?;
        Ok(Porter(child))
    }
    fn stop(&mut self) {
        if let Some(pid) = rustix::process::Pid::from_raw(self.0.id() as i32) {
            let _ = rustix::process::kill_process(pid, rustix::process::Signal::TERM);
        }
        let _ = self.0.wait();
    }
}

impl Drop for Porter {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn wait_for(house: &House, porter: &mut Porter, jobs: usize) -> Result<()> {
    let start = Instant::now();
    loop {
        let status = report::status(house, 100)?;
        if status.ended.len() >= jobs && status.open.is_empty() && status.arriving.is_empty() {
            return Ok(());
        }
        if let Some(code) = porter.0.try_wait()? {
            bail!("the porter ended early ({code})");
        }
        if start.elapsed() > PATIENCE {
            bail!("{} of {jobs} files came to an end within {} s", status.ended.len(), PATIENCE.as_secs());
        }
        std::thread::sleep(Duration::from_millis(150));
    }
}

fn show_results(house: &House, dir: &Path) -> Result<bool> {
    let mut jobs = report::status(house, 100)?.ended;
    jobs.sort_by_key(|j| j.job);
    crate::say!("\nWhat came of each file");
    let mut good = true;
    let mut seen_camera = false;
    for sample in SAMPLES.iter().map(|s| (s.name, s.wanted)).chain([(CAMERA, AGAIN)]) {
        let (name, wanted) = sample;
        let again = name == CAMERA && std::mem::replace(&mut seen_camera, true);
        let mut of_name = jobs.iter().filter(|j| j.path == name);
        let job = if again { of_name.nth(1) } else { of_name.next() };
        let verdict = match job {
            Some(job) => judge(house, job, wanted),
            None => Err("no job of this name".to_owned()),
        };
        // What was to be turned away and was is as it should be, and no good news.
        let word = match (verdict.is_ok(), wanted) {
            (false, _) => "WRONG     ",
            (true, Wanted::TurnedAway(_)) => "turned away",
            (true, Wanted::Delivered(_)) => "delivered  ",
        };
        crate::say!("\n  {word} {name}{}", if again { " (again)" } else { "" });
        good &= verdict.is_ok();
        let lines = verdict.unwrap_or_else(|why| vec![why]);
        lines.iter().for_each(|l| crate::say!("        {l}"));
    }
    let entries = std::fs::read_dir(dir.join("arrivals"))?.flatten();
    let left = entries.filter(|e| !e.file_name().to_string_lossy().starts_with('.')).count();
    if left > 0 || jobs.len() != SAMPLES.len() + 1 {
        crate::say!("\n  WRONG {left} files are left in the watch folder, and {} jobs ended", jobs.len());
        good = false;
    }
    Ok(good)
}

/// Looks at what is really there, not only at what the record says.
fn judge(house: &House, job: &JobStatus, wanted: Wanted) -> std::result::Result<Vec<String>, String> {
    let original =
        job.original.as_ref().map(Path::new).filter(|p| p.exists()).ok_or("the original is gone")?;
    match wanted {
        Wanted::TurnedAway(words) => {
            let reason = job.reason.clone().unwrap_or_default();
            let beside = format!("{}.why.txt", media::show::path(original));
            let told = std::fs::read_to_string(&beside).map_err(|e| format!("{beside}: {e}"))?;
            if job.state != State::TurnedAway || !reason.contains(words) || !told.contains(&reason) {
                return Err(format!("{}: {reason}", job.state.name()));
            }
            Ok(vec![reason])
        }
        Wanted::Delivered(list) => {
            if job.state != State::Done {
                return Err(format!("{}: {}", job.state.name(), job.reason.clone().unwrap_or_default()));
            }
            let source = porter::jobs::facts_of(original).map_err(|e| e.to_string())?;
            list.iter().map(|(place, name)| delivered(house, job, &source, place, name)).collect()
        }
    }
}

/// What a transcript or a caption file holds, read back from it; `None` for media.
fn words_in(path: &Path) -> Option<std::result::Result<String, String>> {
    let name = path.file_name()?.to_str()?;
    let form = Form::ALL.into_iter().rev().find(|f| name.ends_with(&format!(".{}", f.extension())))?;
    let held = || -> Result<String> {
        let bytes = std::fs::read(path)?;
        Ok(match form {
            Form::Srt | Form::Vtt | Form::Ttml => {
                format!("{} cues", words::captions::read::read(&bytes)?.cues.len())
            }
            Form::Json => {
                format!("{} words", serde_json::from_slice::<words::Transcript>(&bytes)?.words().count())
            }
            Form::Html | Form::SummaryHtml => {
                let kind = if form == Form::Html { "reading page" } else { "summary" };
                let page = String::from_utf8(bytes)?;
                anyhow::ensure!(page.ends_with("</html>\n"), "the {kind} is not whole");
                format!("{kind}, {}", ui::bytes(page.len() as u64))
            }
            _ => format!("{} words", String::from_utf8(bytes)?.split_whitespace().count()),
        })
    };
    Some(held().map_err(|e| e.to_string()))
}

/// What a stream holds: every film in it is read, and its lists are there.
fn folder_of(path: &Path) -> std::result::Result<String, String> {
    let (mut files, mut bytes, mut films) = (0, 0, 0);
    for entry in std::fs::read_dir(path).map_err(|e| e.to_string())?.flatten() {
        (files, bytes) = (files + 1, bytes + entry.metadata().map_or(0, |m| m.len()));
        if entry.path().extension().is_some_and(|e| e == "mp4") {
            let facts = porter::jobs::facts_of(&entry.path()).map_err(|e| e.to_string())?;
            films += usize::from(facts.damage.is_none());
        }
    }
    let lists = ["master.m3u8", "manifest.mpd"].iter().all(|l| path.join(l).exists());
    if !lists || films == 0 {
        return Err(format!("{} is no whole stream", media::show::path(path)));
    }
    Ok(format!("{films} tracks in {files} files, {}", ui::bytes(bytes)))
}

fn delivered(
    house: &House,
    job: &JobStatus,
    source: &media::facts::Facts,
    place: &str,
    name: &str,
) -> std::result::Result<String, String> {
    let recorded = job
        .outputs
        .iter()
        .find(|o| o.deliveries.iter().any(|d| d.place == place && d.name == name && d.delivered.is_some()));
    let recorded = recorded.ok_or_else(|| format!("{place}: {name} was not delivered"))?;
    let folder = house.place(place).and_then(|p| p.folder()).ok_or("no such place")?;
    let path = folder.join(name);
    if path.is_dir() {
        return folder_of(&path).map(|what| format!("{place:<8} {name:<36} {what}"));
    }
    let digest = porter::files::copy::digest(&path, true).map_err(|e| e.to_string())?;
    if recorded.checksum.as_deref() != Some(&digest) {
        return Err(format!("{place}: {name} has another checksum than was recorded"));
    }
    if let Some(what) = words_in(&path) {
        return Ok(format!("{place:<8} {name:<36} {}", what?));
    }
    let facts = porter::jobs::facts_of(&path).map_err(|e| e.to_string())?;
    if let (Some(a), Some(b)) = (source.picture(), facts.picture())
        && b.rate.is_some()
        && ((a.frames, a.rate) != (b.frames, b.rate) || source.timecode != facts.timecode)
    {
        return Err(format!("{place}: {name} has another frame count, rate or timecode than its source"));
    }
    let what = match facts.picture() {
        Some(v) if v.rate.is_some() => format!("{}x{}, {} frames", v.width, v.height, v.frames.unwrap_or(0)),
        Some(v) => format!("{}x{}", v.width, v.height),
        None => facts.duration.map_or(String::new(), |d| ui::seconds(d.seconds)),
    };
    Ok(format!("{place:<8} {name:<36} {what}, {}", ui::bytes(facts.bytes)))
}
