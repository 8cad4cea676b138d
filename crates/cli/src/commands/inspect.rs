//! `inspect`: what media files are, from their content.

use crate::args::Inspect;
use crate::ui;
use crate::ui::facts::Inspected;
use anyhow::Result;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

pub fn inspect(a: &Inspect) -> Result<ExitCode> {
    let mut files = Vec::new();
    for path in &a.files {
        if path.is_dir() {
            let found = walkdir::WalkDir::new(path).sort_by_file_name().into_iter().flatten();
            files.extend(found.filter(|e| e.file_type().is_file()).map(walkdir::DirEntry::into_path));
        } else {
            files.push(path.clone());
        }
    }
    let all: Vec<Inspected> = files.iter().map(|f| one(f)).collect();
    let single = all.len() == 1 && a.files.first().is_some_and(|f| !f.is_dir());
    match (a.json, single) {
        (true, true) => ui::print_json(&all[0])?,
        (true, false) => ui::print_json(&all)?,
        (false, true) => print!("{}", ui::facts::one(&all[0])),
        (false, false) => print!("{}", ui::facts::table(&all, common(&files))),
    }
    Ok(ExitCode::from(u8::from(all.iter().any(|i| i.error.is_some()))))
}

fn one(path: &Path) -> Inspected {
    let file = porter::jobs::show_path(path);
    match porter::jobs::facts_of(path) {
        Ok(facts) => Inspected { file, facts: Some(facts), error: None },
        Err(e) => Inspected { file, facts: None, error: Some(e.to_string()) },
    }
}

/// The folder all files lie in, to leave out of a table.
fn common(files: &[PathBuf]) -> Option<PathBuf> {
    let mut folder = files.first()?.parent()?.to_owned();
    while !files.iter().all(|f| f.starts_with(&folder)) {
        folder = folder.parent()?.to_owned();
    }
    Some(folder)
}
