//! The strips or tiles that a picture in the form of TIFF (revision 6.0, 1992) is stored in.

use super::directory::Directory;
use super::{guarded, unpacked_runs};
use crate::error::{Error, Result};
use std::io::Read;

const NAME: &str = "TIFF";

pub struct Form {
    pub width: u32,
    pub height: u32,
    pub bits: u8,
    pub samples: usize,
    pub compression: u64,
    /// How values are told by those before them: 1 not, 2 by the one of the same kind on the left.
    pub predictor: u64,
    apart: bool,
    turned_bits: bool,
    /// Size of a strip or tile.
    piece: (u32, u32),
    tiled: bool,
}

impl Form {
    /// How the picture of a directory is stored; whether that can be read is for who asks.
    pub fn of(d: &Directory<'_>) -> std::result::Result<Form, &'static str> {
        let number = |tag| d.one(tag).and_then(|v| u32::try_from(v).ok()).filter(|v| *v > 0);
        let (Some(width), Some(height)) = (number(256), number(257)) else { return Err("without a size") };
        let depths = d.all(258).unwrap_or_else(|| vec![1]);
        let bits = depths.first().and_then(|b| u8::try_from(*b).ok()).unwrap_or(0);
        if depths.iter().any(|b| *b != u64::from(bits)) {
            return Err("of samples that are not of one depth");
        }
        let tiled = d.has(322);
        let piece = match tiled {
            true => (number(322), number(323)),
            false => (Some(width), Some(number(278).unwrap_or(height).min(height))),
        };
        let fits = |piece: &u32, side: u32| *piece <= side.saturating_add(4096);
        let (Some(across), Some(down)) =
            (piece.0.filter(|p| fits(p, width)), piece.1.filter(|p| fits(p, height)))
        else {
            return Err("in tiles that cannot be");
        };
        let samples = d.one(277).unwrap_or(1) as usize;
        Ok(Form {
            width,
            height,
            bits,
            samples,
            compression: d.one(259).unwrap_or(1),
            predictor: d.one(317).unwrap_or(1),
            apart: d.one(284) == Some(2) && samples > 1,
            turned_bits: d.one(266) == Some(2),
            piece: (across, down),
            tiled,
        })
    }
}

fn spoilt(what: &str) -> Error {
    Error::damaged(NAME, format!("its picture data is spoilt ({what})"))
}

/// Lines of black and white as bytes of eight pixels, white 0.
fn fax(packed: Vec<u8>, f: &Form) -> Result<Vec<u8>> {
    let width = u16::try_from(f.piece.0).map_err(|_| Error::limit(NAME, "a fax wider than 65535 pixels"))?;
    let row = f.piece.0.div_ceil(8) as usize;
    let (mut out, mut rows) = (Vec::new(), 0u32);
    let most = f.piece.1;
    let mut line = |positions: &[u16]| {
        if rows >= most {
            return;
        }
        rows += 1;
        let from = out.len();
        out.resize(from + row, 0u8);
        for (x, colour) in fax::decoder::pels(positions, width).enumerate() {
            if colour == fax::Color::Black {
                out[from + x / 8] |= 0x80 >> (x % 8);
            }
        }
    };
    // How it ends tells nothing: what counts is the lines that were there.
    guarded(NAME, || {
        match f.compression {
            4 => _ = fax::decoder::decode_g4(packed.into_iter(), width, None, &mut line),
            // The last line need not be ended: ends of lines are put behind it.
            _ => _ = fax::decoder::decode_g3(packed.into_iter().chain([0, 1].repeat(8)), &mut line),
        }
        Ok(())
    })?;
    if rows == 0 {
        return Err(spoilt("no line of it can be read"));
    }
    Ok(out)
}

/// Photographs of a camera are packed in this way without loss (Digital Negative 1.7, chapter 3).
pub const LOSSLESS: u64 = 7;

/// One strip or tile, of so many bytes.
fn unpack(packed: &[u8], f: &Form, want: usize, little: bool) -> Result<Vec<u8>> {
    if f.compression == LOSSLESS {
        let samples = super::jpeg::lossless::decode(packed, want / 2)?;
        return Ok(samples
            .iter()
            .flat_map(|v| if little { v.to_le_bytes() } else { v.to_be_bytes() })
            .collect());
    }
    let mut packed = packed.to_vec();
    if f.turned_bits {
        packed.iter_mut().for_each(|b| *b = b.reverse_bits());
    }
    Ok(match f.compression {
        1 => packed,
        3 | 4 => fax(packed, f)?,
        5 => {
            let mut d = weezl::decode::Decoder::with_tiff_size_switch(weezl::BitOrder::Msb, 8);
            let mut out = vec![0; want];
            let (mut from, mut at) = (packed.as_slice(), 0);
            while at < want {
                let result = d.decode_bytes(from, &mut out[at..]);
                at += result.consumed_out;
                from = &from[result.consumed_in..];
                match result.status {
                    Ok(weezl::LzwStatus::Ok) if result.consumed_in + result.consumed_out > 0 => (),
                    Ok(weezl::LzwStatus::Done) => break,
                    Ok(_) => return Err(spoilt("it is too short")),
                    Err(_) => return Err(spoilt("a code that is none")),
                }
            }
            out.truncate(at);
            out
        }
        32_773 => unpacked_runs(&packed, want).ok_or_else(|| spoilt("it is too short"))?,
        _ => {
            let mut out = Vec::with_capacity(want);
            // To its end, where its checksum stands; more than a little too much is none of ours.
            let most = want as u64 + (1 << 20);
            let mut d = flate2::read::ZlibDecoder::new(packed.as_slice()).take(most);
            d.read_to_end(&mut out).map_err(|_| spoilt("what was packed does not come out"))?;
            out
        }
    })
}

/// So many values of 9 to 15 bits, the highest bit first.
fn packed_words(line: &[u8], bits: u32, count: usize) -> Vec<u16> {
    let (mut held, mut left) = (0u32, 0);
    let mut bytes = line.iter();
    let mut next = || {
        while left < bits {
            held = held << 8 | u32::from(*bytes.next()?);
            left += 8;
        }
        left -= bits;
        Some((held >> left & ((1 << bits) - 1)) as u16)
    };
    (0..count).map_while(|_| next()).collect()
}

/// Values of all samples, each plane's one after another within a pixel, as they are stored.
pub fn values(d: &Directory<'_>, f: &Form) -> Result<Vec<u16>> {
    let missing =
        || Error::damaged(NAME, "cut off, or still being copied: a part of the picture is not there");
    let (offsets, counts) = if f.tiled { (324, 325) } else { (273, 279) };
    let offsets = d.all(offsets).ok_or_else(missing)?;
    let (across, down) = (f.width.div_ceil(f.piece.0), f.height.div_ceil(f.piece.1));
    let planes = if f.apart { f.samples } else { 1 };
    let in_pixel = if f.apart { 1 } else { f.samples };
    // What was packed without loss comes out as words.
    let bits = if f.compression == LOSSLESS { 16 } else { f.bits };
    // Only these ways to pack have it (section 14).
    let predicts = f.predictor == 2 && matches!(f.compression, 5 | 8 | 32_946);
    let row = (f.piece.0 as usize * in_pixel * usize::from(bits)).div_ceil(8);
    let want = row * f.piece.1 as usize;
    let each = (across as usize).checked_mul(down as usize).ok_or_else(missing)?;
    if offsets.len() < each * planes {
        return Err(missing());
    }
    // A single strip may leave out how long it is.
    let counts = d.all(counts).unwrap_or_else(|| vec![want as u64; offsets.len()]);
    let mut out = vec![0u16; f.width as usize * f.height as usize * f.samples];
    for plane in 0..planes {
        for n in 0..each {
            let (left, top) = (n as u32 % across * f.piece.0, n as u32 / across * f.piece.1);
            let rows = f.piece.1.min(f.height - top) as usize;
            let number = plane * each + n;
            let from = offsets[number] as usize;
            let length = counts.get(number).copied().ok_or_else(missing)? as usize;
            let packed =
                d.bytes.get(from..from.checked_add(length).ok_or_else(missing)?).ok_or_else(missing)?;
            let needs = row * if f.tiled { f.piece.1 as usize } else { rows };
            let mut data = unpack(packed, f, needs, d.little)?;
            if data.len() < row * rows {
                return Err(spoilt("a part of it is too short"));
            }
            data.truncate(needs);
            for (y, line) in data.chunks_exact_mut(row).take(rows).enumerate() {
                let mut line: Vec<u16> = match bits {
                    16 => (0..line.len() / 2)
                        .map(|i| {
                            let b = [line[2 * i], line[2 * i + 1]];
                            if d.little { u16::from_le_bytes(b) } else { u16::from_be_bytes(b) }
                        })
                        .collect(),
                    8 => line.iter().map(|v| (*v).into()).collect(),
                    bits if bits < 8 => line
                        .iter()
                        .flat_map(|v| {
                            (1..=8 / bits).map(move |n| u16::from(v >> (8 - n * bits) & ((1 << bits) - 1)))
                        })
                        .collect(),
                    bits => packed_words(line, bits.into(), f.piece.0 as usize * in_pixel),
                };
                if predicts {
                    let mask = if bits == 8 { 0xff } else { 0xffff };
                    for i in in_pixel..line.len() {
                        line[i] = line[i].wrapping_add(line[i - in_pixel]) & mask;
                    }
                }
                let width = f.piece.0.min(f.width - left) as usize;
                let to = ((top as usize + y) * f.width as usize + left as usize) * f.samples;
                for x in 0..width {
                    for s in 0..in_pixel {
                        out[to + x * f.samples + plane + s] = line[x * in_pixel + s];
                    }
                }
            }
        }
    }
    Ok(out)
}
