//! One command a file: arguments, a call, what to show.

mod backup;
mod board;
mod captions;
mod check;
mod config;
mod convert;
mod copy;
mod demo;
mod find;
mod formats;
mod history;
mod init;
mod inspect;
mod jobs;
mod log;
mod manual;
mod name;
mod notice;
mod plan;
mod presets;
mod rehearse;
mod rename;
mod report;
mod review;
mod run;
mod service;
mod sign_in;
mod stand_in;
mod status;
mod trace;
mod transcribe;
mod verify;
pub mod version;

use crate::args::{Args, Command};
use anyhow::{Context, Result};
use porter::clock;
use porter::control::Order;
use std::process::ExitCode;

pub fn run(args: Args) -> Result<ExitCode> {
    match args.command {
        Command::Init(a) => init::init(&a),
        Command::Check(a) => check::check(&a),
        Command::Run(a) => run::run(&a),
        Command::Status(a) => status::status(&a),
        Command::Jobs(a) => jobs::jobs(&a),
        Command::Pause(h) => jobs::order(&h.find(), Order::Pause),
        Command::Resume(h) => jobs::order(&h.find(), Order::Resume),
        Command::Drain(h) => jobs::order(&h.find(), Order::Drain),
        Command::History(a) => history::history(&a),
        Command::Board(a) => board::board(&a),
        Command::Log(a) => log::log(&a),
        Command::Notice(a) => notice::notice(&a),
        Command::Inspect(a) => inspect::inspect(&a),
        Command::Formats(a) => formats::formats(&a),
        Command::Plan(a) => plan::plan(&a),
        Command::Convert(a) => convert::convert(&a),
        Command::Presets(a) => presets::presets(&a),
        Command::Rehearse(a) => rehearse::rehearse(&a),
        Command::Name(a) => name::name(&a),
        Command::Review(a) => review::review(&a),
        Command::SignIn(a) => sign_in::sign_in(&a),
        Command::Rename(a) => rename::rename(&a),
        Command::Config(a) => config::config(&a),
        Command::Report(a) => report::report(&a),
        Command::Service(a) => service::service(&a),
        Command::Backup(a) => backup::backup(&a),
        Command::Restore(a) => backup::restore(&a),
        Command::Copy(a) => copy::copy(&a),
        Command::Verify(a) => verify::verify(&a),
        Command::Trace(a) => trace::trace(&a),
        Command::Transcribe(a) => transcribe::transcribe(&a),
        Command::Find(a) => find::find(&a),
        Command::Captions(a) => captions::captions(&a),
        Command::StandIn(a) => stand_in::stand_in(&a),
        Command::Demo(a) => demo::demo(&a),
        Command::Completions(a) => manual::completions(&a),
        Command::Manual(a) => manual::pages(&a),
    }
}

/// The first moment of a day, as it is written.
fn day(text: &str) -> Result<clock::Micros> {
    clock::day(text, false).with_context(|| format!("\"{text}\" is no day; write it as 2026-11-23"))
}

/// The first moment behind it.
fn last_of_day(text: &str) -> Result<clock::Micros> {
    clock::day(text, true).with_context(|| format!("\"{text}\" is no day; write it as 2026-11-23"))
}
