//! Arguments of what is done with files, most of it without a house.

use super::NamedHouse;
use clap::Args as ClapArgs;
use std::path::PathBuf;
use words::captions::Style;

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
