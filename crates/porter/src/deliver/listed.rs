//! What names there are in the folders of places: a name that differs from another only in case or Unicode form is as good as
//! taken. A folder of many thousand names is not listed for each delivery: what the porter delivered itself is in its record,
//! and what others put there is looked for once in a while.

use super::{Place, Trouble};
use crate::naming::folded;
use std::collections::{HashMap, HashSet};
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// A listing is believed for so long, where it says that nothing is there.
const FRESH: Duration = Duration::from_secs(1);
/// Folders whose listings are kept.
const MOST: usize = 64;

/// By place and folder: when it was listed, and the names in it.
type Known = HashMap<(String, String), (Instant, HashSet<String>)>;

#[derive(Default)]
pub struct Listed(Mutex<Known>);

impl Listed {
    /// Whether the folder of a name holds one that is the same to systems which do not tell large letters from small.
    pub fn has_like(&self, at: &str, place: &dyn Place, name: &str) -> Result<bool, Trouble> {
        let (folder, last) = name.rsplit_once('/').unwrap_or(("", name));
        let key = (at.to_owned(), folder.to_owned());
        let wanted = folded(last);
        let mut known = self.0.lock().unwrap_or_else(|e| e.into_inner());
        if let Some((when, names)) = known.get(&key)
            && when.elapsed() < FRESH
            && !names.contains(&wanted)
        {
            return Ok(false);
        }
        let Some(names) = place.names_in(folder)? else { return Ok(false) };
        let names: HashSet<String> = names.iter().map(|n| folded(n)).collect();
        let has = names.contains(&wanted);
        if known.len() >= MOST {
            known.clear();
        }
        known.insert(key, (Instant::now(), names));
        Ok(has)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deliver::FolderPlace;
    use crate::files::Dir;

    #[test]
    fn names_of_another_case_or_form_are_found() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("day 1")).unwrap();
        std::fs::write(dir.path().join("day 1/Bru\u{308}cke.mov"), "x").unwrap();
        std::fs::write(dir.path().join("Clip.mov"), "x").unwrap();
        let place = FolderPlace::new(Dir::open(dir.path()).unwrap());
        let listed = Listed::default();
        let has = |name: &str| listed.has_like("editors", &place, name).unwrap();
        assert!(has("clip.MOV") && has("Clip.mov") && !has("clip2.mov"));
        assert!(has("day 1/br\u{fc}cke.mov") && has("day 1/BR\u{dc}CKE.mov"));
        assert!(!has("day 1/clip.mov") && !has("day 2/clip.mov"));
        // What is gone is not taken any more.
        std::fs::remove_file(dir.path().join("Clip.mov")).unwrap();
        assert!(!has("clip.mov"));
    }
}
