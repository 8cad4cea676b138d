//! How alike two pictures look: PSNR, the structural similarity of Wang, Bovik, Sheikh and Simoncelli ("Image Quality
//! Assessment: From Error Visibility to Structural Similarity", 2004) and that over several sizes (Wang, Simoncelli and Bovik,
//! "Multiscale Structural Similarity for Image Quality Assessment", 2003), of luma of 8 bits.

use crate::frame::VideoFrame;

/// Luma as numbers from 0 to 255.
struct Luma {
    w: usize,
    h: usize,
    v: Vec<f32>,
}

impl Luma {
    fn of(f: &VideoFrame) -> Luma {
        let p = &f.planes[0];
        let by = f32::from(1u16 << (f.depth - 8));
        let row = |y: u32| (0..p.width).map(move |x| f32::from(p.at(x, y)) / by);
        Luma { w: p.width as usize, h: p.height as usize, v: (0..p.height).flat_map(row).collect() }
    }

    fn halved(&self) -> Luma {
        let (w, h) = (self.w / 2, self.h / 2);
        let at = |x: usize, y: usize| self.v[y * self.w + x];
        let mean = |x: usize, y: usize| {
            (at(2 * x, 2 * y) + at(2 * x + 1, 2 * y) + at(2 * x, 2 * y + 1) + at(2 * x + 1, 2 * y + 1)) / 4.0
        };
        Luma { w, h, v: (0..h).flat_map(|y| (0..w).map(move |x| (x, y))).map(|(x, y)| mean(x, y)).collect() }
    }

    fn with(&self, other: &Luma, f: impl Fn(f32, f32) -> f32) -> Luma {
        Luma { w: self.w, h: self.h, v: self.v.iter().zip(&other.v).map(|(a, b)| f(*a, *b)).collect() }
    }

    /// Weighted by the bell of 11 points and 1.5 points' width, where all of it lies inside.
    fn blurred(&self) -> Luma {
        let bell: Vec<f32> = (0..WINDOW).map(|i| (-((i as f32 - 5.0).powi(2)) / 4.5).exp()).collect();
        let sum: f32 = bell.iter().sum();
        let w = self.w + 1 - WINDOW;
        let h = self.h + 1 - WINDOW;
        let mut wide = vec![0.0; w * self.h];
        for (from, to) in self.v.chunks(self.w).zip(wide.chunks_mut(w)) {
            for (k, b) in bell.iter().enumerate() {
                to.iter_mut().zip(&from[k..]).for_each(|(t, f)| *t += f * b / sum);
            }
        }
        let mut v = vec![0.0; w * h];
        for (y, to) in v.chunks_mut(w).enumerate() {
            for (k, b) in bell.iter().enumerate() {
                to.iter_mut().zip(&wide[(y + k) * w..]).for_each(|(t, f)| *t += f * b / sum);
            }
        }
        Luma { w, h, v }
    }
}

const WINDOW: usize = 11;
const C1: f32 = (0.01 * 255.0) * (0.01 * 255.0);
const C2: f32 = (0.03 * 255.0) * (0.03 * 255.0);

/// Luminance with contrast and structure, and contrast and structure alone, on average.
fn likeness(a: &Luma, b: &Luma) -> (f64, f64) {
    let (ma, mb) = (a.blurred(), b.blurred());
    let (aa, bb, ab) = (
        a.with(a, |x, y| x * y).blurred(),
        b.with(b, |x, y| x * y).blurred(),
        a.with(b, |x, y| x * y).blurred(),
    );
    let (mut all, mut structure) = (0.0, 0.0);
    for i in 0..ma.v.len() {
        let (x, y) = (ma.v[i], mb.v[i]);
        let (vx, vy, both) = (aa.v[i] - x * x, bb.v[i] - y * y, ab.v[i] - x * y);
        let s = (2.0 * both + C2) / (vx + vy + C2);
        let l = (2.0 * x * y + C1) / (x * x + y * y + C1);
        (all, structure) = (all + f64::from(l * s), structure + f64::from(s));
    }
    let n = ma.v.len().max(1) as f64;
    (all / n, structure / n)
}

/// Structural similarity, 1 for the same picture. Both have one size of at least 11x11.
pub fn ssim(a: &VideoFrame, b: &VideoFrame) -> f64 {
    likeness(&Luma::of(a), &Luma::of(b)).0
}

/// The same over five sizes, each half the one before; fewer where the picture is too small, with their weights made up to 1.
pub fn ms_ssim(a: &VideoFrame, b: &VideoFrame) -> f64 {
    const WEIGHTS: [f64; 5] = [0.0448, 0.2856, 0.3001, 0.2363, 0.1333];
    let (mut a, mut b) = (Luma::of(a), Luma::of(b));
    let mut sizes = 1;
    while sizes < 5 && a.w.min(a.h) >> sizes >= WINDOW {
        sizes += 1;
    }
    let sum: f64 = WEIGHTS[..sizes].iter().sum();
    let mut product = 1.0;
    for (n, weight) in WEIGHTS[..sizes].iter().enumerate() {
        let (all, structure) = likeness(&a, &b);
        let value: f64 = if n + 1 == sizes { all } else { structure };
        product *= value.max(0.0).powf(weight / sum);
        if n + 1 < sizes {
            (a, b) = (a.halved(), b.halved());
        }
    }
    product
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Pool;
    use crate::testkit::{estuary, psnr};

    #[test]
    fn the_same_is_one_and_more_noise_is_less() {
        let pool = Pool::new();
        let clean = estuary(&pool, 320, 180, 7, 25, "");
        let noisy = |by: u32| {
            let mut f = clean.copy(&pool).unwrap();
            for (y, x) in (0..180usize).flat_map(|y| (0..320usize).map(move |x| (y, x))) {
                let v = u32::from(f.planes[0].at(x as u32, y as u32));
                let noise = ((x as u32 * 7919 + y as u32 * 104_729) >> 3) % (2 * by + 1);
                f.planes[0].put(x, y, (v + noise).saturating_sub(by).clamp(16, 235) as u16);
            }
            f
        };
        assert!((ssim(&clean, &clean) - 1.0).abs() < 1e-5 && (ms_ssim(&clean, &clean) - 1.0).abs() < 1e-5);
        let all: Vec<(f64, f64, f64)> = [3, 10, 40]
            .map(noisy)
            .iter()
            .map(|f| (psnr(&clean, f), ssim(&clean, f), ms_ssim(&clean, f)))
            .collect();
        assert!(all.windows(2).all(|w| w[0].0 > w[1].0 && w[0].1 > w[1].1 && w[0].2 > w[1].2), "{all:?}");
        // Structure at a distance is hurt less than close by.
        assert!(all.iter().all(|(_, one, many)| many > one && *one > 0.1), "{all:?}");
    }
}
