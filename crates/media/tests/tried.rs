//! What the tables say a reader was tried on is what lies here: `fixtures` has our signals as other programs wrote them,
//! `real` what others made.

use media::codec::rows::CODECS;
use media::container::{self, FORMATS, Tried};
use media::{guard, still};
use std::collections::BTreeMap;
use std::fs::File;
use std::path::{Path, PathBuf};

fn files(of: &Path) -> Vec<PathBuf> {
    let Ok(all) = std::fs::read_dir(of) else { return Vec::new() };
    let mut out = Vec::new();
    for path in all.map(|e| e.unwrap().path()) {
        if path.is_dir() { out.extend(files(&path)) } else { out.push(path) }
    }
    out
}

/// Names in the tables that a file shows to be read.
fn read(path: &Path) -> Vec<&'static str> {
    let mut file = File::open(path).unwrap();
    let head = container::probe_bytes(&mut file).unwrap();
    if let Ok(Some(format)) = still::recognise(&head, &mut file) {
        let decoded = guard::catch(|| still::decode(format, &mut file).is_ok());
        return if decoded == Some(true) { vec![format.name] } else { Vec::new() };
    }
    let Some(format) = container::recognise(&head) else { return Vec::new() };
    let Ok(mut demux) = container::open(Box::new(file)) else { return Vec::new() };
    let mut names = vec![format.name];
    for track in demux.tracks() {
        let row = CODECS.iter().find(|c| (c.covers)(&track.codec) && (c.refuse)(track).is_ok());
        names.extend(row.map(|r| r.name).filter(|n| !n.is_empty()));
    }
    assert!(demux.next_packet().is_ok(), "{}", path.display());
    names
}

#[test]
fn what_was_tried_on_what_is_true() {
    let tests = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    let mut best: BTreeMap<&str, Tried> = BTreeMap::new();
    for (folder, how) in [("fixtures", Tried::Writers), ("real", Tried::Files)] {
        for name in files(&tests.join(folder)).iter().flat_map(|f| read(f)) {
            let now = best.entry(name).or_insert(how);
            *now = how.max(*now);
        }
    }
    let rows = FORMATS.iter().map(|f| (f.name, f.tried)).chain(CODECS.iter().map(|c| (c.name, c.tried)));
    let rows = rows.chain(still::FORMATS.iter().map(|f| (f.name, f.tried)));
    // A part that this build lacks reads nothing.
    let lacks = |name: &str| media::parts::all().iter().any(|p| !p.present && p.name.contains(name));
    let wrong: Vec<String> = rows
        .filter(|(name, _)| !name.is_empty() && !lacks(name))
        .map(|(name, told)| (name, told, best.get(name).copied().unwrap_or(Tried::Made)))
        .filter(|(_, told, found)| told != found)
        .map(|(name, told, found)| format!("{name}: {told:?} in the table, {found:?} by the files"))
        .collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
}
