//! What watching costs: many files at once, many that lie there, many rules, a long run of frames.

use super::house::own_time;
use super::{Anyhow, Bench, figure, median, processor, quiet};
use media::facts;
use porter::clock;
use porter::config::House;
use porter::route::{self, Item};
use porter::store::Store;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const MANY: usize = 10_000;
const TREE: usize = 100_000;
const RULES: usize = 10;

/// A house whose porter takes in and begins nothing; `watches` is its tables.
fn paused(b: &Bench, name: &str, watches: &str) -> Result<House, Anyhow> {
    let dir = b.dir.join(name);
    for folder in ["in", "out", "away"] {
        std::fs::create_dir_all(dir.join(folder))?;
    }
    let rest = "[[place]]\nname = \"out\"\nfolder = \"out\"\n[[rule]]\nname = \"all\"\n\
                make = [{ original = true, to = [\"out\"] }]\n";
    let text = format!("[house]\nname = \"Estuary Hours\"\n{watches}\n{rest}");
    std::fs::write(dir.join("deft-porter.toml"), text)?;
    quiet(Command::new(&b.program).args(["run", "--once"]).arg(&dir))?;
    quiet(Command::new(&b.program).arg("pause").arg(&dir))?;
    Ok(House::load(&dir)?)
}

fn start(b: &Bench, house: &House) -> Result<Child, Anyhow> {
    let mut c = Command::new(&b.program);
    let dir = house.file.parent().unwrap_or(Path::new("/"));
    Ok(c.arg("run").arg(dir).stdout(Stdio::null()).stderr(Stdio::null()).spawn()?)
}

fn end(mut porter: Child) -> Result<(), Anyhow> {
    porter.kill()?;
    porter.wait()?;
    Ok(())
}

/// Until so many jobs are in the record: how long it took.
fn queued(house: &House, wanted: u64) -> Result<f64, Anyhow> {
    let start = Instant::now();
    let store = Store::look(&house.store_file())?.ok_or("no store")?;
    while store.read(|v| v.open_count())? < wanted {
        if start.elapsed() > Duration::from_secs(300) {
            return Err("they were never queued".into());
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(start.elapsed().as_secs_f64())
}

fn most_memory(pid: u32) -> Result<f64, Anyhow> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status"))?;
    let line = status.lines().find(|l| l.starts_with("VmHWM:")).unwrap_or_default();
    Ok(line.split_whitespace().nth(1).unwrap_or("0").parse::<f64>()? / 1000.0)
}

fn watch(n: usize, more: &str) -> String {
    format!(
        "[[watch]]\nname = \"w{n}\"\nfolder = \"in/{n}\"\noriginal = \"leave\"\nturned_away = \"away\"\n{more}\n"
    )
}

fn fill(folder: &Path, files: usize, ending: &str) -> Result<(), Anyhow> {
    for n in 0..files {
        let at = folder.join(format!("d{:03}", n / 1000));
        if n % 1000 == 0 {
            std::fs::create_dir_all(&at)?;
        }
        std::fs::write(at.join(format!("clip.{n:06}.{ending}")), b"x")?;
    }
    Ok(())
}

fn many_at_once(b: &Bench) -> Result<(), Anyhow> {
    let house = paused(b, "many", &watch(0, "steady = \"1 s\"\nlook_every = \"1 s\""))?;
    std::fs::create_dir_all(house.watches[0].folder.clone())?;
    let porter = start(b, &house)?;
    std::thread::sleep(Duration::from_secs(1));
    fill(&house.watches[0].folder, MANY, "mov")?;
    std::thread::sleep(Duration::from_secs(1));
    let behind = queued(&house, MANY as u64)?;
    figure("10,000 files at once: queued after they are steady", behind, "s", 5.0, true);
    figure("10,000 files at once: the porter's memory", most_memory(porter.id())?, "MB", 100.0, true);
    end(porter)
}

pub fn tree(b: &Bench) -> Result<(), Anyhow> {
    let every = 4.0;
    let house = paused(b, "tree", &watch(0, &format!("steady = \"1 s\"\nlook_every = \"{every} s\"")))?;
    let folder = house.watches[0].folder.clone();
    fill(&folder, TREE, "mov")?;
    let porter = start(b, &house)?;
    queued(&house, TREE as u64)?;
    std::thread::sleep(Duration::from_secs(6));
    let mut finds = Vec::new();
    let (before, began) = (own_time(porter.id())?, Instant::now());
    for _ in 0..8 {
        // A folder in which nothing happens would not be gone through.
        std::fs::write(folder.join(".tick"), b"x")?;
        std::thread::sleep(Duration::from_secs_f64(every));
        let mut find = Command::new("find");
        finds.push(processor(find.arg(&folder).args(["-printf", "%s %T@\\n"]))? * 1000.0);
    }
    let looks = began.elapsed().as_secs_f64() / every;
    let each = (own_time(porter.id())? - before) / looks * 1000.0;
    let find = median(finds);
    eprintln!("  a look at 100,000 files {each:.0} ms of processor time, find {find:.0} ms");
    figure("a look at 100,000 unchanged files / find -printf", each / find, "x", 1.3, true);
    end(porter)
}

fn idle(b: &Bench) -> Result<(), Anyhow> {
    let all: String = (0..20).map(|n| watch(n, "")).collect();
    let house = paused(b, "twenty", &all)?;
    for w in &house.watches {
        fill(&w.folder, MANY / 20, "mov")?;
    }
    let porter = start(b, &house)?;
    queued(&house, MANY as u64)?;
    // Until it is calm; then so long that every folder is gone through once.
    std::thread::sleep(Duration::from_secs(30));
    let (before, span) = (own_time(porter.id())?, 185.0);
    std::thread::sleep(Duration::from_secs_f64(span));
    let share = (own_time(porter.id())? - before) / span * 100.0;
    figure("idle porter, 20 watches, 10,000 files in them", share, "% of a core", 0.1, true);
    end(porter)
}

fn rules(b: &Bench) -> Result<(), Anyhow> {
    let dir = b.dir.join("rules");
    std::fs::create_dir_all(&dir)?;
    let mut text = format!(
        "[house]\nname = \"Estuary Hours\"\n{}[[place]]\nname = \"out\"\nfolder = \"out\"\n",
        watch(0, "")
    );
    for n in 0..RULES {
        text.push_str(&format!(
            "[[rule]]\nname = \"r{n}\"\nwhen = 'kind == \"video\" && height >= {} && stem.contains(\"EP{n}\")'\n\
             make = [{{ original = true, to = [\"out\"] }}]\n",
            700 + n
        ));
    }
    std::fs::write(dir.join("deft-porter.toml"), text)?;
    let house = House::load(&dir)?;
    let film = super::hd_clip(b, "rules.mp4", 1)?;
    let facts = facts::of(Box::new(std::fs::File::open(film)?))?;
    let path = Path::new("day1/EP3_SC12_T4.mov");
    let item = Item::new("w0", path, clock::now(), 1);
    let (start, mut done) = (Instant::now(), 0);
    while start.elapsed() < Duration::from_secs(2) {
        let decision = route::decide(&house, &item, &facts);
        assert_eq!(decision.outputs.len(), 1);
        done += RULES;
    }
    let rate = done as f64 / start.elapsed().as_secs_f64();
    figure("rules decided, with their names", rate, "a second", 100_000.0, false);
    Ok(())
}

fn run_of_frames(b: &Bench) -> Result<(), Anyhow> {
    let more = "steady = \"1 s\"\nlook_every = \"1 s\"\nframes_steady = \"3 s\"\nframes = [\"*.dpx\"]";
    let house = paused(b, "run", &watch(0, more))?;
    let folder = house.watches[0].folder.clone();
    std::fs::create_dir_all(&folder)?;
    let porter = start(b, &house)?;
    for n in 0..TREE {
        std::fs::write(folder.join(format!("shot.{n:06}.dpx")), b"x")?;
    }
    std::thread::sleep(Duration::from_secs(3));
    let behind = queued(&house, 1)?;
    std::thread::sleep(Duration::from_secs(2));
    let store = Store::look(&house.store_file())?.ok_or("no store")?;
    let rows = store.read(|v| v.open_count())?;
    figure("a run of 100,000 frames: one arrival after it is steady", behind, "s", 2.0, true);
    figure("a run of 100,000 frames: rows of the store", rows as f64, "", 1.0, true);
    end(porter)
}

pub fn watches(b: &Bench) -> Result<(), Anyhow> {
    rules(b)?;
    many_at_once(b)?;
    run_of_frames(b)?;
    idle(b)
}
