//! Frames of MPEG audio in bytes that were cut anywhere: AVI's chunks and plain streams.

use crate::codec::mpeg_audio::Header;
use std::collections::VecDeque;

#[derive(Default)]
pub struct MpegFrames {
    buffer: Vec<u8>,
    like: Option<Header>,
    ready: VecDeque<Vec<u8>>,
}

impl MpegFrames {
    pub fn feed(&mut self, bytes: &[u8]) {
        self.buffer.extend_from_slice(bytes);
        let mut at = 0;
        while self.buffer.len() >= at + Header::BYTES {
            let fits = |h: &Header| self.like.is_none_or(|l| l.alike(h));
            match Header::parse(&self.buffer[at..]).filter(fits) {
                Some(h) if self.buffer.len() >= at + h.len => {
                    self.like = Some(h);
                    self.ready.push_back(self.buffer[at..at + h.len].to_vec());
                    at += h.len;
                }
                Some(_) => break,
                None => at += 1,
            }
        }
        self.buffer.drain(..at);
    }
    pub fn pop(&mut self) -> Option<Vec<u8>> {
        self.ready.pop_front()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_come_whole_however_they_were_cut() {
        let frame: Vec<u8> =
            [0xff, 0xfb, 0x10, 0xc0].into_iter().chain(std::iter::repeat_n(1, 100)).collect();
        let stream = [&[5; 3][..], &frame, &frame].concat();
        for piece in [1, 7, 104, 300] {
            let mut f = MpegFrames::default();
            stream.chunks(piece).for_each(|c| f.feed(c));
            assert_eq!(std::iter::from_fn(|| f.pop()).collect::<Vec<_>>(), [frame.clone(), frame.clone()]);
        }
    }
}
