//! The house: what a facility's configuration says, and the work that follows from it.
//!
//! No argument parsing, no terminal, no printing: the program calls in here and shows what comes back.

pub mod alive;
pub mod backup;
mod bytes;
pub mod clock;
pub mod compare;
pub mod config;
pub mod control;
pub mod convert;
pub mod deliver;
pub mod error;
pub mod estimate;
pub mod files;
pub mod forecast;
pub mod history;
pub mod item;
pub mod jobs;
pub mod maker;
pub mod metrics;
pub mod naming;
pub mod notify;
pub mod offload;
pub mod package;
pub mod page;
pub mod platform;
pub mod progress;
pub mod publish_api;
pub mod recipe;
pub mod rehearse;
pub mod rename;
pub mod report;
pub mod review;
pub mod route;
pub mod services;
pub mod stand_in;
pub mod stops;
pub mod store;
pub mod transcripts;
pub mod watch;
pub mod way;
pub mod web;

pub use error::{Error, Result};

#[cfg(test)]
mod tests {
    /// Something the test needs is not here: said, and a failure where nothing may be skipped.
    pub fn skipped(why: &str) {
        assert!(std::env::var_os("DEFT_PORTER_SKIP_NOTHING").is_none(), "skipped: {why}");
        eprintln!("SKIPPED: {why}");
    }
}
