//! A GIF of one frame is a picture.

use super::StillFacts;
use crate::bits::le16;
use crate::codec::gif;
use crate::codec::single::OnePicture;
use crate::container::Source;
use crate::container::picture::gif as container;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Pool};
use image::DynamicImage;
use std::io::SeekFrom;

pub fn score(head: &[u8]) -> u8 {
    (container::FORMAT.score)(head)
}

/// Whether there is one frame and no more.
pub fn is_single(source: &mut dyn Source) -> Result<bool> {
    source.seek(SeekFrom::Start(0))?;
    let frames = container::frames(source, 2)?;
    source.seek(SeekFrom::Start(0))?;
    Ok(frames.1.len() < 2)
}

pub fn facts(source: &mut dyn Source) -> Result<StillFacts> {
    source.seek(SeekFrom::Start(0))?;
    let mut head = [0; 10];
    source.read_exact(&mut head)?;
    let (w, h) = (le16(&head, 6).unwrap_or(0), le16(&head, 8).unwrap_or(0));
    super::check_area("GIF", w.into(), h.into())?;
    Ok(StillFacts::new("GIF", w.into(), h.into(), 8, Chroma::Rgb))
}

pub fn decode(source: &mut dyn Source) -> Result<DynamicImage> {
    source.seek(SeekFrom::Start(0))?;
    let (setup, mut frames) = container::frames(source, 1)?;
    let packet = frames.pop().ok_or_else(|| Error::damaged("GIF", "no frame in it"))?;
    super::colour::to_picture(&gif::Decoder::new(&setup, Pool::new())?.picture(&packet.data)?)
}
