//! Which task is next. Pure: tasks and times go in, tasks come out; the clock is handed in.
//!
//! Looking, making, carrying (each place by itself) and moving have slots of their own, so that a slow or absent place
//! never keeps a clip from being made. What was never tried goes before what is tried again. A place that was found
//! away rests, with all that waits for it, and then is tried with one task.
//!
//! Jobs take turns between watches: each watch has a clock of its own that goes on by one with each of its jobs, and the job
//! with the earliest time is next (start-time fair queueing; Goyal, Vin, Cheng 1996). A watch that drops ten thousand files
//! keeps no other waiting. A priority moves a job ahead by a fixed number of such turns: what waits long enough is before
//! every later job of higher priority, so that nothing waits for ever.

use crate::store::{JobId, Step, TaskKey};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::time::Duration;

/// Time since the porter began, on a clock that nobody sets.
pub type Tick = Duration;

/// How many tasks of each kind run at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Slots {
    pub look: usize,
    pub make: usize,
    /// To all places, and to each.
    pub carry: usize,
    pub carry_each: usize,
    pub moving: usize,
}

/// The line a task stands in.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Line {
    Move,
    Carry(String),
    Look,
    Make,
}

impl Line {
    fn of(step: &Step) -> Option<Line> {
        match step {
            Step::Look => Some(Line::Look),
            Step::Make | Step::Hear => Some(Line::Make),
            Step::Carry { place, .. } => Some(Line::Carry(place.clone())),
            Step::Clear | Step::TurnAway | Step::Cancel => Some(Line::Move),
            // Left alone for the program that knows it.
            Step::Unknown => None,
        }
    }
}

/// Where a job stands in its line.
type Rank = i64;

/// How many turns of a watch one step of priority is worth.
const AHEAD: Rank = 100;
pub const MAX_PRIORITY: i64 = 9;
/// Of jobs that a person wants before all others.
pub const FIRST: i64 = 10;

#[derive(Debug, Default)]
struct Queue {
    fresh: BTreeSet<(Rank, TaskKey)>,
    held: BTreeSet<(Tick, TaskKey)>,
    running: usize,
}

#[derive(Debug)]
pub struct Schedule {
    slots: Slots,
    lines: BTreeMap<Line, Queue>,
    /// When a held task is due.
    due: BTreeMap<TaskKey, Tick>,
    /// Held for a time only, not until something is mended.
    passing: HashSet<TaskKey>,
    running: HashSet<TaskKey>,
    /// The turn of each job, and its priority.
    ranks: HashMap<JobId, (Rank, i64)>,
    /// The time of each watch, and of what was begun last.
    turns: HashMap<String, Rank>,
    turn: Rank,
    /// How many are carried at once, where a place says another number.
    each: HashMap<String, usize>,
    /// Places that rest, until when, and how often in a row.
    resting: HashMap<String, (Tick, u32)>,
}

impl Schedule {
    /// How many may be made at once, from now on.
    pub fn set_make(&mut self, at_once: usize) {
        self.slots.make = at_once;
    }

    /// How many are carried to these places at once, from now on; to others the usual number.
    pub fn set_each(&mut self, each: impl IntoIterator<Item = (String, usize)>) {
        self.each = each.into_iter().collect();
    }

    pub fn new(slots: Slots) -> Schedule {
        Schedule {
            slots,
            lines: BTreeMap::new(),
            due: BTreeMap::new(),
            passing: HashSet::new(),
            running: HashSet::new(),
            ranks: HashMap::new(),
            turns: HashMap::new(),
            turn: 0,
            each: HashMap::new(),
            resting: HashMap::new(),
        }
    }

    /// A job of a watch comes in, before its tasks do.
    pub fn enter(&mut self, job: JobId, watch: &str, priority: i64) {
        let last = self.turns.get(watch).copied().unwrap_or(Rank::MIN);
        let turn = self.turn.max(last.saturating_add(1));
        self.turns.insert(watch.to_owned(), turn);
        self.ranks.insert(job, (turn, priority));
    }

    /// A job that waits is put in front of others, or behind.
    pub fn rank(&mut self, job: JobId, priority: i64) {
        let (turn, now) = self.ranks.get(&job).copied().unwrap_or((self.turn, 0));
        if priority == now {
            return;
        }
        self.ranks.insert(job, (turn, priority));
        let rank = self.rank_of(job);
        for queue in self.lines.values_mut() {
            let of_job: Vec<_> = queue.fresh.iter().filter(|(_, k)| k.job == job).cloned().collect();
            for (before, key) in of_job {
                queue.fresh.remove(&(before, key.clone()));
                queue.fresh.insert((rank, key));
            }
        }
    }

    /// A job has ended.
    pub fn leave(&mut self, job: JobId) {
        self.ranks.remove(&job);
    }

    fn rank_of(&self, job: JobId) -> Rank {
        self.ranks.get(&job).map_or(0, |&(turn, priority)| ranked(turn, priority))
    }

    /// A task that is to be done; nothing changes if it is known.
    pub fn add(&mut self, key: &TaskKey) {
        if self.running.contains(key) || self.due.contains_key(key) {
            return;
        }
        if let Some(line) = Line::of(&key.step) {
            let rank = self.rank_of(key.job);
            self.lines.entry(line).or_default().fresh.insert((rank, key.clone()));
        }
    }

    /// A task is tried again at this time. `passing`: nobody has to do anything about it.
    pub fn hold(&mut self, key: &TaskKey, until: Tick, passing: bool) {
        self.forget(key);
        let Some(line) = Line::of(&key.step) else { return };
        self.lines.entry(line).or_default().held.insert((until, key.clone()));
        self.due.insert(key.clone(), until);
        if passing {
            self.passing.insert(key.clone());
        }
    }

    /// A place is away, and is not asked before this time.
    pub fn rest(&mut self, place: &str, now: Tick, until: Tick) {
        let (before, times) = self.resting.get(place).copied().unwrap_or_default();
        // What was on its way to it together is one time.
        let times = if before > now { times } else { times + 1 };
        self.resting.insert(place.to_owned(), (until, times));
    }

    /// A place took something.
    pub fn well(&mut self, place: &str) {
        self.resting.remove(place);
    }

    /// A task that was given out is not being worked on any more.
    pub fn ended(&mut self, key: &TaskKey) {
        if self.running.remove(key)
            && let Some(line) = Line::of(&key.step).and_then(|l| self.lines.get_mut(&l))
        {
            line.running -= 1;
        }
    }

    /// These are all tasks that a job has now: others of it are forgotten, new ones join.
    pub fn renew(&mut self, job: crate::store::JobId, tasks: &[TaskKey]) {
        // Of one job there are few, and they stand together.
        let first = TaskKey { job, step: Step::Look };
        let from = (self.rank_of(job), first.clone());
        let of_job = |(rank, k): &&(Rank, TaskKey)| *rank == from.0 && k.job == job;
        let fresh =
            self.lines.values().flat_map(|q| q.fresh.range(&from..).take_while(of_job).map(|(_, k)| k));
        let held = self.due.range(&first..).map(|(k, _)| k).take_while(|k| k.job == job);
        let gone: Vec<TaskKey> = fresh.chain(held).filter(|k| !tasks.contains(k)).cloned().collect();
        gone.iter().for_each(|k| self.forget(k));
        tasks.iter().for_each(|k| self.add(k));
    }

    fn forget(&mut self, key: &TaskKey) {
        let rank = self.rank_of(key.job);
        if let Some(line) = Line::of(&key.step).and_then(|l| self.lines.get_mut(&l)) {
            line.fresh.remove(&(rank, key.clone()));
            if let Some(until) = self.due.remove(key) {
                line.held.remove(&(until, key.clone()));
            }
        }
        self.passing.remove(key);
    }

    fn running_in(&self, wanted: fn(&Line) -> bool) -> usize {
        self.lines.iter().filter(|(l, _)| wanted(l)).map(|(_, q)| q.running).sum()
    }

    fn has_slot(&self, line: &Line, queue: &Queue) -> bool {
        match line {
            Line::Move => queue.running < self.slots.moving,
            Line::Look => queue.running < self.slots.look,
            Line::Make => queue.running < self.slots.make,
            Line::Carry(place) => {
                // A place that rested is tried with one.
                let usual = self.each.get(place).copied().unwrap_or(self.slots.carry_each);
                let each = if self.resting.contains_key(place) { 1 } else { usual };
                queue.running < each && self.running_in(|l| matches!(l, Line::Carry(_))) < self.slots.carry
            }
        }
    }

    fn rests(&self, line: &Line, now: Tick) -> Option<Tick> {
        match line {
            Line::Carry(place) => self.resting.get(place).map(|r| r.0).filter(|until| *until > now),
            _ => None,
        }
    }

    /// The next task to begin now, if there is one and a slot for it.
    pub fn next(&mut self, now: Tick) -> Option<TaskKey> {
        self.next_of(now, |_| true)
    }

    /// The same among some tasks only.
    pub fn next_of(&mut self, now: Tick, may: impl Fn(&TaskKey) -> bool) -> Option<TaskKey> {
        let key = self.lines.iter().find_map(|(line, queue)| {
            if !self.has_slot(line, queue) || self.rests(line, now).is_some() {
                return None;
            }
            let fresh = || queue.fresh.iter().map(|(_, k)| k).find(|k| may(k));
            let again =
                || queue.held.iter().take_while(|(due, _)| *due <= now).map(|(_, k)| k).find(|k| may(k));
            // A place that rested is tried with what it refused, and in turn with something else: one file too large for
            // it must not keep all others waiting.
            let tried_first =
                matches!(line, Line::Carry(p) if self.resting.get(p).is_some_and(|(_, n)| n % 2 == 1));
            let key = if tried_first { again().or_else(fresh) } else { fresh().or_else(again) };
            key.cloned()
        })?;
        self.forget(&key);
        // The time of the house is that of the job that was begun last, without what a priority moved it by.
        if let Some(&(turn, _)) = self.ranks.get(&key.job)
            && turn > self.turn
            && matches!(key.step, Step::Look | Step::Make)
        {
            self.turn = turn;
        }
        self.running.insert(key.clone());
        if let Some(line) = Line::of(&key.step) {
            self.lines.entry(line).or_default().running += 1;
        }
        Some(key)
    }

    /// When something that waits for its time can begin.
    pub fn wake(&self, now: Tick) -> Option<Tick> {
        let next = |(line, queue): (&Line, &Queue)| {
            if !self.has_slot(line, queue) {
                return None;
            }
            let first = queue.held.first().map(|(due, _)| *due);
            match self.rests(line, now) {
                Some(until) if !queue.fresh.is_empty() => Some(until),
                Some(until) => first.map(|due| due.max(until)),
                None => first,
            }
        };
        self.lines.iter().filter_map(next).min()
    }

    pub fn running(&self) -> usize {
        self.running.len()
    }

    /// Whether a task of this job runs.
    pub fn is_running(&self, job: crate::store::JobId) -> bool {
        self.running.iter().any(|k| k.job == job)
    }

    /// True if nothing runs, and all that is left waits for something to be mended.
    pub fn only_held(&self, now: Tick) -> bool {
        let stands =
            |(line, queue): (&Line, &Queue)| queue.fresh.is_empty() || self.rests(line, now).is_some();
        self.running.is_empty() && self.passing.is_empty() && self.lines.iter().all(stands)
    }
}

fn ranked(turn: Rank, priority: i64) -> Rank {
    if priority >= FIRST { Rank::MIN } else { turn - priority * AHEAD }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const SLOTS: Slots = Slots { look: 1, make: 1, carry: 3, carry_each: 2, moving: 1 };

    fn key(job: i64, step: &str) -> TaskKey {
        let step = match step {
            "look" => Step::Look,
            "make" => Step::Make,
            "hear" => Step::Hear,
            "clear" => Step::Clear,
            place => Step::Carry { output: 0, place: place.to_owned() },
        };
        TaskKey { job, step }
    }

    fn s(seconds: u64) -> Tick {
        Duration::from_secs(seconds)
    }

    /// Names of what begins now, as `job:step`.
    fn begun(schedule: &mut Schedule, now: u64) -> Vec<String> {
        let name = |k: TaskKey| match k.step {
            Step::Carry { place, .. } => format!("{}:{place}", k.job),
            step => format!("{}:{}", k.job, step.name()),
        };
        std::iter::from_fn(|| schedule.next(s(now)).map(name)).collect()
    }

    #[test]
    fn each_kind_has_its_own_slots() {
        let mut t = Schedule::new(SLOTS);
        for job in 1..=3 {
            for step in ["look", "make", "nas", "cloud", "clear"] {
                t.add(&key(job, step));
            }
        }
        assert_eq!(begun(&mut t, 0), ["1:clear", "1:cloud", "2:cloud", "1:nas", "1:look", "1:make"]);
        t.ended(&key(1, "make"));
        t.ended(&key(1, "cloud"));
        assert_eq!(begun(&mut t, 0), ["3:cloud", "2:make"]);
        // Given out is given out.
        t.add(&key(1, "look"));
        assert_eq!(begun(&mut t, 9).len(), 0);
    }

    #[test]
    fn watches_take_turns() {
        let mut t = Schedule::new(SLOTS);
        for job in 1..=1000 {
            t.enter(job, "cards", 0);
            t.add(&key(job, "make"));
        }
        for job in 1001..=1003 {
            t.enter(job, "interviews", 0);
            t.add(&key(job, "make"));
        }
        let order: Vec<JobId> = std::iter::from_fn(|| {
            let next = t.next(s(0))?;
            t.ended(&next);
            Some(next.job)
        })
        .collect();
        assert_eq!(order[..6], [1, 1001, 2, 1002, 3, 1003]);
        assert_eq!(order.len(), 1003);
        // A watch that was quiet does not catch up on what it did not use.
        for job in 2000..2004 {
            t.enter(job, if job < 2002 { "cards" } else { "interviews" }, 0);
            t.add(&key(job, "make"));
        }
        let next: Vec<JobId> = std::iter::from_fn(|| {
            let next = t.next(s(0))?;
            t.ended(&next);
            Some(next.job)
        })
        .collect();
        assert_eq!(next, [2002, 2000, 2003, 2001]);
    }

    #[test]
    fn priorities_go_ahead_and_nothing_starves() {
        let mut t = Schedule::new(SLOTS);
        for job in 1..=5 {
            t.enter(job, "cards", 0);
            t.add(&key(job, "make"));
        }
        t.enter(6, "cards", 2);
        t.add(&key(6, "make"));
        t.rank(5, FIRST);
        t.rank(1, -1);
        t.rank(5, FIRST);
        let next = |t: &mut Schedule| {
            let key = t.next(s(0)).unwrap();
            t.ended(&key);
            key.job
        };
        assert_eq!([next(&mut t), next(&mut t), next(&mut t)], [5, 6, 2]);
        // Jobs of higher priority come without end: the one of the lowest is reached all the same.
        let mut begun = Vec::new();
        for job in 100..1200 {
            t.enter(job, "urgent", 9);
            t.add(&key(job, "make"));
            begun.push(next(&mut t));
        }
        assert!(begun.contains(&1) && begun.contains(&4), "{begun:?}");
    }

    #[test]
    fn a_place_may_say_how_many_it_takes_at_once() {
        let mut t = Schedule::new(SLOTS);
        t.set_each([("nas".to_owned(), 1)]);
        (1..=3).for_each(|job| t.add(&key(job, "nas")));
        assert_eq!(begun(&mut t, 0), ["1:nas"]);
        t.set_each([("nas".to_owned(), 3)]);
        assert_eq!(begun(&mut t, 0), ["2:nas", "3:nas"]);
    }

    #[test]
    fn a_cancelled_job_waits_for_what_works_on_it() {
        let mut t = Schedule::new(SLOTS);
        for step in ["make", "nas", "cloud"] {
            t.add(&key(1, step));
        }
        t.add(&key(2, "make"));
        assert_eq!(begun(&mut t, 0), ["1:cloud", "1:nas", "1:make"]);
        t.add(&key(1, "hear"));
        t.renew(1, &[]);
        for step in ["cloud", "nas"] {
            t.ended(&key(1, step));
            assert!(t.is_running(1));
        }
        t.ended(&key(1, "make"));
        assert!(!t.is_running(1) && !t.is_running(2));
        t.add(&TaskKey { job: 1, step: Step::Cancel });
        assert_eq!(begun(&mut t, 0), ["1:cancel", "2:make"], "nothing else of it is left");
    }

    #[test]
    fn a_place_that_is_away_keeps_nobody_from_being_made() {
        let mut t = Schedule::new(SLOTS);
        for job in 1..=4000 {
            t.add(&key(job, "nas"));
        }
        assert_eq!(begun(&mut t, 0), ["1:nas", "2:nas"]);
        for job in 1..=2 {
            t.ended(&key(job, "nas"));
            t.hold(&key(job, "nas"), s(10), false);
            t.rest("nas", s(0), s(10));
        }
        t.add(&key(4001, "make"));
        assert_eq!(begun(&mut t, 1), ["4001:make"]);
        t.ended(&key(4001, "make"));
        assert!(t.only_held(s(1)) && !t.only_held(s(10)));
        assert_eq!(t.wake(s(1)), Some(s(10)));
        // One is sent to look; when the place takes it, the rest follow.
        assert_eq!(begun(&mut t, 10), ["1:nas"]);
        t.ended(&key(1, "nas"));
        t.well("nas");
        assert_eq!(begun(&mut t, 11), ["3:nas", "4:nas"]);
    }

    #[test]
    fn one_file_that_a_place_refuses_does_not_keep_the_others_waiting() {
        let mut t = Schedule::new(SLOTS);
        t.add(&key(1, "nas"));
        t.add(&key(2, "nas"));
        t.add(&key(3, "nas"));
        begun(&mut t, 0);
        let mut tried = Vec::new();
        for round in 1..=4 {
            for job in 1..=3 {
                t.ended(&key(job, "nas"));
            }
            t.hold(&key(1, "nas"), s(round * 10), false);
            t.rest("nas", s(round * 10 - 9), s(round * 10));
            tried.extend(begun(&mut t, round * 10));
        }
        assert!(tried.contains(&"1:nas".to_owned()) && tried.contains(&"3:nas".to_owned()), "{tried:?}");
    }

    #[rstest]
    #[case::fresh_first(5, &["2:make"])]
    #[case::in_time(20, &["2:make"])]
    fn what_was_never_tried_goes_first(#[case] now: u64, #[case] want: &[&str]) {
        let mut t = Schedule::new(SLOTS);
        t.hold(&key(1, "make"), s(10), false);
        t.add(&key(2, "make"));
        assert_eq!(begun(&mut t, now), want);
        t.ended(&key(2, "make"));
        assert_eq!(begun(&mut t, now).len(), usize::from(now >= 10));
    }

    #[test]
    fn a_jobs_tasks_are_renewed() {
        let mut t = Schedule::new(SLOTS);
        t.add(&key(1, "make"));
        t.add(&key(2, "make"));
        t.hold(&key(1, "nas"), s(5), false);
        t.renew(1, &[key(1, "hear"), key(1, "cloud")]);
        assert_eq!(begun(&mut t, 9), ["1:cloud", "1:hear"]);
        t.ended(&key(1, "hear"));
        assert_eq!(begun(&mut t, 9), ["2:make"]);
        t.renew(2, &[]);
        assert_eq!(t.running(), 2, "what runs, runs");
    }

    #[test]
    fn a_second_look_is_waited_for() {
        let mut t = Schedule::new(SLOTS);
        t.hold(&key(1, "look"), s(30), true);
        assert!(!t.only_held(s(1)));
        t.hold(&key(1, "look"), s(30), false);
        assert!(t.only_held(s(1)));
    }
}
