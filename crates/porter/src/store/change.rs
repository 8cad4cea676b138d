//! What can happen, as stored values. Each has all that applying it needs: times, numbers and names were decided
//! before. A kind this program does not know is kept as [`Change::Unknown`].

use super::rows::JobId;
use crate::clock::Micros;
use crate::deliver::{Proof, Ticket};
use crate::files::Seen;
use crate::files::known::{Identity, Role};
use crate::files::many::{Many, TreeFile};
use crate::item::{Fields, Item};
use crate::watch::beside::Beside;
use media::run::Made;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// Version of the stored form of changes; a change of a newer version is not applied.
pub const CHANGE_VERSION: u32 = 1;
/// Version of the stored form of recipes.
pub const RECIPE_VERSION: u32 = 1;

/// One step of one job: the unit of work.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct TaskKey {
    pub job: JobId,
    pub step: Step,
}

#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(tag = "step", rename_all = "snake_case")]
pub enum Step {
    /// What is it, and which rules hold?
    Look,
    /// One pass over the source for all outputs of pictures and sound.
    Make,
    /// Transcripts.
    Hear,
    /// One output to one place.
    Carry { output: u32, place: String },
    /// All is delivered: the original is left, moved or removed.
    Clear,
    /// The original goes to the turned-away folder.
    TurnAway,
    /// A person does not want it any more: what was begun at places is cleared away.
    Cancel,
    /// Of a newer program.
    #[serde(other)]
    Unknown,
}

impl Step {
    pub fn name(&self) -> &'static str {
        match self {
            Step::Look => "look",
            Step::Make => "make",
            Step::Hear => "hear",
            Step::Carry { .. } => "carry",
            Step::Clear => "clear",
            Step::TurnAway => "turn_away",
            Step::Cancel => "cancel",
            Step::Unknown => "unknown",
        }
    }
}

/// What a task waits for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "for", rename_all = "snake_case")]
pub enum Cause {
    /// The file seems cut off or damaged: it may have a slow writer, and is looked at once more.
    SecondLook {
        why: String,
    },
    /// Its end is empty, as if it were still being copied: it is looked at again, until no more comes.
    Filling {
        /// Bytes that seem to be there.
        upto: u64,
    },
    Place {
        name: String,
        why: String,
    },
    Watch {
        name: String,
        why: String,
    },
    Service {
        why: String,
    },
    /// Another output of the job, which goes with it.
    Sibling {
        why: String,
    },
    /// A person has to say something about it, or its time has not come.
    Review {
        why: String,
    },
    /// A disk, a permission, memory.
    System {
        why: String,
    },
    /// Nothing is carried to the place at this time of day.
    Hours {
        name: String,
        why: String,
    },
    /// What the job needs is not in the configuration.
    Configuration {
        why: String,
    },
    /// What was stored cannot be read by this program.
    Program {
        why: String,
    },
    #[serde(other)]
    Unknown,
}

impl Cause {
    /// It passes by itself, and nobody has to do anything about it.
    pub fn passes(&self) -> bool {
        matches!(self, Cause::SecondLook { .. } | Cause::Filling { .. } | Cause::Sibling { .. })
    }

    /// It does not go on unless somebody does something.
    pub fn needs_person(&self) -> bool {
        !self.passes() && !matches!(self, Cause::Hours { .. })
    }

    /// For people.
    pub fn words(&self) -> String {
        match self {
            Cause::SecondLook { why } => format!("looked at again before it is turned away: {why}"),
            Cause::Filling { upto } => {
                let so_far = crate::page::bytes(*upto);
                format!(
                    "looked at again: its end is empty, as if it were still being copied ({so_far} so far)"
                )
            }
            Cause::Place { name, why } | Cause::Hours { name, why } => format!("place \"{name}\": {why}"),
            Cause::Watch { name, why } => format!("watch folder \"{name}\": {why}"),
            Cause::Service { why }
            | Cause::Review { why }
            | Cause::Sibling { why }
            | Cause::System { why }
            | Cause::Configuration { why }
            | Cause::Program { why } => why.clone(),
            Cause::Unknown => "a cause that only a newer program knows".into(),
        }
    }
}

/// One file of an output: most have one, a streaming ladder or a run of frames has many.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MadeFile {
    /// Path inside the output's folder; empty for an output that is one file.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub inside: String,
    pub bytes: u64,
    pub digest: String,
    /// It was made by the porter and goes with what arrived: it lies in the job's work folder.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ours: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum NotMade {
    /// The source does not have what it is made from.
    NotApplicable,
    Failed,
}

/// An output that rules ask for, as decided.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlannedOutput {
    pub number: u32,
    pub rule: String,
    pub preset: String,
    pub preset_version: String,
    /// In the form of [`RECIPE_VERSION`] `recipe_version`.
    pub recipe: serde_json::Value,
    pub recipe_version: u32,
    /// Made by hearing, not by the one pass over pictures and sound.
    pub heard: bool,
    pub extension: String,
    /// Places, each with the name the output is to have there.
    pub to: Vec<(String, String)>,
    /// What becomes of a name that is taken there.
    #[serde(default, skip_serializing_if = "IfTaken::is_usual")]
    pub if_taken: IfTaken,
    /// What is published with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub item: Option<Item>,
}

/// What becomes of an output whose name is taken at a place.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum IfTaken {
    /// It gets the next free number or version.
    #[default]
    Number,
    /// It gets the mark of the next free version: `_v002`.
    Version,
    /// It does not go there, and the record says so.
    Skip,
    /// What is there gets another name beside it.
    Replace,
    /// It does not go there, and the job is turned away when all else is done.
    Refuse,
}

impl IfTaken {
    pub const ALL: [IfTaken; 5] =
        [IfTaken::Number, IfTaken::Version, IfTaken::Skip, IfTaken::Replace, IfTaken::Refuse];

    pub fn name(self) -> &'static str {
        match self {
            IfTaken::Number => "number",
            IfTaken::Version => "version",
            IfTaken::Skip => "skip",
            IfTaken::Replace => "replace",
            IfTaken::Refuse => "refuse",
        }
    }

    /// What is staged goes there under the next name.
    pub fn finds_another(self) -> bool {
        matches!(self, IfTaken::Number | IfTaken::Version)
    }

    pub fn from_name(name: &str) -> Option<IfTaken> {
        Self::ALL.into_iter().find(|p| p.name() == name)
    }

    fn is_usual(&self) -> bool {
        *self == IfTaken::Number
    }
}

/// Numbers that were counted for a job, from 1: of what arrived in its watch, on its day, in its folder, and for each rule.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counts {
    pub watch: i64,
    pub day: i64,
    pub folder: i64,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub rules: BTreeMap<String, i64>,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "snake_case")]
pub enum Change {
    /// The store was made, for the house of this random id.
    Named {
        house: String,
    },
    Started {
        house: String,
        program: String,
    },
    Stopped,
    Arrived {
        job: JobId,
        watch: String,
        #[serde(with = "crate::bytes")]
        path: PathBuf,
        seen: Seen,
        #[serde(default, skip_serializing_if = "is_usual")]
        priority: i64,
        /// It is of many files: of a run `path` has `#` for their numbers, of a tree it is the folder.
        #[serde(default, rename = "frames", skip_serializing_if = "Option::is_none")]
        many: Option<Box<Many>>,
        /// What belongs to it, in the same folder.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        beside: Vec<Beside>,
    },
    /// Work on a job began.
    Begun {
        job: JobId,
    },
    Planned {
        job: JobId,
        facts: Box<serde_json::Value>,
        outputs: Vec<PlannedOutput>,
        /// By which configuration.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        configuration: Option<i64>,
    },
    /// Numbers were counted for a job, for the names of its outputs; each of these counters stands there now.
    Counted {
        job: JobId,
        counts: Counts,
        scopes: Vec<(String, i64)>,
    },
    Made {
        job: JobId,
        output: u32,
        preset: String,
        files: Vec<MadeFile>,
        made: Made,
    },
    NotMade {
        job: JobId,
        output: u32,
        preset: String,
        end: NotMade,
        why: String,
    },
    /// An output was damaged or lost in the work folder.
    Remade {
        job: JobId,
        output: u32,
        preset: String,
        why: String,
    },
    /// An output gets this name at a place; nothing is there yet.
    Carrying {
        job: JobId,
        output: u32,
        preset: String,
        place: String,
        name: String,
        ticket: Ticket,
        /// What has the name there now is to get this one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        aside: Option<String>,
    },
    /// An output does not go to a place, because its name is taken there.
    LeftOut {
        job: JobId,
        output: u32,
        preset: String,
        place: String,
        /// That counts as a failure.
        failed: bool,
        why: String,
    },
    Delivered {
        job: JobId,
        output: u32,
        preset: String,
        place: String,
        name: String,
        proof: Proof,
        /// Where it can be seen.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        address: Option<String>,
    },
    AllDelivered {
        job: JobId,
    },
    Held {
        task: TaskKey,
        cause: Cause,
        next_try: Option<Micros>,
    },
    /// A child broke.
    Broke {
        task: TaskKey,
        why: String,
    },
    MovingOriginal {
        job: JobId,
        #[serde(with = "crate::bytes")]
        to: PathBuf,
        /// The name it has at the target until it is whole there.
        stage: String,
        /// Of a folder: the files that are moved.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        files: Vec<TreeFile>,
    },
    RemovingOriginal {
        job: JobId,
    },
    /// The original lies here from now on; it was moved before anything was made of it.
    TakenIn {
        job: JobId,
        #[serde(with = "crate::bytes")]
        to: PathBuf,
        seen: Seen,
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        beside: Vec<Beside>,
    },
    Done {
        job: JobId,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        note: Option<String>,
        /// Digest of an original that was left where it is: it is known again by that.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        content: Option<String>,
    },
    TurningAway {
        job: JobId,
        reason: String,
    },
    TurnedAway {
        job: JobId,
        /// Where the original is now.
        #[serde(with = "crate::bytes")]
        at: PathBuf,
    },
    Withdrawn {
        job: JobId,
        reason: String,
    },
    /// A person asked for a job to end.
    Cancelling {
        job: JobId,
    },
    Cancelled {
        job: JobId,
    },
    /// Jobs that ended so long ago that their record is not kept.
    Forgotten {
        jobs: Vec<JobId>,
    },
    /// A person asked for an ended job to be done once more.
    Again {
        job: JobId,
    },
    /// A person filled in fields of an item.
    ItemSet {
        job: JobId,
        output: u32,
        fields: Fields,
        by: String,
    },
    /// A person said that an item goes, or that it does not.
    Reviewed {
        job: JobId,
        output: u32,
        yes: bool,
        by: String,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        why: Option<String>,
    },
    /// A person asked that a job waits, or goes on.
    OnHold {
        job: JobId,
        yes: bool,
    },
    /// A person put a job in front of others, or behind them.
    Ranked {
        job: JobId,
        priority: i64,
    },
    /// Somebody was told of all that happened up to this event.
    Noticed {
        notice: String,
        through: i64,
        /// How much of it was in it.
        events: u32,
    },
    /// A notice could not be sent; it is tried again.
    NotNoticed {
        notice: String,
        why: String,
    },
    /// A person asked that nothing more is begun, or that it is.
    Paused {
        yes: bool,
    },
    /// An ended job's original has other attributes, but the content that was worked on.
    Touched {
        job: JobId,
        seen: Seen,
        /// It has another name as well.
        #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::bytes::option")]
        path: Option<PathBuf>,
    },
    /// What a job's original holds, where its watch asks.
    Content {
        job: JobId,
        content: String,
    },
    /// An earlier job was of the same content, and the watch wants nothing made again, or versions.
    SameContent {
        job: JobId,
        known: JobId,
        /// It is made again, and what has its names already is an earlier version.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        version: bool,
    },
    /// The configuration's file was changed while the porter worked: taken up, or refused.
    Configured {
        #[serde(default, skip_serializing_if = "Option::is_none")]
        refused: Option<String>,
    },
    /// This is the configuration in force from here on, with the presets in files of their own.
    Accepted {
        number: i64,
        text: String,
    },
    /// A watch that leaves what was there before is used for the first time.
    FirstUsed {
        watch: String,
    },
    WatchLost {
        watch: String,
        why: String,
    },
    WatchBack {
        watch: String,
    },
    /// The disk of the state folder has less room than the house wants,
    DiskLow {
        free: u64,
    },
    /// and has enough again.
    RoomAgain {
        free: u64,
    },
    /// A file of a network place is whole here, under the name of its part in the watch folder; it gets its own next.
    Fetched {
        watch: String,
        path: String,
        bytes: u64,
        mark: String,
        stage: String,
    },
    /// A file of a network place that cannot be fetched as it is.
    NotFetched {
        watch: String,
        path: String,
        why: String,
    },
    /// What was fetched was moved or removed there.
    Tidied {
        watch: String,
        path: String,
        bytes: u64,
        mark: String,
    },
    FolderKnown {
        role: Role,
        name: String,
        #[serde(with = "crate::bytes")]
        path: PathBuf,
        identity: Identity,
    },
    /// From the record of an older program.
    Told {
        text: String,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        detail: Option<String>,
    },
    #[serde(other)]
    Unknown,
}

fn is_usual(priority: &i64) -> bool {
    *priority == 0
}

impl Change {
    pub fn job(&self) -> Option<JobId> {
        use Change::*;
        match self {
            Arrived { job, .. }
            | Begun { job }
            | Planned { job, .. }
            | Made { job, .. }
            | NotMade { job, .. }
            | Remade { job, .. }
            | Carrying { job, .. }
            | Delivered { job, .. }
            | LeftOut { job, .. }
            | Counted { job, .. }
            | ItemSet { job, .. }
            | Reviewed { job, .. }
            | AllDelivered { job }
            | MovingOriginal { job, .. }
            | RemovingOriginal { job }
            | TakenIn { job, .. }
            | Done { job, .. }
            | TurningAway { job, .. }
            | TurnedAway { job, .. }
            | Withdrawn { job, .. }
            | Cancelling { job }
            | Cancelled { job }
            | Again { job }
            | OnHold { job, .. }
            | Ranked { job, .. }
            | Content { job, .. }
            | SameContent { job, .. }
            | Touched { job, .. } => Some(*job),
            Held { task, .. } | Broke { task, .. } => Some(task.job),
            _ => None,
        }
    }
}

/// A change and when it happened.
#[derive(Clone, Debug, PartialEq)]
pub struct Event {
    pub id: i64,
    pub at: Micros,
    pub job: Option<JobId>,
    pub change: Change,
}
