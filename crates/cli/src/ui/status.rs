//! The state of a house for people.

use super::{bytes, seconds, table};
use porter::report::{JobStatus, Making, Status};
use porter::store::State;

pub fn text(s: &Status) -> String {
    let mut out = format!(
        "{} - {}\n",
        s.house,
        if s.running { "the porter is running" } else { "NO PORTER IS RUNNING (deft-porter run)" }
    );
    for w in &s.watches {
        if let Some(why) = &w.trouble {
            out.push_str(&format!("TROUBLE: watch folder \"{}\" cannot be read: {why}\n", w.name));
        }
    }
    if !s.arriving.is_empty() {
        let mut t = table(&["watch", "file", "size", "seen for", "why it waits"]);
        for a in &s.arriving {
            t.add_row([a.watch.clone(), a.path.clone(), bytes(a.bytes), seconds(a.seconds), a.why.clone()]);
        }
        section(&mut out, "Arriving", &t);
    }
    if !s.open.is_empty() {
        let mut t = table(&["job", "file", "step", "done", "speed", "left", ""]);
        for j in &s.open {
            let (percent, speed, left) = j.progress.as_ref().map_or(Default::default(), going);
            t.add_row([j.job.to_string(), j.path.clone(), step(j), percent, speed, left, note(j)]);
        }
        section(&mut out, "In work", &t);
    }
    if !s.ended.is_empty() {
        let mut t = table(&["job", "file", "ended", "result", ""]);
        for j in &s.ended {
            let ended = j.ended.as_deref().and_then(|e| e.get(11..19)).unwrap_or("").to_owned();
            t.add_row([j.job.to_string(), j.path.clone(), ended, j.state.name().to_owned(), result(j)]);
        }
        section(&mut out, "Ended (times in UTC)", &t);
    }
    if s.arriving.is_empty() && s.open.is_empty() {
        out.push_str("\nNothing is arriving or in work.\n");
    }
    if !s.ended_counts.is_empty() {
        let counts: Vec<String> =
            s.ended_counts.iter().map(|(state, n)| format!("{n} {}", state.name())).collect();
        out.push_str(&format!("\nIn all: {}\n", counts.join(", ")));
    }
    out
}

fn section(out: &mut String, title: &str, t: &comfy_table::Table) {
    out.push_str(&format!("\n{title}\n"));
    for line in t.to_string().lines() {
        out.push_str(line.trim_end());
        out.push('\n');
    }
}

fn step(j: &JobStatus) -> String {
    match (&j.held, &j.state) {
        (Some(_), state) => format!("held ({})", state.name()),
        (None, state) => state.name().to_owned(),
    }
}

fn going(m: &Making) -> (String, String, String) {
    (
        m.percent.map_or(format!("{}", m.done), |p| format!("{p:.0} %")),
        format!("{:.0}/s", m.per_second),
        m.seconds_left.map_or(String::new(), seconds),
    )
}

fn note(j: &JobStatus) -> String {
    match (&j.held, j.next_try_seconds) {
        (Some(why), Some(s)) => format!("{why} (next try in {})", seconds(s)),
        (Some(why), None) => why.clone(),
        _ => j.outputs.iter().map(|o| o.preset.clone()).collect::<Vec<_>>().join(", "),
    }
}

fn result(j: &JobStatus) -> String {
    if j.state != State::Done {
        return j.reason.clone().unwrap_or_default();
    }
    let all = j.outputs.iter().flat_map(|o| &o.deliveries);
    all.map(|d| format!("{}: {}", d.place, d.name)).collect::<Vec<_>>().join("\n")
}

/// One job, whole.
pub fn one(j: &JobStatus) -> String {
    let mut out = format!("Job {}: {}\n", j.job, j.path);
    let mut line = |name: &str, value: String| out.push_str(&format!("  {name:<12} {value}\n"));
    line("watch", j.watch.clone());
    line("size", bytes(j.bytes));
    line("arrived", j.arrived.clone());
    line("state", step(j));
    if let Some(p) = &j.progress {
        let (percent, speed, left) = going(p);
        line("making", format!("{percent}, {speed}, {left} left"));
    }
    if let Some(why) = j.held.as_ref().or(j.reason.as_ref()) {
        line("because", why.clone());
    }
    if let Some(to) = &j.original {
        line("original at", to.clone());
    }
    for o in &j.outputs {
        let made = o.bytes.map_or("not made yet".to_owned(), bytes);
        line("output", format!("{} (version {}, rule \"{}\"), {made}", o.preset, o.preset_version, o.rule));
        if let Some(sum) = &o.checksum {
            line("", sum.clone());
        }
        for note in o.made.iter().flat_map(|m| &m.notes) {
            line("", note.clone());
        }
        for d in &o.deliveries {
            let when =
                d.delivered.as_ref().map_or("not delivered yet".to_owned(), |t| format!("delivered {t}"));
            line("", format!("{}: {}, {when}", d.place, d.name));
        }
    }
    out
}
