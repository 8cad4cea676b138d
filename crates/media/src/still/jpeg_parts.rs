//! Large JPEGs are coded in parts by all processors: rows of blocks, each part behind a restart marker, where every coder
//! begins anew (ITU-T T.81, E.1.4 and B.2.4.4). The parts are of the picture's size alone: every machine makes the same.

use super::write::whole_jpeg;
use crate::error::{Error, Result};
use std::io::Write;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Smaller ones are made before threads have begun.
const LARGE: u64 = 1_000_000;
/// Rows of a part, and of a block.
const ROWS: usize = 256;
const BLOCK: usize = 8;
/// Blocks between two restarts: the number has 16 bits.
const MOST_BLOCKS: usize = 65_535;

const SOF0: u8 = 0xc0;
const RST0: u8 = 0xd0;
const EOI: [u8; 2] = [0xff, 0xd9];
const SOS: u8 = 0xda;
const DRI: u8 = 0xdd;

/// Red, green and blue of 8 bits.
pub fn encode(bytes: &[u8], (w, h): (u32, u32), quality: u8, out: &mut dyn Write) -> Result<()> {
    let columns = (w as usize).div_ceil(BLOCK);
    let rows = ROWS.min(MOST_BLOCKS / columns.max(1) * BLOCK);
    // What is too large for the format is refused there.
    let fits = u16::try_from(w).is_ok() && u16::try_from(h).is_ok();
    if u64::from(w) * u64::from(h) < LARGE || !fits {
        return whole_jpeg(bytes, (w, h), quality, out);
    }
    let parts: Vec<&[u8]> = bytes.chunks(rows * w as usize * 3).collect();
    let (next, made) = (AtomicUsize::new(0), Mutex::new((0..parts.len()).map(|_| None).collect::<Vec<_>>()));
    let work = || {
        loop {
            let n = next.fetch_add(1, Ordering::Relaxed);
            let Some(part) = parts.get(n) else { return };
            let mut one = Vec::new();
            let height = (part.len() / (w as usize * 3)) as u32;
            let coded = whole_jpeg(part, (w, height), quality, &mut one).map(|()| one);
            made.lock().unwrap_or_else(|e| e.into_inner())[n] = Some(coded);
        }
    };
    std::thread::scope(|scope| {
        let threads = std::thread::available_parallelism().map_or(1, usize::from).min(parts.len());
        (1..threads).for_each(|_| _ = scope.spawn(work));
        work();
    });
    let made = made.into_inner().unwrap_or_else(|e| e.into_inner());
    for (n, part) in made.into_iter().flatten().enumerate() {
        let part = part?;
        let at =
            Head::of(&part).ok_or_else(|| Error::limit("JPEG", "a part of it is coded in another way"))?;
        if n == 0 {
            out.write_all(&at.whole(&part, h as u16, (columns * rows / BLOCK) as u16))?;
        } else {
            out.write_all(&[0xff, RST0 + ((n - 1) % 8) as u8])?;
        }
        out.write_all(&part[at.scan..part.len() - EOI.len()])?;
    }
    Ok(out.write_all(&EOI)?)
}

/// Where things are in what one coder made.
struct Head {
    /// The height, in the frame's header.
    height: usize,
    /// The marker of the scan, and its first code.
    sos: usize,
    scan: usize,
}

impl Head {
    /// Nothing where it is none of blocks that stand by themselves.
    fn of(part: &[u8]) -> Option<Head> {
        let (mut at, mut height) = (2, None);
        loop {
            let (marker, len) = (*part.get(at + 1)?, crate::bits::be16(part, at + 2)?);
            match marker {
                SOF0 => {
                    let parts = usize::from(*part.get(at + 9)?);
                    let single = (0..parts).all(|c| part.get(at + 11 + 3 * c) == Some(&0x11));
                    height = single.then_some(at + 5);
                }
                SOS => return Some(Head { height: height?, sos: at, scan: at + 2 + usize::from(len) }),
                _ => (),
            }
            at += 2 + usize::from(len);
        }
    }

    /// Of the whole picture, with so many blocks between restarts.
    fn whole(&self, part: &[u8], height: u16, blocks: u16) -> Vec<u8> {
        let mut head = part[..self.sos].to_vec();
        head[self.height..self.height + 2].copy_from_slice(&height.to_be_bytes());
        head.extend([0xff, DRI, 0, 4]);
        head.extend(blocks.to_be_bytes());
        head.extend(&part[self.sos..self.scan]);
        head
    }
}

#[cfg(test)]
mod tests {
    use super::super::{decode, recognise};
    use super::*;
    use rstest::rstest;
    use std::io::Cursor;

    fn picture((w, h): (u32, u32)) -> Vec<u8> {
        let pixel = |(x, y): (u32, u32)| [(x * 7 + y) as u8, (y * 5) as u8, (x ^ y) as u8];
        (0..h).flat_map(|y| (0..w).map(move |x| (x, y))).flat_map(pixel).collect()
    }

    fn decoded(bytes: Vec<u8>) -> Vec<u8> {
        let mut file = Cursor::new(bytes);
        let head = file.get_ref().clone();
        let format = recognise(&head, &mut file).unwrap().unwrap();
        decode(format, &mut file).unwrap().to_rgb8().into_raw()
    }

    /// Coded in parts or at once, each block has the same numbers.
    #[rstest]
    #[case::parts((1200, 1000))]
    #[case::a_short_last((1001, 1030))]
    #[case::one_row_more((2000, 513))]
    #[case::wide((40_000, 30))]
    #[case::many((320, 4000))]
    fn parts_are_the_same_picture(#[case] size: (u32, u32)) {
        let bytes = picture(size);
        let (mut parts, mut whole) = (Vec::new(), Vec::new());
        encode(&bytes, size, 85, &mut parts).unwrap();
        whole_jpeg(&bytes, size, 85, &mut whole).unwrap();
        assert!(parts.windows(2).any(|m| m == [0xff, DRI]));
        let (parts, whole) = (decoded(parts), decoded(whole));
        assert_eq!(parts.len(), bytes.len());
        assert!(parts == whole);
    }

    #[test]
    fn a_small_one_is_made_at_once() {
        let bytes = picture((640, 480));
        let (mut parts, mut whole) = (Vec::new(), Vec::new());
        encode(&bytes, (640, 480), 85, &mut parts).unwrap();
        whole_jpeg(&bytes, (640, 480), 85, &mut whole).unwrap();
        assert!(parts == whole);
    }
}
