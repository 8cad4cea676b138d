//! The box header (14496-12, 4.2) and walking through boxes, in a file or in memory.

use crate::container::Source;
use crate::error::{Error, Result};
use crate::limits::MAX_BOXES;
use std::io::SeekFrom;

pub type Kind = [u8; 4];

/// A box type as text; bytes that are not printable become '.'.
pub fn show(kind: Kind) -> String {
    kind.iter().map(|&b| if (0x20..0x7f).contains(&b) { b as char } else { '.' }).collect()
}

/// A box of a file: where its content starts and ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FileBox {
    pub kind: Kind,
    pub start: u64,
    pub body: u64,
    pub end: u64,
    /// The size the header states goes past the end of the file.
    pub cut: bool,
}

/// The top-level boxes of a file: sizes are hopped over, content is not read. A last box that goes past
/// the end is given with `cut`. Bytes behind the last box that are no box end the walk.
pub fn top_level(source: &mut dyn Source) -> Result<Vec<FileBox>> {
    let file_end = source.seek(SeekFrom::End(0))?;
    let mut found = Vec::new();
    let mut at = 0u64;
    while at + 8 <= file_end && found.len() < MAX_BOXES {
        source.seek(SeekFrom::Start(at))?;
        let mut head = [0u8; 16];
        source.read_exact(&mut head[..8])?;
        let short = u32::from_be_bytes([head[0], head[1], head[2], head[3]]);
        let kind = [head[4], head[5], head[6], head[7]];
        let (size, header) = match short {
            0 => (file_end - at, 8),
            1 if at + 16 <= file_end => {
                source.read_exact(&mut head[8..])?;
                (
                    u64::from_be_bytes([
                        head[8], head[9], head[10], head[11], head[12], head[13], head[14], head[15],
                    ]),
                    16,
                )
            }
            n => (u64::from(n), 8),
        };
        if size < header {
            // 4 bytes of zero often end a file of QuickTime's; anything else is no box.
            if !found.is_empty() {
                break;
            }
            return Err(Error::damaged_at(show(kind), at, format!("box size {size}; at least {header}")));
        }
        let end = at.saturating_add(size);
        found.push(FileBox {
            kind,
            start: at,
            body: at + header,
            end: end.min(file_end),
            cut: end > file_end,
        });
        at = end;
    }
    Ok(found)
}

/// A box in memory.
#[derive(Clone, Copy, Debug)]
pub struct Inner<'a> {
    pub kind: Kind,
    pub body: &'a [u8],
}

/// The boxes inside a container box; a broken header ends the walk quietly, a cut last box is shortened.
pub fn inside(body: &[u8]) -> impl Iterator<Item = Inner<'_>> {
    let mut at = 0usize;
    let mut count = 0usize;
    std::iter::from_fn(move || {
        let rest = body.get(at..)?;
        count += 1;
        if rest.len() < 8 || count > MAX_BOXES {
            return None;
        }
        let short = u32::from_be_bytes([rest[0], rest[1], rest[2], rest[3]]) as usize;
        let kind = [rest[4], rest[5], rest[6], rest[7]];
        let (size, header) = match short {
            0 => (rest.len(), 8),
            1 if rest.len() >= 16 => {
                let n = u64::from_be_bytes(rest[8..16].try_into().ok()?);
                (usize::try_from(n).ok()?, 16)
            }
            n => (n, 8),
        };
        if size < header {
            return None;
        }
        let end = size.min(rest.len());
        at += end;
        Some(Inner { kind, body: &rest[header.min(end)..end] })
    })
}

/// The first box of a kind.
pub fn find<'a>(body: &'a [u8], kind: &Kind) -> Option<&'a [u8]> {
    inside(body).find(|b| b.kind == *kind).map(|b| b.body)
}

/// The first box on a path of kinds.
pub fn find_path<'a>(body: &'a [u8], path: &[&Kind]) -> Option<&'a [u8]> {
    path.iter().try_fold(body, |b, k| find(b, k))
}

pub use crate::bits::{be16, be32, be64};

/// Version of a full box (14496-12, 4.2).
pub fn version(b: &[u8]) -> u8 {
    b.first().copied().unwrap_or(0)
}

/// Builds boxes: the size is filled in when the closure ends.
#[derive(Default)]
pub struct Builder {
    pub bytes: Vec<u8>,
}

impl Builder {
    pub fn new() -> Self {
        Self::default()
    }
    pub fn put(&mut self, kind: &Kind, fill: impl FnOnce(&mut Self)) {
        let start = self.bytes.len();
        self.u32(0);
        self.raw(kind);
        fill(self);
        let size = (self.bytes.len() - start) as u32;
        self.bytes[start..start + 4].copy_from_slice(&size.to_be_bytes());
    }
    pub fn full(&mut self, kind: &Kind, version: u8, flags: u32, fill: impl FnOnce(&mut Self)) {
        self.put(kind, |b| {
            b.u32(u32::from(version) << 24 | flags);
            fill(b);
        });
    }
    pub fn raw(&mut self, bytes: &[u8]) {
        self.bytes.extend_from_slice(bytes);
    }
    pub fn u8(&mut self, v: u8) {
        self.bytes.push(v);
    }
    pub fn u16(&mut self, v: u16) {
        self.raw(&v.to_be_bytes());
    }
    pub fn u32(&mut self, v: u32) {
        self.raw(&v.to_be_bytes());
    }
    pub fn u64(&mut self, v: u64) {
        self.raw(&v.to_be_bytes());
    }
    pub fn zeros(&mut self, n: usize) {
        self.bytes.resize(self.bytes.len() + n, 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    fn sample() -> Vec<u8> {
        let mut b = Builder::new();
        b.put(b"moov", |b| {
            b.put(b"trak", |b| b.put(b"tkhd", |b| b.u32(7)));
            b.put(b"udta", |_| ());
        });
        b.bytes
    }

    #[test]
    fn built_boxes_are_found_again() {
        let bytes = sample();
        assert_eq!(find_path(&bytes, &[b"moov", b"trak", b"tkhd"]).and_then(|b| be32(b, 0)), Some(7));
        assert!(find_path(&bytes, &[b"moov", b"mdia"]).is_none());
    }

    #[test]
    fn a_box_past_the_end_is_cut_and_said_so() {
        let mut bytes = sample();
        bytes.truncate(20);
        let boxes = top_level(&mut Cursor::new(bytes)).unwrap();
        assert!(boxes[0].cut && boxes[0].end == 20);
    }

    #[test]
    fn large_sizes_and_to_the_end_sizes_are_followed() {
        let mut bytes = vec![0, 0, 0, 1];
        bytes.extend(b"mdat");
        bytes.extend(20u64.to_be_bytes());
        bytes.extend([9; 4]);
        bytes.extend([0, 0, 0, 0]);
        bytes.extend(b"free");
        bytes.extend([0; 5]);
        let boxes = top_level(&mut Cursor::new(bytes)).unwrap();
        assert_eq!(boxes.iter().map(|b| (b.body, b.end)).collect::<Vec<_>>(), [(16, 20), (28, 33)]);
    }

    #[test]
    fn sizes_below_the_header_end_the_walk() {
        assert_eq!(inside(&[0, 0, 0, 3, b'a', b'b', b'c', b'd', 1, 2]).count(), 0);
        assert!(top_level(&mut Cursor::new(vec![0, 0, 0, 3, 1, 2, 3, 4, 5])).is_err());
    }
}
