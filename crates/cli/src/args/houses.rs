//! Arguments of what is done with a house: making it, running it, its configuration, presets and names.

use super::{House, NamedHouse};
use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Debug, ClapArgs)]
pub struct Init {
    /// Folder of the new house
    #[arg(default_value = ".")]
    pub dir: PathBuf,
    /// What kind of house its configuration is for
    #[arg(long, value_name = "KIND", default_value = "plain")]
    pub kind: HouseKind,
    /// Also in a folder that has files in it
    #[arg(long)]
    pub among_files: bool,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum HouseKind {
    /// One watch folder, one place, proxies
    Plain,
    /// Proxies that editing systems link to, sheets, runs of frames
    Editing,
    /// Deliverables by height, markers, an archive that refuses what is there
    Broadcast,
    /// Levelled sound, transcripts, all in one file
    Podcast,
    /// Runs of frames, versions of shots, reviews with timecode
    Effects,
}

#[derive(Debug, ClapArgs)]
pub struct Check {
    #[command(flatten)]
    pub house: House,
    /// Mark every folder of the house, and take it for the right one as it is now
    #[arg(long)]
    pub mark: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    /// Print the JSON schema of what --json prints
    #[arg(long)]
    pub schema: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Run {
    #[command(flatten)]
    pub house: House,
    /// End when all that is in the watch folders has been worked on
    #[arg(long)]
    pub once: bool,
    /// Print each event as a line of JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Service {
    #[command(subcommand)]
    pub what: ServiceWhat,
}

#[derive(Debug, Subcommand)]
pub enum ServiceWhat {
    /// Print it
    Print {
        #[command(flatten)]
        house: House,
        /// For what
        #[arg(long, value_enum, value_name = "FORM", default_value = "systemd")]
        form: ServiceForm,
        /// Who the porter is to run as
        #[arg(long, value_name = "NAME", default_value = "porter")]
        user: String,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum ServiceForm {
    /// A unit, with what it may not do
    Systemd,
    /// A recipe for an image
    Container,
}

#[derive(Debug, ClapArgs)]
pub struct Backup {
    /// The folder that is made
    #[arg(value_name = "DIR")]
    pub to: PathBuf,
    #[command(flatten)]
    pub house: NamedHouse,
}

#[derive(Debug, ClapArgs)]
pub struct Restore {
    /// The backup's folder
    #[arg(value_name = "DIR")]
    pub from: PathBuf,
    #[command(flatten)]
    pub house: NamedHouse,
}

#[derive(Debug, ClapArgs)]
pub struct Presets {
    #[command(subcommand)]
    pub what: PresetsWhat,
}

#[derive(Debug, Subcommand)]
pub enum PresetsWhat {
    /// List the shipped presets and, with a house, its own
    List {
        #[command(flatten)]
        house: NamedHouse,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Print the settings of a preset as they are written
    Show {
        /// Its name, as "presets list" has it
        #[arg(value_name = "NAME")]
        name: String,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Check a file of presets
    Check {
        /// The file
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Copy a preset into a file of its own in the house, under another name, to be changed there
    Copy {
        /// The preset
        #[arg(value_name = "NAME")]
        name: String,
        /// Name of the copy
        #[arg(value_name = "NEW")]
        new: String,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Write presets into a file that another house can import
    Export {
        /// Their names
        #[arg(required = true, value_name = "NAME")]
        names: Vec<String>,
        /// File to write; it must not be there
        #[arg(long, value_name = "FILE")]
        to: PathBuf,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Take the presets of a file into the house, each in a file of its own
    Import {
        /// The file
        #[arg(value_name = "FILE")]
        file: PathBuf,
        #[command(flatten)]
        house: NamedHouse,
    },
}

#[derive(Debug, ClapArgs)]
pub struct Rehearse {
    /// Files, in a watch folder or elsewhere
    #[arg(required_unless_present_any = ["schema", "since"], value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub house: NamedHouse,
    /// In place of files: which arrivals since this day would come out otherwise by the configuration as it stands on
    /// disk than they were planned
    #[arg(long, value_name = "DAY", conflicts_with_all = ["files", "watch"])]
    pub since: Option<String>,
    /// With --since: hold the configuration on disk against this edited one
    #[arg(long, value_name = "FILE", requires = "since")]
    pub edited: Option<PathBuf>,
    /// As if they lay in this watch
    #[arg(long, value_name = "NAME")]
    pub watch: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    /// Print the JSON schema of what --json prints
    #[arg(long)]
    pub schema: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Name {
    /// A template as in a house's rules: "{date}/{stem.part(\"_\", 1)}_proxy"
    pub template: String,
    /// Files; what they are is looked at, and nothing is changed
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Name of the watch that they would come from
    #[arg(long, value_name = "NAME", default_value = "watch")]
    pub watch: String,
    /// Name of the preset that they would be made by
    #[arg(long, value_name = "NAME", default_value = "preset")]
    pub preset: String,
}

#[derive(Debug, ClapArgs)]
pub struct Rename {
    /// A template as in a house's rules, without the ending: "{date}_{stem.slug()}"
    #[arg(required_unless_present = "undo", value_name = "TEMPLATE")]
    pub template: Option<String>,
    /// Files to rename, each in its own folder
    #[arg(required_unless_present = "undo", value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Do it; without this the new names are only shown
    #[arg(long)]
    pub yes: bool,
    /// Give the files of a number, or of the last, their old names back
    #[arg(long, value_name = "NUMBER", num_args = 0..=1, conflicts_with_all = ["template", "files", "yes"])]
    pub undo: Option<Option<i64>>,
    /// Name of the watch, for {watch}
    #[arg(long, value_name = "NAME", default_value = "watch")]
    pub watch: String,
    #[command(flatten)]
    pub house: NamedHouse,
}

#[derive(Debug, ClapArgs)]
pub struct Config {
    #[command(subcommand)]
    pub what: ConfigWhat,
}

#[derive(Debug, Subcommand)]
pub enum ConfigWhat {
    /// List the configurations that were in force, with their numbers
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Print one of them, with the presets in files of their own behind it
    Show {
        /// Its number; without one, the last
        number: Option<i64>,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Print the JSON Schema of deft-porter.toml, for editors that complete keys
    Schema,
    /// Show what differs between two of them, or between one and what stands on disk
    Diff {
        /// A number
        from: i64,
        /// Another; without it, what stands on disk
        to: Option<i64>,
        #[command(flatten)]
        house: NamedHouse,
    },
}
