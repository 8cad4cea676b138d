//! Making outputs in a child process of the same program, one a job: a codec that crashes, loops or eats
//! memory ends that job with a reason, not the porter.
//!
//! The parent writes one [`Order`] as a line of JSON to the child's standard input and keeps it open; the
//! child writes [`Said`] lines to its standard output. When its input closes, the porter is gone and the
//! child ends.

pub mod child;
pub mod parent;
mod transcripts;

pub use parent::{Outcome, Progress, make};

use crate::recipe::Recipe;
use media::run::Made;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use words::Transcript;

/// What a child is to make.
#[derive(Debug, Serialize, Deserialize)]
pub struct Order {
    #[serde(with = "path_bytes")]
    pub source: PathBuf,
    pub outputs: Vec<OrderedOutput>,
    /// Bytes of memory it may take.
    pub memory: u64,
}

#[derive(Debug, Serialize, Deserialize)]
pub struct OrderedOutput {
    #[serde(with = "path_bytes")]
    pub path: PathBuf,
    pub recipe: Recipe,
}

/// What a child says.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Said {
    Progress {
        done: u64,
        total: Option<u64>,
        /// Bytes read back so far, once all is made.
        #[serde(default)]
        checked: u64,
        /// Grows while a service is waited for, which has its own time-out.
        #[serde(default)]
        waited: u64,
    },
    Made(Vec<Finished>),
    Failed {
        class: String,
        message: String,
    },
}

/// One finished output.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Finished {
    pub made: Made,
    pub bytes: u64,
    /// Of the whole file, taken after it was closed.
    pub digest: String,
    /// What was heard, with the first output of each hearing: for the search over all transcripts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transcript: Option<Box<Transcript>>,
}

/// Paths as bytes: a name need not be text.
mod path_bytes {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};
    use std::ffi::OsString;
    use std::os::unix::ffi::{OsStrExt, OsStringExt};
    use std::path::{Path, PathBuf};

    pub fn serialize<S: Serializer>(path: &Path, s: S) -> Result<S::Ok, S::Error> {
        path.as_os_str().as_bytes().serialize(s)
    }
    pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<PathBuf, D::Error> {
        Ok(OsString::from_vec(Vec::deserialize(d)?).into())
    }
}
