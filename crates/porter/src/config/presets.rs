//! Presets that come with the program, and files of presets.

use super::{Preset, check, locate, raw, stated};
use crate::error::{Error, Result};
use serde::Deserialize;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
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
    let base = file.parent().unwrap_or(Path::new("/"));
    check::presets(&raw.preset, &stated(text), base)
        .map(|all| all.into_iter().map(Arc::new).collect())
        .map_err(|faults| fail(locate::all(text, faults)))
}

/// The folder beside a house's configuration for presets in files of their own.
pub const FOLDER: &str = "presets";

/// Those files, in the order of their names.
pub fn files(base: &Path) -> Result<Vec<PathBuf>> {
    toml_files(&base.join(FOLDER))
}

/// Files of this form in a folder, in the order of their names; none where there is no such folder.
pub fn toml_files(folder: &Path) -> Result<Vec<PathBuf>> {
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => return Ok(Vec::new()),
        Err(e) => return Err(Error::path("cannot read", folder)(e)),
    };
    let mut all: Vec<PathBuf> = entries.flatten().map(|e| e.path()).collect();
    all.retain(|p| p.extension().is_some_and(|e| e == "toml") && p.is_file());
    all.sort();
    Ok(all)
}

/// Every preset in them, with its file.
pub fn beside(base: &Path) -> Result<Vec<(PathBuf, Arc<Preset>)>> {
    let mut out = Vec::new();
    for file in files(base)? {
        let text = std::fs::read_to_string(&file).map_err(Error::path("cannot read", &file))?;
        out.extend(parse(&file, &text)?.into_iter().map(|p| (file.clone(), p)));
    }
    Ok(out)
}

/// The settings of one preset as they are written in a text of presets and other tables.
pub fn text_of(text: &str, name: &str) -> Option<String> {
    let mut blocks: Vec<Vec<&str>> = Vec::new();
    let mut inside = false;
    for line in text.lines() {
        let head = line.trim_start();
        if head.starts_with("[[preset]]") {
            blocks.push(Vec::new());
            inside = true;
        } else if head.starts_with('[') && !head.starts_with("[preset.") && !head.starts_with("[[preset.") {
            inside = false;
        }
        if inside && let Some(block) = blocks.last_mut() {
            block.push(line);
        }
    }
    blocks.into_iter().map(|b| b.join("\n").trim().to_owned() + "\n").find(|block| {
        let raw: Option<RawFile> = toml::from_str(block).ok();
        raw.is_some_and(|r| r.preset.iter().any(|p| p.name == name))
    })
}

/// The same text with another name for its preset.
pub fn renamed(block: &str, name: &str) -> String {
    let mut done = false;
    let lines = block.lines().map(|line| {
        if !done && line.trim_start().starts_with("name") {
            done = true;
            return format!("name = {}", toml::Value::String(name.to_owned()));
        }
        line.to_owned()
    });
    lines.collect::<Vec<_>>().join("\n") + "\n"
}

/// Puts a preset into a file of its own beside a house's configuration; one of that name must not be there.
pub fn add(base: &Path, name: &str, block: &str) -> Result<PathBuf> {
    let folder = base.join(FOLDER);
    std::fs::create_dir_all(&folder).map_err(Error::path("cannot make the folder", &folder))?;
    let file = folder.join(format!("{}.toml", crate::naming::clean(name)));
    let fail = Error::path("cannot write", &file);
    let mut out = std::fs::File::create_new(&file).map_err(fail)?;
    std::io::Write::write_all(&mut out, block.as_bytes()).map_err(Error::path("cannot write", &file))?;
    Ok(file)
}

/// Presets that come with the program.
pub fn shipped() -> &'static [Arc<Preset>] {
    static SHIPPED: LazyLock<Vec<Arc<Preset>>> =
        LazyLock::new(|| parse(Path::new("presets.toml"), TEXT).unwrap_or_default());
    &SHIPPED
}

/// The settings of one preset as they are written, ready to be copied into a house.
pub fn written(name: &str) -> Option<String> {
    text_of(TEXT, name)
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

    #[test]
    fn a_preset_is_found_among_other_tables_and_gets_another_name() {
        let text = "[[place]]\nname = \"a\"\n\n[[preset]]\nname = \"p\"\n[preset.audio]\nbitrate = \"96 kbit/s\"\n\n[[rule]]\nname = \"p\"\n";
        let block = text_of(text, "p").unwrap();
        assert_eq!(block, "[[preset]]\nname = \"p\"\n[preset.audio]\nbitrate = \"96 kbit/s\"\n");
        assert_eq!(text_of(text, "a"), None);
        let other = renamed(&block, "my \"own\"");
        assert!(other.contains("name = 'my \"own\"'\n[preset.audio]"), "{other}");
    }

    #[test]
    fn presets_in_files_are_read_and_never_written_over() {
        let dir = tempfile::tempdir().unwrap();
        assert_eq!(beside(dir.path()).unwrap().len(), 0);
        let block = renamed(&written("podcast-mp3").unwrap(), "mine");
        let file = add(dir.path(), "mine", &block).unwrap();
        assert_eq!(beside(dir.path()).unwrap()[0].1.name, "mine");
        assert!(add(dir.path(), "mine", "other").is_err());
        assert_eq!(std::fs::read_to_string(&file).unwrap(), block);
        std::fs::write(dir.path().join("presets/broken.toml"), "[[preset]]\nnam = 1\n").unwrap();
        assert!(beside(dir.path()).unwrap_err().to_string().contains("broken.toml"));
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
