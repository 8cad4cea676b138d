//! Noise taken out and edges brought out, each from a sample's eight neighbours.

use super::wide::{self, Machine, Work, whole};
use crate::error::Result;
use crate::frame::{Chroma, Plane, Pool, Samples, VideoFrame};

/// Differences to neighbours that count as noise at the strongest, in 8 bits.
const NOISE: f32 = 16.0;

/// What becomes of a sample: of nine, line by line, the fifth is itself.
trait Kernel: Copy {
    fn at(self, n: [i32; 9]) -> i32;
}

/// The mean of those neighbours that differ by no more than noise does: edges stay.
#[derive(Clone, Copy)]
struct Even {
    most: i32,
}

impl Kernel for Even {
    #[inline(always)]
    fn at(self, n: [i32; 9]) -> i32 {
        let (mut sum, mut count) = (0, 0);
        for v in n {
            let near = i32::from((v - n[4]).abs() <= self.most);
            sum += v & -near;
            count += near;
        }
        // Of one to nine.
        whole(sum as f32 / count as f32)
    }
}

/// What differs from the smoothed picture around it, added once more.
#[derive(Clone, Copy)]
struct Edges {
    /// In 256ths, of sixteen: 1 2 1, 2 4 2, 1 2 1.
    by: i32,
    top: i32,
}

impl Kernel for Edges {
    #[inline(always)]
    fn at(self, n: [i32; 9]) -> i32 {
        let smooth = n[0] + n[2] + n[6] + n[8] + 2 * (n[1] + n[3] + n[5] + n[7]) + 4 * n[4];
        let over = (16 * n[4] - smooth) * self.by;
        (n[4] + ((over + 2048) >> 12)).clamp(0, self.top)
    }
}

pub fn denoise(f: &VideoFrame, amount: f32, pool: &Pool) -> Result<VideoFrame> {
    let most = (amount * NOISE * (1u32 << (f.depth - 8)) as f32).round() as i32;
    around(f, pool, |_| true, Even { most })
}

pub fn sharpen(f: &VideoFrame, amount: f32, pool: &Pool) -> Result<VideoFrame> {
    let top = ((1u32 << f.depth) - 1) as i32;
    let colours = matches!(f.chroma, Chroma::Rgb | Chroma::Rgba);
    let by = (amount * 256.0).round() as i32;
    around(f, pool, |plane| plane == 0 || (colours && plane < 3), Edges { by, top })
}

/// Each sample of the chosen planes from itself and its neighbours, row by row; at the edges the nearest stand in.
fn around(
    f: &VideoFrame,
    pool: &Pool,
    which: impl Fn(usize) -> bool,
    kernel: impl Kernel,
) -> Result<VideoFrame> {
    let mut out = f.copy(pool)?;
    let planes = f.planes.iter().zip(&mut out.planes).enumerate();
    for (_, (from, to)) in planes.filter(|(n, _)| which(*n)) {
        wide::run(Around { from, to, kernel });
    }
    Ok(out)
}

struct Around<'a, K> {
    from: &'a Plane,
    to: &'a mut Plane,
    kernel: K,
}

impl<K: Kernel> Work for Around<'_, K> {
    #[inline(always)]
    fn work(self, _: impl Machine) {
        let (w, h) = (self.from.width as usize, self.from.height as usize);
        // Three rows with one more at both ends.
        let mut rows = [vec![0i32; w + 2], vec![0i32; w + 2], vec![0i32; w + 2]];
        fill(self.from, 0, &mut rows[0]);
        fill(self.from, 0, &mut rows[1]);
        let mut made = vec![0i32; w];
        for y in 0..h {
            fill(self.from, (y + 1).min(h - 1), &mut rows[2]);
            let [a, b, c] = [0, 1, 2].map(|i| &rows[i][..w + 2]);
            for x in 0..w {
                let n = [a[x], a[x + 1], a[x + 2], b[x], b[x + 1], b[x + 2], c[x], c[x + 1], c[x + 2]];
                made[x] = self.kernel.at(n);
            }
            let at = y * self.to.stride..y * self.to.stride + w;
            match &mut self.to.samples {
                Samples::U8(b) => b[at].iter_mut().zip(&made).for_each(|(t, v)| *t = *v as u8),
                Samples::U16(d) => d[at].iter_mut().zip(&made).for_each(|(t, v)| *t = *v as u16),
            }
            rows.rotate_left(1);
        }
    }
}

#[inline(always)]
fn fill(p: &Plane, y: usize, row: &mut [i32]) {
    let w = p.width as usize;
    let at = y * p.stride..y * p.stride + w;
    match &p.samples {
        Samples::U8(b) => row[1..=w].iter_mut().zip(&b[at]).for_each(|(r, v)| *r = i32::from(*v)),
        Samples::U16(d) => row[1..=w].iter_mut().zip(&d[at]).for_each(|(r, v)| *r = i32::from(*v)),
    }
    (row[0], row[w + 1]) = (row[1], row[w]);
}

#[cfg(test)]
mod tests {
    use super::*;

    fn edge_with_noise(noise: u16) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 40, 20, Chroma::Gray, 8).unwrap();
        for (y, x) in (0..20usize).flat_map(|y| (0..40usize).map(move |x| (y, x))) {
            let base = if x < 20 { 60 } else { 180 };
            f.planes[0].put(x, y, base + (x * 7 + y * 13) as u16 % (2 * noise + 1));
        }
        f
    }

    fn spread(f: &VideoFrame) -> u16 {
        let values = (4..16).flat_map(|y| (4..16).map(move |x| f.planes[0].at(x, y)));
        values.clone().max().unwrap() - values.min().unwrap()
    }

    #[test]
    fn noise_goes_and_the_edge_stays() {
        let f = edge_with_noise(4);
        let out = denoise(&f, 1.0, &Pool::new()).unwrap();
        assert!(spread(&out) * 2 < spread(&f), "{} of {}", spread(&out), spread(&f));
        let step = |f: &VideoFrame| f.planes[0].at(20, 10).abs_diff(f.planes[0].at(19, 10));
        assert!(step(&out) > 110, "{}", step(&out));
    }

    #[test]
    fn an_edge_is_steeper_and_stays_in_range() {
        let f = edge_with_noise(0);
        let out = sharpen(&f, 1.0, &Pool::new()).unwrap();
        assert!(out.planes[0].at(19, 10) < 60 && out.planes[0].at(20, 10) > 180);
        assert_eq!((out.planes[0].at(5, 5), out.planes[0].at(35, 5)), (60, 180));
    }
}
