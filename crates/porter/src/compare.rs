//! Past arrivals under another configuration: which of them would come out otherwise. Nothing is read but the record.

use crate::config::House;
use crate::error::{Error, Result};
use crate::naming;
use crate::route::{self, Decision, Item};
use crate::store::{Job, JobId, Store};
use media::facts::Facts;
use media::show;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;

/// Past arrivals, and what would become of them.
#[derive(Debug, Default, Serialize, JsonSchema)]
#[schemars(title = "Compared")]
pub struct Compared {
    /// How many arrivals were looked at.
    pub arrivals: usize,
    /// Those that come out otherwise.
    pub changed: Vec<Changed>,
}

#[derive(Debug, Serialize, JsonSchema)]
pub struct Changed {
    pub job: JobId,
    pub watch: String,
    pub path: String,
    /// What is made only before, and only after.
    pub before: Vec<String>,
    pub after: Vec<String>,
}

/// How many arrivals are looked at, the latest.
pub const MOST: u32 = 5000;

/// What a job's outputs are, one line for each place.
type Lines = BTreeSet<String>;

fn line(preset: &str, version: &str, place: &str, name: &str) -> String {
    let version = if version.is_empty() { String::new() } else { format!(" (version {version})") };
    format!("{preset}{version} -> {place}: {}", naming::candidate(name, 1))
}

fn decided(house: &House, job: &Job, facts: &Facts) -> Lines {
    let path = job.known_as();
    let item = Item {
        many: job.many.as_ref(),
        beside: &job.beside,
        counts: job.counts.as_ref(),
        ..Item::new(&job.watch, &path, job.arrived, job.id)
    };
    let decision: Decision = route::decide(house, &item, facts);
    if house.watch(&job.watch).is_none() {
        return Lines::from([format!("watch \"{}\" is not in this configuration", job.watch)]);
    }
    if decision.outputs.is_empty() {
        return Lines::from([format!("turned away: {}", decision.why_nothing(facts))]);
    }
    let each = decision.outputs.iter();
    each.flat_map(|o| o.to.iter().map(|(place, name)| line(&o.preset, &o.preset_version, place, name)))
        .collect()
}

/// What jobs were planned as, where nothing else is named.
fn planned(store: &Store, job: &Job) -> Result<Lines> {
    let (outputs, deliveries) = store.read(|v| Ok((v.outputs(job.id)?, v.deliveries(job.id)?)))?;
    let lines = deliveries.iter().filter_map(|d| {
        let o = outputs.iter().find(|o| o.number == d.output)?;
        Some(line(&o.preset, &o.preset_version, &d.place, &d.wanted))
    });
    Ok(lines.collect())
}

/// Arrivals since a moment: as `house` makes them, against `edited` or, without one, against what they were planned as.
pub fn since(house: &House, edited: Option<&House>, since: i64) -> Result<Compared> {
    let Some(store) = Store::look(&house.store_file())? else {
        return Err(Error::NotConfigured(
            "no porter ever worked on this house: nothing has arrived yet".into(),
        ));
    };
    let mut out = Compared::default();
    for (job, facts) in store.read(|v| v.facts_since(since, MOST))? {
        let Ok(facts) = serde_json::from_value::<Facts>(facts) else { continue };
        out.arrivals += 1;
        let now = decided(house, &job, &facts);
        let (before, after) = match edited {
            Some(edited) => (now, decided(edited, &job, &facts)),
            None => (planned(&store, &job)?, now),
        };
        if before != after {
            let only = |a: &Lines, b: &Lines| a.difference(b).map(|l| show::text(l)).collect();
            let (path, watch) = (show::path(&job.path), job.watch.clone());
            out.changed.push(Changed {
                job: job.id,
                watch,
                path,
                before: only(&before, &after),
                after: only(&after, &before),
            });
        }
    }
    Ok(out)
}
