//! `config`: the configurations that were in force, and what differs between them.

use crate::args::{Config, ConfigWhat};
use crate::ui;
use anyhow::{Context, Result, bail};
use porter::clock;
use porter::config::House;
use porter::store::Store;
use serde::Serialize;
use similar::TextDiff;
use std::process::ExitCode;

#[derive(Serialize)]
struct Listed {
    number: i64,
    since: String,
    in_force: bool,
}

pub fn config(a: &Config) -> Result<ExitCode> {
    let house = match &a.what {
        ConfigWhat::Schema => {
            ui::print_json(&schemars::schema_for!(porter::config::raw::House))?;
            return Ok(ExitCode::SUCCESS);
        }
        ConfigWhat::List { house, .. } | ConfigWhat::Show { house, .. } | ConfigWhat::Diff { house, .. } => {
            house
        }
    };
    let (house, wrong) = House::load_to_look(&house.find())?;
    if let Some(e) = wrong {
        ui::errors::show(&e.into());
    }
    let Some(store) = Store::look(&house.store_file())? else {
        bail!("no porter ever worked on this house: no configuration was in force yet");
    };
    let kept = store.read(|v| v.configurations())?;
    let text = |number: i64| -> Result<String> {
        store.read(|v| v.configuration(number))?.with_context(|| match kept.last() {
            Some((last, _)) => format!("there is no configuration {number}; the last is {last}"),
            None => "no configuration was kept yet".to_owned(),
        })
    };
    match &a.what {
        ConfigWhat::List { json, .. } => {
            let last = kept.last().map(|k| k.0);
            let all: Vec<Listed> = kept
                .iter()
                .map(|&(number, at)| Listed {
                    number,
                    since: clock::zoned_text(at),
                    in_force: Some(number) == last,
                })
                .collect();
            if *json {
                ui::print_json(&all)?;
            } else {
                for (l, (_, at)) in all.iter().zip(&kept) {
                    let now = if l.in_force { "   the last that was taken up" } else { "" };
                    crate::say!("{:>4}  since {}{now}", l.number, clock::local(*at));
                }
            }
        }
        ConfigWhat::Schema => (),
        ConfigWhat::Show { number, .. } => {
            let number = number.or(kept.last().map(|k| k.0)).unwrap_or(0);
            crate::say!("{}", text(number)?.trim_end());
        }
        ConfigWhat::Diff { from, to, .. } => {
            let (old, name) = (text(*from)?, format!("configuration {from}"));
            let (new, other) = match to {
                Some(to) => (text(*to)?, format!("configuration {to}")),
                None => (house.whole_text()?, "as it stands on disk".to_owned()),
            };
            let diff = TextDiff::from_lines(&old, &new);
            if diff.ratio() >= 1.0 {
                crate::say!("no difference");
                return Ok(ExitCode::SUCCESS);
            }
            crate::say!(
                "{}",
                diff.unified_diff().context_radius(2).header(&name, &other).to_string().trim_end()
            );
            return Ok(ExitCode::from(1));
        }
    }
    Ok(ExitCode::SUCCESS)
}
