//! Errors, split by who can act on them.

use std::{fmt, io};

pub type Result<T> = std::result::Result<T, Error>;

/// What went wrong with a file or a setting.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The file is damaged: another copy is needed.
    #[error("damaged: {0}")]
    Damaged(Fault),
    /// The file is whole, but this program cannot work on it.
    #[error("not supported: {0}")]
    Unsupported(Fault),
    /// The setting cannot be met: the person who wrote it must change it.
    #[error("setting: {0}")]
    Setting(Fault),
    /// A stated limit was reached.
    #[error("limit: {0}")]
    Limit(Fault),
    /// The operating system refused.
    #[error("system: {0}")]
    System(#[from] io::Error),
    /// The caller asked to stop.
    #[error("stopped on request")]
    Stopped,
}

/// What a file is that ends too early.
pub const CUT_OFF: &str = "cut off, or still being copied: it ends before its data does";
/// What data is that a decoder refuses.
pub const SPOILT: &str = "its data is spoilt and cannot be decoded";

/// What was found, where, and what was expected there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// Box, element, chunk, key: the name of the place.
    pub place: String,
    /// Byte offset in the file where it is known.
    pub offset: Option<u64>,
    /// What was found, and what would have been right.
    pub what: String,
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.offset {
            Some(at) => write!(f, "{} at byte {at}: {}", self.place, self.what),
            None if self.place.is_empty() => f.write_str(&self.what),
            None => write!(f, "{}: {}", self.place, self.what),
        }
    }
}

impl Error {
    pub fn damaged(place: impl Into<String>, what: impl Into<String>) -> Self {
        Error::Damaged(Fault { place: place.into(), offset: None, what: what.into() })
    }
    pub fn damaged_at(place: impl Into<String>, offset: u64, what: impl Into<String>) -> Self {
        Error::Damaged(Fault { place: place.into(), offset: Some(offset), what: what.into() })
    }
    pub fn unsupported(place: impl Into<String>, what: impl Into<String>) -> Self {
        Error::Unsupported(Fault { place: place.into(), offset: None, what: what.into() })
    }
    pub fn setting(place: impl Into<String>, what: impl Into<String>) -> Self {
        Error::Setting(Fault { place: place.into(), offset: None, what: what.into() })
    }
    pub fn limit(place: impl Into<String>, what: impl Into<String>) -> Self {
        Error::Limit(Fault { place: place.into(), offset: None, what: what.into() })
    }

    /// What a library found wrong with a file, in words for those who use this: its own are for those who build with it.
    pub fn of_library(place: &str, e: &(dyn std::error::Error + 'static)) -> Error {
        let mut cause = Some(e);
        while let Some(now) = cause {
            if let Some(io) = now.downcast_ref::<io::Error>() {
                match io.kind() {
                    io::ErrorKind::UnexpectedEof => return Error::damaged(place, CUT_OFF),
                    // So libraries call what they do not understand.
                    io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::Other => (),
                    // A share that is gone is no damage.
                    kind => return Error::System(io::Error::new(kind, io.to_string())),
                }
            }
            cause = now.source();
        }
        Error::damaged(place, SPOILT)
    }

    /// The same once more, for another whom it concerns.
    pub fn again(&self) -> Error {
        match self {
            Error::Damaged(f) => Error::Damaged(f.clone()),
            Error::Unsupported(f) => Error::Unsupported(f.clone()),
            Error::Setting(f) => Error::Setting(f.clone()),
            Error::Limit(f) => Error::Limit(f.clone()),
            Error::System(e) => Error::System(io::Error::new(e.kind(), e.to_string())),
            Error::Stopped => Error::Stopped,
        }
    }

    /// One word for records and programs.
    pub fn class(&self) -> &'static str {
        match self {
            Error::Damaged(_) => "damaged",
            Error::Unsupported(_) => "unsupported",
            Error::Setting(_) => "setting",
            Error::Limit(_) => "limit",
            Error::System(_) => "system",
            Error::Stopped => "stopped",
        }
    }
}
