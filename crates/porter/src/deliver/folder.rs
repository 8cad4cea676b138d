//! A folder: a disk, or a share that the system has mounted.

use super::copy::{copy, digest, rename_if_free, staged};
use super::{Place, Published};
use crate::error::{Error, Result};
use std::path::{Path, PathBuf};

pub struct FolderPlace {
    folder: PathBuf,
}

impl FolderPlace {
    pub fn new(folder: &Path) -> Self {
        FolderPlace { folder: folder.to_owned() }
    }

    fn target(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    fn there(path: &Path) -> Result<bool> {
        match path.symlink_metadata() {
            Ok(_) => Ok(true),
            Err(e)
                if matches!(e.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) =>
            {
                Ok(false)
            }
            Err(e) => Err(Error::path("cannot look at", path)(e)),
        }
    }
}

impl Place for FolderPlace {
    fn has(&self, name: &str) -> Result<bool> {
        // A share that is not mounted is an empty folder, or none: the place itself must be there.
        if !self.folder.is_dir() {
            let e = std::io::Error::new(std::io::ErrorKind::NotFound, "no such folder");
            return Err(Error::path("cannot find the place's folder", &self.folder)(e));
        }
        Self::there(&self.target(name))
    }

    fn stage(&self, from: &Path, name: &str, tag: &str, wanted: &str) -> Result<()> {
        let target = self.target(name);
        if let Some(parent) = target.parent().filter(|p| *p != self.folder) {
            std::fs::create_dir_all(parent).map_err(Error::path("cannot make the folder", parent))?;
        }
        let stage = staged(&target, tag);
        let result = copy(from, &stage).and_then(|read| {
            if read != wanted {
                return Err(Error::Differs { path: from.to_owned(), found: read, wanted: wanted.to_owned() });
            }
            let found = digest(&stage, true)?;
            if found == wanted {
                Ok(())
            } else {
                Err(Error::Differs { path: stage.clone(), found, wanted: wanted.into() })
            }
        });
        if result.is_err() {
            let _ = std::fs::remove_file(&stage);
        }
        result
    }

    fn publish(&self, name: &str, tag: &str) -> Result<Published> {
        let target = self.target(name);
        Ok(if rename_if_free(&staged(&target, tag), &target)? { Published::Done } else { Published::Taken })
    }

    fn holds(&self, name: &str, wanted: &str) -> Result<bool> {
        let target = self.target(name);
        Ok(target.is_file() && digest(&target, false)? == wanted)
    }

    fn is_staged(&self, name: &str, tag: &str) -> Result<bool> {
        Self::there(&staged(&self.target(name), tag))
    }

    fn discard(&self, name: &str, tag: &str) -> Result<()> {
        let stage = staged(&self.target(name), tag);
        match std::fs::remove_file(&stage) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                Err(Error::path("cannot remove", &stage)(e))
            }
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The contract of all places.
    fn contract(place: &dyn Place, source: &Path) {
        let wanted = digest(source, false).unwrap();
        let name = "day 1/clip_proxy.mp4";
        assert!(!place.has(name).unwrap());
        place.stage(source, name, "j1-0", &wanted).unwrap();
        assert!(!place.has(name).unwrap(), "nothing under the final name while staged");
        assert!(place.is_staged(name, "j1-0").unwrap());
        assert_eq!(place.publish(name, "j1-0").unwrap(), Published::Done);
        assert!(place.has(name).unwrap() && place.holds(name, &wanted).unwrap());
        assert!(!place.is_staged(name, "j1-0").unwrap());
        // A second delivery does not touch the first.
        place.stage(source, name, "j2-0", &wanted).unwrap();
        assert_eq!(place.publish(name, "j2-0").unwrap(), Published::Taken);
        place.discard(name, "j2-0").unwrap();
        place.discard(name, "j2-0").unwrap();
        assert!(!place.is_staged(name, "j2-0").unwrap());
        assert!(!place.holds(name, "xxh3-128:0").unwrap());
        // Made and carried must be the same file.
        assert!(place.stage(source, "x.mp4", "j3-0", "xxh3-128:0").is_err());
        assert!(!place.is_staged("x.mp4", "j3-0").unwrap());
    }

    #[test]
    fn a_folder_keeps_the_contract() {
        let dir = tempfile::tempdir().unwrap();
        let source = dir.path().join("made");
        std::fs::write(&source, vec![3; 100_000]).unwrap();
        let folder = dir.path().join("place");
        std::fs::create_dir(&folder).unwrap();
        contract(&FolderPlace::new(&folder), &source);
    }

    #[test]
    fn a_place_that_is_not_there_is_not_made() {
        let dir = tempfile::tempdir().unwrap();
        let place = FolderPlace::new(&dir.path().join("share"));
        assert!(place.has("x").unwrap_err().may_pass());
        assert!(!dir.path().join("share").exists());
    }
}
