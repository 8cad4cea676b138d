//! The frames of an animated GIF (GIF89a specification, CompuServe 1990): each is drawn over the one before.
//!
//! The setup record is the file's first part up to the end of its global colours; a packet is one frame: its
//! control block's flags, delay and transparent index (4 bytes), then everything from the image descriptor on.

use super::single::OnePicture;
use crate::bits::le16;
use crate::error::{Error, Result};
use crate::frame::video::check_size;
use crate::frame::{Chroma, Pool, VideoFrame};
use weezl::{BitOrder, decode::Decoder as Lzw};

pub struct Decoder {
    width: usize,
    height: usize,
    colours: Vec<u8>,
    /// Red, green, blue and coverage of what is shown.
    canvas: Vec<u8>,
    pool: Pool,
}

impl Decoder {
    pub fn new(setup: &[u8], pool: Pool) -> Result<Self> {
        let cut = || Error::damaged("GIF", "the header is cut short");
        let (w, h) = (le16(setup, 6).ok_or_else(cut)?, le16(setup, 8).ok_or_else(cut)?);
        check_size("GIF", w.into(), h.into())?;
        let flags = *setup.get(10).ok_or_else(cut)?;
        let colours = if flags & 0x80 != 0 {
            setup.get(13..13 + (6 << (flags & 7))).ok_or_else(cut)?.to_vec()
        } else {
            Vec::new()
        };
        let (width, height) = (usize::from(w), usize::from(h));
        Ok(Decoder { width, height, colours, canvas: vec![0; width * height * 4], pool })
    }

    fn draw(&mut self, data: &[u8]) -> Result<VideoFrame> {
        let cut = || Error::damaged("GIF", "the frame is cut short");
        let &[flags, _, _, transparent, 0x2c, ref rest @ ..] = data else { return Err(cut()) };
        let place = |i| le16(rest, i).map(usize::from).ok_or_else(cut);
        let (x0, y0, w, h) = (place(0)?, place(2)?, place(4)?, place(6)?);
        let look = *rest.get(8).ok_or_else(cut)?;
        let mut at = 9;
        let own = if look & 0x80 != 0 {
            let n = 6 << (look & 7);
            at += n;
            Some(rest.get(9..9 + n).ok_or_else(cut)?)
        } else {
            None
        };
        if w == 0 || h == 0 || x0 + w > self.width || y0 + h > self.height {
            return Err(Error::damaged(
                "GIF",
                format!("a frame of {w}x{h} at {x0},{y0} in {}x{}", self.width, self.height),
            ));
        }
        let bits = *rest.get(at).ok_or_else(cut)?;
        if !(1..=11).contains(&bits) {
            return Err(Error::damaged("GIF", format!("codes of {bits} bits; 1 to 11")));
        }
        let mut packed = Vec::new();
        let mut blocks = rest.get(at + 1..).unwrap_or(&[]);
        while let Some((&n, more)) = blocks.split_first().filter(|(n, _)| **n > 0) {
            let n = usize::from(n).min(more.len());
            packed.extend_from_slice(&more[..n]);
            blocks = &more[n..];
        }
        let mut indexes = vec![0u8; w * h];
        let mut lzw = Lzw::new(BitOrder::Lsb, bits);
        let (mut read, mut made) = (0, 0);
        while made < indexes.len() {
            let step = lzw.decode_bytes(&packed[read..], &mut indexes[made..]);
            read += step.consumed_in;
            made += step.consumed_out;
            match step.status {
                Ok(weezl::LzwStatus::Ok) if step.consumed_out > 0 || step.consumed_in > 0 => (),
                _ => break,
            }
        }
        if made < indexes.len() / 2 {
            return Err(Error::damaged("GIF", format!("{made} pixels where the frame has {}", w * h)));
        }
        let disposal = flags >> 2 & 7;
        let before = (disposal == 3).then(|| self.canvas.clone());
        let colours = own.unwrap_or(&self.colours);
        for (n, line) in indexes[..made].chunks(w).enumerate() {
            let y = y0 + if look & 0x40 != 0 { interlaced(n, h) } else { n };
            for (x, &index) in line.iter().enumerate() {
                if flags & 1 != 0 && index == transparent {
                    continue;
                }
                let Some(rgb) = colours.get(usize::from(index) * 3..usize::from(index) * 3 + 3) else {
                    continue;
                };
                let to = (y * self.width + x0 + x) * 4;
                self.canvas[to..to + 3].copy_from_slice(rgb);
                self.canvas[to + 3] = 255;
            }
        }
        let mut f = VideoFrame::new(&self.pool, self.width as u32, self.height as u32, Chroma::Rgb, 8)?;
        f.colour = crate::frame::Colour { primaries: 1, transfer: 13, matrix: 0, full_range: true };
        for (c, plane) in f.planes.iter_mut().enumerate() {
            for (i, pixel) in self.canvas.chunks_exact(4).enumerate() {
                plane.put(i % self.width, i / self.width, pixel[c].into());
            }
        }
        match (disposal, before) {
            (2, _) => {
                for y in y0..y0 + h {
                    let from = (y * self.width + x0) * 4;
                    self.canvas[from..from + w * 4].fill(0);
                }
            }
            (_, Some(before)) => self.canvas = before,
            _ => (),
        }
        Ok(f)
    }
}

/// Row of the `n`th line of a frame whose lines come in four passes (appendix E).
fn interlaced(n: usize, h: usize) -> usize {
    let (mut left, mut row) = (n, 0);
    for (from, step) in [(0, 8), (4, 8), (2, 4), (1, 2)] {
        let lines = h.saturating_sub(from).div_ceil(step);
        if left < lines {
            row = from + left * step;
            break;
        }
        left -= lines;
    }
    row
}

impl OnePicture for Decoder {
    fn picture(&mut self, data: &[u8]) -> Result<VideoFrame> {
        self.draw(data)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Found by mutation: a frame without width.
    #[test]
    fn a_frame_of_no_size_is_damaged() {
        let setup = [&b"GIF89a"[..], &[4, 0, 4, 0, 0x80, 0, 0], &[0; 6]].concat();
        let mut d = Decoder::new(&setup, Pool::new()).unwrap();
        let frame = [&[0, 0, 0, 0, 0x2c][..], &[0, 0, 0, 0, 0, 0, 4, 0, 0], &[2, 1, 0, 0]].concat();
        assert_eq!(d.picture(&frame).unwrap_err().class(), "damaged");
    }

    #[test]
    fn lines_of_four_passes_cover_every_row_once() {
        for h in 1..40 {
            let mut rows: Vec<usize> = (0..h).map(|n| interlaced(n, h)).collect();
            rows.sort_unstable();
            assert_eq!(rows, (0..h).collect::<Vec<_>>());
        }
    }
}
