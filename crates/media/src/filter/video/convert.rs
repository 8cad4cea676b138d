//! Any picture as 8-bit 4:2:0 in limited range: what the H.264 encoder takes and every player shows.
//!
//! Depth is rounded, chroma is averaged over the pixels it stands for, red, green and blue become luma and
//! colour difference by ITU-R BT.709-6, 3.2 to 3.4. Coverage is shown over black.

use crate::error::Result;
use crate::frame::{Chroma, Colour, Plane, Pool, Samples, VideoFrame};

/// Colours that pictures of red, green and blue get.
pub const HD: Colour = Colour { primaries: 1, transfer: 1, matrix: 1, full_range: false };

/// What the pictures of a track are in after conversion.
pub fn colour_after(colour: Colour, chroma: Option<Chroma>) -> Colour {
    match chroma {
        Some(Chroma::Rgb | Chroma::Rgba) => HD,
        _ if colour.matrix == 0 => HD,
        _ => Colour { full_range: false, ..colour },
    }
}

/// Whether a picture is as the encoder wants it.
pub fn is_plain(f: &VideoFrame) -> bool {
    f.chroma == Chroma::C420 && f.depth == 8 && !f.colour.full_range
}

pub struct Converter {
    pool: Pool,
    tables: Option<Tables>,
}

/// For one depth and range: luma and colour difference in 8 bits of limited range, with 4 bits of fraction.
struct Tables {
    depth: u8,
    full: bool,
    luma: Vec<u16>,
    chroma: Vec<u16>,
}

const FRACTION: u32 = 4;

impl Converter {
    pub fn new(pool: Pool) -> Self {
        Converter { pool, tables: None }
    }

    pub fn convert(&mut self, f: &VideoFrame) -> Result<VideoFrame> {
        let mut out = VideoFrame::new(&self.pool, f.width, f.height, Chroma::C420, 8)?;
        out.describe_like(f);
        out.colour = colour_after(f.colour, Some(f.chroma));
        let identity = f.chroma == Chroma::C444 && f.colour.matrix == 0;
        match f.chroma {
            Chroma::Rgb | Chroma::Rgba => from_rgb(f, [0, 1, 2], &mut out),
            // Matrix 0 (H.273): the planes are green, blue and red.
            _ if identity => from_rgb(f, [2, 0, 1], &mut out),
            _ => self.difference(f, &mut out),
        }
        Ok(out)
    }

    fn difference(&mut self, f: &VideoFrame, out: &mut VideoFrame) {
        let (depth, full) = (f.depth, f.colour.full_range);
        if self.tables.as_ref().is_none_or(|t| (t.depth, t.full) != (depth, full)) {
            let (luma, chroma) = tables(depth, full);
            self.tables = Some(Tables { depth, full, luma, chroma });
        }
        let Some(Tables { luma, chroma, .. }) = &self.tables else { return };
        rows(&f.planes[0], &mut out.planes[0], 1, 1, luma);
        if f.chroma == Chroma::Gray {
            out.planes[1..].iter_mut().filter_map(Plane::bytes_mut).for_each(|b| b.fill(128));
            return;
        }
        let (sx, sy) = match f.chroma {
            Chroma::C444 => (2, 2),
            Chroma::C422 => (1, 2),
            _ => (1, 1),
        };
        for i in 1..3 {
            rows(&f.planes[i], &mut out.planes[i], sx, sy, chroma);
        }
    }
}

/// ITU-R BT.2100-2, tables 9: what each value is in 8 bits of limited range.
fn tables(depth: u8, full: bool) -> (Vec<u16>, Vec<u16>) {
    let most = (1u32 << depth) - 1;
    let one = f64::from(1u32 << FRACTION);
    let step = f64::from(1u32 << (depth - 8));
    let value = |v: f64| (v.clamp(0.0, 255.0) * one).round() as u16;
    let luma = (0..=most).map(|v| {
        value(if full { 16.0 + f64::from(v) / f64::from(most) * 219.0 } else { f64::from(v) / step })
    });
    let middle = f64::from(1u32 << (depth - 1));
    let chroma = (0..=most).map(|v| {
        value(if full {
            128.0 + (f64::from(v) - middle) / f64::from(most) * 224.0
        } else {
            f64::from(v) / step
        })
    });
    (luma.collect(), chroma.collect())
}

/// Writes a plane whose samples each stand for `sx` by `sy` of the source's.
fn rows(from: &Plane, to: &mut Plane, sx: usize, sy: usize, table: &[u16]) {
    let (w, h, stride) = (to.width as usize, to.height as usize, to.stride);
    let (fw, fh) = (from.width as usize, from.height as usize);
    let Some(bytes) = to.bytes_mut() else { return };
    // A row of the source as values with a fraction; one more at its end where its width is odd.
    let most = table.len() - 1;
    let value = |y: usize, line: &mut [u32], add: bool| {
        let at = y.min(fh - 1) * from.stride;
        let put = |l: &mut u32, v: u16| *l = u32::from(v) + if add { *l } else { 0 };
        match &from.samples {
            Samples::U8(b) => {
                line.iter_mut().zip(&b[at..at + fw]).for_each(|(l, v)| put(l, table[usize::from(*v)]));
            }
            // Bits above the depth are not the picture's.
            Samples::U16(d) => {
                line.iter_mut()
                    .zip(&d[at..at + fw])
                    .for_each(|(l, v)| put(l, table[usize::from(*v).min(most)]));
            }
        }
    };
    let mut line = vec![0u32; (w * sx).max(fw)];
    let shift = FRACTION + (sx * sy).ilog2();
    let half = 1u32 << (shift - 1);
    for y in 0..h {
        for dy in 0..sy {
            value(y * sy + dy, &mut line, dy > 0);
        }
        let last = line[fw - 1];
        line[fw..].fill(last);
        let out = &mut bytes[y * stride..y * stride + w];
        if sx == 1 {
            out.iter_mut().zip(&line).for_each(|(t, v)| *t = ((v + half) >> shift).min(255) as u8);
        } else {
            let pairs = line.chunks_exact(2);
            out.iter_mut().zip(pairs).for_each(|(t, v)| *t = ((v[0] + v[1] + half) >> shift).min(255) as u8);
        }
    }
}

fn from_rgb(f: &VideoFrame, order: [usize; 3], out: &mut VideoFrame) {
    let shift = u32::from(f.depth) - 8;
    let alpha = (f.chroma == Chroma::Rgba).then(|| &f.planes[3]);
    let most = (1u32 << f.depth) - 1;
    let (w, h) = (f.width as usize, f.height as usize);
    let [luma, cb, cr] = out.planes.as_mut_slice() else { return };
    let (ls, cs) = (luma.stride, cb.stride);
    let (Some(luma), Some(cb), Some(cr)) = (luma.bytes_mut(), cb.bytes_mut(), cr.bytes_mut()) else { return };
    // A row of a plane in 8 bits with 4 of fraction; one more at its end where the width is odd.
    let wide = w.next_multiple_of(2);
    let row = |y: usize, i: usize, to: &mut [i32]| {
        let p = &f.planes[order[i]];
        let at = y.min(h - 1) * p.stride;
        match &p.samples {
            Samples::U8(b) => to.iter_mut().zip(&b[at..at + w]).for_each(|(t, v)| *t = i32::from(*v)),
            Samples::U16(d) => to.iter_mut().zip(&d[at..at + w]).for_each(|(t, v)| *t = i32::from(*v)),
        }
        if let Some(a) = alpha {
            for (x, t) in to.iter_mut().enumerate().take(w) {
                let covered = u32::from(a.at(x as u32, y.min(h - 1) as u32));
                *t = ((*t as u32 * covered + most / 2) / most) as i32;
            }
        }
        to.iter_mut().for_each(|t| *t = ((*t as u32) << FRACTION >> shift) as i32);
        let last = to[w - 1];
        to[w..].fill(last);
    };
    // Weights times 65536, of 219 and 224 steps of 255.
    let clamp = |v: i32| (v >> (16 + FRACTION)).clamp(0, 255) as u8;
    const HALF: i32 = 1 << 19;
    let mut lines = vec![vec![0i32; wide]; 6];
    for y in (0..h).step_by(2) {
        for (n, line) in lines.iter_mut().enumerate() {
            row(y + n / 3, n % 3, line);
        }
        let [r0, g0, b0, r1, g1, b1] = lines.as_slice() else { return };
        for (dy, (r, (g, b))) in [(r0, (g0, b0)), (r1, (g1, b1))].into_iter().enumerate() {
            if y + dy < h {
                let to = &mut luma[(y + dy) * ls..(y + dy) * ls + w];
                for (((t, r), g), b) in to.iter_mut().zip(r).zip(g).zip(b) {
                    *t = clamp(11_966 * r + 40_254 * g + 4_064 * b + (16 << (16 + FRACTION)) + HALF);
                }
            }
        }
        let at = y / 2 * cs;
        let mean = |a: &[i32], b: &[i32], x: usize| (a[2 * x] + a[2 * x + 1] + b[2 * x] + b[2 * x + 1]) / 4;
        for x in 0..wide / 2 {
            let (r, g, b) = (mean(r0, r1, x), mean(g0, g1, x), mean(b0, b1, x));
            cb[at + x] = clamp(-6_596 * r - 22_188 * g + 28_784 * b + (128 << (16 + FRACTION)) + HALF);
            cr[at + x] = clamp(28_784 * r - 26_145 * g - 2_639 * b + (128 << (16 + FRACTION)) + HALF);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn flat(chroma: Chroma, depth: u8, values: [u16; 4], colour: Colour) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 5, 3, chroma, depth).unwrap();
        f.colour = colour;
        for (p, v) in f.planes.iter_mut().zip(values) {
            (0..p.height as usize).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, v)));
        }
        f
    }
    const FULL: Colour = Colour { primaries: 2, transfer: 2, matrix: 5, full_range: true };

    #[rstest]
    #[case::ten_bits(Chroma::C422, 10, [64, 512, 960, 0], HD, [16, 128, 240])]
    #[case::twelve_bits(Chroma::C444, 12, [3760, 2048, 256, 0], HD, [235, 128, 16])]
    #[case::full_range(Chroma::C420, 8, [255, 128, 255, 0], FULL, [235, 128, 240])]
    #[case::black_in_full_range(Chroma::C444, 8, [0, 0, 128, 0], FULL, [16, 16, 128])]
    #[case::gray(Chroma::Gray, 16, [0x8000, 0, 0, 0], FULL, [126, 128, 128])]
    #[case::white(Chroma::Rgb, 8, [255, 255, 255, 0], FULL, [235, 128, 128])]
    #[case::red(Chroma::Rgb, 16, [65_535, 0, 0, 0], FULL, [63, 102, 240])]
    #[case::half_covered_white(Chroma::Rgba, 8, [255, 255, 255, 128], FULL, [126, 128, 128])]
    #[case::blue_by_identity(Chroma::C444, 8, [0, 255, 0, 0], Colour { matrix: 0, ..FULL }, [32, 240, 118])]
    fn flat_pictures_have_the_standards_values(
        #[case] chroma: Chroma,
        #[case] depth: u8,
        #[case] values: [u16; 4],
        #[case] colour: Colour,
        #[case] want: [i32; 3],
    ) {
        let out = Converter::new(Pool::new()).convert(&flat(chroma, depth, values, colour)).unwrap();
        assert!(is_plain(&out) || out.colour.full_range == colour.full_range);
        for (i, w) in want.into_iter().enumerate() {
            for p in [(0, 0), (out.planes[i].width - 1, out.planes[i].height - 1)] {
                let got = i32::from(out.planes[i].at(p.0, p.1));
                assert!((got - w).abs() <= 1, "plane {i} at {p:?}: {got}, not {w}");
            }
        }
        assert!(!out.colour.full_range);
    }

    #[test]
    fn chroma_is_the_mean_of_what_it_stands_for() {
        let mut f = flat(Chroma::C444, 8, [16, 100, 128, 0], HD);
        f.planes[1].put(1, 1, 140);
        let out = Converter::new(Pool::new()).convert(&f).unwrap();
        assert_eq!(out.planes[1].at(0, 0), 110);
    }
}
