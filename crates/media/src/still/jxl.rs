//! JPEG XL (ISO/IEC 18181): its numbers are a library's, what of it is shown is ours. Of an animation the first picture.

use super::{StillFacts, check_area, colour, guarded, whole};
use crate::container::Source;
use crate::error::{Error, Result};
use crate::frame::Chroma;
use crate::limits::MAX_STILL_AREA;
use image::{DynamicImage, ImageBuffer};
use jxl_oxide::{AllocTracker, EnumColourEncoding, JxlImage, JxlThreadPool, RenderingIntent};

const NAME: &str = "JPEG XL";
/// Memory that one picture may take: a few buffers of four numbers for each pixel.
const MEMORY: usize = MAX_STILL_AREA as usize * 16 * 2;

pub fn score(head: &[u8]) -> u8 {
    // A codestream by itself, or in boxes.
    if head.starts_with(&[0xff, 0x0a]) || head.starts_with(b"\0\0\0\x0cJXL \r\n\x87\n") { 100 } else { 0 }
}

fn open(source: &mut dyn Source) -> Result<JxlImage> {
    let bytes = whole(NAME, source)?;
    let read = || {
        JxlImage::builder()
            .pool(JxlThreadPool::none())
            .alloc_tracker(AllocTracker::with_limit(MEMORY))
            .read(bytes.as_slice())
            .map_err(|e| Error::of_library(NAME, e.as_ref()))
    };
    let image = guarded(NAME, read)?;
    check_area(NAME, image.width(), image.height())?;
    Ok(image)
}

pub fn facts(source: &mut dyn Source) -> Result<StillFacts> {
    let image = open(source)?;
    let format = image.pixel_format();
    let chroma = match (format.is_grayscale(), format.has_alpha()) {
        (true, _) => Chroma::Gray,
        (false, true) => Chroma::Rgba,
        (false, false) => Chroma::Rgb,
    };
    let bits = image.image_header().metadata.bit_depth.bits_per_sample();
    let depth = if bits > 8 { 16 } else { 8 };
    let mut facts = StillFacts::new(NAME, image.width(), image.height(), depth, chroma);
    if image.image_header().metadata.animation.is_some() {
        facts.remarks.push("an animation: its first picture is taken".into());
    }
    Ok(facts)
}

pub fn decode(source: &mut dyn Source) -> Result<DynamicImage> {
    let mut image = open(source)?;
    if image.num_loaded_keyframes() == 0 {
        return Err(Error::damaged(NAME, "cut off, or still being copied: no picture in it is whole"));
    }
    // What is in the colours of sRGB already stays what it is, to the last bit.
    let is_srgb = |i: &JxlImage| i.rendered_cicp().is_some_and(|c| c[0] == 1 && c[1] == 13);
    if !is_srgb(&image) {
        image.request_color_encoding(match image.pixel_format().is_grayscale() {
            true => EnumColourEncoding::gray_srgb(RenderingIntent::Relative),
            false => EnumColourEncoding::srgb(RenderingIntent::Relative),
        });
    }
    let render = || -> Result<DynamicImage> {
        let shown = image.render_frame(0).map_err(|e| Error::of_library(NAME, e.as_ref()))?;
        let mut stream = shown.stream();
        let (w, h, channels) = (stream.width(), stream.height(), stream.channels());
        let mut samples = vec![0u16; w as usize * h as usize * channels as usize];
        stream.write_to_buffer(&mut samples);
        let picture = match channels {
            1 => ImageBuffer::from_raw(w, h, samples).map(DynamicImage::ImageLuma16),
            2 => ImageBuffer::from_raw(w, h, samples).map(DynamicImage::ImageLumaA16),
            3 => ImageBuffer::from_raw(w, h, samples).map(DynamicImage::ImageRgb16),
            4 if !image.pixel_format().has_black() => {
                ImageBuffer::from_raw(w, h, samples).map(DynamicImage::ImageRgba16)
            }
            n => {
                return Err(Error::unsupported(
                    NAME,
                    format!("a picture of {n} channels (CMYK); one of red, green and blue can be read"),
                ));
            }
        };
        picture.ok_or_else(|| Error::damaged(NAME, "a picture of another size than it says"))
    };
    let picture = guarded(NAME, render)?;
    // What cannot be brought to sRGB there keeps its own profile.
    let is_converted = is_srgb(&image);
    let picture = if is_converted { picture } else { colour::to_srgb(picture, &image.rendered_icc()) };
    let deep = image.image_header().metadata.bit_depth.bits_per_sample() > 8;
    Ok(if deep { picture } else { colour::eight(picture) })
}
