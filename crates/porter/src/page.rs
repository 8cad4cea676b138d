//! The report: one page without outside parts, to read on a screen or on paper, of what was done in a time.

use crate::clock::{self, Micros};
use crate::config::House;
use crate::error::Result;
use crate::history::{Past, Span, Totals, totals};
use crate::notify::message::page as text;
use crate::store::{Change, Event, State, Store};
use media::show;
use std::fmt::Write;

/// Jobs whose steps are drawn, and that are listed.
const MOST_DRAWN: usize = 40;
const MOST_LISTED: usize = 500;
/// Bars over time.
const BARS: usize = 48;

/// When each step of a job was over.
struct Steps {
    arrived: Micros,
    begun: Option<Micros>,
    made: Option<Micros>,
    delivered: Option<Micros>,
    ended: Micros,
}

fn steps(p: &Past, events: &[Event]) -> Steps {
    let first = |what: fn(&Change) -> bool| events.iter().find(|e| what(&e.change)).map(|e| e.at);
    let last = |what: fn(&Change) -> bool| events.iter().rev().find(|e| what(&e.change)).map(|e| e.at);
    Steps {
        arrived: p.arrived,
        begun: first(|c| matches!(c, Change::Begun { .. })),
        made: last(|c| matches!(c, Change::Made { .. } | Change::NotMade { .. })),
        delivered: last(|c| matches!(c, Change::Delivered { .. })),
        ended: p.ended,
    }
}

/// `1.2 GB`, in units of 1000.
pub fn bytes(n: u64) -> String {
    let units = [(1_000_000_000_000, "TB"), (1_000_000_000, "GB"), (1_000_000, "MB"), (1_000, "kB")];
    match units.iter().find(|(by, _)| n >= *by) {
        Some((by, unit)) => format!("{:.1} {unit}", n as f64 / *by as f64),
        None => format!("{n} B"),
    }
}

fn seconds(s: f64) -> String {
    match s {
        s if s < 60.0 => format!("{s:.1} s"),
        s if s < 3600.0 => format!("{:.0} min {:02.0} s", (s / 60.0).floor(), (s % 60.0).floor()),
        s => format!("{:.0} h {:02.0} min", (s / 3600.0).floor(), (s % 3600.0 / 60.0).floor()),
    }
}

fn moment(at: Micros) -> String {
    clock::local(at)
}

const STYLE: &str = "
:root { --ground: #fbfbf8; --ink: #22272b; --quiet: #6a7278; --line: #d9dcd6; --wait: #c9ccc3; --make: #2f6f8f;
  --carry: #6f9e4f; --clear: #b58a3a; --bad: #b3401f; --card: #ffffff; }
@media (prefers-color-scheme: dark) { :root { --ground: #16191d; --ink: #dde1db; --quiet: #99a29c; --line: #343a40;
  --wait: #4a5157; --make: #5fa3c4; --carry: #8fbf6b; --clear: #d3a955; --bad: #e0714e; --card: #1e2227; } }
* { box-sizing: border-box; } body { margin: 0 auto; max-width: 1180px; padding: 24px; background: var(--ground);
  color: var(--ink); font: 14px/1.45 'DejaVu Sans', 'Segoe UI', system-ui, sans-serif; }
h1 { font-size: 22px; margin: 0; } h2 { font-size: 16px; margin: 28px 0 8px; } p { margin: 4px 0; } .quiet { color: var(--quiet); }
.sums { display: flex; flex-wrap: wrap; gap: 10px; margin: 16px 0; padding: 0; list-style: none; }
.sums li { background: var(--card); border: 1px solid var(--line); border-radius: 6px; padding: 8px 14px; min-width: 128px; }
.sums b { display: block; font-size: 20px; } .sums .bad b { color: var(--bad); }
table { border-collapse: collapse; width: 100%; } th { text-align: left; font-weight: 600; color: var(--quiet); }
th, td { padding: 4px 10px 4px 0; border-bottom: 1px solid var(--line); vertical-align: top; overflow-wrap: anywhere; }
td.n, th.n { text-align: right; white-space: nowrap; } .bad { color: var(--bad); }
svg { display: block; width: 100%; height: auto; } svg text { fill: var(--ink); font-size: 11px; } svg .quiet { fill: var(--quiet); }
.wait { fill: var(--wait); } .make { fill: var(--make); } .carry { fill: var(--carry); } .clear { fill: var(--clear); }
.axis { stroke: var(--line); } .key span { display: inline-block; margin-right: 16px; } .key i { display: inline-block; width: 11px;
  height: 11px; margin-right: 5px; vertical-align: -1px; }
@media print { body { max-width: none; padding: 0; background: #fff; color: #000; } h2 { break-after: avoid; } tr, svg { break-inside: avoid; } }
";

/// The page of the jobs that ended in a time.
pub fn report(house: &House, span: &Span) -> Result<String> {
    let (all, drawn) = match Store::look(&house.store_file())? {
        Some(store) => store.read(|v| {
            let all = v.past(span)?;
            let drawn = all
                .iter()
                .take(MOST_DRAWN)
                .map(|p| Ok(steps(p, &v.events(p.job)?)))
                .collect::<crate::store::Sql<Vec<Steps>>>()?;
            Ok((all, drawn))
        })?,
        None => (Vec::new(), Vec::new()),
    };
    let t = totals(&all, house.hand_work.map(|d| d.as_secs_f64()));
    let mut out = String::new();
    let title = format!("{}: what was done", text(&house.name));
    let _ = write!(
        out,
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title>\
         <meta name=\"viewport\" content=\"width=device-width\"><style>{STYLE}</style></head><body><h1>{title}</h1>"
    );
    let from = span.since.or_else(|| all.last().map(|p| p.ended));
    let to = span.until.unwrap_or_else(clock::now);
    let since = from.map_or("the beginning".to_owned(), moment);
    let _ =
        write!(out, "<p class=\"quiet\">From {since} to {}; made {}</p>", moment(to), moment(clock::now()));
    sums(&mut out, &t);
    if all.is_empty() {
        out.push_str("<p>No job ended in this time.</p></body></html>");
        return Ok(out);
    }
    over_time(&mut out, &all);
    turn_around(&mut out, &all);
    timeline(&mut out, &all, &drawn);
    failures(&mut out, &all, &t);
    list(&mut out, &all);
    out.push_str("</body></html>\n");
    Ok(out)
}

fn sums(out: &mut String, t: &Totals) {
    out.push_str("<ul class=\"sums\">");
    let mut item = |name: &str, value: String, bad: bool| {
        let class = if bad { " class=\"bad\"" } else { "" };
        let _ = write!(out, "<li{class}><b>{}</b>{}</li>", text(&value), text(name));
    };
    item("jobs", t.jobs.to_string(), false);
    item("done", t.done.to_string(), false);
    if t.turned_away > 0 {
        item("turned away", t.turned_away.to_string(), true);
    }
    item("media", seconds(t.media_hours * 3600.0), false);
    item("taken in", bytes(t.bytes), false);
    item("files delivered", t.delivered.to_string(), false);
    item("delivered", bytes(t.delivered_bytes), false);
    if let (Some(half), Some(most)) = (t.seconds_median, t.seconds_95) {
        item("half delivered within", seconds(half), false);
        item("95 % within", seconds(most), false);
    }
    if let Some(hours) = t.hand_hours {
        item("by hand, as estimated", format!("{hours:.1} h"), false);
    }
    out.push_str("</ul>");
}

/// Bytes delivered, over the time between the first end and the last.
fn over_time(out: &mut String, all: &[Past]) {
    let (first, last) = (all.last().map_or(0, |p| p.ended), all.first().map_or(0, |p| p.ended));
    let span = (last - first).max(1);
    let mut bars = [0u64; BARS];
    for p in all {
        let at = ((p.ended - first) as i128 * BARS as i128 / (i128::from(span) + 1)) as usize;
        bars[at.min(BARS - 1)] += p.delivered_bytes;
    }
    let most = bars.iter().copied().max().unwrap_or(0).max(1);
    let each = seconds(span as f64 / 1e6 / BARS as f64);
    let _ = write!(
        out,
        "<h2>Delivered over time</h2><svg viewBox=\"0 0 1000 150\" role=\"img\" aria-label=\"bytes delivered over time\">\
         <text x=\"0\" y=\"11\" class=\"quiet\">{} at most, each bar {each}</text>\
         <line x1=\"0\" y1=\"130.5\" x2=\"1000\" y2=\"130.5\" class=\"axis\"/>",
        bytes(most)
    );
    let width = 1000.0 / BARS as f64;
    for (n, b) in bars.iter().enumerate().filter(|(_, b)| **b > 0) {
        let height = (*b as f64 / most as f64 * 110.0).max(1.0);
        let (x, y) = (n as f64 * width + 1.0, 130.0 - height);
        let _ = write!(
            out,
            "<rect x=\"{x:.1}\" y=\"{y:.1}\" width=\"{:.1}\" height=\"{height:.1}\" class=\"carry\"><title>{}</title></rect>",
            width - 2.0,
            bytes(*b)
        );
    }
    let _ = write!(
        out,
        "<text x=\"0\" y=\"146\" class=\"quiet\">{}</text><text x=\"1000\" y=\"146\" text-anchor=\"end\" class=\"quiet\">{}</text></svg>",
        moment(first),
        moment(last)
    );
}

/// How many jobs took how long from arrival to the last delivery.
fn turn_around(out: &mut String, all: &[Past]) {
    const EDGES: [(f64, &str); 8] = [
        (10.0, "10 s"),
        (30.0, "30 s"),
        (60.0, "1 min"),
        (300.0, "5 min"),
        (900.0, "15 min"),
        (3600.0, "1 h"),
        (21_600.0, "6 h"),
        (f64::INFINITY, "more"),
    ];
    let took = all.iter().filter_map(|p| Some((p.last_delivered? - p.arrived).max(0) as f64 / 1e6));
    let mut counts = [0u64; EDGES.len()];
    took.for_each(|s| counts[EDGES.iter().position(|(edge, _)| s <= *edge).unwrap_or(EDGES.len() - 1)] += 1);
    let most = counts.iter().copied().max().unwrap_or(0).max(1);
    out.push_str(
        "<h2>From arrival to delivery</h2><svg viewBox=\"0 0 1000 130\" role=\"img\" aria-label=\"jobs by turn-around\">\
         <line x1=\"0\" y1=\"105.5\" x2=\"1000\" y2=\"105.5\" class=\"axis\"/>",
    );
    for (n, ((_, name), count)) in EDGES.iter().zip(counts).enumerate() {
        let (x, height) = (n as f64 * 125.0, count as f64 / most as f64 * 85.0);
        let word = if n + 1 == EDGES.len() { (*name).to_owned() } else { format!("to {name}") };
        let _ = write!(
            out,
            "<rect x=\"{:.0}\" y=\"{:.1}\" width=\"85\" height=\"{height:.1}\" class=\"make\"/>\
             <text x=\"{:.0}\" y=\"{:.1}\" text-anchor=\"middle\">{}</text>\
             <text x=\"{:.0}\" y=\"121\" text-anchor=\"middle\" class=\"quiet\">{word}</text>",
            x + 20.0,
            105.0 - height,
            x + 62.0,
            100.0 - height,
            if count > 0 { count.to_string() } else { String::new() },
            x + 62.0
        );
    }
    out.push_str("</svg>");
}

/// The steps of the latest jobs, each from its own arrival on.
fn timeline(out: &mut String, all: &[Past], drawn: &[Steps]) {
    let longest = drawn.iter().map(|s| s.ended - s.arrived).max().unwrap_or(1).max(1) as f64;
    let (row, left, width) = (20.0, 250.0, 660.0);
    let height = drawn.len() as f64 * row + 24.0;
    let _ = write!(
        out,
        "<h2>The steps of the latest jobs</h2><p class=\"key\"><span><i style=\"background:var(--wait)\"></i>waiting</span>\
         <span><i style=\"background:var(--make)\"></i>looking and making</span>\
         <span><i style=\"background:var(--carry)\"></i>carrying</span>\
         <span><i style=\"background:var(--clear)\"></i>moving the original</span></p>\
         <svg viewBox=\"0 0 1000 {height:.0}\" role=\"img\" aria-label=\"steps of jobs\">"
    );
    for (n, (p, s)) in all.iter().zip(drawn).enumerate() {
        let y = n as f64 * row;
        let name: String = p.path.chars().rev().take(34).collect::<Vec<_>>().into_iter().rev().collect();
        let cut = if p.path.chars().count() > 34 { "..." } else { "" };
        let class = if p.state == State::Done { "" } else { " style=\"fill:var(--bad)\"" };
        let _ = write!(
            out,
            "<text x=\"0\" y=\"{:.0}\"{class}>{} {cut}{}</text>",
            y + 14.0,
            p.job,
            text(&show::text(&name))
        );
        let mut from = s.arrived;
        let mut bar = |to: Option<Micros>, class: &str, name: &str| {
            let Some(to) = to.filter(|to| *to > from) else { return };
            let x = left + (from - s.arrived) as f64 / longest * width;
            let w = ((to - from) as f64 / longest * width).max(0.6);
            let _ = write!(
                out,
                "<rect x=\"{x:.1}\" y=\"{:.0}\" width=\"{w:.1}\" height=\"12\" class=\"{class}\"><title>{name}: {}</title></rect>",
                y + 4.0,
                seconds((to - from) as f64 / 1e6)
            );
            from = to;
        };
        bar(s.begun, "wait", "waiting");
        bar(s.made, "make", "looking and making");
        bar(s.delivered, "carry", "carrying");
        bar(Some(s.ended), "clear", "moving the original");
        let _ = write!(
            out,
            "<text x=\"{:.0}\" y=\"{:.0}\" class=\"quiet\">{}</text>",
            left + (s.ended - s.arrived) as f64 / longest * width + 6.0,
            y + 14.0,
            seconds((s.ended - s.arrived).max(0) as f64 / 1e6)
        );
    }
    out.push_str("</svg>");
}

fn failures(out: &mut String, all: &[Past], t: &Totals) {
    if t.turned_away == 0 {
        return;
    }
    out.push_str("<h2>Turned away</h2><table><tr><th>job</th><th>file</th><th>when</th><th>why</th></tr>");
    for p in all.iter().filter(|p| p.state == State::TurnedAway).take(MOST_LISTED) {
        let why = p.reason.as_deref().unwrap_or_default();
        let _ = write!(
            out,
            "<tr><td>{}</td><td>{}</td><td class=\"n\">{}</td><td class=\"bad\">{}</td></tr>",
            p.job,
            text(&show::text(&p.path)),
            moment(p.ended),
            text(&show::text(why))
        );
    }
    out.push_str("</table>");
}

fn list(out: &mut String, all: &[Past]) {
    out.push_str(
        "<h2>All jobs</h2><table><tr><th>job</th><th>watch</th><th>file</th><th>ended</th><th>result</th>\
         <th class=\"n\">size</th><th class=\"n\">media</th><th class=\"n\">delivered</th><th class=\"n\">took</th></tr>",
    );
    for p in all.iter().take(MOST_LISTED) {
        let took = p.last_delivered.map_or(String::new(), |l| seconds((l - p.arrived).max(0) as f64 / 1e6));
        let class = if p.state == State::TurnedAway { " class=\"bad\"" } else { "" };
        let _ = write!(
            out,
            "<tr><td>{}</td><td>{}</td><td>{}</td><td>{}</td><td{class}>{}</td><td class=\"n\">{}</td>\
             <td class=\"n\">{}</td><td class=\"n\">{}</td><td class=\"n\">{took}</td></tr>",
            p.job,
            text(&p.watch),
            text(&show::text(&p.path)),
            moment(p.ended),
            p.state.name(),
            bytes(p.bytes),
            p.media.map_or(String::new(), seconds),
            if p.delivered > 0 {
                format!("{}, {}", p.delivered, bytes(p.delivered_bytes))
            } else {
                String::new()
            }
        );
    }
    let more = all.len().saturating_sub(MOST_LISTED);
    out.push_str("</table>");
    if more > 0 {
        let _ = write!(out, "<p class=\"quiet\">and {more} more (deft-porter history --csv lists all)</p>");
    }
}
