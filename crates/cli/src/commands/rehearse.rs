//! `rehearse`: what a house would make of files.

use crate::args::Rehearse;
use crate::ui;
use anyhow::{Context, Result};
use porter::compare;
use porter::config::House;
use porter::rehearse::{Output, Rehearsed, Stage};
use std::process::ExitCode;

pub fn rehearse(a: &Rehearse) -> Result<ExitCode> {
    if a.schema {
        ui::print_json(&schemars::schema_for!(Vec<Rehearsed>))?;
        return Ok(ExitCode::SUCCESS);
    }
    let house = House::load(&a.house.find())?;
    if let Some(day) = &a.since {
        return since(a, &house, super::day(day)?);
    }
    let mut stage = Stage::new(&house)?;
    let mut all = Vec::new();
    for file in &a.files {
        all.push(stage.rehearse(file, a.watch.as_deref()).with_context(|| media::show::path(file))?);
    }
    if a.json {
        ui::print_json(&all)?;
    } else {
        for (n, r) in all.iter().enumerate() {
            if n > 0 {
                crate::say!();
            }
            print(r);
        }
    }
    let made = |r: &Rehearsed| r.outputs.iter().any(|o| o.not_made.is_none());
    Ok(ExitCode::from(u8::from(!all.iter().all(made))))
}

/// Past arrivals, by another configuration.
fn since(a: &Rehearse, house: &House, since: i64) -> Result<ExitCode> {
    let edited = match &a.edited {
        // As if it stood where the house's own does.
        Some(file) => {
            let text = std::fs::read_to_string(file).with_context(|| media::show::path(file))?;
            Some(House::parse_as(&house.file, file, &text)?)
        }
        None => None,
    };
    let compared = compare::since(house, edited.as_ref(), since)?;
    if a.json {
        ui::print_json(&compared)?;
        return Ok(ExitCode::from(u8::from(!compared.changed.is_empty())));
    }
    for c in &compared.changed {
        crate::say!("job {}, {} ({})", c.job, c.path, c.watch);
        c.before.iter().for_each(|l| crate::say!("  - {l}"));
        c.after.iter().for_each(|l| crate::say!("  + {l}"));
    }
    let (changed, all) = (compared.changed.len(), compared.arrivals);
    crate::say!("{changed} of {all} arrivals would come out otherwise");
    Ok(ExitCode::from(u8::from(changed > 0)))
}

fn print(r: &Rehearsed) {
    crate::say!("{}", r.file);
    let path = if r.file.ends_with(&r.path) && !r.path.contains('/') {
        String::new()
    } else {
        format!(", as {}", r.path)
    };
    crate::say!("  watch \"{}\"{path}", r.watch);
    if let Some(f) = &r.facts {
        let length = f
            .duration
            .filter(|d| d.seconds > 0.0)
            .map_or(String::new(), |d| format!(", {}", ui::seconds(d.seconds)));
        crate::say!("  {}: {}, {}{length}", f.kind, f.format, ui::bytes(f.bytes));
    }
    if let Some(why) = &r.unreadable {
        crate::say!("  would be turned away: {why}");
        return;
    }
    for rule in &r.rules {
        let end = match (&rule.why, rule.holds) {
            (Some(why), _) => format!("no: {why}"),
            (None, true) => "holds".into(),
            (None, false) => "no".into(),
        };
        crate::say!("  rule \"{}\" {end}", rule.rule);
        let values: Vec<String> =
            rule.compared.iter().map(|c| format!("{} is {}", c.field, quoted(&c.value))).collect();
        let values = if values.is_empty() { String::new() } else { format!("   ({})", values.join(", ")) };
        crate::say!("      {}{values}", rule.when);
    }
    r.outputs.iter().enumerate().for_each(|(n, o)| output(n + 1, o));
    let sizes: Vec<(u64, u64)> =
        r.outputs.iter().filter_map(|o| Some((o.about_bytes?, o.to.len() as u64))).collect();
    if !sizes.is_empty() && sizes.len() == r.outputs.len() {
        let work: u64 = sizes.iter().map(|s| s.0).sum();
        let places: u64 = sizes.iter().map(|s| s.0 * s.1).sum();
        crate::say!("  needs about {} in the work folder, {} at places", ui::bytes(work), ui::bytes(places));
    }
    if let Some(why) = &r.turned_away {
        crate::say!("  would be turned away: {why}");
    }
}

/// Words stand in quotes, numbers do not.
fn quoted(value: &str) -> String {
    if value.parse::<f64>().is_ok() { value.to_owned() } else { format!("\"{value}\"") }
}

fn output(number: usize, o: &Output) {
    let size = o.about_bytes.map_or(String::new(), |b| format!(", about {}", ui::bytes(b)));
    let time = o.about_seconds.map_or(String::new(), |s| {
        format!(", made within about {} (by the last {})", ui::seconds(s), o.from_past)
    });
    let size = format!("{size}{time}");
    let version = if o.version.is_empty() { String::new() } else { format!(" (version {})", o.version) };
    crate::say!("  {number}. {}{version} by rule \"{}\"{size}", o.preset, o.rule);
    if let Some(why) = &o.not_made {
        crate::say!("     not made: {why}");
        return;
    }
    for d in &o.to {
        let taken = match (&d.left_out, d.taken) {
            (Some(why), _) => format!("  ({why})"),
            (None, true) => "  (the first that is free: the rule's name for it is taken there)".into(),
            (None, false) => String::new(),
        };
        let away = d.away.as_ref().map_or(String::new(), |why| format!("  (away now: {why})"));
        crate::say!("     -> {}: {}{taken}{away}", d.place, d.name);
    }
}
