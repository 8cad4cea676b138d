//! What a house costs beside its work: waiting, telling, and giving out tasks.

use super::{Anyhow, Bench, HOUSE, figure, quiet, wall};
use media::testkit::{Clip, write_clip};
use porter::files::Seen;
use porter::store::{Change, Store};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

const ENDED: i64 = 100_000;
const JOBS: u32 = 200;

pub fn new_house(dir: &Path) -> Result<(), Anyhow> {
    for folder in ["in", "out", "away"] {
        std::fs::create_dir_all(dir.join(folder))?;
    }
    std::fs::write(dir.join("deft-porter.toml"), HOUSE)?;
    Ok(())
}

/// Seconds of processor time that a process took itself.
pub fn own_time(pid: u32) -> Result<f64, Anyhow> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat"))?;
    let fields: Vec<&str> = stat.rsplit(") ").next().unwrap_or("").split(' ').collect();
    Ok((fields[11].parse::<f64>()? + fields[12].parse::<f64>()?) / 100.0)
}

/// An idle porter with 100,000 ended jobs, and `status` beside it.
pub fn idle(b: &Bench) -> Result<(), Anyhow> {
    let dir = b.dir.join("idle");
    new_house(&dir)?;
    quiet(Command::new(&b.program).args(["run", "--once"]).arg(&dir))?;
    let store = Store::open(&porter::config::House::load(&dir)?.store_file())?;
    for start in (1..=ENDED).step_by(1000) {
        store.commit((start..start + 1000).flat_map(|job| {
            let seen = Seen { size: 5, modified: job, changed: 1, inode: job as u64 };
            let (watch, path) = ("in".to_owned(), format!("day/clip-{job}.mp4").into());
            [
                Change::Arrived { job, watch, path, seen, priority: 0, many: None, beside: Vec::new() },
                Change::Done { job, note: None, content: None },
            ]
        }))?;
    }
    drop(store);
    let mut porter = Command::new(&b.program).arg("run").arg(&dir).stdout(Stdio::null()).spawn()?;
    std::thread::sleep(Duration::from_secs(2));
    let (before, span) = (own_time(porter.id())?, 30.0);
    std::thread::sleep(Duration::from_secs_f64(span));
    let share = (own_time(porter.id())? - before) / span * 100.0;
    figure("idle porter, 100,000 ended jobs", share, "% of a core", 0.2, true);
    let status = wall(|| quiet(Command::new(&b.program).arg("status").arg(&dir)), 9)?;
    figure("status, 100,000 ended jobs", status, "ms", 50.0, true);
    porter.kill()?;
    porter.wait()?;
    Ok(())
}

/// The porter's own processor time for each of many small jobs; making is done in children.
pub fn dispatch(b: &Bench) -> Result<(), Anyhow> {
    let dir = b.dir.join("dispatch");
    new_house(&dir)?;
    let data: Vec<u8> = (0..1600u32).flat_map(|i| ((i * 37 % 2000) as i16).to_le_bytes()).collect();
    let mut wav = b"RIFF".to_vec();
    wav.extend((36 + data.len() as u32).to_le_bytes());
    wav.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0\x80\x3e\0\0\0\x7d\0\0\x02\0\x10\0data");
    wav.extend((data.len() as u32).to_le_bytes());
    wav.extend(data);
    for n in 0..JOBS {
        std::fs::write(dir.join(format!("in/{n}.wav")), &wav)?;
    }
    let mut porter = Command::new(&b.program).arg("run").arg(&dir).stdout(Stdio::null()).spawn()?;
    let start = std::time::Instant::now();
    while std::fs::read_dir(dir.join("out"))?.count() < JOBS as usize {
        if start.elapsed() > Duration::from_secs(300) {
            porter.kill()?;
            return Err("the jobs did not end".into());
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    std::thread::sleep(Duration::from_millis(300));
    let each = own_time(porter.id())? / f64::from(JOBS) * 1000.0;
    porter.kill()?;
    porter.wait()?;
    eprintln!("  {JOBS} small jobs in {:.1} s", start.elapsed().as_secs_f64());
    figure("the porter's own processor time for a small job", each, "ms", 3.0, true);
    Ok(())
}

/// A ten-minute encode that is killed at 90 %: what its end costs again.
pub fn resume(b: &Bench) -> Result<(), Anyhow> {
    let clip = b.dir.join("ten-minutes.mp4");
    let ten = Clip { width: 1280, height: 720, frames: 250, times: 60, ..Clip::default() };
    write_clip(&ten, super::create(&clip)?)?;
    let house = |name: &str| -> Result<std::path::PathBuf, Anyhow> {
        let dir = b.dir.join(name);
        new_house(&dir)?;
        let text = "[house]\nname = \"Estuary Hours\"\n[[watch]]\nname = \"in\"\nfolder = \"in\"\nsteady = \"200 ms\"\n\
            look_every = \"200 ms\"\noriginal = \"leave\"\nturned_away = \"away\"\n[[place]]\nname = \"out\"\nfolder = \"out\"\n\
            [[rule]]\nname = \"all\"\nmake = [{ preset = \"web-720\", to = [\"out\"] }]\n";
        std::fs::write(dir.join("deft-porter.toml"), text)?;
        std::fs::copy(&clip, dir.join("in/tide.mp4"))?;
        Ok(dir)
    };
    let once = |dir: &Path| super::processor(Command::new(&b.program).args(["run", "--once"]).arg(dir));
    let unbroken = once(&house("unbroken")?)?;
    let dir = house("broken")?;
    let mut porter = Command::new(&b.program).arg("run").arg(&dir).stdout(Stdio::null()).spawn()?;
    loop {
        std::thread::sleep(Duration::from_millis(100));
        let told = Command::new(&b.program).args(["status", "--json"]).arg(&dir).output()?;
        let told: serde_json::Value = serde_json::from_slice(&told.stdout)?;
        if told["open"][0]["progress"]["percent"].as_f64().unwrap_or(0.0) >= 90.0 {
            break;
        }
        if told["ended"].as_array().is_some_and(|e| !e.is_empty()) {
            return Err("it was done before it could be killed".into());
        }
    }
    porter.kill()?;
    porter.wait()?;
    let rest = once(&dir)?;
    eprintln!("  unbroken {unbroken:.1} s of processor time, after the kill {rest:.1} s");
    figure("a 10-minute encode killed at 90 %: made again", rest / unbroken * 100.0, "%", 15.0, true);
    Ok(())
}
