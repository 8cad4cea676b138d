//! When jobs in line are expected to begin: the scheduler's own order, and what jobs of each watch took before.

use crate::jobs::schedule::{Schedule, Slots};
use crate::store::{JobId, Step, TaskKey};
use std::collections::BTreeMap;
use std::time::Duration;

/// A job in line.
#[derive(Clone, Debug, PartialEq)]
pub struct InLine {
    pub job: JobId,
    pub watch: String,
    pub priority: i64,
    /// How long it is expected to take.
    pub seconds: f64,
    /// It is made beside what is large.
    pub light: bool,
}

/// Seconds from now until each begins. `running`: what those that are made now still take; so many are made at once.
pub fn starts(at_once: usize, running: &[f64], line: &[InLine]) -> BTreeMap<JobId, f64> {
    let slots = Slots { look: 1, make: 1, light: 0, hear: 0, carry: 0, carry_each: 0, moving: 0 };
    let mut schedule = Schedule::new(slots);
    for j in line {
        schedule.enter(j.job, &j.watch, j.priority);
        schedule.add(&TaskKey { job: j.job, step: Step::Make });
    }
    let takes: BTreeMap<JobId, f64> = line.iter().map(|j| (j.job, j.seconds)).collect();
    let mut free: Vec<f64> = running.iter().map(|s| s.max(0.0)).collect();
    free.resize(at_once.max(free.len()).max(1), 0.0);
    let mut out = BTreeMap::new();
    while let Some(key) = schedule.next(Duration::ZERO) {
        schedule.ended(&key);
        let Some(first) = free.iter_mut().min_by(|a, b| a.total_cmp(b)) else { break };
        out.insert(key.job, *first);
        *first += takes.get(&key.job).copied().unwrap_or(0.0);
    }
    out
}

/// The value in the middle.
pub fn median(mut all: Vec<f64>) -> Option<f64> {
    all.sort_by(f64::total_cmp);
    all.get(all.len() / 2).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(jobs: &[(i64, &str, i64, f64)]) -> Vec<InLine> {
        let one = |&(job, watch, priority, seconds): &(i64, &str, i64, f64)| InLine {
            job,
            watch: watch.into(),
            priority,
            seconds,
            light: false,
        };
        jobs.iter().map(one).collect()
    }

    #[test]
    fn each_begins_when_those_before_it_are_made() {
        let all = line(&[(1, "a", 0, 10.0), (2, "a", 0, 20.0), (3, "a", 0, 5.0)]);
        let at = starts(1, &[4.0], &all);
        assert_eq!(at, BTreeMap::from([(1, 4.0), (2, 14.0), (3, 34.0)]));
        // Two at once: one has nothing to do now.
        let at = starts(2, &[4.0], &all);
        assert_eq!(at, BTreeMap::from([(1, 0.0), (2, 4.0), (3, 10.0)]));
    }

    #[test]
    fn a_watch_with_many_does_not_put_off_another_and_priorities_count() {
        let mut jobs: Vec<(i64, &str, i64, f64)> = (1..=100).map(|n| (n, "cards", 0, 1.0)).collect();
        jobs.push((101, "interviews", 0, 1.0));
        jobs.push((102, "cards", 9, 1.0));
        let at = starts(1, &[], &line(&jobs));
        assert!(at[&101] <= 2.0 && at[&102] == 0.0, "{} {}", at[&101], at[&102]);
        assert_eq!(at.len(), 102);
        assert_eq!(at[&100], 101.0);
    }

    #[test]
    fn nothing_in_line_is_nothing_to_tell() {
        assert!(starts(3, &[7.0], &[]).is_empty());
        assert_eq!(median(vec![3.0, 1.0, 2.0]), Some(2.0));
        assert_eq!(median(Vec::new()), None);
    }
}
