//! Colours of stills: profiles, scene-linear pictures, and the way between frames and pictures.

use crate::error::{Error, Result};
use crate::frame::video::{Plane, Samples};
use crate::frame::{Chroma, Pool, VideoFrame};
use image::{DynamicImage, ImageBuffer};
use moxcms::{ColorProfile, Layout, TransformOptions};

/// The sRGB curve (IEC 61966-2-1, 5.2) of linear light, cut off at 0 and 1.
pub fn curve(linear: f32) -> f32 {
    let v = if linear.is_nan() { 0.0 } else { linear.clamp(0.0, 1.0) };
    if v <= 0.003_130_8 { v * 12.92 } else { (1.055 * v.powf(1.0 / 2.4) - 0.055).min(1.0) }
}

/// The light of a value, the other way round: as scene-linear pictures are read here.
pub fn light(v: u16) -> f32 {
    let v = f32::from(v) / 65_535.0;
    if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
}

/// A picture that can be seen through in linear light, with its coverage multiplied in, as OpenEXR has it.
pub fn linear_light(picture: DynamicImage) -> DynamicImage {
    let words = picture.to_rgba16();
    let pixel = |x: u32, y: u32| {
        let [r, g, b, a] = words.get_pixel(x, y).0;
        let cover = f32::from(a) / 65_535.0;
        image::Rgba([light(r) * cover, light(g) * cover, light(b) * cover, cover])
    };
    DynamicImage::ImageRgba32F(image::Rgba32FImage::from_fn(words.width(), words.height(), pixel))
}

/// Red, green, blue and coverage of 16 bits, pixel by pixel.
pub fn seen(f: &VideoFrame) -> Vec<u16> {
    let top = (1u32 << f.depth) - 1;
    let pixels = (0..f.height).flat_map(|y| (0..f.width).map(move |x| (x, y)));
    let value = |p: &Plane, x: u32, y: u32| ((u32::from(p.at(x, y)) * 65_535 + top / 2) / top) as u16;
    pixels.flat_map(|(x, y)| f.planes.iter().map(move |p| value(p, x, y))).collect()
}

/// A picture that can be seen through, over a ground of red, green and blue.
pub fn over(picture: &DynamicImage, ground: [u8; 3]) -> DynamicImage {
    let mixed = |v: u32, behind: u32, cover: u32, top: u32| {
        ((u64::from(v) * u64::from(cover) + u64::from(behind) * u64::from(top - cover) + u64::from(top / 2))
            / u64::from(top)) as u32
    };
    match picture {
        DynamicImage::ImageRgba16(_) | DynamicImage::ImageLumaA16(_) => {
            let from = picture.to_rgba16();
            let pixels = from.pixels().flat_map(|p| {
                [0, 1, 2].map(|c| {
                    let behind = u32::from(ground[c]) * 257;
                    mixed(p[c].into(), behind, p[3].into(), 65_535) as u16
                })
            });
            let (w, h) = from.dimensions();
            ImageBuffer::from_raw(w, h, pixels.collect())
                .map_or_else(|| picture.clone(), DynamicImage::ImageRgb16)
        }
        _ => {
            let from = picture.to_rgba8();
            let pixels = from.pixels().flat_map(|p| {
                [0, 1, 2].map(|c| mixed(p[c].into(), ground[c].into(), p[3].into(), 255) as u8)
            });
            let (w, h) = from.dimensions();
            ImageBuffer::from_raw(w, h, pixels.collect())
                .map_or_else(|| picture.clone(), DynamicImage::ImageRgb8)
        }
    }
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
                // Coverage is multiplied in, as OpenEXR has it: it is taken out again. Light that covers nothing (a glow)
                // covers as much as it is bright.
                let brightest = px[..3].iter().fold(0f32, |m, v| m.max(*v)).clamp(0.0, 1.0);
                let cover = if px[3] > 0.0 { px[3].min(1.0) } else { brightest };
                data.extend(px[..3].iter().map(|&v| deep(if cover > 0.0 { v / cover } else { 0.0 })));
                data.push((cover * 65_535.0).round() as u16);
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

/// A row of a plane as numbers, each sample for `times` pixels beside one another.
fn numbers(plane: &Plane, y: usize, to: &mut [f32], times: usize) {
    fn spread<T: Copy + Into<f32>>(from: &[T], to: &mut [f32], times: usize) {
        if times == 1 {
            to.iter_mut().zip(from).for_each(|(t, f)| *t = (*f).into());
            return;
        }
        for (t, f) in to.chunks_mut(times).zip(from) {
            t.fill((*f).into());
        }
    }
    let row = y * plane.stride..y * plane.stride + plane.width as usize;
    match &plane.samples {
        Samples::U8(b) => spread(&b[row], to, times),
        Samples::U16(w) => spread(&w[row], to, times),
    }
}

/// Samples from which on every processor makes some of the rows.
const LARGE: usize = 3 << 20;

/// Makes each row of a picture of three colours, with room for one as numbers.
fn each_row<T: Send>(data: &mut [T], wide: usize, one: impl Fn(&mut [Vec<f32>; 3], u32, &mut [T]) + Sync) {
    let threads = match data.len() >= LARGE {
        true => std::thread::available_parallelism().map_or(1, usize::from).min(8),
        false => 1,
    };
    let row = (wide * 3).max(1);
    let each = (data.len() / row).div_ceil(threads).max(1);
    let band = |n: usize, to: &mut [T]| {
        let mut rows = [0, 1, 2].map(|_| vec![0.0; wide]);
        for (y, to) in to.chunks_exact_mut(row).enumerate() {
            one(&mut rows, (n * each + y) as u32, to);
        }
    };
    std::thread::scope(|s| {
        for (n, to) in data.chunks_mut(each * row).enumerate() {
            match threads {
                1 => band(n, to),
                _ => drop(s.spawn({
                    let band = &band;
                    move || band(n, to)
                })),
            }
        }
    });
}

/// A frame of a still as a picture of red, green and blue, 8 bits where it has 8 and 16 otherwise.
pub fn to_picture(f: &VideoFrame) -> Result<DynamicImage> {
    pictured(f, weights(f.colour.matrix))
}

/// The same of a film, where what is not stated has another custom.
pub fn film_picture(f: &VideoFrame) -> Result<DynamicImage> {
    let (kr, kb) = crate::filter::video::frame::weights(f.colour.matrix);
    pictured(f, (kr as f32, kb as f32))
}

/// H.273, 8.3, by the matrix and range that the frame states.
fn pictured(f: &VideoFrame, (kr, kb): (f32, f32)) -> Result<DynamicImage> {
    super::check_area("picture", f.width, f.height)?;
    let most = f32::from(((1u32 << f.depth) - 1) as u16);
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
    // A row at a time, as numbers: red, green and blue in their order.
    let wide = f.width as usize;
    let (luma_scale, colour_scale) = (1.0 / (white - black), 1.0 / span);
    let fill = |rows: &mut [Vec<f32>; 3], y: u32| {
        let plane =
            |p: usize, row: &mut [f32], sx: usize, sy: u32| numbers(&f.planes[p], (y / sy) as usize, row, sx);
        match f.chroma {
            // Matrix 0: the planes are green, blue, red.
            Chroma::C444 if f.colour.matrix == 0 => {
                for (row, p) in rows.iter_mut().zip([2, 0, 1]) {
                    plane(p, row, 1, 1);
                    row.iter_mut().for_each(|v| *v /= most);
                }
            }
            Chroma::Rgb | Chroma::Rgba => {
                for (p, row) in rows.iter_mut().enumerate() {
                    plane(p, row, 1, 1);
                    row.iter_mut().for_each(|v| *v /= most);
                }
            }
            Chroma::Gray => {
                let [a, b, c] = rows;
                plane(0, a, 1, 1);
                a.iter_mut().for_each(|v| *v = (*v - black) * luma_scale);
                b.copy_from_slice(a);
                c.copy_from_slice(a);
            }
            _ => {
                let [a, b, c] = rows;
                plane(0, a, 1, 1);
                plane(1, b, sx, sy);
                plane(2, c, sx, sy);
                for ((luma, cb), cr) in a.iter_mut().zip(b.iter_mut()).zip(c.iter_mut()) {
                    let l = (*luma - black) * luma_scale;
                    let (u, v) = ((*cb - middle) * colour_scale, (*cr - middle) * colour_scale);
                    let (red, blue) = (l + 2.0 * (1.0 - kr) * v, l + 2.0 * (1.0 - kb) * u);
                    (*luma, *cb, *cr) = (red, (l - kr * red - kb * blue) / kg, blue);
                }
            }
        }
    };
    let (w, h) = (f.width, f.height);
    // Rounded by cutting off, behind half a step more: none is below 0 here.
    let level = |v: f32, most: f32| v.clamp(0.0, 1.0) * most + 0.5;
    let picture = if f.depth == 8 {
        let mut data = vec![0u8; wide * h as usize * 3];
        each_row(&mut data, wide, |rows, y, to| {
            fill(rows, y);
            for (x, px) in to.chunks_exact_mut(3).enumerate() {
                (px[0], px[1], px[2]) = (
                    level(rows[0][x], 255.0) as u8,
                    level(rows[1][x], 255.0) as u8,
                    level(rows[2][x], 255.0) as u8,
                );
            }
        });
        ImageBuffer::from_raw(w, h, data).map(DynamicImage::ImageRgb8)
    } else {
        let mut data = vec![0u16; wide * h as usize * 3];
        each_row(&mut data, wide, |rows, y, to| {
            fill(rows, y);
            for (x, px) in to.chunks_exact_mut(3).enumerate() {
                for (p, v) in px.iter_mut().enumerate() {
                    *v = level(rows[p][x], 65_535.0) as u16;
                }
            }
        });
        ImageBuffer::from_raw(w, h, data).map(DynamicImage::ImageRgb16)
    };
    picture.ok_or_else(|| Error::limit("picture", "too large to be put together"))
}

/// A frame of a film as red, green and blue of 8 bits, interleaved; coverage is shown over black.
pub fn to_rgb8(f: &VideoFrame) -> Result<Vec<u8>> {
    let mut out = eight(film_picture(f)?).into_rgb8().into_raw();
    if let (Chroma::Rgba, Some(coverage)) = (f.chroma, f.planes.get(3)) {
        let most = (1u32 << f.depth) - 1;
        for (y, row) in out.chunks_exact_mut(f.width as usize * 3).enumerate() {
            for (x, pixel) in row.chunks_exact_mut(3).enumerate() {
                let over = u32::from(coverage.at(x as u32, y as u32));
                pixel.iter_mut().for_each(|v| *v = ((u32::from(*v) * over + most / 2) / most) as u8);
            }
        }
    }
    Ok(out)
}

/// A picture that was worked on in sixteen bits, in the eight that its file has.
pub(super) fn eight(picture: DynamicImage) -> DynamicImage {
    match picture {
        DynamicImage::ImageLuma16(p) => DynamicImage::ImageLuma8(DynamicImage::ImageLuma16(p).to_luma8()),
        DynamicImage::ImageLumaA16(p) => {
            DynamicImage::ImageLumaA8(DynamicImage::ImageLumaA16(p).to_luma_alpha8())
        }
        DynamicImage::ImageRgb16(p) => DynamicImage::ImageRgb8(DynamicImage::ImageRgb16(p).to_rgb8()),
        DynamicImage::ImageRgba16(p) => DynamicImage::ImageRgba8(DynamicImage::ImageRgba16(p).to_rgba8()),
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Colour;
    use rstest::rstest;

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

    /// Each pixel by the formulas of H.273, clause 8.3, one at a time.
    fn straight(f: &VideoFrame, x: u32, y: u32) -> [f64; 3] {
        let (kr, kb) = weights(f.colour.matrix);
        let (kr, kb) = (f64::from(kr), f64::from(kb));
        let most = f64::from((1u32 << f.depth) - 1);
        let step = f64::from(1u32 << (f.depth - 8));
        let (sx, sy) = match f.chroma {
            Chroma::C420 => (2, 2),
            Chroma::C422 => (2, 1),
            _ => (1, 1),
        };
        let at = |p: usize| match p {
            0 => f64::from(f.planes[0].at(x, y)),
            p => f64::from(f.planes[p].at(x / sx, y / sy)),
        };
        if matches!(f.chroma, Chroma::Rgb) {
            return [0, 1, 2].map(|p| f64::from(f.planes[p].at(x, y)) / most);
        }
        let (black, range, span) =
            if f.colour.full_range { (0.0, most, most) } else { (16.0 * step, 219.0 * step, 224.0 * step) };
        let luma = (at(0) - black) / range;
        if f.chroma == Chroma::Gray {
            return [luma; 3];
        }
        let middle = f64::from(1u32 << (f.depth - 1));
        let (cb, cr) = ((at(1) - middle) / span, (at(2) - middle) / span);
        let (r, b) = (luma + 2.0 * (1.0 - kr) * cr, luma + 2.0 * (1.0 - kb) * cb);
        [r, (luma - kr * r - kb * b) / (1.0 - kr - kb), b]
    }

    #[rstest]
    fn pictures_are_what_the_formulas_say(
        #[values(Chroma::Gray, Chroma::C420, Chroma::C422, Chroma::C444, Chroma::Rgb)] chroma: Chroma,
        #[values(8, 10, 16)] depth: u8,
        #[values((1, false), (9, true), (6, false))] colour: (u8, bool),
    ) {
        let (w, h) = (23, 9);
        let mut f = VideoFrame::new(&Pool::new(), w, h, chroma, depth).unwrap();
        f.colour = Colour { matrix: colour.0, full_range: colour.1, ..Colour::default() };
        for (p, plane) in f.planes.iter_mut().enumerate() {
            for i in 0..plane.width * plane.height {
                let v =
                    (i.wrapping_mul(2_654_435_761).wrapping_add(p as u32 * 977) >> 7) & ((1 << depth) - 1);
                plane.put((i % plane.width) as usize, (i / plane.width) as usize, v as u16);
            }
        }
        let got = to_picture(&f).unwrap();
        assert_eq!(
            (got.width(), got.height(), got.color().bytes_per_pixel()),
            (w, h, if depth == 8 { 3 } else { 6 })
        );
        let (deep, steps) = (got.to_rgb16(), if depth == 8 { 255.0 } else { 65_535.0 });
        for (x, y, px) in deep.enumerate_pixels() {
            for (g, want) in px.0.iter().zip(straight(&f, x, y)) {
                let want = want.clamp(0.0, 1.0) * steps;
                let got = f64::from(*g) * steps / 65_535.0;
                assert!((got - want).abs() <= 0.51 + steps * 1e-6, "{x},{y}: {got} for {want}");
            }
        }
    }

    #[test]
    fn deep_pictures_keep_their_depth_as_frames() {
        let p = DynamicImage::ImageRgb16(ImageBuffer::from_raw(1, 1, vec![1u16, 300, 65_535]).unwrap());
        let f = to_frame(&p, &Pool::new()).unwrap();
        assert_eq!((f.depth, f.planes[1].at(0, 0), f.planes[2].at(0, 0)), (16, 300, 65_535));
    }
}
