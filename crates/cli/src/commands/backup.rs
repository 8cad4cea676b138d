//! `backup` and `restore`: the record and the configuration of a house.

use crate::args;
use crate::ui::bytes;
use anyhow::Result;
use porter::backup as kept;
use porter::config::House;
use std::process::ExitCode;

pub fn backup(a: &args::Backup) -> Result<ExitCode> {
    let (house, _) = House::load_to_look(&a.house.find())?;
    let done = kept::backup(&house, &a.to)?;
    for (name, size) in &done.files {
        crate::say!("  {:>10}  {name}", bytes(*size));
    }
    crate::say!("kept in {}, checked", media::show::path(&a.to));
    Ok(ExitCode::SUCCESS)
}

pub fn restore(a: &args::Restore) -> Result<ExitCode> {
    let house = House::load(&a.house.find())?;
    match kept::restore(&house, &a.from)? {
        Some(before) => crate::say!("what was there is in {}", media::show::path(before)),
        None => crate::say!("there was no record in this house"),
    }
    crate::say!(
        "the record of {} is this house's now; its configuration is beside it and was left alone",
        media::show::path(&a.from)
    );
    Ok(ExitCode::SUCCESS)
}
