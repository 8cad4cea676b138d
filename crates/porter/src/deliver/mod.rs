//! Places: where outputs go. Every place keeps the same contract, checked by one suite ([`contract`] in the
//! tests): what stands under a final name is whole and verified, and nothing that stood there is touched.

pub mod copy;
pub mod folder;

pub use folder::FolderPlace;

use crate::error::Result;
use std::path::Path;

/// What came of an attempt to give a staged file its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Published {
    Done,
    /// Something else has the name; the staged file waits for another.
    Taken,
}

/// Somewhere outputs go. `name` is a relative path with `/`; `tag` tells this delivery from all others and
/// stays the same over restarts.
pub trait Place: Send {
    /// True if something stands under the name.
    fn has(&self, name: &str) -> Result<bool>;
    /// Copies a file in beside its final name, under a name nobody takes for it, and verifies the copy by
    /// reading it back. `digest` is the file's, known from when it was made. A stage left by an earlier try
    /// is overwritten.
    fn stage(&self, from: &Path, name: &str, tag: &str, digest: &str) -> Result<()>;
    /// Gives a staged file its name, if that is free.
    fn publish(&self, name: &str, tag: &str) -> Result<Published>;
    /// True if the file under the name has this content: after a crash, whether it was published.
    fn holds(&self, name: &str, digest: &str) -> Result<bool>;
    /// True if a staged file of this tag is there.
    fn is_staged(&self, name: &str, tag: &str) -> Result<bool>;
    /// Removes what an abandoned delivery staged.
    fn discard(&self, name: &str, tag: &str) -> Result<()>;
}
