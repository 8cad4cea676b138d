//! `run`: the porter at work, telling each event as it is recorded.

use crate::args::Run;
use crate::ui::{self, events, printer::Printer};
use anyhow::{Context, Result};
use media::show;
use porter::config::House;
use porter::jobs::{Porter, Stopper};
use porter::report::EventStatus;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use std::process::ExitCode;
use std::sync::Arc;

/// Told to stop a second time, it ends at once; what was under way goes on at the next start all the same.
const ENDED_AT_ONCE: i32 = 130;

pub fn run(a: &Run) -> Result<ExitCode> {
    let printer = Printer::start();
    tracing_subscriber::fmt().with_writer(printer.errors()).with_target(false).without_time().init();
    let house = House::load(&a.house.find())?;
    let stop = Stopper::default();
    listen(&stop)?;
    let program = std::env::current_exe().context("cannot find this program's own file")?;
    let folders: Vec<String> =
        house.watches.iter().map(|w| format!("  {} ({})", show::path(&w.folder), w.name)).collect();
    let porter = Arc::new(Porter::open(house, program, stop)?);
    if !a.json {
        printer.line(format!(
            "Watching for \"{}\"; stop with Ctrl-C.\n{}\n",
            porter.house().name,
            folders.join("\n")
        ));
    }
    let ended = porter.run(a.once, |e| {
        printer.line(if a.json {
            serde_json::to_string(&EventStatus::from(e)).unwrap_or_default()
        } else {
            events::line(e)
        });
    })?;
    if a.once && !a.json {
        printer.line(format!(
            "\n{} done, {} turned away, {} held, {} not ready",
            ended.done, ended.turned_away, ended.held, ended.waiting
        ));
    }
    printer.end();
    let needs_someone = a.once && ended.turned_away + ended.held > 0;
    Ok(ExitCode::from(if needs_someone { ui::errors::FAILED } else { 0 }))
}

/// Signals that end it. A hang-up does too, unless whoever started it wished it to be ignored (`nohup`).
fn listen(stop: &Stopper) -> Result<()> {
    let mut wanted = vec![SIGINT, SIGTERM];
    // A service manager asks by it for a look at the configuration, which is taken anyway.
    let managed = porter::alive::Alive::is_managed();
    if managed || !ignores_hang_up() {
        wanted.push(SIGHUP);
    }
    let mut signals =
        signal_hook::iterator::Signals::new(wanted).context("cannot listen for the signal to stop")?;
    let stop = stop.clone();
    std::thread::spawn(move || {
        for signal in signals.forever() {
            if managed && signal == SIGHUP {
                continue;
            }
            if stop.is_stopping() {
                std::process::exit(ENDED_AT_ONCE);
            }
            stop.stop();
        }
    });
    Ok(())
}

fn ignores_hang_up() -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let ignored = status.lines().find_map(|l| l.strip_prefix("SigIgn:")).unwrap_or("0");
    u64::from_str_radix(ignored.trim(), 16).is_ok_and(|mask| mask & 1 << (SIGHUP - 1) != 0)
}
