//! What happens to originals: moved, removed, turned away. Where one goes is recorded before it goes.

use super::Porter;
use crate::clock;
use crate::config::{Original, Watch};
use crate::deliver::copy::{move_if_free, sync_folder_of};
use crate::error::{Error, Result};
use crate::store::{Job, State};
use crate::watch::folder;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

/// Longest file name of common file systems, in bytes.
const MAX_NAME: usize = 255;
/// What a reason's file is called behind the original's name.
const REASON_ENDING: &str = ".why.txt";

/// Whether the file is still the one that arrived.
pub enum Source {
    Same,
    Changed,
    Gone,
}

pub fn source(watch: &Watch, job: &Job) -> Result<Source> {
    let path = watch.folder.join(&job.path);
    match path.symlink_metadata() {
        Ok(meta) => {
            let seen = folder::seen(&meta);
            let same = seen.size == job.size && seen.modified == job.modified && seen.inode == job.inode;
            Ok(if same { Source::Same } else { Source::Changed })
        }
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            // A share that went away takes its files along: that is no reason to give the job up.
            std::fs::read_dir(&watch.folder)
                .map_err(Error::path("cannot read the watch folder", &watch.folder))?;
            Ok(Source::Gone)
        }
        Err(e) => Err(Error::path("cannot look at", &path)(e)),
    }
}

/// After every delivery: leaves, moves or removes the original.
pub fn clear(porter: &Porter, watch: &Watch, job: &Job) -> Result<()> {
    let path = watch.folder.join(&job.path);
    let done = |detail: Option<&str>| porter.store.set_state(job.id, &State::Done, "done", detail);
    let state = source(watch, job)?;
    match (watch.original, state) {
        (Original::Leave, _) => done(None),
        (_, Source::Changed) => done(Some("the original changed after it was read and was left where it is")),
        (_, Source::Gone) => done(None),
        (Original::Remove, Source::Same) => {
            porter.store.set_original_to(job.id, None)?;
            std::fs::remove_file(&path).map_err(Error::path("cannot remove", &path))?;
            sync_folder_of(&path);
            done(Some("original removed"))
        }
        (Original::Move, Source::Same) => {
            let Some(to) = &watch.done else { return done(None) };
            let target = move_original(porter, job, &path, to, |_| true)?;
            done(Some(&format!("original at {}", target.display())))
        }
    }
}

/// Moves the original to the turned-away folder, with the reason beside it.
pub fn turn_away(porter: &Porter, watch: &Watch, job: &Job) -> Result<()> {
    let path = watch.folder.join(&job.path);
    let moved_before = job.original_to.as_ref().filter(|t| t.exists() && !path.exists());
    let target = match moved_before {
        Some(target) => target.clone(),
        None => match source(watch, job)? {
            Source::Same => {
                move_original(porter, job, &path, &watch.turned_away, |t| !reason_path(t).exists())?
            }
            Source::Changed => {
                return porter.store.withdraw(job.id, "the file changed before it could be turned away");
            }
            Source::Gone => {
                return porter.store.withdraw(job.id, "the file was gone before it could be turned away");
            }
        },
    };
    let beside = reason_path(&target);
    std::fs::write(&beside, reason_text(porter, watch, job)).map_err(Error::path("cannot write", &beside))?;
    sync_folder_of(&beside);
    porter.store.set_state(job.id, &State::TurnedAway, "turned away", Some(&target.display().to_string()))
}

/// Moves to the first free name under `folder`, keeping the path inside the watch.
fn move_original(
    porter: &Porter,
    job: &Job,
    from: &Path,
    folder: &Path,
    free: impl Fn(&Path) -> bool,
) -> Result<PathBuf> {
    let wanted = folder.join(&job.path);
    if let Some(parent) = wanted.parent() {
        std::fs::create_dir_all(parent).map_err(Error::path("cannot make the folder", parent))?;
    }
    for n in 1.. {
        let target = numbered_file(&wanted, n);
        if target.symlink_metadata().is_ok() || !free(&target) {
            continue;
        }
        porter.store.set_original_to(job.id, Some(&target))?;
        if move_if_free(from, &target, &format!("job-{}", job.id))? {
            sync_folder_of(from);
            return Ok(target);
        }
    }
    unreachable!("numbers do not end")
}

/// `clip_2.mp4`, for any bytes a name may have, kept within [`MAX_NAME`].
fn numbered_file(path: &Path, n: u32) -> PathBuf {
    let mark = if n < 2 { String::new() } else { format!("_{n}") };
    let (stem, ext) = (path.file_stem().unwrap_or_default(), path.extension());
    let mut tail = OsString::from(mark);
    if let Some(ext) = ext {
        tail.push(".");
        tail.push(ext);
    }
    path.with_file_name(shortened(stem, &tail))
}

fn reason_path(path: &Path) -> PathBuf {
    path.with_file_name(shortened(path.file_name().unwrap_or_default(), OsStr::new(REASON_ENDING)))
}

fn shortened(stem: &OsStr, tail: &OsStr) -> OsString {
    let mut end = stem.len().min(MAX_NAME.saturating_sub(tail.len()));
    let bytes = stem.as_bytes();
    // Not in the middle of a UTF-8 character.
    while end > 0 && end < bytes.len() && bytes[end] & 0xc0 == 0x80 {
        end -= 1;
    }
    let mut out = OsString::from_vec(bytes[..end].to_vec());
    out.push(tail);
    out
}

/// When, what was found, what was expected, and with which settings.
fn reason_text(porter: &Porter, watch: &Watch, job: &Job) -> String {
    let house = &porter.house;
    let mut text = format!("{}\n\n", job.reason.as_deref().unwrap_or("turned away"));
    let mut line = |name: &str, value: String| text.push_str(&format!("{name:<10} {value}\n"));
    line("file:", super::show_path(&job.path));
    line("found:", format!("{} bytes, arrived {}", job.size, clock::local(job.arrived)));
    let formats: Vec<&str> = media::container::FORMATS
        .iter()
        .map(|f| f.name)
        .chain(media::still::FORMATS.iter().map(|f| f.name))
        .collect();
    line(
        "expected:",
        format!("a whole file ({}) that a rule holds for and this program can decode", formats.join(", ")),
    );
    line("settings:", format!("{}, job {}", house.file.display(), job.id));
    line("", format!("watch \"{}\" on {}", watch.name, watch.folder.display()));
    line("", format!("steady {:?}, second look after {:?}", watch.steady, watch.second_look));
    for rule in house.rules.iter().filter(|r| r.watches.iter().any(|w| house.watches[*w].name == watch.name))
    {
        let makes: Vec<String> = rule
            .make
            .iter()
            .map(|m| {
                format!("{} (version {})", house.presets[m.preset].name, house.presets[m.preset].version)
            })
            .collect();
        line("", format!("rule \"{}\": {} makes {}", rule.name, rule.when.text(), makes.join(", ")));
    }
    text.push_str("\nWhat happened\n");
    for e in porter.store.events(job.id).unwrap_or_default() {
        let detail = e.detail.map_or(String::new(), |d| format!(": {d}"));
        text.push_str(&format!("  {}  {}{}\n", clock::local(e.at), e.what, detail));
    }
    text.push_str("\nTo try again, move the file back into the watch folder.\n");
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_and_odd_names_stay_within_what_a_disk_takes() {
        let name = "鷺".repeat(85); // 255 bytes
        let p = PathBuf::from(format!("/x/{name}"));
        for q in [numbered_file(&p, 12), reason_path(&p)] {
            let n = q.file_name().unwrap();
            assert!(n.len() <= MAX_NAME && n.to_str().is_some());
        }
        assert_eq!(numbered_file(Path::new("/x/a.tar.gz"), 2), Path::new("/x/a.tar_2.gz"));
        assert_eq!(numbered_file(Path::new("/x/-rf"), 1), Path::new("/x/-rf"));
        assert_eq!(reason_path(Path::new("/x/a.mp4")), Path::new("/x/a.mp4.why.txt"));
    }
}
