//! `presets`: what there is, and how it is set.

use crate::args::{ChosenPresets, NamedHouse, Presets, PresetsWhat};
use crate::ui;
use anyhow::{Context, Result, bail};
use porter::config::{House, Preset, presets};
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;

#[derive(Serialize)]
struct Listed<'a> {
    name: &'a str,
    about: &'a str,
    makes: Vec<&'a str>,
    version: &'a str,
    shipped: bool,
}

impl<'a> Listed<'a> {
    fn of(p: &'a Preset, shipped: bool) -> Listed<'a> {
        let makes = p.parts.iter().map(|part| part.extension.as_str()).collect();
        Listed { name: &p.name, about: &p.about, makes, version: &p.version, shipped }
    }
}

pub fn presets(a: &Presets) -> Result<ExitCode> {
    match &a.what {
        PresetsWhat::List { house, json } => list(house, *json),
        PresetsWhat::Show { name } => show(name),
        PresetsWhat::Check { file } => check(file),
    }
}

/// The presets of a house, if one is named or lies around us; a house includes the shipped ones.
fn of_house(house: &NamedHouse) -> Result<Vec<Arc<Preset>>> {
    let at = house.find();
    let there = at.join(porter::config::FILE_NAME).is_file() || at.is_file();
    if !there && house.house.is_none() {
        return Ok(presets::shipped().to_vec());
    }
    Ok(House::load(&at)?.presets)
}

fn list(house: &NamedHouse, json: bool) -> Result<ExitCode> {
    let all = of_house(house)?;
    let is_shipped = |p: &Arc<Preset>| presets::shipped().iter().any(|s| Arc::ptr_eq(s, p));
    let listed: Vec<Listed<'_>> = all.iter().map(|p| Listed::of(p, is_shipped(p))).collect();
    if json {
        ui::print_json(&listed)?;
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = ui::table(&["Preset", "Makes", "Version", "For"]);
    for p in &listed {
        let about = if p.shipped || !p.about.is_empty() { p.about } else { "(of this house)" };
        table.add_row([p.name, &p.makes.join(" "), p.version, about]);
    }
    crate::say!("{table}");
    Ok(ExitCode::SUCCESS)
}

fn show(name: &str) -> Result<ExitCode> {
    match presets::written(name) {
        Some(text) => crate::say_part!("{text}"),
        None => bail!("no preset \"{name}\" is shipped; \"deft-porter presets list\" names them all"),
    }
    Ok(ExitCode::SUCCESS)
}

fn read(file: &Path) -> Result<Vec<Arc<Preset>>> {
    let text =
        std::fs::read_to_string(file).with_context(|| format!("cannot read {}", media::show::path(file)))?;
    Ok(presets::parse(file, &text)?)
}

fn check(file: &Path) -> Result<ExitCode> {
    let all = read(file)?;
    crate::say!("{}: {} presets, all of them valid", media::show::path(file), all.len());
    Ok(ExitCode::SUCCESS)
}

/// Those that were asked for, in that order.
pub fn chosen(a: &ChosenPresets) -> Result<Vec<Arc<Preset>>> {
    let mut all = a.from.as_deref().map(read).transpose()?.unwrap_or_default();
    all.extend(of_house(&a.house)?);
    let mut out: Vec<Arc<Preset>> = Vec::new();
    for name in &a.names {
        match all.iter().find(|p| p.name == *name) {
            Some(p) if out.iter().any(|o| o.name == *name) => bail!("preset \"{}\" a second time", p.name),
            Some(p) => out.push(p.clone()),
            None => {
                let near = porter::route::fields::nearest(name, all.iter().map(|p| p.name.as_str()));
                let hint = near.map_or(String::new(), |n| format!("; is \"{n}\" meant?"));
                bail!("no preset \"{name}\"{hint} (\"deft-porter presets list\" names them)");
            }
        }
    }
    Ok(out)
}
