//! TIFF (revision 6.0, 1992) in the forms that scanners, fax machines and printers write: one to sixteen bits, strips and tiles,
//! planes apart, palettes, CMYK and CIELab, packed by runs, LZW, Deflate or as a fax (ITU-T T.4, T.6). What is packed is unpacked
//! to its end, so that checksums count. Other forms (floating point, JPEG inside) are the library's.

use super::directory::Directory;
use super::pieces::{Form, values};
use super::{PROFILE, StillFacts, check_area, colour, whole};
use crate::container::Source;
use crate::error::{Error, Result};
use crate::frame::Chroma;
use image::{DynamicImage, ImageBuffer};

const NAME: &str = "TIFF";

/// A picture that can be read here.
struct Plain {
    form: Form,
    photometric: u64,
    alpha: bool,
    turn: u8,
}

/// `None`: a form that is the library's.
fn plain(d: &Directory<'_>) -> Option<Plain> {
    let form = Form::of(d).ok()?;
    let &Form { samples, bits, compression, predictor, .. } = &form;
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
    let good = matches!(bits, 1 | 2 | 4 | 8 | 16)
        && (samples == colours || samples == colours + 1 && colours != 4)
        && matches!(compression, 1 | 3..=5 | 8 | 32_946 | 32_773)
        // Lines that are told by those above them are the library's, if anybody's.
        && (compression != 3 || d.one(292).unwrap_or(0) & 1 == 0)
        && (!matches!(compression, 3 | 4) || bits == 1 && samples == 1)
        && d.all(339).is_none_or(|f| f.iter().all(|f| *f == 1))
        && (photometric != 8 || bits >= 8)
        && (colours == 1 || bits >= 8)
        && (photometric != 3 || bits <= 8)
        && (predictor <= 1 || predictor == 2 && bits >= 8);
    good.then(|| Plain { photometric, alpha, turn: d.turn().unwrap_or(1), form })
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
    let Some(Plain { form: f, photometric, alpha, turn }) = plain(&d) else { return Ok(None) };
    check_area(NAME, f.width, f.height)?;
    let chroma = match (photometric, alpha) {
        (0 | 1, _) => Chroma::Gray,
        (_, true) => Chroma::Rgba,
        _ => Chroma::Rgb,
    };
    let mut facts = StillFacts::new(NAME, f.width, f.height, if f.bits == 16 { 16 } else { 8 }, chroma);
    facts.turn(turn);
    if d.raw(34_675).is_some_and(|p| !p.is_empty()) {
        facts.remarks.push(PROFILE.into());
    }
    Ok(Some(facts))
}

/// A picture as it is shown, in the colours of sRGB; `None`: a form that is the library's.
pub fn decode(source: &mut dyn Source) -> Result<Option<DynamicImage>> {
    let bytes = whole(NAME, source)?;
    let Some(d) = Directory::read(&bytes) else { return Ok(None) };
    let Some(Plain { form: f, photometric, alpha, turn }) = plain(&d) else { return Ok(None) };
    check_area(NAME, f.width, f.height)?;
    let raw = values(&d, &f)?;
    let (w, h) = (f.width, f.height);
    let most = (1u32 << f.bits) - 1;
    let wide = |v: u16| (u32::from(v) * 65_535 / most) as u16;
    let deep = f.bits == 16;
    let picture = match photometric {
        0 | 1 => {
            let level = |v: u16| if photometric == 0 { 65_535 - wide(v) } else { wide(v) };
            if alpha {
                let all = raw.chunks_exact(2).flat_map(|p| [level(p[0]), wide(p[1])]).collect();
                ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageLumaA16)
            } else {
                let all = raw.chunks_exact(f.samples).map(|p| level(p[0])).collect();
                ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageLuma16)
            }
        }
        2 if alpha => {
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
    if let Some(turn) = image::metadata::Orientation::from_exif(turn) {
        picture.apply_orientation(turn);
    }
    if !deep {
        picture = colour::eight(picture);
    }
    // A profile of inks or of Lab is none of what was made of them.
    let profile = d.raw(34_675).filter(|p| !p.is_empty() && photometric <= 3);
    Ok(Some(profile.map_or(picture.clone(), |p| colour::to_srgb(picture, p))))
}
