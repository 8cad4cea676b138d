//! `review`: what waits for a person before it goes.

use crate::args::{Review, ReviewWhat};
use crate::ui;
use anyhow::{Context, Result, bail};
use porter::config::House;
use porter::control::Order;
use porter::item;
use porter::review::{self, Reviewed, find, items};
use std::path::Path;
use std::process::ExitCode;

/// How many jobs with items are looked at.
const MOST: u32 = 10_000;

pub fn review(a: &Review) -> Result<ExitCode> {
    match &a.what {
        ReviewWhat::List { house, all, json } => {
            let (house, _) = House::load_to_look(&house.find())?;
            let all = items(&house, !all, MOST)?;
            if *json {
                ui::print_json(&all)?;
            } else if all.is_empty() {
                crate::say!("nothing waits for a person");
            }
            all.iter().filter(|_| !json).for_each(line);
            Ok(ExitCode::SUCCESS)
        }
        ReviewWhat::Show { id, house, json } => {
            let (house, _) = House::load_to_look(&house.find())?;
            let all = items(&house, false, MOST)?;
            let one = wanted(&all, id)?;
            if *json {
                ui::print_json(one)?
            } else {
                whole(one)
            }
            Ok(ExitCode::SUCCESS)
        }
        ReviewWhat::Set { id, fields, by, house } => {
            let at = house.find();
            let mut set = item::Fields::new();
            for f in fields {
                let (name, value) =
                    f.split_once('=').with_context(|| format!("\"{f}\" should be FIELD=VALUE"))?;
                if let Err(wanted) = item::check(name, value) {
                    bail!("\"{f}\": {wanted} is wanted");
                }
                set.insert(name.to_owned(), value.to_owned());
            }
            each(&at, std::slice::from_ref(id), |r| Order::SetItem {
                job: r.job,
                output: r.output,
                fields: set.clone(),
                by: name_of(by),
            })
        }
        ReviewWhat::Release { ids, by, house } => each(&house.find(), ids, |r| Order::Review {
            job: r.job,
            output: r.output,
            yes: true,
            by: name_of(by),
            why: None,
        }),
        ReviewWhat::Refuse { ids, why, by, house } => each(&house.find(), ids, |r| Order::Review {
            job: r.job,
            output: r.output,
            yes: false,
            by: name_of(by),
            why: Some(why.clone()),
        }),
        ReviewWhat::Export { to, all, house } => {
            let (house, _) = House::load_to_look(&house.find())?;
            let all = items(&house, !all, MOST)?;
            let mut file = std::fs::File::create_new(to).with_context(|| media::show::path(to))?;
            std::io::Write::write_all(&mut file, review::to_csv(&all)?.as_bytes())?;
            crate::say!("{} items are in {}", all.len(), media::show::path(to));
            Ok(ExitCode::SUCCESS)
        }
        ReviewWhat::Import { file, by, house } => import(file, &name_of(by), &house.find()),
    }
}

/// Who it is said to be, or whoever is logged in.
fn name_of(by: &Option<String>) -> String {
    by.clone().or_else(|| std::env::var("USER").ok()).unwrap_or_else(|| "somebody".into())
}

fn wanted<'r>(all: &'r [Reviewed], id: &str) -> Result<&'r Reviewed> {
    find(all, id).with_context(|| {
        format!("there is no item {id}; \"deft-porter review list --all\" names them, and a job with several has one for each: {id}.1")
    })
}

fn each(at: &Path, ids: &[String], make: impl Fn(&Reviewed) -> Order) -> Result<ExitCode> {
    let (house, _) = House::load_to_look(at)?;
    let all = items(&house, false, MOST)?;
    let mut refused = false;
    for id in ids {
        let (said, no) = super::jobs::have_done(at, make(wanted(&all, id)?))?;
        said.iter().for_each(|line| crate::say!("{line}"));
        refused |= no;
    }
    Ok(ExitCode::from(u8::from(refused)))
}

/// Every row has its result.
fn import(file: &Path, by: &str, at: &Path) -> Result<ExitCode> {
    let text = std::fs::read_to_string(file).with_context(|| media::show::path(file))?;
    let rows = review::from_csv(&text)?;
    let (house, _) = House::load_to_look(at)?;
    let all = items(&house, false, MOST)?;
    let mut failed = 0;
    for row in &rows {
        let said = one_row(row, &all, by, at).unwrap_or_else(|e| {
            failed += 1;
            format!("not done: {}", ui::errors::line(&e))
        });
        crate::say!("line {}, {}: {said}", row.line, if row.id.is_empty() { "no id" } else { &row.id });
    }
    crate::say!("{} of {} rows done", rows.len() - failed, rows.len());
    Ok(ExitCode::from(u8::from(failed > 0)))
}

fn one_row(row: &review::Row, all: &[Reviewed], by: &str, at: &Path) -> Result<String> {
    let r = wanted(all, &row.id)?;
    let changed: item::Fields = row
        .fields
        .iter()
        .filter(|(name, value)| r.fields.get(*name).map_or("", String::as_str) != value.as_str())
        .map(|(name, value)| (name.clone(), value.clone()))
        .collect();
    for (name, value) in &changed {
        if let Err(wanted) = item::check(name, value) {
            bail!("{name} \"{value}\": {wanted} is wanted");
        }
    }
    let mut said = Vec::new();
    if !changed.is_empty() {
        let names = changed.keys().cloned().collect::<Vec<_>>().join(", ");
        let order = Order::SetItem { job: r.job, output: r.output, fields: changed, by: by.to_owned() };
        if let (words, true) = super::jobs::have_done(at, order)? {
            bail!("{}", words.join("; "));
        }
        said.push(format!("{names} set"));
    }
    if let Some(yes) = row.release {
        let why = (!yes).then(|| "refused in a table".to_owned());
        let order = Order::Review { job: r.job, output: r.output, yes, by: by.to_owned(), why };
        if let (words, true) = super::jobs::have_done(at, order)? {
            bail!("{}", words.join("; "));
        }
        said.push(if yes { "released" } else { "refused" }.into());
    }
    Ok(if said.is_empty() { "as it was".into() } else { said.join(", ") })
}

fn line(r: &Reviewed) {
    let title = r.fields.get("title").map_or("(no title)", String::as_str);
    let detail = r.detail.as_ref().map_or(String::new(), |d| format!(": {d}"));
    crate::say!("{:>6}  {}{detail}", r.id, r.state);
    crate::say!("        {} ({}, {})", media::show::text(title), r.path, r.preset);
    r.addresses.iter().for_each(|a| crate::say!("        {}", media::show::text(a)));
}

fn whole(r: &Reviewed) {
    line(r);
    crate::say!("        to {}", r.places.join(", "));
    if let Some(by) = &r.by {
        crate::say!("        said by {}", media::show::text(by));
    }
    for (name, form) in item::FIELDS {
        match r.fields.get(name).filter(|v| !v.is_empty()) {
            Some(value) => crate::say!("  {name:>12}  {}", media::show::text(value)),
            None => crate::say!("  {name:>12}  -  ({form})"),
        }
    }
}
