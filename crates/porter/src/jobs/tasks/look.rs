//! What is it, and which rules hold?

use super::original::{self, Original, Source};
use super::{Desk, MAX_TRIES, Next, Worker};
use crate::clock::{self, Micros};
use crate::config::{Rule, SameContent};
use crate::error::{Error, Result};
use crate::files::Watching;
use crate::files::filling;
use crate::files::frames::Frames;
use crate::files::many::Tree;
use crate::files::pieces;
use crate::maker::{self, Bounds, Class, FileName, InFolder, Order, Outcome, Pieces, Run, RunOf, Work};
use crate::progress::{Progress, Stage};
use crate::route::{self, Decision, Item};
use crate::store::{
    Cause, Change, Counts, IfTaken, Job, PlannedOutput, RECIPE_VERSION, Sql, Step, Task, TaskKey,
};
use media::container::with_sound::WithSound;
use media::container::{Demux, listed};
use media::facts::{self, Facts};
use std::collections::BTreeMap;
use std::fs::File;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

pub fn look(d: &Desk<'_>, task: &Task) -> Result<Next> {
    if d.job.taken_to.is_none()
        && let Some(to) = d.job.original_to.as_ref().filter(|_| d.watch.moves_first)
    {
        // Taking it in was begun before a restart.
        let done = d.watch.done.clone().unwrap_or_default();
        let wanted = to.strip_prefix(&done).unwrap_or(&d.job.path).to_owned();
        return match d.take_in(&wanted)? {
            Ok(job) => look(&Desk { job: &job, ..*d }, task),
            Err(Original::Changed) => d.withdraw(original::CHANGED),
            Err(_) => d.withdraw(original::GONE),
        };
    }
    let source = match original::source(d)? {
        Source::Same(at) => at,
        Source::Changed => return d.withdraw(original::CHANGED),
        Source::Gone => return d.withdraw(original::GONE),
    };
    if let Some(wait) = filling(d, &source, task)? {
        return Ok(wait);
    }
    if let Some(known) = worked_on_before(d, &source)? {
        return d.withdraw(&known);
    }
    let policy = d.watch.same_content;
    let is_version = policy != SameContent::MakeAgain && same_content(d, &source)?;
    if is_version && policy == SameContent::Skip {
        return Ok(Next::Moved);
    }
    if let Some(frames) = job_holes(d) {
        return d.turn_away(&format!("frames are missing: {}", frames.words()));
    }
    super::reason::take_back(d);
    let began = clock::now();
    if let Some(tree) = d.job.tree() {
        match unfit(tree, &source)? {
            Some(why) => return d.turn_away(&why),
            None if d.watch.joins => (),
            None => {
                let begun = Change::Begun { job: d.job.id };
                return plan(d, &facts::of_folder(d.job.seen.size), (began, begun), is_version);
            }
        }
    }
    let folder = d.work_folder()?;
    let stays = task.tries == 0
        && d.job.many.is_none()
        && d.job.beside.is_empty()
        && d.house.makes_at_once(&d.watch.name, &d.job.path);
    let order = Order { whole: d.watch.checks_whole, stays, ..d.order(Work::Look, &folder) };
    if let Some(why) = d.lost_sound()? {
        return d.turn_away(&why);
    }
    let (file, order) = d.with_source(&source, order)?;
    let (program, nursery) = (&d.porter.program, Some(&d.porter.nursery));
    let run = Run { program, nursery, limits: &d.house.maker, source: Some(file), order };
    let (outcome, child) = maker::run_on(run, None, |p| d.worker.tell(p), || d.worker.stopping())?;
    let begun = Change::Begun { job: d.job.id };
    if let Outcome::Looked(facts) = &outcome
        && facts.damage.is_none()
    {
        let next = plan(d, facts, (began, begun), is_version)?;
        let make = TaskKey { job: d.job.id, step: Step::Make };
        if let Some(child) = child
            && facts.kind == facts::Kind::Image
            && d.porter.store.read(|v| v.task(&make))?.is_some()
        {
            d.porter.stayed.keep(d.job.id, child);
        }
        return Ok(next);
    }
    d.porter.store.change(|tx| tx.put_at(began, begun))?;
    match outcome {
        Outcome::Looked(facts) => {
            let damage = facts.damage.as_deref().unwrap_or_default();
            d.damaged(task.cause.as_ref(), &format!("damaged: {damage}"))
        }
        Outcome::Failed { class: Class::Damaged, message } => d.damaged(task.cause.as_ref(), &message),
        Outcome::Failed { class: Class::Stopped, .. } => Err(Error::Stopped),
        Outcome::Failed { class: Class::System, message } => Err(Error::Away(message)),
        Outcome::Failed { message, .. } => d.turn_away(&message),
        Outcome::Broke(_) if d.worker.stopping() => Err(Error::Stopped),
        Outcome::Broke(why) => match d.broke(&why)? {
            tries if tries >= MAX_TRIES => d.turn_away(&why),
            _ => Ok(Next::Moved),
        },
        Outcome::Ended(..) | Outcome::Tried(..) => Err(Error::Maker("the child did something else".into())),
    }
}

/// Whether a file seems to be written still, although neither its size nor its time changes: on a share that may be so. A marker
/// says that it is not.
fn filling(d: &Desk<'_>, source: &original::Found, task: &Task) -> Result<Option<Next>> {
    if d.job.many.is_some()
        || d.job.taken_to.is_some()
        || d.watch.belonging.marker.is_some()
        || source.is_local()
    {
        return Ok(None);
    }
    let fail = |e| Error::path("cannot read", &source.path())(e);
    let Some(upto) = filling::upto(&source.open()?, d.job.seen.size).map_err(fail)? else { return Ok(None) };
    // What ends in silence ends so a second time.
    if matches!(task.cause, Some(Cause::Filling { upto: before }) if before == upto) {
        return Ok(None);
    }
    Ok(Some(Next::wait(Cause::Filling { upto }, d.watch.second_look)))
}

/// Why a folder cannot be taken whole.
fn unfit(tree: &Tree, source: &original::Found) -> Result<Option<String>> {
    let names = match source.names() {
        Ok(names) => names,
        Err(e) if e.kind() == std::io::ErrorKind::Other => return Ok(Some(e.to_string())),
        Err(e) => return Err(Error::path("cannot look through", &source.path())(e)),
    };
    if let Some(name) = names.iter().find(|n| n.to_str().is_none()) {
        let name = media::show::path(name);
        return Ok(Some(format!(
            "the name of {name} in it is not UTF-8; files of a folder are named at places"
        )));
    }
    Ok((tree.files == 0).then(|| "there is no file in it".into()))
}

/// The same path, size, time and file as an ended job's original that was left there, with other attributes: the
/// content tells whether it is the same.
fn worked_on_before(d: &Desk<'_>, source: &original::Found) -> Result<Option<String>> {
    let job = d.job;
    let known = d.porter.store.read(|v| v.known_before(job))?;
    let Some(Job { id, content: Some(content), path: before, .. }) = known else { return Ok(None) };
    let renamed = before != job.path;
    // Under both names it is a second file (a hard link), not a renamed one.
    let is_there = || d.watch_folder()?.look_at(&before).map_err(Error::path("cannot look at", &before));
    if renamed && is_there()?.is_some_and(|e| e.seen.inode == job.seen.inode) {
        return Ok(None);
    }
    d.worker.tell(Progress { stage: Stage::Looking, of: Some(job.seen.size), ..Progress::default() });
    let found = source.digest(d.worker as &Worker)?;
    if found != content {
        return Ok(None);
    }
    d.commit(Change::Touched { job: id, seen: job.seen, path: renamed.then(|| job.path.clone()) })?;
    if renamed {
        let was = media::show::path(&before);
        return Ok(Some(format!("job {id} worked on this very file when it was called {was}")));
    }
    Ok(Some(format!("job {id} worked on this very content; only other attributes of the file changed since")))
}

/// Whether an earlier job of the watch had the same content; then nothing is made of it, or a version.
fn same_content(d: &Desk<'_>, source: &original::Found) -> Result<bool> {
    let job = d.job;
    d.worker.tell(Progress { stage: Stage::Looking, of: Some(job.seen.size), ..Progress::default() });
    let content = source.digest(d.worker as &Worker)?;
    let (known, _) = d.porter.store.change(|tx| {
        let known = tx.known_content(job, &content)?;
        tx.put(Change::Content { job: job.id, content: content.clone() })?;
        if let Some(known) = known {
            let version = d.watch.same_content == SameContent::Version;
            tx.put(Change::SameContent { job: job.id, known, version })?;
        }
        Ok(known)
    })?;
    Ok(known.is_some())
}

/// What is to be made; recorded together with the beginning of the look, which takes no time worth a record of its own.
fn plan(d: &Desk<'_>, facts: &Facts, (began, begun): (Micros, Change), is_version: bool) -> Result<Next> {
    let job = d.job;
    let path = job.known_as();
    let said = d.said()?;
    let item = Item {
        many: job.many.as_ref(),
        beside: &job.beside,
        said: Some(&said),
        others: d.porter.store.read(|v| v.others(&job.watch, &job.path, job.many.as_ref(), Some(job.id)))?,
        ..Item::new(&d.watch.name, &path, job.arrived, job.id)
    };
    let mut decision: Decision = route::decide(d.house, &item, facts);
    if decision.outputs.is_empty() {
        d.porter.store.change(|tx| tx.put_at(began, begun))?;
        return d.turn_away(&decision.why_nothing(facts));
    }
    let wanted = d.named_done(&Item { name_parts: d.house.name_parts.as_ref(), ..item }, facts);
    if d.house.rules.iter().any(Rule::counts) {
        let counts = count(d, &decision)?;
        let item = Item { counts: Some(&counts), ..item };
        decision = route::decide(d.house, &item, facts);
    }
    let priority = decision.priority;
    let outputs = decision
        .outputs
        .into_iter()
        .enumerate()
        .map(|(n, o)| PlannedOutput {
            number: n as u32,
            rule: o.rule,
            preset: o.preset,
            preset_version: o.preset_version,
            heard: o.recipe.transcript.is_some() || o.recipe.package.is_some(),
            recipe: serde_json::to_value(&o.recipe).unwrap_or_default(),
            recipe_version: RECIPE_VERSION,
            extension: o.extension,
            to: o.to,
            if_taken: match o.if_taken {
                IfTaken::Number if is_version => IfTaken::Version,
                own => own,
            },
            item: o.item.map(|mut item| {
                let fit = said.iter().filter(|(name, value)| crate::item::check(name, value).is_ok());
                item.fields.extend(fit.map(|(n, v)| (n.clone(), v.clone())));
                item
            }),
        })
        .collect();
    // Names of outputs were made of where it arrived; where it goes on from here is for nobody else to change.
    if d.watch.moves_first && job.taken_to.is_none() {
        match d.take_in(&wanted)? {
            Ok(_) => (),
            Err(Original::Changed) => return d.withdraw(original::CHANGED),
            Err(_) => return d.withdraw(original::GONE),
        }
    }
    let facts = Box::new(serde_json::to_value(facts).unwrap_or_default());
    d.porter.store.change(|tx| {
        tx.put_at(began, begun)?;
        let configuration = d.porter.configuration();
        tx.put(Change::Planned { job: job.id, facts, outputs, configuration })?;
        // What a person said of it since counts for more.
        let now = tx.job(job.id)?.map_or(job.priority, |j| j.priority);
        match priority.filter(|p| *p != now && now == d.watch.priority) {
            Some(priority) => tx.put(Change::Ranked { job: job.id, priority }),
            None => Ok(()),
        }
    })?;
    Ok(Next::Moved)
}

/// Numbers for the names of a job's outputs: counted once, and the same when it is done again.
fn count(d: &Desk<'_>, decision: &Decision) -> Result<Counts> {
    let job = d.job;
    let (watch, folder) = (&d.watch.name, job.path.parent().unwrap_or(Path::new("")).to_string_lossy());
    let (counts, _) = d.porter.store.change(|tx| {
        let before = tx.job(job.id)?.and_then(|j| j.counts);
        let mut scopes = Vec::new();
        let mut next = |scope: String| -> Sql<i64> {
            let n = tx.counted(&scope)? + 1;
            scopes.push((scope, n));
            Ok(n)
        };
        let mut counts = match before {
            Some(counts) => counts,
            None => Counts {
                watch: next(format!("watch {watch}"))?,
                day: next(format!("day {} {watch}", clock::local_date(job.arrived)))?,
                folder: next(format!("folder {watch}/{folder}"))?,
                rules: BTreeMap::new(),
            },
        };
        for r in decision.rules.iter().filter(|r| r.holds == Ok(true)) {
            if !counts.rules.contains_key(&r.rule) {
                counts.rules.insert(r.rule.clone(), next(format!("rule {}", r.rule))?);
            }
        }
        if !scopes.is_empty() {
            tx.put(Change::Counted { job: job.id, counts: counts.clone(), scopes })?;
        }
        Ok(counts)
    })?;
    Ok(counts)
}

/// A run in which numbers are missing, where the watch does not take such.
fn job_holes<'d>(d: &'d Desk<'_>) -> Option<&'d Frames> {
    d.job.frames().filter(|f| !f.missing.is_empty() && !d.watch.take_holes)
}

impl Desk<'_> {
    /// What an order is about, opened: a file, a run of frames, or pictures with sound beside them.
    pub fn with_source(&self, source: &original::Found, order: Order) -> Result<(File, Order)> {
        let sounds = self.job.beside.iter().filter(|b| b.sound).map(|b| FileName(b.name.clone()));
        let sounds: Vec<FileName> = sounds.collect();
        if !sounds.is_empty() {
            let main = FileName(self.job.path.file_name().unwrap_or_default().into());
            let beside = Some(InFolder { main, sounds, near: false });
            return Ok((source.folder()?, Order { beside, ..order }));
        }
        if listed::may_be_of_several(&self.job.path) {
            let main = FileName(self.job.path.file_name().unwrap_or_default().into());
            let beside = Some(InFolder { main, sounds, near: true });
            let steady_ms = u64::try_from(self.watch.steady.as_millis()).unwrap_or(0);
            return Ok((source.folder()?, Order { beside, steady_ms, ..order }));
        }
        let (rate, bytes) = (self.watch.frame_rate, self.job.seen.size);
        if self.job.tree().is_some() {
            let names = source.names().map_err(Error::path("cannot look through", &source.path()))?;
            let joined = Some(Pieces { names: pieces::of(&names)?, bytes });
            return Ok((source.open()?, Order { joined, ..order }));
        }
        let frames = self.job.frames().cloned().map(|frames| RunOf { frames, rate, bytes });
        Ok((source.open()?, Order { frames, ..order }))
    }

    /// The job's own folder for what is made.
    pub fn work_folder(&self) -> Result<std::path::PathBuf> {
        let folder = self.porter.work_folder(self.job.id);
        std::fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(&folder)
            .map_err(Error::path("cannot make the folder", &folder))?;
        Ok(folder)
    }

    pub fn order(&self, work: Work, folder: &Path) -> Order {
        let name = self.job.path.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
        let seconds = self.house.maker.processor_seconds();
        let bounds = Bounds { seconds, ..Bounds::default() };
        Order { name, bounds, ..Order::new(work, folder.to_owned()) }
    }
}

/// Facts of a file that a person names. A reader that panics is a fault of ours, and no reason for the program to end.
pub fn facts_of(path: &Path) -> Result<Facts> {
    File::open(path).map_err(Error::path("cannot read", path))?;
    match media::guard::catch(|| facts::of_path(path)) {
        Some(facts) => Ok(facts?),
        None => Err(media::Error::unsupported(
            "",
            "reading it failed in a way that was not foreseen; please report it",
        )
        .into()),
    }
}

/// The same of pictures whose sound lies in files of its own.
pub fn facts_with(path: &Path, sounds: impl Iterator<Item = PathBuf>) -> Result<Facts> {
    let sounds: Vec<PathBuf> = sounds.collect();
    if sounds.is_empty() {
        return facts_of(path);
    }
    let open = |path: &Path| -> Result<Box<dyn Demux>> {
        let file = File::open(path).map_err(Error::path("cannot read", path))?;
        Ok(media::container::open(Box::new(file))?)
    };
    let read = || -> Result<Facts> {
        let each = sounds.iter().map(|s| Ok((media::show::path(s), open(s)?)));
        let whole = WithSound::new(open(path)?, each.collect::<Result<_>>()?)?;
        Ok(facts::of_tracks(&whole, std::fs::metadata(path).map_or(0, |m| m.len())))
    };
    media::guard::catch(read).unwrap_or_else(|| {
        let why = "reading it failed in a way that was not foreseen; please report it";
        Err(media::Error::unsupported("", why).into())
    })
}
