//! `presets`: what there is, and how it is set.

use crate::args::{ChosenPresets, NamedHouse, Presets, PresetsWhat};
use crate::ui;
use anyhow::{Context, Result, bail};
use porter::config::{House, Preset, presets};
use serde::Serialize;
use std::path::{Path, PathBuf};
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
        PresetsWhat::Show { name, house } => show(name, house),
        PresetsWhat::Check { file } => check(file),
        PresetsWhat::Copy { name, new, house } => copy(name, new, house),
        PresetsWhat::Export { names, to, house } => export(names, to, house),
        PresetsWhat::Import { file, house } => import(file, house),
    }
}

/// The folder of a house that must be there, with its presets.
fn house_at(house: &NamedHouse) -> Result<(PathBuf, House)> {
    let house = House::load(&house.find())?;
    Ok((house.file.parent().unwrap_or(Path::new("/")).to_owned(), house))
}

/// The settings of a preset as they are written: in the house, in its files of presets, or shipped.
fn written(name: &str, house: &NamedHouse) -> Result<String> {
    let at = house.find();
    let file = if at.is_dir() { at.join(porter::config::FILE_NAME) } else { at };
    let base = file.parent().unwrap_or(Path::new(".")).to_owned();
    let mut files = vec![file];
    files.extend(porter::config::parts::files(&base)?);
    files.extend(presets::files(&base)?);
    for file in files {
        let text = std::fs::read_to_string(&file).unwrap_or_default();
        if let Some(block) = presets::text_of(&text, name) {
            return Ok(block);
        }
    }
    presets::written(name).with_context(|| {
        format!("there is no preset \"{name}\"; \"deft-porter presets list\" names them all")
    })
}

fn copy(name: &str, new: &str, house: &NamedHouse) -> Result<ExitCode> {
    let (base, there) = house_at(house)?;
    if there.presets.iter().any(|p| p.name == new) {
        bail!("there is a preset \"{new}\" already");
    }
    let block = presets::renamed(&written(name, house)?, new);
    presets::parse(Path::new("the copy"), &block)?;
    let file = presets::add(&base, new, &block)?;
    crate::say!("{}: preset \"{new}\", as \"{name}\" is; change it there", media::show::path(&file));
    Ok(ExitCode::SUCCESS)
}

fn export(names: &[String], to: &Path, house: &NamedHouse) -> Result<ExitCode> {
    let blocks: Vec<String> = names.iter().map(|n| written(n, house)).collect::<Result<_>>()?;
    let text = blocks.join("\n");
    let all = presets::parse(to, &text)
        .context("presets that name services of this house cannot be exported: another house has its own")?;
    let mut file =
        std::fs::File::create_new(to).with_context(|| format!("cannot write {}", media::show::path(to)))?;
    std::io::Write::write_all(&mut file, text.as_bytes())?;
    crate::say!("{}: {} presets", media::show::path(to), all.len());
    Ok(ExitCode::SUCCESS)
}

fn import(file: &Path, house: &NamedHouse) -> Result<ExitCode> {
    let (base, there) = house_at(house)?;
    let all = read(file)?;
    let own = |p: &&Arc<Preset>| !presets::shipped().iter().any(|s| Arc::ptr_eq(s, p));
    if let Some(twice) = all.iter().find(|p| there.presets.iter().filter(own).any(|t| t.name == p.name)) {
        bail!("the house has a preset \"{}\" already; nothing was imported", twice.name);
    }
    let text = std::fs::read_to_string(file)?;
    for p in &all {
        let block = presets::text_of(&text, &p.name).with_context(|| format!("preset \"{}\"", p.name))?;
        let to = presets::add(&base, &p.name, &block)?;
        crate::say!("{}: preset \"{}\"", media::show::path(&to), p.name);
    }
    Ok(ExitCode::SUCCESS)
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
    ui::lines(&table).iter().flatten().for_each(|line| crate::say!("{line}"));
    Ok(ExitCode::SUCCESS)
}

fn show(name: &str, house: &NamedHouse) -> Result<ExitCode> {
    crate::say_part!("{}", written(name, house)?);
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
