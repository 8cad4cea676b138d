//! `init`: a configuration to start from, and its folders.

use crate::args::Init;
use anyhow::{Context, Result, bail};
use porter::config::{FILE_NAME, House};
use std::path::Path;
use std::process::ExitCode;

const START: &str = include_str!("init.toml");

pub fn init(a: &Init) -> Result<ExitCode> {
    let file = a.dir.join(FILE_NAME);
    if file.symlink_metadata().is_ok() {
        bail!("{} is already there; edit it, or choose another folder", file.display());
    }
    build(&a.dir, START)?;
    let house = House::load(&file)?;
    crate::say!("Made a house in {}:\n", a.dir.display());
    crate::say!("  {FILE_NAME:<18} what to watch, make and deliver");
    for w in &house.watches {
        crate::say!("  {:<18} drop files here", inside(&a.dir, &w.folder));
    }
    for p in &house.places {
        crate::say!("  {:<18} find the outputs here", inside(&a.dir, &p.folder));
    }
    crate::say!("\nNext: deft-porter run {}", a.dir.display());
    Ok(ExitCode::SUCCESS)
}

fn inside(dir: &Path, path: &Path) -> String {
    let dir = std::fs::canonicalize(dir).unwrap_or_else(|_| dir.to_owned());
    path.strip_prefix(&dir).unwrap_or(path).display().to_string()
}

/// Writes a configuration and makes every folder it names.
pub fn build(dir: &Path, config: &str) -> Result<House> {
    std::fs::create_dir_all(dir).with_context(|| format!("cannot make the folder {}", dir.display()))?;
    let file = dir.join(FILE_NAME);
    std::fs::write(&file, config).with_context(|| format!("cannot write {}", file.display()))?;
    let house = House::load(&file)?;
    let watched = house
        .watches
        .iter()
        .flat_map(|w| [Some(&w.folder), w.done.as_ref(), Some(&w.turned_away)].into_iter().flatten());
    for folder in watched.chain(house.places.iter().map(|p| &p.folder)).chain([&house.state]) {
        std::fs::create_dir_all(folder)
            .with_context(|| format!("cannot make the folder {}", folder.display()))?;
    }
    Ok(house)
}
