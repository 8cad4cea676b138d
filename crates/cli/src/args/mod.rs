//! Arguments as typed. Each command turns them into what it does.

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use porter::config::values;
use std::path::PathBuf;
use std::time::Duration;

mod files;
mod houses;
mod jobs;
pub use files::*;
pub use houses::*;
pub use jobs::*;

/// Watch folders, proxies and delivery for post-production.
///
/// Files that arrive in watch folders are identified by content, made into what the house's rules ask for,
/// checked, named and carried to their places, with a record of every step.
#[derive(Debug, Parser)]
#[command(name = "deft-porter", version, long_version = crate::commands::version::long(), max_term_width = 100)]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Make a new house: a configuration to start from, and its folders
    Init(Init),
    /// Check a house's configuration, its folders, and what this program can do
    Check(Check),
    /// Work: watch the folders, make, check, name and carry
    Run(Run),
    /// Show what is arriving, waiting, being made and finished
    Status(Status),
    /// See the house on a whole terminal, kept up to date, with keys to take a hand in it
    Board(Board),
    /// List, show, hold, cancel and repeat jobs
    Jobs(Jobs),
    /// Begin nothing more, until "resume"; what is under way goes on to its end
    Pause(House),
    /// Go on after "pause"
    Resume(House),
    /// Take nothing more in, and end the porter when all that can be done is done
    Drain(House),
    /// What was done: jobs that ended, their times and amounts, and the sums
    History(History),
    /// Write a page of what was done: sums, times, steps of jobs, what was turned away
    Report(Report),
    /// The record: everything that happened, event by event
    Log(Log),
    /// Send a try of a notice, to see whether it arrives
    Notice(Notice),
    /// Tell what media files are, from their content
    Inspect(Inspect),
    /// List what is read and what is written
    Formats(Formats),
    /// Show what presets would do to a file: what is decoded, filtered, shared and left out
    Plan(Plan),
    /// Make files by presets, several in one pass, without a house
    Convert(Convert),
    /// List, show, check, copy, export and import presets
    Presets(Presets),
    /// Show what a house's rules would make of files: names, places and reasons; nothing is made
    Rehearse(Rehearse),
    /// Show what a template makes of the names of files
    Name(Name),
    /// What waits for a person before it is published: list, fill in, release, refuse
    Review(Review),
    /// Sign in at a place in a browser, so that outputs can be carried there
    SignIn(SignIn),
    /// Rename files by a template; the record keeps the old names, and --undo gives them back
    Rename(Rename),
    /// The configurations that were in force, by their numbers, and what differs between them
    Config(Config),
    /// Copy a card or folder to several disks at once: read once, read back, with a manifest
    Copy(Copy),
    /// Hold files against their manifest or list of checksums: what is missing, changed, extra
    Verify(Verify),
    /// Tell where a delivered file comes from, by its content or its name
    Trace(Trace),
    /// Print what a service manager or a container needs to run the porter
    Service(Service),
    /// Keep the record and the configuration of a house in a new folder, also while its porter works
    Backup(Backup),
    /// Put the record of a backup back; what was there is kept beside it
    Restore(Restore),
    /// Write down what is said in media files
    Transcribe(Transcribe),
    /// Find where something was said, in all transcripts of a house
    Find(Find),
    /// Convert, move and check caption files
    Captions(Captions),
    /// Serve as a speech or text service on this machine, to try a house with
    StandIn(StandIn),
    /// Build a small working house from sample media and watch it work
    Demo(Demo),
    /// Print a completion script for a shell
    Completions(Completions),
    /// Write the manual pages into a folder
    Manual(Manual),
}

/// The house a command is about, named in one of four ways.
#[derive(Debug, ClapArgs)]
pub struct House {
    /// The house: its folder or its deft-porter.toml
    #[arg(value_name = "HOUSE", conflicts_with = "house")]
    pub at: Option<PathBuf>,
    #[command(flatten)]
    pub named: NamedHouse,
}

/// The same for commands whose other words are about something else.
#[derive(Debug, ClapArgs)]
pub struct NamedHouse {
    /// The house: its folder or its deft-porter.toml. If not given: the variable DEFT_PORTER_HOUSE or, from the current
    /// folder upwards, the first folder with a deft-porter.toml
    #[arg(long, value_name = "DIR")]
    pub house: Option<PathBuf>,
}

/// Names a house for every command.
pub const HOUSE_VARIABLE: &str = "DEFT_PORTER_HOUSE";

impl House {
    pub fn find(&self) -> PathBuf {
        self.at.clone().unwrap_or_else(|| self.named.find())
    }
}

impl NamedHouse {
    pub fn find(&self) -> PathBuf {
        if let Some(given) = &self.house {
            return given.clone();
        }
        if let Some(set) = std::env::var_os(HOUSE_VARIABLE).filter(|v| !v.is_empty()) {
            return set.into();
        }
        let here = std::env::current_dir().unwrap_or_default();
        let found = here.ancestors().find(|d| d.join(porter::config::FILE_NAME).is_file());
        found.map_or_else(|| PathBuf::from("."), |d| d.to_owned())
    }
}

#[derive(Debug, ClapArgs)]
pub struct SignIn {
    /// Name of the place
    #[arg(value_name = "PLACE")]
    pub place: String,
    #[command(flatten)]
    pub house: NamedHouse,
}

#[derive(Debug, ClapArgs)]
pub struct StandIn {
    /// What it is
    #[arg(required_unless_present = "openapi")]
    pub what: Option<StandInKind>,
    /// Port to listen at, on this machine only; 0 takes any that is free
    #[arg(long, default_value_t = 8790)]
    pub port: u16,
    /// File with a token that every request must bring
    #[arg(long, value_name = "FILE", conflicts_with = "token_env")]
    pub token_file: Option<PathBuf>,
    /// Variable of the environment with that token
    #[arg(long, value_name = "NAME")]
    pub token_env: Option<String>,
    /// Largest request it takes: 250 kB, 20 MB
    #[arg(long, value_name = "SIZE", default_value = "100 MB", value_parser = size)]
    pub most: u64,
    /// So many requests are told to come again later
    #[arg(long, value_name = "COUNT", default_value_t = 0)]
    pub busy: u32,
    /// Wait this long before each answer: 500 ms, 10 s
    #[arg(long, value_name = "TIME", default_value = "0 s", value_parser = time)]
    pub delay: Duration,
    /// How closely a speech service gives times
    #[arg(long, value_name = "WHAT", default_value = "words")]
    pub times: Times,
    /// Of a platform: folder that keeps what it gets
    #[arg(long, value_name = "DIR", default_value = "stand-in-platform")]
    pub keep: PathBuf,
    /// Of a platform: a person signs in for whoever publishes; tokens are good for so long: 60 s, 1 h
    #[arg(long, value_name = "TIME", value_parser = time, conflicts_with_all = ["token_file", "token_env"])]
    pub sign_in: Option<Duration>,
    /// Of a platform: most items it takes
    #[arg(long, value_name = "COUNT")]
    pub quota: Option<usize>,
    /// Of a platform: the line of an upload breaks behind so much, once
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub break_after: Option<u64>,
    /// Of a platform: publishing is refused with these words
    #[arg(long, value_name = "TEXT")]
    pub refuse: Option<String>,
    /// Print the description of both services or, for a platform, of publishing (OpenAPI 3.1)
    #[arg(long)]
    pub openapi: bool,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum StandInKind {
    Speech,
    Text,
    /// A platform that films are published on
    Platform,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Times {
    Words,
    Segments,
    None,
}

fn size(text: &str) -> Result<u64, String> {
    values::bytes(text).ok_or_else(|| "a size with its unit is wanted, such as \"20 MB\"".into())
}

fn time(text: &str) -> Result<Duration, String> {
    values::duration(text).ok_or_else(|| "a time with its unit is wanted, such as \"10 s\"".into())
}

#[derive(Debug, ClapArgs)]
pub struct Demo {
    /// Folder to build the house in; it must be empty, absent, or an earlier demo
    #[arg(default_value = "demo-house")]
    pub dir: PathBuf,
}

#[derive(Debug, ClapArgs)]
pub struct Completions {
    pub shell: clap_complete::Shell,
}

#[derive(Debug, ClapArgs)]
pub struct Manual {
    /// Folder for the pages
    pub dir: PathBuf,
}
