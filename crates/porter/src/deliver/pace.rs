//! How fast a place may be filled: one measure for all that is carried there at once.

use crate::files::Watching;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Bytes a second, over all who share it.
#[derive(Debug)]
pub struct Pace {
    per_second: u64,
    /// Until when what was let through is paid for.
    paid: Mutex<Instant>,
}

/// What may be let through at once after a rest.
const AHEAD: Duration = Duration::from_millis(250);
/// Longest sleep without a look whether to stop.
const NAP: Duration = Duration::from_millis(200);

impl Pace {
    pub fn new(per_second: u64) -> Pace {
        Pace { per_second: per_second.max(1), paid: Mutex::new(Instant::now()) }
    }

    pub fn per_second(&self) -> u64 {
        self.per_second
    }

    /// How long to wait after so many bytes.
    fn take(&self, bytes: u64, now: Instant) -> Duration {
        let mut paid = self.paid.lock().unwrap_or_else(|e| e.into_inner());
        let cost = Duration::from_secs_f64(bytes as f64 / self.per_second as f64);
        let from = (*paid).max(now.checked_sub(AHEAD).unwrap_or(now));
        *paid = from + cost;
        paid.saturating_duration_since(now)
    }
}

/// Someone who looks on, and goes no faster than a pace.
pub struct Paced<'a> {
    pub watching: &'a dyn Watching,
    pub pace: Option<&'a Pace>,
}

impl Watching for Paced<'_> {
    fn stopping(&self) -> bool {
        self.watching.stopping()
    }

    fn passed(&self, bytes: u64) {
        self.watching.passed(bytes);
        let Some(pace) = self.pace else { return };
        let until = Instant::now() + pace.take(bytes, Instant::now());
        while !self.stopping()
            && let Some(left) = until.checked_duration_since(Instant::now()).filter(|d| !d.is_zero())
        {
            std::thread::sleep(left.min(NAP));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_who_share_a_pace_wait_for_each_other() {
        let now = Instant::now();
        let pace = Pace::new(1000);
        *pace.paid.lock().unwrap() = now;
        assert_eq!(pace.take(500, now), Duration::from_millis(500));
        assert_eq!(pace.take(500, now), Duration::from_millis(1000));
        // What was not used is not saved up.
        let later = now + Duration::from_secs(60);
        assert_eq!(pace.take(1000, later), Duration::from_millis(750));
    }
}
