//! Whether a file changed since it was read.

use std::path::Path;
use std::time::SystemTime;

/// A file as it was when it was looked at.
pub struct Looked {
    read: Option<(SystemTime, u64)>,
    seen: Option<(SystemTime, u64)>,
}

impl Looked {
    pub fn at(file: &Path) -> Looked {
        let now = Self::look(file);
        Looked { read: now, seen: now }
    }

    fn look(file: &Path) -> Option<(SystemTime, u64)> {
        let about = std::fs::metadata(file).ok()?;
        Some((about.modified().ok()?, about.len()))
    }

    /// True once for each change: when the file was the same at two looks, and is another than it was read as. (Only
    /// whether times are the same is asked, never which is later.)
    pub fn has_changed(&mut self, file: &Path) -> bool {
        let now = Self::look(file);
        let rests = now.is_some() && now == self.seen;
        self.seen = now;
        if rests && now != self.read {
            self.read = now;
            return true;
        }
        false
    }
}
