//! Manual pages and completions, from the arguments themselves.

use crate::args::{Args, Completions, Manual};
use crate::ui;
use anyhow::{Context, Result};
use clap::CommandFactory;
use std::process::ExitCode;

pub fn completions(a: &Completions) -> Result<ExitCode> {
    clap_complete::generate(a.shell, &mut Args::command(), "deft-porter", &mut std::io::stdout());
    Ok(ExitCode::SUCCESS)
}

/// What a page says behind the options: examples, exit statuses, files.
fn more(command: &str) -> String {
    let examples: &[&str] = match command {
        "init" => &["deft-porter init my-house"],
        "check" => &["deft-porter check my-house", "deft-porter check --mark my-house"],
        "run" => &["deft-porter run my-house", "deft-porter run --once --json my-house"],
        "status" => &["deft-porter status my-house", "deft-porter status --job 7 --house my-house"],
        "formats" => &["deft-porter formats", "deft-porter formats --json"],
        "inspect" => &["deft-porter inspect clip.mov", "deft-porter inspect --deep --json clip.mov"],
        "plan" => &["deft-porter plan clip.mov --preset web-1080 web-720 poster"],
        "convert" => &[
            "deft-porter convert clip.mov --preset web-1080 web-720 podcast --to out",
            "deft-porter convert *.mov --preset edit-proxy-720 --to Proxy --name {stem}",
        ],
        "presets" => &["deft-porter presets list", "deft-porter presets show web-720"],
        "transcribe" => &["deft-porter transcribe interview.mov --as txt,srt --to words/"],
        "find" => &["deft-porter find \"salt marsh\" --house my-house"],
        "captions" => &["deft-porter captions film.srt --to film.vtt --shift 1.5"],
        "stand-in" => &["deft-porter stand-in speech --port 8790"],
        "demo" => &["deft-porter demo"],
        "completions" => &["deft-porter completions bash > deft-porter.bash"],
        "manual" => &["deft-porter manual man/"],
        _ => &["deft-porter demo", "deft-porter init my-house", "deft-porter run my-house"],
    };
    let examples: String = examples.iter().map(|e| format!("  {e}\n")).collect();
    format!("Examples:\n{examples}\n{}\n{FILES}", ui::errors::STATUSES)
}

const FILES: &str = "Files:
  deft-porter.toml        the house: what to watch, make and deliver
  porter-state/           its record and work in progress (mode 0700)
  .deft-porter-folder     marker by which a folder of a house is known again
  NAME.why.txt            beside a file that was turned away: why
";

pub fn pages(a: &Manual) -> Result<ExitCode> {
    std::fs::create_dir_all(&a.dir)
        .with_context(|| format!("cannot make the folder {}", media::show::path(&a.dir)))?;
    let command = Args::command().after_long_help(more(""));
    let names: Vec<String> = command.get_subcommands().map(|c| c.get_name().to_owned()).collect();
    let command = names.iter().fold(command, |c, n| {
        c.mut_subcommand(n, |s| {
            let inner: Vec<String> = s.get_subcommands().map(|c| c.get_name().to_owned()).collect();
            let s = inner.iter().fold(s, |s, i| s.mut_subcommand(i, |s| s.after_long_help(more(n))));
            s.after_long_help(more(n))
        })
    });
    clap_mangen::generate_to(command, &a.dir)
        .with_context(|| format!("cannot write into {}", media::show::path(&a.dir)))?;
    crate::say!("Manual pages are in {}", media::show::path(&a.dir));
    Ok(ExitCode::SUCCESS)
}
