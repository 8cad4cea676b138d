//! What is going on in a house: one value for people and programs.

use crate::clock::{self, Micros};
use crate::config::House;
use crate::error::Result;
use crate::jobs;
use crate::store::{Delivery, Event, Job, JobId, State, Store};
use serde::Serialize;

/// Version of the JSON form; it grows by adding fields only.
pub const STATUS_VERSION: u32 = 1;

#[derive(Clone, Debug, Serialize)]
pub struct Status {
    pub version: u32,
    pub house: String,
    pub at: String,
    /// A porter works on the house now.
    pub running: bool,
    pub watches: Vec<WatchStatus>,
    /// Files in watch folders that are not jobs yet.
    pub arriving: Vec<Arriving>,
    /// Jobs that have not ended.
    pub open: Vec<JobStatus>,
    /// The latest jobs that ended, newest first.
    pub ended: Vec<JobStatus>,
    pub ended_counts: Vec<(State, u64)>,
}

#[derive(Clone, Debug, Serialize)]
pub struct WatchStatus {
    pub name: String,
    pub folder: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

#[derive(Clone, Debug, Serialize)]
pub struct Arriving {
    pub watch: String,
    pub path: String,
    pub bytes: u64,
    pub why: String,
    pub seconds: f64,
}

#[derive(Clone, Debug, Serialize)]
pub struct JobStatus {
    pub job: JobId,
    pub watch: String,
    pub path: String,
    pub bytes: u64,
    pub state: State,
    pub arrived: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// While making.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub progress: Option<Making>,
    /// Why the current step has to be tried again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next_try_seconds: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub original: Option<String>,
    pub outputs: Vec<OutputStatus>,
}

#[derive(Clone, Debug, Serialize)]
pub struct Making {
    /// Frames; samples for sound alone.
    pub done: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub total: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub percent: Option<f64>,
    pub per_second: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seconds_left: Option<f64>,
}

#[derive(Clone, Debug, Serialize)]
pub struct OutputStatus {
    pub preset: String,
    pub preset_version: String,
    pub rule: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub checksum: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub made: Option<media::run::Made>,
    pub deliveries: Vec<DeliveryStatus>,
}

#[derive(Clone, Debug, Serialize)]
pub struct DeliveryStatus {
    pub place: String,
    /// The name it has or, before it is given one, the name from the rule.
    pub name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delivered: Option<String>,
}

/// How many ended jobs a status shows unless asked for more.
pub const USUAL_ENDED: u32 = 20;

pub fn status(house: &House, most_ended: u32) -> Result<Status> {
    let mut out = Status {
        version: STATUS_VERSION,
        house: house.name.clone(),
        at: clock::iso(clock::now()),
        running: jobs::is_running(house),
        watches: Vec::new(),
        arriving: Vec::new(),
        open: Vec::new(),
        ended: Vec::new(),
        ended_counts: Vec::new(),
    };
    let store = Store::read(&house.store_file())?;
    let troubles = store.as_ref().map(Store::troubles).transpose()?.unwrap_or_default();
    for w in &house.watches {
        let trouble = troubles.iter().find(|t| t.0 == w.name).map(|t| t.2.clone());
        out.watches.push(WatchStatus {
            name: w.name.clone(),
            folder: w.folder.display().to_string(),
            trouble,
        });
    }
    let Some(store) = store else { return Ok(out) };
    let now = clock::now();
    for f in store.waiting()? {
        out.arriving.push(Arriving {
            watch: f.watch,
            path: jobs::show_path(&f.path),
            bytes: f.size,
            why: f.why,
            seconds: (now - f.first) as f64 / 1e6,
        });
    }
    for j in store.open_jobs()? {
        out.open.push(job_status(&store, j, now)?);
    }
    for j in store.ended_jobs(most_ended)? {
        out.ended.push(job_status(&store, j, now)?);
    }
    out.ended_counts = store.ended_counts()?;
    Ok(out)
}

/// One job and all that happened to it; `None` if there is no such job.
pub fn history(house: &House, id: JobId) -> Result<Option<(JobStatus, Vec<Event>)>> {
    let Some(store) = Store::read(&house.store_file())? else { return Ok(None) };
    let Some(job) = store.job(id)? else { return Ok(None) };
    Ok(Some((job_status(&store, job, clock::now())?, store.events(id)?)))
}

fn job_status(store: &Store, j: Job, now: Micros) -> Result<JobStatus> {
    let deliveries = store.deliveries(j.id)?;
    let outputs = store.outputs(j.id)?;
    let going = if j.state == State::Making { store.going(j.id)? } else { None };
    Ok(JobStatus {
        job: j.id,
        watch: j.watch,
        path: jobs::show_path(&j.path),
        bytes: j.size,
        arrived: clock::iso(j.arrived),
        ended: j.ended.map(clock::iso),
        progress: going.map(|g| {
            let seconds = ((g.at - g.since) as f64 / 1e6).max(1e-3);
            let per_second = g.done as f64 / seconds;
            let left = g.total.map(|t| t.saturating_sub(g.done));
            Making {
                done: g.done,
                total: g.total,
                percent: g
                    .total
                    .filter(|t| *t > 0)
                    .map(|t| (g.done as f64 / t as f64 * 1000.0).round() / 10.0),
                per_second: (per_second * 10.0).round() / 10.0,
                seconds_left: left.filter(|_| per_second > 0.0).map(|l| (l as f64 / per_second).round()),
            }
        }),
        next_try_seconds: j.next_try.filter(|_| j.held.is_some()).map(|t| (t - now).max(0) as f64 / 1e6),
        held: j.held,
        reason: j.reason,
        original: j.original_to.map(|p| p.display().to_string()),
        state: j.state,
        outputs: outputs
            .into_iter()
            .map(|o| OutputStatus {
                deliveries: deliveries.iter().filter(|d| d.output == o.number).map(delivery_status).collect(),
                preset: o.preset,
                preset_version: o.preset_version,
                rule: o.rule,
                bytes: o.bytes,
                checksum: o.digest,
                made: o.made,
            })
            .collect(),
    })
}

fn delivery_status(d: &Delivery) -> DeliveryStatus {
    DeliveryStatus {
        place: d.place.clone(),
        name: d.name.clone().unwrap_or_else(|| d.wanted.clone()),
        delivered: d.delivered.map(clock::iso),
    }
}
