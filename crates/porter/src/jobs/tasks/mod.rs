//! One task, from its beginning to where it can go no further now.

mod cancel;
mod carry;
mod clear;
mod hear;
pub mod look;
mod make;
mod many;
pub mod original;
mod pack;
pub mod reason;
mod turn_away;

use super::Porter;
use crate::config::{House, Watch};
use crate::control::{Rests, Seat};
use crate::error::{Error, Result};
use crate::files::known::Role;
use crate::files::{Dir, Watching};
use crate::progress::Progress;
use crate::store::{Cause, Change, Job, JobId, NotMade, Output, OutputEnd, Sql, Step, TaskKey, Tx};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// A child that broke is tried again this often, in all.
const MAX_TRIES: u32 = 2;
/// Longest wait after a try that took long.
const LONGEST_WAIT: Duration = Duration::from_secs(3600);

/// How a task stopped being worked on.
#[derive(Debug)]
pub enum How {
    /// Something of it is recorded: what is to be done now stands in the store.
    Moved,
    Held {
        wait: Duration,
        /// Nobody has to do anything about it.
        passing: bool,
        /// Nothing else need be carried to this place now, and why.
        rest: Option<(Rests, String)>,
    },
    Stopped,
    /// What happened could not be recorded.
    Unrecorded(Error),
}

/// What came of doing a task.
pub enum Next {
    Moved,
    Wait { cause: Cause, wait: Duration, rests: Option<Rests> },
}

impl Next {
    fn wait(cause: Cause, wait: Duration) -> Next {
        Next::Wait { cause, wait, rests: None }
    }
}

/// Whoever does a task: asked to stop, and telling how far it is.
pub struct Worker {
    porter: Arc<Porter>,
    seat: Seat,
    passed: AtomicU64,
    /// The job, for a task that ends when that is cancelled.
    job: Option<JobId>,
}

impl Worker {
    pub fn start(porter: &Arc<Porter>, key: &TaskKey) -> Worker {
        let job = (key.step != Step::Cancel).then_some(key.job);
        Worker { porter: porter.clone(), seat: porter.board.sit(key), passed: AtomicU64::new(0), job }
    }

    fn tell(&self, progress: Progress) {
        self.passed.store(progress.done, Ordering::Relaxed);
        self.seat.tell(progress);
    }
}

impl Watching for Worker {
    fn stopping(&self) -> bool {
        self.porter.stopping() || self.job.is_some_and(|job| self.porter.cancelled().contains(&job))
    }
    fn passed(&self, bytes: u64) {
        let done = self.passed.fetch_add(bytes, Ordering::Relaxed) + bytes;
        self.seat.tell_done(done);
    }
}

/// Does a task, and records where it stands.
pub fn run(porter: &Porter, key: &TaskKey, worker: &Worker) -> How {
    let start = Instant::now();
    let retry = porter.house().retry_after;
    let next = match work(porter, key, worker) {
        Ok(next) => next,
        Err(Error::Stopped) => return How::Stopped,
        Err(e) if e.is_of_store() => return How::Unrecorded(e),
        Err(e) => match e.cause() {
            Some(cause) => Next::wait(cause, wait_after(start.elapsed(), retry, key.job)),
            None => {
                let change = Change::TurningAway { job: key.job, reason: e.to_string() };
                match porter.store.commit([change]) {
                    Ok(_) => Next::Moved,
                    Err(e) => return How::Unrecorded(e),
                }
            }
        },
    };
    match next {
        Next::Moved => How::Moved,
        Next::Wait { cause, wait, rests } => {
            let passing = cause.passes();
            let rest = match &cause {
                Cause::Place { why, .. } | Cause::Hours { why, .. } => rests.map(|how| (how, why.clone())),
                _ => None,
            };
            match hold(porter, key, cause, wait) {
                Ok(()) => How::Held { wait, passing, rest },
                Err(e) => How::Unrecorded(e),
            }
        }
    }
}

/// Records what a task waits for, when that is new.
fn hold(porter: &Porter, key: &TaskKey, cause: Cause, wait: Duration) -> Result<()> {
    let known = porter.store.read(|v| v.task(key))?.is_some_and(|t| t.cause.as_ref() == Some(&cause));
    if !known {
        let next_try = Some(crate::clock::now() + wait.as_micros() as i64);
        porter.store.commit([Change::Held { task: key.clone(), cause, next_try }])?;
    }
    Ok(())
}

/// A try that took long is not made again at once: a service that is away for a night must not keep the machine, or
/// another service, busy with the same work all night.
///
/// Jobs that were held together do not all come back in one moment: each waits up to a tenth longer, by its number.
fn wait_after(took: Duration, usual: Duration, job: JobId) -> Duration {
    let wait = usual.max((took * 4).min(LONGEST_WAIT));
    // Neighbours are far apart (a multiplicative hash; Knuth, volume 3, 6.4).
    let share = (job as u32).wrapping_mul(2_654_435_769) >> 22;
    wait + wait * share / 10_240
}

fn work(porter: &Porter, key: &TaskKey, worker: &Worker) -> Result<Next> {
    let (job, task) = porter.store.read(|v| Ok((v.job(key.job)?, v.task(key)?)))?;
    let (Some(job), Some(task)) = (job, task) else { return Ok(Next::Moved) };
    if job.ended.is_some() {
        return Ok(Next::Moved);
    }
    // A task keeps the house that it began with.
    let house = porter.house();
    let watch = house.watch(&job.watch).ok_or_else(|| {
        Error::NotConfigured(format!("its watch \"{}\" is not in the configuration any more", job.watch))
    })?;
    let d = Desk { porter, house: &house, watch, job: &job, key, worker };
    match &key.step {
        Step::Look => look::look(&d, &task),
        Step::Make => make::make(&d, &task),
        Step::Hear => hear::hear(&d, &task),
        Step::Carry { output, place } => carry::carry(&d, *output, place),
        Step::Clear => clear::clear(&d),
        Step::TurnAway => turn_away::turn_away(&d),
        Step::Cancel => cancel::cancel(&d),
        Step::Unknown => Err(Error::Unreadable("this step is of a newer program".into())),
    }
}

/// What every step needs.
pub(super) struct Desk<'a> {
    porter: &'a Porter,
    house: &'a House,
    watch: &'a Watch,
    job: &'a Job,
    key: &'a TaskKey,
    worker: &'a Worker,
}

impl Desk<'_> {
    fn commit(&self, change: Change) -> Result<()> {
        self.porter.store.commit([change]).map(|_| ())
    }

    /// The watch folder, if it is there and is itself.
    fn watch_folder(&self) -> Result<Dir> {
        self.porter.open_watch(self.watch)
    }

    fn withdraw(&self, why: &str) -> Result<Next> {
        self.commit(Change::Withdrawn { job: self.job.id, reason: why.to_owned() })?;
        Ok(Next::Moved)
    }

    fn turn_away(&self, reason: &str) -> Result<Next> {
        self.commit(Change::TurningAway { job: self.job.id, reason: reason.to_owned() })?;
        Ok(Next::Moved)
    }

    /// A file that seems cut off may have a slow writer: it is given time before it is turned away.
    fn damaged(&self, before: Option<&Cause>, why: &str) -> Result<Next> {
        match before {
            Some(Cause::SecondLook { .. }) => self.turn_away(why),
            _ => Ok(Next::wait(Cause::SecondLook { why: why.to_owned() }, self.watch.second_look)),
        }
    }

    /// A child broke; gives how often it has in this task.
    fn broke(&self, why: &str) -> Result<u32> {
        self.commit(Change::Broke { task: self.key.clone(), why: why.to_owned() })?;
        Ok(self.porter.store.read(|v| v.task(self.key))?.map_or(0, |t| t.tries))
    }
}

impl Porter {
    pub fn open_watch(&self, watch: &Watch) -> Result<Dir> {
        self.folders.open(&self.store, Role::Watch, &watch.name, &watch.folder, false).map_err(|e| match e {
            Error::Away(why) => Error::WatchAway { name: watch.name.clone(), why },
            e => e,
        })
    }
}

/// When nothing of a job is open any more: where it goes from here. Outputs that were made are delivered by now.
pub(in crate::jobs) fn go_on(tx: &mut Tx<'_>, job: JobId) -> Sql<()> {
    let ended = tx.job(job)?.is_none_or(|j| j.ended.is_some());
    if ended || !tx.tasks_of(job)?.is_empty() {
        return Ok(());
    }
    let outputs = tx.outputs(job)?;
    let refused = tx.deliveries(job)?.into_iter().filter(|d| d.failed).map(|d| {
        let why = d.left_out.unwrap_or_default();
        format!("place \"{}\": {why}, and the rule says not to deliver then (if_taken = \"refuse\")", d.place)
    });
    let refused = refused.collect::<Vec<_>>().join("; ");
    let next = match why_not_all(&outputs).or(Some(refused).filter(|r| !r.is_empty())) {
        Some(reason) => Change::TurningAway { job, reason },
        None => Change::AllDelivered { job },
    };
    tx.put(next)
}

/// Why the original must not count as done: something failed, or nothing could be made of it.
fn why_not_all(outputs: &[Output]) -> Option<String> {
    let ends = |wanted: NotMade| {
        outputs.iter().filter_map(move |o| match &o.end {
            OutputEnd::NotMade { end, why } if *end == wanted => Some((o.preset.as_str(), why.as_str())),
            _ => None,
        })
    };
    let made = outputs.iter().filter(|o| matches!(o.end, OutputEnd::Made { .. })).count();
    let mut failed: Vec<(&str, &str)> = ends(NotMade::Failed).collect();
    if failed.is_empty() && made == 0 {
        failed = ends(NotMade::NotApplicable).collect();
    }
    // Forms of one preset have the same reason.
    failed.dedup();
    match failed.as_slice() {
        [] => None,
        all if made == 0 && all.iter().all(|(_, why)| *why == all[0].1) => Some(all[0].1.to_owned()),
        all => {
            let each: Vec<String> = all.iter().map(|(preset, why)| format!("\"{preset}\": {why}")).collect();
            let rest = if made > 0 {
                format!(" ({made} other outputs were made and delivered)")
            } else {
                String::new()
            };
            Some(format!("{}{rest}", each.join("; ")))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, 10, 10)]
    #[case(2, 10, 10)]
    #[case(60, 10, 240)]
    #[case(7200, 10, 3600)]
    #[case(7200, 7200, 7200)]
    fn tries_that_take_long_are_further_apart(#[case] took: u64, #[case] usual: u64, #[case] want: u64) {
        let seconds = Duration::from_secs;
        assert_eq!(wait_after(seconds(took), seconds(usual), 0), seconds(want));
    }

    #[test]
    fn what_was_held_together_does_not_come_back_together() {
        let waits: Vec<u128> = (1..=100)
            .map(|job| wait_after(Duration::ZERO, Duration::from_secs(10), job).as_millis())
            .collect();
        assert!(waits.iter().all(|w| (10_000..11_000).contains(w)), "{waits:?}");
        let tenths: std::collections::BTreeSet<u128> = waits.iter().take(10).map(|w| w / 100).collect();
        assert!(tenths.len() >= 8, "the first ten: {waits:?}");
    }

    fn output(preset: &str, end: OutputEnd) -> Output {
        Output {
            number: 0,
            rule: "r".into(),
            preset: preset.into(),
            preset_version: "v".into(),
            recipe: Ok(Default::default()),
            heard: false,
            item: None,
            extension: "mp4".into(),
            end,
        }
    }

    #[test]
    fn what_was_made_does_not_hide_what_failed() {
        let made = || output("proxy", OutputEnd::Made { files: Vec::new(), made: Default::default() });
        let not = |preset, end, why: &str| output(preset, OutputEnd::NotMade { end, why: why.into() });
        let silent = || not("words", NotMade::NotApplicable, "no sound");
        let failed = || not("poster", NotMade::Failed, "limit");
        assert_eq!(why_not_all(&[made(), silent()]), None);
        assert_eq!(why_not_all(&[silent(), silent()]).unwrap(), "no sound");
        assert_eq!(why_not_all(&[failed(), silent()]).unwrap(), "limit");
        let both = why_not_all(&[made(), failed()]).unwrap();
        assert_eq!(both, "\"poster\": limit (1 other outputs were made and delivered)");
    }
}
