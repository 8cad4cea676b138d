//! Uncompressed pictures: samples sorted into planes.

use super::single::OnePicture;
use crate::error::{Error, Result};
use crate::frame::{Colour, Fields, Pool, VideoFrame};
use crate::track::{Packing, RawPicture, VideoTrack};
use crate::units::Ratio;

pub struct Decoder {
    layout: RawPicture,
    width: u32,
    height: u32,
    pool: Pool,
    colour: Colour,
    fields: Fields,
    pixel_shape: Ratio,
}

impl Decoder {
    pub fn new(layout: RawPicture, track: &VideoTrack, pool: Pool) -> Result<Self> {
        crate::frame::video::check_size("uncompressed picture", track.width, track.height)?;
        Ok(Decoder {
            layout,
            width: track.width,
            height: track.height,
            pool,
            colour: track.colour,
            fields: track.fields,
            pixel_shape: track.pixel_shape,
        })
    }

    fn sort(&self, data: &[u8]) -> Result<VideoFrame> {
        let (w, h) = (self.width as usize, self.height as usize);
        let wanted = self.layout.frame_bytes(self.width, self.height).unwrap_or(u64::MAX);
        // Rows of some writers are not filled up at the end of the last one.
        let row = (wanted as usize) / h;
        if data.len() < row * (h - 1) + row.min(w) || (data.len() as u64) < wanted.saturating_sub(row as u64)
        {
            return Err(Error::damaged(
                "uncompressed picture",
                format!("{} bytes where {}x{} takes {wanted}", data.len(), self.width, self.height),
            ));
        }
        let depth = self.layout.depth();
        let mut f = VideoFrame::new(&self.pool, self.width, self.height, self.layout.chroma(), depth)?;
        if let Packing::Planar { chroma, depth, red_first } = self.layout.packing {
            let each = if depth > 8 { 2 } else { 1 };
            let mut at = 0;
            for i in 0..chroma.planes() {
                // Some orders have Cr before Cb.
                let plane = if red_first && i > 0 { 3 - i } else { i };
                let p = &mut f.planes[plane];
                let stride = p.width as usize * each;
                let len = stride * p.height as usize;
                p.fill_rows(data.get(at..).unwrap_or(&[]), stride);
                at += len;
            }
        } else {
            for y in 0..h {
                let from = if self.layout.bottom_up { h - 1 - y } else { y };
                let end = ((from + 1) * row).min(data.len());
                self.unpack(&data[(from * row).min(end)..end], y, &mut f);
            }
        }
        (f.colour, f.fields, f.pixel_shape) = (self.colour, self.fields, self.pixel_shape);
        Ok(f)
    }

    fn unpack(&self, row: &[u8], y: usize, f: &mut VideoFrame) {
        let w = self.width as usize;
        match self.layout.packing {
            Packing::Planar { .. } => (),
            Packing::Uyvy | Packing::Yuyv => {
                let luma_first = usize::from(self.layout.packing == Packing::Yuyv);
                for (i, four) in row.chunks_exact(4).enumerate().take(w.div_ceil(2)) {
                    f.planes[0].put(2 * i, y, four[1 - luma_first].into());
                    if 2 * i + 1 < w {
                        f.planes[0].put(2 * i + 1, y, four[3 - luma_first].into());
                    }
                    f.planes[1].put(i, y, four[luma_first].into());
                    f.planes[2].put(i, y, four[2 + luma_first].into());
                }
            }
            Packing::V216 => {
                let word = |b: &[u8], i: usize| u16::from_le_bytes([b[2 * i], b[2 * i + 1]]);
                for (i, eight) in row.chunks_exact(8).enumerate().take(w.div_ceil(2)) {
                    f.planes[1].put(i, y, word(eight, 0));
                    f.planes[0].put(2 * i, y, word(eight, 1));
                    f.planes[2].put(i, y, word(eight, 2));
                    if 2 * i + 1 < w {
                        f.planes[0].put(2 * i + 1, y, word(eight, 3));
                    }
                }
            }
            // Three 10-bit samples a word, in the order Cb Y Cr Y over the row.
            Packing::V210 => {
                let samples = row.chunks_exact(4).flat_map(|b| {
                    let v = u32::from_le_bytes([b[0], b[1], b[2], b[3]]);
                    [v & 0x3ff, v >> 10 & 0x3ff, v >> 20 & 0x3ff]
                });
                for (i, v) in samples.enumerate() {
                    let (plane, x) = match i % 4 {
                        0 => (1, i / 4),
                        2 => (2, i / 4),
                        _ => (0, i / 2),
                    };
                    if x < f.planes[plane].width as usize {
                        f.planes[plane].put(x, y, v as u16);
                    }
                }
            }
            Packing::Bytes(order) => {
                let places: Vec<(usize, usize)> = order
                    .bytes()
                    .enumerate()
                    .filter_map(|(at, c)| Some((at, "rgba".find(c as char).or("yuv".find(c as char))?)))
                    .collect();
                let planes = f.planes.len();
                for (x, pixel) in row.chunks_exact(order.len()).enumerate().take(w) {
                    for &(at, plane) in places.iter().filter(|(_, p)| *p < planes) {
                        f.planes[plane].put(x, y, pixel[at].into());
                    }
                }
            }
            Packing::R210 => {
                for (x, b) in row.chunks_exact(4).enumerate().take(w) {
                    let v = u32::from_be_bytes([b[0], b[1], b[2], b[3]]);
                    for c in 0..3 {
                        f.planes[c].put(x, y, (v >> (20 - 10 * c) & 0x3ff) as u16);
                    }
                }
            }
            Packing::Rgb555 => {
                for (x, b) in row.chunks_exact(2).enumerate().take(w) {
                    let v = u16::from_le_bytes([b[0], b[1]]);
                    for c in 0..3 {
                        let five = v >> (10 - 5 * c) & 31;
                        f.planes[c].put(x, y, five << 3 | five >> 2);
                    }
                }
            }
            Packing::B64a => {
                for (x, b) in row.chunks_exact(8).enumerate().take(w) {
                    for c in 0..4 {
                        let plane = (c + 3) % 4;
                        f.planes[plane].put(x, y, u16::from_be_bytes([b[2 * c], b[2 * c + 1]]));
                    }
                }
            }
        }
    }
}

impl OnePicture for Decoder {
    fn picture(&mut self, data: &[u8]) -> Result<VideoFrame> {
        self.sort(data)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Chroma;
    use rstest::rstest;

    fn one(packing: Packing, w: u32, h: u32, data: &[u8]) -> Result<VideoFrame> {
        let d = Decoder::new(RawPicture::new(packing), &VideoTrack::sized(w, h), Pool::new())?;
        d.sort(data)
    }

    #[rstest]
    #[case::uyvy(Packing::Uyvy, &[90, 16, 200, 32], [16, 90, 200])]
    #[case::yuyv(Packing::Yuyv, &[16, 90, 32, 200], [16, 90, 200])]
    #[case::bgra(Packing::Bytes("bgra"), &[3, 2, 1, 9, 6, 5, 4, 9], [1, 2, 3])]
    #[case::xrgb(Packing::Bytes("xrgb"), &[0, 1, 2, 3, 0, 4, 5, 6], [1, 2, 3])]
    #[case::v308(Packing::Bytes("vyu"), &[200, 16, 90, 1, 2, 3], [16, 90, 200])]
    #[case::rgb555(Packing::Rgb555, &[0x41, 0x7c, 0, 0], [255, 16, 8])]
    #[case::b64a(Packing::B64a, &[0, 9, 0, 1, 0, 2, 0, 3, 0, 0, 0, 0, 0, 0, 0, 0], [1, 2, 3])]
    #[case::v216(Packing::V216, &[1, 1, 2, 2, 3, 3, 4, 4], [0x202, 0x101, 0x303])]
    fn the_first_pixel_has_its_values(#[case] p: Packing, #[case] data: &[u8], #[case] want: [u16; 3]) {
        let f = one(p, 2, 1, data).unwrap();
        assert_eq!([0, 1, 2].map(|i| f.planes[i].at(0, 0)), want);
    }

    #[test]
    fn ten_bit_words_are_taken_apart() {
        let mut row = vec![0u8; 128];
        for (i, v) in [512u32 | 64 << 10 | 600 << 20, 65 | 513 << 10 | 66 << 20].into_iter().enumerate() {
            row[i * 4..i * 4 + 4].copy_from_slice(&v.to_le_bytes());
        }
        let f = one(Packing::V210, 6, 1, &row).unwrap();
        assert_eq!([0, 1, 2].map(|x| f.planes[0].at(x, 0)), [64, 65, 66]);
        assert_eq!((f.planes[1].at(0, 0), f.planes[2].at(0, 0), f.planes[1].at(1, 0)), (512, 600, 513));
        assert_eq!(f.depth, 10);
    }

    #[test]
    fn rows_from_the_bottom_and_short_data() {
        let mut layout = RawPicture::new(Packing::Bytes("bgr"));
        (layout.bottom_up, layout.align) = (true, 4);
        let d = Decoder::new(layout, &VideoTrack::sized(1, 2), Pool::new()).unwrap();
        let f = d.sort(&[1, 1, 1, 0, 2, 2, 2, 0]).unwrap();
        assert_eq!((f.planes[0].at(0, 0), f.planes[0].at(0, 1)), (2, 1));
        assert!(d.sort(&[1]).is_err());
    }

    #[rstest]
    fn planes_lie_one_after_the_other(#[values(false, true)] red_first: bool) {
        let data: Vec<u8> = (0..9).collect();
        let p = Packing::Planar { chroma: Chroma::C420, depth: 8, red_first };
        let f = one(p, 3, 1, &data).unwrap();
        assert_eq!(f.planes[0].at(2, 0), 2);
        assert_eq!(f.planes[if red_first { 2 } else { 1 }].at(1, 0), 4);
    }
}
