//! Which task is next. Pure: tasks and times go in, tasks come out; the clock is handed in.
//!
//! Looking, making (moving pictures by itself, and what is little beside it: stills, sound), hearing, carrying (each place by
//! itself) and moving have slots of their own, so that a slow or absent place never keeps a clip from being made, and a
//! picture does not wait behind a film. What was never tried goes before what is tried again. A place that was found
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
    /// Of moving pictures, and of stills and sound.
    pub make: usize,
    pub light: usize,
    pub hear: usize,
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
    /// A look that reads all of it.
    LookWhole,
    Light,
    Make,
    Hear,
}

/// What is known of the work that a job is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Weight {
    /// All of it is read to know it.
    pub look_whole: bool,
    /// What is made of it is little: of a picture, or of sound.
    pub light: bool,
    /// It is looked at when it is its turn to be made, and no earlier.
    pub at_once: bool,
}

impl Line {
    fn of(step: &Step, weight: Weight) -> Option<Line> {
        match step {
            Step::Look if weight.look_whole => Some(Line::LookWhole),
            Step::Look if weight.at_once => Some(Line::Light),
            Step::Look => Some(Line::Look),
            Step::Make if weight.light => Some(Line::Light),
            Step::Make => Some(Line::Make),
            Step::Hear => Some(Line::Hear),
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
    running: HashMap<TaskKey, Line>,
    /// Of jobs whose work is not the usual.
    weights: HashMap<JobId, Weight>,
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
    /// How many of each kind run at once, from now on.
    pub fn set_slots(&mut self, slots: Slots) {
        self.slots = slots;
    }

    /// What is known of a job's work now; what it has in a line goes to the right one.
    pub fn weigh(&mut self, job: JobId, weight: Weight) {
        if self.weight(job) == weight {
            return;
        }
        let steps = [Step::Look, Step::Make].map(|step| TaskKey { job, step });
        let rank = self.rank_of(job);
        let waits = |k: &&TaskKey| {
            let line = self.line_of(k).and_then(|l| self.lines.get(&l));
            line.is_some_and(|q| q.fresh.contains(&(rank, (*k).clone())))
        };
        let fresh: Vec<TaskKey> = steps.iter().filter(waits).cloned().collect();
        let held: Vec<(TaskKey, Tick, bool)> = steps
            .iter()
            .filter_map(|k| Some((k.clone(), *self.due.get(k)?, self.passing.contains(k))))
            .collect();
        steps.iter().for_each(|k| self.forget(k));
        if weight == Weight::default() {
            self.weights.remove(&job);
        } else {
            self.weights.insert(job, weight);
        }
        fresh.iter().for_each(|k| self.add(k));
        held.iter().for_each(|(k, until, passing)| self.hold(k, *until, *passing));
    }

    pub fn weight(&self, job: JobId) -> Weight {
        self.weights.get(&job).copied().unwrap_or_default()
    }

    fn line_of(&self, key: &TaskKey) -> Option<Line> {
        Line::of(&key.step, self.weight(key.job))
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
            running: HashMap::new(),
            weights: HashMap::new(),
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
        self.weights.remove(&job);
    }

    fn rank_of(&self, job: JobId) -> Rank {
        self.ranks.get(&job).map_or(0, |&(turn, priority)| ranked(turn, priority))
    }

    /// A task that is to be done; nothing changes if it is known.
    pub fn add(&mut self, key: &TaskKey) {
        if self.running.contains_key(key) || self.due.contains_key(key) {
            return;
        }
        if let Some(line) = self.line_of(key) {
            let rank = self.rank_of(key.job);
            self.lines.entry(line).or_default().fresh.insert((rank, key.clone()));
        }
    }

    /// A task is tried again at this time. `passing`: nobody has to do anything about it.
    pub fn hold(&mut self, key: &TaskKey, until: Tick, passing: bool) {
        self.forget(key);
        let Some(line) = self.line_of(key) else { return };
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
        if let Some(line) = self.running.remove(key).and_then(|l| self.lines.get_mut(&l)) {
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
        if let Some(line) = self.line_of(key).and_then(|l| self.lines.get_mut(&l)) {
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
            Line::Look | Line::LookWhole => queue.running < self.slots.look,
            Line::Light => queue.running < self.slots.light,
            Line::Make => queue.running < self.slots.make,
            Line::Hear => queue.running < self.slots.hear,
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
        self.next_of(now, |_, _| true)
    }

    /// The same among some tasks only; it is asked with what is known of the job's work.
    pub fn next_of(&mut self, now: Tick, may: impl Fn(&TaskKey, Weight) -> bool) -> Option<TaskKey> {
        let may = |k: &TaskKey| may(k, self.weight(k.job));
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
        if let Some(line) = self.line_of(&key) {
            self.lines.entry(line.clone()).or_default().running += 1;
            self.running.insert(key.clone(), line);
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

    /// Tasks that run which make or hear.
    pub fn making(&self) -> usize {
        self.running_in(|l| matches!(l, Line::Light | Line::Make | Line::Hear))
    }

    /// Whether a task of this job runs.
    pub fn is_running(&self, job: crate::store::JobId) -> bool {
        self.running.keys().any(|k| k.job == job)
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

    const SLOTS: Slots = Slots { look: 1, make: 1, light: 2, hear: 1, carry: 3, carry_each: 2, moving: 1 };

    const LIGHT: Weight = Weight { look_whole: false, light: true, at_once: false };

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
    fn what_is_little_does_not_wait_behind_a_film() {
        let mut t = Schedule::new(SLOTS);
        for job in 1..=6 {
            t.enter(job, "in", 0);
            t.add(&key(job, "make"));
            t.add(&key(job, "hear"));
        }
        // Where it waits already, it goes over.
        (4..=6).for_each(|job| t.weigh(job, LIGHT));
        assert_eq!(begun(&mut t, 0), ["4:make", "5:make", "1:make", "1:hear"]);
        assert_eq!(t.making(), 4);
        // A job is weighed once more while it is worked on: what it has is given back all the same.
        t.weigh(4, Weight::default());
        t.ended(&key(4, "make"));
        assert_eq!(begun(&mut t, 0), ["6:make"]);
        t.ended(&key(1, "make"));
        t.set_slots(Slots { make: 2, ..SLOTS });
        assert_eq!(begun(&mut t, 0), ["2:make", "3:make"]);
        t.leave(5);
        t.ended(&key(5, "make"));
        assert_eq!(t.running(), 4);
    }

    #[test]
    fn a_still_is_looked_at_when_it_is_its_turn_to_be_made() {
        let mut t = Schedule::new(SLOTS);
        let still = Weight { at_once: true, ..Weight::default() };
        for job in 1..=5 {
            t.enter(job, "in", 0);
            t.weigh(job, if job == 5 { Weight::default() } else { still });
            t.add(&key(job, "look"));
        }
        // A film behind them is looked at beside them.
        assert_eq!(begun(&mut t, 0), ["5:look", "1:look", "2:look"]);
        for job in [1, 2] {
            t.ended(&key(job, "look"));
            t.weigh(job, Weight { light: true, ..still });
            t.renew(job, &[key(job, "make")]);
        }
        assert_eq!(begun(&mut t, 0), ["1:make", "2:make"], "the child that looked at it goes on");
        t.ended(&key(1, "make"));
        // It was called a still, and is a film.
        t.weigh(2, still);
        t.ended(&key(2, "make"));
        t.renew(2, &[key(2, "make")]);
        assert_eq!(begun(&mut t, 0), ["3:look", "4:look", "2:make"]);
    }

    #[test]
    fn what_is_decoded_whole_first_keeps_no_other_from_being_looked_at() {
        let mut t = Schedule::new(SLOTS);
        for job in 1..=4 {
            t.weigh(job, Weight { look_whole: job < 3, ..Weight::default() });
            t.add(&key(job, "look"));
        }
        assert_eq!(begun(&mut t, 0), ["3:look", "1:look"]);
        t.ended(&key(1, "look"));
        t.hold(&key(1, "look"), s(30), true);
        t.weigh(1, Weight::default());
        assert_eq!(begun(&mut t, 0), ["2:look"]);
        t.ended(&key(3, "look"));
        assert_eq!(begun(&mut t, 40), ["4:look"]);
        t.ended(&key(4, "look"));
        assert_eq!(begun(&mut t, 40), ["1:look"], "what was held is held in its new line");
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
        assert_eq!(begun(&mut t, 9), ["1:cloud", "2:make", "1:hear"]);
        t.ended(&key(1, "hear"));
        assert_eq!(begun(&mut t, 9), [""; 0]);
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
