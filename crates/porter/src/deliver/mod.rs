//! Places: where outputs go. Every place keeps the same contract, checked by one public suite ([`contract`]): what
//! stands under a final name is whole and verified, and nothing that stood there is touched.
//!
//! Before bytes flow a place gives a [`Ticket`], which is stored: with it what was begun is found again after a kill,
//! and it is the only thing a place ever cleans away.

#[cfg(any(test, feature = "testkit"))]
pub mod contract;
pub mod folder;
pub mod listed;
pub mod pace;
pub mod remote;

pub use folder::FolderPlace;
pub use pace::Pace;
pub use remote::{Remote, Remotes};

use crate::files::Watching;
use crate::item::Fields;
use crate::store::MadeFile;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// What finds again what was begun at a place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ticket {
    /// A name beside the final one, which is nobody else's.
    Staged(String),
    /// What the place calls an upload that is under way, and what tells it from every other.
    Upload { tag: String, id: String },
    #[serde(other)]
    Unknown,
}

/// How it is known that the far end has what was made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Proof {
    /// Every byte was read back from the place and its checksum compared.
    ReadBack,
    /// The place computed a checksum of what it got, and it is the right one.
    Checksum,
    /// The checksum of what was written is the right one, and the system said that it is on the disk; it was not read.
    Written,
    /// The place says that it has as many bytes as were sent: such a place tells no more.
    Counted,
    #[serde(other)]
    Unknown,
}

impl Proof {
    pub fn words(self) -> &'static str {
        match self {
            Proof::ReadBack => "read back, checksum verified",
            Proof::Checksum => "checksum of the place verified",
            Proof::Written => "written with its checksum, not read back",
            Proof::Counted => "size confirmed by the place",
            Proof::Unknown => "verified in a way only a newer program knows",
        }
    }
}

/// Why a place did not take an output, by who can act.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Trouble {
    /// It cannot be reached, or is not itself: wait.
    #[error("{0}")]
    Away(String),
    /// No room: wait, or make some.
    #[error("{0}")]
    Full(String),
    /// It says no (a permission, a password): a person must act there.
    #[error("{0}")]
    Refused(String),
    /// What was made is not there any more, or is not what was made.
    #[error("{0}")]
    Changed(String),
    #[error("stopped on request")]
    Stopped,
}

/// What came of an attempt to give a staged output its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Published {
    Done,
    /// Something else has the name; the staged output waits for another.
    Taken,
}

/// After a kill: whose is what stands under the name?
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Whose {
    /// This ticket's: it was published, and only the record of it was lost.
    Ours,
    Other,
    Nothing,
}

/// What is carried: one file or, for an output of many, a folder of them.
#[derive(Clone, Debug, Default)]
pub struct Cargo {
    /// The file, or the folder with the files.
    pub path: PathBuf,
    pub files: Vec<MadeFile>,
    /// Where those of its files lie that go with an original.
    pub ours: PathBuf,
    /// What is published with it, where the place knows of such.
    pub item: Fields,
    /// Files that go with it: captions, and a picture.
    pub with: Vec<With>,
}

/// A file that goes with another.
#[derive(Clone, Debug)]
pub struct With {
    pub path: PathBuf,
    pub extension: String,
    /// Of captions.
    pub language: String,
}

impl With {
    /// What it is to the other.
    pub fn part(&self) -> String {
        match self.extension.as_str() {
            "vtt" | "srt" | "ttml" => format!("captions/{}", self.language),
            _ => "picture".into(),
        }
    }

    pub fn kind(&self) -> &'static str {
        match self.extension.as_str() {
            "vtt" => "text/vtt",
            "srt" => "application/x-subrip",
            "ttml" => "application/ttml+xml",
            "png" => "image/png",
            _ => "image/jpeg",
        }
    }
}

impl Cargo {
    /// Where one of its files lies.
    pub fn at(&self, file: &MadeFile) -> PathBuf {
        match file.inside.as_str() {
            "" => self.path.clone(),
            inside => (if file.ours { &self.ours } else { &self.path }).join(inside),
        }
    }

    pub fn is_folder(&self) -> bool {
        self.files.iter().any(|f| !f.inside.is_empty())
    }
}

/// What a place can do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct About {
    /// A name that was taken in between is refused by the place itself, not only looked for.
    pub refuses_taken: bool,
    pub proof: Proof,
    /// What is staged is bound to its name: for another one it is staged anew.
    pub staged_by_name: bool,
}

/// Somewhere outputs go. `name` is a relative path with `/`. Blocking.
pub trait Place: Send + Sync {
    fn about(&self) -> About;
    /// Whether it can be used now: asked by `check`, and before the first byte.
    fn look(&self) -> Result<(), Trouble>;
    /// True if something stands under the name.
    fn has(&self, name: &str) -> Result<bool, Trouble>;
    /// Names of all that stands in a folder there (`""` is the place itself), where they are had for little; none of them
    /// for a folder that is not there.
    fn names_in(&self, folder: &str) -> Result<Option<Vec<String>>, Trouble> {
        let _ = folder;
        Ok(None)
    }
    /// A ticket for a new delivery; `tag` tells it from every other of any house. Nothing is written yet.
    fn begin(&self, tag: &str) -> Result<Ticket, Trouble>;
    /// The ticket by which what is begun under this name is found again; it is recorded before bytes flow.
    fn prepare(&self, _cargo: &Cargo, _name: &str, ticket: &Ticket) -> Result<Ticket, Trouble> {
        Ok(ticket.clone())
    }
    /// Puts the cargo in beside its final name and verifies it there. What an earlier try of this ticket left is made
    /// anew or gone on with, and verified whole.
    fn stage(
        &self,
        cargo: &Cargo,
        name: &str,
        ticket: &Ticket,
        watching: &dyn Watching,
    ) -> Result<Proof, Trouble>;
    /// Gives what was staged its name, if that is free.
    fn publish(&self, ticket: &Ticket, name: &str) -> Result<Published, Trouble>;
    /// After a kill.
    fn whose(&self, name: &str, ticket: &Ticket, cargo: &Cargo) -> Result<Whose, Trouble>;
    /// Gives what has a name another one beside it, if that is free.
    fn set_aside(&self, name: &str, _aside: &str) -> Result<Published, Trouble> {
        Err(Trouble::Refused(format!("{name} is taken, and this place cannot give it another name")))
    }
    /// Where what was published can be seen.
    fn address(&self, _name: &str, _ticket: &Ticket) -> Result<Option<String>, Trouble> {
        Ok(None)
    }
    /// Removes what an abandoned delivery staged.
    fn discard(&self, name: &str, ticket: &Ticket) -> Result<(), Trouble>;
}
