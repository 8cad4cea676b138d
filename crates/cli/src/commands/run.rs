//! `run`: the porter at work, telling each event as it is recorded.

use crate::args::Run;
use crate::ui::events;
use anyhow::{Context, Result};
use porter::config::House;
use porter::jobs::Porter;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

pub fn run(a: &Run) -> Result<ExitCode> {
    tracing_subscriber::fmt().with_writer(std::io::stderr).with_target(false).without_time().init();
    let house = House::load(&a.house.house)?;
    let stop = Arc::new(AtomicBool::new(false));
    let asked = stop.clone();
    ctrlc::set_handler(move || asked.store(true, Ordering::Relaxed))
        .context("cannot listen for the signal to stop")?;
    let program = std::env::current_exe().context("cannot find this program's own file")?;
    let folders: Vec<String> =
        house.watches.iter().map(|w| format!("  {} ({})", w.folder.display(), w.name)).collect();
    let porter = Porter::open(house, program, stop)?;
    crate::say!("Watching for \"{}\"; stop with Ctrl-C.\n{}\n", porter.house.name, folders.join("\n"));
    let ended = porter.run(a.once, events::print)?;
    if !a.once {
        return Ok(ExitCode::SUCCESS);
    }
    crate::say!(
        "\n{} done, {} turned away, {} held, {} not ready",
        ended.done,
        ended.turned_away,
        ended.held,
        ended.waiting
    );
    Ok(ExitCode::from(u8::from(ended.turned_away + ended.held > 0)))
}
