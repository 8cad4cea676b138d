//! `status`: what is arriving, waiting, being made and finished.

use crate::args::Status;
use crate::ui::{self, events};
use anyhow::{Result, bail};
use porter::config::House;
use porter::report;
use serde::Serialize;
use std::process::ExitCode;

pub fn status(a: &Status) -> Result<ExitCode> {
    let house = House::load(&a.house.house)?;
    if let Some(number) = a.job {
        return one_job(&house, number, a.json);
    }
    let status = report::status(&house, a.ended)?;
    if a.json {
        ui::print_json(&status)?;
    } else {
        crate::say_part!("{}", ui::status::text(&status));
    }
    Ok(ExitCode::SUCCESS)
}

#[derive(Serialize)]
struct OneJob {
    #[serde(flatten)]
    job: report::JobStatus,
    events: Vec<porter::store::Event>,
}

fn one_job(house: &House, number: i64, json: bool) -> Result<ExitCode> {
    let Some((job, history)) = report::history(house, number)? else {
        bail!("there is no job {number} in this house; 'deft-porter status' lists them");
    };
    if json {
        ui::print_json(&OneJob { job, events: history })?;
        return Ok(ExitCode::SUCCESS);
    }
    crate::say_part!("{}", ui::status::one(&job));
    crate::say!("\nWhat happened");
    history.iter().for_each(events::print_dated);
    Ok(ExitCode::SUCCESS)
}
