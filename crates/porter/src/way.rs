//! The way of a job through its steps, from what is in the record: what took how long, and what it waited for.

use crate::clock::{self, Micros};
use crate::store::{Change, Event};
use schemars::JsonSchema;
use serde::Serialize;

/// One step of it.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Stretch {
    /// "waits", "look", "make", "carry" and "clear".
    pub step: String,
    /// What is made, or where it is carried.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    pub from: String,
    /// Not there while it is under way.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    pub seconds: f64,
    /// In microseconds, for drawing.
    #[serde(skip)]
    pub span: (Micros, Micros),
}

struct Way {
    all: Vec<(String, Option<String>, Micros, Option<Micros>)>,
}

impl Way {
    fn begin(&mut self, step: &str, of: Option<String>, at: Micros) {
        // Begun once more after a break: it is the same step.
        let open = self.all.iter().any(|s| s.0 == step && s.1 == of && s.3.is_none());
        if !open {
            self.all.push((step.to_owned(), of, at, None));
        }
    }

    fn end(&mut self, step: &str, of: Option<&str>, at: Micros) {
        let open = self.all.iter_mut().rev().find(|s| s.0 == step && s.1.as_deref() == of && s.3.is_none());
        if let Some(s) = open {
            s.3 = Some(at);
        }
    }

    fn end_all(&mut self, at: Micros) {
        self.all.iter_mut().filter(|s| s.3.is_none()).for_each(|s| s.3 = Some(at));
    }
}

/// From all events of a job, in their order; what is not over goes on until `now`.
pub fn of(events: &[Event], now: Micros) -> Vec<Stretch> {
    let mut way = Way { all: Vec::new() };
    for e in events {
        let at = e.at;
        match &e.change {
            Change::Arrived { .. } | Change::Again { .. } => {
                way.end_all(at);
                way.begin("waits", None, at);
            }
            Change::Begun { .. } => {
                way.end("waits", None, at);
                way.begin("look", None, at);
            }
            Change::Planned { outputs, .. } => {
                way.end("waits", None, at);
                way.end("look", None, at);
                outputs.iter().for_each(|o| way.begin("make", Some(o.preset.clone()), at));
            }
            Change::Made { preset, .. } | Change::NotMade { preset, .. } => way.end("make", Some(preset), at),
            Change::Remade { preset, .. } => way.begin("make", Some(preset.clone()), at),
            Change::Carrying { preset, place, .. } => {
                way.begin("carry", Some(format!("{preset} to {place}")), at);
            }
            Change::Delivered { preset, place, .. } | Change::LeftOut { preset, place, .. } => {
                way.end("carry", Some(&format!("{preset} to {place}")), at);
            }
            Change::AllDelivered { .. } => {
                way.end_all(at);
                way.begin("clear", None, at);
            }
            Change::TurningAway { .. } => {
                way.end_all(at);
                way.begin("turn away", None, at);
            }
            Change::Done { .. }
            | Change::TurnedAway { .. }
            | Change::Withdrawn { .. }
            | Change::Cancelled { .. } => way.end_all(at),
            _ => (),
        }
    }
    let told = way.all.into_iter().map(|(step, of, from, to)| {
        let end = to.unwrap_or(now).max(from);
        Stretch {
            step,
            of,
            from: clock::zoned_text(from),
            to: to.map(clock::zoned_text),
            seconds: (end - from) as f64 / 1e6,
            span: (from, end),
        }
    });
    told.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deliver::{Proof, Ticket};
    use crate::files::Seen;
    use crate::store::{IfTaken, PlannedOutput};

    fn planned(number: u32, preset: &str) -> PlannedOutput {
        PlannedOutput {
            number,
            rule: "r".into(),
            preset: preset.into(),
            preset_version: "v".into(),
            recipe: serde_json::json!({}),
            recipe_version: 1,
            heard: false,
            extension: "mp4".into(),
            to: vec![("editors".into(), "a.mp4".into())],
            if_taken: IfTaken::Number,
            item: None,
        }
    }

    fn story() -> Vec<Change> {
        let seen = Seen { size: 5, modified: 1, changed: 1, inode: 1 };
        let (job, preset, place, name) = (1, "proxy".to_owned(), "editors".to_owned(), "a.mp4".to_owned());
        vec![
            Change::Arrived {
                job,
                watch: "cards".into(),
                path: "a.mov".into(),
                seen,
                priority: 0,
                many: None,
                beside: Vec::new(),
            },
            Change::Begun { job },
            Change::Planned {
                job,
                facts: Box::default(),
                outputs: vec![planned(0, "proxy"), planned(1, "sound")],
                configuration: None,
            },
            Change::Made {
                job,
                output: 0,
                preset: preset.clone(),
                files: Vec::new(),
                made: Default::default(),
            },
            Change::Carrying {
                job,
                output: 0,
                preset: preset.clone(),
                place: place.clone(),
                name: name.clone(),
                ticket: Ticket::Staged("s".into()),
                aside: None,
            },
            Change::NotMade {
                job,
                output: 1,
                preset: "sound".into(),
                end: crate::store::NotMade::NotApplicable,
                why: "silent".into(),
            },
            Change::Delivered { job, output: 0, preset, place, name, proof: Proof::ReadBack, address: None },
            Change::AllDelivered { job },
            Change::Done { job, note: None, content: None },
        ]
    }

    fn events(all: Vec<Change>) -> Vec<Event> {
        let at = |n: usize| 1_000_000 * n as Micros;
        all.into_iter()
            .enumerate()
            .map(|(n, change)| Event { id: n as i64, at: at(n), job: Some(1), change })
            .collect()
    }

    fn words(all: &[Stretch]) -> Vec<String> {
        let one = |s: &Stretch| {
            let of = s.of.as_ref().map_or(String::new(), |of| format!(" {of}"));
            let open = if s.to.is_none() { " ..." } else { "" };
            format!("{}{of} {}{open}", s.step, s.seconds)
        };
        all.iter().map(one).collect()
    }

    #[test]
    fn a_job_goes_through_its_steps() {
        let told = of(&events(story()), 99_000_000);
        let want =
            ["waits 1", "look 1", "make proxy 1", "make sound 3", "carry proxy to editors 2", "clear 1"];
        assert_eq!(words(&told), want);
        assert!(told.windows(2).all(|w| w[0].span.0 <= w[1].span.0));
    }

    #[test]
    fn what_is_under_way_goes_on_until_now() {
        let mut some = story();
        some.truncate(5);
        // A restart looks at it once more, and carries what it carried.
        some.extend([Change::Begun { job: 1 }, story().remove(4)]);
        let told = of(&events(some), 20_000_000);
        let want = [
            "waits 1",
            "look 1",
            "make proxy 1",
            "make sound 18 ...",
            "carry proxy to editors 16 ...",
            "look 15 ...",
        ];
        assert_eq!(words(&told), want);
        assert_eq!(of(&[], 5), []);
    }

    #[test]
    fn what_ends_ends_all_of_it() {
        let mut some = story();
        some.truncate(3);
        some.push(Change::TurningAway { job: 1, reason: "damaged".into() });
        some.push(Change::TurnedAway { job: 1, at: "away/a.mov".into() });
        let told = of(&events(some), 99_000_000);
        assert_eq!(words(&told)[2..], ["make proxy 1", "make sound 1", "turn away 1"]);
        assert!(told.iter().all(|s| s.to.is_some()));
    }
}
