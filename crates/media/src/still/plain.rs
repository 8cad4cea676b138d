//! TIFF (revision 6.0, 1992) in the forms that scanners, fax machines and printers write: one to sixteen bits, strips and tiles,
//! planes apart, palettes, CMYK and CIELab, packed by runs, LZW, Deflate or as a fax (ITU-T T.4, T.6). What is packed is unpacked
//! to its end, so that checksums count. Other forms (floating point, JPEG inside) are the library's.

use super::{PROFILE, StillFacts, check_area, colour, guarded, unpacked_runs, whole};
use crate::container::Source;
use crate::error::{Error, Result};
use crate::frame::Chroma;
use image::{DynamicImage, ImageBuffer};
use std::io::Read;

const NAME: &str = "TIFF";
const MAX_ENTRIES: usize = 4096;
/// Values of one entry, and with them the strips or tiles of a picture.
const MAX_VALUES: u64 = 4_000_000;

struct Directory<'a> {
    bytes: &'a [u8],
    little: bool,
    /// Tag, kind, count, and where the value stands.
    entries: Vec<(u16, u16, u32, usize)>,
}

impl<'a> Directory<'a> {
    fn number(&self, at: usize, size: usize) -> Option<u64> {
        let b = self.bytes.get(at..at.checked_add(size)?)?;
        let add = |n: u64, v: &u8| n << 8 | u64::from(*v);
        Some(if self.little { b.iter().rev().fold(0, add) } else { b.iter().fold(0, add) })
    }

    fn read(bytes: &'a [u8]) -> Option<Directory<'a>> {
        let little = match bytes.get(..4)? {
            b"II*\0" => true,
            b"MM\0*" => false,
            _ => return None,
        };
        let mut d = Directory { bytes, little, entries: Vec::new() };
        let first = d.number(4, 4)? as usize;
        let count = (d.number(first, 2)? as usize).min(MAX_ENTRIES);
        for n in 0..count {
            let at = first + 2 + n * 12;
            let kind = d.number(at + 2, 2)? as u16;
            let values = d.number(at + 4, 4)? as u32;
            let size = match kind {
                1 | 2 | 6 | 7 => 1,
                3 | 8 => 2,
                4 | 9 | 11 => 4,
                _ => 8,
            };
            let here = u64::from(values) * size <= 4;
            let value = if here { at + 8 } else { d.number(at + 8, 4)? as usize };
            d.entries.push((d.number(at, 2)? as u16, kind, values, value));
        }
        Some(d)
    }

    fn all(&self, tag: u16) -> Option<Vec<u64>> {
        let &(_, kind, count, at) = self.entries.iter().find(|e| e.0 == tag)?;
        let size = match kind {
            1 | 7 => 1,
            3 => 2,
            4 => 4,
            _ => return None,
        };
        if u64::from(count) > MAX_VALUES {
            return None;
        }
        (0..count as usize).map(|n| self.number(at.checked_add(n * size)?, size)).collect()
    }

    fn one(&self, tag: u16) -> Option<u64> {
        self.all(tag)?.first().copied()
    }

    fn raw(&self, tag: u16) -> Option<&'a [u8]> {
        let &(_, _, count, at) = self.entries.iter().find(|e| e.0 == tag)?;
        self.bytes.get(at..at.checked_add(count as usize)?)
    }
}

struct Form {
    width: u32,
    height: u32,
    bits: u8,
    samples: usize,
    photometric: u64,
    compression: u64,
    predicts: bool,
    apart: bool,
    turned_bits: bool,
    alpha: bool,
    /// Size of a strip or tile.
    piece: (u32, u32),
    tiled: bool,
    turn: u8,
}

/// What can be read here; `None` is for the library.
fn form(d: &Directory<'_>) -> Option<Form> {
    let (width, height) = (u32::try_from(d.one(256)?).ok()?, u32::try_from(d.one(257)?).ok()?);
    let samples = d.one(277).unwrap_or(1) as usize;
    let depths = d.all(258).unwrap_or_else(|| vec![1]);
    let bits = *depths.first()? as u8;
    let compression = d.one(259).unwrap_or(1);
    let photometric = d.one(262)?;
    let colours = match photometric {
        0 | 1 | 3 => 1,
        2 | 8 => 3,
        5 => 4,
        _ => return None,
    };
    let extra = d.all(338).unwrap_or_default();
    let alpha =
        samples == colours + 1 && matches!(extra.first(), Some(1 | 2)) && matches!(photometric, 0..=2);
    let good = depths.iter().all(|b| *b == u64::from(bits))
        && matches!(bits, 1 | 2 | 4 | 8 | 16)
        && (samples == colours || samples == colours + 1 && colours != 4)
        && matches!(compression, 1 | 3..=5 | 8 | 32_946 | 32_773)
        // Lines that are told by those above them are the library's, if anybody's.
        && (compression != 3 || d.one(292).unwrap_or(0) & 1 == 0)
        && (!matches!(compression, 3 | 4) || bits == 1 && samples == 1)
        && d.all(339).is_none_or(|f| f.iter().all(|f| *f == 1))
        && (photometric != 8 || bits >= 8)
        && (colours == 1 || bits >= 8)
        && (photometric != 3 || bits <= 8);
    if !good || width == 0 || height == 0 {
        return None;
    }
    let predictor = d.one(317).unwrap_or(1);
    if predictor > 2 || predictor == 2 && bits < 8 {
        return None;
    }
    let tiled = d.entries.iter().any(|e| e.0 == 322);
    let piece = match tiled {
        true => (d.one(322)? as u32, d.one(323)? as u32),
        false => (width, (d.one(278).unwrap_or(height.into()).min(height.into()) as u32).max(1)),
    };
    if piece.0 == 0
        || piece.1 == 0
        || piece.0 > width.saturating_add(4096)
        || piece.1 > height.saturating_add(4096)
    {
        return None;
    }
    Some(Form {
        width,
        height,
        bits,
        samples,
        photometric,
        compression,
        predicts: predictor == 2,
        apart: d.one(284) == Some(2) && samples > 1,
        turned_bits: d.one(266) == Some(2),
        alpha,
        piece,
        tiled,
        turn: d.one(274).and_then(|t| u8::try_from(t).ok()).unwrap_or(1),
    })
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

/// One strip or tile, of so many bytes.
fn unpack(packed: &[u8], f: &Form, want: usize) -> Result<Vec<u8>> {
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
                    Err(e) => return Err(spoilt(&e.to_string())),
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
            d.read_to_end(&mut out).map_err(|e| spoilt(&e.to_string()))?;
            out
        }
    })
}

/// Values of all samples, each plane's one after another within a pixel, as they are stored.
fn values(d: &Directory<'_>, f: &Form) -> Result<Vec<u16>> {
    let missing =
        || Error::damaged(NAME, "cut off, or still being copied: a part of the picture is not there");
    let (offsets, counts) = if f.tiled { (324, 325) } else { (273, 279) };
    let offsets = d.all(offsets).ok_or_else(missing)?;
    let (across, down) = (f.width.div_ceil(f.piece.0), f.height.div_ceil(f.piece.1));
    let planes = if f.apart { f.samples } else { 1 };
    let in_pixel = if f.apart { 1 } else { f.samples };
    let row = (f.piece.0 as usize * in_pixel * usize::from(f.bits)).div_ceil(8);
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
            let mut data = unpack(packed, f, needs)?;
            if data.len() < row * rows {
                return Err(spoilt("a part of it is too short"));
            }
            data.truncate(needs);
            for (y, line) in data.chunks_exact_mut(row).take(rows).enumerate() {
                let mut line: Vec<u16> = match f.bits {
                    16 => (0..line.len() / 2)
                        .map(|i| {
                            let b = [line[2 * i], line[2 * i + 1]];
                            if d.little { u16::from_le_bytes(b) } else { u16::from_be_bytes(b) }
                        })
                        .collect(),
                    8 => line.iter().map(|v| (*v).into()).collect(),
                    bits => line
                        .iter()
                        .flat_map(|v| {
                            (1..=8 / bits).map(move |n| u16::from(v >> (8 - n * bits) & ((1 << bits) - 1)))
                        })
                        .collect(),
                };
                if f.predicts {
                    let mask = if f.bits == 8 { 0xff } else { 0xffff };
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

/// CIELab (section 23), with the white of D50, in red, green and blue of sRGB of 16 bits.
fn lab(l: f32, a: f32, b: f32) -> [u16; 3] {
    let f =
        |t: f32| if t > 6.0 / 29.0 { t * t * t } else { 3.0 * (6.0f32 / 29.0).powi(2) * (t - 4.0 / 29.0) };
    let y = (l + 16.0) / 116.0;
    let (x, y, z) = (0.9642 * f(y + a / 500.0), f(y), 0.8249 * f(y - b / 200.0));
    // From D50 (Bradford) to the primaries of sRGB.
    let linear = [
        3.133_856 * x - 1.616_867 * y - 0.490_615 * z,
        -0.978_768 * x + 1.916_142 * y + 0.033_454 * z,
        0.071_945 * x - 0.228_991 * y + 1.405_243 * z,
    ];
    linear.map(|v| {
        let v = v.clamp(0.0, 1.0);
        let shown = if v <= 0.003_130_8 { 12.92 * v } else { 1.055 * v.powf(1.0 / 2.4) - 0.055 };
        (shown * 65_535.0).round() as u16
    })
}

/// `None`: a form that is the library's.
pub fn facts(source: &mut dyn Source) -> Result<Option<StillFacts>> {
    let bytes = whole(NAME, source)?;
    let Some(d) = Directory::read(&bytes) else { return Ok(None) };
    let Some(f) = form(&d) else { return Ok(None) };
    check_area(NAME, f.width, f.height)?;
    let turned = f.turn >= 5;
    let (w, h) = if turned { (f.height, f.width) } else { (f.width, f.height) };
    let chroma = match (f.photometric, f.alpha) {
        (0 | 1, _) => Chroma::Gray,
        (_, true) => Chroma::Rgba,
        _ => Chroma::Rgb,
    };
    let mut facts = StillFacts::new(NAME, w, h, if f.bits == 16 { 16 } else { 8 }, chroma);
    facts.rotation = match f.turn {
        3 | 4 => 180,
        5 | 6 => 90,
        7 | 8 => 270,
        _ => 0,
    };
    if d.raw(34_675).is_some_and(|p| !p.is_empty()) {
        facts.remarks.push(PROFILE.into());
    }
    Ok(Some(facts))
}

/// A picture as it is shown, in the colours of sRGB; `None`: a form that is the library's.
pub fn decode(source: &mut dyn Source) -> Result<Option<DynamicImage>> {
    let bytes = whole(NAME, source)?;
    let Some(d) = Directory::read(&bytes) else { return Ok(None) };
    let Some(f) = form(&d) else { return Ok(None) };
    check_area(NAME, f.width, f.height)?;
    let raw = values(&d, &f)?;
    let (w, h) = (f.width, f.height);
    let most = (1u32 << f.bits) - 1;
    let wide = |v: u16| (u32::from(v) * 65_535 / most) as u16;
    let deep = f.bits == 16;
    let picture = match f.photometric {
        0 | 1 => {
            let level = |v: u16| if f.photometric == 0 { 65_535 - wide(v) } else { wide(v) };
            if f.alpha {
                let all = raw.chunks_exact(2).flat_map(|p| [level(p[0]), wide(p[1])]).collect();
                ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageLumaA16)
            } else {
                let all = raw.chunks_exact(f.samples).map(|p| level(p[0])).collect();
                ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageLuma16)
            }
        }
        2 if f.alpha => {
            let all = raw.chunks_exact(4).flat_map(|p| [0, 1, 2, 3].map(|i| wide(p[i]))).collect();
            ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageRgba16)
        }
        3 => {
            let map = d.all(320).filter(|m| m.len() >= 3 << f.bits);
            let map = map.ok_or_else(|| Error::damaged(NAME, "a palette is missing"))?;
            let colour = |v: u16, part: usize| map[(part << f.bits) + usize::from(v)] as u16;
            let all = raw.chunks_exact(f.samples).flat_map(|p| [0, 1, 2].map(|i| colour(p[0], i))).collect();
            ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageRgb16)
        }
        5 => {
            let all = raw.chunks_exact(4).flat_map(|p| {
                let white = |v: u16| 65_535 - u32::from(wide(v));
                let black = white(p[3]);
                [0, 1, 2].map(|i| (white(p[i]) * black / 65_535) as u16)
            });
            ImageBuffer::from_raw(w, h, all.collect()).map(DynamicImage::ImageRgb16)
        }
        8 => {
            let scale = if deep { 256.0 } else { 1.0 };
            let signed = |v: u16| if deep { f32::from(v as i16) / scale } else { f32::from(v as u8 as i8) };
            let all = raw
                .chunks_exact(f.samples)
                .flat_map(|p| lab(f32::from(wide(p[0])) / 655.35, signed(p[1]), signed(p[2])));
            ImageBuffer::from_raw(w, h, all.collect()).map(DynamicImage::ImageRgb16)
        }
        _ => {
            let all = raw.chunks_exact(f.samples).flat_map(|p| [0, 1, 2].map(|i| wide(p[i]))).collect();
            ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageRgb16)
        }
    };
    let mut picture =
        picture.ok_or_else(|| Error::damaged(NAME, "a picture of another size than it says"))?;
    if let Some(turn) = image::metadata::Orientation::from_exif(f.turn) {
        picture.apply_orientation(turn);
    }
    if !deep {
        picture = colour::eight(picture);
    }
    // A profile of inks or of Lab is none of what was made of them.
    let profile = d.raw(34_675).filter(|p| !p.is_empty() && f.photometric <= 3);
    Ok(Some(profile.map_or(picture.clone(), |p| colour::to_srgb(picture, p))))
}
