//! PSD, documents of layers ("File Formats Specification", 2019: file header, image data): the picture of all layers
//! together that stands at the end. Gray, red-green-blue and CMYK, of 8 and 16 bits, plain or in PackBits runs.

use super::{StillFacts, check_area, colour, unpacked_runs, whole};
use crate::bits::{be16, be32};
use crate::container::Source;
use crate::error::{Error, Result};
use crate::frame::Chroma;
use image::{DynamicImage, ImageBuffer};
use std::io::SeekFrom;

const NAME: &str = "PSD";

pub fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"8BPS\0\x01") || head.starts_with(b"8BPS\0\x02") { 100 } else { 0 }
}

struct Head {
    width: u32,
    height: u32,
    channels: u16,
    depth: u16,
    mode: u16,
    /// Lengths take eight bytes in the larger form.
    large: bool,
}

fn cut(what: &str) -> Error {
    Error::damaged(NAME, format!("cut off, or still being copied: {what}"))
}

fn head(b: &[u8]) -> Result<Head> {
    let all = || {
        Some(Head {
            large: be16(b, 4)? == 2,
            channels: be16(b, 12)?,
            height: be32(b, 14)?,
            width: be32(b, 18)?,
            depth: be16(b, 22)?,
            mode: be16(b, 24)?,
        })
    };
    let head = all().ok_or_else(|| cut("the header is not whole"))?;
    check_area(NAME, head.width, head.height)?;
    let colours = match head.mode {
        1 => 1,
        3 => 3,
        4 => 4,
        _ => 0,
    };
    if colours == 0 || !matches!(head.depth, 8 | 16) || head.channels < colours || head.channels > 56 {
        return Err(Error::unsupported(
            NAME,
            format!(
                "a picture of {} channels of {} bits in mode {}; gray, RGB and CMYK of 8 and 16 bits can be read",
                head.channels, head.depth, head.mode
            ),
        ));
    }
    Ok(head)
}

pub fn facts(source: &mut dyn Source) -> Result<StillFacts> {
    source.seek(SeekFrom::Start(0))?;
    let mut first = [0; 26];
    source.read_exact(&mut first).map_err(|_| cut("the header is not whole"))?;
    let h = head(&first)?;
    let chroma = match (h.mode, h.channels) {
        (1, _) => Chroma::Gray,
        (3, 4..) => Chroma::Rgba,
        _ => Chroma::Rgb,
    };
    let mut facts = StillFacts::new(NAME, h.width, h.height, h.depth as u8, chroma);
    if h.mode == 4 {
        facts
            .remarks
            .push("in CMYK: its colours are brought to red, green and blue without a profile".into());
    }
    Ok(facts)
}

/// Behind a part that says its length.
fn behind(b: &[u8], at: usize, large: bool) -> Result<usize> {
    let length = match large {
        true => be32(b, at).zip(be32(b, at + 4)).map(|(hi, lo)| u64::from(hi) << 32 | u64::from(lo)),
        false => be32(b, at).map(u64::from),
    };
    let length = length.and_then(|l| usize::try_from(l).ok()).ok_or_else(|| cut("a length is missing"))?;
    let end = at.checked_add(if large { 8 } else { 4 }).and_then(|at| at.checked_add(length));
    end.filter(|end| *end <= b.len()).ok_or_else(|| cut("a part of it is not all there"))
}

pub fn decode(source: &mut dyn Source) -> Result<DynamicImage> {
    let b = whole(NAME, source)?;
    let h = head(&b)?;
    // Colour table, resources, layers: each says how long it is.
    let at = behind(&b, 26, false)?;
    let at = behind(&b, at, false)?;
    let at = behind(&b, at, h.large)?;
    let how = be16(&b, at).ok_or_else(|| cut("the picture is missing"))?;
    let row = h.width as usize * usize::from(h.depth / 8);
    let rows = h.height as usize * usize::from(h.channels);
    // Masks and spot colours stand behind the picture's own channels: they are to be there, and not looked at.
    let shown = h.height as usize * usize::from(h.channels.min(4));
    let mut planes: Vec<u8> = Vec::new();
    match how {
        0 => {
            let data =
                b.get(at + 2..at + 2 + row * rows).ok_or_else(|| cut("the picture is not all there"))?;
            planes.extend_from_slice(&data[..row * shown]);
        }
        1 => {
            let each = if h.large { 4 } else { 2 };
            let mut from = at + 2 + rows * each;
            for n in 0..rows {
                let at = at + 2 + n * each;
                let length = if h.large { be32(&b, at) } else { be16(&b, at).map(u32::from) };
                let length = length.ok_or_else(|| cut("the lengths of rows are missing"))? as usize;
                let packed = b.get(from..from + length).ok_or_else(|| cut("the picture is not all there"))?;
                if n < shown {
                    let short = || Error::damaged(NAME, "a row that is too short");
                    planes.extend(unpacked_runs(packed, row).ok_or_else(short)?);
                }
                from += length;
            }
        }
        n => {
            return Err(Error::unsupported(
                NAME,
                format!("the picture is packed in way {n}; a plain copy can be read"),
            ));
        }
    }
    let plane = row * h.height as usize;
    let sample = |channel: usize, n: usize| -> u16 {
        let at = channel * plane;
        match h.depth {
            8 => u16::from(planes[at + n]) * 257,
            _ => u16::from_be_bytes([planes[at + n * 2], planes[at + n * 2 + 1]]),
        }
    };
    let pixels = h.width as usize * h.height as usize;
    let (w, tall) = (h.width, h.height);
    let picture = match (h.mode, h.channels) {
        (1, _) => ImageBuffer::from_raw(w, tall, (0..pixels).map(|n| sample(0, n)).collect())
            .map(DynamicImage::ImageLuma16),
        (3, 3) => ImageBuffer::from_raw(
            w,
            tall,
            (0..pixels).flat_map(|n| [0, 1, 2].map(|c| sample(c, n))).collect(),
        )
        .map(DynamicImage::ImageRgb16),
        (3, _) => ImageBuffer::from_raw(
            w,
            tall,
            (0..pixels).flat_map(|n| [0, 1, 2, 3].map(|c| sample(c, n))).collect(),
        )
        .map(DynamicImage::ImageRgba16),
        // Stored as what is left of the paper's white.
        _ => ImageBuffer::from_raw(
            w,
            tall,
            (0..pixels)
                .flat_map(|n| {
                    let black = u32::from(sample(3, n));
                    [0, 1, 2].map(|c| (u32::from(sample(c, n)) * black / 65_535) as u16)
                })
                .collect(),
        )
        .map(DynamicImage::ImageRgb16),
    };
    let picture = picture.ok_or_else(|| Error::damaged(NAME, "a picture of another size than it says"))?;
    Ok(if h.depth == 8 { colour::eight(picture) } else { picture })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Cursor;

    /// Two rows of three pixels.
    fn file(mode: u16, channels: u16, depth: u16, packed: bool) -> Vec<u8> {
        let mut b = b"8BPS\0\x01\0\0\0\0\0\0".to_vec();
        b.extend(channels.to_be_bytes());
        b.extend(2u32.to_be_bytes());
        b.extend(3u32.to_be_bytes());
        b.extend(depth.to_be_bytes());
        b.extend(mode.to_be_bytes());
        b.extend([0; 4]);
        b.extend([0, 0, 0, 2, 9, 9]);
        b.extend([0; 4]);
        let rows: Vec<Vec<u8>> = (0..channels as u8 * 2)
            .map(|r| (0..3u8).flat_map(|x| vec![r * 16 + x * 5; usize::from(depth / 8)]).collect())
            .collect();
        b.extend(u16::from(packed).to_be_bytes());
        if packed {
            rows.iter().for_each(|r| b.extend((r.len() as u16 + 1).to_be_bytes()));
        }
        for r in rows {
            if packed {
                b.push(r.len() as u8 - 1);
            }
            b.extend(r);
        }
        b
    }

    #[rstest]
    fn the_picture_at_the_end_is_read(
        #[values((1, 1), (3, 3), (3, 4), (4, 4))] kind: (u16, u16),
        #[values(8, 16)] depth: u16,
        #[values(true, false)] packed: bool,
    ) {
        let bytes = file(kind.0, kind.1, depth, packed);
        let f = facts(&mut Cursor::new(bytes.clone())).unwrap();
        assert_eq!((f.width, f.height, f.depth), (3, 2, depth as u8));
        let p = decode(&mut Cursor::new(bytes.clone())).unwrap();
        if kind.0 == 3 {
            // The second row of red is the second of all.
            assert_eq!(p.to_rgb8().get_pixel(1, 1).0, [16 + 5, 48 + 5, 80 + 5]);
        }
        for cut in 0..bytes.len() {
            assert!(decode(&mut Cursor::new(bytes[..cut].to_vec())).is_err(), "cut at {cut}");
        }
    }
}
