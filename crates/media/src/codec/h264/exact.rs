//! Decoding through rust_h264: fields, 10 bits and 4:2:2 as well.

use super::{Config, Sps, is_picture_unit, nal_units};
use crate::bits::unescape;
use crate::codec::DecodeVideo;
use crate::codec::waiting::Waiting;
use crate::error::{Error, Result, SPOILT};
use crate::frame::{Chroma, Fields, Pool, VideoFrame};
use crate::guard;
use crate::track::Packet;
use rust_h264::decoder::{ChromaFormat, Frame};
use rust_h264::error::DecodeError;
use rust_h264::nal::NalUnit;
use std::borrow::Cow;

pub struct Exact {
    inner: rust_h264::decoder::Decoder,
    config: Config,
    sps: Option<Sps>,
    fields: Fields,
    pool: Pool,
    waiting: Waiting,
    /// Pictures that may have to wait for one that is shown before them: place in the order of showing, number of the
    /// packet, picture.
    held: Vec<((u64, i64), i64, VideoFrame)>,
    most_held: usize,
    /// Packets so far, and sequences.
    given: i64,
    sequence: u64,
    start: bool,
    concealed: u64,
    why: Option<String>,
}

impl Exact {
    pub fn new(setup: &[u8], fields: Fields, decode_times: bool, pool: Pool) -> Result<Self> {
        let config = Config::parse(setup)?;
        let sps = config.first_sps()?;
        Ok(Exact {
            inner: rust_h264::decoder::Decoder::new(),
            config,
            most_held: sps.as_ref().map_or(16, Sps::most_reordered),
            sps,
            fields,
            pool,
            waiting: Waiting::new(decode_times),
            held: Vec::new(),
            given: 0,
            sequence: 0,
            start: true,
            concealed: 0,
            why: None,
        })
    }

    fn feed(&mut self, nal: &[u8]) -> std::result::Result<Option<Frame>, DecodeError> {
        // A unit of no bytes is none (found by mutation: a parameter set of no length).
        let Some((first, rest)) = nal.split_first() else { return Ok(None) };
        let unit = NalUnit {
            nal_ref_idc: first >> 5 & 3,
            nal_unit_type: (first & 31).into(),
            rbsp: Cow::Owned(unescape(rest)),
        };
        // The library may break on damage: then it begins anew, with the sets that it was given.
        guard::catch(|| self.inner.decode_nal(&unit)).unwrap_or_else(|| {
            (self.inner, self.start) = (rust_h264::decoder::Decoder::new(), true);
            Err(DecodeError::InvalidSyntax("the decoder broke on it"))
        })
    }

    fn picture(&self, frame: &Frame) -> Result<VideoFrame> {
        let gray = self.sps.as_ref().is_some_and(|s| s.chroma_format == 0);
        let chroma = match frame.chroma_format {
            _ if gray => Chroma::Gray,
            ChromaFormat::Yuv422 => Chroma::C422,
            ChromaFormat::Yuv420 => Chroma::C420,
        };
        // A field whose other one never came.
        let tall = self.sps.as_ref().map_or(frame.height, |s| s.height);
        let single = frame.height > 0 && frame.height * 2 == tall;
        let height = if single { tall } else { frame.height };
        let mut out = VideoFrame::new(&self.pool, frame.width, height, chroma, frame.bit_depth)?;
        let each = frame.bytes_per_sample();
        for (to, from) in out.planes.iter_mut().zip([&frame.y, &frame.u, &frame.v]) {
            let row = to.width as usize * each;
            if single {
                let doubled: Vec<u8> =
                    from.chunks_exact(row.max(1)).flat_map(|r| [r, r]).flatten().copied().collect();
                to.fill_rows(&doubled, row);
            } else {
                to.fill_rows(from, row);
            }
        }
        if let Some(sps) = &self.sps {
            (out.colour, out.pixel_shape) = (sps.colour, sps.pixel_shape);
        }
        out.fields = self.fields;
        Ok(out)
    }

    /// Pictures that nothing can come before any more.
    fn release(&mut self, keep: usize, out: &mut Vec<VideoFrame>) {
        self.held.sort_by_key(|h| h.0);
        let ready = self.held.len().saturating_sub(keep);
        for (_, number, mut frame) in self.held.drain(..ready) {
            if let Some((pts, duration)) = self.waiting.came(number) {
                (frame.pts, frame.duration) = (pts, duration);
                out.push(frame);
            }
        }
    }
}

impl DecodeVideo for Exact {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        if self.start {
            self.start = false;
            for nal in self.config.sps.clone().iter().chain(&self.config.pps.clone()) {
                let _ = self.feed(nal);
            }
        }
        self.given += 1;
        let number = self.given;
        let (mut wrong, mut frame, mut instant) = (None, None, false);
        for nal in nal_units(&packet.data, self.config.length_size) {
            match nal {
                Ok(nal) if is_picture_unit(nal) => {
                    if nal[0] & 31 == super::NAL_SPS
                        && let Ok(sps) = Sps::parse(nal)
                    {
                        (self.most_held, self.sps) = (sps.most_reordered(), Some(sps));
                    }
                    instant |= nal[0] & 31 == super::NAL_IDR;
                    match self.feed(nal) {
                        Ok(found) => frame = frame.or(found),
                        Err(DecodeError::Unsupported(what)) => {
                            return Err(Error::unsupported(
                                "",
                                format!("H.264 with {what} cannot be decoded"),
                            ));
                        }
                        Err(_) => wrong = Some(SPOILT.to_owned()),
                    }
                }
                Ok(_) => (),
                Err(e) => wrong = Some(e.to_string()),
            }
        }
        // A picture ends with its packet: the library, which would wait for the next one, is told so.
        let frame = frame.or_else(|| {
            guard::catch(|| self.inner.flush()).unwrap_or_else(|| {
                (self.inner, self.start) = (rust_h264::decoder::Decoder::new(), true);
                None
            })
        });
        if instant {
            self.release(0, out);
            self.sequence += 1;
        }
        self.waiting.given(number, packet.pts, packet.duration, packet.shown);
        let Some(frame) = frame else {
            let why = wrong.unwrap_or_else(|| "a packet without a picture".into());
            return Err(Error::damaged(
                "H.264",
                format!("the picture at {} could not be decoded ({why})", packet.pts),
            ));
        };
        if let Some(why) = wrong {
            self.concealed += 1;
            self.why.get_or_insert(why);
        }
        let place =
            if self.waiting.in_order { (self.sequence, frame.pic_order_cnt.into()) } else { (0, packet.pts) };
        let picture = self.picture(&frame)?;
        self.held.push((place, number, picture));
        self.release(self.most_held, out);
        Ok(())
    }

    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        self.release(0, out);
        self.waiting.end();
        (self.inner, self.start) = (rust_h264::decoder::Decoder::new(), true);
        Ok(())
    }

    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        self.waiting.take_lost()
    }

    fn concealed(&self) -> u64 {
        self.concealed
    }

    fn why(&self) -> Option<&str> {
        self.why.as_deref()
    }
}

#[cfg(test)]
mod tests {
    use super::super::{record_of, with_lengths};
    use super::*;

    /// A parameter set of no length, as a mutated record had one, is passed over.
    #[test]
    fn an_empty_parameter_set_is_none() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/fixtures/camera-10.h264");
        let stream = std::fs::read(path).unwrap();
        let mut config = record_of(&with_lengths(&stream)).unwrap();
        config.pps.push(Vec::new());
        let mut d = Exact::new(&config.write(), Fields::Progressive, false, Pool::new()).unwrap();
        let mut out = Vec::new();
        let _ = d.decode(&Packet { data: vec![0, 0, 0, 1, 0x65], ..Packet::default() }, &mut out);
        assert!(out.is_empty());
    }
}
