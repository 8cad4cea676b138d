//! What stands in front of the samples: the frame's header, the picture's, and where its slices lie (RDD 36, 5.1, 5.2, 6.1, 6.2).

use crate::bits::{be16, be32};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Fields};

pub const NAME: &str = "ProRes";

pub fn bad(what: impl Into<String>) -> Error {
    Error::damaged(NAME, what)
}

/// A frame's header.
#[derive(Clone, Debug)]
pub struct Frame {
    pub width: u32,
    pub height: u32,
    pub chroma: Chroma,
    pub fields: Fields,
    pub colour: Colour,
    /// Bits of a sample of coverage: none, 8 or 16.
    pub coverage: Option<u32>,
    /// Weights of luma and of chroma, row by row.
    pub weights: [[u8; 64]; 2],
}

impl Frame {
    /// The header, and what follows it.
    pub fn parse(data: &[u8]) -> Result<(Frame, &[u8])> {
        let cut = || bad("the frame's header is cut short");
        if data.get(4..8) != Some(b"icpf") {
            return Err(bad("a frame does not begin as one"));
        }
        // What the container adds behind a frame is none of it.
        let size = be32(data, 0).ok_or_else(cut)? as usize;
        let data = data.get(8..size.min(data.len())).ok_or_else(cut)?;
        let length = usize::from(be16(data, 0).ok_or_else(cut)?);
        let (head, rest) = data.split_at_checked(length).ok_or_else(cut)?;
        let (20.., Some(version)) = (head.len(), be16(head, 2)) else { return Err(cut()) };
        if version > 1 {
            return Err(Error::unsupported(NAME, format!("version {version} of its stream")));
        }
        let chroma = match head[12] >> 6 {
            2 => Chroma::C422,
            3 => Chroma::C444,
            n => return Err(bad(format!("a kind of chroma that there is none of ({n})"))),
        };
        let fields = match head[12] >> 2 & 3 {
            0 => Fields::Progressive,
            1 => Fields::TopFirst,
            2 => Fields::BottomFirst,
            n => return Err(bad(format!("an order of fields that there is none of ({n})"))),
        };
        let coverage = match head[17] & 15 {
            0 => None,
            1 => Some(8),
            2 => Some(16),
            n => return Err(bad(format!("a kind of coverage that there is none of ({n})"))),
        };
        let stated = |code: u8| if code == 0 { 2 } else { code };
        let colour = Colour {
            primaries: stated(head[14]),
            transfer: stated(head[15]),
            matrix: stated(head[16]),
            full_range: false,
        };
        let (luma_there, chroma_there) = (head[19] & 2 != 0, head[19] & 1 != 0);
        let mut tables = head[20..].chunks_exact(64);
        let mut table = |there: bool, otherwise: [u8; 64]| match there {
            true => tables.next().and_then(|t| t.try_into().ok()).ok_or_else(cut),
            false => Ok(otherwise),
        };
        let of_luma = table(luma_there, [4; 64])?;
        let of_chroma = table(chroma_there, of_luma)?;
        let side = |at: usize| u32::from(be16(head, at).unwrap_or(0));
        let (width, height) = (side(8), side(10));
        crate::frame::video::check_size(NAME, width, height)?;
        Ok((Frame { width, height, chroma, fields, colour, coverage, weights: [of_luma, of_chroma] }, rest))
    }

    /// One picture, or one for each field.
    pub fn pictures(&self) -> usize {
        if self.fields == Fields::Progressive { 1 } else { 2 }
    }

    /// The line of the frame that a picture begins with.
    pub fn first_line(&self, picture: usize) -> usize {
        match self.fields {
            Fields::Progressive => 0,
            Fields::BottomFirst => 1 - picture,
            _ => picture,
        }
    }

    /// Rows of macroblocks of a picture.
    fn rows(&self, picture: usize) -> usize {
        let (first, step) = (self.first_line(picture), self.pictures());
        (self.height as usize).saturating_sub(first).div_ceil(step).div_ceil(16)
    }
}

/// Where a slice lies: its row of macroblocks, its first macroblock there, how many it has, and its bytes.
pub struct Slice<'a> {
    pub row: usize,
    pub first: usize,
    pub count: usize,
    pub bytes: &'a [u8],
}

/// The slices of a picture, row by row, and what follows the picture.
pub fn slices<'a>(frame: &Frame, picture: usize, data: &'a [u8]) -> Result<(Vec<Slice<'a>>, &'a [u8])> {
    let cut = || bad("a picture is cut short");
    let head = usize::from(data.first().ok_or_else(cut)? >> 3);
    let size = be32(data, 1).ok_or_else(cut)? as usize;
    let (data, rest) = data.split_at_checked(size).ok_or_else(cut)?;
    let largest = 1usize << (data.get(7).ok_or_else(cut)? >> 4 & 3);
    if head < 8 {
        return Err(bad("a picture's header is too short"));
    }
    let across = (frame.width as usize).div_ceil(16);
    let rows = frame.rows(picture);
    // Full slices, and smaller and smaller ones at the end of a row (RDD 36, 6.2).
    let mut row = Vec::new();
    let (mut first, mut count) = (0, largest);
    while first < across {
        while count > across - first {
            count /= 2;
        }
        row.push((first, count));
        first += count;
    }
    let table = data.get(head..head + 2 * row.len() * rows).ok_or_else(cut)?;
    let mut at = head + table.len();
    let mut found = Vec::with_capacity(row.len() * rows);
    for (n, size) in table.chunks_exact(2).enumerate() {
        let size = usize::from(u16::from_be_bytes([size[0], size[1]]));
        let (first, count) = row[n % row.len()];
        // A slice that is not there whole is told by whoever reads it: the others are.
        let bytes = data.get(at.min(data.len())..(at + size).min(data.len())).unwrap_or_default();
        found.push(Slice { row: n / row.len(), first, count, bytes });
        at += size;
    }
    Ok((found, rest))
}
