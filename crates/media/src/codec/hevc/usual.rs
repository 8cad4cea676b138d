//! Decoding through rust_h265.

use super::decode::Engine;
use crate::error::{Error, Result, SPOILT};
use crate::frame::{Chroma, Pool, VideoFrame};
use crate::limits::MAX_PICTURE_AREA;
use rust_h265::{DecodeError, DecodeLimits, Decoder, Frame, PixelData, parse_nal};

pub struct Usual {
    inner: Decoder,
    pool: Pool,
    ending: bool,
}

impl Usual {
    pub fn new(threads: usize, pool: Pool) -> Self {
        // A picture is no larger than any of ours; the library's own bound keeps the pictures of some cameras out.
        let limits = DecodeLimits { max_picture_pixels: MAX_PICTURE_AREA, max_picture_memory_bytes: 1 << 30 };
        let inner = Decoder::with_limits(limits).with_display_order().with_threads(threads);
        Usual { inner, pool, ending: false }
    }
}

impl Engine for Usual {
    fn feed(&mut self, nal: &[u8], _order: i32) -> Result<()> {
        let Some(unit) = parse_nal(nal) else { return Ok(()) };
        match self.inner.decode_nal(&unit) {
            Ok(_) => Ok(()),
            Err(DecodeError::Unsupported(what)) => {
                Err(Error::unsupported("", format!("HEVC with a tool that is not decoded ({what})")))
            }
            Err(DecodeError::ResourceLimit(what)) => Err(Error::limit("HEVC picture", what)),
            Err(_) => Err(Error::damaged("HEVC", SPOILT)),
        }
    }

    fn picture(&mut self) -> Result<Option<(i64, VideoFrame)>> {
        let frame = if self.ending { self.inner.flush() } else { self.inner.next_output() };
        frame.map(|f| Ok((f.pic_order_cnt.into(), copy(&f, &self.pool)?))).transpose()
    }

    fn end(&mut self) -> Result<()> {
        self.ending = true;
        Ok(())
    }

    fn trouble(&mut self) -> Option<String> {
        self.inner.next_error().map(|_| SPOILT.to_owned())
    }
}

/// A picture of the library as ours.
fn copy(frame: &Frame, pool: &Pool) -> Result<VideoFrame> {
    let chroma = if frame.chroma_format_idc == 3 { Chroma::C444 } else { Chroma::C420 };
    let mut picture = VideoFrame::new(pool, frame.width, frame.height, chroma, frame.bit_depth)?;
    for (to, from) in picture.planes.iter_mut().zip([&frame.y, &frame.u, &frame.v]) {
        let stride = to.width as usize;
        match from {
            PixelData::U8(bytes) if frame.bit_depth == 8 => to.fill_rows(bytes, stride),
            PixelData::U16(words) if frame.bit_depth > 8 => to.fill_words(words, stride),
            _ => return Err(Error::unsupported("HEVC", "luma and colour of different depths")),
        }
    }
    Ok(picture)
}
