//! Codecs whose packets each hold one whole picture.

use super::DecodeVideo;
use crate::error::Result;
use crate::frame::VideoFrame;
use crate::track::Packet;

/// What such a codec does itself.
pub trait OnePicture: Send {
    fn picture(&mut self, data: &[u8]) -> Result<VideoFrame>;
}

/// The rest: times, and what was lost.
pub struct Single<T> {
    inner: T,
    lost: Vec<(i64, i64)>,
}

impl<T: OnePicture> Single<T> {
    pub fn new(inner: T) -> Self {
        Single { inner, lost: Vec::new() }
    }
}

impl<T: OnePicture> DecodeVideo for Single<T> {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        if !packet.shown {
            return Ok(());
        }
        match self.inner.picture(&packet.data) {
            Ok(mut frame) => {
                (frame.pts, frame.duration) = (packet.pts, packet.duration);
                out.push(frame);
                Ok(())
            }
            Err(e) => {
                self.lost.push((packet.pts, packet.duration));
                Err(e)
            }
        }
    }
    fn flush(&mut self, _out: &mut Vec<VideoFrame>) -> Result<()> {
        Ok(())
    }
    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        std::mem::take(&mut self.lost)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::Error;
    use crate::frame::{Chroma, Pool};

    struct Even;
    impl OnePicture for Even {
        fn picture(&mut self, data: &[u8]) -> Result<VideoFrame> {
            match data {
                [n] if n % 2 == 0 => VideoFrame::new(&Pool::new(), 2, 2, Chroma::Gray, 8),
                _ => Err(Error::damaged("odd", "it is odd")),
            }
        }
    }

    #[test]
    fn times_are_kept_lost_ones_are_told_once_and_hidden_ones_are_not_decoded() {
        let mut d = Single::new(Even);
        let mut out = Vec::new();
        let packet =
            |n: u8, shown| Packet { pts: n.into(), duration: 1, shown, data: vec![n], ..Packet::default() };
        assert!(d.decode(&packet(4, true), &mut out).is_ok());
        assert!(d.decode(&packet(5, true), &mut out).is_err());
        assert!(d.decode(&packet(7, false), &mut out).is_ok());
        d.flush(&mut out).unwrap();
        assert_eq!(out.iter().map(|f| (f.pts, f.duration)).collect::<Vec<_>>(), [(4, 1)]);
        assert_eq!((d.take_lost(), d.take_lost()), (vec![(5, 1)], vec![]));
    }
}
