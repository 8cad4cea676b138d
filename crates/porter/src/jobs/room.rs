//! What the machine has room for: nothing is begun that it has no memory or disk for, while something else still ends.

use super::schedule::Weight;
use crate::store::Step;
use std::cell::Cell;
use std::path::Path;
use std::time::{Duration, Instant};

/// What a child is expected to need, at most times: what was measured of long films, and of stills.
const MAKES: u64 = 400_000_000;
const MAKES_LITTLE: u64 = 120_000_000;
const HEARS: u64 = 600_000_000;

/// Memory that a task should find free.
pub fn wanted(step: &Step, weight: Weight) -> u64 {
    match step {
        Step::Make if weight.light => MAKES_LITTLE,
        Step::Look if weight.at_once => MAKES_LITTLE,
        Step::Make => MAKES,
        Step::Hear => HEARS,
        _ => 0,
    }
}

/// How long what was found of memory is taken for true.
const GOOD_FOR: Duration = Duration::from_millis(250);

/// What has too little memory beside others is begun all the same after so long: small things that come without end must
/// not keep a film waiting for ever.
const PATIENCE: Duration = Duration::from_secs(300);

/// Free memory, looked at now and then, and since when it is too little for something.
#[derive(Default)]
pub struct Memory {
    seen: Cell<Option<(Instant, u64)>>,
    short: Cell<Option<Instant>>,
    refused: Cell<bool>,
}

impl Memory {
    fn now(&self) -> u64 {
        match self.seen.get().filter(|(at, _)| at.elapsed() < GOOD_FOR) {
            Some((_, free)) => free,
            None => {
                let free = memory().unwrap_or(u64::MAX);
                self.seen.set(Some((Instant::now(), free)));
                free
            }
        }
    }

    /// Whether what wants so much is begun now, where others just took so much. `alone`: nothing else is under way.
    pub fn has(&self, wanted: u64, taken: u64, alone: bool) -> bool {
        if wanted == 0 || alone || wanted <= self.now().saturating_sub(taken) {
            return true;
        }
        let since = self.short.get().unwrap_or_else(Instant::now);
        let overdue = since.elapsed() >= PATIENCE;
        self.short.set((!overdue).then_some(since));
        self.refused.set(true);
        overdue
    }

    /// All that could begin has begun: with nothing refused, nothing waits for memory.
    pub fn settle(&self) {
        if !self.refused.replace(false) {
            self.short.set(None);
        }
    }
}

/// Bytes of memory that programs can have now without others being put to disk; `None` where the system does not tell.
pub fn memory() -> Option<u64> {
    let read = |path: &str| std::fs::read_to_string(path).ok();
    let machine = available(&read("/proc/meminfo")?)?;
    let group = read("/proc/self/cgroup").and_then(|text| {
        let own = text.lines().find_map(|l| l.strip_prefix("0::"))?.trim_start_matches('/').to_owned();
        let at = |name: &str| read(&Path::new("/sys/fs/cgroup").join(&own).join(name).to_string_lossy());
        left_in_group(&at("memory.max")?, &at("memory.current")?, &at("memory.stat")?)
    });
    Some(group.unwrap_or(u64::MAX).min(machine))
}

/// Of /proc/meminfo (proc(5)).
fn available(text: &str) -> Option<u64> {
    let line = text.lines().find_map(|l| l.strip_prefix("MemAvailable:"))?;
    line.trim().trim_end_matches("kB").trim().parse::<u64>().ok()?.checked_mul(1024)
}

/// What a control group still allows: files in memory give way. `None`: it has no bound.
fn left_in_group(max: &str, now: &str, stat: &str) -> Option<u64> {
    let number = |s: &str| s.trim().parse::<u64>().ok();
    let files = stat.lines().find_map(|l| number(l.strip_prefix("file ")?)).unwrap_or(0);
    let used = number(now)?.saturating_sub(files);
    Some(number(max)?.saturating_sub(used))
}

/// Bytes that are free on the disk of a folder.
pub fn disk(folder: &Path) -> Option<u64> {
    let room = rustix::fs::statvfs(folder).ok()?;
    Some(room.f_bavail.saturating_mul(room.f_frsize))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn what_the_machine_tells_is_read() {
        let text = "MemTotal:       16303428 kB\nMemFree:          512 kB\nMemAvailable:    1000 kB\n";
        assert_eq!(available(text), Some(1_024_000));
        assert_eq!(available("MemTotal: 5 kB\n"), None);
        // Of this machine, whatever it is.
        assert!(memory().is_some_and(|n| n > 1_000_000));
        assert!(disk(Path::new("/")).is_some() && disk(Path::new("/not there")).is_none());
    }

    #[test]
    fn what_waits_for_memory_does_not_wait_for_ever() {
        let m = Memory::default();
        let free = |bytes| m.seen.set(Some((Instant::now(), bytes)));
        free(500);
        assert!(m.has(500, 0, false) && m.has(900, 0, true) && m.has(0, 900, false));
        assert!(!m.has(400, 101, false));
        m.settle();
        assert!(m.short.get().is_some());
        // Since then something small was begun at each turn.
        m.short.set(Instant::now().checked_sub(PATIENCE));
        free(500);
        assert!(m.has(100, 0, false) && m.has(900, 0, false), "its time has come");
        assert!(!m.has(900, 0, false), "and the next one waits as long");
        m.settle();
        m.settle();
        assert!(m.short.get().is_none(), "nothing was refused any more");
    }

    #[rstest]
    #[case("1000\n", "900\n", "anon 100\nfile 700\n", Some(800))]
    #[case("1000", "1200", "anon 1200\n", Some(0))]
    #[case("max\n", "900", "file 1\n", None)]
    fn a_group_has_a_bound_of_its_own(
        #[case] max: &str,
        #[case] now: &str,
        #[case] stat: &str,
        #[case] want: Option<u64>,
    ) {
        assert_eq!(left_in_group(max, now, stat), want);
    }
}
