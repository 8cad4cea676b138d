//! Moves the original to the turned-away folder, with the reason beside it. Where originals are to be left, only the
//! reason goes there.

use super::clear::named;
use super::original::{self, Original as Moved, Source};
use super::reason::{reason_name, reason_text};
use super::{Desk, Next};
use crate::config::Original;
use crate::error::{Error, Result};
use crate::files::Dir;
use crate::files::known::Role;
use crate::store::Change;
use std::ffi::OsStr;
use std::io::{ErrorKind, Write};
use std::path::Path;

pub fn turn_away(d: &Desk<'_>) -> Result<Next> {
    let folder = d
        .porter
        .folders
        .open(&d.porter.store, Role::TurnedAway, &d.watch.name, &d.watch.turned_away, true)
        .map_err(|e| named(e, "folder for turned-away files"))?;
    let at = if d.watch.original == Original::Leave {
        match original::source(d)? {
            Source::Same(found) => found.path(),
            Source::Changed => return d.withdraw("the file changed before it could be turned away"),
            Source::Gone => return d.withdraw("the file was gone before it could be turned away"),
        }
    } else {
        match d
            .move_original(&folder, &d.job.path, |dir, name| Ok(dir.look(&reason_name(name))?.is_none()))?
        {
            Moved::At(path) => path,
            Moved::Changed => return d.withdraw("the file changed before it could be turned away"),
            Moved::Gone => return d.withdraw("the file was gone before it could be turned away"),
        }
    };
    let inside = if d.watch.original == Original::Leave {
        d.job.path.clone()
    } else {
        at.strip_prefix(folder.path()).unwrap_or(&at).to_owned()
    };
    write_reason(&folder, &inside, &reason_text(d))?;
    crate::stops::here("reason written");
    d.commit(Change::TurnedAway { job: d.job.id, at })?;
    Ok(Next::Moved)
}

/// Beside the original; after a kill it may be there already.
fn write_reason(folder: &Dir, inside: &Path, text: &str) -> Result<()> {
    let path = folder.path().join(inside);
    let fail = |e| Error::path("cannot write the reason for", &path)(e);
    let (dir, name) = folder.holder(inside, true).map_err(fail)?;
    for n in 1.. {
        let beside = reason_name(&super::original::numbered_file(name, n));
        match dir.create(&beside) {
            Ok(mut file) => {
                file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(fail)?;
                dir.sync();
                return Ok(());
            }
            Err(e) if e.kind() == ErrorKind::AlreadyExists && is_ours(&dir, &beside, text) => {
                dir.remove(&beside).map_err(fail)?;
                let mut file = dir.create(&beside).map_err(fail)?;
                file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(fail)?;
                return Ok(());
            }
            Err(e) if e.kind() == ErrorKind::AlreadyExists => (),
            Err(e) => return Err(fail(e)),
        }
    }
    unreachable!("numbers do not end")
}

/// A beginning of the same text, as a kill in the middle of writing leaves it.
fn is_ours(dir: &Dir, name: &OsStr, text: &str) -> bool {
    let mut held = String::new();
    dir.read(name).is_ok_and(|mut f| {
        std::io::Read::read_to_string(&mut f, &mut held).is_ok() && text.starts_with(held.as_str())
    })
}
