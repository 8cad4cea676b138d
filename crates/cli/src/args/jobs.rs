//! Arguments of what is seen and said of jobs.

use super::{House, NamedHouse};
use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

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
