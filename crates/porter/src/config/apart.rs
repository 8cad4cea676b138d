//! Folders of a house as they really lie on disk. Two paths may be one folder, through a link or a mount, and a folder
//! may lie in another one that way: what the text of a configuration does not show would have originals swept away, the
//! porter take its own store for an arrival, or outputs arrive again for ever.

use super::{House, Problem};
use crate::error::{Error, Result};
use crate::files::Dir;
use crate::files::dir::entry_of;
use crate::files::known::{self, Role};
use crate::jobs::folders::{Used, used};
use media::show;
use std::path::{Path, PathBuf};

/// Longest way up that is gone.
const MAX_UP: usize = 256;

/// A folder that is there, and every folder above it, by device and number.
struct Chain {
    path: PathBuf,
    ids: Vec<(u64, u64)>,
    /// Where it lies in its file system, whatever that is mounted as.
    on_disk: Option<(u64, PathBuf)>,
}

impl Chain {
    /// Of the folder or, where it is still missing, of the nearest above; then `here` is false.
    fn of(path: &Path) -> Option<(Chain, bool)> {
        let there = path.ancestors().find(|p| p.is_dir())?;
        let canonical = std::fs::canonicalize(there).ok()?;
        let mut ids = Vec::new();
        for folder in canonical.ancestors().take(MAX_UP) {
            let entry = Dir::open(folder).and_then(|d| entry_of(d.fd())).ok()?;
            ids.push((entry.device, entry.node));
        }
        let on_disk = known::on_disk(&canonical);
        Some((Chain { path: canonical, ids, on_disk }, there == path))
    }
}

/// Whether `inner` is `outer` or lies in it, and in which way it is named otherwise.
fn lies_in(inner: &Chain, outer: &Chain) -> bool {
    let by_mount = match (&inner.on_disk, &outer.on_disk) {
        (Some((a, inner)), Some((b, outer))) => a == b && inner.starts_with(outer),
        _ => false,
    };
    by_mount || outer.ids.first().is_some_and(|id| inner.ids.contains(id))
}

/// At each start: refuses a house whose folders lie in each other in a way that loses files.
pub fn apart_on_disk(house: &House) -> Result<()> {
    let mut problems = Vec::new();
    let all: Vec<(Used, Chain, bool)> =
        used(house).into_iter().filter_map(|u| Chain::of(&u.path).map(|(c, here)| (u, c, here))).collect();
    let watches = || all.iter().filter(|(u, _, here)| *here && u.role == Role::Watch);
    let sub = |name: &str| house.watch(name).is_some_and(|w| w.depth > 0);
    // What gathers in a watch does so by the configuration's own word, under one path.
    let gathers = |u: &Used, w: &Used| {
        u.role == Role::Place && house.watch(&w.name).is_some_and(|w| w.gathers(&u.path))
    };
    let mut say = |what: &Used, found: &Chain, of: String, wanted: &str| {
        let is = if found.path == what.path {
            String::new()
        } else {
            format!(", which is {},", show::path(&found.path))
        };
        problems.push(Problem {
            line: 0,
            column: 0,
            width: 1,
            key: String::new(),
            place: format!("{} \"{}\"", what.role.words(), what.name),
            found: format!("{}{is} lies in {of}", show::path(&what.path)),
            wanted: wanted.to_owned(),
            part: None,
        });
    };
    for (n, (u, chain, here)) in all.iter().enumerate() {
        for (w, outer, _) in watches().filter(|(w, ..)| w != u && !gathers(u, w)) {
            let is_it = *here && chain.ids.first() == outer.ids.first();
            let first = all.iter().position(|(x, ..)| x == w).is_some_and(|m| m < n);
            if (is_it || (sub(&w.name) && lies_in(chain, outer)))
                && (u.role != Role::Watch || !is_it || first)
            {
                say(u, chain, format!("watch folder \"{}\"", w.name), "a folder outside every watch folder");
            }
        }
    }
    let state = Chain::of(&house.state);
    if let Some((state, here)) = &state {
        for (u, chain, _) in &all {
            if *here && lies_in(chain, state) {
                say(u, chain, "the state folder".into(), "a folder outside the state folder");
            }
        }
        for (w, outer, _) in watches() {
            if lies_in(state, outer) && (sub(&w.name) || (*here && state.ids.first() == outer.ids.first())) {
                let own = Used { role: Role::Watch, name: String::new(), path: house.state.clone() };
                say(
                    &own,
                    state,
                    format!("watch folder \"{}\"", w.name),
                    "house.state outside every watch folder",
                );
            }
        }
    }
    if problems.is_empty() {
        return Ok(());
    }
    Err(Error::Config { file: house.file.clone(), text: String::new(), problems })
}
