//! Children that looked at a source and stay to make something of it: it spares a still, which is made in less time than a
//! child takes to begin, a second one. None stays for long, and there are never many.

use super::parent::Waits;
use crate::store::JobId;
use std::sync::{Mutex, MutexGuard};
use std::time::{Duration, Instant};

/// So many wait at most.
const MOST: usize = 8;
/// And so long: what is not made at once has something else before it.
const LONGEST: Duration = Duration::from_secs(2);

pub struct Stayed<T = Waits>(Mutex<Vec<(JobId, Instant, T)>>);

impl<T> Default for Stayed<T> {
    fn default() -> Self {
        Stayed(Mutex::new(Vec::new()))
    }
}

impl<T> Stayed<T> {
    fn all(&self) -> MutexGuard<'_, Vec<(JobId, Instant, T)>> {
        self.0.lock().unwrap_or_else(|e| e.into_inner())
    }

    pub fn keep(&self, job: JobId, child: T) {
        let mut all = self.all();
        // What ends them waits for them: not under the lock.
        let too_many = (all.len() >= MOST).then(|| all.remove(0));
        all.push((job, Instant::now(), child));
        drop(all);
        drop(too_many);
    }

    pub fn take(&self, job: JobId) -> Option<T> {
        let mut all = self.all();
        let at = all.iter().position(|(of, ..)| *of == job)?;
        Some(all.remove(at).2)
    }

    /// Those that waited long enough end.
    pub fn let_go(&self) {
        self.let_go_after(LONGEST);
    }

    fn let_go_after(&self, longest: Duration) {
        let old: Vec<_> = self.all().extract_if(.., |(_, since, _)| since.elapsed() > longest).collect();
        drop(old);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_waits_for_its_own_job_once() {
        let all = Stayed::default();
        all.keep(1, "a");
        all.keep(2, "b");
        assert_eq!((all.take(2), all.take(2), all.take(3), all.take(1)), (Some("b"), None, None, Some("a")));
    }

    #[test]
    fn there_are_never_many_and_none_waits_for_long() {
        let all = Stayed::default();
        (0..20).for_each(|job| all.keep(job, job));
        assert_eq!(all.all().len(), MOST);
        assert_eq!((all.take(0), all.take(19)), (None, Some(19)), "the oldest went");
        all.let_go();
        assert_eq!(all.all().len(), MOST - 1);
        std::thread::sleep(Duration::from_millis(5));
        all.keep(30, 30);
        all.let_go_after(Duration::from_millis(4));
        assert!(all.take(18).is_none());
    }
}
