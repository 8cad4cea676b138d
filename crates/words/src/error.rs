//! What can go wrong with words, by who can act.

use std::fmt;

#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// A model folder is incomplete or not what its checksums say.
    #[error("speech model {what}: {why}")]
    Model { what: String, why: String },
    /// A caption or transcript file cannot be read.
    #[error("{format}, line {line}: {why}")]
    Text { format: &'static str, line: usize, why: String },
    /// A service did not do what it was asked.
    #[error("{0}")]
    Service(String),
    /// A setting is out of its range.
    #[error("{what}: {why}")]
    Setting { what: &'static str, why: String },
    #[error(transparent)]
    Media(#[from] media::Error),
    #[error("{0}")]
    System(#[from] std::io::Error),
    #[error("stopped")]
    Stopped,
}

pub type Result<T> = std::result::Result<T, Error>;

impl Error {
    pub fn model(what: impl fmt::Display, why: impl fmt::Display) -> Self {
        Error::Model { what: what.to_string(), why: why.to_string() }
    }
    pub fn setting(what: &'static str, why: impl fmt::Display) -> Self {
        Error::Setting { what, why: why.to_string() }
    }
}
