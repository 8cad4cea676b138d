//! Presets that come with the program, and files of presets.

use super::{Preset, check, locate, raw, stated};
use crate::error::{Error, Result};
use serde::Deserialize;
use std::path::Path;
use std::sync::{Arc, LazyLock};

/// The shipped presets as they are written.
pub const TEXT: &str = include_str!("presets.toml");

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawFile {
    #[serde(default)]
    preset: Vec<raw::Preset>,
}

/// Reads a file of nothing but presets.
pub fn parse(file: &Path, text: &str) -> Result<Vec<Arc<Preset>>> {
    let fail = |problems| Error::Config { file: file.to_owned(), text: text.to_owned(), problems };
    let raw: RawFile = toml::from_str(text).map_err(|e| fail(vec![locate::syntax(text, &e)]))?;
    check::presets(&raw.preset, &stated(text))
        .map(|all| all.into_iter().map(Arc::new).collect())
        .map_err(|faults| fail(locate::all(text, faults)))
}

/// Presets that come with the program.
pub fn shipped() -> &'static [Arc<Preset>] {
    static SHIPPED: LazyLock<Vec<Arc<Preset>>> =
        LazyLock::new(|| parse(Path::new("presets.toml"), TEXT).unwrap_or_default());
    &SHIPPED
}

/// The settings of one preset as they are written, ready to be copied into a house.
pub fn written(name: &str) -> Option<String> {
    const HEAD: &str = "[[preset]]\n";
    let line = format!("name = \"{name}\"");
    let block = TEXT.split(HEAD).skip(1).find(|b| b.lines().next() == Some(&line))?;
    Some(format!("{HEAD}{}\n", block.trim()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shipped_presets_are_valid_and_told() {
        let all = parse(Path::new("presets.toml"), TEXT).unwrap();
        assert!(all.len() > 10 && all.iter().all(|p| !p.about.is_empty()));
        for p in &all {
            let alone = parse(Path::new("one"), &written(&p.name).unwrap()).unwrap();
            assert_eq!((alone.len(), &alone[0].version), (1, &p.version), "{}", p.name);
        }
    }

    /// Whoever changes a preset raises its number: then this list changes with it.
    #[test]
    fn versions_are_those_of_today() {
        let all: Vec<String> = shipped().iter().map(|p| format!("{} {}", p.name, p.version)).collect();
        let held: Vec<&str> = include_str!("presets.versions").lines().collect();
        if std::env::var_os("UPDATE_PRESETS").is_some() {
            let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/config/presets.versions");
            std::fs::write(path, all.join("\n") + "\n").unwrap();
            return;
        }
        assert_eq!(all, held, "raise the version of what changed, then UPDATE_PRESETS=1");
    }
}
