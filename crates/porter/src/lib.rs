//! The house: what a facility's configuration says, and the work that follows from it.
//!
//! No argument parsing, no terminal, no printing: the program calls in here and shows what comes back.

pub mod clock;
pub mod config;
pub mod deliver;
pub mod error;
pub mod jobs;
pub mod maker;
pub mod naming;
pub mod recipe;
pub mod report;
pub mod route;
pub mod services;
pub mod stand_in;
pub mod store;
pub mod transcripts;
pub mod watch;

pub use error::{Error, Result};
