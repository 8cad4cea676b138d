//! One line that tells how many bytes went through, while a person looks on; Ctrl-C ends what it watches.

use super::{bytes, seconds};
use porter::files::Watching;
use std::io::{IsTerminal, Write};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

const EVERY: Duration = Duration::from_millis(300);

pub struct BytesLine {
    stop: Arc<AtomicBool>,
    done: AtomicU64,
    of: u64,
    start: Instant,
    shown: Mutex<Instant>,
    seen: bool,
}

impl BytesLine {
    /// `of`: 0 where it is not known.
    pub fn start(of: u64) -> anyhow::Result<BytesLine> {
        let stop: Arc<AtomicBool> = Arc::default();
        for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP]
        {
            signal_hook::flag::register(signal, stop.clone())?;
        }
        let (now, seen) = (Instant::now(), std::io::stderr().is_terminal());
        Ok(BytesLine { stop, done: AtomicU64::new(0), of, start: now, shown: Mutex::new(now), seen })
    }

    pub fn end(self) -> Duration {
        if self.seen {
            let _ = write!(std::io::stderr(), "\r\x1b[K");
        }
        self.start.elapsed()
    }
}

impl Watching for BytesLine {
    fn stopping(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    fn passed(&self, n: u64) {
        let done = self.done.fetch_add(n, Ordering::Relaxed) + n;
        let mut shown = self.shown.lock().unwrap_or_else(|e| e.into_inner());
        if !self.seen || shown.elapsed() < EVERY {
            return;
        }
        *shown = Instant::now();
        let speed = done as f64 / self.start.elapsed().as_secs_f64().max(0.001);
        let mut line = format!("{}, {}/s", bytes(done), bytes(speed as u64));
        if self.of > 0 {
            let left = self.of.saturating_sub(done) as f64 / speed.max(1.0);
            line = format!(
                "{} of {}, {}/s, {} left",
                bytes(done),
                bytes(self.of),
                bytes(speed as u64),
                seconds(left)
            );
        }
        let _ = write!(std::io::stderr(), "\r\x1b[K{line}");
    }
}
