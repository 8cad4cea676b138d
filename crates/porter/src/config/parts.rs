//! A configuration in several files: `*.toml` in the folder `parts` beside it, in the order of their names, as if their tables
//! stood behind its own.

use super::presets::toml_files;
use super::{locate, raw};
use crate::error::{Error, Result};
use serde::Deserialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The folder beside a house's configuration for parts of it.
pub const FOLDER: &str = "parts";

/// One of those files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct File {
    pub file: PathBuf,
    pub text: String,
}

/// Lists of tables only: a key of its own at the beginning would fall into the last table of the file before.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
#[allow(dead_code)]
struct Tables {
    #[serde(default)]
    watch: Vec<raw::Watch>,
    #[serde(default)]
    place: Vec<raw::Place>,
    #[serde(default)]
    service: Vec<raw::Service>,
    #[serde(default)]
    preset: Vec<raw::Preset>,
    #[serde(default)]
    rule: Vec<raw::Rule>,
    #[serde(default)]
    notice: Vec<raw::Notice>,
}

/// Their paths.
pub fn files(base: &Path) -> Result<Vec<PathBuf>> {
    toml_files(&base.join(FOLDER))
}

/// All of them, each well formed by itself.
pub fn beside(base: &Path) -> Result<Vec<Arc<File>>> {
    let one = |file: PathBuf| {
        let text = std::fs::read_to_string(&file).map_err(Error::path("cannot read", &file))?;
        match toml::from_str::<Tables>(&text) {
            Ok(_) => Ok(Arc::new(File { file, text })),
            Err(e) => {
                let problems = vec![locate::syntax(&text, &e)];
                Err(Error::Config { file, text, problems })
            }
        }
    };
    files(base)?.into_iter().map(one).collect()
}

/// The configuration with its parts behind it, and where each begins, in lines from 0.
pub fn joined(text: &str, parts: &[Arc<File>]) -> (String, Vec<usize>) {
    let mut whole = text.to_owned();
    let mut starts = Vec::new();
    for part in parts {
        if !whole.is_empty() && !whole.ends_with('\n') {
            whole.push('\n');
        }
        starts.push(whole.matches('\n').count());
        whole.push_str(&part.text);
    }
    (whole, starts)
}

/// A problem in the joined text, as one in the part that it lies in.
pub fn placed(mut problem: locate::Problem, parts: &[Arc<File>], starts: &[usize]) -> locate::Problem {
    let at = starts.iter().rposition(|start| problem.line > *start);
    if let Some(at) = at {
        problem.line -= starts[at];
        problem.part = Some(parts[at].clone());
    }
    problem
}
