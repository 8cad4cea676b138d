//! `init`: a configuration to start from, and its folders.

use crate::args::{HouseKind, Init};
use anyhow::{Context, Result, bail};
use media::show;
use porter::config::{FILE_NAME, House};
use porter::jobs::folders::{mark, used};
use porter::jobs::state::StateFolder;
use std::path::Path;
use std::process::ExitCode;

/// What each kind of house starts from.
fn start(kind: HouseKind) -> &'static str {
    match kind {
        HouseKind::Plain => include_str!("init/plain.toml"),
        HouseKind::Editing => include_str!("init/editing.toml"),
        HouseKind::Broadcast => include_str!("init/broadcast.toml"),
        HouseKind::Podcast => include_str!("init/podcast.toml"),
        HouseKind::Effects => include_str!("init/effects.toml"),
    }
}

pub fn init(a: &Init) -> Result<ExitCode> {
    let file = a.dir.join(FILE_NAME);
    if file.symlink_metadata().is_ok() {
        bail!("{} is already there; edit it, or choose another folder", show::path(&file));
    }
    let has_files = std::fs::read_dir(&a.dir).is_ok_and(|mut d| d.next().is_some());
    if has_files && !a.among_files {
        bail!(
            "{} has files in it; choose an empty or a new folder, or say --among-files if the house is to be made there",
            show::path(&a.dir)
        );
    }
    let house = build(&a.dir, start(a.kind))?;
    crate::say!("Made a house in {}:\n", show::path(&a.dir));
    crate::say!("  {FILE_NAME:<18} what to watch, make and deliver");
    for w in &house.watches {
        crate::say!("  {:<18} drop files here", inside(&a.dir, &w.folder));
    }
    for folder in house.places.iter().filter_map(|p| p.folder()) {
        crate::say!("  {:<18} find the outputs here", inside(&a.dir, folder));
    }
    crate::say!("\nNext: deft-porter run {}", quoted(&a.dir));
    Ok(ExitCode::SUCCESS)
}

/// A path as a shell takes it.
pub fn quoted(path: &Path) -> String {
    let text = path.to_string_lossy();
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '/' | '.' | '-' | '_' | '+' | ',' | '@');
    if !text.is_empty() && text.chars().all(plain) && !text.starts_with('-') {
        return text.into_owned();
    }
    format!("'{}'", text.replace('\'', "'\\''"))
}

fn inside(dir: &Path, path: &Path) -> String {
    let dir = std::fs::canonicalize(dir).unwrap_or_else(|_| dir.to_owned());
    show::path(path.strip_prefix(&dir).unwrap_or(path))
}

/// Writes a configuration and makes every folder it names, marked so that it is known again.
pub fn build(dir: &Path, config: &str) -> Result<House> {
    std::fs::create_dir_all(dir).with_context(|| format!("cannot make the folder {}", show::path(dir)))?;
    let file = dir.join(FILE_NAME);
    std::fs::write(&file, config).with_context(|| format!("cannot write {}", show::path(&file)))?;
    let house = House::load(&file)?;
    for u in used(&house) {
        std::fs::create_dir_all(&u.path)
            .with_context(|| format!("cannot make the folder {}", show::path(&u.path)))?;
    }
    let state = StateFolder::take(&house)?;
    mark(&house, &state.open_store(&house)?)?;
    Ok(house)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("my-house", "my-house")]
    #[case("new house", "'new house'")]
    #[case("it's", "'it'\\''s'")]
    #[case("-x", "'-x'")]
    fn commands_can_be_pasted(#[case] path: &str, #[case] want: &str) {
        assert_eq!(quoted(Path::new(path)), want);
    }
}
