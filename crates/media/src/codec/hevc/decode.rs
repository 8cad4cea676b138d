//! Decoding through rust_h265.

use super::order::Order;
use super::{Config, Sps, nal_units};
use crate::codec::DecodeVideo;
use crate::codec::waiting::Waiting;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Pool, VideoFrame};
use crate::guard;
use crate::limits::MAX_PICTURE_AREA;
use crate::track::{Packet, Track, VideoTrack};
use crate::units::Ratio;
use rust_h265::{DecodeError, DecodeLimits, Frame, PixelData, parse_nal};

pub struct Decoder {
    inner: rust_h265::Decoder,
    threads: usize,
    config: Config,
    pool: Pool,
    order: Order,
    waiting: Waiting,
    /// Parameter sets must go in front of the next packet.
    start: bool,
    concealed: u64,
    colour: Colour,
    pixel_shape: Ratio,
}

fn library(threads: usize) -> rust_h265::Decoder {
    // A picture is no larger than any of ours; the library's own bound keeps the pictures of some cameras out.
    let limits = DecodeLimits { max_picture_pixels: MAX_PICTURE_AREA, max_picture_memory_bytes: 1 << 30 };
    rust_h265::Decoder::with_limits(limits).with_display_order().with_threads(threads)
}

impl Decoder {
    pub fn new(track: &Track, v: &VideoTrack, pool: Pool) -> Result<Self> {
        let config = Config::parse(&track.setup)?;
        let sps = config.first_sps().and_then(|s| Sps::parse(s));
        let pixel_shape = sps.map_or(Ratio::ONE, |s| s.pixel_shape);
        Ok(Decoder {
            inner: library(threads(v)),
            threads: threads(v),
            config,
            pool,
            order: Order::new(),
            waiting: Waiting::new(track.decode_times),
            start: true,
            concealed: 0,
            colour: v.colour,
            pixel_shape,
        })
    }

    /// What the library makes of a unit.
    fn feed(&mut self, nal: &[u8]) -> std::result::Result<(), DecodeError> {
        match parse_nal(nal) {
            Some(unit) => self.inner.decode_nal(&unit).map(|_| ()),
            None => Ok(()),
        }
    }

    fn collect(&mut self, frame: &Frame, out: &mut Vec<VideoFrame>) -> Result<()> {
        let Some((pts, duration)) = self.waiting.came(frame.pic_order_cnt.into()) else { return Ok(()) };
        let mut picture = copy(frame, &self.pool)?;
        (picture.colour, picture.pixel_shape) = (self.colour, self.pixel_shape);
        (picture.pts, picture.duration) = (pts, duration);
        out.push(picture);
        Ok(())
    }
}

/// Threads of one decoder: small pictures (tiles of a still, which are decoded beside one another) are not worth more than
/// one.
fn threads(v: &VideoTrack) -> usize {
    const MOST: usize = 8;
    const SMALL: u64 = 300_000;
    if u64::from(v.width) * u64::from(v.height) < SMALL {
        return 1;
    }
    std::thread::available_parallelism().map_or(1, usize::from).min(MOST)
}

/// A picture of the library as ours.
pub fn copy(frame: &Frame, pool: &Pool) -> Result<VideoFrame> {
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

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        // The library may break on damage: then it begins anew with the next key picture.
        match guard::catch(|| self.take(packet, out)) {
            Some(done) => done,
            None => {
                self.begin_anew();
                Err(Error::damaged("HEVC", "the decoder broke on it"))
            }
        }
    }

    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        let rest = guard::catch(|| {
            while let Some(frame) = self.inner.flush() {
                self.collect(&frame, out)?;
            }
            while self.inner.next_error().is_some() {
                self.concealed += 1;
            }
            Ok(())
        });
        self.waiting.end();
        self.begin_anew();
        rest.unwrap_or(Ok(()))
    }

    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        self.waiting.take_lost()
    }

    fn concealed(&self) -> u64 {
        self.concealed
    }
}

impl Decoder {
    fn begin_anew(&mut self) {
        (self.inner, self.order, self.start) = (library(self.threads), Order::new(), true);
    }

    fn take(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        if self.start {
            self.start = false;
            for nal in self.config.units.clone() {
                self.order.take(&nal);
                let _ = self.feed(&nal);
            }
        }
        let (mut wrong, mut began) = (None, false);
        for nal in nal_units(&packet.data, self.config.length_size) {
            let nal = match nal {
                Ok(nal) => nal,
                Err(e) => {
                    wrong = Some(e.to_string());
                    break;
                }
            };
            if let Some(place) = self.order.take(nal)
                && !began
            {
                began = true;
                let shown = packet.shown && !place.skipped;
                self.waiting.given(place.order.into(), packet.pts, packet.duration, shown);
            }
            match self.feed(nal) {
                Ok(()) => (),
                Err(DecodeError::Unsupported(what)) => {
                    return Err(Error::unsupported(
                        "",
                        format!("HEVC with a tool that is not decoded ({what})"),
                    ));
                }
                Err(DecodeError::ResourceLimit(what)) => return Err(Error::limit("HEVC picture", what)),
                Err(e) => wrong = Some(e.to_string()),
            }
        }
        while let Some(frame) = self.inner.next_output() {
            self.collect(&frame, out)?;
        }
        while let Some(e) = self.inner.next_error() {
            wrong = Some(e.to_string());
        }
        match wrong {
            // Nothing of it can come out.
            Some(why) if !began => Err(Error::damaged("HEVC", why)),
            Some(_) => {
                self.concealed += 1;
                Ok(())
            }
            None if !began && packet.shown => Err(Error::damaged("HEVC", "a packet without a picture")),
            None => Ok(()),
        }
    }
}
