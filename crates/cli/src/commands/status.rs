//! `status`: what is arriving, waiting, being made and finished.

use crate::args::Status;
use crate::ui::{self, errors, events};
use anyhow::{Result, bail};
use porter::config::House;
use porter::report::{self, AwayStatus};
use serde::Serialize;
use std::process::ExitCode;

pub fn status(a: &Status) -> Result<ExitCode> {
    if a.schema {
        ui::print_json(&schemars::schema_for!(report::Status))?;
        return Ok(ExitCode::SUCCESS);
    }
    let (house, wrong) = House::load_to_look(&a.house.find())?;
    if let Some(e) = wrong {
        errors::show(&e.into());
        eprintln!("What follows is of the configuration that was in force before.\n");
    }
    if let Some(number) = a.job {
        return one_job(&house, number, a.json);
    }
    let status = report::status(&house, a.ended)?;
    if a.json {
        ui::print_json(&status)?;
    } else {
        crate::say_part!("{}", ui::status::text(&status));
    }
    let needs_someone = status.open.iter().any(|j| j.needs_person || j.on_hold)
        || status.away.iter().any(AwayStatus::needs_person)
        || status.watches.iter().any(|w| w.trouble.is_some());
    Ok(ExitCode::from(match (needs_someone, status.running) {
        (true, _) => errors::HELD,
        (false, false) => errors::NOT_RUNNING,
        (false, true) => 0,
    }))
}

#[derive(Serialize)]
struct OneJob {
    #[serde(flatten)]
    job: report::JobStatus,
    events: Vec<report::EventStatus>,
}

pub fn one_job(house: &House, number: i64, json: bool) -> Result<ExitCode> {
    let Some((job, history)) = report::history(house, number)? else {
        bail!("there is no job {number} in this house; 'deft-porter status' lists them");
    };
    if json {
        ui::print_json(&OneJob { job, events: history })?;
        return Ok(ExitCode::SUCCESS);
    }
    crate::say_part!("{}", ui::status::one(&job));
    crate::say!("\nWhat happened");
    history.iter().for_each(|e| crate::say!("{}", events::dated(e)));
    Ok(ExitCode::SUCCESS)
}
