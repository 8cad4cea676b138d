//! `rehearse`: what a house would make of files.

use crate::args::Rehearse;
use crate::ui;
use anyhow::{Context, Result};
use porter::config::House;
use porter::rehearse::{Output, Rehearsed, Stage};
use std::process::ExitCode;

pub fn rehearse(a: &Rehearse) -> Result<ExitCode> {
    if a.schema {
        ui::print_json(&schemars::schema_for!(Vec<Rehearsed>))?;
        return Ok(ExitCode::SUCCESS);
    }
    let house = House::load(&a.house.find())?;
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
    crate::say!("  {number}. {} (version {}) by rule \"{}\"{size}", o.preset, o.version, o.rule);
    if let Some(why) = &o.not_made {
        crate::say!("     not made: {why}");
        return;
    }
    for d in &o.to {
        let taken = if d.taken { "  (numbered: the rule's name for it is taken there)" } else { "" };
        let away = d.away.as_ref().map_or(String::new(), |why| format!("  (away now: {why})"));
        crate::say!("     -> {}: {}{taken}{away}", d.place, d.name);
    }
}
