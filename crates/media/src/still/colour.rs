//! Colours of stills: profiles, scene-linear pictures, and the way between frames and pictures.

use crate::error::{Error, Result};
use crate::frame::{Chroma, Pool, VideoFrame};
use image::{DynamicImage, ImageBuffer};
use moxcms::{ColorProfile, Layout, TransformOptions};

/// The sRGB curve (IEC 61966-2-1, 5.2) of linear light, cut off at 0 and 1.
fn curve(linear: f32) -> f32 {
    let v = if linear.is_nan() { 0.0 } else { linear.clamp(0.0, 1.0) };
    if v <= 0.003_130_8 { v * 12.92 } else { (1.055 * v.powf(1.0 / 2.4) - 0.055).min(1.0) }
}

/// Scene-linear pictures as they are shown; others as they are.
pub fn displayed(picture: DynamicImage) -> DynamicImage {
    let deep = |v: f32| (curve(v) * 65_535.0).round() as u16;
    match picture {
        DynamicImage::ImageRgb32F(p) => {
            let data = p.as_raw().iter().map(|&v| deep(v)).collect();
            ImageBuffer::from_raw(p.width(), p.height(), data)
                .map_or(DynamicImage::ImageRgb32F(p), DynamicImage::ImageRgb16)
        }
        DynamicImage::ImageRgba32F(p) => {
            let mut data: Vec<u16> = Vec::with_capacity(p.as_raw().len());
            for px in p.as_raw().chunks_exact(4) {
                // Coverage is multiplied in, as OpenEXR has it: shown over black.
                data.extend(px[..3].iter().map(|&v| deep(v)));
                data.push((px[3].clamp(0.0, 1.0) * 65_535.0).round() as u16);
            }
            ImageBuffer::from_raw(p.width(), p.height(), data)
                .map_or(DynamicImage::ImageRgba32F(p), DynamicImage::ImageRgba16)
        }
        other => other,
    }
}

/// Converts by an embedded profile; one that cannot be used leaves the picture as it is.
pub fn to_srgb(picture: DynamicImage, profile: &[u8]) -> DynamicImage {
    let Ok(from) = ColorProfile::new_from_slice(profile) else { return picture };
    if from.color_space != moxcms::DataColorSpace::Rgb {
        return picture;
    }
    let to = ColorProfile::new_srgb();
    let options = TransformOptions::default();
    let mut picture = match picture {
        p @ (DynamicImage::ImageRgb8(_)
        | DynamicImage::ImageRgba8(_)
        | DynamicImage::ImageRgb16(_)
        | DynamicImage::ImageRgba16(_)) => p,
        other => return other,
    };
    match &mut picture {
        DynamicImage::ImageRgb8(p) => {
            if let Ok(t) = from.create_transform_8bit(Layout::Rgb, &to, Layout::Rgb, options) {
                let source = p.as_raw().clone();
                let _ = t.transform(&source, p);
            }
        }
        DynamicImage::ImageRgba8(p) => {
            if let Ok(t) = from.create_transform_8bit(Layout::Rgba, &to, Layout::Rgba, options) {
                let source = p.as_raw().clone();
                let _ = t.transform(&source, p);
            }
        }
        DynamicImage::ImageRgb16(p) => {
            if let Ok(t) = from.create_transform_16bit(Layout::Rgb, &to, Layout::Rgb, options) {
                let source = p.as_raw().clone();
                let _ = t.transform(&source, p);
            }
        }
        DynamicImage::ImageRgba16(p) => {
            if let Ok(t) = from.create_transform_16bit(Layout::Rgba, &to, Layout::Rgba, options) {
                let source = p.as_raw().clone();
                let _ = t.transform(&source, p);
            }
        }
        _ => (),
    }
    picture
}

/// A picture as a frame of red, green and blue (or gray), 8 or 16 bits.
pub fn to_frame(picture: &DynamicImage, pool: &Pool) -> Result<VideoFrame> {
    let (w, h) = (picture.width(), picture.height());
    let gray = matches!(picture, DynamicImage::ImageLuma8(_) | DynamicImage::ImageLuma16(_));
    let deep = matches!(
        picture,
        DynamicImage::ImageLuma16(_)
            | DynamicImage::ImageLumaA16(_)
            | DynamicImage::ImageRgb16(_)
            | DynamicImage::ImageRgba16(_)
    );
    let chroma = match (gray, picture.color().has_alpha()) {
        (true, _) => Chroma::Gray,
        (_, true) => Chroma::Rgba,
        _ => Chroma::Rgb,
    };
    let mut f = VideoFrame::new(pool, w, h, chroma, if deep { 16 } else { 8 })?;
    f.colour = super::SRGB;
    let n = chroma.planes();
    let mut put = |i: usize, v: u16| {
        let (pixel, plane) = (i / n, i % n);
        f.planes[plane].put(pixel % w as usize, pixel / w as usize, v);
    };
    match (chroma, deep) {
        (Chroma::Gray, false) => {
            picture.to_luma8().as_raw().iter().enumerate().for_each(|(i, &v)| put(i, v.into()))
        }
        (Chroma::Gray, true) => picture.to_luma16().as_raw().iter().enumerate().for_each(|(i, &v)| put(i, v)),
        (Chroma::Rgba, false) => {
            picture.to_rgba8().as_raw().iter().enumerate().for_each(|(i, &v)| put(i, v.into()))
        }
        (Chroma::Rgba, true) => picture.to_rgba16().as_raw().iter().enumerate().for_each(|(i, &v)| put(i, v)),
        (_, false) => picture.to_rgb8().as_raw().iter().enumerate().for_each(|(i, &v)| put(i, v.into())),
        (_, true) => picture.to_rgb16().as_raw().iter().enumerate().for_each(|(i, &v)| put(i, v)),
    }
    Ok(f)
}

/// Weights of red and blue in luma (ITU-T H.273, table 4); `None` where the planes are no luma and difference.
pub fn weights(matrix: u8) -> (f32, f32) {
    match matrix {
        1 => (0.2126, 0.0722),
        4 => (0.30, 0.11),
        7 => (0.212, 0.087),
        9 | 10 => (0.2627, 0.0593),
        // 601, and what is not stated: the custom for stills.
        _ => (0.299, 0.114),
    }
}

/// A frame as a picture of red, green and blue, 8 bits where it has 8 and 16 otherwise.
pub fn to_picture(f: &VideoFrame) -> Result<DynamicImage> {
    super::check_area("picture", f.width, f.height)?;
    let most = f32::from(((1u32 << f.depth) - 1) as u16);
    let (kr, kb) = weights(f.colour.matrix);
    let kg = 1.0 - kr - kb;
    let step = f32::from(1u16 << (f.depth - 8));
    let (black, white, span) =
        if f.colour.full_range { (0.0, most, most) } else { (16.0 * step, 235.0 * step, 224.0 * step) };
    let middle = f32::from(1u16 << (f.depth - 1));
    let (sx, sy) = match f.chroma {
        Chroma::C420 => (2, 2),
        Chroma::C422 => (2, 1),
        _ => (1, 1),
    };
    let rgb = |x: u32, y: u32| -> [f32; 3] {
        let at = |p: usize, x: u32, y: u32| f32::from(f.planes[p].at(x, y));
        match f.chroma {
            Chroma::Rgb | Chroma::Rgba => [0, 1, 2].map(|p| at(p, x, y) / most),
            // Matrix 0: the planes are green, blue, red.
            Chroma::C444 if f.colour.matrix == 0 => [2, 0, 1].map(|p| at(p, x, y) / most),
            Chroma::Gray => [(at(0, x, y) - black) / (white - black); 3],
            _ => {
                let luma = (at(0, x, y) - black) / (white - black);
                let (cb, cr) =
                    ((at(1, x / sx, y / sy) - middle) / span, (at(2, x / sx, y / sy) - middle) / span);
                let (r, b) = (luma + 2.0 * (1.0 - kr) * cr, luma + 2.0 * (1.0 - kb) * cb);
                [r, (luma - kr * r - kb * b) / kg, b]
            }
        }
    };
    let (w, h) = (f.width, f.height);
    let pixels = (0..h).flat_map(|y| (0..w).map(move |x| (x, y)));
    let picture = if f.depth == 8 {
        let data: Vec<u8> =
            pixels.flat_map(|(x, y)| rgb(x, y).map(|v| (v.clamp(0.0, 1.0) * 255.0).round() as u8)).collect();
        ImageBuffer::from_raw(w, h, data).map(DynamicImage::ImageRgb8)
    } else {
        let data: Vec<u16> = pixels
            .flat_map(|(x, y)| rgb(x, y).map(|v| (v.clamp(0.0, 1.0) * 65_535.0).round() as u16))
            .collect();
        ImageBuffer::from_raw(w, h, data).map(DynamicImage::ImageRgb16)
    };
    picture.ok_or_else(|| Error::limit("picture", "too large to be put together"))
}

/// A frame as red, green and blue of 8 bits, interleaved. (H.273, 8.3, by the matrix and range the frame states; coverage is
/// shown over black.)
pub fn to_rgb8(f: &VideoFrame) -> Vec<u8> {
    let most = f64::from((1u32 << f.depth) - 1);
    let scale = f64::from(1u32 << (f.depth - 8));
    let (kr, kb) = crate::filter::video::frame::weights(f.colour.matrix);
    let full = f.colour.full_range;
    let mut out = Vec::with_capacity(f.width as usize * f.height as usize * 3);
    let byte = |v: f64| (v * 255.0).round().clamp(0.0, 255.0) as u8;
    for y in 0..f.height {
        for x in 0..f.width {
            let at = |i: usize| {
                let (sx, sy) = crate::filter::video::frame::shared(f.chroma, i);
                f64::from(f.planes[i].at(x / sx as u32, y / sy as u32))
            };
            let rgb = match f.chroma {
                Chroma::Rgb => [0, 1, 2].map(|i| at(i) / most),
                Chroma::Rgba => [0, 1, 2].map(|i| at(i) / most * at(3) / most),
                Chroma::C444 if f.colour.matrix == 0 => [2, 0, 1].map(|i| at(i) / most),
                _ => {
                    let luma = if full { at(0) / most } else { (at(0) / scale - 16.0) / 219.0 };
                    let difference = |i: usize| match f.chroma {
                        Chroma::Gray => 0.0,
                        _ if full => (at(i) - f64::from(1u32 << (f.depth - 1))) / most,
                        _ => (at(i) / scale - 128.0) / 224.0,
                    };
                    let (cb, cr) = (difference(1), difference(2));
                    let (r, b) = (luma + 2.0 * (1.0 - kr) * cr, luma + 2.0 * (1.0 - kb) * cb);
                    [r, (luma - kr * r - kb * b) / (1.0 - kr - kb), b]
                }
            };
            out.extend(rgb.map(byte));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Colour;

    #[test]
    fn the_curve_has_its_known_points() {
        assert!((curve(0.18) - 0.461).abs() < 0.001);
        assert_eq!((curve(-1.0), curve(7.0), curve(f32::NAN)), (0.0, curve(1.0), 0.0));
        assert!(curve(1.0) > 0.999_999);
    }

    #[test]
    fn red_comes_back_through_luma_and_difference() {
        let mut f = VideoFrame::new(&Pool::new(), 2, 2, Chroma::C420, 8).unwrap();
        f.colour = Colour { matrix: 1, ..Colour::default() };
        // Full red in BT.709, limited range.
        for (p, v) in [63u8, 102, 240].into_iter().enumerate() {
            f.planes[p].bytes_mut().unwrap().fill(v);
        }
        let p = to_picture(&f).unwrap().to_rgb8();
        let px = p.get_pixel(1, 1).0;
        assert!(px[0] > 252 && px[1] < 4 && px[2] < 4, "{px:?}");
    }

    #[test]
    fn deep_pictures_keep_their_depth_as_frames() {
        let p = DynamicImage::ImageRgb16(ImageBuffer::from_raw(1, 1, vec![1u16, 300, 65_535]).unwrap());
        let f = to_frame(&p, &Pool::new()).unwrap();
        assert_eq!((f.depth, f.planes[1].at(0, 0), f.planes[2].at(0, 0)), (16, 300, 65_535));
    }
}
