//! `name`: what a template makes of names.

use crate::args::Name;
use anyhow::{Context, Result, anyhow};
use porter::clock;
use porter::naming::{self, Template};
use porter::route::Item;
use porter::route::fields::Subject;
use std::path::Path;
use std::process::ExitCode;

pub fn name(a: &Name) -> Result<ExitCode> {
    let template = Template::parse(&a.template)
        .map_err(|wanted| anyhow!("the template \"{}\" should be {wanted}", a.template))?;
    let mut failed = false;
    for (n, file) in a.files.iter().enumerate() {
        match one(a, &template, file, n as i64 + 1) {
            Ok(name) => crate::say!("{} -> {name}", media::show::path(file)),
            Err(e) => {
                failed = true;
                crate::ui::errors::show(&e);
            }
        }
    }
    Ok(ExitCode::from(u8::from(failed)))
}

fn one(a: &Name, template: &Template, file: &Path, job: i64) -> Result<String> {
    let facts = porter::jobs::facts_of(file).with_context(|| media::show::path(file))?;
    let path = Path::new(file.file_name().unwrap_or_default());
    let item = Item::new(&a.watch, path, clock::now(), job);
    let subject = Subject { facts: &facts, item: &item, preset: &a.preset, rule: "" };
    let extension = path.extension().map(|e| e.to_string_lossy().to_lowercase()).unwrap_or_default();
    Ok(naming::candidate(&template.fill(&subject, &extension), 1))
}
