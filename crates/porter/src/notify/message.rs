//! What a notice says.

use super::Notice;
use crate::clock::{self, Micros};
use crate::config::House;
use crate::error::Result;
use crate::report::told;
use crate::store::{Change, Event, JobId, Store};
use media::show;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use words::Transcript;
use words::summary::summarise;

/// Version of the JSON form; it grows by adding fields only.
pub const MESSAGE_VERSION: u32 = 1;
const PAGE: u32 = 1000;

/// What can be told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum What {
    Done,
    TurnedAway,
    Withdrawn,
    Cancelled,
    /// A job waits for something that somebody may have to mend.
    Held,
    WatchLost,
    WatchBack,
    DiskLow,
    RoomAgain,
    ConfigurationRefused,
    Started,
    Stopped,
}

impl What {
    pub const ALL: [(What, &'static str); 12] = [
        (What::Done, "done"),
        (What::TurnedAway, "turned away"),
        (What::Withdrawn, "withdrawn"),
        (What::Cancelled, "cancelled"),
        (What::Held, "held"),
        (What::WatchLost, "watch lost"),
        (What::WatchBack, "watch back"),
        (What::DiskLow, "disk low"),
        (What::RoomAgain, "room again"),
        (What::ConfigurationRefused, "configuration refused"),
        (What::Started, "started"),
        (What::Stopped, "stopped"),
    ];

    pub fn words(self) -> &'static str {
        Self::ALL.iter().find(|(w, _)| *w == self).map_or("", |(_, words)| words)
    }

    pub fn parse(words: &str) -> Option<What> {
        Self::ALL.iter().find(|(_, w)| *w == words).map(|(what, _)| *what)
    }

    /// What an event is to those who are told.
    fn of(change: &Change) -> Option<What> {
        Some(match change {
            Change::Done { .. } => What::Done,
            Change::TurnedAway { .. } => What::TurnedAway,
            Change::Withdrawn { .. } => What::Withdrawn,
            Change::Cancelled { .. } => What::Cancelled,
            Change::Held { cause, .. } if !cause.needs_person() => return None,
            Change::Held { .. } => What::Held,
            Change::WatchLost { .. } => What::WatchLost,
            Change::WatchBack { .. } => What::WatchBack,
            Change::DiskLow { .. } => What::DiskLow,
            Change::RoomAgain { .. } => What::RoomAgain,
            Change::Configured { refused: Some(_) } => What::ConfigurationRefused,
            Change::Started { .. } => What::Started,
            Change::Stopped => What::Stopped,
            _ => return None,
        })
    }
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
#[schemars(title = "Notice")]
pub struct Message {
    pub version: u32,
    pub house: String,
    pub notice: String,
    /// "3 done, 1 turned away"
    pub summary: String,
    pub events: Vec<Told>,
    /// Tells this message from every other; one that is sent twice has the same.
    pub id: String,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Told {
    pub what: What,
    pub at: String,
    #[serde(skip)]
    pub moment: Micros,
    /// Of the event.
    #[serde(skip)]
    pub id: i64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub job: Option<i64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub watch: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// More of it: a reason, where something is now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub delivered: Vec<Delivered>,
    /// What was said in it that tells most, where the notice asks for that.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub summary: Vec<SaidLine>,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SaidLine {
    /// The source's timecode, or the time from its start.
    pub at: String,
    pub text: String,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Delivered {
    pub place: String,
    pub name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub proof: Option<String>,
    /// Where it can be seen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
}

/// What was said in what a job made.
pub type SaidIn<'a> = &'a dyn Fn(JobId) -> Result<Option<Transcript>>;

/// What a notice has to tell behind an event; and the last event that was looked at.
pub fn gather(
    store: &Store,
    said: SaidIn<'_>,
    house: &House,
    notice: &Notice,
    after: i64,
    most: usize,
) -> Result<(Message, i64)> {
    let (mut events, mut at) = (Vec::new(), after);
    loop {
        let page = store.read(|v| v.events_after(at, PAGE))?;
        for e in &page {
            if events.len() >= most {
                break;
            }
            at = e.id;
            if let Some(what) = What::of(&e.change).filter(|w| notice.on.contains(w)) {
                events.extend(one(store, said, notice, what, e)?);
            }
        }
        if page.len() < PAGE as usize || events.len() >= most {
            break;
        }
    }
    let (house, name) = (house.name.clone(), notice.name.clone());
    // The same events are the same message.
    let ends = |e: Option<&Told>| e.map_or(at, |e| e.id);
    let (summary, id) =
        (summary(&events), format!("{name}-{}-{}", ends(events.first()), ends(events.last())));
    Ok((Message { version: MESSAGE_VERSION, house, notice: name, summary, events, id }, at))
}

fn one(store: &Store, said: SaidIn<'_>, notice: &Notice, what: What, e: &Event) -> Result<Option<Told>> {
    let (job, mut deliveries) = match e.job {
        Some(id) => store.read(|v| Ok((v.job(id)?, v.deliveries(id)?)))?,
        None => (None, Vec::new()),
    };
    if !notice.rules.is_empty() {
        let Some(id) = e.job else { return Ok(None) };
        let outputs = store.read(|v| v.outputs(id))?;
        let theirs: Vec<u32> =
            outputs.iter().filter(|o| notice.rules.contains(&o.rule)).map(|o| o.number).collect();
        if theirs.is_empty() {
            return Ok(None);
        }
        deliveries.retain(|d| theirs.contains(&d.output));
    }
    let watch = match (&job, &e.change) {
        (Some(job), _) => Some(job.watch.clone()),
        (None, Change::WatchLost { watch, .. } | Change::WatchBack { watch }) => Some(watch.clone()),
        _ => None,
    };
    if !notice.watches.is_empty() && !watch.as_ref().is_some_and(|w| notice.watches.contains(w)) {
        return Ok(None);
    }
    let (_, mut detail) = told(&e.change);
    if what == What::TurnedAway {
        detail = job.as_ref().and_then(|j| j.reason.clone());
    }
    let is_end = matches!(what, What::Done | What::TurnedAway | What::Cancelled);
    let delivered = deliveries
        .into_iter()
        .filter(|d| is_end && d.delivered.is_some())
        .map(|d| Delivered {
            place: d.place,
            name: show::text(&d.name.unwrap_or(d.wanted)),
            proof: d.proof.map(|p| p.words().to_owned()),
            address: d.address.map(|a| show::text(&a)),
        })
        .collect();
    let summary = match e.job.filter(|_| notice.summary && what == What::Done) {
        Some(job) => said(job)?.map_or(Vec::new(), |t| {
            let lines = summarise(&t).summary.into_iter();
            lines.map(|l| SaidLine { at: l.at, text: show::text(&l.text) }).collect()
        }),
        None => Vec::new(),
    };
    Ok(Some(Told {
        summary,
        what,
        at: clock::zoned_text(e.at),
        moment: e.at,
        id: e.id,
        job: e.job,
        watch,
        path: job.map(|j| show::path(&j.path)),
        detail: detail.map(|d| show::text(&d)),
        delivered,
    }))
}

fn summary(events: &[Told]) -> String {
    let mut counts: BTreeMap<What, usize> = BTreeMap::new();
    events.iter().for_each(|e| *counts.entry(e.what).or_default() += 1);
    let each = counts.iter().map(|(what, n)| format!("{n} {}", what.words()));
    each.collect::<Vec<_>>().join(", ")
}

impl Message {
    /// The first moment behind the first of what is told at which it is so many minutes after midnight.
    pub fn due(&self, minute: u16) -> Option<Micros> {
        clock::next_minute(self.events.first()?.moment, minute)
    }

    /// For people who read plain text.
    pub fn text(&self) -> String {
        let mut out = format!("{}: {}\n", self.house, self.summary);
        for e in &self.events {
            out.push_str(&format!("\n{}", e.what.words().to_uppercase()));
            if let Some(path) = &e.path {
                out.push_str(&format!("  {path}"));
            }
            if let Some(watch) = &e.watch {
                out.push_str(&format!("  (watch \"{watch}\")"));
            }
            let when = e.at.get(..19).unwrap_or(&e.at).replace('T', " ");
            let job = e.job.map_or(String::new(), |j| format!(", job {j}"));
            out.push_str(&format!("\n  {when}{job}\n"));
            if let Some(detail) = &e.detail {
                out.push_str(&format!("  {detail}\n"));
            }
            for d in &e.delivered {
                let proof = d.proof.as_ref().map_or(String::new(), |p| format!(" ({p})"));
                out.push_str(&format!("  {}: {}{proof}\n", d.place, d.name));
                if let Some(address) = &d.address {
                    out.push_str(&format!("    {address}\n"));
                }
            }
            for line in &e.summary {
                out.push_str(&format!("  {}  {}\n", line.at, line.text));
            }
        }
        out
    }

    /// The same as a page.
    pub fn html(&self) -> String {
        let mut out = format!(
            "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><body style=\"font:15px/1.4 sans-serif\">\
             <h2 style=\"font-size:17px\">{}: {}</h2>",
            page(&self.house),
            page(&self.summary)
        );
        for e in &self.events {
            let colour = if matches!(e.what, What::Done | What::WatchBack | What::RoomAgain) {
                "#1a7f4b"
            } else {
                "#b3401f"
            };
            let path = page(e.path.as_deref().or(e.watch.as_deref()).unwrap_or_default());
            out.push_str(&format!(
                "<p style=\"margin:14px 0 0\"><b style=\"color:{colour}\">{}</b> <b>{path}</b><br>",
                e.what.words()
            ));
            let when = e.at.get(..19).unwrap_or(&e.at).replace('T', " ");
            let job = e.job.map_or(String::new(), |j| format!(", job {j}"));
            out.push_str(&format!("<span style=\"color:#666\">{when}{job}</span>"));
            if let Some(detail) = &e.detail {
                out.push_str(&format!("<br>{}", page(detail)));
            }
            for d in &e.delivered {
                let proof = d.proof.as_ref().map_or(String::new(), |p| format!(" ({p})"));
                let is_web = |a: &&String| a.starts_with("https://") || a.starts_with("http://");
                let name = match d.address.as_ref().filter(is_web) {
                    Some(address) => format!("<a href=\"{}\">{}</a>", page(address), page(&d.name)),
                    None => page(&d.name),
                };
                out.push_str(&format!("<br>{}: {name}{}", page(&d.place), page(&proof)));
            }
            out.push_str("</p>");
            if !e.summary.is_empty() {
                let line = |l: &SaidLine| {
                    let at = page(&l.at);
                    format!(
                        "<p style=\"margin:4px 0\"><span style=\"color:#666\">{at}</span> {}</p>",
                        page(&l.text)
                    )
                };
                let lines: String = e.summary.iter().map(line).collect();
                out.push_str(&format!(
                    "<div style=\"margin:6px 0 0;padding-left:10px;border-left:3px solid #ccc\">{lines}</div>"
                ));
            }
        }
        out + "</body></html>"
    }
}

/// Text within a page.
pub fn page(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(what: What, path: &str, moment: Micros) -> Told {
        let at = clock::zoned_text(moment);
        let (path, detail) = (Some(path.to_owned()), Some("because <of> \"it\"".to_owned()));
        let address = Some("https://nas.example/\"a&b".to_owned());
        let delivered = vec![Delivered { place: "nas".into(), name: "a&b.mp4".into(), proof: None, address }];
        let summary = vec![SaidLine { at: "10:00:04:00".into(), text: "The <tide> came in.".into() }];
        let watch = Some("cards".into());
        Told { what, at, moment, id: 1, job: Some(7), watch, path, detail, delivered, summary }
    }

    fn message(events: Vec<Told>) -> Message {
        let summary = summary(&events);
        Message { version: 1, house: "Estuary".into(), notice: "n".into(), summary, events, id: "n-9".into() }
    }

    #[test]
    fn a_message_says_all_of_it_and_a_page_is_safe() {
        let m = message(vec![
            told(What::Done, "a.mp4", 0),
            told(What::TurnedAway, "<script>", 1),
            told(What::Done, "b.mp4", 2),
        ]);
        assert_eq!(m.summary, "2 done, 1 turned away");
        let text = m.text();
        for words in [
            "DONE  a.mp4  (watch \"cards\")",
            "job 7",
            "because <of> \"it\"",
            "nas: a&b.mp4",
            "  10:00:04:00  The <tide> came in.",
        ] {
            assert!(text.contains(words), "{text}");
        }
        let html = m.html();
        assert!(html.contains("The &lt;tide&gt; came in."), "{html}");
        assert!(html.contains("<a href=\"https://nas.example/&quot;a&amp;b\">a&amp;b.mp4</a>"), "{html}");
        assert!(
            !html.contains("<script>") && html.contains("&lt;script&gt;") && html.contains("a&amp;b.mp4")
        );
    }

    #[test]
    fn a_daily_notice_is_due_at_its_time() {
        let day = clock::day("2026-11-23", false).unwrap();
        let hour = 3_600_000_000;
        let m = message(vec![told(What::Done, "a.mp4", day + 6 * hour)]);
        assert_eq!(m.due(7 * 60), Some(day + 7 * hour));
        let m = message(vec![told(What::Done, "a.mp4", day + 8 * hour)]);
        assert_eq!(m.due(7 * 60), Some(day + 31 * hour));
        assert_eq!(message(Vec::new()).due(0), None);
    }

    #[test]
    fn every_word_is_known_again() {
        for (what, words) in What::ALL {
            assert_eq!((What::parse(words), what.words()), (Some(what), words));
        }
        assert_eq!(What::parse("finished"), None);
    }
}
