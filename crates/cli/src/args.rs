//! Arguments as typed. Each command turns them into what it does.

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use porter::config::values;
use std::path::PathBuf;
use std::time::Duration;
use words::captions::Style;

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
    /// Print the JSON schema of what --json prints
    #[arg(long)]
    pub schema: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Report {
    #[command(flatten)]
    pub house: House,
    /// The page that is written
    #[arg(long, value_name = "FILE", default_value = "report.html")]
    pub to: PathBuf,
    /// Only jobs that ended on this day or later: 2026-11-23
    #[arg(long, value_name = "DAY")]
    pub since: Option<String>,
    /// Only jobs that ended on this day or earlier
    #[arg(long, value_name = "DAY")]
    pub until: Option<String>,
    /// Only jobs of this watch
    #[arg(long, value_name = "NAME")]
    pub watch: Option<String>,
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
pub struct Copy {
    /// The card or folder; nothing in it is touched
    #[arg(value_name = "SOURCE")]
    pub source: PathBuf,
    /// Where to: a folder that is there; once for each
    #[arg(long, required = true, value_name = "DIR")]
    pub to: Vec<PathBuf>,
    /// The name of the folder that is made there, in place of the source's
    #[arg(long, value_name = "NAME", conflicts_with = "flat")]
    pub name: Option<String>,
    /// Straight into each DIR, without a folder of the source's name
    #[arg(long)]
    pub flat: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Verify {
    /// A folder with manifests in its folder "ascmhl", one manifest, or a list of checksums (MD5, SHA-256, xxHash, C4)
    #[arg(value_name = "PATH")]
    pub path: PathBuf,
    /// Files that are in no manifest are a fault, too
    #[arg(long)]
    pub strict: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Trace {
    /// The file, wherever it is now
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    #[command(flatten)]
    pub house: NamedHouse,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
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
pub struct Board {
    #[command(flatten)]
    pub house: House,
    /// Show it in a browser, on this machine alone, until it is ended with Ctrl-C.
    #[arg(long)]
    pub web: bool,
    /// Where the browser finds it: a port or an address of this machine.
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:8765", requires = "web", value_parser = own_address)]
    pub listen: std::net::SocketAddr,
    /// Take orders from the page as well (hold, release, cancel, again): its address then holds a secret.
    #[arg(long, requires = "web")]
    pub control: bool,
}

/// An address, or a port of this machine.
fn own_address(said: &str) -> Result<std::net::SocketAddr, String> {
    let port = said.strip_prefix("localhost:").unwrap_or(said).parse::<u16>();
    let address = port.map(|p| ([127, 0, 0, 1], p).into()).or_else(|_| said.parse());
    address.map_err(|_| "say a port (8765) or an address with one (127.0.0.1:8765)".into())
}

#[derive(Debug, ClapArgs)]
pub struct Log {
    #[command(flatten)]
    pub house: House,
    /// How many of the latest events
    #[arg(long, value_name = "COUNT", default_value_t = 40)]
    pub last: u32,
    /// Only events of this job, all of them
    #[arg(long, value_name = "NUMBER")]
    pub job: Option<i64>,
    /// Go on as more happens, until interrupted
    #[arg(long)]
    pub follow: bool,
    /// Print JSON, an event a line
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Notice {
    /// The notice's name in the configuration
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    #[command(flatten)]
    pub house: NamedHouse,
    /// Print the schema of what web addresses and commands get
    #[arg(long)]
    pub schema: bool,
}

#[derive(Debug, ClapArgs)]
pub struct History {
    #[command(flatten)]
    pub house: House,
    /// Only jobs that ended on this day or later: 2026-11-23
    #[arg(long, value_name = "DAY")]
    pub since: Option<String>,
    /// Only jobs that ended on this day or earlier
    #[arg(long, value_name = "DAY")]
    pub until: Option<String>,
    /// Only jobs of this watch
    #[arg(long, value_name = "NAME")]
    pub watch: Option<String>,
    /// Only jobs that ended like this: done, turned away, withdrawn, cancelled
    #[arg(long, value_name = "STATE")]
    pub state: Option<String>,
    /// Most jobs to list one by one; the sums are of all
    #[arg(long, value_name = "COUNT", default_value_t = 20)]
    pub most: u32,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    /// Print a line of comma-separated values for each job
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
    /// Print the schema of the JSON
    #[arg(long)]
    pub schema: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Jobs {
    #[command(subcommand)]
    pub what: JobsWhat,
}

/// Jobs that are meant.
#[derive(Debug, ClapArgs)]
pub struct Meant {
    /// Numbers of jobs, as "status" and "jobs list" show them
    #[arg(value_name = "NUMBER")]
    pub jobs: Vec<i64>,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub house: NamedHouse,
}

#[derive(Debug, ClapArgs)]
pub struct Which {
    /// Only jobs in this state: waiting, making, carrying, clearing, turning away, done, turned away, withdrawn, cancelled;
    /// held (they wait for something), on hold (they wait for a person)
    #[arg(long, value_name = "STATE")]
    pub state: Option<String>,
    /// Only jobs of this watch
    #[arg(long, value_name = "NAME")]
    pub watch: Option<String>,
    /// Only jobs whose original, or what was delivered of it, has a name like this: "*.mov", "heron*"
    #[arg(long, value_name = "PATTERN")]
    pub name: Option<String>,
    /// Only jobs that arrived on this day or later: 2026-11-23
    #[arg(long, value_name = "DAY")]
    pub since: Option<String>,
}

#[derive(Debug, Subcommand)]
pub enum JobsWhat {
    /// List jobs, newest first
    List {
        #[command(flatten)]
        which: Which,
        /// Most jobs to list
        #[arg(long, value_name = "COUNT", default_value_t = 50)]
        most: u32,
        #[command(flatten)]
        house: NamedHouse,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Everything that happened to a job
    Show {
        /// Number of the job, as "status" and "jobs list" show it
        #[arg(value_name = "NUMBER")]
        job: i64,
        #[command(flatten)]
        house: NamedHouse,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// End jobs; what was delivered stays, what was begun is cleared away, the original stays where it is
    Cancel(Meant),
    /// Do ended jobs once more: what was turned away is put back, what was left is made anew under names that are free
    Again(Meant),
    /// Let jobs wait: what is under way goes on to its end, and nothing more of them is begun
    Hold(Meant),
    /// Let jobs go on that are on hold
    Release(Meant),
    /// Put jobs in front of all others
    First(Meant),
    /// Put jobs in front of others, or behind them: 9 is the highest, -9 the lowest, 0 the usual
    Priority {
        /// From -9 to 9
        #[arg(value_name = "PRIORITY", allow_hyphen_values = true, value_parser = clap::value_parser!(i64).range(-9..=9))]
        priority: i64,
        #[command(flatten)]
        meant: Meant,
    },
}

#[derive(Debug, ClapArgs)]
pub struct Formats {
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

/// Presets, and where those that are not shipped come from.
#[derive(Debug, ClapArgs)]
pub struct ChosenPresets {
    /// Presets, shipped or of a house: "deft-porter presets list" names them
    #[arg(long = "preset", required = true, num_args = 1.., value_name = "NAME")]
    pub names: Vec<String>,
    /// A file with presets of its own, as "deft-porter presets show" prints them
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
    #[command(flatten)]
    pub house: NamedHouse,
}

#[derive(Debug, ClapArgs)]
pub struct Plan {
    /// A media file
    pub file: PathBuf,
    #[command(flatten)]
    pub presets: ChosenPresets,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Convert {
    /// Media files
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub presets: ChosenPresets,
    /// Join the files, in their order, and make one of each preset
    #[arg(long)]
    pub join: bool,
    /// Folder for what is made
    #[arg(long, value_name = "DIR")]
    pub to: PathBuf,
    /// Name of what is made, without its extension; fields as in a house's rules
    #[arg(long, value_name = "TEMPLATE", default_value = porter::convert::USUAL_NAME)]
    pub name: String,
    /// Print each event as a line of JSON
    #[arg(long)]
    pub json: bool,
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
pub struct Review {
    #[command(subcommand)]
    pub what: ReviewWhat,
}

#[derive(Debug, Subcommand)]
pub enum ReviewWhat {
    /// List what is not published yet, and where it stands
    List {
        /// Also what is over
        #[arg(long)]
        all: bool,
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Show one with all its fields
    Show {
        /// Number of its job, with the output's where it has several: 12, 12.2
        #[arg(value_name = "NUMBER")]
        id: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Fill in fields
    Set {
        /// Number of its job, with the output's where it has several: 12, 12.2
        #[arg(value_name = "NUMBER")]
        id: String,
        /// title="Low tide", tags="sea, mud", visibility=public
        #[arg(required = true, value_name = "FIELD=VALUE")]
        fields: Vec<String>,
        /// Who says so; otherwise whoever is logged in
        #[arg(long, value_name = "NAME")]
        by: Option<String>,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Let them go
    Release {
        /// Numbers of their jobs, with the output's where one has several: 12, 12.2
        #[arg(required = true, value_name = "NUMBER")]
        ids: Vec<String>,
        /// Who says so; otherwise whoever is logged in
        #[arg(long, value_name = "NAME")]
        by: Option<String>,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Say that they do not go, and why
    Refuse {
        /// Numbers of their jobs, with the output's where one has several: 12, 12.2
        #[arg(required = true, value_name = "NUMBER")]
        ids: Vec<String>,
        /// Why they do not go; it stands in the record
        #[arg(long, value_name = "TEXT")]
        why: String,
        /// Who says so; otherwise whoever is logged in
        #[arg(long, value_name = "NAME")]
        by: Option<String>,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Write a table (CSV) with a row for each, to be filled in with a spreadsheet
    Export {
        /// File to write; it must not be there
        to: PathBuf,
        /// Also what is over
        #[arg(long)]
        all: bool,
        #[command(flatten)]
        house: NamedHouse,
    },
    /// Read the table back: fields that were changed are set, and "yes" or "no" in the column release is done
    Import {
        /// The table
        file: PathBuf,
        /// Who says so; otherwise whoever is logged in
        #[arg(long, value_name = "NAME")]
        by: Option<String>,
        #[command(flatten)]
        house: NamedHouse,
    },
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

#[derive(Debug, ClapArgs)]
pub struct Transcribe {
    /// Files with sound
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Folder for what is written; without it, beside each file
    #[arg(long, value_name = "DIR")]
    pub to: Option<PathBuf>,
    /// Forms to write: json, txt, md, srt, vtt, ttml, csv, html, summary.json, summary.html
    #[arg(long = "as", value_name = "FORMS", value_delimiter = ',', default_value = "txt")]
    pub forms: Vec<words::write::Form>,
    /// Give each word its time in WebVTT
    #[arg(long)]
    pub word_times: bool,
    /// A list of spellings: names, places and terms, one a line
    #[arg(long, value_name = "FILE")]
    pub terms: Option<PathBuf>,
    /// Sound track to hear, from 1; the first that can be decoded if not given
    #[arg(long, value_name = "NUMBER")]
    pub track: Option<usize>,
    /// Do not hear doubtful passages again
    #[arg(long)]
    pub quick: bool,
    /// Processors to use; all of them if not given
    #[arg(long, value_name = "COUNT", default_value_t = 0, hide_default_value = true)]
    pub threads: usize,
    /// Folder of another speech model
    #[arg(long, value_name = "DIR")]
    pub model: Option<PathBuf>,
    /// A speech service that hears instead of this machine: its address, or its name in the house
    #[arg(long, value_name = "SERVICE")]
    pub service: Option<String>,
    /// A text service that writes the summary: its address, or its name in the house
    #[arg(long, value_name = "SERVICE")]
    pub summary_service: Option<String>,
    /// File with the token of services given by address
    #[arg(long, value_name = "FILE")]
    pub token_file: Option<PathBuf>,
    #[command(flatten)]
    pub house: NamedHouse,
    /// Print what was heard and written as a line of JSON for each file
    #[arg(long)]
    pub json: bool,
    /// Print the JSON schema of a transcript
    #[arg(long, exclusive = true)]
    pub schema: bool,
    #[command(flatten)]
    pub style: CaptionStyle,
}

/// How captions are set and checked.
#[derive(Debug, ClapArgs)]
#[command(next_help_heading = "Caption style")]
pub struct CaptionStyle {
    /// Characters in a line
    #[arg(long, value_name = "COUNT", default_value_t = Style::default().line)]
    pub line: usize,
    /// Lines in a cue
    #[arg(long, value_name = "COUNT", default_value_t = Style::default().lines)]
    pub lines: usize,
    /// Least time on screen, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = Style::default().shortest)]
    pub shortest: i64,
    /// Most time on screen, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = Style::default().longest)]
    pub longest: i64,
    /// Characters a second that can be read
    #[arg(long, value_name = "COUNT", default_value_t = Style::default().speed)]
    pub speed: f64,
    /// Time between two cues, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = Style::default().gap)]
    pub gap: i64,
}

impl From<&CaptionStyle> for Style {
    fn from(s: &CaptionStyle) -> Style {
        Style {
            line: s.line,
            lines: s.lines,
            shortest: s.shortest,
            longest: s.longest,
            speed: s.speed,
            gap: s.gap,
        }
    }
}

#[derive(Debug, ClapArgs)]
pub struct Find {
    /// A word, the beginning of one ("tid*"), or words that follow each other ("salt marsh"); all must be there
    #[arg(required = true, value_name = "WORDS")]
    pub words: Vec<String>,
    #[command(flatten)]
    pub house: NamedHouse,
    /// They lie within this many words of each other
    #[arg(long, value_name = "COUNT")]
    pub near: Option<u32>,
    /// Only files of this watch
    #[arg(long, value_name = "NAME")]
    pub watch: Option<String>,
    /// Only what was transcribed on this day or later, as 2026-11-23
    #[arg(long, value_name = "DAY")]
    pub from: Option<String>,
    /// Only what was transcribed on this day or before
    #[arg(long, value_name = "DAY")]
    pub until: Option<String>,
    /// Most places to show
    #[arg(long, value_name = "COUNT", default_value_t = 50)]
    pub most: u32,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Captions {
    /// A caption file: SRT, WebVTT or TTML, in any encoding
    pub file: PathBuf,
    /// File to write; its extension says the format
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Move all cues by this many seconds, before 0 if negative
    #[arg(
        long,
        value_name = "SECONDS",
        default_value_t = 0.0,
        hide_default_value = true,
        allow_negative_numbers = true
    )]
    pub shift: f64,
    /// Frame rate that the times were made for; goes with --to-rate
    #[arg(long, value_name = "RATE", requires = "to_rate")]
    pub from_rate: Option<media::units::Ratio>,
    /// Frame rate at which the pictures are shown instead
    #[arg(long, value_name = "RATE", requires = "from_rate")]
    pub to_rate: Option<media::units::Ratio>,
    /// List what offends against the style; exit status 1 if anything does
    #[arg(long)]
    pub check: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub style: CaptionStyle,
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
