//! `report`: a page of what was done.

use crate::args;
use anyhow::{Context, Result, bail};
use porter::config::House;
use porter::history::Span;
use porter::page;
use std::io::Write;
use std::process::ExitCode;

pub fn report(a: &args::Report) -> Result<ExitCode> {
    let (house, _) = House::load_to_look(&a.house.find())?;
    let since = a.since.as_deref().map(super::day).transpose()?;
    let until = a.until.as_deref().map(super::last_of_day).transpose()?;
    if let Some(unknown) = a.watch.as_ref().filter(|w| house.watch(w).is_none()) {
        bail!("there is no watch \"{unknown}\" in this house");
    }
    let text = page::report(&house, &Span { since, until, watch: a.watch.clone(), state: None })?;
    let at = media::show::path(&a.to);
    let folder = a.to.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(std::path::Path::new("."));
    // The page before stays until this one is whole.
    let mut file =
        tempfile::NamedTempFile::new_in(folder).with_context(|| format!("cannot write beside {at}"))?;
    file.write_all(text.as_bytes()).with_context(|| format!("cannot write {at}"))?;
    let rights = std::os::unix::fs::PermissionsExt::from_mode(0o644);
    file.as_file().set_permissions(rights)?;
    file.persist(&a.to).with_context(|| format!("cannot write {at}"))?;
    crate::say!("{at}");
    Ok(ExitCode::SUCCESS)
}
