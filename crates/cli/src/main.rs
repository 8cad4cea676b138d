//! The program: arguments in, a call into the house, a table or JSON out.

mod args;
#[macro_use]
mod ui;
mod commands;

use clap::Parser;
use std::process::ExitCode;

/// Tells when memory is refused to a child that makes outputs.
#[global_allocator]
static MEMORY: porter::maker::memory::Telling = porter::maker::memory::Telling;

fn main() -> ExitCode {
    // Started by the porter itself, and by nobody else: no command of the interface, which would show it.
    let first = std::env::args_os().nth(1).unwrap_or_default();
    if first == porter::maker::parent::COMMAND {
        return ExitCode::from(porter::maker::child::main());
    }
    if first == porter::maker::nursery::COMMAND {
        return ExitCode::from(porter::maker::nursery::main());
    }
    // Before there are threads.
    media::codec::svt::quiet();
    let args = args::Args::parse();
    match commands::run(args) {
        Ok(code) => code,
        Err(e) => {
            ui::errors::show(&e);
            ExitCode::from(ui::errors::FAILED)
        }
    }
}
