//! What is in a folder: files in order, and what is none.

use crate::files::{Dir, Seen};
use std::io;
use std::path::{Path, PathBuf};

const MAX_DEPTH: usize = 64;
/// The folder of a folder's manifests.
pub const MANIFESTS: &str = "ascmhl";

/// A file, by its path inside.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leaf {
    pub path: PathBuf,
    pub seen: Seen,
}

/// All of a folder, through handles; links are told and not followed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tree {
    pub files: Vec<Leaf>,
    pub folders: Vec<PathBuf>,
    /// Neither files nor folders, or folders that cannot be read: with the reason.
    pub others: Vec<(PathBuf, String)>,
}

/// Marks of file systems, and of ours: no content.
fn is_aside(name: &str) -> bool {
    matches!(name, ".DS_Store" | "System Volume Information" | ".Trashes" | ".Spotlight-V100")
        || name == crate::files::known::MARKER
        || name.ends_with(".deft-porter.part")
}

/// `manifests`: with the folders of manifests, which are content to whoever copies, and none to whoever verifies.
pub fn of(folder: &Dir, manifests: bool) -> io::Result<Tree> {
    let mut tree = Tree::default();
    let mut open = vec![(PathBuf::new(), 0)];
    while let Some((inside, depth)) = open.pop() {
        let names = folder.inside(&inside).and_then(|dir| Ok((dir.names()?, dir)));
        let (names, dir) = match names {
            Ok(found) => found,
            Err(e) if depth == 0 => return Err(e),
            Err(e) => {
                tree.others.push((inside, crate::files::known::plain(&e)));
                continue;
            }
        };
        for name in names {
            if name.to_str().is_some_and(|n| is_aside(n) || !manifests && n == MANIFESTS) {
                continue;
            }
            let path = inside.join(&name);
            match dir.look(&name) {
                Ok(Some(e)) if e.is_folder() && depth < MAX_DEPTH => {
                    tree.folders.push(path.clone());
                    open.push((path, depth + 1));
                }
                Ok(Some(e)) if e.is_file() => tree.files.push(Leaf { path, seen: e.seen }),
                Ok(Some(_)) => {
                    tree.others.push((path, "neither a file nor a folder (a link is not followed)".into()))
                }
                Ok(None) => (),
                Err(e) => tree.others.push((path, crate::files::known::plain(&e))),
            }
        }
    }
    tree.files.sort_by(|a, b| a.path.cmp(&b.path));
    tree.folders.sort();
    tree.others.sort();
    Ok(tree)
}

/// A path with `/`, as manifests write it; `None` where it is no text.
pub fn written(path: &Path) -> Option<String> {
    path.to_str().map(str::to_owned)
}
