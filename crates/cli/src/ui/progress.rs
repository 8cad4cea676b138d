//! One line that tells how far something is, while a person looks on.

use std::io::{IsTerminal, Write};
use std::time::{Duration, Instant};
use words::transcript::Ms;

const EVERY: Duration = Duration::from_millis(200);

pub struct Progress {
    what: String,
    start: Instant,
    shown: Instant,
    seen: bool,
}

impl Progress {
    pub fn start(what: &str) -> Progress {
        let now = Instant::now();
        Progress { what: what.to_owned(), start: now, shown: now, seen: std::io::stderr().is_terminal() }
    }

    pub fn at(&mut self, at: Ms, of: Ms) {
        if !self.seen || self.shown.elapsed() < EVERY {
            return;
        }
        self.shown = Instant::now();
        let speed = at.seconds() / self.start.elapsed().as_secs_f64().max(0.001);
        let left = (of - at).seconds().max(0.0) / speed.max(0.001);
        let _ = write!(
            std::io::stderr(),
            "\r\x1b[K{}: {} of {}, {speed:.0} times as fast as it was spoken, {} left",
            self.what,
            at.short(),
            of.short(),
            Ms::from_seconds(left).short()
        );
    }

    /// Takes the line away; how long it took.
    pub fn end(self) -> Duration {
        if self.seen {
            let _ = write!(std::io::stderr(), "\r\x1b[K");
        }
        self.start.elapsed()
    }
}
