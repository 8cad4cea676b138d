//! Whether a file changed since it was read.

use super::{parts, presets};
use std::path::Path;
use std::time::SystemTime;

/// A file as it was when it was looked at.
#[derive(Clone, Debug)]
pub struct Looked {
    read: Option<Vec<Stamp>>,
    seen: Option<Vec<Stamp>>,
}

/// Time and size of one file.
type Stamp = (SystemTime, u64);

impl Looked {
    pub fn at(file: &Path) -> Looked {
        let now = Self::look(file);
        Looked { read: now.clone(), seen: now }
    }

    /// The file, and its parts and the presets in files of their own beside it.
    fn look(file: &Path) -> Option<Vec<Stamp>> {
        let stamp = |path: &Path| {
            let about = std::fs::metadata(path).ok()?;
            Some((about.modified().ok()?, about.len()))
        };
        let mut all = vec![stamp(file)?];
        let base = file.parent().unwrap_or(Path::new("/"));
        for others in [presets::files(base), parts::files(base)] {
            all.extend(others.unwrap_or_default().iter().filter_map(|p| stamp(p)));
        }
        Some(all)
    }

    /// True once for each change: when the file was the same at two looks, and is another than it was read as. (Only
    /// whether times are the same is asked, never which is later.)
    pub fn has_changed(&mut self, file: &Path) -> bool {
        let now = Self::look(file);
        let rests = now.is_some() && now == self.seen;
        self.seen.clone_from(&now);
        if rests && now != self.read {
            self.read = now;
            return true;
        }
        false
    }
}
