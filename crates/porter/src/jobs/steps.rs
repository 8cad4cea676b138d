//! The steps of one job.

use super::Porter;
use super::original::{self, Source};
use crate::clock::{self, Micros};
use crate::config::{Preset, Watch};
use crate::deliver::{FolderPlace, Place, Published};
use crate::error::{Error, Result};
use crate::maker::{self, Order, OrderedOutput, Outcome, Progress};
use crate::naming::{self, Values};
use crate::route::Origin;
use crate::store::{Delivery, Going, Job, Output, State};
use media::facts::{self, Facts};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// A making that broke is tried this often.
const MAX_TRIES: u32 = 2;
/// Longest wait after a try that took long.
const LONGEST_WAIT: Duration = Duration::from_secs(3600);
/// How far making is, is written down at most this often.
const GOING_EVERY: Micros = 500_000;
const SECOND_LOOK: &str = "looked at again before it is turned away: ";

/// True for the reason of a job that only waits for its second look.
pub fn is_second_look(held: &str) -> bool {
    held.starts_with(SECOND_LOOK)
}

/// Takes a job as far as it goes now: to its end, or until something has to be mended.
pub fn work(porter: &Porter, mut job: Job) -> Result<()> {
    loop {
        if porter.stopping() {
            return Ok(());
        }
        let Some(watch) = porter.house.watch(&job.watch) else {
            let why = format!("its watch \"{}\" is not in the configuration any more", job.watch);
            return hold(porter, &job, &why);
        };
        let result = match &job.state {
            State::Waiting => look(porter, watch, &job),
            State::Making => make(porter, watch, &job),
            State::Carrying => carry(porter, watch, &job),
            State::Clearing => original::clear(porter, watch, &job),
            State::TurningAway => original::turn_away(porter, watch, &job),
            _ => return Ok(()),
        };
        match result {
            Ok(()) => (),
            Err(Error::Stopped) => return Ok(()),
            // The store itself: nothing may be done that is not recorded. The dispatcher tries again.
            Err(e @ Error::Store { .. }) => return Err(e),
            Err(e) if e.may_pass() => hold(porter, &job, &e.to_string())?,
            Err(e) => porter.store.turn_away(job.id, &e.to_string())?,
        }
        let Some(now) = porter.store.job(job.id)? else { return Ok(()) };
        if now.state.has_ended() {
            let _ = std::fs::remove_dir_all(porter.work_folder(job.id));
        }
        if now.state.has_ended() || now.held.is_some() {
            return Ok(());
        }
        job = now;
    }
}

fn hold(porter: &Porter, job: &Job, why: &str) -> Result<()> {
    hold_after(porter, job, why, Duration::ZERO)
}

/// Holds a job whose try took this long.
fn hold_after(porter: &Porter, job: &Job, why: &str, took: Duration) -> Result<()> {
    let wait = wait_after(took, porter.house.retry_after);
    porter.store.hold(job.id, why, clock::now() + wait.as_micros() as i64)
}

/// A try that took long is not made again at once: a service that is away for a night must not keep the machine, or
/// another service, busy with the same work all night.
fn wait_after(took: Duration, usual: Duration) -> Duration {
    usual.max((took * 4).min(LONGEST_WAIT))
}

/// The file must still be what arrived. False: the job is over, for what it is now arrives anew.
fn still_there(porter: &Porter, watch: &Watch, job: &Job) -> Result<bool> {
    let why = match original::source(watch, job)? {
        Source::Same => return Ok(true),
        Source::Changed => "the file changed while it was worked on; what it is now arrives anew",
        Source::Gone => "the file is gone from the watch folder",
    };
    porter.store.withdraw(job.id, why)?;
    Ok(false)
}

/// A file that seems cut off may have a slow writer: it is given time before it is turned away.
fn turn_away_damaged(porter: &Porter, watch: &Watch, job: &Job, why: &str) -> Result<()> {
    let until = job.arrived + watch.second_look.as_micros() as i64;
    if clock::now() < until {
        return porter.store.hold(job.id, &format!("{SECOND_LOOK}{why}"), until);
    }
    porter.store.turn_away(job.id, why)
}

/// What is it, and which rules hold?
fn look(porter: &Porter, watch: &Watch, job: &Job) -> Result<()> {
    porter.store.start(job.id)?;
    if !still_there(porter, watch, job)? {
        return Ok(());
    }
    let facts = match facts_of(&watch.folder.join(&job.path)) {
        Ok(facts) => facts,
        Err(Error::Media(e @ media::Error::Damaged(_))) => {
            return turn_away_damaged(porter, watch, job, &e.to_string());
        }
        Err(e) => return Err(e),
    };
    if let Some(damage) = &facts.damage {
        return turn_away_damaged(porter, watch, job, &format!("damaged: {damage}"));
    }
    let (outputs, deliveries, passed) = route(porter, watch, job, &facts);
    if outputs.is_empty() {
        return porter.store.turn_away(job.id, &no_rule(&facts, &passed));
    }
    porter.store.plan(job.id, &facts, &outputs, &deliveries)
}

/// Facts of a file. A reader that panics is a fault of ours, and no reason for the porter to end.
pub fn facts_of(path: &Path) -> Result<Facts> {
    let file = File::open(path).map_err(Error::path("cannot read", path))?;
    match std::panic::catch_unwind(|| facts::of(Box::new(file))) {
        Ok(facts) => Ok(facts?),
        Err(_) => Err(media::Error::unsupported(
            "",
            "reading it failed in a way that was not foreseen; please report it",
        )
        .into()),
    }
}

fn no_rule(facts: &Facts, passed: &[String]) -> String {
    let what = match facts.picture() {
        Some(v) => format!("{} {} {}x{}", facts.format, v.codec, v.width, v.height),
        None => facts.audio.first().map_or(facts.format.clone(), |a| format!("{} {}", facts.format, a.codec)),
    };
    if passed.is_empty() {
        return format!("no rule is for this watch folder (found {}: {what})", facts.kind);
    }
    format!("no rule holds for it (found {}: {what}); looked at {}", facts.kind, passed.join("; "))
}

/// Outputs and deliveries of every rule that holds, and what became of those that do not.
fn route(
    porter: &Porter,
    watch: &Watch,
    job: &Job,
    facts: &Facts,
) -> (Vec<Output>, Vec<Delivery>, Vec<String>) {
    let house = &porter.house;
    let origin = Origin { watch: &watch.name, path: &job.path };
    let (mut outputs, mut deliveries, mut passed) = (Vec::new(), Vec::new(), Vec::new());
    for rule in &house.rules {
        if !rule.watches.iter().any(|w| house.watches[*w].name == watch.name) {
            continue;
        }
        match rule.when.holds(facts, &origin) {
            Ok(true) => (),
            Ok(false) => {
                passed.push(format!("rule \"{}\", which wants {}", rule.name, rule.when.text()));
                continue;
            }
            Err(why) => {
                passed.push(format!("rule \"{}\", which could not be told: {why}", rule.name));
                continue;
            }
        }
        for make in &rule.make {
            let preset = &house.presets[make.preset];
            for part in &preset.parts {
                let number = outputs.len() as u32;
                let wanted = make.name.fill(&values(watch, job, facts, preset), &part.extension);
                outputs.push(Output {
                    number,
                    rule: rule.name.clone(),
                    preset: preset.name.clone(),
                    preset_version: preset.version.clone(),
                    recipe: part.recipe.clone(),
                    extension: part.extension.clone(),
                    digest: None,
                    bytes: None,
                    made: None,
                });
                deliveries.extend(make.to.iter().map(|p| Delivery {
                    output: number,
                    place: house.places[*p].name.clone(),
                    wanted: wanted.clone(),
                    name: None,
                    delivered: None,
                }));
            }
        }
    }
    (outputs, deliveries, passed)
}

fn values(watch: &Watch, job: &Job, facts: &Facts, preset: &Preset) -> Values {
    let text = |s: Option<&std::ffi::OsStr>| s.map_or(String::new(), |s| s.to_string_lossy().into_owned());
    let size = |n: Option<u32>| n.map_or(String::new(), |n| n.to_string());
    let picture = facts.picture();
    let timecode = facts.timecode.as_ref();
    Values::from([
        ("stem", text(job.path.file_stem())),
        ("ext", text(job.path.extension()).to_lowercase()),
        ("folder", job.path.parent().map_or(String::new(), |p| p.to_string_lossy().replace('/', "-"))),
        ("watch", watch.name.clone()),
        ("preset", preset.name.clone()),
        ("date", clock::local_date(job.arrived)),
        ("time", clock::local_time(job.arrived).replace(':', "")),
        ("job", job.id.to_string()),
        ("width", size(picture.map(|v| v.width))),
        ("height", size(picture.map(|v| v.height))),
        ("timecode", timecode.map_or(String::new(), |t| t.start.replace([':', ';'], "-"))),
        ("reel", timecode.and_then(|t| t.reel.clone()).unwrap_or_default()),
    ])
}

fn made_file(porter: &Porter, job: &Job, output: &Output) -> PathBuf {
    porter.work_folder(job.id).join(format!("output-{}.{}", output.number, output.extension))
}

/// All outputs, in one pass, in a child.
fn make(porter: &Porter, watch: &Watch, job: &Job) -> Result<()> {
    if !still_there(porter, watch, job)? {
        return Ok(());
    }
    let folder = porter.work_folder(job.id);
    let _ = std::fs::remove_dir_all(&folder);
    std::fs::create_dir_all(&folder).map_err(Error::path("cannot make the folder", &folder))?;
    let outputs = porter.store.outputs(job.id)?;
    let order = Order {
        source: watch.folder.join(&job.path),
        outputs: outputs
            .iter()
            .map(|o| OrderedOutput { path: made_file(porter, job, o), recipe: o.recipe.clone() })
            .collect(),
        memory: porter.house.maker.memory,
    };
    let since = clock::now();
    let mut written = 0;
    let progress = |p: Progress| {
        let now = clock::now();
        if now - written >= GOING_EVERY {
            written = now;
            // Only for showing: a store that is busy must not end the making.
            let _ = porter.store.set_going(job.id, &Going { at: now, since, done: p.done, total: p.total });
        }
    };
    let start = Instant::now();
    let outcome = maker::make(&porter.program, &order, &porter.house.maker, progress, || porter.stopping())?;
    match outcome {
        Outcome::Made(finished) if finished.len() == outputs.len() => {
            if still_there(porter, watch, job)? {
                porter.store.made(job.id, &finished)?;
            }
            Ok(())
        }
        Outcome::Made(_) => Err(Error::Maker("the child made another number of outputs than ordered".into())),
        Outcome::Failed { class, message } if class == "system" => {
            hold_after(porter, job, &message, start.elapsed())
        }
        Outcome::Failed { class, .. } if class == "stopped" => Err(Error::Stopped),
        Outcome::Failed { class, message } if class == "damaged" => {
            turn_away_damaged(porter, watch, job, &message)
        }
        Outcome::Failed { message, .. } => porter.store.turn_away(job.id, &message),
        Outcome::Broke(why) => {
            if porter.stopping() {
                return Err(Error::Stopped);
            }
            if porter.store.broke(job.id, &why)? >= MAX_TRIES {
                porter.store.turn_away(job.id, &why)?;
            }
            Ok(())
        }
    }
}

/// Every output to every place.
fn carry(porter: &Porter, watch: &Watch, job: &Job) -> Result<()> {
    let outputs = porter.store.outputs(job.id)?;
    let mut trouble = None;
    for delivery in porter.store.deliveries(job.id)?.into_iter().filter(|d| d.delivered.is_none()) {
        if porter.stopping() {
            return Err(Error::Stopped);
        }
        let Some(output) = outputs.iter().find(|o| o.number == delivery.output) else { continue };
        let Some(digest) = &output.digest else {
            return porter.store.set_state(
                job.id,
                &State::Making,
                "made again",
                Some("an output has no checksum"),
            );
        };
        let made = made_file(porter, job, output);
        if !made.exists() {
            if !still_there(porter, watch, job)? {
                return Ok(());
            }
            return porter.store.set_state(
                job.id,
                &State::Making,
                "made again",
                Some("an output is gone from the work folder"),
            );
        }
        let result = place_of(porter, &delivery.place)
            .and_then(|place| carry_one(porter, job, &delivery, place.as_ref(), &made, digest));
        // One place that is away does not keep the others waiting.
        if let Err(e) = result {
            if !e.may_pass() || matches!(e, Error::Store { .. }) {
                return Err(e);
            }
            trouble.get_or_insert(format!("place \"{}\": {e}", delivery.place));
        }
    }
    match trouble {
        Some(why) => hold(porter, job, &why),
        None => porter.store.set_state(job.id, &State::Clearing, "all delivered", None),
    }
}

fn place_of(porter: &Porter, name: &str) -> Result<Box<dyn Place>> {
    match porter.house.place(name) {
        Some(p) => Ok(Box::new(FolderPlace::new(&p.folder))),
        None => {
            let e = std::io::Error::other(format!("place \"{name}\" is not in the configuration any more"));
            Err(Error::path("cannot deliver by", &porter.house.file)(e))
        }
    }
}

fn carry_one(
    porter: &Porter,
    job: &Job,
    d: &Delivery,
    place: &dyn Place,
    made: &Path,
    digest: &str,
) -> Result<()> {
    let tag = format!("job-{}-{}", job.id, d.output);
    let mut d = d.clone();
    // A name from before a restart: was it published, and only the record of it lost?
    if let Some(name) = &d.name
        && place.has(name)?
        && !place.is_staged(name, &tag)?
        && place.holds(name, digest)?
    {
        return porter.store.delivered(job.id, &d);
    }
    let mut staged = false;
    loop {
        let name = match d.name.clone() {
            Some(name) => name,
            None => {
                let name = free_name(porter, job, &d, place)?;
                d.name = Some(name.clone());
                name
            }
        };
        if !staged {
            place.stage(made, &name, &tag, digest)?;
            staged = true;
        }
        match place.publish(&name, &tag)? {
            Published::Done => return porter.store.delivered(job.id, &d),
            // Someone else put a file there since: ours gets the next name, in the same folder.
            Published::Taken => d.name = None,
        }
    }
}

/// The first name that nothing at the place has and no other job was given, recorded as this delivery's.
fn free_name(porter: &Porter, job: &Job, d: &Delivery, place: &dyn Place) -> Result<String> {
    for n in 1.. {
        let name = naming::numbered(&d.wanted, n);
        if !porter.store.name_is_given(&d.place, &name)?
            && !place.has(&name)?
            && porter.store.give_name(job.id, d, &name)?
        {
            return Ok(name);
        }
    }
    unreachable!("numbers do not end")
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
        assert_eq!(wait_after(seconds(took), seconds(usual)), seconds(want));
    }
}
