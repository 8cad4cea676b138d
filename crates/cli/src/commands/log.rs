//! `log`: the record, event by event.

use crate::args;
use crate::ui::{self, errors};
use anyhow::{Result, bail};
use porter::config::House;
use porter::report::EventStatus;
use porter::store::Store;
use std::process::ExitCode;
use std::time::Duration;

const PAGE: u32 = 1000;
const LOOK: Duration = Duration::from_millis(300);

pub fn log(a: &args::Log) -> Result<ExitCode> {
    let (house, wrong) = House::load_to_look(&a.house.find())?;
    if let Some(e) = wrong {
        errors::show(&e.into());
    }
    let Some(store) = Store::look(&house.store_file())? else {
        bail!("no porter ever worked on this house: there is no record yet");
    };
    let mut at = match a.job {
        Some(job) if store.read(|v| v.job(job))?.is_none() => bail!("there is no job {job}"),
        // Few of many are this job's: all are looked at.
        Some(_) => 0,
        None => store.read(|v| v.last_event())? - i64::from(a.last),
    };
    loop {
        let events = match a.job {
            Some(job) => store.read(|v| v.events(job))?.into_iter().filter(|e| e.id > at).collect(),
            None => store.read(|v| v.events_after(at, PAGE))?,
        };
        for e in &events {
            at = e.id;
            let told = EventStatus::from(e);
            if a.json {
                crate::say!("{}", serde_json::to_string(&told)?);
            } else {
                crate::say!("{}", ui::events::whole(&told));
            }
        }
        if !events.is_empty() && a.job.is_none() {
            continue;
        }
        if !a.follow {
            return Ok(ExitCode::SUCCESS);
        }
        std::thread::sleep(LOOK);
    }
}
