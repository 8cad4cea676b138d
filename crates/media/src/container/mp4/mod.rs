//! MP4 and MOV: ISO/IEC 14496-12 (2022), 14496-14 (2020), 14496-15 (2022) and the QuickTime File Format
//! specification (2016).
//!
//! The boxes are read by our own code, one file a structure. The whole index stays in memory as it is in
//! the file (big-endian tables, never expanded), so a large index costs its own size and no more.

mod about;
pub(crate) mod boxes;
mod demux;
mod edits;
mod elsewhere;
mod entry;
pub mod fragment_mux;
mod fragments;
mod mux;
mod part;
mod tables;
#[cfg(test)]
mod tests;

pub use entry::decoder_setup;
pub use mux::Mp4Writer;
pub use part::{beginning_of, is_part, track_numbers};

use super::{Format, Source, Tried};
use crate::error::Result;

pub static FORMAT: Format = Format { name: "MP4", score, open, tried: Tried::Files };

fn open(source: Box<dyn Source>) -> Result<Box<dyn super::Demux>> {
    Ok(Box::new(demux::Mp4Reader::open(source)?))
}

/// A known box type where the first box's type stands (14496-12, 4.2), of a possible size.
fn score(head: &[u8]) -> u8 {
    let Some(size) = head.get(0..4).map(|b| u32::from_be_bytes([b[0], b[1], b[2], b[3]])) else { return 0 };
    let possible = size == 0 || size == 1 || size >= 8;
    match head.get(4..8) {
        // Pictures in the same boxes: known by their brand, and none of them has a movie inside.
        Some(b"ftyp") if crate::container::known::picture_brand(head).is_some() => 0,
        Some(b"ftyp") if possible => 100,
        Some(b"moov" | b"moof" | b"mdat" | b"styp" | b"sidx" | b"emsg" | b"prft") if possible => 90,
        Some(b"free" | b"skip" | b"wide" | b"pnot" | b"uuid") if possible => 60,
        _ => 0,
    }
}
