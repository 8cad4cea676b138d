//! TIFF (revision 6.0, 1992) of one floating-point channel, which the image crate leaves out.

use super::check_area;
use crate::container::Source;
use crate::error::{Error, Result};
use crate::limits::MAX_STILL_AREA;
use image::{DynamicImage, ImageBuffer};
use std::io::{BufReader, SeekFrom};
use tiff::ColorType;
use tiff::decoder::{Decoder, DecodingResult, Limits};

/// Longest directory that is looked through.
const MAX_ENTRIES: usize = 4096;

/// What a picture in the form of TIFF is that is no picture to look at but what a camera's sensor saw, or that shows
/// only a small preview of it. The first directory of such a file is often its thumbnail: it must never be taken for
/// the picture. (TIFF/EP, ISO 12234-2; Digital Negative 1.7, chapter 2.)
pub fn raw_kind(source: &mut dyn Source) -> Result<Option<&'static str>> {
    let mut head = [0u8; 8];
    source.seek(SeekFrom::Start(0))?;
    if source.read_exact(&mut head).is_err() {
        return Ok(None);
    }
    let little = head.starts_with(b"II");
    let be = |b: &[u8]| b.iter().fold(0u32, |n, v| n << 8 | u32::from(*v));
    let number = move |b: &[u8]| {
        if little { be(&b.iter().rev().copied().collect::<Vec<_>>()) } else { be(b) }
    };
    if number(&head[2..4]) != 42 {
        return Ok(None);
    }
    source.seek(SeekFrom::Start(number(&head[4..8]).into()))?;
    let mut count = [0u8; 2];
    if source.read_exact(&mut count).is_err() {
        return Ok(None);
    }
    let mut table = vec![0u8; (number(&count) as usize).min(MAX_ENTRIES) * 12];
    if source.read_exact(&mut table).is_err() {
        return Ok(None);
    }
    let entry = |tag: u32| table.chunks_exact(12).find(|e| number(&e[..2]) == tag);
    // A value of one or two bytes stands at the start of its field.
    let value =
        |tag: u32| entry(tag).map(|e| number(if number(&e[2..4]) == 3 { &e[8..10] } else { &e[8..12] }));
    const NEW_SUBFILE_TYPE: u32 = 254;
    const PHOTOMETRIC: u32 = 262;
    const MAKE: u32 = 271;
    const SUB_IFDS: u32 = 330;
    const DNG_VERSION: u32 = 50_706;
    const COLOUR_FILTER_ARRAY: u32 = 32_803;
    const LINEAR_RAW: u32 = 34_892;
    if entry(DNG_VERSION).is_some() {
        return Ok(Some("a camera's raw picture (DNG)"));
    }
    let of_a_sensor = matches!(value(PHOTOMETRIC), Some(COLOUR_FILTER_ARRAY | LINEAR_RAW));
    let reduced = value(NEW_SUBFILE_TYPE).is_some_and(|t| t & 1 == 1);
    if of_a_sensor || (entry(MAKE).is_some() && entry(SUB_IFDS).is_some()) {
        return Ok(Some("a camera's raw picture (TIFF/EP and its kin: NEF, ARW, PEF)"));
    }
    Ok(reduced.then_some("a file whose first picture is a thumbnail"))
}

type Opened<'a> = (Decoder<BufReader<&'a mut dyn Source>>, u32, u32);

fn open(source: &mut dyn Source) -> Result<Option<Opened<'_>>> {
    source.seek(SeekFrom::Start(0))?;
    // What is wrong with the file is for the image crate to say.
    let Ok(d) = Decoder::new(BufReader::new(source)) else { return Ok(None) };
    let mut limits = Limits::default();
    limits.decoding_buffer_size = (MAX_STILL_AREA * 4) as usize;
    let mut d = d.with_limits(limits);
    let (Ok(kind), Ok((w, h))) = (d.colortype(), d.dimensions()) else { return Ok(None) };
    let float =
        d.find_tag(tiff::tags::Tag::SampleFormat).ok().flatten().and_then(|v| v.into_u16().ok()) == Some(3);
    Ok((kind == ColorType::Gray(32) && float).then_some((d, w, h)))
}

pub fn gray_float_size(source: &mut dyn Source) -> Result<Option<(u32, u32)>> {
    Ok(open(source)?.map(|(_, w, h)| (w, h)))
}

/// Such a picture with the same value in red, green and blue.
pub fn gray_float(source: &mut dyn Source) -> Result<Option<DynamicImage>> {
    let Some((mut d, w, h)) = open(source)? else { return Ok(None) };
    check_area("TIFF", w, h)?;
    let DecodingResult::F32(values) = d.read_image().map_err(|e| Error::of_library("TIFF", &e))? else {
        return Err(Error::unsupported("TIFF", "floating-point samples of another width than 32 bits"));
    };
    let rgb = values.iter().flat_map(|&v| [v; 3]).collect();
    Ok(ImageBuffer::from_raw(w, h, rgb).map(DynamicImage::ImageRgb32F))
}
