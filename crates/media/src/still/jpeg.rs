//! Whether a JPEG (ITU-T T.81) is whole. Decoders show what there is of a picture that was cut off or spoilt, with gray
//! or smeared blocks for the rest: good for looking at it, wrong for making others of it.

pub mod lossless;
mod scan;
mod small;

use super::{Limit, check_area};
use crate::container::Source;
use crate::error::{Error, Result};
use image::metadata::Orientation;
use image::{DynamicImage, GrayImage, RgbImage};
use std::io::{BufReader, Read, SeekFrom};
use zune_jpeg::JpegDecoder;
use zune_jpeg::errors::{DecodeErrors, UnsupportedSchemes};
use zune_jpeg::zune_core::bytestream::ZCursor;
use zune_jpeg::zune_core::colorspace::ColorSpace;
use zune_jpeg::zune_core::options::DecoderOptions;

const SOI: u8 = 0xd8;
const EOI: u8 = 0xd9;
const SOS: u8 = 0xda;
const DHT: u8 = 0xc4;

/// The next segment from a place on, which is moved behind it: its marker and what stands in it (B.1.1.4).
fn segment<'a>(b: &'a [u8], at: &mut usize) -> Option<(u8, &'a [u8])> {
    while b.get(*at) == Some(&0xff) {
        *at += 1;
        match *b.get(*at)? {
            // Bytes before a marker may be filled.
            0xff => (),
            marker @ (0x01 | 0xd0..=0xd9) => {
                *at += 1;
                return Some((marker, &[]));
            }
            marker => {
                let from = *at + 1;
                *at = from + usize::from(crate::bits::be16(b, from)?.max(2));
                return Some((marker, b.get(from + 2..*at)?));
            }
        }
    }
    None
}

/// A picture as it is coded, how it is to be turned, and its colour profile.
pub struct Coded {
    pub picture: DynamicImage,
    pub orientation: Orientation,
    pub profile: Option<Vec<u8>>,
}

/// The first picture of a file, which may be smaller than it is where it is wanted within a size only. Damaged: no end marker
/// behind the last scan (cut off), or a scan that a decoder which forgives nothing refuses.
pub fn decode(source: &mut dyn Source, wanted: &[Limit]) -> Result<Coded> {
    source.seek(SeekFrom::Start(0))?;
    let mut bytes = Vec::new();
    BufReader::new(&mut *source).take(crate::limits::MAX_STILL_BYTES).read_to_end(&mut bytes)?;
    let end = end(&bytes)?;
    let bytes = &bytes[..end];
    let side = crate::limits::MAX_PICTURE_SIDE as usize * 4;
    let options = DecoderOptions::default().set_strict_mode(true).set_max_width(side).set_max_height(side);
    let mut decoder = JpegDecoder::new_with_options(ZCursor::new(bytes), options);
    decoder.decode_headers().map_err(wrong)?;
    let Some((w, h)) = decoder.dimensions() else {
        return Err(Error::damaged("JPEG", "it does not say how large its picture is"));
    };
    let (w, h) = (w as u32, h as u32);
    check_area("JPEG", w, h)?;
    let turn = decoder.exif().and_then(|exif| Orientation::from_exif_chunk(exif));
    let orientation = turn.unwrap_or(Orientation::NoTransforms);
    if let Some(points) = small::points((w, h), orientation, wanted)
        && let Some(picture) = small::decode(bytes, (w, h), points)?
    {
        return Ok(Coded { picture, orientation, profile: decoder.icc_profile() });
    }
    scan::check(bytes)?;
    let is_gray = decoder.input_colorspace() == Some(ColorSpace::Luma);
    let colours = if is_gray { ColorSpace::Luma } else { ColorSpace::RGB };
    let options = decoder.options().jpeg_set_out_colorspace(colours);
    decoder.set_options(options);
    let samples = decoder.decode().map_err(wrong)?;
    let picture = if is_gray {
        GrayImage::from_raw(w, h, samples).map(DynamicImage::ImageLuma8)
    } else {
        RgbImage::from_raw(w, h, samples).map(DynamicImage::ImageRgb8)
    };
    let picture = picture.ok_or_else(|| Error::damaged("JPEG", "less of its picture than its size says"))?;
    Ok(Coded { picture, orientation, profile: decoder.icc_profile() })
}

fn wrong(e: DecodeErrors) -> Error {
    match e {
        DecodeErrors::Unsupported(what) => {
            use UnsupportedSchemes::{LosslessArithmetic, LosslessHuffman};
            let how = match what {
                LosslessHuffman | LosslessArithmetic => "coded without loss",
                UnsupportedSchemes::ExtendedSequentialHuffman => "of an extended process",
                _ => "with arithmetic coding",
            };
            Error::unsupported("", format!("a JPEG {how} cannot be decoded; a plain copy can"))
        }
        DecodeErrors::LargeDimensions(_) => Error::limit(
            "JPEG",
            format!("its picture is larger than {} a side", crate::limits::MAX_PICTURE_SIDE * 4),
        ),
        _ => Error::damaged("JPEG", "its picture data is spoilt"),
    }
}

/// The place behind the end marker of the first picture (B.1 and B.2).
fn end(b: &[u8]) -> Result<usize> {
    let cut = |at: usize, what: &str| {
        Error::damaged_at("JPEG", at as u64, format!("{what}: the file is cut off, or still being copied"))
    };
    let mut at = 2;
    let mut scans = 0;
    loop {
        // Fill bytes may stand in front of a marker.
        while b.get(at) == Some(&0xff) && b.get(at + 1) == Some(&0xff) {
            at += 1;
        }
        let (Some(0xff), Some(&marker)) = (b.get(at), b.get(at + 1)) else {
            return Err(match b.get(at) {
                None | Some(0xff) => cut(at, "no end of the picture"),
                Some(_) => Error::damaged_at("JPEG", at as u64, "no marker where one must be"),
            });
        };
        at += 2;
        match marker {
            EOI if scans > 0 => return Ok(at),
            EOI => return Err(Error::damaged_at("JPEG", at as u64, "the picture ends before it began")),
            SOI | 0x01 | 0xd0..=0xd7 => continue,
            _ => (),
        }
        let len =
            usize::from(crate::bits::be16(b, at).ok_or_else(|| cut(at, "a segment without its length"))?);
        at += len.max(2);
        if at > b.len() {
            return Err(cut(at, "a segment that is not all there"));
        }
        if marker == SOS {
            scans += 1;
            // Coded data: a 0xff in it is followed by 0, or is a restart marker.
            loop {
                let Some(n) = memchr::memchr(0xff, &b[at..]) else {
                    return Err(cut(b.len(), "no end of the picture"));
                };
                at += n;
                match b.get(at + 1) {
                    Some(0 | 0xd0..=0xd7) => at += 2,
                    Some(0xff) => at += 1,
                    Some(_) => break,
                    None => return Err(cut(b.len(), "no end of the picture")),
                }
            }
        }
    }
}
