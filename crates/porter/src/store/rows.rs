//! What is stored.

use crate::clock::Micros;
use crate::recipe::Recipe;
use media::run::Made;
use serde::Serialize;
use std::path::PathBuf;

pub type JobId = i64;

/// Where a job is. Each but the last four is also the step that a restarted porter goes on with.
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
            State::Unknown(s) => s,
        }
    }

    pub fn from_name(name: &str) -> State {
        use State::*;
        [Waiting, Making, Carrying, Clearing, TurningAway, Done, TurnedAway, Withdrawn]
            .into_iter()
            .find(|s| s.name() == name)
            .unwrap_or_else(|| Unknown(name.to_owned()))
    }

    pub fn has_ended(&self) -> bool {
        matches!(self, State::Done | State::TurnedAway | State::Withdrawn)
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
    pub size: u64,
    pub modified: i64,
    pub inode: u64,
    pub arrived: Micros,
    pub state: State,
    /// Makings that broke.
    pub tries: u32,
    /// Why the current step has to be tried again, and when.
    pub held: Option<String>,
    pub next_try: Option<Micros>,
    /// Why it was turned away or withdrawn.
    pub reason: Option<String>,
    /// Where the original went or goes.
    pub original_to: Option<PathBuf>,
    pub started: Option<Micros>,
    pub ended: Option<Micros>,
}

/// An output of a job.
#[derive(Clone, Debug, PartialEq)]
pub struct Output {
    pub number: u32,
    pub rule: String,
    pub preset: String,
    pub preset_version: String,
    pub recipe: Recipe,
    pub extension: String,
    /// Once made.
    pub digest: Option<String>,
    pub bytes: Option<u64>,
    pub made: Option<Made>,
}

/// An output on its way to a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Delivery {
    pub output: u32,
    pub place: String,
    /// The name from the template.
    pub wanted: String,
    /// The name it gets: recorded before the file is put there.
    pub name: Option<String>,
    pub delivered: Option<Micros>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Event {
    pub at: Micros,
    pub job: Option<JobId>,
    pub what: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// A file in a watch folder that is not a job yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WaitingFile {
    pub watch: String,
    pub path: PathBuf,
    pub size: u64,
    pub first: Micros,
    pub why: String,
}

/// How far the making of a job is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Going {
    pub at: Micros,
    pub since: Micros,
    pub done: u64,
    pub total: Option<u64>,
}
