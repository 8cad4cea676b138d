//! Which rules hold for an arrival, and what follows. Pure: the house, what arrived and its facts go in, a [`Decision`]
//! comes out. Conditions are in CEL, the Common Expression Language.

mod condition;
pub mod fields;
pub mod script;
pub mod versions;

pub use condition::Condition;

use crate::clock::Micros;
use crate::config::{House, Make, Preset, Rule};
use crate::files::frames::Frames;
use crate::files::many::Many;
use crate::item;
use crate::naming;
use crate::package::Package;
use crate::recipe::Recipe;
use crate::store::{Counts, IfTaken, JobId};
use crate::watch::beside::Beside;
use fields::Subject;
use media::facts::Facts;
use regex_lite::Regex;
use std::path::Path;

/// What arrived.
#[derive(Clone, Copy, Debug)]
pub struct Item<'a> {
    pub watch: &'a str,
    /// Inside the watch folder.
    pub path: &'a Path,
    pub arrived: Micros,
    pub job: JobId,
    /// It is of many files; the path of a run is without their numbers.
    pub many: Option<&'a Many>,
    /// What belongs to it.
    pub beside: &'a [Beside],
    /// Numbers that were counted for it.
    pub counts: Option<&'a Counts>,
    /// Fields that its sidecars say.
    pub said: Option<&'a item::Fields>,
    /// The house's pattern that takes names apart.
    pub name_parts: Option<&'a Regex>,
    /// Other arrivals of the same source.
    pub others: Others,
}

/// How many other arrivals there are of what this one is a version of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Others {
    pub earlier: u32,
    /// With a higher number.
    pub newer: u32,
}

impl<'a> Item<'a> {
    /// One of which nothing else is known.
    pub fn new(watch: &'a str, path: &'a Path, arrived: Micros, job: JobId) -> Item<'a> {
        Item {
            watch,
            path,
            arrived,
            job,
            many: None,
            beside: &[],
            counts: None,
            said: None,
            name_parts: None,
            others: Others::default(),
        }
    }
}

impl Item<'_> {
    pub fn frames(&self) -> Option<&Frames> {
        self.many.and_then(Many::run)
    }
}

/// What is to be made of an arrival, and why.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Decision {
    pub outputs: Vec<Wanted>,
    /// The highest that a rule asks for.
    pub priority: Option<i64>,
    /// What became of each rule of this watch, in order.
    pub rules: Vec<Ruled>,
}

#[derive(Clone, Debug, PartialEq)]
pub struct Wanted {
    pub rule: String,
    pub preset: String,
    pub preset_version: String,
    pub recipe: Recipe,
    pub extension: String,
    pub name: String,
    /// Places, each with the name the output is to have there.
    pub to: Vec<(String, String)>,
    pub if_taken: IfTaken,
    /// What is published with it.
    pub item: Option<item::Item>,
}

/// One rule that was looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ruled {
    pub rule: String,
    /// What it wants.
    pub when: String,
    /// Whether it holds; or why that could not be told.
    pub holds: Result<bool, String>,
    /// Why it was passed over, whatever it wants.
    pub passed: Option<String>,
    /// The fields that it asks for, with what they are here.
    pub compared: Vec<(&'static str, String)>,
}

/// Outputs, names and places of every rule that holds, and what became of the others.
pub fn decide(house: &House, item: &Item<'_>, facts: &Facts) -> Decision {
    let mut decision = Decision::default();
    let item = &Item { name_parts: house.name_parts.as_ref(), ..*item };
    let subject = Subject { facts, item, preset: "", rule: "" };
    let (mut held, mut last): (Option<&str>, Option<&str>) = (None, None);
    for rule in house.rules.iter().filter(|r| r.is_for(item.watch)) {
        let passed = match (last, held) {
            (Some(by), _) => Some(format!("rule \"{by}\" held, and is the last that counts")),
            (None, Some(by)) if rule.otherwise => {
                Some(format!("rule \"{by}\" held; this one is for what no other takes"))
            }
            _ => None,
        };
        let holds = if passed.is_some() { Ok(false) } else { rule.when.holds(&subject) };
        let is_so = holds == Ok(true);
        if is_so {
            held = held.or(Some(&rule.name));
            decision.priority = decision.priority.max(rule.priority);
            last = last.or(rule.last.then_some(rule.name.as_str()));
        }
        let compared = rule.when.fields().iter().map(|f| (f.name, f.get(&subject).words())).collect();
        let when = rule.when.text().to_owned();
        decision.rules.push(Ruled { rule: rule.name.clone(), when, holds, passed, compared });
        let first = decision.outputs.len();
        for make in rule.make.iter().filter(|_| is_so) {
            let subject = Subject { preset: &make.preset.name, rule: &rule.name, ..subject };
            let usual = || house.watch(item.watch).map_or(&[][..], |w| &w.to);
            let to = make.to.as_deref().unwrap_or_else(usual);
            // A file as it arrived keeps its ending; many are a folder of them.
            let own = item.path.extension().filter(|_| item.many.is_none());
            let own = own.map_or(String::new(), |e| naming::ending(&e.to_string_lossy()));
            decision.outputs.extend(make.preset.parts.iter().map(|part| {
                let extension = if part.recipe.original { &own } else { &part.extension };
                let name = make.name.fill(&subject, extension);
                let mut recipe = part.recipe.clone();
                recipe.checked = recipe.is_made()
                    && make
                        .checks_whole
                        .unwrap_or_else(|| house.watch(item.watch).is_some_and(|w| w.checks_whole));
                recipe.media.texts().for_each(|t| *t = naming::fill_text(t, &subject));
                let item = make.item.as_ref().map(|i| item::Item {
                    fields: i
                        .fields
                        .iter()
                        .map(|(name, text)| ((*name).to_owned(), naming::fill_text(text, &subject)))
                        .collect(),
                    required: i.required.clone(),
                    hold: i.hold,
                    ..item::Item::default()
                });
                Wanted { item, ..wanted(rule, (make, to), &make.preset, recipe, extension, name) }
            }));
            // What belongs to an original that goes somewhere as it is goes along, named like it.
            let with = item
                .beside
                .iter()
                .filter(|b| !b.marker && make.preset.parts.iter().any(|p| p.recipe.original));
            decision.outputs.extend(with.map(|b| {
                let ending = naming::ending(&b.ending(item.path));
                let name = make.name.fill(&subject, &ending);
                let recipe = Recipe { original: true, beside: Some(b.name.clone()), ..Recipe::default() };
                wanted(rule, (make, to), &make.preset, recipe, &ending, name)
            }));
        }
        pack(&mut decision.outputs, first);
        go_with(&mut decision.outputs, first, rule);
    }
    decision
}

/// Which outputs go with each that is published.
fn go_with(outputs: &mut [Wanted], first: usize, rule: &Rule) {
    for at in first..outputs.len() {
        let preset = &outputs[at].preset;
        let Some(make) = rule.make.iter().find(|m| m.preset.name == *preset && m.item.is_some()) else {
            continue;
        };
        let names = make.item.as_ref().map(|i| i.with.clone()).unwrap_or_default();
        let with = outputs.iter().enumerate().skip(first).filter(|(_, o)| names.contains(&o.preset));
        let with: Vec<u32> = with.map(|(n, _)| n as u32).collect();
        if let Some(item) = &mut outputs[at].item {
            item.with = with;
        }
    }
}

/// What goes into each package of the outputs from this one on, and its name in there.
fn pack(outputs: &mut [Wanted], first: usize) {
    for at in first..outputs.len() {
        let Some(package) = outputs[at].recipe.package.clone() else { continue };
        let mut members: Vec<(u32, String)> = Vec::new();
        for (n, o) in outputs.iter().enumerate().skip(first) {
            if o.recipe.package.is_some() || !(package.of.is_empty() || package.of.contains(&o.preset)) {
                continue;
            }
            let taken =
                |name: &String| members.iter().any(|(_, other)| other.to_lowercase() == name.to_lowercase());
            let name = (1..).map(|n| naming::candidate(&o.name, n)).find(|name| !taken(name));
            members.extend(name.map(|name| (n as u32, name)));
        }
        outputs[at].recipe.package = Some(Package { members, ..package });
    }
}

fn wanted(
    rule: &Rule,
    (make, to): (&Make, &[String]),
    preset: &Preset,
    recipe: Recipe,
    extension: &str,
    name: String,
) -> Wanted {
    Wanted {
        rule: rule.name.clone(),
        preset: preset.name.clone(),
        preset_version: preset.version.clone(),
        recipe,
        extension: extension.to_owned(),
        if_taken: make.if_taken,
        to: to.iter().map(|place| (place.clone(), name.clone())).collect(),
        name,
        item: None,
    }
}

impl Decision {
    /// Why nothing is to be made.
    pub fn why_nothing(&self, facts: &Facts) -> String {
        let what = match facts.picture() {
            Some(v) => format!("{} {} {}x{}", facts.format, v.codec, v.width, v.height),
            None => {
                facts.audio.first().map_or(facts.format.clone(), |a| format!("{} {}", facts.format, a.codec))
            }
        };
        let found = format!("found {}: {what}", facts.kind);
        if self.rules.is_empty() {
            return format!("no rule is for this watch folder ({found})");
        }
        let passed = self.rules.iter().map(|r| match &r.holds {
            _ if r.passed.is_some() => format!("rule \"{}\", which was passed over", r.rule),
            Ok(_) => format!("rule \"{}\", which wants {}", r.rule, r.when),
            Err(why) => format!("rule \"{}\", which could not be told: {why}", r.rule),
        });
        format!("no rule holds for it ({found}); looked at {}", passed.collect::<Vec<_>>().join("; "))
    }
}
