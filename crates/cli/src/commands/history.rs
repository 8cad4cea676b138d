//! `history`: what was done, and the sums.

use crate::args;
use crate::ui::{self, bytes, errors, seconds, table};
use anyhow::{Result, bail};
use porter::config::House;
use porter::history::{self, History, Span};
use porter::store::State;
use std::process::ExitCode;

pub fn history(a: &args::History) -> Result<ExitCode> {
    if a.schema {
        ui::print_json(&schemars::schema_for!(History))?;
        return Ok(ExitCode::SUCCESS);
    }
    let (house, wrong) = House::load_to_look(&a.house.find())?;
    if let Some(e) = wrong {
        errors::show(&e.into());
    }
    let state = a.state.as_deref().map(State::from_name);
    if let Some(unknown) = state.as_ref().filter(|s| !s.has_ended()) {
        bail!("\"{}\" is not how a job ends: done, turned away, withdrawn or cancelled", unknown.name());
    }
    let since = a.since.as_deref().map(super::day).transpose()?;
    let until = a.until.as_deref().map(super::last_of_day).transpose()?;
    let span = Span { since, until, watch: a.watch.clone(), state };
    let most = if a.csv { u32::MAX } else { a.most };
    let h = history::history(&house, &span, most)?;
    if a.json {
        ui::print_json(&h)?;
    } else if a.csv {
        crate::say_part!("{}", history::csv(&h.jobs));
    } else {
        tell(&h);
    }
    Ok(ExitCode::SUCCESS)
}

fn tell(h: &History) {
    let t = &h.totals;
    if t.jobs == 0 {
        crate::say!("{}: no job ended in that time", h.house);
        return;
    }
    let mut rows = table(&["job", "file", "ended", "result", "media", "delivered", "took"]);
    for j in &h.jobs {
        let ended = j.ended.get(..19).unwrap_or(&j.ended).replace('T', " ");
        let given = match j.delivered {
            0 => j.reason.clone().unwrap_or_default(),
            n => format!("{n} files, {}", bytes(j.delivered_bytes)),
        };
        let text = |s: Option<f64>| s.map_or(String::new(), seconds);
        rows.add_row([
            j.job.to_string(),
            j.path.clone(),
            ended,
            j.state.name().to_owned(),
            text(j.media_seconds),
            given,
            text(j.seconds),
        ]);
    }
    for line in rows.to_string().lines() {
        crate::say!("{}", line.trim_end());
    }
    let more = t.jobs - h.jobs.len() as u64;
    if more > 0 {
        crate::say!("and {more} more (--most)");
    }
    crate::say!("\n{} jobs in all", t.jobs);
    let line = |name: &str, value: String| crate::say!("  {name:<22} {value}");
    for (name, n) in [
        ("done", t.done),
        ("turned away", t.turned_away),
        ("withdrawn", t.withdrawn),
        ("cancelled", t.cancelled),
    ] {
        if n > 0 {
            line(name, n.to_string());
        }
    }
    line("media that was done", format!("{:.1} hours", t.media_hours));
    line("taken in", bytes(t.bytes));
    line("delivered", format!("{} files, {}", t.delivered, bytes(t.delivered_bytes)));
    if let (Some(half), Some(most)) = (t.seconds_median, t.seconds_95) {
        let words = format!("half of them within {}, 95 % within {}", seconds(half), seconds(most));
        line("arrival to delivery", words);
    }
    if let Some(hours) = t.hand_hours {
        line("by hand", format!("{hours:.1} hours, by the house's own estimate"));
    }
    for r in &t.turned_away_for {
        line(&format!("turned away {} times", r.jobs), r.why.clone());
    }
}
