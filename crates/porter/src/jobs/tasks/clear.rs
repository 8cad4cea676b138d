//! After every delivery: leaves, moves or removes the original.

use super::original::{self, Original as Moved, Source};
use super::{Desk, Next, Worker};
use crate::config::Original;
use crate::error::{Error, Result};
use crate::progress::{Progress, Stage};
use crate::route::Item;
use crate::route::fields::Subject;
use crate::store::Change;
use media::facts::Facts;
use media::show;
use std::path::PathBuf;

const CHANGED: &str = "the original changed after it was read and was left where it is";

const STAYS: &str = "what changed or came meanwhile stays, and arrives anew";

pub fn clear(d: &Desk<'_>) -> Result<Next> {
    match original::touched(d)? {
        Some(job) => clear_known(&Desk { job: &job, ..*d }),
        None => clear_known(d),
    }
}

fn clear_known(d: &Desk<'_>) -> Result<Next> {
    match d.watch.original {
        Original::Leave => leave(d),
        Original::Remove => remove(d),
        Original::Move => {
            if let Some(to) = &d.job.taken_to {
                return done(d, Some(&format!("original at {}", show::path(to))));
            }
            if d.watch.done.is_none() {
                return done(d, None);
            }
            let (folder, wanted) = (d.done_folder()?, d.done_path()?);
            let moved = match d.move_original(&folder, &wanted, |_, _| Ok(true))? {
                Moved::Changed => d.move_what_went(&folder, &wanted)?,
                moved => moved,
            };
            match moved {
                Moved::At(to) => {
                    let left = if d.some_is_left()? { format!("; {STAYS}") } else { String::new() };
                    d.remove_empty_folders();
                    done(d, Some(&format!("original at {}{left}", show::path(to))))
                }
                Moved::Changed => done(d, Some(CHANGED)),
                Moved::Gone => done(d, Some(original::GONE)),
            }
        }
    }
}

pub fn named(e: Error, what: &str) -> Error {
    match e {
        Error::Away(why) => Error::Away(format!("{what}: {why}")),
        e => e,
    }
}

impl Desk<'_> {
    /// Where the original goes in the folder for done ones.
    fn done_path(&self) -> Result<PathBuf> {
        let job = self.job;
        let facts = match &self.watch.done_name {
            Some(_) => self.porter.store.read(|v| v.facts(job.id))?,
            None => None,
        };
        let Some(facts) = facts.and_then(|f| serde_json::from_value(f).ok()) else {
            return Ok(job.path.clone());
        };
        let (path, said) = (job.known_as(), self.said()?);
        let item = Item {
            many: job.many.as_ref(),
            beside: &job.beside,
            counts: job.counts.as_ref(),
            said: Some(&said),
            name_parts: self.house.name_parts.as_ref(),
            ..Item::new(&job.watch, &path, job.arrived, job.id)
        };
        Ok(self.named_done(&item, &facts))
    }

    /// The same of an arrival that is just looked at.
    pub fn named_done(&self, item: &Item<'_>, facts: &Facts) -> PathBuf {
        let Some(name) = &self.watch.done_name else { return self.job.path.clone() };
        let own = item.path.extension().filter(|_| item.many.is_none());
        let own = own.map_or(String::new(), |e| crate::naming::ending(&e.to_string_lossy()));
        let subject = Subject { facts, item, preset: "", rule: "" };
        PathBuf::from(crate::naming::candidate(&name.fill(&subject, &own), 1))
    }
}

fn done(d: &Desk<'_>, note: Option<&str>) -> Result<Next> {
    d.commit(Change::Done { job: d.job.id, note: note.map(String::from), content: None })?;
    Ok(Next::Moved)
}

/// It is known again by its content, should its attributes change.
fn leave(d: &Desk<'_>) -> Result<Next> {
    let content = match original::source(d)? {
        Source::Same(found) => {
            d.worker.tell(Progress {
                stage: Stage::Looking,
                of: Some(d.job.seen.size),
                ..Progress::default()
            });
            Some(found.digest(d.worker as &Worker)?)
        }
        Source::Changed => return done(d, Some(CHANGED)),
        Source::Gone => return done(d, Some(original::GONE)),
    };
    d.commit(Change::Done { job: d.job.id, note: None, content })?;
    Ok(Next::Moved)
}

fn remove(d: &Desk<'_>) -> Result<Next> {
    // It is removed because it is elsewhere: what did not go everywhere stays.
    let left_out =
        d.porter.store.read(|v| v.deliveries(d.job.id))?.into_iter().find(|x| x.left_out.is_some());
    if let Some(x) = left_out {
        let why = x.left_out.unwrap_or_default();
        let note = format!("original left where it is: not everything went to {} ({why})", x.place);
        return done(d, Some(&note));
    }
    match original::source(d)? {
        Source::Same(found) => {
            d.commit(Change::RemovingOriginal { job: d.job.id })?;
            crate::stops::here("about to remove the original");
            // Once more, as late as can be.
            if !matches!(original::source(d)?, Source::Same(_)) {
                return remove_what_went(d);
            }
            d.remove_beside()?;
            found.remove().map_err(Error::path("cannot remove", &found.path()))?;
            d.remove_empty_folders();
            done(d, Some("original removed"))
        }
        Source::Changed => remove_what_went(d),
        Source::Gone => done(d, Some(original::GONE)),
    }
}

fn remove_what_went(d: &Desk<'_>) -> Result<Next> {
    let Some(count) = d.remove_what_went()? else { return done(d, Some(CHANGED)) };
    d.remove_empty_folders();
    done(d, Some(&format!("files of the original that went on, removed: {count}; {STAYS}")))
}
