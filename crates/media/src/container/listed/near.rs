//! Files near another.

use crate::container::Source;
use crate::error::{Error, Result};
use std::collections::BTreeMap;
use std::fs::Metadata;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::time::SystemTime;

/// Opens what lies near a file, in its folder and below.
pub trait Near: Send + Sync {
    /// `name`: with `/` between folders, checked by [`relative`].
    fn open(&self, name: &str) -> Result<Box<dyn Source>>;
    /// Names of the files in the folder itself, in order.
    fn names(&self) -> Result<Vec<String>>;
    /// What a file is like now, by which it is seen that it changes.
    fn state(&self, name: &str) -> Result<State>;
}

/// Bytes and time of change of a file.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct State {
    pub bytes: u64,
    pub modified: Option<SystemTime>,
}

impl State {
    pub fn of(m: &Metadata) -> State {
        State { bytes: m.len(), modified: m.modified().ok() }
    }
}

/// Whether a file is not there, or is none: what another error means is that nobody knows.
pub fn is_gone(e: &Error) -> bool {
    use std::io::ErrorKind as K;
    match e {
        // A link is not gone through.
        Error::System(e) => {
            matches!(e.kind(), K::NotFound | K::NotADirectory | K::InvalidFilename)
                || e.raw_os_error() == Some(ELOOP)
        }
        Error::Unsupported(_) => true,
        _ => false,
    }
}

const ELOOP: i32 = 40;

/// The files of a list as they were when it was opened.
pub struct Parts {
    near: Arc<dyn Near>,
    seen: BTreeMap<String, Option<State>>,
}

impl Parts {
    pub fn of<'n>(names: impl Iterator<Item = &'n str>, near: &Arc<dyn Near>) -> Result<Parts> {
        let mut parts = Parts { near: near.clone(), seen: BTreeMap::new() };
        for name in names {
            if !parts.seen.contains_key(name) {
                parts.seen.insert(name.to_owned(), parts.state(name)?);
            }
        }
        Ok(parts)
    }

    fn state(&self, name: &str) -> Result<Option<State>> {
        match self.near.state(name) {
            Ok(state) => Ok(Some(state)),
            Err(e) if is_gone(&e) => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// One of those later that is new or otherwise, if it is there.
    pub fn came<'n>(&self, later: &'n Parts) -> Option<&'n str> {
        let came = |(name, state): &(&String, &Option<State>)| {
            state.is_some() && self.seen.get(*name) != Some(*state)
        };
        later.seen.iter().find(came).map(|(name, _)| name.as_str())
    }

    /// One that is otherwise now: it came, went or was written to.
    pub fn changed(&self) -> Result<Option<&str>> {
        for (name, before) in &self.seen {
            if self.state(name)? != *before {
                return Ok(Some(name));
            }
        }
        Ok(None)
    }
}

/// A folder by its path.
pub struct Folder(pub PathBuf);

impl Near for Folder {
    fn open(&self, name: &str) -> Result<Box<dyn Source>> {
        let path = self.0.join(relative(name)?);
        // A pipe would be waited for.
        if !path.metadata()?.is_file() {
            return Err(Error::unsupported(name, "a list names it, and it is no file"));
        }
        Ok(Box::new(std::fs::File::open(path)?))
    }

    fn names(&self) -> Result<Vec<String>> {
        let mut names = Vec::new();
        for entry in std::fs::read_dir(&self.0)? {
            let entry = entry?;
            if entry.file_type().is_ok_and(|t| t.is_file()) {
                names.extend(entry.file_name().into_string());
            }
        }
        names.sort();
        Ok(names)
    }

    fn state(&self, name: &str) -> Result<State> {
        Ok(State::of(&self.0.join(relative(name)?).metadata()?))
    }
}

/// A path that a list names, if it leads to where the list lies or below it.
pub fn relative(name: &str) -> Result<PathBuf> {
    let path = Path::new(name);
    let inside = path.components().all(|c| matches!(c, Component::Normal(_) | Component::CurDir));
    if name.is_empty() || name.contains('\0') || !inside {
        return Err(Error::unsupported(
            name,
            "a list names it, and it does not lie in the list's folder or below",
        ));
    }
    Ok(path.to_owned())
}

/// The name that a reference (RFC 3986) in a list has, which lies in this folder: a list's own, relative to where all begins.
pub fn resolve(folder: &str, reference: &str) -> Result<String> {
    let plain = reference.split(['?', '#']).next().unwrap_or_default();
    if plain.contains("://") || plain.starts_with("data:") {
        let why = "a list names it, and it lies elsewhere; fetch it and write its file name into the list";
        return Err(Error::unsupported(reference, why));
    }
    let mut bytes = Vec::new();
    let mut rest = plain.as_bytes();
    while let Some((&b, after)) = rest.split_first() {
        let hex = |at: usize| after.get(at).and_then(|c| (*c as char).to_digit(16));
        if let (b'%', Some(high), Some(low)) = (b, hex(0), hex(1)) {
            bytes.push((high * 16 + low) as u8);
            rest = &after[2..];
        } else {
            bytes.push(b);
            rest = after;
        }
    }
    let name = String::from_utf8(bytes).map_err(|_| Error::damaged(reference, "a name that is no text"))?;
    let name = if folder.is_empty() { name } else { format!("{folder}/{name}") };
    relative(&name)?;
    Ok(name)
}

/// The folder part of a name.
pub fn folder_of(name: &str) -> &str {
    name.rsplit_once('/').map_or("", |(folder, _)| folder)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("", "a.ts", Some("a.ts"))]
    #[case("v1", "a%20b.ts?key=1", Some("v1/a b.ts"))]
    #[case("", "./v1/a.ts", Some("./v1/a.ts"))]
    #[case("", "../a.ts", None)]
    #[case("v1", "..%2f..%2fa.ts", None)]
    #[case("", "/etc/passwd", None)]
    #[case("", "https://there.example/a.ts", None)]
    #[case("", "a%00.ts", None)]
    #[case("", "", None)]
    fn references_stay_in_the_folder(#[case] folder: &str, #[case] to: &str, #[case] want: Option<&str>) {
        assert_eq!(resolve(folder, to).ok().as_deref(), want);
    }

    #[test]
    fn what_comes_goes_or_grows_has_changed() {
        let dir = tempfile::tempdir().unwrap();
        let near: Arc<dyn Near> = Arc::new(Folder(dir.path().into()));
        let write = |name: &str, bytes: &[u8]| std::fs::write(dir.path().join(name), bytes).unwrap();
        ["a", "b"].iter().for_each(|name| write(name, b"1"));
        let now = || Parts::of(["a", "b", "c", "a"].into_iter(), &near).unwrap();
        assert_eq!(now().changed().unwrap(), None);
        let before = now();
        write("b", b"12");
        assert_eq!(before.changed().unwrap(), Some("b"));
        let before = now();
        write("c", b"1");
        assert_eq!(before.changed().unwrap(), Some("c"));
        let before = now();
        std::fs::remove_file(dir.path().join("a")).unwrap();
        assert_eq!(before.changed().unwrap(), Some("a"));
        // What went did not come.
        assert_eq!(before.came(&now()), None);
        let before = now();
        write("c", b"12");
        assert_eq!(before.came(&now()), Some("c"));
        assert_eq!(Parts::of([].into_iter(), &near).unwrap().came(&now()), Some("b"));
    }

    #[test]
    fn folders_and_pipes_are_no_files() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("b"), b"1").unwrap();
        std::fs::create_dir(dir.path().join("a")).unwrap();
        std::os::unix::net::UnixListener::bind(dir.path().join("s")).unwrap();
        let near = Folder(dir.path().into());
        assert_eq!(near.names().unwrap(), ["b"]);
        assert!(near.open("b").is_ok() && near.open("a").is_err() && near.open("s").is_err());
    }
}
