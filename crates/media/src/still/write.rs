//! Writing stills. To add a format: a line in [`StillCodec::ALL`], a variant of [`StillChoice`], and its lines in `encode`.
//! [`avif`] is one that has a file of its own.

use super::{avif, colour, jpeg_parts};
use crate::codec::svt;
use crate::error::{Error, Result};
use crate::filter::video::resize::{self, Axis, Sample};
use crate::filter::video::{Kernel, fit};
use crate::frame::VideoFrame;
pub use crate::recipe::StillChoice as StillCodec;
use crate::units::Ratio;
use image::{DynamicImage, ExtendedColorType, ImageEncoder, Rgb, Rgb32FImage};
use std::borrow::Cow;
use std::io::{BufWriter, Seek, Write};

/// What is written at once.
const BLOCK: usize = 1 << 16;

/// A name in settings, and the format for a quality.
type Named = (&'static str, fn(u8) -> StillCodec);

impl StillCodec {
    /// Every format by its name in settings; quality is JPEG's.
    pub const ALL: [Named; 9] = [
        ("jpeg", StillCodec::Jpeg),
        ("png", |_| StillCodec::Png),
        ("png16", |_| StillCodec::Png16),
        ("tiff", |_| StillCodec::Tiff),
        ("tiff16", |_| StillCodec::Tiff16),
        ("webp", |_| StillCodec::Webp),
        ("avif", StillCodec::Avif),
        ("dpx", |_| StillCodec::Dpx),
        ("exr", |_| StillCodec::Exr),
    ];

    pub fn extension(self) -> &'static str {
        match self {
            StillCodec::Jpeg(_) => "jpg",
            StillCodec::Png | StillCodec::Png16 => "png",
            StillCodec::Tiff | StillCodec::Tiff16 => "tif",
            StillCodec::Webp => "webp",
            StillCodec::Avif(_) => "avif",
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
            StillCodec::Avif(q) => format!("AVIF, quality {q}"),
            StillCodec::Dpx => "DPX of 10 bits".into(),
            StillCodec::Exr => "OpenEXR of linear light".into(),
        }
    }

    /// Why this program does not make it, if it does not.
    pub fn missing(self) -> Result<()> {
        if let StillCodec::Avif(_) = self { svt::missing() } else { Ok(()) }
    }

    /// The size that it has of a picture of another: some know even sides only.
    fn size(self, (w, h): (u32, u32)) -> (u32, u32) {
        if let StillCodec::Avif(_) = self { (w & !1, h & !1) } else { (w, h) }
    }

    /// More than 8 bits a sample.
    pub fn is_deep(self) -> bool {
        matches!(self, StillCodec::Png16 | StillCodec::Tiff16 | StillCodec::Dpx | StillCodec::Exr)
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
    let (w, h) = (picture.width(), picture.height());
    let (tw, th) = if (limit.0 == 0 || w <= limit.0) && (limit.1 == 0 || h <= limit.1) {
        (w, h)
    } else {
        fit(w, h, Ratio::ONE, limit)
    };
    let (tw, th) = codec.size((tw, th));
    let same = (tw, th) == (w, h);
    if codec.is_deep() {
        let rgb = picture.to_rgb16();
        let words = if same { rgb.into_raw() } else { scale(rgb.as_raw(), (w, h), (tw, th), u16::MAX) };
        encode_deep(words, (tw, th), codec, out)?;
    } else {
        // Most are this already.
        let rgb = match picture.as_rgb8() {
            Some(rgb) => Cow::Borrowed(rgb.as_raw()),
            None => Cow::Owned(picture.to_rgb8().into_raw()),
        };
        let bytes = if same { rgb } else { Cow::Owned(scale(&rgb, (w, h), (tw, th), 255)) };
        encode(&bytes, (tw, th), codec, out)?;
    }
    Ok((tw, th))
}

fn written(e: image::ImageError) -> Error {
    match e {
        image::ImageError::IoError(e) => Error::System(e),
        e => Error::limit("still", e.to_string()),
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
            let even = codec.size((w, h));
            let rows = bytes.chunks_exact(w as usize * 3).take(even.1 as usize);
            let rgb = rows.flat_map(|r| &r[..even.0 as usize * 3]).copied().collect();
            avif::write(rgb, even, q, &mut out)?;
        }
        StillCodec::Webp => image::codecs::webp::WebPEncoder::new_lossless(&mut out)
            .write_image(bytes, w, h, rgb)
            .map_err(written)?,
        StillCodec::Png16 | StillCodec::Tiff16 | StillCodec::Dpx | StillCodec::Exr => {
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
        StillCodec::Exr => {
            let light = |v: u16| {
                // IEC 61966-2-1, the other way round: as such files are read here.
                let v = f32::from(v) / 65_535.0;
                if v <= 0.04045 { v / 12.92 } else { ((v + 0.055) / 1.055).powf(2.4) }
            };
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
    if codec.is_deep() {
        return encode_deep(colour::to_picture(f)?.to_rgb16().into_raw(), size, codec, out);
    }
    encode(&colour::to_rgb8(f), size, codec, out)
}

/// Interleaved red, green and blue in another size.
fn scale<T: Sample + Default>(rgb: &[T], from: (u32, u32), to: (u32, u32), top: u16) -> Vec<T> {
    let axes = [(from.0, to.0), (from.1, to.1)].map(|(from, to)| Axis::new(Kernel::default(), from, to));
    let mut out = vec![T::default(); to.0 as usize * to.1 as usize * 3];
    resize::rgb(rgb, from, &mut out, to, (&axes[0], &axes[1]), top);
    out
}

#[cfg(test)]
mod tests {
    use super::super::{frame_of, recognise};
    use super::*;
    use crate::frame::Pool;
    use rstest::rstest;
    use std::io::Cursor;

    /// Every format holds what was put in, as exactly as it can, and is read back in the size that was asked for.
    #[rstest]
    fn what_is_written_is_read(
        #[values(0, 1, 2, 3, 4, 5, 6, 7, 8)] which: usize,
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
            StillCodec::Jpeg(_) | StillCodec::Avif(_) => 2500,
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
