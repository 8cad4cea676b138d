//! TIFF (revision 6.0, 1992) of one floating-point channel, which the image crate leaves out.

use super::check_area;
use crate::container::Source;
use crate::error::{Error, Result};
use crate::limits::MAX_STILL_AREA;
use image::{DynamicImage, ImageBuffer};
use std::io::{BufReader, SeekFrom};
use tiff::ColorType;
use tiff::decoder::{Decoder, DecodingResult, Limits};

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
    let DecodingResult::F32(values) = d.read_image().map_err(|e| Error::damaged("TIFF", e.to_string()))?
    else {
        return Err(Error::unsupported("TIFF", "floating-point samples of another width than 32 bits"));
    };
    let rgb = values.iter().flat_map(|&v| [v; 3]).collect();
    Ok(ImageBuffer::from_raw(w, h, rgb).map(DynamicImage::ImageRgb32F))
}
