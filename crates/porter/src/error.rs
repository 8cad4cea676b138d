//! Errors of the house, split by who can act.

use crate::config::Problem;
use std::path::{Path, PathBuf};

pub type Result<T> = std::result::Result<T, Error>;

#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The configuration is wrong: every problem found in it.
    #[error("{} problem(s) in {}", .problems.len(), .file.display())]
    Config { file: PathBuf, text: String, problems: Vec<Problem> },
    /// A file or folder could not be used; it may work later.
    #[error("{doing} {}: {source}", .path.display())]
    Path { doing: &'static str, path: PathBuf, source: std::io::Error },
    /// The job store.
    #[error("job store {}: {source}", .path.display())]
    Store { path: PathBuf, source: rusqlite::Error },
    /// The store was written by a newer program.
    #[error("job store {} has version {found}; this program knows up to {known}: use the program that wrote it", .path.display())]
    StoreTooNew { path: PathBuf, found: u32, known: u32 },
    /// Another porter works on this house.
    #[error("another porter already works on this house (its lock is {}); stop it first", .0.display())]
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
    /// A copy is not what was read.
    #[error("{}: the copy differs from what was read (checksum {found}, expected {wanted})", .path.display())]
    Differs { path: PathBuf, found: String, wanted: String },
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
    pub fn path(doing: &'static str, path: &Path) -> impl FnOnce(std::io::Error) -> Error {
        let path = path.to_owned();
        move |source| Error::Path { doing, path, source }
    }

    /// A service did not do its part.
    pub fn is_of_service(&self) -> bool {
        matches!(self, Error::Words(words::Error::Service(_)))
    }

    /// Nothing is wrong with the job itself: the same step may succeed later, when someone has mended a
    /// disk, a share or a permission.
    pub fn may_pass(&self) -> bool {
        use media::Error::System;
        self.is_of_service()
            || matches!(
                self,
                Error::Path { .. } | Error::Store { .. } | Error::Differs { .. } | Error::Media(System(_))
            )
    }
}
