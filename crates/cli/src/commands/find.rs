//! `find`: where something was said.

use crate::args::Find;
use crate::ui;
use anyhow::{Result, bail};
use porter::config::House;
use porter::report;
use porter::store::said::Wanted;
use std::process::ExitCode;

pub fn find(a: &Find) -> Result<ExitCode> {
    let (house, _) = House::load_to_look(&a.house.find())?;
    if let Some(unknown) = a.watch.as_ref().filter(|w| house.watch(w).is_none()) {
        let known: Vec<&str> = house.watches.iter().map(|w| w.name.as_str()).collect();
        bail!("there is no watch \"{unknown}\" in this house; it has: {}", known.join(", "));
    }
    let wanted = Wanted {
        terms: a.words.clone(),
        near: a.near,
        watch: a.watch.clone(),
        from: a.from.as_deref().map(super::day).transpose()?,
        until: a.until.as_deref().map(super::last_of_day).transpose()?,
        most: a.most,
    };
    let found = report::find(&house, &wanted)?;
    let some = found.is_some();
    let hits = found.unwrap_or_default();
    if a.json {
        ui::print_json(&hits)?;
    } else if hits.is_empty() {
        let none = if some { "not said in any transcript" } else { "this house has no transcripts yet" };
        crate::say!("{none}");
    }
    let mut last = None;
    for h in hits.iter().filter(|_| !a.json) {
        if last != Some(h.job) {
            let gap = if last.is_some() { "\n" } else { "" };
            crate::say!("{gap}{}  (watch {}, job {})", h.name, h.watch, h.job);
            let mut places: Vec<&str> = h.delivered.iter().map(|(p, _)| p.as_str()).collect();
            places.sort_unstable();
            places.dedup();
            for place in places {
                let names: Vec<&str> =
                    h.delivered.iter().filter(|(p, _)| p == place).map(|(_, n)| n.as_str()).collect();
                crate::say!("  {place}: {}", names.join(", "));
            }
            last = Some(h.job);
        }
        let at = h.timecode.clone().unwrap_or_else(|| h.at_ms.clock('.')[..8].to_owned());
        crate::say!("  {at}  {}[{}]{}", h.before, h.found, h.after);
    }
    if !a.json && hits.len() as u32 == a.most {
        crate::say!("\nThe newest {} places; --most shows more.", a.most);
    }
    // As for other searches: 1 if nothing was found.
    Ok(ExitCode::from(u8::from(hits.is_empty())))
}
