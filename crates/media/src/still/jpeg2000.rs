//! JPEG 2000 (ISO/IEC 15444-1), in boxes and as a plain stream: its numbers are a library's.

use super::{StillFacts, check_area, colour, guarded, whole};
use crate::bits::{be32, be64};
use crate::container::Source;
use crate::error::{CUT_OFF, Error, Result, SPOILT};
use crate::frame::Chroma;
use hayro_jpeg2000::{ColorSpace, DecodeSettings, DecoderContext, Image};
use image::{DynamicImage, ImageBuffer};

const NAME: &str = "JPEG 2000";

pub fn score(head: &[u8]) -> u8 {
    let is = head.starts_with(b"\0\0\0\x0cjP  ") || head.starts_with(&[0xff, 0x4f, 0xff, 0x51]);
    if is { 100 } else { 0 }
}

/// What is refused is spoilt, or shorter than its boxes say (ISO/IEC 15444-1, annex I); a bare stream has a marker at its end.
fn refused(bytes: &[u8]) -> Error {
    let mut at = 0usize;
    let cut = loop {
        match (be32(bytes, at), bytes.get(at + 4..at + 8)) {
            _ if bytes.starts_with(&[0xff, 0x4f]) => break !bytes.ends_with(&[0xff, 0xd9]),
            (Some(1), _) => match be64(bytes, at + 8).and_then(|n| usize::try_from(n).ok()) {
                Some(n) if n >= 16 && at.saturating_add(n) <= bytes.len() => at += n,
                _ => break true,
            },
            (Some(0), _) => break !bytes.ends_with(&[0xff, 0xd9]),
            (Some(n), Some(_)) if n >= 8 => {
                match at.checked_add(n as usize).filter(|end| *end <= bytes.len()) {
                    Some(end) => at = end,
                    None => break true,
                }
            }
            _ => break at < bytes.len() && bytes.len() - at < 8,
        }
    };
    Error::damaged(NAME, if cut { CUT_OFF } else { SPOILT })
}

fn open(bytes: &[u8]) -> Result<Image<'_>> {
    // What is cut off is damaged, and no picture with a gray end.
    let settings = DecodeSettings { strict: true, ..DecodeSettings::default() };
    let read = || Image::new(bytes, &settings).map_err(|_| refused(bytes));
    let image = guarded(NAME, read)?;
    check_area(NAME, image.width(), image.height())?;
    Ok(image)
}

pub fn facts(source: &mut dyn Source) -> Result<StillFacts> {
    let bytes = whole(NAME, source)?;
    let image = open(&bytes)?;
    let chroma = match (image.color_space().num_channels(), image.has_alpha()) {
        (1 | 2, _) => Chroma::Gray,
        (_, true) => Chroma::Rgba,
        _ => Chroma::Rgb,
    };
    let depth = if image.original_bit_depth() > 8 { 16 } else { 8 };
    Ok(StillFacts::new(NAME, image.width(), image.height(), depth, chroma))
}

pub fn decode(source: &mut dyn Source) -> Result<DynamicImage> {
    let bytes = whole(NAME, source)?;
    let image = open(&bytes)?;
    let (w, h) = (image.width(), image.height());
    let read = || -> Result<(Vec<Vec<u16>>, bool)> {
        let mut context = DecoderContext::default();
        let decoded = image.decode(&mut context).map_err(|_| refused(&bytes))?;
        let deep = image.original_bit_depth() > 8;
        let pixels = w as usize * h as usize;
        let planes = decoded.components().iter().map(|c| {
            if c.samples().len() != pixels {
                return Err(Error::unsupported(NAME, "components of several sizes"));
            }
            let most = ((1u64 << c.bit_depth().clamp(1, 32)) - 1) as f32;
            Ok(c.samples()
                .iter()
                .map(|v| (v / most * 65_535.0).round().clamp(0.0, 65_535.0) as u16)
                .collect())
        });
        Ok((planes.collect::<Result<_>>()?, deep))
    };
    let (planes, deep) = guarded(NAME, read)?;
    let joined = |planes: &[Vec<u16>]| -> Vec<u16> {
        (0..w as usize * h as usize).flat_map(|i| planes.iter().map(move |p| p[i])).collect()
    };
    let colours = usize::from(image.color_space().num_channels());
    let picture = match (colours, planes.len()) {
        (1, 1) => ImageBuffer::from_raw(w, h, joined(&planes)).map(DynamicImage::ImageLuma16),
        (1, 2) => ImageBuffer::from_raw(w, h, joined(&planes)).map(DynamicImage::ImageLumaA16),
        (3, 3) => ImageBuffer::from_raw(w, h, joined(&planes)).map(DynamicImage::ImageRgb16),
        (3, 4) => ImageBuffer::from_raw(w, h, joined(&planes)).map(DynamicImage::ImageRgba16),
        (c, n) => {
            return Err(Error::unsupported(
                NAME,
                format!("{n} components for {c} colours; gray or red, green and blue can be read"),
            ));
        }
    };
    let picture = picture.ok_or_else(|| Error::damaged(NAME, "a picture of another size than it says"))?;
    let picture = match image.color_space() {
        ColorSpace::Icc { profile, .. } => colour::to_srgb(picture, profile),
        _ => picture,
    };
    Ok(if deep { picture } else { colour::eight(picture) })
}
