//! What was done: jobs that ended, how long they took, and sums over them.

use crate::clock::{self, Micros};
use crate::config::House;
use crate::error::Result;
use crate::store::{JobId, State, Store};
use media::show;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// Version of the JSON form; it grows by adding fields only.
pub const HISTORY_VERSION: u32 = 1;

/// Which jobs; moments are of their end.
#[derive(Clone, Debug, Default)]
pub struct Span {
    pub since: Option<Micros>,
    /// Before this moment.
    pub until: Option<Micros>,
    pub watch: Option<String>,
    pub state: Option<State>,
}

/// A job that ended, as it is stored.
#[derive(Clone, Debug, PartialEq)]
pub struct Past {
    pub job: JobId,
    pub watch: String,
    pub path: String,
    pub bytes: u64,
    pub arrived: Micros,
    pub ended: Micros,
    pub state: State,
    pub reason: Option<String>,
    /// Of the source, in seconds.
    pub media: Option<f64>,
    pub delivered: u64,
    pub delivered_bytes: u64,
    pub last_delivered: Option<Micros>,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
#[schemars(title = "History")]
pub struct History {
    pub version: u32,
    pub house: String,
    /// The latest jobs, as many as were asked for.
    pub jobs: Vec<PastJob>,
    pub totals: Totals,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PastJob {
    pub job: JobId,
    pub watch: String,
    pub path: String,
    pub bytes: u64,
    pub arrived: String,
    pub ended: String,
    #[schemars(with = "String")]
    pub state: State,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub media_seconds: Option<f64>,
    pub delivered: u64,
    pub delivered_bytes: u64,
    /// From its arrival to its last delivery.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Totals {
    pub jobs: u64,
    pub done: u64,
    pub turned_away: u64,
    pub withdrawn: u64,
    pub cancelled: u64,
    /// Of sources that were done.
    pub media_hours: f64,
    pub bytes: u64,
    pub delivered: u64,
    pub delivered_bytes: u64,
    /// From arrival to the last delivery: half of the jobs were faster,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seconds_median: Option<f64>,
    /// and 95 % of them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seconds_95: Option<f64>,
    /// Why files were turned away, the most frequent first; numbers in reasons are left out.
    pub turned_away_for: Vec<Reason>,
    /// What the same deliveries would have taken by hand, by the house's own estimate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hand_hours: Option<f64>,
}

#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Reason {
    pub why: String,
    pub jobs: u64,
}

/// Most reasons that are told apart.
const MOST_REASONS: usize = 10;

pub fn history(house: &House, span: &Span, most: u32) -> Result<History> {
    let all = match Store::look(&house.store_file())? {
        Some(store) => store.read(|v| v.past(span))?,
        None => Vec::new(),
    };
    let hand = house.hand_work.map(|d| d.as_secs_f64());
    let totals = totals(&all, hand);
    let jobs = all.into_iter().take(most as usize).map(PastJob::from).collect();
    Ok(History { version: HISTORY_VERSION, house: house.name.clone(), jobs, totals })
}

fn seconds(p: &Past) -> Option<f64> {
    // A clock that was set back makes no time negative.
    p.last_delivered.map(|last| (last - p.arrived).max(0) as f64 / 1e6)
}

/// A reason without what differs from file to file.
fn plain(reason: &str) -> String {
    let mut out = String::new();
    for c in reason.chars() {
        match c {
            '0'..='9' if out.ends_with('#') => (),
            '0'..='9' => out.push('#'),
            c => out.push(c),
        }
    }
    let cut = out.split("; looked at").next().unwrap_or(&out);
    cut.chars().take(120).collect()
}

pub fn totals(all: &[Past], hand_seconds: Option<f64>) -> Totals {
    let mut t = Totals { jobs: all.len() as u64, ..Totals::default() };
    let mut times = Vec::new();
    let mut reasons: BTreeMap<String, u64> = BTreeMap::new();
    for p in all {
        match p.state {
            State::Done => {
                t.done += 1;
                t.media_hours += p.media.unwrap_or(0.0) / 3600.0;
            }
            State::TurnedAway => {
                t.turned_away += 1;
                *reasons.entry(plain(p.reason.as_deref().unwrap_or("no reason"))).or_default() += 1;
            }
            State::Withdrawn => t.withdrawn += 1,
            State::Cancelled => t.cancelled += 1,
            _ => (),
        }
        t.bytes += p.bytes;
        t.delivered += p.delivered;
        t.delivered_bytes += p.delivered_bytes;
        times.extend(seconds(p));
    }
    times.sort_by(f64::total_cmp);
    let at = |share: f64| -> Option<f64> {
        let n = ((times.len() as f64 * share).ceil() as usize).max(1) - 1;
        times.get(n).copied()
    };
    (t.seconds_median, t.seconds_95) = (at(0.5), at(0.95));
    let mut reasons: Vec<Reason> = reasons.into_iter().map(|(why, jobs)| Reason { why, jobs }).collect();
    reasons.sort_by_key(|r| std::cmp::Reverse(r.jobs));
    reasons.truncate(MOST_REASONS);
    t.turned_away_for = reasons;
    t.hand_hours = hand_seconds.map(|s| s * t.delivered as f64 / 3600.0);
    t
}

impl From<Past> for PastJob {
    fn from(p: Past) -> PastJob {
        PastJob {
            seconds: seconds(&p),
            job: p.job,
            watch: p.watch,
            path: show::text(&p.path),
            bytes: p.bytes,
            arrived: clock::zoned_text(p.arrived),
            ended: clock::zoned_text(p.ended),
            state: p.state,
            reason: p.reason.map(|r| show::text(&r)),
            media_seconds: p.media,
            delivered: p.delivered,
            delivered_bytes: p.delivered_bytes,
        }
    }
}

/// A line of comma-separated values (RFC 4180); the first has the names.
pub fn csv(jobs: &[PastJob]) -> String {
    let names =
        "job,watch,path,bytes,arrived,ended,state,media_seconds,delivered,delivered_bytes,seconds,reason";
    let mut out = format!("{names}\r\n");
    for j in jobs {
        let number = |n: Option<f64>| n.map_or(String::new(), |n| format!("{n:.3}"));
        let cells = [
            j.job.to_string(),
            cell(&j.watch),
            cell(&j.path),
            j.bytes.to_string(),
            j.arrived.clone(),
            j.ended.clone(),
            j.state.name().to_owned(),
            number(j.media_seconds),
            j.delivered.to_string(),
            j.delivered_bytes.to_string(),
            number(j.seconds),
            cell(j.reason.as_deref().unwrap_or_default()),
        ];
        out.push_str(&cells.join(","));
        out.push_str("\r\n");
    }
    out
}

/// Text that no program takes for anything but text: a sheet must not run what a file is called.
fn cell(text: &str) -> String {
    let safe = match text.chars().next() {
        Some('=' | '+' | '-' | '@' | '\t' | '\r') => format!("'{text}"),
        _ => text.to_owned(),
    };
    match safe.contains([',', '"', '\n', '\r']) {
        true => format!("\"{}\"", safe.replace('"', "\"\"")),
        false => safe,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn past(job: JobId, state: State, took: Option<i64>, reason: &str) -> Past {
        Past {
            job,
            watch: "cards".into(),
            path: "a.mp4".into(),
            bytes: 10,
            arrived: 1_000_000,
            ended: 9_000_000,
            state,
            reason: Some(reason.to_owned()).filter(|r| !r.is_empty()),
            media: Some(1800.0),
            delivered: u64::from(took.is_some()) * 2,
            delivered_bytes: 7,
            last_delivered: took.map(|s| 1_000_000 + s * 1_000_000),
        }
    }

    #[test]
    fn sums_are_of_all() {
        let mut all: Vec<Past> = (1..=20).map(|n| past(n, State::Done, Some(n), "")).collect();
        all.push(past(21, State::TurnedAway, None, "damaged at byte 77: cut off"));
        all.push(past(22, State::TurnedAway, None, "damaged at byte 4096: cut off"));
        all.push(past(23, State::Cancelled, None, ""));
        // The clock was set back a day.
        all.push(past(24, State::Done, Some(-86_400), ""));
        let t = totals(&all, Some(600.0));
        assert_eq!((t.jobs, t.done, t.turned_away, t.cancelled), (24, 21, 2, 1));
        assert_eq!((t.seconds_median, t.seconds_95), (Some(10.0), Some(19.0)));
        assert_eq!(t.turned_away_for, [Reason { why: "damaged at byte #: cut off".into(), jobs: 2 }]);
        assert!((t.media_hours - 10.5).abs() < 1e-9);
        assert_eq!(t.hand_hours, Some(7.0));
        assert_eq!(totals(&[], None).seconds_median, None);
    }

    #[rstest]
    #[case("a.mp4", "a.mp4")]
    #[case("a, b.mp4", "\"a, b.mp4\"")]
    #[case("5\" clip", "\"5\"\" clip\"")]
    #[case("=HYPERLINK(1)", "'=HYPERLINK(1)")]
    #[case("-1.mp4", "'-1.mp4")]
    fn cells_are_text(#[case] text: &str, #[case] want: &str) {
        assert_eq!(cell(text), want);
    }
}
