//! `copy`: a card or folder to several places at once, read once, read back, with a manifest.

use crate::args;
use crate::ui::bytes_line::BytesLine;
use crate::ui::{self, bytes, errors, seconds};
use anyhow::{Context, Result, bail};
use porter::files::Dir;
use porter::files::fitting::refusal;
use porter::offload::copy::Copied;
use porter::offload::{self, tree};
use std::path::PathBuf;
use std::process::ExitCode;

/// Most problems that are listed one by one.
const MOST: usize = 20;

pub fn copy(a: &args::Copy) -> Result<ExitCode> {
    if !a.source.is_dir() {
        bail!("{} is no folder", media::show::path(&a.source));
    }
    // Into a folder of the card's name, so that two cards do not mix.
    let targets: Vec<PathBuf> = match (a.flat, a.source.canonicalize()?.file_name()) {
        (false, Some(name)) => {
            a.to.iter().map(|t| t.join(a.name.as_ref().map_or(name, |n| n.as_ref()))).collect()
        }
        _ => a.to.clone(),
    };
    for (to, target) in a.to.iter().zip(&targets) {
        if !to.is_dir() {
            bail!("{} is not there: make it, or mount its disk", media::show::path(to));
        }
        let name = target.strip_prefix(to).unwrap_or(target);
        if let Some(why) = refusal(&Dir::open(to)?, name) {
            bail!("{}: {why}: say another name with --name", media::show::path(target));
        }
        std::fs::create_dir_all(target)
            .with_context(|| format!("cannot make the folder {}", media::show::path(target)))?;
    }
    let found = tree::of(&Dir::open(&a.source)?, true)
        .with_context(|| format!("cannot read {}", media::show::path(&a.source)))?;
    let all: u64 = found.files.iter().map(|f| f.seen.size).sum();
    let line = BytesLine::start(all * 2)?;
    let result = offload::copy(&a.source, &targets, &line);
    let took = line.end();
    let copied = match result {
        Err(porter::error::Error::Stopped) => {
            bail!("stopped; what is whole stays, and the same command goes on from there")
        }
        other => other?,
    };
    if a.json {
        ui::print_json(&copied)?;
    } else {
        tell(&copied, took.as_secs_f64());
    }
    Ok(ExitCode::from(if copied.safe_to_erase { 0 } else { errors::FAILED }))
}

fn tell(c: &Copied, took: f64) {
    let speed = bytes((c.bytes as f64 / took.max(0.001)) as u64);
    crate::say!("{} files, {}, read once in {} ({speed}/s)", c.files, bytes(c.bytes), seconds(took));
    for t in &c.targets {
        let state = if t.problems.is_empty() { "ok" } else { "NOT WHOLE" };
        let before = match t.there_before {
            0 => String::new(),
            n => format!(", {n} were there and are the same"),
        };
        crate::say!("  {state:<10} {}: {} copied and read back{before}", t.path, t.copied);
        if let Some(manifest) = &t.manifest {
            crate::say!("  {:<10} {manifest}", "");
        }
        problems(&t.problems);
    }
    if !c.left.is_empty() {
        crate::say!("  NOT COPIED");
        problems(&c.left);
    }
    let last = match (c.safe_to_erase, c.files) {
        (true, _) => "Safe to erase: every file is at every target, and was read back there.",
        (false, 0) => "There is no file in it.",
        (false, _) => "NOT safe to erase.",
    };
    crate::say!("{last}");
}

fn problems(all: &[porter::offload::copy::Problem]) {
    for p in all.iter().take(MOST) {
        crate::say!("  {:<10} {}: {}", "", p.path, p.why);
    }
    if all.len() > MOST {
        crate::say!("  {:<10} and {} more (--json lists all)", "", all.len() - MOST);
    }
}
