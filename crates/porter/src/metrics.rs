//! Figures for programs that watch over others, in the text form of OpenMetrics 1.0, over HTTP on this machine alone.

use crate::control::{Now, Rests};
use crate::error::{Error, Result};
use crate::jobs::Porter;
use crate::store::{State, Step};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::{Arc, Weak};
use std::time::Duration;

const KIND: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// Who asks and says nothing more is not waited for.
const PATIENCE: Duration = Duration::from_secs(2);
const MOST_ASKED: usize = 8192;

/// What the figures are made of.
#[derive(Clone, Debug, Default)]
pub struct Figures {
    pub house: String,
    pub now: Now,
    pub open: u64,
    /// Open jobs that wait for something, and those of which a person has to do something about it.
    pub held: u64,
    pub ended: Vec<(State, u64)>,
    pub free_bytes: u64,
    pub places: Vec<String>,
}

/// A value in quotes (OpenMetrics, section 3.2, escaped-string).
fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n"))
}

struct Text(String);

impl Text {
    fn family(&mut self, name: &str, kind: &str, help: &str) {
        let _ = writeln!(self.0, "# TYPE deft_porter_{name} {kind}\n# HELP deft_porter_{name} {help}");
    }

    fn one(&mut self, name: &str, label: Option<(&str, &str)>, value: impl std::fmt::Display) {
        let label = label.map_or(String::new(), |(l, v)| format!("{{{l}={}}}", quoted(v)));
        let _ = writeln!(self.0, "deft_porter_{name}{label} {value}");
    }

    fn gauge(&mut self, name: &str, help: &str, value: impl std::fmt::Display) {
        self.family(name, "gauge", help);
        self.one(name, None, value);
    }
}

/// The whole text.
pub fn text(f: &Figures) -> String {
    let mut t = Text(String::new());
    t.family("porter", "info", "What works on which house.");
    let (house, version) = (quoted(&f.house), quoted(env!("CARGO_PKG_VERSION")));
    let _ = writeln!(t.0, "deft_porter_porter_info{{house={house},version={version}}} 1");
    t.gauge("paused", "1 while a person wants nothing more to be begun.", u8::from(f.now.paused));
    t.gauge("jobs_open", "Jobs that have not ended.", f.open);
    t.gauge("jobs_held", "Open jobs of which a step waits for something.", f.held);
    t.family("jobs_ended", "counter", "Jobs that ended, by how.");
    for (state, jobs) in &f.ended {
        t.one("jobs_ended_total", Some(("state", state.name())), jobs);
    }
    let mut steps: BTreeMap<&str, u32> =
        ["look", "make", "hear", "carry", "clear", "turn_away"].map(|s| (s, 0)).into();
    for r in &f.now.running {
        *steps.entry(Step::name(&r.task.step)).or_default() += 1;
    }
    t.family("tasks_running", "gauge", "Steps of jobs that are being done now.");
    steps.iter().for_each(|(step, n)| t.one("tasks_running", Some(("step", step)), n));
    t.family("watch_up", "gauge", "1 while a watch folder can be read.");
    for w in &f.now.watches {
        t.one("watch_up", Some(("watch", &w.name)), u8::from(w.trouble.is_none()));
    }
    t.family("files_arriving", "gauge", "Files in a watch folder that are no jobs yet.");
    f.now.watches.iter().for_each(|w| t.one("files_arriving", Some(("watch", &w.name)), w.waiting));
    t.family("place_up", "gauge", "0 while a place is away or full, and left alone until its next try.");
    for p in &f.places {
        let up = !f.now.resting.iter().any(|r| r.place == *p && r.how != Rests::Hours);
        t.one("place_up", Some(("place", p)), u8::from(up));
    }
    t.family("state_free_bytes", "gauge", "Room on the disk of the state folder.");
    t.0.push_str("# UNIT deft_porter_state_free_bytes bytes\n");
    t.one("state_free_bytes", None, f.free_bytes);
    t.0.push_str("# EOF\n");
    t.0
}

fn figures(porter: &Porter) -> Result<Figures> {
    let house = porter.house();
    let (open, held, ended) = porter.store.read(|v| Ok((v.open_count()?, v.held_count()?, v.tally()?)))?;
    let room = rustix::fs::statvfs(&house.state);
    Ok(Figures {
        house: house.name.clone(),
        now: porter.now(),
        open,
        held,
        ended,
        free_bytes: room.map_or(0, |r| r.f_bavail.saturating_mul(r.f_frsize)),
        places: house.places.iter().map(|p| p.name.clone()).collect(),
    })
}

/// Listens until the porter is gone.
pub fn serve(porter: &Arc<Porter>, at: SocketAddr) -> Result<()> {
    let listener = TcpListener::bind(at)
        .map_err(Error::path("cannot listen for metrics at", &PathBuf::from(at.to_string())))?;
    let porter: Weak<Porter> = Arc::downgrade(porter);
    std::thread::spawn(move || {
        for client in listener.incoming() {
            let Some(porter) = porter.upgrade().filter(|p| !p.stopping()) else { return };
            if let Ok(client) = client {
                let _ = answer(&porter, client);
            }
        }
    });
    Ok(())
}

fn answer(porter: &Porter, mut client: TcpStream) -> std::io::Result<()> {
    client.set_read_timeout(Some(PATIENCE))?;
    client.set_write_timeout(Some(PATIENCE))?;
    let (mut asked, mut block) = (Vec::new(), [0; 1024]);
    while !asked.windows(4).any(|w| w == b"\r\n\r\n") && asked.len() < MOST_ASKED {
        match client.read(&mut block)? {
            0 => break,
            n => asked.extend_from_slice(&block[..n]),
        }
    }
    let line = String::from_utf8_lossy(&asked);
    let mut words = line.split_whitespace();
    let (status, kind, body) = match (words.next(), words.next()) {
        (Some("GET"), Some("/metrics")) => match figures(porter) {
            Ok(f) => ("200 OK", KIND, text(&f)),
            Err(e) => ("503 Service Unavailable", "text/plain", e.to_string()),
        },
        (Some("GET"), _) => ("404 Not Found", "text/plain", "the figures are at /metrics\n".into()),
        _ => ("405 Method Not Allowed", "text/plain", "GET /metrics\n".into()),
    };
    write!(
        client,
        "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
        body.len()
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::control::WatchNow;

    #[test]
    fn names_of_any_kind_stay_in_their_quotes() {
        let watches = vec![WatchNow { name: "a \"b\" \\ c".into(), waiting: 3, ..WatchNow::default() }];
        let f = Figures {
            now: Now { watches, ..Now::default() },
            ended: vec![(State::Done, 7)],
            ..Figures::default()
        };
        let text = text(&f);
        assert!(text.contains("deft_porter_files_arriving{watch=\"a \\\"b\\\" \\\\ c\"} 3\n"), "{text}");
        assert!(text.contains("deft_porter_jobs_ended_total{state=\"done\"} 7\n"), "{text}");
        assert!(text.ends_with("# EOF\n"));
    }
}
