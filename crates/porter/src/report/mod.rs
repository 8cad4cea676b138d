//! What is going on in a house: one value for people and programs.

use crate::clock;
use crate::config::{House, Pattern, kinds};
use crate::control::{self, Now, Rests};
use crate::error::{Error, Result};
use crate::files::{Dir, many};
use crate::forecast::{self, InLine};
use crate::jobs::state;
use crate::progress::{Progress, Stage, Unit};
use crate::route::versions;
use crate::store::OpenRank;
use crate::store::said::{Hit, Wanted};
use crate::store::{
    Cause, Change, Delivery, Event, Filter, Job, JobId, Output, OutputEnd, Said, State, Step, Store, Task,
    View,
};
use crate::watch::{folder, steady, trees};
use crate::way::{self, Stretch};
use media::show;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet, HashMap};

mod words;
pub use words::told;

/// Version of the JSON form; it grows by adding fields only.
pub const STATUS_VERSION: u32 = 2;

#[derive(Clone, Debug, Serialize, JsonSchema)]
#[schemars(title = "Status")]
pub struct Status {
    pub version: u32,
    pub house: String,
    /// When this was so: local time with its zone, as all times here.
    pub at: String,
    /// A porter works on the house now.
    pub running: bool,
    /// A person asked that nothing more is begun.
    pub paused: bool,
    pub watches: Vec<WatchStatus>,
    /// Places that are away, as far as the running porter knows.
    pub away: Vec<AwayStatus>,
    /// Files in watch folders that are not jobs yet.
    pub arriving: Vec<Arriving>,
    /// More files wait than are listed.
    pub arriving_not_listed: usize,
    /// Jobs that have not ended, the first of them.
    pub open: Vec<JobStatus>,
    pub open_count: u64,
    /// The latest jobs that ended, newest first.
    pub ended: Vec<JobStatus>,
    pub ended_counts: Vec<StateCount>,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct StateCount {
    #[schemars(with = "String")]
    pub state: State,
    pub jobs: u64,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct WatchStatus {
    pub name: String,
    pub folder: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AwayStatus {
    pub place: String,
    /// It cannot be reached, there is no room in it, or it is not its time of day.
    pub how: Rests,
    pub why: String,
    pub next_try_seconds: f64,
}

impl AwayStatus {
    /// What is shut for the hours of the day opens by itself.
    pub fn needs_person(&self) -> bool {
        self.how != Rests::Hours
    }
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Arriving {
    pub watch: String,
    pub path: String,
    pub bytes: u64,
    pub why: String,
    /// How long it has been seen; absent where no porter watches.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct JobStatus {
    pub job: JobId,
    pub watch: String,
    pub path: String,
    pub bytes: u64,
    #[schemars(with = "String")]
    pub state: State,
    pub arrived: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// What is being done, while a porter does it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub progress: Option<Going>,
    /// Higher goes first; 10: before all others.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub priority: i64,
    /// A person wants it to wait.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub on_hold: bool,
    /// Why a step of it has to be tried again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next_try_seconds: Option<f64>,
    /// Of a job in line: about when it begins, by what jobs of its watch took before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected_start: Option<String>,
    /// It waits for something that does not pass by itself, and is not a place that is told to be away.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub needs_person: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub original: Option<String>,
    /// The number of its version that its name says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source_version: Option<u32>,
    /// Of one job that is shown: the others of the same source, the latest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub same_source: Vec<SameSource>,
    /// Of one job that is shown: its way through the steps, with times.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub way: Vec<Stretch>,
    pub outputs: Vec<OutputStatus>,
}

/// Another job of the same source.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SameSource {
    pub job: JobId,
    /// Its version; 0: its name says none.
    pub source_version: u32,
}

fn is_zero(n: &i64) -> bool {
    *n == 0
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Going {
    pub stage: Stage,
    pub unit: Unit,
    pub done: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub total: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub percent: Option<f64>,
    pub per_second: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seconds_left: Option<f64>,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct OutputStatus {
    pub preset: String,
    pub preset_version: String,
    pub rule: String,
    /// "open", "made", "not applicable" or "failed".
    pub end: &'static str,
    /// Why it was not made.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub checksum: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<serde_json::Value>")]
    pub made: Option<media::run::Made>,
    pub deliveries: Vec<DeliveryStatus>,
}

#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DeliveryStatus {
    pub place: String,
    /// The name it has or, before it is given one, the name from the rule.
    pub name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delivered: Option<String>,
    /// How it is known to be whole there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub proof: Option<String>,
    /// Why it does not go there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub left_out: Option<String>,
    /// Where it can be seen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
}

/// One thing that happened.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct EventStatus {
    pub at: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub job: Option<JobId>,
    pub what: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// How many ended jobs a status shows unless asked for more.
pub const USUAL_ENDED: u32 = 20;
/// How many open jobs it shows.
const MOST_OPEN: u32 = 200;
/// How many files it lists where it has to look itself.
const MOST_FILES: usize = 500;

pub fn status(house: &House, most_ended: u32) -> Result<Status> {
    let store = Store::look(&house.store_file())?;
    let running = state::is_running(house);
    let now = if running { control::ask_now(&house.state) } else { None };
    let mut out = Status {
        version: STATUS_VERSION,
        house: house.name.clone(),
        at: clock::zoned_text(clock::now()),
        running,
        paused: now.as_ref().is_some_and(|n| n.paused),
        watches: Vec::new(),
        away: Vec::new(),
        arriving: Vec::new(),
        arriving_not_listed: 0,
        open: Vec::new(),
        open_count: 0,
        ended: Vec::new(),
        ended_counts: Vec::new(),
    };
    arriving(house, store.as_ref(), now.as_ref(), &mut out)?;
    let Some(store) = store else { return Ok(out) };
    store.read(|v| {
        for j in v.jobs(&Filter { most: MOST_OPEN, ..Filter::default() })?.rows {
            out.open.push(job_status(v, j, now.as_ref())?);
        }
        out.open_count = v.open_count()?;
        expect(v, house, now.as_ref(), out.open_count, &mut out.open)?;
        out.paused = out.paused || now.is_none() && v.is_paused()?;
        for j in v.jobs(&Filter { ended: true, most: most_ended, ..Filter::default() })?.rows {
            out.ended.push(job_status(v, j, None)?);
        }
        out.ended_counts = v.tally()?.into_iter().map(|(state, jobs)| StateCount { state, jobs }).collect();
        Ok(())
    })?;
    Ok(out)
}

/// Jobs in line beyond which nobody asks when each begins.
const MOST_EXPECTED: u64 = 20_000;
/// From so many jobs of a watch it is told what one takes.
const LATELY: u32 = 12;

/// When jobs in line are expected to begin.
fn expect(
    v: &View<'_>,
    house: &House,
    now: Option<&Now>,
    open: u64,
    jobs: &mut [JobStatus],
) -> crate::store::Sql<()> {
    let Some(now) = now.filter(|n| !n.paused && open <= MOST_EXPECTED) else { return Ok(()) };
    let makes = |step: &Step| matches!(step, Step::Look | Step::Make | Step::Hear);
    let running: Vec<&control::Running> = now.running.iter().filter(|r| makes(&r.task.step)).collect();
    let tasks = v.tasks()?;
    let waits = tasks.iter().filter(|t| makes(&t.key.step) && t.cause.is_none());
    let waits: BTreeSet<JobId> =
        waits.map(|t| t.key.job).filter(|job| !running.iter().any(|r| r.task.job == *job)).collect();
    if waits.is_empty() {
        return Ok(());
    }
    let mut paces: HashMap<String, Option<f64>> = HashMap::new();
    let (mut line, mut weights) = (Vec::new(), HashMap::new());
    for OpenRank { job, watch, path, priority, on_hold, bytes, light } in v.open_ranks()? {
        // One that was not looked at yet is taken for what its name says.
        let light = light.unwrap_or_else(|| kinds::by_name(&path).is_some_and(|k| k != kinds::VIDEO));
        weights.insert(job, light);
        if on_hold || !waits.contains(&job) {
            continue;
        }
        if !paces.contains_key(&watch) {
            paces.insert(watch.clone(), pace(v, &watch)?);
        }
        // Of what nothing is known nothing is said, nor of what stands behind it.
        let Some(pace) = paces[&watch] else { return Ok(()) };
        line.push(InLine { job, watch, priority, seconds: pace * bytes.max(1) as f64, light });
    }
    let mut at = BTreeMap::new();
    let slots = crate::jobs::slots(house);
    for (light, at_once) in [(false, slots.make), (true, slots.light)] {
        let of_kind = running.iter().filter(|r| weights.get(&r.task.job).copied().unwrap_or(false) == light);
        let left: Vec<f64> =
            of_kind.map(|r| going(&r.progress, r.seconds).seconds_left.unwrap_or(0.0)).collect();
        let line: Vec<InLine> = line.iter().filter(|j| j.light == light).cloned().collect();
        at.extend(forecast::starts(at_once, &left, &line));
    }
    let wall = clock::now();
    for j in jobs.iter_mut() {
        j.expected_start = at.get(&j.job).map(|s| clock::zoned_text(wall + (s * 1e6) as clock::Micros));
    }
    Ok(())
}

/// Seconds from the plan to the last output for each byte of a source, of half the jobs less.
fn pace(v: &View<'_>, watch: &str) -> crate::store::Sql<Option<f64>> {
    let mut all = Vec::new();
    for (job, bytes) in v.done_lately(watch, LATELY)? {
        let events = v.events(job)?;
        let at = |wanted: fn(&Change) -> bool| events.iter().rev().find(|e| wanted(&e.change)).map(|e| e.at);
        let from = at(|c| matches!(c, Change::Planned { .. }));
        if let (Some(from), Some(to)) = (from, at(|c| matches!(c, Change::Made { .. }))) {
            all.push((to - from).max(0) as f64 / 1e6 / bytes.max(1) as f64);
        }
    }
    Ok(forecast::median(all))
}

/// Folders that are taken whole, in place of what is in them.
fn whole(found: Vec<folder::Found>, dir: &Dir) -> Vec<folder::Found> {
    let (mut loose, mut tops) = (Vec::new(), BTreeSet::new());
    for f in found {
        match trees::split(&f.path) {
            Some((top, _)) => _ = tops.insert(top),
            None => loose.push(f),
        }
    }
    loose.extend(tops.into_iter().filter_map(|path| {
        let all = many::walk(&dir.inside(&path).ok()?).ok()?;
        Some(folder::Found { path, seen: many::together(&all).0, is_file: true })
    }));
    loose
}

fn arriving(house: &House, store: Option<&Store>, now: Option<&Now>, out: &mut Status) -> Result<()> {
    for w in &house.watches {
        let mut told = WatchStatus { name: w.name.clone(), folder: show::path(&w.folder), trouble: None };
        match now.and_then(|n| n.watches.iter().find(|x| x.name == w.name)) {
            Some(on) => {
                told.trouble = on.trouble.as_ref().map(|t| t.why.clone());
                out.arriving_not_listed += on.waiting - on.files.len();
                out.arriving.extend(on.files.iter().map(|f| Arriving {
                    watch: w.name.clone(),
                    path: show::path(&f.path),
                    bytes: f.bytes,
                    why: f.why.clone(),
                    seconds: Some(f.seconds),
                }));
            }
            // Nobody watches: what lies there is looked at now.
            None => match Dir::open(&w.folder).and_then(|d| Ok((folder::look_through(&d, w.depth)?, d))) {
                Ok((found, dir)) => {
                    let mut found = if w.whole_folders { whole(found, &dir) } else { found };
                    // As who watches would leave it out.
                    found.retain(|f| !f.is_file || w.takes(&f.path, &f.seen));
                    found.sort_by(|a, b| a.path.cmp(&b.path));
                    let mut more = 0;
                    for f in found {
                        let known = match store {
                            Some(s) => s.read(|v| {
                                Ok(v.known(&w.name, &f.path, &f.seen)?.is_some()
                                    || w.belonging.belongs(&f.path) && v.belongs_to_job(&w.name, &f.path)?)
                            })?,
                            None => false,
                        };
                        let listed = out.arriving.len() < MOST_FILES;
                        let is_reason = !known && listed && folder::is_reason(&dir, &f.path);
                        let why = if is_reason {
                            steady::Why::Reason.words()
                        } else {
                            steady::why(&f.path, &f.seen, f.is_file, &w.unfinished)
                                .map_or("no porter watches", steady::Why::words)
                        };
                        if known {
                            continue;
                        }
                        if !listed {
                            more += 1;
                            continue;
                        }
                        out.arriving.push(Arriving {
                            watch: w.name.clone(),
                            path: show::path(&f.path),
                            bytes: f.seen.size,
                            why: why.to_owned(),
                            seconds: None,
                        });
                    }
                    out.arriving_not_listed += more;
                }
                Err(e) => told.trouble = Some(format!("{}: {}", told.folder, crate::files::known::plain(&e))),
            },
        }
        out.watches.push(told);
    }
    let resting = now.iter().flat_map(|n| &n.resting);
    out.away = resting
        .map(|r| AwayStatus {
            place: r.place.clone(),
            how: r.how,
            why: r.why.clone(),
            next_try_seconds: r.next_try_seconds,
        })
        .collect();
    Ok(())
}

/// Which jobs are meant.
#[derive(Clone, Debug, Default)]
pub struct Wants<'a> {
    /// By its name; also "held" (waits for something), "on hold" (waits for a person's word).
    pub state: Option<&'a str>,
    pub watch: Option<&'a str>,
    /// A pattern of the original's name or of one that was delivered.
    pub name: Option<&'a str>,
    /// Arrived at this moment or later.
    pub since: Option<clock::Micros>,
}

impl Wants<'_> {
    /// Whether anything is said at all.
    pub fn is_all(&self) -> bool {
        self.state.is_none() && self.watch.is_none() && self.name.is_none() && self.since.is_none()
    }
}

/// States that a person can ask for which are none of the record.
const ASKED: [&str; 2] = ["held", "on hold"];

/// Jobs that are wanted, those that have not ended first, then the latest.
pub fn jobs(house: &House, wants: &Wants<'_>, most: u32) -> Result<Vec<JobStatus>> {
    let (state, watch) = (wants.state, wants.watch);
    if let Some(unknown) =
        state.filter(|s| matches!(State::from_name(s), State::Unknown(_)) && !ASKED.contains(s))
    {
        return Err(Error::NotConfigured(format!("\"{unknown}\" is no state of a job")));
    }
    if let Some(unknown) = watch.filter(|w| house.watch(w).is_none()) {
        return Err(Error::NotConfigured(format!("there is no watch \"{unknown}\" in this house")));
    }
    let pattern = wants.name.map(Pattern::parse).transpose().map_err(Error::NotConfigured)?;
    let is_wanted = |j: &JobStatus| {
        let by_state = match state {
            Some("held") => j.held.is_some(),
            Some("on hold") => j.on_hold,
            Some(name) => j.state.name() == name,
            None => true,
        };
        let names = || {
            let given = j.outputs.iter().flat_map(|o| &o.deliveries).map(|d| d.name.as_str());
            std::iter::once(j.path.as_str()).chain(given)
        };
        by_state && pattern.as_ref().is_none_or(|p| names().any(|n| p.fits(std::path::Path::new(n))))
    };
    let Some(store) = Store::look(&house.store_file())? else { return Ok(Vec::new()) };
    let now = control::ask_now(&house.state);
    const PAGE: u32 = 500;
    store.read(|v| {
        let mut out = Vec::new();
        for ended in [false, true] {
            let mut after = None;
            loop {
                let watch = watch.map(str::to_owned);
                let page = v.jobs(&Filter { ended, watch, after, most: PAGE })?;
                for job in page.rows {
                    if out.len() >= most as usize {
                        return Ok(out);
                    }
                    // What costs nothing to tell is told first.
                    let by_state = state.is_none_or(|s| ASKED.contains(&s) || s == job.state.name());
                    if by_state && wants.since.is_none_or(|since| job.arrived >= since) {
                        let told = job_status(v, job, now.as_ref())?;
                        if is_wanted(&told) {
                            out.push(told);
                        }
                    }
                }
                after = page.next;
                if after.is_none() {
                    break;
                }
            }
        }
        Ok(out)
    })
}

/// A delivery that a file was found to be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Traced {
    pub job: JobId,
    /// By its content; otherwise only its name is known, and what is under it is something else.
    pub by_content: bool,
    pub words: String,
}

/// Which deliveries a file is, by its content; or, where no such content was ever made, which had its name.
pub fn trace(house: &House, file: &std::path::Path) -> Result<Vec<Traced>> {
    let Some(store) = Store::look(&house.store_file())? else { return Ok(Vec::new()) };
    let digest = crate::files::copy::digest(file, false)?;
    let name = file.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let shown = show::path(file);
    store.read(|v| {
        let made = v.made_as(&digest)?;
        if !made.is_empty() {
            return Ok(made
                .into_iter()
                .map(|(job, preset)| Traced {
                    job,
                    by_content: true,
                    words: format!("{shown} is output \"{preset}\" of job {job}, byte for byte ({digest})"),
                })
                .collect());
        }
        Ok(v.delivered_as(&name)?
            .into_iter()
            .map(|(job, place)| Traced {
                job,
                by_content: false,
                words: format!(
                    "{shown} has the name of what job {job} delivered to {place}, but is NOT what was delivered: \
                     it was changed, or is another file"
                ),
            })
            .collect())
    })
}

/// One job and all that happened to it; `None` if there is no such job.
pub fn history(house: &House, id: JobId) -> Result<Option<(JobStatus, Vec<EventStatus>)>> {
    let Some(store) = Store::look(&house.store_file())? else { return Ok(None) };
    let now = control::ask_now(&house.state);
    store.read(|v| {
        let Some(job) = v.job(id)? else { return Ok(None) };
        let events = v.events(id)?;
        let others = v.versions(id)?.into_iter();
        let same_source = others.map(|(job, source_version)| SameSource { job, source_version }).collect();
        let way = way::of(&events, clock::now());
        let told = JobStatus { same_source, way, ..job_status(v, job, now.as_ref())? };
        Ok(Some((told, events.iter().map(EventStatus::from).collect())))
    })
}

/// Where it was said, in all transcripts of the house, and where the outputs of those jobs are. `None`: nothing was ever
/// transcribed here.
pub fn find(house: &House, wanted: &Wanted) -> Result<Option<Vec<Hit>>> {
    let Some(said) = Said::look(&house.said_file())? else { return Ok(None) };
    if !said.has_any()? {
        return Ok(None);
    }
    let mut hits = said.find(wanted)?;
    if let Some(store) = Store::look(&house.store_file())? {
        for h in &mut hits {
            let deliveries = store.read(|v| v.deliveries(h.job))?;
            let there = deliveries.into_iter().filter(|d| d.delivered.is_some());
            h.delivered = there.filter_map(|d| Some((d.place, d.name?))).collect();
        }
    }
    Ok(Some(hits))
}

impl From<&Event> for EventStatus {
    fn from(e: &Event) -> EventStatus {
        let (what, detail) = told(&e.change);
        EventStatus { at: clock::zoned_text(e.at), job: e.job, what, detail: detail.map(|d| show::text(&d)) }
    }
}

fn job_status(v: &View<'_>, j: Job, now: Option<&Now>) -> crate::store::Sql<JobStatus> {
    let deliveries = v.deliveries(j.id)?;
    let outputs = v.outputs(j.id)?;
    let tasks = if j.ended.is_none() { v.tasks_of(j.id)? } else { Vec::new() };
    let running: Vec<&control::Running> =
        now.iter().flat_map(|n| &n.running).filter(|r| r.task.job == j.id).collect();
    let (mut held, mut next_try, mut needs_person) = held(&tasks, &running, now);
    if j.on_hold {
        let why = format!("on hold: \"deft-porter jobs release {}\" lets it go on", j.id);
        (held, next_try, needs_person) = (Some(why), None, false);
    }
    // Of several steps at once the one that makes is told.
    let shown = running.iter().min_by_key(|r| matches!(r.task.step, Step::Carry { .. }));
    let source_version = versions::of(&j.known_as()).number;
    Ok(JobStatus {
        source_version: (source_version > 0).then_some(source_version),
        same_source: Vec::new(),
        way: Vec::new(),
        job: j.id,
        watch: j.watch,
        path: show::path(&j.path),
        bytes: j.seen.size,
        priority: j.priority,
        on_hold: j.on_hold,
        arrived: clock::zoned_text(j.arrived),
        ended: j.ended.map(clock::zoned_text),
        progress: shown.map(|r| going(&r.progress, r.seconds)),
        held,
        next_try_seconds: next_try,
        expected_start: None,
        needs_person,
        reason: j.reason.as_deref().map(show::text),
        original: j.original_to.or(j.taken_to).map(show::path),
        state: j.state,
        outputs: outputs.into_iter().map(|o| output_status(o, &deliveries)).collect(),
    })
}

/// What a job waits for: a task of it that is held, or whose place is away.
fn held(
    tasks: &[Task],
    running: &[&control::Running],
    now: Option<&Now>,
) -> (Option<String>, Option<f64>, bool) {
    let mut waits: Vec<&Task> = tasks.iter().filter(|t| !running.iter().any(|r| r.task == t.key)).collect();
    let by_place = |t: &Task| match &t.key.step {
        Step::Carry { place, .. } => now?.resting.iter().find(|r| r.place == *place),
        _ => None,
    };
    // What goes on by itself is told last.
    waits.sort_by_key(|t| match (by_place(t), &t.cause) {
        (Some(rest), _) => rest.how == Rests::Hours,
        (None, cause) => !cause.as_ref().is_some_and(Cause::needs_person),
    });
    for t in waits {
        let rest = by_place(t);
        let cause = t
            .cause
            .as_ref()
            .map(Cause::words)
            .or_else(|| Some(format!("place \"{}\": {}", rest?.place, rest?.why)));
        if let Some(why) = cause {
            let wall = t.next_try.map(|at| ((at - clock::now()).max(0)) as f64 / 1e6);
            let next = if now.is_some() { rest.map(|r| r.next_try_seconds).or(wall) } else { None };
            let needs = rest.is_none() && t.cause.as_ref().is_none_or(Cause::needs_person);
            return (Some(show::text(&why)), next, needs);
        }
    }
    (None, None, false)
}

fn going(p: &Progress, seconds: f64) -> Going {
    let per_second = p.done as f64 / seconds.max(1e-3);
    let left = p.of.map(|of| of.saturating_sub(p.done));
    Going {
        stage: p.stage,
        unit: p.unit,
        done: p.done,
        total: p.of,
        percent: p.percent(),
        per_second: (per_second * 10.0).round() / 10.0,
        seconds_left: left.filter(|_| per_second > 0.0).map(|l| (l as f64 / per_second).round()),
    }
}

fn output_status(o: Output, deliveries: &[Delivery]) -> OutputStatus {
    let files = o.files();
    let bytes = (!files.is_empty()).then(|| files.iter().map(|f| f.bytes).sum());
    let checksum = (files.len() == 1).then(|| files[0].digest.clone());
    let (end, why, made) = match o.end {
        OutputEnd::Open => ("open", None, None),
        OutputEnd::Made { made, .. } => ("made", None, Some(made)),
        OutputEnd::NotMade { end, why } => (end.words(), Some(show::text(&why)), None),
    };
    OutputStatus {
        deliveries: deliveries.iter().filter(|d| d.output == o.number).map(delivery_status).collect(),
        preset: o.preset,
        preset_version: o.preset_version,
        rule: o.rule,
        end,
        why,
        bytes,
        checksum,
        made,
    }
}

fn delivery_status(d: &Delivery) -> DeliveryStatus {
    DeliveryStatus {
        place: d.place.clone(),
        name: show::text(d.name.as_ref().unwrap_or(&d.wanted)),
        delivered: d.delivered.map(clock::zoned_text),
        proof: d.proof.map(|p| p.words().to_owned()),
        left_out: d.left_out.clone(),
        address: d.address.clone(),
    }
}
