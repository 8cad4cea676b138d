//! Still pictures. Reading and writing most single formats is the image crate's; DPX, the boxes of HEIF and the
//! frames of GIF are our own, as is what a picture is, how large it may be and how it is shown.

mod avif;
mod canvas;
pub(crate) mod colour;
mod develop;
mod directory;
mod dng;
pub mod dpx;
mod gif;
pub mod heif;
mod jpeg;
mod jpeg2000;
mod jpeg_parts;
mod jxl;
mod pieces;
mod plain;
mod psd;
mod raw;
pub mod run;
mod tiff;
pub(crate) mod webp;
mod write;

use crate::container::Source;
use crate::error::{CUT_OFF, Error, Result};
use crate::formats::Tried;
use crate::frame::{Chroma, Colour, Pool, VideoFrame};
use crate::limits::{MAX_PICTURE_SIDE, MAX_STILL_AREA, MAX_STILL_BYTES};
/// A decoded picture.
pub use canvas::Canvas;
pub use image::DynamicImage as Decoded;
use image::{DynamicImage, ImageDecoder, ImageReader, metadata::Orientation};
use std::io::{BufReader, Read, SeekFrom};
pub(crate) use write::encode;
pub use write::{StillCodec, convert, convert_with, write_frame};

/// A picture format this program reads.
pub struct StillFormat {
    pub name: &'static str,
    /// On what it was tried.
    pub tried: Tried,
    score: fn(&[u8]) -> u8,
    reader: Reads,
}

/// Width and height; a side of 0 is free.
pub type Limit = (u32, u32);

enum Reads {
    /// The image crate.
    Library(image::ImageFormat),
    Own {
        facts: fn(&mut dyn Source) -> Result<StillFacts>,
        decode: fn(&mut dyn Source) -> Result<DynamicImage>,
    },
    /// One that can give a smaller picture with less work.
    Scaled {
        facts: fn(&mut dyn Source) -> Result<StillFacts>,
        decode: fn(&mut dyn Source, Option<Limit>) -> Result<DynamicImage>,
    },
}

const fn starts(
    name: &'static str,
    tried: Tried,
    score: fn(&[u8]) -> u8,
    library: image::ImageFormat,
) -> StillFormat {
    StillFormat { name, tried, score, reader: Reads::Library(library) }
}

/// To add one: a line here, and a file beside this one if the image crate does not read it.
pub static FORMATS: &[StillFormat] = &[
    starts(
        "JPEG",
        Tried::Files,
        |h| if h.starts_with(&[0xff, 0xd8, 0xff]) { 100 } else { 0 },
        image::ImageFormat::Jpeg,
    ),
    starts(
        "PNG",
        Tried::Files,
        |h| if h.starts_with(b"\x89PNG\r\n\x1a\n") { 100 } else { 0 },
        image::ImageFormat::Png,
    ),
    starts("TIFF", Tried::Files, tiff_score, image::ImageFormat::Tiff),
    starts(
        "WebP",
        Tried::Writers,
        |h| if h.starts_with(b"RIFF") && h.get(8..12) == Some(b"WEBP") { 100 } else { 0 },
        image::ImageFormat::WebP,
    ),
    starts("BMP", Tried::Files, bmp_score, image::ImageFormat::Bmp),
    starts(
        "OpenEXR",
        Tried::Made,
        |h| if h.starts_with(&[0x76, 0x2f, 0x31, 0x01]) { 100 } else { 0 },
        image::ImageFormat::OpenExr,
    ),
    starts("PNM", Tried::Writers, pnm_score, image::ImageFormat::Pnm),
    starts(
        "Radiance HDR",
        Tried::Made,
        |h| if h.starts_with(b"#?RADIANCE") || h.starts_with(b"#?RGBE") { 100 } else { 0 },
        image::ImageFormat::Hdr,
    ),
    starts("QOI", Tried::Made, |h| if h.starts_with(b"qoif") { 100 } else { 0 }, image::ImageFormat::Qoi),
    StillFormat {
        name: "JPEG XL",
        tried: Tried::Writers,
        score: jxl::score,
        reader: Reads::Own { facts: jxl::facts, decode: jxl::decode },
    },
    StillFormat {
        name: "JPEG 2000",
        tried: Tried::Writers,
        score: jpeg2000::score,
        reader: Reads::Own { facts: jpeg2000::facts, decode: jpeg2000::decode },
    },
    StillFormat {
        name: "PSD",
        tried: Tried::Made,
        score: psd::score,
        reader: Reads::Own { facts: psd::facts, decode: psd::decode },
    },
    StillFormat {
        name: RAW,
        tried: Tried::Writers,
        score: raw::score,
        reader: Reads::Own { facts: raw::facts, decode: raw::decode },
    },
    StillFormat {
        name: "GIF",
        tried: Tried::Files,
        score: gif::score,
        reader: Reads::Own { facts: gif::facts, decode: gif::decode },
    },
    StillFormat {
        name: "DPX",
        tried: Tried::Made,
        score: dpx::score,
        reader: Reads::Own { facts: dpx::facts, decode: dpx::decode },
    },
    StillFormat {
        name: "AVIF",
        tried: Tried::Writers,
        score: heif::score_avif,
        reader: Reads::Scaled { facts: |s| heif::facts("AVIF", s), decode: heif::decode },
    },
    StillFormat {
        name: "HEIC",
        tried: Tried::Writers,
        score: heif::score_heic,
        reader: Reads::Scaled { facts: |s| heif::facts("HEIC", s), decode: heif::decode },
    },
];

/// What a camera's sensor saw, with a picture beside it.
const RAW: &str = "camera raw";

/// One letter, a number, and then white space (netpbm: P1 to P6, and P7 with a line of its own).
fn pnm_score(h: &[u8]) -> u8 {
    match h {
        [b'P', b'1'..=b'6', after, ..] if after.is_ascii_whitespace() || *after == b'#' => 90,
        [b'P', b'7', b'\n', ..] => 90,
        _ => 0,
    }
}

fn tiff_score(h: &[u8]) -> u8 {
    // A camera's raw picture has the same start and its maker's mark behind it.
    let plain = h.starts_with(b"II*\0")
        || h.starts_with(b"MM\0*")
        || h.starts_with(b"II+\0")
        || h.starts_with(b"MM\0+");
    if plain && h.get(8..10) != Some(b"CR") { 100 } else { 0 }
}

fn bmp_score(h: &[u8]) -> u8 {
    // The size of the second header is one of few.
    let known = matches!(crate::bits::le32(h, 14), Some(12 | 16 | 40 | 52 | 56 | 64 | 108 | 124));
    if h.starts_with(b"BM") && known { 90 } else { 0 }
}

/// The picture format whose score for these first bytes is best. A GIF of several frames is no picture but a
/// clip, so its source is looked at.
pub fn recognise(head: &[u8], source: &mut dyn Source) -> Result<Option<&'static StillFormat>> {
    let best = FORMATS.iter().filter(|f| (f.score)(head) > 0).max_by_key(|f| (f.score)(head));
    match best {
        Some(f) if f.name == "GIF" && !gif::is_single(source)? => Ok(None),
        // A camera's raw picture in the form of TIFF: its first directory is often a thumbnail.
        Some(f) if f.name == "TIFF" && tiff::raw_kind(source)?.is_some_and(|k| k.contains("raw picture")) => {
            Ok(FORMATS.iter().find(|f| f.name == RAW))
        }
        best => Ok(best),
    }
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
    pub colour: Colour,
    /// Samples are floating-point numbers.
    pub float: bool,
    /// First timecode, where the file has one.
    pub timecode: Option<String>,
    pub remarks: Vec<String>,
}

const PROFILE: &str = "a colour profile is inside; pictures made from this one are converted to sRGB";

/// Colours of a display with the sRGB curve (IEC 61966-2-1).
const SRGB: Colour = Colour { primaries: 1, transfer: 13, matrix: 0, full_range: true };

impl StillFacts {
    pub(crate) fn new(format: &'static str, width: u32, height: u32, depth: u8, chroma: Chroma) -> Self {
        StillFacts {
            format,
            width,
            height,
            depth,
            chroma,
            rotation: 0,
            colour: SRGB,
            float: false,
            timecode: None,
            remarks: Vec::new(),
        }
    }

    /// The size and rotation of a picture that is to be turned like this (Exif 3.0, Orientation).
    fn turn(&mut self, turn: u8) {
        self.rotation = match turn {
            3 | 4 => 180,
            5 | 6 => 90,
            7 | 8 => 270,
            _ => 0,
        };
        if turn >= 5 {
            (self.width, self.height) = (self.height, self.width);
        }
    }
}

fn library<'a>(
    name: &str,
    format: image::ImageFormat,
    source: &'a mut dyn Source,
) -> Result<impl ImageDecoder + 'a> {
    if format == image::ImageFormat::WebP && webp::is_cut(source)? {
        return Err(Error::damaged(name, CUT_OFF));
    }
    source.seek(SeekFrom::Start(0))?;
    let mut reader = ImageReader::new(BufReader::new(source));
    reader.set_format(format);
    let mut limits = image::Limits::default();
    limits.max_image_width = Some(MAX_PICTURE_SIDE * 4);
    limits.max_image_height = Some(MAX_PICTURE_SIDE * 4);
    limits.max_alloc = Some(MAX_STILL_AREA * 8);
    reader.limits(limits);
    reader.into_decoder().map_err(|e| failed(name, &e))
}

const NOT_READ: &str = "a form of it that cannot be decoded; a plain copy can";

fn failed(name: &str, e: &image::ImageError) -> Error {
    match e {
        image::ImageError::Limits(_) => {
            let side = MAX_PICTURE_SIDE * 4;
            Error::limit(
                name,
                format!("a picture of up to {side} a side and {MAX_STILL_AREA} pixels can be decoded"),
            )
        }
        image::ImageError::Unsupported(_) => Error::unsupported(name, NOT_READ),
        image::ImageError::IoError(e) => Error::of_library(name, e),
        e => Error::of_library(name, e),
    }
}

/// Most libraries read a picture file into memory whole.
fn check_size(name: &str, source: &mut dyn Source) -> Result<()> {
    let bytes = source.seek(SeekFrom::End(0))?;
    if bytes > MAX_STILL_BYTES {
        return Err(Error::limit(name, format!("a picture file of {bytes} bytes; up to {MAX_STILL_BYTES}")));
    }
    Ok(())
}

/// All bytes of a picture file.
fn whole(name: &str, source: &mut dyn Source) -> Result<Vec<u8>> {
    check_size(name, source)?;
    source.seek(SeekFrom::Start(0))?;
    let mut bytes = Vec::new();
    source.read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// A library's work on a file; a panic of it is damage.
fn guarded<T>(name: &str, work: impl FnOnce() -> Result<T>) -> Result<T> {
    crate::guard::catch(work)
        .ok_or_else(|| Error::damaged(name, "its reader gave up in a way that was not foreseen"))?
}

/// What is packed in PackBits runs (TIFF 6.0, section 9), as far as so many bytes; `None`: there are fewer.
fn unpacked_runs(mut packed: &[u8], want: usize) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(want);
    while out.len() < want {
        let (&n, rest) = packed.split_first()?;
        let n = n as i8;
        packed = rest;
        if n >= 0 {
            let (plain, rest) = packed.split_at_checked(n as usize + 1)?;
            out.extend_from_slice(plain);
            packed = rest;
        } else if n != -128 {
            let (&value, rest) = packed.split_first()?;
            out.resize(out.len() + (1 - i16::from(n)) as usize, value);
            packed = rest;
        }
    }
    out.truncate(want);
    Some(out)
}

/// Refuses pictures over the limit.
pub(crate) fn check_area(name: &str, w: u32, h: u32) -> Result<()> {
    if w == 0 || h == 0 {
        return Err(Error::damaged(name, format!("picture size {w}x{h}")));
    }
    if u64::from(w) * u64::from(h) > MAX_STILL_AREA {
        return Err(Error::limit(name, format!("{w}x{h}; up to {MAX_STILL_AREA} pixels in all")));
    }
    Ok(())
}

/// Facts of a picture file, whichever format it is.
pub fn facts_of(source: &mut dyn Source) -> Result<StillFacts> {
    facts(wanted(source)?, source)
}

fn wanted(source: &mut dyn Source) -> Result<&'static StillFormat> {
    let mut head = Vec::new();
    source.seek(SeekFrom::Start(0))?;
    source.take(crate::container::PROBE_BYTES as u64).read_to_end(&mut head)?;
    recognise(&head, source)?.ok_or_else(|| Error::unsupported("", "it is no picture of a known format"))
}

/// A picture file as a frame, whichever format it is.
pub fn frame_of(source: &mut dyn Source, pool: &Pool) -> Result<VideoFrame> {
    let format = wanted(source)?;
    decode_frame(format, source, pool)
}

/// A picture of a known format as a frame.
pub fn decode_frame(format: &StillFormat, source: &mut dyn Source, pool: &Pool) -> Result<VideoFrame> {
    colour::to_frame(&decode(format, source)?, pool)
}

/// A camera's raw picture is refused by name: its thumbnail would be taken for it.
fn refuse_raw(format: &StillFormat, source: &mut dyn Source) -> Result<()> {
    if format.name != "TIFF" {
        return Ok(());
    }
    match tiff::raw_kind(source)? {
        Some(kind) => Err(Error::unsupported(
            "",
            format!(
                "this is {kind}, which cannot be read; a copy in JPEG, PNG or TIFF that was developed from it can"
            ),
        )),
        None => Ok(()),
    }
}

/// Bytes of a TIFF that is read whole for its facts.
const SMALL_TIFF: u64 = 1 << 20;

/// Reads the header only.
pub fn facts(format: &'static StillFormat, source: &mut dyn Source) -> Result<StillFacts> {
    refuse_raw(format, source)?;
    let library_format = match format.reader {
        Reads::Library(l) => l,
        Reads::Own { facts, .. } | Reads::Scaled { facts, .. } => return facts(source),
    };
    // A large one is read whole only if its head alone does not tell.
    let is_tiff = library_format == image::ImageFormat::Tiff;
    let is_small = source.seek(SeekFrom::End(0))? <= SMALL_TIFF;
    if is_tiff
        && is_small
        && let Some(facts) = plain::facts(source)?
    {
        return Ok(facts);
    }
    if is_tiff && let Some((w, h)) = tiff::gray_float_size(source)? {
        return Ok(StillFacts { float: true, ..StillFacts::new(format.name, w, h, 16, Chroma::Gray) });
    }
    check_size(format.name, source)?;
    if is_tiff && library(format.name, library_format, source).is_err() {
        // A form that the library does not know.
        if let Some(facts) = plain::facts(source)? {
            return Ok(facts);
        }
    }
    let mut d = library(format.name, library_format, source)?;
    let (w, h) = d.dimensions();
    check_area(format.name, w, h)?;
    let (depth, chroma, float) = match d.color_type() {
        image::ColorType::L8 | image::ColorType::La8 => (8, Chroma::Gray, false),
        image::ColorType::Rgba8 => (8, Chroma::Rgba, false),
        image::ColorType::L16 | image::ColorType::La16 => (16, Chroma::Gray, false),
        image::ColorType::Rgb16 => (16, Chroma::Rgb, false),
        image::ColorType::Rgba16 => (16, Chroma::Rgba, false),
        image::ColorType::Rgb32F => (16, Chroma::Rgb, true),
        image::ColorType::Rgba32F => (16, Chroma::Rgba, true),
        _ => (8, Chroma::Rgb, false),
    };
    let orientation = d.orientation().unwrap_or(Orientation::NoTransforms);
    let mut facts = StillFacts { float, ..StillFacts::new(format.name, w, h, depth, chroma) };
    facts.turn(orientation.to_exif());
    if d.icc_profile().ok().flatten().is_some_and(|p| !p.is_empty()) {
        facts.remarks.push(PROFILE.into());
    }
    Ok(facts)
}

/// What fits within it is large enough for all; 0 is free.
fn largest(wanted: &[Limit]) -> Option<Limit> {
    let most = |side: fn(&Limit) -> u32| match wanted.iter().map(side).min() {
        None | Some(0) => 0,
        Some(_) => wanted.iter().map(side).max().unwrap_or(0),
    };
    Some((most(|f| f.0), most(|f| f.1))).filter(|m| *m != (0, 0))
}

/// Decodes a picture whole, turned as its file asks, in the colours of sRGB. Scene-linear pictures (OpenEXR,
/// floating-point TIFF) are shown through the sRGB curve, with what is brighter than 1.0 cut off.
pub fn decode(format: &StillFormat, source: &mut dyn Source) -> Result<DynamicImage> {
    decode_for(format, source, &[])
}

/// The same where it is wanted within these sizes only (a side of 0 is free): it may be smaller then than it is.
pub fn decode_for(format: &StillFormat, source: &mut dyn Source, wanted: &[Limit]) -> Result<DynamicImage> {
    refuse_raw(format, source)?;
    check_size(format.name, source)?;
    if format.name == "JPEG" {
        let jpeg::Coded { picture, orientation, profile } = guarded("JPEG", || jpeg::decode(source, wanted))?;
        return Ok(shown(picture, orientation, profile));
    }
    let library_format = match format.reader {
        Reads::Library(l) => l,
        Reads::Own { decode, .. } => return decode(source),
        Reads::Scaled { decode, .. } => return decode(source, largest(wanted)),
    };
    if library_format == image::ImageFormat::Tiff
        && let Some(picture) = plain::decode(source)?
    {
        return Ok(picture);
    }
    if library_format == image::ImageFormat::Tiff
        && let Some(gray) = tiff::gray_float(source)?
    {
        return Ok(colour::displayed(gray));
    }
    let mut d = library(format.name, library_format, source)?;
    let (w, h) = d.dimensions();
    check_area(format.name, w, h)?;
    let orientation = d.orientation().unwrap_or(Orientation::NoTransforms);
    let profile = d.icc_profile().ok().flatten();
    // Some of these libraries end the program on forms that they do not know.
    let picture = crate::guard::catch(|| DynamicImage::from_decoder(d))
        .ok_or_else(|| Error::unsupported(format.name, NOT_READ))?
        .map_err(|e| failed(format.name, &e))?;
    Ok(shown(picture, orientation, profile))
}

/// A picture turned as its file asks, in the colours of sRGB.
fn shown(mut picture: DynamicImage, orientation: Orientation, profile: Option<Vec<u8>>) -> DynamicImage {
    picture.apply_orientation(orientation);
    let picture = colour::displayed(picture);
    match profile {
        Some(p) => colour::to_srgb(picture, &p),
        None => picture,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
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
        let head = out.get_ref().clone();
        let format = recognise(&head, &mut out).unwrap().unwrap();
        assert_eq!(format.name, "PNG");
        let back = decode(format, &mut out).unwrap().to_rgb8();
        let p = back.get_pixel(16, 10);
        assert!((i32::from(p[0]) - 130).abs() < 4 && (i32::from(p[2]) - 80).abs() < 2, "{p:?}");
    }

    #[test]
    fn runs_are_unpacked() {
        assert_eq!(unpacked_runs(&[254, 7, 128, 1, 1, 2], 5).unwrap(), [7, 7, 7, 1, 2]);
        // A run that goes on behind what is wanted.
        assert_eq!(unpacked_runs(&[254, 7, 250, 9], 4).unwrap(), [7, 7, 7, 9]);
        assert!(unpacked_runs(&[3, 1], 4).is_none() && unpacked_runs(&[254], 1).is_none());
    }

    /// Middle gray of a scene is not the middle of a display.
    #[test]
    fn a_scene_linear_picture_is_shown_through_the_curve() {
        let picture = image::Rgb32FImage::from_fn(8, 4, |x, _| image::Rgb([0.18, x as f32, -1.0]));
        let mut out = Cursor::new(Vec::new());
        DynamicImage::ImageRgb32F(picture).write_to(&mut out, image::ImageFormat::OpenExr).unwrap();
        let f = facts_of(&mut out).unwrap();
        assert_eq!((f.format, f.float, f.width, f.height), ("OpenEXR", true, 8, 4));
        let frame = frame_of(&mut out, &Pool::new()).unwrap();
        let at = |c: usize, x| f64::from(frame.planes[c].at(x, 1)) / 65_535.0;
        assert!((at(0, 3) - 0.461).abs() < 0.001, "{}", at(0, 3));
        assert_eq!((at(1, 0), at(1, 1), at(1, 7), at(2, 0)), (0.0, 1.0, 1.0, 0.0));
    }

    #[test]
    fn a_cut_picture_is_damaged() {
        let mut out = Cursor::new(Vec::new());
        convert(&sample(), (0, 0), StillCodec::Png, &mut out).unwrap();
        let mut bytes = out.into_inner();
        bytes.truncate(bytes.len() / 2);
        let e = decode(&FORMATS[1], &mut Cursor::new(bytes)).unwrap_err();
        assert_eq!(e.class(), "damaged");
    }

    #[rstest]
    #[case(&[(320, 240)], Some((320, 240)))]
    #[case(&[(320, 240), (200, 300)], Some((320, 300)))]
    #[case(&[(320, 0), (1920, 0)], Some((1920, 0)))]
    #[case(&[(320, 0), (0, 200)], None)]
    #[case(&[(320, 240), (0, 0)], None)]
    #[case(&[(320, 240), (0, 400)], Some((0, 400)))]
    fn what_is_decoded_is_large_enough_for_all(
        #[case] wanted: &[(u32, u32)],
        #[case] want: Option<(u32, u32)>,
    ) {
        assert_eq!(largest(wanted), want);
    }
}
