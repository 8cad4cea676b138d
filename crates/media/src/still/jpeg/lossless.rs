//! JPEG without loss (ITU-T T.81, annex H; process 14), as cameras pack what their sensors saw: of each sample its difference from
//! what its neighbours foretell.

use super::scan::{Bits, Codes, tables};
use super::{DHT, EOI, SOI, SOS, segment};
use crate::bits::be16;
use crate::error::{Error, Result};

const NAME: &str = "lossless JPEG";
const SOF3: u8 = 0xc3;
const DRI: u8 = 0xdd;

/// Of the frame header (B.2.2).
struct Frame {
    precision: u32,
    width: usize,
    height: usize,
    components: Vec<u8>,
}

fn spoilt(at: usize, what: &str) -> Error {
    Error::damaged_at(NAME, at as u64, what)
}

fn frame(body: &[u8], most: usize) -> Option<Frame> {
    let f = Frame {
        precision: u32::from(*body.first()?),
        height: be16(body, 1)?.into(),
        width: be16(body, 3)?.into(),
        components: body.get(6..)?.chunks_exact(3).map(|c| c[0]).collect(),
    };
    let alike = body[6..].chunks_exact(3).all(|c| c[1] == 0x11);
    let samples = f.width * f.height * f.components.len();
    (alike && (2..=16).contains(&f.precision) && (1..=4).contains(&f.components.len()))
        .then_some(f)
        .filter(|_| (1..=most).contains(&samples))
}

/// The samples of a picture, row by row, those of a pixel side by side. More than so many are none of ours.
pub fn decode(b: &[u8], most: usize) -> Result<Vec<u16>> {
    if b.get(..2) != Some(&[0xff, SOI]) {
        return Err(spoilt(0, "its picture data is spoilt: no beginning"));
    }
    let mut codes = vec![Codes::default(); 4];
    let (mut found, mut interval) = (None, 0usize);
    let mut at = 2;
    while let Some((marker, body)) = segment(b, &mut at) {
        match marker {
            DHT => tables(body).into_iter().for_each(|(_, n, table)| codes[n] = table),
            DRI => interval = be16(body, 0).unwrap_or(0).into(),
            SOF3 => {
                found = frame(body, most);
                if found.is_none() {
                    return Err(spoilt(at, "its picture data is spoilt: a frame that cannot be"));
                }
            }
            EOI => break,
            0xc0..=0xcf => return Err(Error::unsupported(NAME, "a JPEG of another process")),
            SOS => {
                let f =
                    found.ok_or_else(|| spoilt(at, "its picture data is spoilt: a scan without a frame"))?;
                return scan(b, at, body, &f, &codes, interval);
            }
            _ => (),
        }
    }
    Err(spoilt(at, "its picture data is spoilt: no scan"))
}

fn scan(b: &[u8], at: usize, head: &[u8], f: &Frame, codes: &[Codes], interval: usize) -> Result<Vec<u16>> {
    let n = f.components.len();
    let wrong = || spoilt(at, "its picture data is spoilt: a scan header that cannot be");
    let parts = head.get(1..=n * 2).filter(|_| usize::from(head[0]) == n).ok_or_else(wrong)?;
    let tables: Vec<&Codes> = parts.chunks_exact(2).map(|c| &codes[usize::from(c[1] >> 4 & 3)]).collect();
    let in_order = parts.chunks_exact(2).zip(&f.components).all(|(c, id)| c[0] == *id);
    let (Some(&predictor), Some(&low)) = (head.get(1 + n * 2), head.get(3 + n * 2)) else {
        return Err(wrong());
    };
    let point = u32::from(low & 15);
    if !in_order || !(1..=7).contains(&predictor) || point >= f.precision {
        return Err(wrong());
    }
    let first = 1i32 << (f.precision - point - 1);
    let row = f.width * n;
    let mut out = vec![0u16; row * f.height];
    let mut bits = Bits::new(b, at);
    // Rows from which it was begun anew: they are foretold as the first one is (H.1.2.1).
    let mut fresh = 0;
    for y in 0..f.height {
        let (above, line) = out.split_at_mut(y * row);
        let above = above.get(above.len().saturating_sub(row)..).unwrap_or(&[]);
        let line = &mut line[..row];
        for x in 0..f.width {
            let unit = y * f.width + x;
            if interval > 0 && unit > 0 && unit.is_multiple_of(interval) {
                let marked =
                    bits.ends_here() && matches!(b.get(bits.at..bits.at + 2), Some([0xff, 0xd0..=0xd7]));
                // Anywhere but at the beginning of a row it has no meaning that is agreed on.
                if !marked || x > 0 {
                    return Err(spoilt(
                        bits.at,
                        "its picture data is spoilt: no restart marker where one must be",
                    ));
                }
                bits.at += 2;
                fresh = y;
            }
            for (c, table) in tables.iter().enumerate() {
                let i = x * n + c;
                let foretold = match (x, y == fresh) {
                    (0, true) => first,
                    (0, false) => i32::from(above[i]),
                    (_, true) => i32::from(line[i - n]),
                    _ => {
                        let (a, b, c) =
                            (i32::from(line[i - n]), i32::from(above[i]), i32::from(above[i - n]));
                        match predictor {
                            1 => a,
                            2 => b,
                            3 => c,
                            4 => a + b - c,
                            5 => a + ((b - c) >> 1),
                            6 => b + ((a - c) >> 1),
                            _ => (a + b) >> 1,
                        }
                    }
                };
                let difference = match bits.symbol(table) {
                    Some(16) => Some(32_768),
                    Some(n) if n < 16 => bits.value(n.into()),
                    _ => None,
                };
                let d = difference.ok_or_else(|| {
                    spoilt(
                        bits.at,
                        "its picture data is spoilt: a code that is none, or the end of it too early",
                    )
                })?;
                line[i] = (foretold + d) as u16;
            }
        }
    }
    if point > 0 {
        out.iter_mut().for_each(|v| *v <<= point);
    }
    Ok(out)
}
