//! Reading arrivals and making outputs, in a child process of the same program: a codec that crashes, loops or eats
//! memory ends that task with a reason, not the porter; and what a hostile file may take over is a process that can do
//! next to nothing ([`sandbox`]).
//!
//! The porter opens the source itself: the open file is the child's standard input. Its standard output is one end of a
//! connection, on which the porter writes one [`Order`] as a line of JSON, and the child [`Said`] lines. When the
//! porter's end closes, the porter is gone and the child ends.

pub mod child;
pub mod made;
pub mod memory;
pub mod nursery;
pub mod parent;
pub mod sandbox;
mod source;
mod stayed;
mod stills;
mod transcripts;

pub use nursery::Nursery;
pub use parent::{Outcome, Run, run, run_on};
pub use stayed::Stayed;

use crate::files::frames::Frames;
use crate::progress::Progress;
use crate::recipe::Recipe;
use crate::services::{Hidden, Secret};
use crate::store::MadeFile;
use media::facts::Facts;
use media::run::Made;
use media::units::Ratio;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use words::Transcript;

/// What a child is to do.
#[derive(Debug, Serialize, Deserialize)]
pub struct Order {
    pub work: Work,
    /// The source's file name: for the words that are written about it.
    pub name: String,
    /// The one folder that it may write to.
    #[serde(with = "crate::bytes")]
    pub folder: PathBuf,
    pub bounds: Bounds,
    /// Secrets of the services it asks; they are nowhere else in it.
    #[serde(default)]
    pub secrets: Vec<(Secret, Hidden)>,
    /// The source is a folder, and in it these frames, so many a second.
    #[serde(default)]
    pub frames: Option<RunOf>,
    /// The source is a folder, and in it pictures and their sound.
    #[serde(default)]
    pub beside: Option<InFolder>,
    /// The source is a folder, and in it these files, one behind the other.
    #[serde(default)]
    pub joined: Option<Pieces>,
    /// All of the source is decoded before anything else is done with it.
    #[serde(default)]
    pub whole: bool,
    /// Captions that came with the source.
    #[serde(default)]
    pub captions: Option<Captions>,
    /// So long what a list names must be as it is, before it counts as being there.
    #[serde(default)]
    pub steady_ms: u64,
    /// The child waits for one more order about this source, in the same folder and with the same bounds.
    #[serde(default)]
    pub stays: bool,
}

impl Order {
    /// About one file, and nothing that goes with it.
    pub fn new(work: Work, folder: PathBuf) -> Order {
        Order {
            work,
            name: String::new(),
            folder,
            bounds: Bounds::default(),
            secrets: Vec::new(),
            frames: None,
            beside: None,
            joined: None,
            captions: None,
            whole: false,
            steady_ms: 0,
            stays: false,
        }
    }
}

/// A file of captions, as it came.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Captions {
    pub name: String,
    /// "und": its name does not say (ISO 639-2).
    pub language: String,
    pub bytes: Vec<u8>,
}

/// Pictures with sound in files of its own, as a source: by their names.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct InFolder {
    pub main: FileName,
    pub sounds: Vec<FileName>,
    /// It may name others that are read as well, or have its beginning beside it.
    #[serde(default)]
    pub near: bool,
}

/// Any bytes.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct FileName(#[serde(with = "crate::bytes")] pub PathBuf);

/// A run of frames as a source.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct RunOf {
    pub frames: Frames,
    pub rate: Ratio,
    /// Of all of them.
    pub bytes: u64,
}

/// Files that are one, as a source.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Pieces {
    /// In the folder, in their order.
    pub names: Vec<String>,
    /// Of the whole folder.
    pub bytes: u64,
}

/// What a child may use.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct Bounds {
    /// Bytes of memory.
    pub memory: u64,
    /// Bytes of its largest file.
    pub file: u64,
    /// Seconds of processor time.
    pub seconds: u64,
    /// Bytes it may read of the source to learn what it is.
    pub look: u64,
}

impl Default for Bounds {
    fn default() -> Bounds {
        Bounds { memory: 2_000_000_000, file: 1 << 44, seconds: 24 * 3600, look: 4_000_000_000 }
    }
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Work {
    /// What is it?
    Look,
    /// Pictures and sound, in one pass.
    Make(Vec<Ordered>),
    /// Transcripts; `media` has been made and may be played by a page.
    Hear { outputs: Vec<Ordered>, media: Vec<Ordered> },
    /// Try what a child must not be able to do.
    Try,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Ordered {
    pub number: u32,
    #[serde(with = "crate::bytes")]
    pub path: PathBuf,
    pub recipe: Recipe,
}

/// Why something was not made, by who can act.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Class {
    Damaged,
    Unsupported,
    Setting,
    Limit,
    System,
    Service,
    /// What was made is not what it should be.
    Output,
    Stopped,
    #[serde(other)]
    Unknown,
}

impl Class {
    pub fn of(e: &crate::Error) -> Class {
        use media::Error as M;
        match e {
            crate::Error::Media(M::Damaged(_)) => Class::Damaged,
            crate::Error::Media(M::Unsupported(_)) => Class::Unsupported,
            crate::Error::Media(M::Setting(_)) => Class::Setting,
            crate::Error::Media(M::Limit(_)) => Class::Limit,
            crate::Error::Media(M::Stopped) | crate::Error::Stopped => Class::Stopped,
            crate::Error::Output(_) => Class::Output,
            e if e.is_of_service() => Class::Service,
            _ => Class::System,
        }
    }
}

/// What became of one output.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum End {
    Made {
        made: Made,
        files: Vec<MadeFile>,
    },
    /// The source does not have what it is made from.
    NotApplicable(String),
    /// This output cannot be made; its siblings may.
    Failed {
        class: Class,
        why: String,
    },
}

/// What a child says.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Said {
    Progress(Progress),
    Facts(Box<Facts>),
    /// What was heard: for the search over all transcripts.
    Heard(Box<Transcript>),
    Ended(Vec<(u32, End)>),
    Failed {
        class: Class,
        message: String,
    },
    /// Memory of so many bytes was refused. It may go on without.
    Refused(u64),
    /// What it tried, and whether it could.
    Tried {
        parts: sandbox::Parts,
        tried: Vec<(String, bool)>,
    },
}
