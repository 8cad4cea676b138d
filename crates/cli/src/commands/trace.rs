//! `trace`: where a delivered file comes from.

use super::status::one_job;
use crate::args;
use anyhow::{Context, Result, bail};
use porter::config::House;
use porter::report;
use std::process::ExitCode;

pub fn trace(a: &args::Trace) -> Result<ExitCode> {
    let (house, _) = House::load_to_look(&a.house.find())?;
    let found = report::trace(&house, &a.file)
        .with_context(|| format!("cannot trace {}", media::show::path(&a.file)))?;
    if found.is_empty() {
        bail!(
            "{} is no file that this house delivered: neither its content nor its name is in the record",
            media::show::path(&a.file)
        );
    }
    if a.json {
        crate::ui::print_json(&found)?;
    }
    for (n, f) in found.iter().enumerate().filter(|_| !a.json) {
        if n > 0 {
            crate::say!("");
        }
        crate::say!("{}", f.words);
        one_job(&house, f.job, false)?;
    }
    let by_content = found.iter().any(|f| f.by_content);
    Ok(ExitCode::from(if by_content { 0 } else { crate::ui::errors::FAILED }))
}
