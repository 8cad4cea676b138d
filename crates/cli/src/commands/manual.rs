//! Manual pages and completions, from the arguments themselves.

use crate::args::{Args, Completions, Manual};
use anyhow::{Context, Result};
use clap::CommandFactory;
use std::process::ExitCode;

pub fn completions(a: &Completions) -> Result<ExitCode> {
    clap_complete::generate(a.shell, &mut Args::command(), "deft-porter", &mut std::io::stdout());
    Ok(ExitCode::SUCCESS)
}

pub fn pages(a: &Manual) -> Result<ExitCode> {
    std::fs::create_dir_all(&a.dir)
        .with_context(|| format!("cannot make the folder {}", media::show::path(&a.dir)))?;
    clap_mangen::generate_to(Args::command(), &a.dir)
        .with_context(|| format!("cannot write into {}", media::show::path(&a.dir)))?;
    crate::say!("Manual pages are in {}", media::show::path(&a.dir));
    Ok(ExitCode::SUCCESS)
}
