//! What is read from the store.

use super::change::{Cause, Counts, IfTaken, MadeFile, NotMade, TaskKey};
use crate::clock::Micros;
use crate::deliver::{Proof, Ticket};
use crate::files::Seen;
use crate::files::frames::Frames;
use crate::files::many::{Many, Tree};
use crate::item::Item;
use crate::recipe::Recipe;
use crate::watch::beside::Beside;
use media::run::Made;
use serde::Serialize;
use std::path::{Path, PathBuf};

pub type JobId = i64;

/// Where a job is, for people: what its open tasks are about or, when it has none, how it ended.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum State {
    /// Not looked at yet.
    Waiting,
    /// Rules matched; outputs are being made in the work folder.
    Making,
    /// Outputs are being carried to their places.
    Carrying,
    /// All is delivered; the original is being moved or removed.
    Clearing,
    /// The original is being moved to the turned-away folder.
    TurningAway,
    Done,
    TurnedAway,
    /// The file changed or went away before it was finished; what it is now arrives anew.
    Withdrawn,
    /// A person did not want it any more; the file stays where it is.
    Cancelled,
    /// A state of a newer program.
    Unknown(String),
}

impl State {
    pub fn name(&self) -> &str {
        match self {
            State::Waiting => "waiting",
            State::Making => "making",
            State::Carrying => "carrying",
            State::Clearing => "clearing",
            State::TurningAway => "turning away",
            State::Done => "done",
            State::TurnedAway => "turned away",
            State::Withdrawn => "withdrawn",
            State::Cancelled => "cancelled",
            State::Unknown(s) => s,
        }
    }

    pub fn from_name(name: &str) -> State {
        use State::*;
        [Waiting, Making, Carrying, Clearing, TurningAway, Done, TurnedAway, Withdrawn, Cancelled]
            .into_iter()
            .find(|s| s.name() == name)
            .unwrap_or_else(|| Unknown(name.to_owned()))
    }

    pub fn has_ended(&self) -> bool {
        matches!(self, State::Done | State::TurnedAway | State::Withdrawn | State::Cancelled)
    }
}

impl Serialize for State {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(self.name())
    }
}

#[derive(Clone, Debug, PartialEq)]
pub struct Job {
    pub id: JobId,
    pub watch: String,
    /// Inside the watch folder.
    pub path: PathBuf,
    pub seen: Seen,
    /// It is of many files.
    pub many: Option<Many>,
    /// What belongs to it, in the same folder.
    pub beside: Vec<Beside>,
    pub arrived: Micros,
    /// Higher goes first.
    pub priority: i64,
    /// A person wants it to wait.
    pub on_hold: bool,
    pub state: State,
    /// Why it was turned away or withdrawn.
    pub reason: Option<String>,
    /// Where the original went or goes, and the name it has there until it is whole.
    pub original_to: Option<PathBuf>,
    pub original_stage: Option<String>,
    /// Where the original was moved to before anything was made of it: it lies there now.
    pub taken_to: Option<PathBuf>,
    /// Digest of an original that was left.
    pub content: Option<String>,
    /// Numbers that were counted for it.
    pub counts: Option<Counts>,
    /// The number of the configuration that it was planned by.
    pub configuration: Option<i64>,
    pub started: Option<Micros>,
    pub ended: Option<Micros>,
}

impl Job {
    /// It is a run of these.
    pub fn frames(&self) -> Option<&Frames> {
        self.many.as_ref().and_then(Many::run)
    }

    /// It is a folder that is taken whole.
    pub fn tree(&self) -> Option<&Tree> {
        match &self.many {
            Some(Many::Tree(tree)) => Some(tree),
            _ => None,
        }
    }

    /// What rules and names know it by: a run goes by its name without numbers.
    pub fn known_as(&self) -> PathBuf {
        known_as(&self.path, self.many.as_ref())
    }
}

/// The same of an arrival.
pub fn known_as(path: &Path, many: Option<&Many>) -> PathBuf {
    match many.and_then(Many::run) {
        Some(f) => path.with_file_name(format!("{}{}", f.title(), f.suffix)),
        None => path.to_owned(),
    }
}

/// A step that is still to be done.
#[derive(Clone, Debug, PartialEq)]
pub struct Task {
    pub key: TaskKey,
    /// Children that broke in it.
    pub tries: u32,
    /// What it waits for.
    pub cause: Option<Cause>,
    /// When it is tried again, as planned when it was held; for showing.
    pub next_try: Option<Micros>,
}

/// What became of an output.
#[derive(Clone, Debug, PartialEq)]
pub enum OutputEnd {
    Open,
    Made { files: Vec<MadeFile>, made: Made },
    NotMade { end: NotMade, why: String },
}

/// An output of a job.
#[derive(Clone, Debug, PartialEq)]
pub struct Output {
    pub number: u32,
    pub rule: String,
    pub preset: String,
    pub preset_version: String,
    /// Or why what was stored cannot be read.
    pub recipe: Result<Recipe, String>,
    pub heard: bool,
    pub extension: String,
    /// What is published with it.
    pub item: Option<Item>,
    pub end: OutputEnd,
}

impl Output {
    /// It is the original as it arrived.
    pub fn is_original(&self) -> bool {
        self.recipe.as_ref().is_ok_and(|r| r.original)
    }

    /// It is others of the job in one file.
    pub fn is_package(&self) -> bool {
        self.recipe.as_ref().is_ok_and(|r| r.package.is_some())
    }

    pub fn files(&self) -> &[MadeFile] {
        match &self.end {
            OutputEnd::Made { files, .. } => files,
            _ => &[],
        }
    }
}

/// An output on its way to a place.
#[derive(Clone, Debug, PartialEq)]
pub struct Delivery {
    pub output: u32,
    pub place: String,
    /// The name from the template.
    pub wanted: String,
    /// The name it gets: recorded before the file is put there.
    pub name: Option<String>,
    /// What finds again what was begun at the place; recorded before bytes flow.
    pub ticket: Option<Ticket>,
    pub delivered: Option<Micros>,
    pub proof: Option<Proof>,
    pub if_taken: IfTaken,
    /// The name that what had its name there gets.
    pub aside: Option<String>,
    /// Where it can be seen.
    pub address: Option<String>,
    /// Why it does not go there, and whether that counts as a failure.
    pub left_out: Option<String>,
    pub failed: bool,
}

/// Some rows of many.
#[derive(Clone, Debug, PartialEq)]
pub struct Page<T> {
    pub rows: Vec<T>,
    /// Pass this as `after` for what follows; `None`: that was all.
    pub next: Option<JobId>,
}
