//! Several files as one arrival: a run of frames, or a folder with all that is in it.

use super::frames::{Frames, Together};
use super::{Dir, Seen};
use serde::{Deserialize, Serialize};
use std::ffi::OsStr;
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use xxhash_rust::xxh3::xxh3_64;

/// Most things in a folder that is taken whole.
pub const MOST_IN_TREE: usize = 1_000_000;
/// Deepest nesting of folders in it.
const DEEPEST: usize = 64;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Many {
    Run(Frames),
    Tree(Tree),
}

/// A folder that is taken whole.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tree {
    pub files: u64,
}

/// One thing in a folder that is taken whole, by its path in there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InTree {
    pub path: PathBuf,
    pub seen: Seen,
    pub kind: Kind,
}

/// A file in a folder, as it was when something was to be done with it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TreeFile {
    #[serde(with = "crate::bytes")]
    pub path: PathBuf,
    pub seen: Seen,
}

/// The files of what was found; an error where something else is among it.
pub fn tree_files(all: Vec<InTree>) -> io::Result<Vec<TreeFile>> {
    if let Some(other) = all.iter().find(|t| t.kind == Kind::Other) {
        let at = media::show::path(&other.path);
        return Err(io::Error::other(format!("{at} in it is neither a file nor a folder")));
    }
    let files = all.into_iter().filter(|t| t.kind == Kind::File);
    Ok(files.map(|t| TreeFile { path: t.path, seen: t.seen }).collect())
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    File,
    Folder,
    /// A link, a device: it cannot be taken along.
    Other,
}

/// All that is in a folder, in the order of paths. Links are not followed.
pub fn walk(top: &Dir) -> io::Result<Vec<InTree>> {
    let mut out = Vec::new();
    let mut open = vec![(PathBuf::new(), 0)];
    while let Some((inside, depth)) = open.pop() {
        let here = if depth == 0 { top.again()? } else { top.inside(&inside)? };
        for name in here.names()? {
            let Some(entry) = here.look(&name)? else { continue };
            let path = inside.join(&name);
            if entry.is_folder() {
                if depth >= DEEPEST {
                    return Err(io::Error::other(format!("folders in it are more than {DEEPEST} deep")));
                }
                open.push((path.clone(), depth + 1));
            }
            let kind = match () {
                () if entry.is_file() => Kind::File,
                () if entry.is_folder() => Kind::Folder,
                () => Kind::Other,
            };
            out.push(InTree { path, seen: entry.seen, kind });
            if out.len() > MOST_IN_TREE {
                return Err(io::Error::other(format!("it holds more than {MOST_IN_TREE} things")));
            }
        }
    }
    out.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(out)
}

/// All of it as one: another one when any file of it is, or has another place in it.
pub fn together<'t>(all: impl IntoIterator<Item = &'t InTree>) -> (Seen, Tree) {
    use std::os::unix::ffi::OsStrExt;
    let mut whole = Together::default();
    let mut files = 0;
    for t in all {
        let path = xxh3_64(t.path.as_os_str().as_bytes());
        match t.kind {
            // What times a folder has follows from what happens in it.
            Kind::Folder => whole.add(path, &Seen { size: 0, modified: 0, changed: 0, inode: 0 }),
            Kind::File | Kind::Other => {
                files += 1;
                whole.add(path, &t.seen);
            }
        }
    }
    (whole.seen(), Tree { files })
}

impl Many {
    pub fn run(&self) -> Option<&Frames> {
        match self {
            Many::Run(frames) => Some(frames),
            Many::Tree(_) => None,
        }
    }

    /// For people.
    pub fn words(&self) -> String {
        match self {
            Many::Run(frames) => format!("frames {}", frames.words()),
            Many::Tree(Tree { files: 1 }) => "a folder with 1 file".into(),
            Many::Tree(Tree { files }) => format!("a folder with {files} files"),
        }
    }

    /// The folder that its files stand in: of a run the one that holds it, of a tree itself.
    pub fn base(&self, holder: &Dir, name: &OsStr) -> io::Result<Dir> {
        match self {
            Many::Run(_) => holder.again(),
            Many::Tree(_) => holder.inside(Path::new(name)),
        }
    }

    /// All of it as it is now; `None` if it, or a frame of it, is gone.
    pub fn look(&self, holder: &Dir, name: &OsStr) -> io::Result<Option<Seen>> {
        match self {
            Many::Run(frames) => frames.look(holder),
            Many::Tree(_) => match holder.inside(Path::new(name)) {
                Ok(top) => Ok(Some(together(&walk(&top)?).0)),
                Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => Ok(None),
                Err(e) => Err(e),
            },
        }
    }

    /// Its files, by their paths in [`Self::base`].
    pub fn files(&self, base: &Dir) -> io::Result<Vec<PathBuf>> {
        match self {
            Many::Run(frames) => Ok(frames.numbers().map(|n| PathBuf::from(frames.name(n))).collect()),
            Many::Tree(_) => Ok(tree_files(walk(base)?)?.into_iter().map(|t| t.path).collect()),
        }
    }

    /// Folders of it, each before those in it.
    pub fn folders(&self, base: &Dir) -> io::Result<Vec<PathBuf>> {
        match self {
            Many::Run(_) => Ok(Vec::new()),
            Many::Tree(_) => {
                let folders = walk(base)?.into_iter().filter(|t| t.kind == Kind::Folder);
                Ok(folders.map(|t| t.path).collect())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree() -> (tempfile::TempDir, Dir) {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("A/PRIVATE/CLIP")).unwrap();
        std::fs::create_dir_all(dir.path().join("A/EMPTY")).unwrap();
        std::fs::write(dir.path().join("A/PRIVATE/CLIP/C0001.MXF"), b"12345").unwrap();
        std::fs::write(dir.path().join("A/index.xml"), b"").unwrap();
        let top = Dir::open(dir.path()).unwrap();
        (dir, top)
    }

    #[test]
    fn a_folder_is_another_when_anything_in_it_is() {
        let (dir, top) = tree();
        let name = OsStr::new("A");
        let inside = top.inside(Path::new("A")).unwrap();
        let (seen, tree) = together(&walk(&inside).unwrap());
        assert_eq!((seen.size, tree.files), (5, 2));
        let many = Many::Tree(tree);
        assert_eq!(many.words(), "a folder with 2 files");
        assert_eq!(many.look(&top, name).unwrap(), Some(seen));
        let files = many.files(&inside).unwrap();
        assert_eq!(files, ["PRIVATE/CLIP/C0001.MXF", "index.xml"].map(PathBuf::from));
        assert_eq!(many.folders(&inside).unwrap(), ["EMPTY", "PRIVATE", "PRIVATE/CLIP"].map(PathBuf::from));
        let mut states = vec![seen];
        let mut now = || {
            let seen = many.look(&top, name).unwrap().unwrap();
            assert!(!states.contains(&seen));
            states.push(seen);
        };
        std::fs::rename(dir.path().join("A/index.xml"), dir.path().join("A/Index.xml")).unwrap();
        now();
        std::fs::remove_dir(dir.path().join("A/EMPTY")).unwrap();
        now();
        std::fs::write(dir.path().join("A/new"), b"x").unwrap();
        now();
        std::os::unix::fs::symlink("/etc/passwd", dir.path().join("A/link")).unwrap();
        now();
        assert!(many.files(&inside).unwrap_err().to_string().contains("link in it is neither"));
        assert_eq!(many.look(&top, OsStr::new("B")).unwrap(), None);
    }

    #[test]
    fn what_is_stored_says_which_it_is() {
        let run = r#"{"prefix":"a.","suffix":".dpx","padding":4,"first":1,"last":9}"#;
        assert!(matches!(serde_json::from_str(run).unwrap(), Many::Run(f) if f.last == 9));
        let tree = Many::Tree(Tree { files: 3 });
        let text = serde_json::to_string(&tree).unwrap();
        assert_eq!((text.as_str(), serde_json::from_str::<Many>(&text).unwrap()), (r#"{"files":3}"#, tree));
    }
}
