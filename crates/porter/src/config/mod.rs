//! The house configuration, `deft-porter.toml`: read, then checked whole. What comes out is valid.

mod apart;
mod check;
pub mod kinds;
mod locate;
mod looked;
pub mod natural;
pub mod parts;
mod pattern;
pub mod presets;
pub mod raw;
pub mod values;

pub use apart::apart_on_disk;
pub use locate::Problem;
pub use looked::Looked;
pub use pattern::Pattern;

use crate::clock::Micros;
use crate::deliver::Remote;
use crate::error::{Error, Result};
use crate::files::Seen;
use crate::naming::Template;
use crate::notify::Notice;
use crate::offload::sums::Kind;
use crate::package::{Form, Package};
use crate::recipe::Recipe;
use crate::route::Condition;
use crate::services::Service;
use crate::store::IfTaken;
use crate::watch::beside::Belonging;
use crate::watch::folder::is_of_system;
use crate::watch::gather::Gathering;
use crate::watch::told::TellAt;
use media::show;
use media::units::Ratio;
use regex_lite::Regex;
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// The name of the configuration file.
pub const FILE_NAME: &str = "deft-porter.toml";
/// The state folder, unless another is named.
const USUAL_STATE: &str = "porter-state";
/// In the state folder: the configuration that a porter took up last.
const ACCEPTED: &str = "accepted.toml";

/// A whole, valid configuration. All paths are absolute.
#[derive(Debug)]
pub struct House {
    pub file: PathBuf,
    /// What its files were just before they were read: whatever is written from then on is a change.
    pub looked: Option<Looked>,
    pub name: String,
    /// Job store, lock and work in progress.
    pub state: PathBuf,
    pub jobs_at_once: usize,
    /// How long a job that was held up waits before its next try.
    pub retry_after: Duration,
    /// What one delivery would take by hand: for the sums in the history.
    pub hand_work: Option<Duration>,
    /// How long a job is in the record after it ended; without it for ever.
    pub keep_records: Option<Duration>,
    /// Takes names of originals apart, by its named groups.
    pub name_parts: Option<Regex>,
    /// Less room on the disk of the state folder is told.
    pub disk_low: Option<u64>,
    /// Where figures are told over HTTP.
    pub metrics: Option<SocketAddr>,
    pub maker: MakerLimits,
    pub watches: Vec<Watch>,
    pub places: Vec<Place>,
    pub services: Vec<Service>,
    pub presets: Vec<Arc<Preset>>,
    pub rules: Vec<Rule>,
    pub notices: Vec<Notice>,
}

/// What a child that makes outputs may use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MakerLimits {
    /// Bytes.
    pub memory: u64,
    /// Longest time without progress.
    pub stall: Duration,
    /// Longest time in all.
    pub longest: Duration,
}

impl MakerLimits {
    /// Of all processors together, seconds.
    pub fn processor_seconds(&self) -> u64 {
        self.longest.as_secs().saturating_mul(64).max(60)
    }
}

#[derive(Clone, Debug)]
pub struct Watch {
    pub name: String,
    pub folder: PathBuf,
    /// How many folders deep it is looked into; 0: not into any.
    pub depth: usize,
    /// Names of files that are not finished.
    pub unfinished: Vec<Pattern>,
    /// Files that belong to others.
    pub belonging: Belonging,
    /// When files are taken.
    pub hours: Option<Hours>,
    /// How many files one look takes.
    pub most_at_once: Option<usize>,
    /// Where its files are fetched from.
    pub from: Option<Fetch>,
    /// Of a content that was worked on before nothing is made again.
    pub same_content: SameContent,
    /// What arrives is decoded whole first, and so is what is made of it unless its rule says otherwise.
    pub checks_whole: bool,
    /// Folders in it that are left empty go.
    pub remove_empty_folders: bool,
    /// How long size and time of a file must not have changed.
    pub steady: Duration,
    /// How often the folder is looked through.
    pub look_every: Duration,
    /// How long a file that seems cut off is given before it is turned away.
    pub second_look: Duration,
    /// Of what arrives in it: higher goes first.
    pub priority: i64,
    /// Which files are frames of runs.
    pub gathering: Gathering,
    /// A run in which numbers are missing is taken all the same.
    pub take_holes: bool,
    /// Of runs: frames a second.
    pub frame_rate: Ratio,
    pub original: Original,
    /// With [`Original::Move`]: before anything is made of it.
    pub moves_first: bool,
    pub done: Option<PathBuf>,
    /// The original's name there, if that is another.
    pub done_name: Option<Template>,
    pub turned_away: PathBuf,
    /// Otherwise nothing is taken from it.
    pub on: bool,
    /// Files that are taken, all if there is none,
    pub include: Vec<Pattern>,
    /// Endings of the kinds that are taken, all if there is none,
    pub kinds: Vec<Pattern>,
    /// and of those the ones that are not.
    pub exclude: Vec<Pattern>,
    /// Name of tables with a row for each file, which say fields of it.
    pub table: Option<String>,
    /// Files that were there before are left alone.
    pub since: Option<Since>,
    /// And those whose names come before this one.
    pub from_file: Option<String>,
    /// Every folder directly in it is one arrival.
    pub whole_folders: bool,
    /// The films or sounds in such a folder are one, one behind the other.
    pub joins: bool,
    /// Names of places for what does not say where it goes.
    pub to: Vec<String>,
}

/// Since when a watch takes what is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Since {
    Moment(Micros),
    /// Since the porter used this watch first.
    FirstUse,
}

impl Watch {
    /// Whether what is delivered to a place gathers here: the two are one folder, and each folder in it is one arrival once
    /// nothing in it changes.
    pub fn gathers(&self, place: &Path) -> bool {
        self.whole_folders && place == self.folder
    }

    /// Whether a file in this folder would be found, if the folder lies in the watch's.
    pub fn sees(&self, folder: &Path) -> bool {
        folder.strip_prefix(&self.folder).is_ok_and(|inside| inside.components().count() <= self.depth)
    }

    /// All of a file is read to know what it is.
    pub fn looks_at_all(&self) -> bool {
        self.checks_whole || self.same_content != SameContent::MakeAgain
    }

    /// Whether a file that seems to be a still is looked at and made in one go: nothing in between may take long, or put
    /// it in front of others.
    fn makes_at_once(&self, path: &Path) -> bool {
        kinds::by_name(path) == Some(kinds::IMAGE) && !self.looks_at_all() && !self.moves_first
    }

    /// Whether a file is one for this watch, whatever it is: by its path inside, and by the moment since which it has been
    /// there as it is.
    pub fn takes(&self, path: &Path, seen: &Seen) -> bool {
        let is_new = match self.since {
            Some(Since::Moment(since)) => seen.changed.max(seen.modified) / 1000 >= since,
            // The running porter knows since when.
            Some(Since::FirstUse) | None => true,
        };
        is_new && self.fits(path)
    }

    /// The same by its name alone.
    pub fn fits(&self, path: &Path) -> bool {
        let fits = |all: &[Pattern]| all.iter().any(|p| p.fits(path));
        let is_late = self.from_file.as_ref().is_none_or(|from| {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            natural::compare(&name, from).is_ge()
        });
        let of_kind = self.kinds.is_empty() || self.whole_folders || fits(&self.kinds);
        let is_table = self.table.as_ref().is_some_and(|t| path.file_name() == Some(t.as_ref()));
        let is_in = self.include.is_empty() || fits(&self.include);
        is_late && of_kind && is_in && !is_table && !fits(&self.exclude) && !is_of_system(path)
    }
}

/// What happens to a source when all its outputs were delivered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Original {
    Leave,
    /// To the watch's done folder.
    Move,
    /// After every delivery was verified.
    Remove,
}

/// Where files of a watch arrive in a network.
#[derive(Clone, Debug)]
pub struct Fetch {
    pub remote: Remote,
    /// What becomes of a file there when it is whole here.
    pub after: After,
    /// With [`After::Move`]: a folder in the one that is looked at.
    pub move_to: String,
    /// With [`After::Tag`]: its name and value.
    pub tag: (String, String),
    /// Where it says that something came.
    pub told: Option<TellAt>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum After {
    Leave,
    Move,
    Remove,
    /// It gets a tag, and stays.
    Tag,
}

/// A part of the day, in minutes since midnight; it may go over midnight.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Hours {
    pub from: u16,
    pub to: u16,
}

impl Hours {
    pub const FORM: &str = "a part of the day such as \"20:00-06:30\"";

    pub fn parse(text: &str) -> Option<Hours> {
        let (from, to) = text.split_once('-')?;
        let minute = |t: &str| -> Option<u16> {
            let (h, m) = t.trim().split_once(':')?;
            let (h, m): (u16, u16) = (h.parse().ok()?, m.parse().ok()?);
            ((h < 24 && m < 60) || (h == 24 && m == 0)).then_some(h * 60 + m)
        };
        let hours = Hours { from: minute(from)?, to: minute(to)? };
        (hours.from != hours.to).then_some(hours)
    }

    pub fn is_open(&self, minute: u16) -> bool {
        if self.from < self.to {
            (self.from..self.to).contains(&minute)
        } else {
            minute >= self.from || minute < self.to
        }
    }

    pub fn is_open_now(&self) -> bool {
        self.is_open(crate::clock::minute_of_day(crate::clock::now()))
    }

    pub fn text(&self) -> String {
        let t = |m: u16| format!("{:02}:{:02}", m / 60, m % 60);
        format!("{}-{}", t(self.from), t(self.to))
    }
}

#[derive(Clone, Debug)]
pub struct Place {
    pub name: String,
    pub at: Where,
    /// How many outputs are carried there at once.
    pub at_once: Option<usize>,
    /// Bytes a second, over all that is carried there.
    pub pace: Option<u64>,
    /// When something is carried there.
    pub hours: Option<Hours>,
    /// Of a folder: what was written is read from the disk before it counts as delivered.
    pub read_back: bool,
}

/// Where a place is.
#[derive(Clone, Debug)]
pub enum Where {
    Folder(PathBuf),
    Remote(Box<Remote>),
}

impl Place {
    /// Of a place on this machine.
    pub fn folder(&self) -> Option<&Path> {
        match &self.at {
            Where::Folder(folder) => Some(folder),
            Where::Remote(_) => None,
        }
    }

    /// Whether what has a name there can be given another.
    pub fn keeps_aside(&self) -> bool {
        self.remote().is_none_or(Remote::renames)
    }

    pub fn remote(&self) -> Option<&Remote> {
        match &self.at {
            Where::Folder(_) => None,
            Where::Remote(remote) => Some(remote),
        }
    }
}

#[derive(Clone, Debug)]
pub struct Preset {
    pub name: String,
    /// What it is for.
    pub about: String,
    /// What it makes: one file, or one for each form of a transcript.
    pub parts: Vec<Part>,
    /// Changes when a setting does: ties an output to what it was made with.
    pub version: String,
}

/// One file of a preset.
#[derive(Clone, Debug)]
pub struct Part {
    pub recipe: Recipe,
    pub extension: String,
}

#[derive(Debug)]
pub struct Rule {
    pub name: String,
    /// Names of the watches it is for.
    pub watches: Vec<String>,
    pub when: Condition,
    /// Where it holds, no rule behind it counts.
    pub last: bool,
    /// It counts only where no rule before it holds.
    pub otherwise: bool,
    /// Of the jobs that it holds for.
    pub priority: Option<i64>,
    pub make: Vec<Make>,
}

/// What becomes of an arrival whose content was made before.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SameContent {
    #[default]
    MakeAgain,
    /// Made again, and names that are taken get the mark of a version.
    Version,
    /// Nothing is made of it.
    Skip,
}

/// One output of a rule.
#[derive(Clone, Debug)]
pub struct Make {
    pub preset: Arc<Preset>,
    pub name: Template,
    /// Names of places; none: those of the watch.
    pub to: Option<Vec<String>>,
    /// What becomes of a name that is taken there.
    pub if_taken: IfTaken,
    /// Whether what is made is decoded whole before it goes anywhere; none: as the watch has it.
    pub checks_whole: Option<bool>,
    /// What is published with it.
    pub item: Option<ItemMake>,
}

/// An item as a rule has it: texts with fields in them.
#[derive(Clone, Debug, Default)]
pub struct ItemMake {
    pub fields: Vec<(&'static str, String)>,
    pub required: Vec<String>,
    pub hold: bool,
    /// Names of presets of the same rule.
    pub with: Vec<String>,
}

/// What stands for the preset of an output that is the original as it arrived.
pub const ORIGINAL: &str = "original";

/// The preset that makes nothing: what arrived goes to places as it is.
pub fn as_it_is(manifest: bool) -> Arc<Preset> {
    let recipe = Recipe { original: true, manifest, ..Recipe::default() };
    Arc::new(Preset {
        name: ORIGINAL.into(),
        about: "the original as it arrived".into(),
        parts: vec![Part { recipe, extension: String::new() }],
        version: String::new(),
    })
}

/// The preset of a package.
pub fn packed(form: Form, sums: Kind, of: Vec<String>) -> Arc<Preset> {
    let package = Some(Package { form, sums, of, members: Vec::new() });
    Arc::new(Preset {
        name: "package".into(),
        about: "others in one file".into(),
        parts: vec![Part {
            recipe: Recipe { package, ..Recipe::default() },
            extension: form.extension().into(),
        }],
        version: String::new(),
    })
}

impl Rule {
    /// Whether names of its outputs have numbers in them that are counted.
    pub fn counts(&self) -> bool {
        self.make.iter().any(|m| m.name.counts())
    }

    pub fn is_for(&self, watch: &str) -> bool {
        self.watches.iter().any(|w| w == watch)
    }
}

/// Reads on past what is wrong, as far as it can: every problem is told at once, and an unknown key hides no other.
fn read_all(text: &str) -> (Option<raw::House>, Vec<Problem>) {
    const MOST: usize = 50;
    let mut problems: Vec<Problem> = Vec::new();
    let mut rest = text.to_owned();
    loop {
        match toml::from_str(&rest) {
            Ok(raw) => return (Some(raw), problems),
            Err(e) => {
                // A key that is missing because its line was passed over is no problem of its own.
                if problems.is_empty() || !e.message().starts_with("missing field") {
                    problems.push(locate::syntax(text, &e));
                }
                let entry = e.span().and_then(|s| locate::entry_at(&rest, s.start));
                let Some(entry) =
                    entry.filter(|_| problems.len() < MOST && !e.message().starts_with("missing"))
                else {
                    return (None, problems);
                };
                // Blanks in its place, so that all other places stay.
                let blank: String = rest[entry.clone()]
                    .chars()
                    .map(|c| if c == '\n' { "\n".into() } else { " ".repeat(c.len_utf8()) })
                    .collect();
                rest.replace_range(entry, &blank);
            }
        }
    }
}

/// Each preset's settings as they are stated, in an order of their own: an empty list if that is no list.
fn stated(text: &str) -> Vec<toml::Table> {
    let table: Option<toml::Table> = toml::from_str(text).ok();
    let presets = table.and_then(|mut t| t.remove("preset")?.try_into::<Vec<toml::Table>>().ok());
    presets.unwrap_or_default()
}

impl House {
    /// Whether what arrives in a watch is looked at and made in one go, by its name.
    pub fn makes_at_once(&self, watch: &str, path: &Path) -> bool {
        let ranks = self.rules.iter().any(|r| r.priority.is_some());
        !ranks && self.watch(watch).is_some_and(|w| w.makes_at_once(path))
    }

    /// Reads and checks a configuration file, or the one in a folder.
    pub fn load(path: &Path) -> Result<House> {
        let file = Self::file_at(path)?;
        let looked = Looked::at(&file);
        let text = std::fs::read_to_string(&file).map_err(Error::path("cannot read", &file))?;
        Self::parse(&file, &text).map(|house| House { looked: Some(looked), ..house })
    }

    fn file_at(path: &Path) -> Result<PathBuf> {
        let file =
            if path.is_dir() || path.extension().is_none() { path.join(FILE_NAME) } else { path.to_owned() };
        std::fs::canonicalize(&file).map_err(Error::path("cannot read", &file))
    }

    /// For looking only: where the file on disk is wrong, the configuration that a porter accepted last, and what is
    /// wrong with the one on disk.
    pub fn load_to_look(path: &Path) -> Result<(House, Option<Error>)> {
        match Self::load(path) {
            Ok(house) => Ok((house, None)),
            // What is wrong may be in a file of presets: where the state is stands in the house's own.
            Err(wrong @ Error::Config { .. }) => {
                let own = Self::file_at(path)?;
                let stated: Option<toml::Table> =
                    std::fs::read_to_string(&own).ok().and_then(|t| toml::from_str(&t).ok());
                let state = stated.as_ref().and_then(|t| t.get("house")?.get("state")?.as_str());
                let base = own.parent().unwrap_or(Path::new("/"));
                let accepted = base.join(state.unwrap_or(USUAL_STATE)).join(ACCEPTED);
                let text = std::fs::read_to_string(accepted).ok();
                match text.and_then(|t| Self::parse_with(&own, &t, Vec::new()).ok()) {
                    Some(house) => Ok((house, Some(wrong))),
                    None => Err(wrong),
                }
            }
            Err(e) => Err(e),
        }
    }

    /// The configuration as it stands on disk, with its parts and the presets in files of their own behind it.
    pub fn whole_text(&self) -> Result<String> {
        let read = |file: &Path| std::fs::read_to_string(file).map_err(Error::path("cannot read", file));
        let base = self.file.parent().unwrap_or(Path::new("/"));
        let (mut text, _) = parts::joined(&read(&self.file)?, &parts::beside(base)?);
        for file in presets::files(base)? {
            text.push('\n');
            text.push_str(&read(&file)?);
        }
        Ok(text)
    }

    /// Keeps it as the one in force.
    pub fn keep_accepted(&self, text: &str) -> Result<()> {
        let at = self.state.join(ACCEPTED);
        let fail = |e| Error::path("cannot write", &at)(e);
        let mut file = std::fs::File::options()
            .write(true)
            .create(true)
            .truncate(true)
            .mode(0o600)
            .open(&at)
            .map_err(fail)?;
        std::io::Write::write_all(&mut file, text.as_bytes()).map_err(fail)
    }

    /// `file` is for messages, and its folder is what relative paths start from.
    pub fn parse(file: &Path, text: &str) -> Result<House> {
        let base = file.parent().unwrap_or(Path::new("/"));
        let (others, parts) = (presets::beside(base)?, parts::beside(base)?);
        let (whole, starts) = parts::joined(text, &parts);
        Self::parse_with(file, &whole, others).map_err(|e| match e {
            Error::Config { file, problems, .. } => {
                let problems = problems.into_iter().map(|p| parts::placed(p, &parts, &starts)).collect();
                Error::Config { file, text: text.to_owned(), problems }
            }
            e => e,
        })
    }

    /// A text from another file, as if it stood where the house's own does.
    pub fn parse_as(own: &Path, shown: &Path, text: &str) -> Result<House> {
        let file = std::path::absolute(shown).unwrap_or_else(|_| shown.to_owned());
        Self::parse(own, text).map_err(|e| match e {
            Error::Config { text, problems, .. } => Error::Config { file, text, problems },
            e => e,
        })
    }

    /// `others`: presets that stand elsewhere, each with its file.
    fn parse_with(file: &Path, text: &str, others: Vec<(PathBuf, Arc<Preset>)>) -> Result<House> {
        let base = file.parent().unwrap_or(Path::new("/"));
        let fail = |problems| Error::Config { file: file.to_owned(), text: text.to_owned(), problems };
        let (raw, mut problems) = read_all(text);
        let checked = raw.map(|raw| check::house(raw, file, base, &stated(text), others));
        match checked {
            Some(Ok(house)) if problems.is_empty() => return Ok(house),
            Some(Err(faults)) => problems.extend(locate::all(text, faults)),
            _ => (),
        }
        problems.sort_by_key(|p| (p.line, p.column));
        Err(fail(problems))
    }

    pub fn watch(&self, name: &str) -> Option<&Watch> {
        self.watches.iter().find(|w| w.name == name)
    }
    pub fn place(&self, name: &str) -> Option<&Place> {
        self.places.iter().find(|p| p.name == name)
    }
    /// Nothing is put where a watch would take it for an arrival, by a name that leads into its folder.
    pub fn may_lie(&self, folder: &Path, name: &Path) -> std::result::Result<(), String> {
        let to = folder.join(name);
        let within = to.parent().unwrap_or(folder);
        match self
            .watches
            .iter()
            .find(|w| (w.sees(within) || w.folder.starts_with(&to)) && !w.gathers(folder))
        {
            None => Ok(()),
            Some(w) => Err(format!(
                "{} lies in watch folder \"{}\": it would arrive again and again",
                show::path(&to),
                w.name
            )),
        }
    }
    pub fn service(&self, name: &str) -> Option<&Service> {
        self.services.iter().find(|s| s.name == name)
    }
    /// The configuration's file, fit to be shown.
    pub fn file_shown(&self) -> String {
        show::path(&self.file)
    }
    pub fn said_file(&self) -> PathBuf {
        self.state.join("said.sqlite")
    }
    pub fn store_file(&self) -> PathBuf {
        self.state.join("jobs.sqlite")
    }
    /// Where outputs are made before they are carried.
    pub fn work(&self) -> PathBuf {
        self.state.join("work")
    }
}
