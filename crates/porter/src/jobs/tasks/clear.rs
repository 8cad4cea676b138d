//! After every delivery: leaves, moves or removes the original.

use super::original::{self, Original as Moved, Source};
use super::{Desk, Next, Worker};
use crate::config::Original;
use crate::error::{Error, Result};
use crate::files::known::Role;
use crate::progress::{Progress, Stage};
use crate::store::Change;
use media::show;

const CHANGED: &str = "the original changed after it was read and was left where it is";

pub fn clear(d: &Desk<'_>) -> Result<Next> {
    match d.watch.original {
        Original::Leave => leave(d),
        Original::Remove => remove(d),
        Original::Move => {
            let Some(to) = &d.watch.done else { return done(d, None) };
            let folder = d.porter.folders.open(&d.porter.store, Role::Done, &d.watch.name, to, true);
            match d
                .move_original(&folder.map_err(|e| named(e, "folder for done originals"))?, |_, _| Ok(true))?
            {
                Moved::At(to) => {
                    d.remove_empty_folders();
                    done(d, Some(&format!("original at {}", show::path(to))))
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
                return done(d, Some(CHANGED));
            }
            d.remove_beside()?;
            found.remove().map_err(Error::path("cannot remove", &found.path()))?;
            d.remove_empty_folders();
            done(d, Some("original removed"))
        }
        Source::Changed => done(d, Some(CHANGED)),
        Source::Gone => done(d, Some(original::GONE)),
    }
}
