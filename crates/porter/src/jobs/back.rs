//! Whether a file that is known has come back from where it went.

use crate::config::{Original, Watch};
use crate::store::{Job, Sql, State, View};

/// A file that looks as a job knew it, although that job's original went away: somebody put it back, and it is another arrival. Where a
/// file system keeps numbers it also keeps when a file was moved, and what is put back does not look the same; there it is a look
/// from before it went.
pub fn has_come_back(view: &View<'_>, watch: &Watch, known: &Job) -> Sql<bool> {
    if known.seen.inode != 0 {
        return Ok(false);
    }
    let went = |to: &Option<std::path::PathBuf>| to.as_ref().is_some_and(|to| !to.starts_with(&watch.folder));
    Ok(match known.state {
        State::TurnedAway => went(&known.original_to),
        State::Done if went(&known.original_to) || went(&known.taken_to) => true,
        // It was removed, unless it did not go everywhere.
        State::Done if watch.original == Original::Remove => {
            view.deliveries(known.id)?.iter().all(|d| d.left_out.is_none())
        }
        _ => false,
    })
}
