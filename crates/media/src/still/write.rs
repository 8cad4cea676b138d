//! Writing stills. To add a format: a line in [`StillCodec::ALL`], a variant of [`StillChoice`], and its lines in `encode`.
//! [`avif`] is one that has a file of its own.

use super::{avif, colour, jpeg_parts, webp};
use crate::codec::{av1_encode, vpx};
use crate::error::{Error, Result};
use crate::filter::video::resize::{self, Axis, Sample};
use crate::filter::video::{Kernel, fit};
use crate::frame::Chroma;
use crate::frame::VideoFrame;
use crate::recipe::Alpha;
pub use crate::recipe::StillChoice as StillCodec;
use crate::units::Ratio;
use image::{DynamicImage, ExtendedColorType, ImageBuffer, ImageEncoder, Rgb, Rgb32FImage};
use std::borrow::Cow;
use std::io::{BufWriter, Seek, Write};

/// What is written at once.
const BLOCK: usize = 1 << 16;

/// A name in settings, and the format for a quality.
type Named = (&'static str, fn(u8) -> StillCodec);

impl StillCodec {
    /// Every format by its name in settings; quality is JPEG's.
    pub const ALL: [Named; 11] = [
        ("jpeg", StillCodec::Jpeg),
        ("png", |_| StillCodec::Png),
        ("png16", |_| StillCodec::Png16),
        ("tiff", |_| StillCodec::Tiff),
        ("tiff16", |_| StillCodec::Tiff16),
        ("webp", |_| StillCodec::Webp),
        ("webp-lossy", StillCodec::WebpLossy),
        ("avif", StillCodec::Avif),
        ("avif10", StillCodec::Avif10),
        ("dpx", |_| StillCodec::Dpx),
        ("exr", |_| StillCodec::Exr),
    ];

    pub fn extension(self) -> &'static str {
        match self {
            StillCodec::Jpeg(_) => "jpg",
            StillCodec::Png | StillCodec::Png16 => "png",
            StillCodec::Tiff | StillCodec::Tiff16 => "tif",
            StillCodec::Webp | StillCodec::WebpLossy(_) => "webp",
            StillCodec::Avif(_) | StillCodec::Avif10(_) => "avif",
            StillCodec::Dpx => "dpx",
            StillCodec::Exr => "exr",
        }
    }

    pub fn words(self) -> String {
        match self {
            StillCodec::Jpeg(q) => format!("JPEG, quality {q}"),
            StillCodec::Png => "PNG".into(),
            StillCodec::Png16 => "PNG of 16 bits".into(),
            StillCodec::Tiff => "TIFF".into(),
            StillCodec::Tiff16 => "TIFF of 16 bits".into(),
            StillCodec::Webp => "WebP without loss".into(),
            StillCodec::WebpLossy(q) => format!("WebP, quality {q}"),
            StillCodec::Avif(q) => format!("AVIF, quality {q}"),
            StillCodec::Avif10(q) => format!("AVIF of 10 bits, quality {q}"),
            StillCodec::Dpx => "DPX of 10 bits".into(),
            StillCodec::Exr => "OpenEXR of linear light".into(),
        }
    }

    /// Why this program does not make it, if it does not.
    pub fn missing(self) -> Result<()> {
        match self {
            StillCodec::Avif(_) | StillCodec::Avif10(_) => av1_encode::there(),
            StillCodec::WebpLossy(_) => vpx::no_still(),
            _ => Ok(()),
        }
    }

    /// The size that it has of a picture of another: some know even sides only.
    fn size(self, (w, h): (u32, u32)) -> (u32, u32) {
        if self.is_av1() { (w & !1, h & !1) } else { (w, h) }
    }

    pub fn is_av1(self) -> bool {
        matches!(self, StillCodec::Avif(_) | StillCodec::Avif10(_))
    }

    /// More than 8 bits a sample.
    pub fn is_deep(self) -> bool {
        use StillCodec::{Avif10, Dpx, Exr, Png16, Tiff16};
        matches!(self, Png16 | Tiff16 | Avif10(_) | Dpx | Exr)
    }

    /// It can be seen through.
    pub fn holds_alpha(self) -> bool {
        use StillCodec::{Exr, Png, Png16, Tiff, Tiff16, Webp};
        self.is_av1() || matches!(self, Png | Png16 | Tiff | Tiff16 | Webp | Exr)
    }
}

/// Where a still is written. Not a parameter of types: what is one is compiled where it is used, and there perhaps for a
/// short build and not for speed.
pub trait Out: Write + Seek {}
impl<T: Write + Seek> Out for T {}

/// A picture within `limit` (0 is free), in a new file.
pub fn convert(
    picture: &DynamicImage,
    limit: (u32, u32),
    codec: StillCodec,
    out: &mut dyn Out,
) -> Result<(u32, u32)> {
    convert_with(picture, limit, (codec, Alpha::default()), out)
}

/// The same, and what becomes of a picture that can be seen through.
pub fn convert_with(
    picture: &DynamicImage,
    limit: (u32, u32),
    (codec, alpha): (StillCodec, Alpha),
    out: &mut dyn Out,
) -> Result<(u32, u32)> {
    let flat;
    let picture = match alpha.flat(codec.holds_alpha()) {
        _ if !picture.color().has_alpha() => picture,
        None => return convert_seen(picture, limit, codec, out),
        Some(None) => picture,
        Some(Some(ground)) => {
            flat = colour::over(picture, ground);
            &flat
        }
    };
    let (w, h) = (picture.width(), picture.height());
    let (tw, th) = codec.size(within((w, h), limit));
    let same = (tw, th) == (w, h);
    if codec.is_deep() {
        let rgb = picture.to_rgb16();
        let words =
            if same { rgb.into_raw() } else { scale::<_, 3>(rgb.as_raw(), (w, h), (tw, th), u16::MAX) };
        encode_deep(words, (tw, th), codec, out)?;
    } else {
        // Most are this already.
        let rgb = match picture.as_rgb8() {
            Some(rgb) => Cow::Borrowed(rgb.as_raw()),
            None => Cow::Owned(picture.to_rgb8().into_raw()),
        };
        let bytes = if same { rgb } else { Cow::Owned(scale::<_, 3>(&rgb, (w, h), (tw, th), 255)) };
        encode(&bytes, (tw, th), codec, out)?;
    }
    Ok((tw, th))
}

fn within((w, h): (u32, u32), limit: (u32, u32)) -> (u32, u32) {
    if (limit.0 == 0 || w <= limit.0) && (limit.1 == 0 || h <= limit.1) {
        (w, h)
    } else {
        fit(w, h, Ratio::ONE, limit)
    }
}

/// A picture that can be seen through, and stays so.
fn convert_seen(
    picture: &DynamicImage,
    limit: (u32, u32),
    codec: StillCodec,
    out: &mut dyn Out,
) -> Result<(u32, u32)> {
    let (w, h) = (picture.width(), picture.height());
    let (tw, th) = codec.size(within((w, h), limit));
    let mut words = picture.to_rgba16().into_raw();
    if (tw, th) != (w, h) {
        // Colours that are not seen must not come into those that are.
        let top = u32::from(u16::MAX);
        for p in words.chunks_exact_mut(4) {
            let cover = u32::from(p[3]);
            p[..3].iter_mut().for_each(|v| *v = ((u32::from(*v) * cover + top / 2) / top) as u16);
        }
        words = scale::<_, 4>(&words, (w, h), (tw, th), u16::MAX);
        for p in words.chunks_exact_mut(4).filter(|p| p[3] > 0) {
            let cover = u64::from(p[3]);
            p[..3].iter_mut().for_each(|v| {
                *v = ((u64::from(*v) * u64::from(u16::MAX) + cover / 2) / cover).min(u16::MAX.into()) as u16;
            });
        }
    }
    encode_seen(words, (tw, th), codec, out)?;
    Ok((tw, th))
}

/// Writes red, green, blue and coverage of 16 bits.
fn encode_seen(words: Vec<u16>, (w, h): (u32, u32), codec: StillCodec, out: &mut dyn Out) -> Result<()> {
    let picture = ImageBuffer::from_raw(w, h, words).map(DynamicImage::ImageRgba16);
    let picture = picture.ok_or_else(another_size)?;
    let mut out = BufWriter::with_capacity(BLOCK, out);
    let (picture, format) = match codec {
        StillCodec::Avif(q) => return avif(picture.to_rgba8().into(), 8, q, &mut out),
        StillCodec::Avif10(q) => return avif(picture, 10, q, &mut out),
        StillCodec::Tiff16 => (picture, image::ImageFormat::Tiff),
        StillCodec::Tiff => (picture.to_rgba8().into(), image::ImageFormat::Tiff),
        StillCodec::Png => (picture.to_rgba8().into(), image::ImageFormat::Png),
        StillCodec::Webp => (picture.to_rgba8().into(), image::ImageFormat::WebP),
        StillCodec::Exr => (colour::linear_light(picture), image::ImageFormat::OpenExr),
        _ => (picture, image::ImageFormat::Png),
    };
    picture.write_to(&mut out, format).map_err(written)?;
    Ok(out.flush()?)
}

fn another_size() -> Error {
    Error::limit("still", "a picture of another size than its samples")
}

/// Without the last row and column of sides that are not even.
fn avif(picture: DynamicImage, depth: u8, quality: u8, out: &mut dyn Out) -> Result<()> {
    let (w, h) = (picture.width(), picture.height());
    let even = StillCodec::Avif(quality).size((w, h));
    let picture = if even == (w, h) { picture } else { picture.crop_imm(0, 0, even.0, even.1) };
    avif::write(&picture, depth, quality, out)?;
    Ok(out.flush()?)
}

fn written(e: image::ImageError) -> Error {
    match e {
        image::ImageError::IoError(e) => Error::System(e),
        _ => Error::limit("still", "the picture cannot be written in this form"),
    }
}

/// Writes red, green and blue of 8 bits.
pub(crate) fn encode(bytes: &[u8], (w, h): (u32, u32), codec: StillCodec, out: &mut dyn Out) -> Result<()> {
    let rgb = ExtendedColorType::Rgb8;
    // The encoders write a few bytes at a time.
    let mut out = BufWriter::with_capacity(BLOCK, out);
    match codec {
        StillCodec::Jpeg(q) => jpeg_parts::encode(bytes, (w, h), q, &mut out)?,
        StillCodec::Png => {
            image::codecs::png::PngEncoder::new(&mut out).write_image(bytes, w, h, rgb).map_err(written)?
        }
        StillCodec::Tiff => {
            image::codecs::tiff::TiffEncoder::new(&mut out).write_image(bytes, w, h, rgb).map_err(written)?
        }
        StillCodec::Avif(q) => {
            let rgb = ImageBuffer::from_raw(w, h, bytes.to_vec()).ok_or_else(another_size)?;
            return avif(DynamicImage::ImageRgb8(rgb), 8, q, &mut out);
        }
        StillCodec::WebpLossy(q) => webp::write(bytes, (w, h), q, &mut out)?,
        StillCodec::Webp => image::codecs::webp::WebPEncoder::new_lossless(&mut out)
            .write_image(bytes, w, h, rgb)
            .map_err(written)?,
        StillCodec::Png16
        | StillCodec::Tiff16
        | StillCodec::Avif10(_)
        | StillCodec::Dpx
        | StillCodec::Exr => {
            let words = bytes.iter().map(|b| u16::from(*b) * 257).collect();
            return encode_deep(words, (w, h), codec, &mut out);
        }
    }
    Ok(out.flush()?)
}

/// A JPEG by one coder.
pub(super) fn whole_jpeg(bytes: &[u8], (w, h): (u32, u32), quality: u8, out: &mut dyn Write) -> Result<()> {
    image::codecs::jpeg::JpegEncoder::new_with_quality(out, quality)
        .encode(bytes, w, h, ExtendedColorType::Rgb8)
        .map_err(written)
}

/// Writes red, green and blue of 16 bits.
fn encode_deep(words: Vec<u16>, (w, h): (u32, u32), codec: StillCodec, out: &mut dyn Out) -> Result<()> {
    let rgb = ExtendedColorType::Rgb16;
    let mut out = BufWriter::with_capacity(BLOCK, out);
    match codec {
        StillCodec::Tiff16 => image::codecs::tiff::TiffEncoder::new(&mut out)
            .write_image(bytemuck::cast_slice(&words), w, h, rgb)
            .map_err(written)?,
        StillCodec::Dpx => out.write_all(&super::dpx::write(&words, (w, h)))?,
        StillCodec::Avif10(q) => {
            let rgb = ImageBuffer::from_raw(w, h, words).ok_or_else(another_size)?;
            return avif(DynamicImage::ImageRgb16(rgb), 10, q, &mut out);
        }
        StillCodec::Exr => {
            let light = colour::light;
            let pixel = |x: u32, y: u32| {
                let at = (y as usize * w as usize + x as usize) * 3;
                Rgb([0, 1, 2].map(|c| light(words[at + c])))
            };
            let picture = DynamicImage::ImageRgb32F(Rgb32FImage::from_fn(w, h, pixel));
            picture.write_to(&mut out, image::ImageFormat::OpenExr).map_err(written)?;
        }
        _ => image::codecs::png::PngEncoder::new(&mut out)
            .write_image(bytemuck::cast_slice(&words), w, h, rgb)
            .map_err(written)?,
    }
    Ok(out.flush()?)
}

/// Writes a picture of a film.
pub fn write_frame(f: &VideoFrame, codec: StillCodec, out: &mut dyn Out) -> Result<()> {
    let size = (f.width, f.height);
    if f.chroma == Chroma::Rgba && codec.holds_alpha() {
        return encode_seen(colour::seen(f), size, codec, out);
    }
    if codec.is_deep() {
        return encode_deep(colour::film_picture(f)?.into_rgb16().into_raw(), size, codec, out);
    }
    encode(&colour::to_rgb8(f)?, size, codec, out)
}

/// So many samples a pixel, beside each other, in another size.
fn scale<T: Sample, const BESIDE: usize>(pixels: &[T], from: (u32, u32), to: (u32, u32), top: u16) -> Vec<T> {
    let axes = [(from.0, to.0), (from.1, to.1)].map(|(from, to)| Axis::new(Kernel::default(), from, to));
    let mut out = vec![T::default(); to.0 as usize * to.1 as usize * BESIDE];
    resize::beside::<_, BESIDE>(pixels, from, &mut out, to, (&axes[0], &axes[1]), top);
    out
}

#[cfg(test)]
mod tests {
    use super::super::{frame_of, recognise};
    use super::*;
    use crate::frame::Pool;
    use crate::recipe::AlphaWay;
    use rstest::rstest;
    use std::io::Cursor;

    /// What can be seen through stays so where the format has it, and is laid over a ground or left out where that is asked for.
    #[rstest]
    fn alpha_is_kept_filled_or_left_out(
        #[values(0, 1, 2, 3, 4, 5, 10)] which: usize,
        #[values(AlphaWay::Keep, AlphaWay::Fill, AlphaWay::Drop)] way: AlphaWay,
        #[values(0, 40)] limit: u32,
    ) {
        let codec = StillCodec::ALL[which].1(95);
        // The left half is solid red, the right half a quarter of green; what is not seen there must not come through.
        let picture = image::RgbaImage::from_fn(80, 40, |x, y| match (x < 40, y < 20) {
            (true, _) => image::Rgba([200, 0, 0, 255]),
            (_, true) => image::Rgba([0, 200, 0, 64]),
            _ => image::Rgba([255, 255, 255, 0]),
        });
        let alpha = Alpha { way, ground: [0, 0, 255] };
        let mut out = Cursor::new(Vec::new());
        let size = convert_with(&picture.into(), (limit, 0), (codec, alpha), &mut out).unwrap();
        let back = image::ImageReader::new(Cursor::new(out.into_inner())).with_guessed_format().unwrap();
        let back = back.decode().unwrap();
        assert_eq!((back.width(), back.height()), size);
        let keeps = way == AlphaWay::Keep && codec.holds_alpha();
        assert_eq!(back.color().has_alpha(), keeps, "{codec:?}");
        let by = 80 / size.0;
        let back = back.to_rgba32f();
        let pixel = |x: u32, y: u32| back.get_pixel(x / by, y / by).0.map(|v| f64::from(v) * 255.0);
        let (solid, part, none) = match way {
            AlphaWay::Keep if keeps => {
                ([200., 0., 0., 255.], [0., 200., 0., 64.], [f64::NAN, f64::NAN, f64::NAN, 0.])
            }
            AlphaWay::Drop => ([200., 0., 0., 255.], [0., 200., 0., 255.], [255.; 4]),
            _ => ([200., 0., 0., 255.], [0., 50., 191., 255.], [0., 0., 255., 255.]),
        };
        for ((x, y), want) in [((10, 10), solid), ((60, 8), part), ((60, 32), none)] {
            let got = pixel(x, y);
            let off = got.iter().zip(want).filter(|(_, w)| !w.is_nan()).map(|(g, w)| (g - w).abs());
            // EXR has linear light, with coverage multiplied in.
            let most = if let StillCodec::Exr = codec { continue } else { 12.0 };
            assert!(off.fold(0.0, f64::max) <= most, "{codec:?} at {x}, {y}: {got:?}, not {want:?}");
        }
        // At the edge nothing white or black comes in from what is not seen.
        if keeps && limit > 0 {
            let edge = back.get_pixel(30, 9).0;
            assert!(edge[0] < 0.02 && edge[2] < 0.02, "{edge:?}");
        }
    }

    /// Every format holds what was put in, as exactly as it can, and is read back in the size that was asked for.
    #[rstest]
    fn what_is_written_is_read(
        #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10)] which: usize,
        #[values(0, 80)] limit: u32,
    ) {
        let (name, codec) = StillCodec::ALL[which];
        let codec = codec(95);
        let picture =
            image::ImageBuffer::from_fn(160, 128, |x, y| Rgb([x as u16 * 400, y as u16 * 500 + 37, 30_000]));
        let mut out = Cursor::new(Vec::new());
        let size = convert(&DynamicImage::ImageRgb16(picture), (limit, 0), codec, &mut out).unwrap();
        let head = out.get_ref().clone();
        let format = recognise(&head, &mut out).unwrap().unwrap();
        assert!(format.name.to_lowercase().contains(&name[..3]), "{name} is read as {}", format.name);
        let f = frame_of(&mut out, &Pool::new()).unwrap();
        assert_eq!((f.width, f.height), size);
        let by = 160 / f.width;
        let near = match codec {
            StillCodec::Jpeg(_) | StillCodec::WebpLossy(_) => 2500,
            codec if codec.is_av1() => 2500,
            _ if !codec.is_deep() => 200,
            StillCodec::Dpx => 40,
            _ => 3,
        } + if by > 1 { 30 } else { 0 };
        for (x, y) in [(10, 10), (14, 9), (20, 15)] {
            let middle = |v: u32| (f64::from(v) + 0.5) * f64::from(by) - 0.5;
            let want = [middle(x) * 400.0, middle(y) * 500.0 + 37.0, 30_000.0];
            for (c, want) in want.into_iter().enumerate() {
                let got = f64::from(f.planes[c].at(x, y)) * 65_535.0 / f64::from((1u32 << f.depth) - 1);
                assert!((got - want).abs() <= f64::from(near), "{name} at {x}, {y}, {c}: {got}, not {want}");
            }
        }
    }
}
