//! What the rules of a house would make of a file: nothing is made, moved or recorded.

use crate::clock;
use crate::config::{House, Watch};
use crate::convert;
use crate::error::{Error, Result};
use crate::estimate;
use crate::files::Dir;
use crate::files::many::{self, Many};
use crate::files::pieces;
use crate::item;
use crate::jobs::facts_with;
use crate::naming;
use crate::route::{self, Decision, Item, Others, Ruled, Wanted};
use crate::store::{IfTaken, Store};
use crate::watch::beside::{Belonging, Beside};
use crate::watch::folder;
use crate::watch::steady::Steady;
use media::facts::Facts;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// A file, and what would become of it.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "Rehearsed")]
pub struct Rehearsed {
    pub file: String,
    pub watch: String,
    /// Where it lies in the watch folder, or would.
    pub path: String,
    /// What rules see of it, or why it would be turned away before any rule is asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unreadable: Option<String>,
    pub rules: Vec<Rule>,
    pub outputs: Vec<Output>,
    /// Why nothing would be made.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub turned_away: Option<String>,
    #[serde(skip)]
    pub facts: Option<Facts>,
}

/// What became of one rule.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Rule {
    pub rule: String,
    pub when: String,
    pub holds: bool,
    /// Why it was not asked, or could not be told.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// The fields that it asks for, with what they are here.
    pub compared: Vec<Compared>,
}

#[derive(Debug, Serialize, JsonSchema)]
pub struct Compared {
    pub field: String,
    pub value: String,
}

/// One thing that would be made.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Output {
    pub rule: String,
    pub preset: String,
    pub version: String,
    /// Why it would not be made of this file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_made: Option<String>,
    /// About how large, by the bit rates of the preset or by what it made before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about_bytes: Option<u64>,
    /// About how long it takes to make, by how long it took before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about_seconds: Option<f64>,
    /// How many outputs of the house's record that is from.
    #[serde(skip_serializing_if = "is_zero")]
    pub from_past: usize,
    pub to: Vec<Delivery>,
}

#[derive(Debug, Serialize, JsonSchema)]
pub struct Delivery {
    pub place: String,
    /// The name that it would have there.
    pub name: String,
    /// The rule's name for it is taken there already.
    pub taken: bool,
    /// What becomes of it, by its rule, because the name is taken.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub left_out: Option<&'static str>,
    /// Why nothing can be carried there now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub away: Option<String>,
}

impl From<Ruled> for Rule {
    fn from(r: Ruled) -> Rule {
        let compared = r
            .compared
            .into_iter()
            .map(|(field, value)| Compared { field: field.to_owned(), value })
            .collect();
        let (holds, why) = match r.holds {
            Ok(holds) => (holds, r.passed),
            Err(why) => (false, Some(format!("it cannot be told: {why}"))),
        };
        Rule { rule: r.rule, when: r.when, holds, why, compared }
    }
}

fn is_zero(n: &usize) -> bool {
    *n == 0
}

/// Something stands there whose name differs only in case or Unicode form.
fn has_like(folder: &Path, name: &str) -> bool {
    let at = folder.join(name);
    let last = naming::folded(&at.file_name().unwrap_or_default().to_string_lossy());
    let Ok(entries) = std::fs::read_dir(at.parent().unwrap_or(folder)) else { return false };
    entries.flatten().any(|e| naming::folded(&e.file_name().to_string_lossy()) == last)
}

/// Where a file belongs: the watch that is named, or the one whose folder it lies in, or the only one.
fn watch_of<'h>(house: &'h House, file: &Path, named: Option<&str>) -> Result<(&'h Watch, PathBuf)> {
    let name = || PathBuf::from(file.file_name().unwrap_or_default());
    let inside = |w: &Watch| file.strip_prefix(&w.folder).ok().map(Path::to_owned);
    let listed = || house.watches.iter().map(|w| format!("\"{}\"", w.name)).collect::<Vec<_>>().join(", ");
    if let Some(named) = named {
        let watch = house.watch(named).ok_or_else(|| {
            Error::NotConfigured(format!("there is no watch \"{named}\" in this house; it has: {}", listed()))
        })?;
        return Ok((watch, inside(watch).unwrap_or_else(name)));
    }
    if let Some(found) = house.watches.iter().find_map(|w| Some((w, inside(w)?))) {
        return Ok(found);
    }
    match house.watches.as_slice() {
        [only] => Ok((only, name())),
        _ => Err(Error::NotConfigured(format!(
            "{} lies in no watch folder: say as which it is to be taken, with --watch and one of {}",
            media::show::path(file),
            listed()
        ))),
    }
}

/// A folder that is taken whole with its size, or none; and what belongs to a file.
type Found = (Option<(Many, u64)>, Vec<Beside>);

/// What a watch would take it as.
fn arrival(watch: &Watch, at: &Path) -> Result<Found> {
    let fail = |e| Error::path("cannot read", at)(e);
    if at.is_dir() {
        if !watch.whole_folders {
            let why = format!(
                "it is a folder, and watch \"{}\" takes files (whole_folders is not set)",
                watch.name
            );
            return Err(fail(std::io::Error::other(why)));
        }
        let all = Dir::open(at).and_then(|dir| many::walk(&dir)).map_err(fail)?;
        let (seen, tree) = many::together(&all);
        return Ok((Some((Many::Tree(tree), seen.size)), Vec::new()));
    }
    if watch.belonging.is_none() {
        return Ok((None, Vec::new()));
    }
    let dir = Dir::open(at.parent().unwrap_or(Path::new("/"))).map_err(fail)?;
    // A marker that is still to come is none that is missing here.
    let belonging = Belonging { marker: None, ..watch.belonging.clone() };
    let mut steady = Steady::new(0, watch.unfinished.clone(), belonging);
    for f in folder::look_through(&dir, 0).map_err(fail)? {
        steady.see(0, &f.path, Some(f.seen), f.is_file);
    }
    let name = Path::new(at.file_name().unwrap_or_default());
    Ok((None, steady.take(0, name).map_or(Vec::new(), |(_, beside)| beside)))
}

/// The files of a folder that are one.
fn pieces_of(folder: &Path) -> Result<Vec<PathBuf>> {
    let all =
        Dir::open(folder).and_then(|dir| many::walk(&dir)).map_err(Error::path("cannot read", folder))?;
    let names: Vec<PathBuf> =
        all.into_iter().filter(|f| f.kind == many::Kind::File).map(|f| f.path).collect();
    Ok(pieces::of(&names)?.iter().map(|n| folder.join(n)).collect())
}

/// Names at places as they would be given out, one rehearsal after another.
pub struct Stage<'h> {
    house: &'h House,
    store: Option<Store>,
    given: Vec<(String, String)>,
}

impl<'h> Stage<'h> {
    pub fn new(house: &'h House) -> Result<Stage<'h>> {
        Ok(Stage { house, store: Store::look(&house.store_file())?, given: Vec::new() })
    }

    pub fn rehearse(&mut self, file: &Path, watch: Option<&str>) -> Result<Rehearsed> {
        let at = std::fs::canonicalize(file).map_err(Error::path("cannot read", file))?;
        let (watch, path) = watch_of(self.house, &at, watch)?;
        let mut out = Rehearsed {
            file: media::show::path(file),
            watch: watch.name.clone(),
            path: media::show::path(&path),
            unreadable: None,
            rules: Vec::new(),
            outputs: Vec::new(),
            turned_away: None,
            facts: None,
        };
        let (many, beside) = arrival(watch, &at)?;
        let pieces = match &many {
            Some(_) if watch.joins => match pieces_of(&at) {
                Ok(pieces) => pieces,
                Err(e) => {
                    out.unreadable = Some(e.to_string());
                    return Ok(out);
                }
            },
            _ => vec![at.clone()],
        };
        let found = match &many {
            Some((_, bytes)) if watch.joins => convert::facts_of_joined(&pieces, *bytes),
            Some((_, bytes)) => Ok(media::facts::of_folder(*bytes)),
            None => facts_with(&at, beside.iter().filter(|b| b.sound).map(|b| at.with_file_name(&b.name))),
        };
        let many = many.map(|m| m.0);
        let facts = match found {
            Ok(facts) => facts,
            Err(e) => {
                out.unreadable = Some(e.to_string());
                return Ok(out);
            }
        };
        if let Some(damage) = &facts.damage {
            out.unreadable = Some(format!("damaged: {damage}"));
            return Ok(out);
        }
        let job = match &self.store {
            Some(store) => store.read(|v| v.next_job())?,
            None => 1,
        };
        let others = match &self.store {
            Some(store) => store.read(|v| v.others(&watch.name, &path, many.as_ref(), None))?,
            None => Others::default(),
        };
        let mut said = match (&watch.table, Dir::open(&watch.folder)) {
            (Some(table), Ok(dir)) if at.starts_with(&watch.folder) => item::in_tables(&dir, &path, table),
            _ => Default::default(),
        };
        if let (Some(folder), false) = (at.parent(), beside.is_empty()) {
            let dir = Dir::open(folder).map_err(Error::path("cannot open the folder", folder))?;
            beside.iter().for_each(|b| said.extend(item::in_sidecar(&dir, b.name.as_os_str())));
        }
        let item = Item {
            many: many.as_ref(),
            beside: &beside,
            said: Some(&said),
            others,
            ..Item::new(&watch.name, &path, clock::now(), job)
        };
        let decision: Decision = route::decide(self.house, &item, &facts);
        if decision.outputs.is_empty() {
            out.turned_away = Some(decision.why_nothing(&facts));
        }
        let mut makes = self.whether_made(&pieces, &decision.outputs);
        for wanted in &decision.outputs {
            let not_made = makes.next().flatten();
            out.outputs.push(self.output(wanted, not_made, &facts)?);
        }
        out.rules = decision.rules.into_iter().map(Rule::from).collect();
        out.facts = Some(facts);
        Ok(out)
    }

    /// For each output: why it would not be made, as far as that is known before.
    fn whether_made(&self, sources: &[PathBuf], outputs: &[Wanted]) -> std::vec::IntoIter<Option<String>> {
        let presets: Vec<_> = outputs
            .iter()
            .map(|o| {
                let preset = self.house.presets.iter().find(|p| p.name == o.preset);
                preset.filter(|_| o.recipe.transcript.is_none()).cloned()
            })
            .collect();
        let asked: Vec<_> = presets.iter().flatten().cloned().collect();
        let told = match convert::plan_joined(sources, &asked) {
            Ok(planned) => planned.each.into_iter().map(|(_, end)| end.err()).collect(),
            Err(e) => vec![Some(e.to_string()); asked.len()],
        };
        let mut told = told.into_iter();
        let all: Vec<Option<String>> =
            presets.iter().map(|p| p.as_ref().and_then(|_| told.next().flatten())).collect();
        all.into_iter()
    }

    fn output(&mut self, wanted: &Wanted, not_made: Option<String>, facts: &Facts) -> Result<Output> {
        let mut to = Vec::new();
        for (place, name) in &wanted.to {
            to.push(self.delivery(place, name, wanted.if_taken)?);
        }
        let seconds = facts.duration.map_or(0.0, |d| d.seconds);
        let stated = estimate::stated_bytes(&wanted.recipe, seconds);
        let past = match &self.store {
            Some(store) => estimate::past(store, &wanted.preset, &wanted.preset_version)?,
            None => estimate::Past::default(),
        };
        let from_past = past.bytes.len();
        let about_bytes = match wanted.recipe.original {
            true => Some(facts.bytes),
            false => stated.or(estimate::of_length(past.bytes, seconds).map(|b| b as u64)),
        };
        let about_seconds = estimate::of_length(past.seconds, seconds);
        Ok(Output {
            rule: wanted.rule.clone(),
            preset: wanted.preset.clone(),
            version: wanted.preset_version.clone(),
            not_made,
            about_bytes,
            about_seconds,
            from_past,
            to,
        })
    }

    fn delivery(&mut self, place: &str, wanted: &str, if_taken: IfTaken) -> Result<Delivery> {
        // What stands at a place of a network is asked when something goes there.
        let folder = self.house.place(place).and_then(|p| p.folder().map(Path::to_owned));
        let away = folder.as_ref().and_then(|folder| match std::fs::metadata(folder) {
            Ok(m) if m.is_dir() => None,
            Ok(_) => Some(format!("{} is no folder", media::show::path(folder))),
            Err(e) => Some(format!("{}: {e}", media::show::path(folder))),
        });
        let mut number = 1;
        let name = loop {
            let name = naming::candidate_by(if_taken, wanted, number);
            let there = folder
                .as_ref()
                .is_some_and(|f| f.join(&name).symlink_metadata().is_ok() || has_like(f, &name));
            let given = match &self.store {
                Some(store) => store.read(|v| v.name_is_given(place, &name))?,
                None => false,
            };
            let key = (place.to_owned(), name.clone());
            let taken = there || given || self.given.contains(&key);
            let left_out = match if_taken {
                _ if !taken => None,
                IfTaken::Number | IfTaken::Version => None,
                IfTaken::Skip => Some("it would not go there: the name is taken"),
                IfTaken::Refuse => Some("it would be refused: the name is taken"),
                IfTaken::Replace => Some("what has the name there would be set aside"),
            };
            if left_out.is_some() {
                return Ok(Delivery { place: place.to_owned(), taken: true, name, left_out, away });
            }
            if !taken {
                self.given.push(key);
                break name;
            }
            number += 1;
        };
        Ok(Delivery { place: place.to_owned(), taken: number > 1, name, left_out: None, away })
    }
}
