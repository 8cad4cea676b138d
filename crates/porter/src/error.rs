//! Errors of the house, split by who can act.

use crate::config::Problem;
use crate::files::known::plain;
use crate::store::Cause;
use media::show;
use std::path::{Path, PathBuf};

pub type Result<T> = std::result::Result<T, Error>;

#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The configuration is wrong: every problem found in it.
    #[error("{} problem(s) in {}", .problems.len(), show::path(.file))]
    Config { file: PathBuf, text: String, problems: Vec<Problem> },
    /// A file or folder could not be used; it may work later.
    #[error("{doing} {}: {}", show::path(.path), plain(.source))]
    Path { doing: &'static str, path: PathBuf, source: std::io::Error },
    /// A folder of the house is not there, or another folder is in its place.
    #[error("{0}")]
    Away(String),
    /// The job store.
    #[error("job store {}: {source}", show::path(.path))]
    Store { path: PathBuf, source: rusqlite::Error },
    /// The store was written by a newer program.
    #[error("job store {} has version {found}; this program knows up to {known}: use the program that wrote it", show::path(.path))]
    StoreTooNew { path: PathBuf, found: u32, known: u32 },
    /// The house had a store, and it is not there or not its own.
    #[error("job store {}: {why}", show::path(.path))]
    StoreLost { path: PathBuf, why: String },
    /// The state folder was taken away from a running porter.
    #[error("the state folder {} was removed or replaced while the porter ran", show::path(.0))]
    StateGone(PathBuf),
    /// The state folder is open to others.
    #[error("the state folder {}: {why}", show::path(.path))]
    StateOpen { path: PathBuf, why: String },
    /// Another porter works on this house.
    #[error("another porter already works on this house (its lock is {}); stop it first", show::path(.0))]
    Locked(PathBuf),
    /// A media file.
    #[error(transparent)]
    Media(#[from] media::Error),
    /// Words: a speech model, a caption file, a setting of them.
    #[error("{0}")]
    Words(words::Error),
    /// The child that makes outputs ended without a result.
    #[error("{0}")]
    Maker(String),
    /// An output was made and is not what it should be.
    #[error("{0}")]
    Output(String),
    /// Something in the store was written in a way this program does not know.
    #[error("{0}")]
    Unreadable(String),
    /// The configuration does not have what a job needs.
    #[error("{0}")]
    NotConfigured(String),
    /// A copy is not what was read.
    #[error("{}: the copy differs from what was read (checksum {found}, expected {wanted})", show::path(.path))]
    Differs { path: PathBuf, found: String, wanted: String },
    /// A watch folder is not there, or is not itself.
    #[error("watch folder \"{name}\": {why}")]
    WatchAway { name: String, why: String },
    /// Stopped on request.
    #[error("stopped on request")]
    Stopped,
}

impl From<words::Error> for Error {
    fn from(e: words::Error) -> Error {
        match e {
            words::Error::Media(e) => Error::Media(e),
            words::Error::System(e) => Error::Media(e.into()),
            words::Error::Stopped => Error::Stopped,
            e => Error::Words(e),
        }
    }
}

impl Error {
    pub fn path(doing: &'static str, path: &Path) -> impl FnOnce(std::io::Error) -> Error + use<> {
        let path = path.to_owned();
        move |source| Error::Path { doing, path, source }
    }

    /// Another program keeps the store locked.
    pub fn is_locked(&self) -> bool {
        use rusqlite::ErrorCode::{DatabaseBusy, DatabaseLocked};
        let Error::Store { source, .. } = self else { return false };
        matches!(source.sqlite_error_code(), Some(DatabaseBusy | DatabaseLocked))
    }

    /// A service did not do its part.
    pub fn is_of_service(&self) -> bool {
        matches!(self, Error::Words(words::Error::Service(_)))
    }

    /// What a task waits for, if nothing is wrong with the job itself: the same step may succeed later, when
    /// someone has mended a disk, a share, a permission or the configuration.
    pub fn cause(&self) -> Option<Cause> {
        use media::Error::System;
        let why = self.to_string();
        match self {
            e if e.is_of_service() => Some(Cause::Service { why }),
            Error::WatchAway { name, why } => Some(Cause::Watch { name: name.clone(), why: why.clone() }),
            Error::Path { .. } | Error::Away(_) | Error::Store { .. } | Error::Differs { .. } => {
                Some(Cause::System { why })
            }
            Error::Media(System(_)) => Some(Cause::System { why }),
            Error::Unreadable(_) => Some(Cause::Program { why }),
            Error::NotConfigured(_) => Some(Cause::Configuration { why }),
            _ => None,
        }
    }

    pub fn may_pass(&self) -> bool {
        self.cause().is_some()
    }

    /// What happens cannot be recorded: then it must not happen.
    pub fn is_of_store(&self) -> bool {
        matches!(self, Error::Store { .. } | Error::StoreLost { .. } | Error::StateGone(_))
    }
}
