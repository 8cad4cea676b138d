//! Still pictures. Reading and writing single formats is the image crate's; what a picture is, how large it
//! may be and how it is shown is ours.

use crate::container::Source;
use crate::error::{Error, Result};
use crate::filter::video::{Scaler, fit};
use crate::frame::{Chroma, Pool, VideoFrame};
use crate::limits::{MAX_PICTURE_SIDE, MAX_STILL_AREA};
use crate::units::Ratio;
use image::{DynamicImage, ImageDecoder, ImageReader, metadata::Orientation};
use std::io::{BufReader, Seek, SeekFrom, Write};

/// A picture format this program reads.
pub struct StillFormat {
    pub name: &'static str,
    score: fn(&[u8]) -> u8,
    library: image::ImageFormat,
}

pub static FORMATS: &[StillFormat] = &[
    StillFormat {
        name: "JPEG",
        score: |h| if h.starts_with(&[0xff, 0xd8, 0xff]) { 100 } else { 0 },
        library: image::ImageFormat::Jpeg,
    },
    StillFormat {
        name: "PNG",
        score: |h| if h.starts_with(b"\x89PNG\r\n\x1a\n") { 100 } else { 0 },
        library: image::ImageFormat::Png,
    },
];

pub fn recognise(head: &[u8]) -> Option<&'static StillFormat> {
    FORMATS.iter().filter(|f| (f.score)(head) > 0).max_by_key(|f| (f.score)(head))
}

/// What a picture's header says. Sizes are as shown, with the turn applied.
#[derive(Clone, Debug, PartialEq)]
pub struct StillFacts {
    pub format: &'static str,
    pub width: u32,
    pub height: u32,
    pub depth: u8,
    pub chroma: Chroma,
    /// Clockwise turn already applied to width and height.
    pub rotation: u16,
}

fn decoder<'a>(format: &StillFormat, source: &'a mut dyn Source) -> Result<impl ImageDecoder + 'a> {
    source.seek(SeekFrom::Start(0))?;
    let mut reader = ImageReader::new(BufReader::new(source));
    reader.set_format(format.library);
    let mut limits = image::Limits::default();
    limits.max_image_width = Some(MAX_PICTURE_SIDE * 4);
    limits.max_image_height = Some(MAX_PICTURE_SIDE * 4);
    limits.max_alloc = Some(MAX_STILL_AREA * 8);
    reader.limits(limits);
    reader.into_decoder().map_err(|e| failed(format, &e))
}

fn failed(format: &StillFormat, e: &image::ImageError) -> Error {
    match e {
        image::ImageError::Limits(_) => Error::limit(format.name, e.to_string()),
        image::ImageError::Unsupported(_) => Error::unsupported(format.name, e.to_string()),
        _ => Error::damaged(format.name, e.to_string()),
    }
}

/// Reads the header only.
pub fn facts(format: &'static StillFormat, source: &mut dyn Source) -> Result<StillFacts> {
    let mut d = decoder(format, source)?;
    let (w, h) = d.dimensions();
    if u64::from(w) * u64::from(h) > MAX_STILL_AREA {
        return Err(Error::limit(format.name, format!("{w}x{h}; up to {MAX_STILL_AREA} pixels in all")));
    }
    let (depth, chroma) = match d.color_type() {
        image::ColorType::L8 | image::ColorType::La8 => (8, Chroma::Gray),
        image::ColorType::Rgba8 => (8, Chroma::Rgba),
        image::ColorType::L16 | image::ColorType::La16 => (16, Chroma::Gray),
        image::ColorType::Rgb16 => (16, Chroma::Rgb),
        image::ColorType::Rgba16 => (16, Chroma::Rgba),
        _ => (8, Chroma::Rgb),
    };
    let orientation = d.orientation().unwrap_or(Orientation::NoTransforms);
    let (rotation, turned) = match orientation {
        Orientation::Rotate90 | Orientation::Rotate90FlipH => (90, true),
        Orientation::Rotate270 | Orientation::Rotate270FlipH => (270, true),
        Orientation::Rotate180 => (180, false),
        _ => (0, false),
    };
    let (width, height) = if turned { (h, w) } else { (w, h) };
    Ok(StillFacts { format: format.name, width, height, depth, chroma, rotation })
}

/// Decodes a picture whole, turned as its file asks.
pub fn decode(format: &StillFormat, source: &mut dyn Source) -> Result<DynamicImage> {
    let mut d = decoder(format, source)?;
    let orientation = d.orientation().unwrap_or(Orientation::NoTransforms);
    let mut picture = DynamicImage::from_decoder(d).map_err(|e| failed(format, &e))?;
    picture.apply_orientation(orientation);
    Ok(picture)
}

/// How a still is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StillCodec {
    /// Quality 1 to 100.
    Jpeg(u8),
    Png,
}

/// A picture within `limit` (0 is free), in a new file.
pub fn convert(
    picture: &DynamicImage,
    limit: (u32, u32),
    codec: StillCodec,
    out: &mut (impl Write + Seek),
) -> Result<(u32, u32)> {
    let (w, h) = (picture.width(), picture.height());
    let (tw, th) = if (limit.0 == 0 || w <= limit.0) && (limit.1 == 0 || h <= limit.1) {
        (w, h)
    } else {
        fit(w, h, Ratio::ONE, limit)
    };
    let rgb = picture.to_rgb8();
    let bytes = if (tw, th) == (w, h) { rgb.into_raw() } else { scale_rgb(rgb.as_raw(), (w, h), (tw, th))? };
    let written = |e: image::ImageError| match e {
        image::ImageError::IoError(e) => Error::System(e),
        e => Error::limit("still", e.to_string()),
    };
    match codec {
        StillCodec::Jpeg(q) => image::codecs::jpeg::JpegEncoder::new_with_quality(out, q)
            .encode(&bytes, tw, th, image::ExtendedColorType::Rgb8)
            .map_err(written)?,
        StillCodec::Png => image::ImageEncoder::write_image(
            image::codecs::png::PngEncoder::new(out),
            &bytes,
            tw,
            th,
            image::ExtendedColorType::Rgb8,
        )
        .map_err(written)?,
    }
    Ok((tw, th))
}

fn scale_rgb(rgb: &[u8], from: (u32, u32), to: (u32, u32)) -> Result<Vec<u8>> {
    let pool = Pool::new();
    let mut frame = VideoFrame::new(&pool, from.0, from.1, Chroma::Rgb, 8)?;
    for (c, plane) in frame.planes.iter_mut().enumerate() {
        let stride = plane.stride;
        let Some(bytes) = plane.bytes_mut() else { continue };
        for (row, line) in bytes.chunks_exact_mut(stride).zip(rgb.chunks_exact(from.0 as usize * 3)) {
            row.iter_mut().zip(line.iter().skip(c).step_by(3)).for_each(|(t, s)| *t = *s);
        }
    }
    let out = Scaler::new(to.0, to.1, pool).scale(&frame)?;
    let mut bytes = Vec::with_capacity(to.0 as usize * to.1 as usize * 3);
    for y in 0..to.1 {
        for x in 0..to.0 {
            bytes.extend((0..3).map(|c| out.planes[c].at(x, y) as u8));
        }
    }
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    fn sample() -> DynamicImage {
        DynamicImage::ImageRgb8(image::RgbImage::from_fn(64, 40, |x, y| {
            image::Rgb([x as u8 * 4, y as u8 * 6, 80])
        }))
    }

    #[test]
    fn a_still_is_made_smaller_and_keeps_its_colours() {
        let mut out = Cursor::new(Vec::new());
        assert_eq!(convert(&sample(), (32, 0), StillCodec::Png, &mut out).unwrap(), (32, 20));
        let format = recognise(out.get_ref()).unwrap();
        assert_eq!(format.name, "PNG");
        let back = decode(format, &mut out).unwrap().to_rgb8();
        let p = back.get_pixel(16, 10);
        assert!((i32::from(p[0]) - 130).abs() < 4 && (i32::from(p[2]) - 80).abs() < 2, "{p:?}");
    }

    #[test]
    fn a_cut_picture_is_damaged() {
        let mut out = Cursor::new(Vec::new());
        convert(&sample(), (0, 0), StillCodec::Png, &mut out).unwrap();
        let mut bytes = out.into_inner();
        bytes.truncate(bytes.len() / 2);
        let e = decode(recognise(&bytes).unwrap(), &mut Cursor::new(bytes)).unwrap_err();
        assert_eq!(e.class(), "damaged");
    }
}
