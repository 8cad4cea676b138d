//! What a person asks of jobs: each order is looked at, recorded, and told what came of it.

use super::Porter;
use super::schedule::{FIRST, MAX_PRIORITY};
use crate::config::Watch;
use crate::control::Order;
use crate::error::{Error, Result};
use crate::files::known::Role;
use crate::store::{Change, Job, JobId, State, Step};
use media::show;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

/// What an order did.
#[derive(Debug, Default)]
pub struct Done {
    /// For people, a line a job.
    pub said: Vec<String>,
    /// Something that was asked for was not done.
    pub refused: bool,
    /// Jobs that are being cancelled now,
    pub cancelled: Vec<JobId>,
    /// and those that begin once more.
    pub again: Vec<(JobId, String, PathBuf, i64)>,
    /// Jobs that wait from now on,
    pub held: Vec<JobId>,
    /// and those that go on.
    pub released: Vec<JobId>,
    /// Jobs with another priority.
    pub ranked: Vec<(JobId, i64)>,
}

impl Porter {
    /// Records an order. What follows from it is the caller's.
    pub fn order(&self, order: &Order) -> Result<Done> {
        let mut done = Done::default();
        match order {
            Order::Pause => self.pause(true, &mut done)?,
            Order::Resume => self.pause(false, &mut done)?,
            Order::Cancel { jobs } => self.each(jobs, &mut done, Self::cancel)?,
            Order::Again { jobs } => self.each(jobs, &mut done, Self::again)?,
            Order::Hold { jobs } => self.each(jobs, &mut done, |p, j, d| p.hold(j, true, d))?,
            Order::Release { jobs } => self.each(jobs, &mut done, |p, j, d| p.hold(j, false, d))?,
            Order::Rank { jobs, priority } => {
                let priority = (*priority).clamp(-MAX_PRIORITY, FIRST);
                self.each(jobs, &mut done, |p, j, d| p.rank(j, priority, d))?;
            }
            Order::SetItem { job, output, fields, by } => {
                let (job, output) = (*job, *output);
                let set = Change::ItemSet { job, output, fields: fields.clone(), by: by.clone() };
                let names = fields.keys().cloned().collect::<Vec<_>>().join(", ");
                self.review(job, output, set, &format!("{names} set"), &mut done)?;
            }
            Order::Review { job, output, yes, by, why } => {
                let (job, output, yes) = (*job, *output, *yes);
                let said = Change::Reviewed { job, output, yes, by: by.clone(), why: why.clone() };
                let words = if yes { "released" } else { "refused: it does not go anywhere" };
                self.review(job, output, said, words, &mut done)?;
            }
            Order::Drain => done
                .said
                .push("Nothing more is taken in; the porter ends when all that can be done is done.".into()),
        }
        Ok(done)
    }

    /// What a person says of an item.
    fn review(&self, id: JobId, output: u32, change: Change, words: &str, done: &mut Done) -> Result<()> {
        let is_no = matches!(change, Change::Reviewed { yes: false, .. });
        let (refused, _) = self.store.change(|tx| {
            let job = tx.job(id)?;
            let outputs = tx.outputs(id)?;
            let has_item = outputs.iter().any(|o| o.number == output && o.item.is_some());
            let deliveries = tx.deliveries(id)?;
            let begun = deliveries.iter().any(|d| d.output == output && d.ticket.is_some());
            let why = match job {
                None => Some("there is no such job".to_owned()),
                Some(_) if !has_item => Some("it has no such item".to_owned()),
                Some(j) if j.ended.is_some() => Some(format!("it ended already: {}", j.state.name())),
                Some(_) if begun && is_no => Some("it is on its way already: cancel the job".to_owned()),
                Some(_) if begun => Some("it is on its way already".to_owned()),
                Some(_) => None,
            };
            if why.is_none() {
                tx.put(change)?;
                if is_no {
                    super::tasks::go_on(tx, id)?;
                }
            }
            Ok(why)
        })?;
        done.refused |= refused.is_some();
        if refused.is_none() && self.store.read(|v| v.job(id))?.is_some_and(|j| !j.on_hold) {
            done.released.push(id);
        }
        done.said.push(format!("job {id}: {}", refused.as_deref().unwrap_or(words)));
        Ok(())
    }

    fn pause(&self, yes: bool, done: &mut Done) -> Result<()> {
        let was = self.store.read(|v| v.is_paused())?;
        if was != yes {
            self.store.commit([Change::Paused { yes }])?;
        }
        done.said.push(match (was, yes) {
            (false, true) => "Paused: nothing more is begun; what is under way goes on to its end.".into(),
            (true, false) => "Going on.".into(),
            (true, true) => "It is paused already.".into(),
            (false, false) => "It is not paused.".into(),
        });
        Ok(())
    }

    fn each(
        &self,
        jobs: &[JobId],
        done: &mut Done,
        what: impl Fn(&Self, &Job, &mut Done) -> Result<std::result::Result<String, String>>,
    ) -> Result<()> {
        for &id in jobs {
            let said = match self.store.read(|v| v.job(id))? {
                None => Err("there is no such job".to_owned()),
                Some(job) => what(self, &job, done)?,
            };
            let (Ok(words) | Err(words)) = &said;
            done.said.push(format!("job {id}: {words}"));
            done.refused |= said.is_err();
        }
        Ok(())
    }

    fn cancel(&self, job: &Job, done: &mut Done) -> Result<std::result::Result<String, String>> {
        if job.ended.is_some() {
            return Ok(Err(format!("it ended already: {}", job.state.name())));
        }
        if matches!(job.state, State::Clearing | State::TurningAway) {
            return Ok(Err(
                "everything is delivered or given up, and its original is being moved: too late".into()
            ));
        }
        let tasks = self.store.read(|v| v.tasks_of(job.id))?;
        if tasks.iter().any(|t| t.key.step == Step::Cancel) {
            return Ok(Ok("is being cancelled".into()));
        }
        // It ends what works on it from here on; what that still records does no harm.
        self.cancelled().insert(job.id);
        if let Err(e) = self.store.commit([Change::Cancelling { job: job.id }]) {
            self.cancelled().remove(&job.id);
            return Err(e);
        }
        done.cancelled.push(job.id);
        Ok(Ok("is being cancelled; the original stays where it is".into()))
    }

    fn hold(&self, job: &Job, yes: bool, done: &mut Done) -> Result<std::result::Result<String, String>> {
        if job.ended.is_some() {
            return Ok(Err(format!("it ended already: {}", job.state.name())));
        }
        if job.on_hold == yes {
            return Ok(Ok(if yes { "is on hold already" } else { "is not on hold" }.into()));
        }
        self.store.commit([Change::OnHold { job: job.id, yes }])?;
        Ok(Ok(if yes {
            done.held.push(job.id);
            "is on hold: what is under way goes on to its end, and nothing more of it is begun".into()
        } else {
            done.released.push(job.id);
            "goes on".into()
        }))
    }

    fn rank(&self, job: &Job, priority: i64, done: &mut Done) -> Result<std::result::Result<String, String>> {
        if job.ended.is_some() {
            return Ok(Err(format!("it ended already: {}", job.state.name())));
        }
        self.store.commit([Change::Ranked { job: job.id, priority }])?;
        done.ranked.push((job.id, priority));
        Ok(Ok(match priority {
            FIRST => "goes before all others".into(),
            n => format!("has priority {n}"),
        }))
    }

    fn again(&self, job: &Job, done: &mut Done) -> Result<std::result::Result<String, String>> {
        let here = show::path(&job.path);
        let house = self.house();
        let Some(watch) = house.watch(&job.watch) else {
            return Ok(Err(format!("its watch \"{}\" is not in the configuration any more", job.watch)));
        };
        match (&job.state, &job.original_to) {
            _ if job.ended.is_none() => return Ok(Err(format!("it has not ended: {}", job.state.name()))),
            (State::Withdrawn, _) => {
                return Ok(Err(
                    "its file changed or went away; what is there now has a job of its own".into()
                ));
            }
            (State::TurnedAway, Some(at)) => {
                if let Ok(inside) = at.strip_prefix(&watch.turned_away) {
                    return Ok(self
                        .put_back(job, watch, inside)?
                        .map(|()| format!("{here} is put back into the watch folder, and arrives anew")));
                }
            }
            (State::Done, Some(at)) => {
                return Ok(Err(format!(
                    "its original is at {}; put it back into the watch folder, and it arrives anew",
                    show::path(at)
                )));
            }
            _ => (),
        }
        // The original was left where it is.
        let (folder, inside) = match (&job.taken_to, &watch.done) {
            (Some(to), Some(done)) if to.starts_with(done) => {
                let folder = self.folders.open(&self.store, Role::Done, &watch.name, done, true)?;
                (folder, to.strip_prefix(done).unwrap_or(to).to_owned())
            }
            _ => (self.open_watch(watch)?, job.path.clone()),
        };
        let there = match folder.holder(&inside, false) {
            Ok((dir, name)) => match &job.many {
                Some(many) => many.look(&dir, name),
                None => dir.look(name).map(|e| e.map(|e| e.seen)),
            }
            .map_err(Error::path("cannot look at", &folder.path().join(&job.path)))?,
            Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => None,
            Err(e) => return Err(Error::path("cannot look at", &folder.path().join(&job.path))(e)),
        };
        match there {
            Some(seen) if seen == job.seen => (),
            Some(_) => return Ok(Err(format!("{here} is not what it was: what is there now arrives anew"))),
            None => return Ok(Err(format!("{here} is not in the watch folder any more"))),
        }
        self.cancelled().remove(&job.id);
        self.store.commit([Change::Again { job: job.id }])?;
        done.again.push((job.id, job.watch.clone(), job.path.clone(), job.priority));
        Ok(Ok("is done once more; outputs get names that are free".into()))
    }

    /// Moves what was turned away back to where it came from, over nothing.
    fn put_back(&self, job: &Job, watch: &Watch, inside: &Path) -> Result<std::result::Result<(), String>> {
        if let Some(many) = &job.many {
            let at = show::path(watch.turned_away.join(inside));
            let files = many.run().map_or_else(|| show::path(&job.path), |f| f.pattern());
            return Ok(Err(format!(
                "move {files} back from {at} into the watch folder, and it arrives anew"
            )));
        }
        let away = self.folders.open(&self.store, Role::TurnedAway, &watch.name, &watch.turned_away, true)?;
        let back = self.open_watch(watch)?;
        let fail = |e| Error::path("cannot put back", &away.path().join(inside))(e);
        let (from, name) = match away.holder(inside, false) {
            Ok(found) => found,
            Err(e) if e.kind() == ErrorKind::NotFound => return Ok(Err(gone(&away.path().join(inside)))),
            Err(e) => return Err(fail(e)),
        };
        match from.look(name).map_err(fail)? {
            Some(e) if e.is_file() && e.seen.size == job.seen.size => (),
            Some(_) => {
                return Ok(Err(format!(
                    "{} is not what was turned away",
                    show::path(away.path().join(inside))
                )));
            }
            None => return Ok(Err(gone(&away.path().join(inside)))),
        }
        let (to, wanted) = back.holder(&job.path, true).map_err(fail)?;
        let taken = || format!("{} is taken by another file", show::path(back.path().join(&job.path)));
        match from.rename_if_free(name, &to, wanted) {
            Ok(true) => Ok(Ok(())),
            Ok(false) => Ok(Err(taken())),
            Err(e) if e.kind() == ErrorKind::CrossesDevices => Ok(Err(format!(
                "{} lies on another disk than its watch folder: move it back by hand",
                show::path(away.path().join(inside))
            ))),
            Err(e) => Err(fail(e)),
        }
    }
}

fn gone(path: &Path) -> String {
    format!("{} is not there any more", show::path(path))
}
