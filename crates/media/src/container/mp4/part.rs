//! Files that are a part of a stream: its beginning, which describes the tracks, or fragments without that.

use super::boxes::{FileBox, be32, find, find_path, inside, top_level, version};
use crate::container::Source;
use crate::error::Result;
use crate::limits::MAX_INDEX_BYTES;
use std::io::SeekFrom;

fn body(source: &mut dyn Source, of: &FileBox) -> Result<Vec<u8>> {
    let size = (of.end - of.body).min(MAX_INDEX_BYTES);
    source.seek(SeekFrom::Start(of.body))?;
    let mut body = vec![0; size as usize];
    source.read_exact(&mut body)?;
    Ok(body)
}

/// Fragments, and nothing that describes them. `head`: the first bytes.
pub fn is_part(head: &[u8], source: &mut dyn Source) -> Result<bool> {
    if super::score(head) == 0 {
        return Ok(false);
    }
    let top = top_level(source)?;
    let has = |kind: &[u8; 4]| top.iter().any(|b| &b.kind == kind);
    Ok(has(b"moof") && !has(b"moov") && top.iter().all(|b| !b.cut))
}

/// The tracks that the first fragment is of.
pub fn track_numbers(source: &mut dyn Source) -> Result<Vec<u32>> {
    let top = top_level(source)?;
    let Some(moof) = top.iter().find(|b| &b.kind == b"moof") else { return Ok(Vec::new()) };
    let moof = body(source, moof)?;
    let heads = inside(&moof).filter(|b| &b.kind == b"traf").filter_map(|b| find(b.body, b"tfhd"));
    Ok(heads.filter_map(|h| be32(h, 4)).collect())
}

/// The tracks that a file describes for fragments elsewhere; none where it holds media itself, or describes none.
pub fn beginning_of(source: &mut dyn Source) -> Result<Vec<u32>> {
    let mut head = [0; 8];
    source.seek(SeekFrom::Start(0))?;
    if source.read_exact(&mut head).is_err() || super::score(&head) == 0 {
        return Ok(Vec::new());
    }
    let top = top_level(source)?;
    let holds_media = top.iter().any(|b| matches!(&b.kind, b"moof" | b"mdat") || b.cut);
    let Some(moov) = top.iter().find(|b| &b.kind == b"moov").filter(|_| !holds_media) else {
        return Ok(Vec::new());
    };
    let moov = body(source, moov)?;
    if find(&moov, b"mvex").is_none() {
        return Ok(Vec::new());
    }
    let heads = inside(&moov).filter(|b| &b.kind == b"trak").filter_map(|b| find_path(b.body, &[b"tkhd"]));
    Ok(heads.filter_map(|h| be32(h, if version(h) == 1 { 20 } else { 12 })).collect())
}
