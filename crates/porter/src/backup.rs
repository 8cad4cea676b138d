//! A house's record and configuration in a folder of their own, taken while the porter works; and back.

use crate::clock;
use crate::config::{FILE_NAME, House};
use crate::config::{parts, presets};
use crate::error::{Error, Result};
use crate::files::copy::digest;
use crate::jobs::state::StateFolder;
use crate::store::Store;
use std::fs::File;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};

const STORE: &str = "jobs.sqlite";
const SAID: &str = "said.sqlite";
const IDENTITY: &str = "house.json";

/// What a backup holds, and how much.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Kept {
    pub files: Vec<(String, u64)>,
}

fn copy_file(from: &Path, to: &Path) -> Result<()> {
    std::fs::copy(from, to).map_err(Error::path("cannot copy", from))?;
    let file = File::open(to).map_err(Error::path("cannot read", to))?;
    file.sync_all().map_err(Error::path("cannot write", to))?;
    // Read back, as everything is.
    let (wanted, found) = (digest(from, false)?, digest(to, true)?);
    match wanted == found {
        true => Ok(()),
        false => Err(Error::Differs { path: to.to_owned(), found, wanted }),
    }
}

/// Into a new folder; it has its name when all of it is there and was checked.
pub fn backup(house: &House, to: &Path) -> Result<Kept> {
    if to.symlink_metadata().is_ok() {
        return Err(Error::NotConfigured(format!(
            "{} is there already: a backup goes into a new folder",
            media::show::path(to)
        )));
    }
    if Store::look(&house.store_file())?.is_none() {
        let why = "no porter ever worked on this house: there is nothing to keep";
        return Err(Error::NotConfigured(why.into()));
    }
    let name = to.file_name().unwrap_or_default().to_string_lossy();
    let stage = to.with_file_name(format!(".{name}.{}.part", clock::nonce()));
    std::fs::DirBuilder::new()
        .mode(0o700)
        .create(&stage)
        .map_err(Error::path("cannot make the folder", &stage))?;
    let result = fill(house, &stage).and_then(|kept| {
        std::fs::rename(&stage, to).map_err(Error::path("cannot rename to", to))?;
        Ok(kept)
    });
    if result.is_err() {
        let _ = std::fs::remove_dir_all(&stage);
    }
    result
}

fn fill(house: &House, stage: &Path) -> Result<Kept> {
    Store::copy_file(&house.store_file(), &stage.join(STORE))?;
    if house.said_file().exists() {
        Store::copy_file(&house.said_file(), &stage.join(SAID))?;
    }
    let identity = house.state.join(IDENTITY);
    if identity.exists() {
        copy_file(&identity, &stage.join(IDENTITY))?;
    }
    copy_file(&house.file, &stage.join(FILE_NAME))?;
    let base = house.file.parent().unwrap_or(Path::new("/"));
    for (files, folder) in [(presets::files(base)?, presets::FOLDER), (parts::files(base)?, parts::FOLDER)] {
        let folder = stage.join(folder);
        for file in files {
            std::fs::create_dir_all(&folder).map_err(Error::path("cannot make the folder", &folder))?;
            copy_file(&file, &folder.join(file.file_name().unwrap_or_default()))?;
        }
    }
    // What cannot be opened again is no backup.
    let copy = Store::look(&stage.join(STORE))?;
    let wrong = copy.map(|s| s.check()).transpose()?;
    if !matches!(wrong, Some(None)) {
        let why = format!("the copy is not whole: {wrong:?}");
        return Err(Error::StoreLost { path: stage.join(STORE), why });
    }
    let mut kept = Kept::default();
    for entry in walk(stage) {
        let _ = std::fs::set_permissions(&entry, std::fs::Permissions::from_mode(0o600));
        let size = entry.metadata().map_or(0, |m| m.len());
        let inside = entry.strip_prefix(stage).unwrap_or(&entry);
        kept.files.push((inside.to_string_lossy().into_owned(), size));
    }
    kept.files.sort();
    Ok(kept)
}

fn walk(folder: &Path) -> Vec<PathBuf> {
    let mut out = Vec::new();
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        // What a look at the store left beside it is none of it.
        let is_aside = path.to_string_lossy().ends_with("-shm") || path.to_string_lossy().ends_with("-wal");
        match entry.file_type() {
            Ok(t) if t.is_dir() => out.extend(walk(&path)),
            _ if is_aside => _ = std::fs::remove_file(&path),
            _ => out.push(path),
        }
    }
    out
}

/// Puts the record of a backup back, where no porter runs. What was there is kept beside it; gives where.
pub fn restore(house: &House, from: &Path) -> Result<Option<PathBuf>> {
    // No porter works on the house meanwhile.
    let _held = StateFolder::take(house)?;
    let copy = Store::look(&from.join(STORE))?.ok_or_else(|| Error::StoreLost {
        path: from.join(STORE),
        why: "there is no record in this backup".into(),
    })?;
    if let Some(why) = copy.check()? {
        return Err(Error::StoreLost {
            path: from.join(STORE),
            why: format!("the backup is not whole: {why}"),
        });
    }
    drop(copy);
    let aside = house.state.join(format!("before-restore-{}", clock::universal(clock::now())));
    let mut kept = None;
    for name in
        [STORE, SAID, IDENTITY, "jobs.sqlite-wal", "jobs.sqlite-shm", "said.sqlite-wal", "said.sqlite-shm"]
    {
        let at = house.state.join(name);
        if at.exists() {
            std::fs::create_dir_all(&aside).map_err(Error::path("cannot make the folder", &aside))?;
            std::fs::rename(&at, aside.join(name)).map_err(Error::path("cannot move", &at))?;
            kept = Some(aside.clone());
        }
    }
    for name in [SAID, IDENTITY, STORE] {
        let source = from.join(name);
        if source.exists() {
            let stage = house.state.join(format!(".{name}.restore"));
            copy_file(&source, &stage)?;
            std::fs::rename(&stage, house.state.join(name)).map_err(Error::path("cannot rename", &stage))?;
        }
    }
    Ok(kept)
}
