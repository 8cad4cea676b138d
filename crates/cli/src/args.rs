//! Arguments as typed. Each command turns them into what it does.

use clap::{Args as ClapArgs, Parser, Subcommand};
use std::path::PathBuf;

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
    Check(House),
    /// Work: watch the folders, make, check, name and carry
    Run(Run),
    /// Show what is arriving, waiting, being made and finished
    Status(Status),
    /// Tell what media files are, from their content
    Inspect(Inspect),
    /// Build a small working house from sample media and watch it work
    Demo(Demo),
    /// Print a completion script for a shell
    Completions(Completions),
    /// Write the manual pages into a folder
    Manual(Manual),
    /// Make one job's outputs; started by the porter itself
    #[command(hide = true, name = porter::maker::parent::COMMAND)]
    MakeInChild,
}

#[derive(Debug, ClapArgs)]
pub struct House {
    /// The house: its folder or its deft-porter.toml
    #[arg(default_value = ".")]
    pub house: PathBuf,
}

#[derive(Debug, ClapArgs)]
pub struct Init {
    /// Folder of the new house
    #[arg(default_value = ".")]
    pub dir: PathBuf,
}

#[derive(Debug, ClapArgs)]
pub struct Run {
    #[command(flatten)]
    pub house: House,
    /// End when all that is in the watch folders has been worked on
    #[arg(long)]
    pub once: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Status {
    #[command(flatten)]
    pub house: House,
    /// Everything that happened to one job
    #[arg(long, value_name = "NUMBER")]
    pub job: Option<i64>,
    /// How many ended jobs to show
    #[arg(long, value_name = "COUNT", default_value_t = porter::report::USUAL_ENDED)]
    pub ended: u32,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Inspect {
    /// Files, or folders to look through
    #[arg(required_unless_present = "schema", value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Decode everything: count the frames, report the first bad one, and digest them
    #[arg(long)]
    pub deep: bool,
    /// Print the JSON schema of what --json prints for one file
    #[arg(long)]
    pub schema: bool,
    /// Take numbered pictures for clips of this rate, in frames a second: 24, 25, 30000/1001
    #[arg(long, value_name = "RATE")]
    pub run: Option<media::units::Ratio>,
    /// Print JSON: one value for one file, a list for several
    #[arg(long)]
    pub json: bool,
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
