//! The state of a house for people.

use super::{Tone, bytes, lines, paint, seconds, table};
use porter::control::Rests;
use porter::progress::Unit;
use porter::report::{Going, JobStatus, Status};
use porter::store::State;

pub fn text(s: &Status) -> String {
    let running = match s.running {
        true => "the porter is running".to_owned(),
        false => paint(Tone::Bad, "NO PORTER IS RUNNING (deft-porter run)"),
    };
    let mut out = format!("{} - {running}\n", s.house);
    if s.paused {
        let line = "PAUSED: nothing more is begun (deft-porter resume)";
        out.push_str(&format!("{}\n", paint(Tone::Warn, line)));
    }
    for w in &s.watches {
        if let Some(why) = &w.trouble {
            let line = format!("TROUBLE: watch folder \"{}\" cannot be read: {why}", w.name);
            out.push_str(&format!("{}\n", paint(Tone::Bad, &line)));
        }
    }
    for a in &s.away {
        let next = seconds(a.next_try_seconds);
        let (head, next, tone) = match a.how {
            Rests::Away => ("AWAY: ", format!(" (next try in {next})"), Tone::Bad),
            Rests::Full => ("FULL: ", format!(" (next try in {next})"), Tone::Bad),
            Rests::Hours => ("", String::new(), Tone::Warn),
        };
        let line = format!("{head}place \"{}\"{next}: {}", a.place, a.why);
        out.push_str(&format!("{}\n", paint(tone, &line)));
    }
    if !s.arriving.is_empty() {
        let mut t = table(&["watch", "file", "size", "seen for", "why it waits"]);
        for a in &s.arriving {
            let seen = a.seconds.map_or(String::new(), seconds);
            t.add_row([a.watch.clone(), a.path.clone(), bytes(a.bytes), seen, a.why.clone()]);
        }
        section(&mut out, "Arriving", &t, |_| Tone::Plain);
        if s.arriving_not_listed > 0 {
            out.push_str(&format!("and {} more\n", s.arriving_not_listed));
        }
    }
    if !s.open.is_empty() {
        let mut t = table(&["job", "file", "step", "done", "speed", "left", "makes, or waits for"]);
        for j in &s.open {
            let (percent, speed, left) = j.progress.as_ref().map_or(Default::default(), going);
            t.add_row([j.job.to_string(), j.path.clone(), step(j), percent, speed, left, note(j)]);
        }
        let tone = |n: usize| if s.open[n].held.is_some() { Tone::Warn } else { Tone::Plain };
        section(&mut out, "In work", &t, tone);
        let more = s.open_count.saturating_sub(s.open.len() as u64);
        if more > 0 {
            out.push_str(&format!("and {more} more\n"));
        }
    }
    if !s.ended.is_empty() {
        let mut t = table(&["job", "file", "ended", "result", "delivered, or why not"]);
        let mut tones = Vec::new();
        for j in &s.ended {
            let ended = j.ended.as_deref().map(moment).unwrap_or_default();
            let result = result(j);
            let tone = if j.state == State::Done { Tone::Plain } else { Tone::Bad };
            tones.extend(std::iter::repeat_n(tone, result.lines().count().max(1)));
            t.add_row([j.job.to_string(), j.path.clone(), ended, j.state.name().to_owned(), result]);
        }
        section(&mut out, "Ended", &t, |n| tones.get(n).copied().unwrap_or(Tone::Plain));
    }
    if s.arriving.is_empty() && s.open.is_empty() {
        out.push_str("\nNothing is arriving or in work.\n");
    }
    if !s.ended_counts.is_empty() {
        let counts: Vec<String> =
            s.ended_counts.iter().map(|c| format!("{} {}", c.jobs, c.state.name())).collect();
        out.push_str(&format!("\nIn all: {}\n", counts.join(", ")));
    }
    out
}

/// Day and time of day, out of a time with its zone.
fn moment(at: &str) -> String {
    at.get(..19).unwrap_or(at).replace('T', " ")
}

fn section(out: &mut String, title: &str, t: &comfy_table::Table, tone: impl Fn(usize) -> Tone) {
    out.push_str(&format!("\n{title}\n"));
    for (n, all) in lines(t).into_iter().enumerate() {
        // The heads are the first line.
        let tone = n.checked_sub(1).map_or(Tone::Plain, &tone);
        all.iter().for_each(|line| out.push_str(&format!("{}\n", paint(tone, line))));
    }
}

fn step(j: &JobStatus) -> String {
    let state = j.state.name();
    match (&j.held, &j.progress) {
        (Some(_), _) => format!("held ({state})"),
        (None, Some(p)) => p.stage.to_string(),
        (None, None) => state.to_owned(),
    }
}

fn going(g: &Going) -> (String, String, String) {
    let speed = match g.unit {
        Unit::Bytes => format!("{}/s", bytes(g.per_second as u64)),
        Unit::Milliseconds => format!("{:.1} x real time", g.per_second / 1000.0),
        unit => format!("{:.0} {unit}/s", g.per_second),
    };
    let done = match g.unit {
        Unit::Bytes => bytes(g.done),
        Unit::Milliseconds => seconds(g.done as f64 / 1000.0),
        unit => format!("{} {unit}", g.done),
    };
    (
        g.percent.map_or(done, |p| format!("{p:.0} %")),
        if g.done > 0 { speed } else { String::new() },
        g.seconds_left.map_or(String::new(), seconds),
    )
}

/// Of a job in line, about when its turn comes.
pub fn begins(j: &JobStatus) -> Option<String> {
    let at = j.expected_start.as_deref()?;
    Some(format!("begins about {}", at.get(11..16)?))
}

fn note(j: &JobStatus) -> String {
    match (&j.held, j.next_try_seconds) {
        (Some(why), Some(s)) => format!("{why} (next try in {})", seconds(s)),
        (Some(why), None) => why.clone(),
        _ => {
            let mut presets: Vec<&str> = j.outputs.iter().map(|o| o.preset.as_str()).collect();
            presets.dedup();
            let presets = presets.join(", ");
            match begins(j) {
                Some(at) if presets.is_empty() => at,
                Some(at) => format!("{presets} ({at})"),
                None => presets,
            }
        }
    }
}

fn result(j: &JobStatus) -> String {
    if j.state != State::Done {
        return j.reason.clone().unwrap_or_default();
    }
    let all = j.outputs.iter().flat_map(|o| &o.deliveries).filter(|d| d.delivered.is_some());
    all.map(|d| format!("{}: {}", d.place, d.name)).collect::<Vec<_>>().join("\n")
}

/// Jobs, a line each.
pub fn list(all: &[JobStatus]) -> String {
    let mut t = table(&["job", "watch", "file", "arrived", "state", "delivered, or why"]);
    for j in all {
        let why = if j.held.is_some() { note(j) } else { brief(j) };
        t.add_row([j.job.to_string(), j.watch.clone(), j.path.clone(), moment(&j.arrived), step(j), why]);
    }
    lines(&t).into_iter().flatten().map(|line| format!("{line}\n")).collect()
}

/// What became of a job in one line: of each place the first name, and how many more.
fn brief(j: &JobStatus) -> String {
    if j.state != State::Done {
        return j.reason.clone().unwrap_or_default();
    }
    let all = j.outputs.iter().flat_map(|o| &o.deliveries).filter(|d| d.delivered.is_some());
    let mut places: Vec<(&str, &str, usize)> = Vec::new();
    for d in all {
        match places.iter_mut().find(|p| p.0 == d.place) {
            Some(p) => p.2 += 1,
            None => places.push((&d.place, &d.name, 0)),
        }
    }
    let told = places.iter().map(|(place, name, more)| match more {
        0 => format!("{place}: {name}"),
        n => format!("{place}: {name} and {n} more"),
    });
    told.collect::<Vec<_>>().join("; ")
}

/// One job, whole.
pub fn one(j: &JobStatus) -> String {
    let mut out = format!("Job {}: {}\n", j.job, j.path);
    let mut line = |name: &str, value: String| out.push_str(&format!("  {name:<12} {value}\n"));
    line("watch", j.watch.clone());
    line("size", bytes(j.bytes));
    line("arrived", moment(&j.arrived));
    line("state", step(j));
    if let Some(p) = &j.progress {
        let (percent, speed, left) = going(p);
        line("", format!("{percent}, {speed}, {left} left"));
    }
    if let Some(why) = j.held.as_ref().or(j.reason.as_ref()) {
        line("because", why.clone());
    }
    if let Some(n) = j.source_version {
        line("source", format!("version {n}"));
    }
    if !j.same_source.is_empty() {
        let one = |s: &porter::report::SameSource| match s.source_version {
            0 => format!("job {}", s.job),
            n => format!("job {} (version {n})", s.job),
        };
        line("others of it", j.same_source.iter().map(one).collect::<Vec<_>>().join(", "));
    }
    if let Some(to) = &j.original {
        line("original at", to.clone());
    }
    for o in &j.outputs {
        let made = o.bytes.map_or_else(|| format!("{}{}", o.end, because(o.why.as_deref())), bytes);
        line("output", format!("{} (version {}, rule \"{}\"), {made}", o.preset, o.preset_version, o.rule));
        if let Some(sum) = &o.checksum {
            line("", sum.clone());
        }
        for note in o.made.iter().flat_map(|m| &m.notes) {
            line("", note.clone());
        }
        for d in o.deliveries.iter().filter(|_| o.why.is_none()) {
            let proof = d.proof.as_ref().map_or(String::new(), |p| format!(", {p}"));
            let when = d
                .delivered
                .as_ref()
                .map_or("not delivered yet".to_owned(), |t| format!("delivered {}{proof}", moment(t)));
            line("", format!("{}: {}, {when}", d.place, d.name));
        }
    }
    for (n, stretch) in way(&j.way).into_iter().enumerate() {
        line(if n == 0 { "way" } else { "" }, stretch);
    }
    out
}

/// Columns of the picture of a job's way.
const WAY: usize = 32;

/// Each step with its time, and where it lies in the whole.
fn way(all: &[porter::way::Stretch]) -> Vec<String> {
    let from = all.iter().map(|s| s.span.0).min().unwrap_or(0);
    let whole = all.iter().map(|s| s.span.1).max().unwrap_or(0) - from;
    let column = |at: i64| ((at - from) as f64 / whole.max(1) as f64 * WAY as f64).round() as usize;
    let one = |s: &porter::way::Stretch| {
        let start = column(s.span.0).min(WAY - 1);
        let length = column(s.span.1).saturating_sub(start).clamp(1, WAY - start);
        let bar = format!("{}{}", " ".repeat(start), "#".repeat(length));
        let of = s.of.as_ref().map_or(String::new(), |of| format!(" {of}"));
        let open = if s.to.is_none() { " so far" } else { "" };
        format!("|{bar:<WAY$}| {} {}{of}{open}", took(s.seconds), s.step)
    };
    all.iter().map(one).collect()
}

fn took(s: f64) -> String {
    let text = match s {
        s if s < 10.0 => format!("{s:.2} s"),
        s if s < 120.0 => format!("{s:.1} s"),
        s if s < 7200.0 => format!("{:.0} min", s / 60.0),
        s => format!("{:.1} h", s / 3600.0),
    };
    format!("{text:>8}")
}

fn because(why: Option<&str>) -> String {
    why.map_or(String::new(), |w| format!(": {w}"))
}
