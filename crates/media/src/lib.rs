//! What is in a media file, and how to make another from it.
//!
//! Pure computation: bytes come in through `Read` and `Seek`, go out through `Write` and `Seek`. No clock,
//! no network, no configuration files, no jobs.

pub(crate) mod bits;
pub mod check;
pub mod codec;
pub mod container;
pub mod deep;
pub mod error;
pub mod facts;
pub mod filter;
pub mod formats;
pub mod frame;
pub mod guard;
pub mod join;
pub mod limits;
pub mod parts;
pub mod plan;
pub mod read;
pub mod recipe;
pub mod run;
pub mod show;
pub mod still;
#[cfg(feature = "testkit")]
pub mod testkit;
pub mod text;
pub mod timecode;
pub mod track;
pub mod units;

pub use error::{Error, Result};
