//! Scaling, plane by plane, at any depth and chroma layout.

use super::flatten;
use super::resize::{self, Axis};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Pool, VideoFrame};
use crate::units::Ratio;
use serde::{Deserialize, Serialize};

/// How samples are weighed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kernel {
    Bilinear,
    #[default]
    CatmullRom,
    Lanczos,
}

impl Kernel {
    pub fn words(self) -> &'static str {
        match self {
            Kernel::Bilinear => "bilinear",
            Kernel::CatmullRom => "Catmull-Rom",
            Kernel::Lanczos => "Lanczos",
        }
    }
}

/// Scales pictures to one size with a kernel that is widened when shrinking, so that nothing aliases.
pub struct Scaler {
    width: u32,
    height: u32,
    kernel: Kernel,
    pool: Pool,
    /// Of each size of plane that came.
    axes: Vec<Axis>,
}

/// Most of them that are kept: a stream that changes its size all the time is rare.
const MOST_AXES: usize = 8;

impl Scaler {
    pub fn new(width: u32, height: u32, pool: Pool) -> Self {
        Scaler::with(width, height, Kernel::default(), pool)
    }

    pub fn with(width: u32, height: u32, kernel: Kernel, pool: Pool) -> Self {
        Scaler { width, height, kernel, pool, axes: Vec::new() }
    }

    /// The picture in the new size. Everything else about it stays, but the pixels are square: the size
    /// asked for is taken to have allowed for their shape.
    pub fn scale(&mut self, frame: &VideoFrame) -> Result<VideoFrame> {
        if frame.chroma != Chroma::Rgba {
            return self.planes(frame);
        }
        // Colours that are not seen must not come into those that are.
        let mut seen = frame.copy(&self.pool)?;
        flatten::premultiply(&mut seen, false);
        let mut out = self.planes(&seen)?;
        flatten::premultiply(&mut out, true);
        Ok(out)
    }

    fn planes(&mut self, frame: &VideoFrame) -> Result<VideoFrame> {
        let mut out = VideoFrame::new(&self.pool, self.width, self.height, frame.chroma, frame.depth)?;
        out.describe_like(frame);
        out.pixel_shape = Ratio::ONE;
        let top = ((1u32 << frame.depth) - 1) as u16;
        for (from, to) in frame.planes.iter().zip(&mut out.planes) {
            if self.axes.len() >= MOST_AXES {
                self.axes.clear();
            }
            let across = self.axis(from.width, to.width);
            let down = self.axis(from.height, to.height);
            let axes = (&self.axes[across], &self.axes[down]);
            let (own, wanted) = ((from.width, from.height, from.stride), (to.width, to.height, to.stride));
            if !resize::plane(&from.samples, own, &mut to.samples, wanted, axes, top) {
                return Err(Error::unsupported("scale", "planes of mixed depth"));
            }
        }
        Ok(out)
    }

    fn axis(&mut self, from: u32, to: u32) -> usize {
        if let Some(n) = self.axes.iter().position(|a| a.is(from, to)) {
            return n;
        }
        self.axes.push(Axis::new(self.kernel, from, to));
        self.axes.len() - 1
    }
}

/// The largest size of even sides within `limit` that keeps the shown shape of a picture of `width` x
/// `height` pixels of shape `pixel`. Nothing is made larger than it is. A side of `limit` may be 0: free.
pub fn fit(width: u32, height: u32, pixel: Ratio, limit: (u32, u32)) -> (u32, u32) {
    sized(width, height, pixel, limit, 1.0)
}

/// As [`fit`], but what is smaller is made larger.
pub fn enlarged(width: u32, height: u32, pixel: Ratio, limit: (u32, u32)) -> (u32, u32) {
    sized(width, height, pixel, limit, f64::INFINITY)
}

fn sized(width: u32, height: u32, pixel: Ratio, limit: (u32, u32), most: f64) -> (u32, u32) {
    let (w, h) = square(width, height, pixel);
    let (w, h) = (f64::from(w), f64::from(h));
    let side = |limit: u32, v: f64| if limit == 0 { 1.0 } else { f64::from(limit) / v };
    let by = side(limit.0, w).min(side(limit.1, h)).min(most);
    // The nearest even number, but never over the picture's own side or the limit.
    let even = |v: f64, limit: u32, own: f64| {
        let most = if by >= 1.0 && most <= 1.0 || limit == 0 { own.max(v) } else { f64::from(limit) };
        (((v / 2.0).round() as u32) * 2).min(most as u32 & !1).max(2)
    };
    (even(w * by, limit.0, w), even(h * by, limit.1, h))
}

/// The size in square pixels. Only one side is stretched, so that no sample is thrown away for it.
pub fn square(width: u32, height: u32, pixel: Ratio) -> (u32, u32) {
    let stretched = |side: u32, by: f64| (f64::from(side) * by).round().clamp(1.0, 1e9) as u32;
    if pixel.num >= pixel.den {
        (stretched(width, pixel.value()), height)
    } else {
        (width, stretched(height, 1.0 / pixel.value()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case((1920, 1080), (1, 1), (960, 540), (960, 540))]
    #[case((1080, 1920), (1, 1), (960, 540), (304, 540))]
    #[case((640, 360), (1, 1), (960, 540), (640, 360))]
    #[case((1440, 1080), (4, 3), (960, 540), (960, 540))]
    #[case((720, 576), (12, 11), (0, 0), (784, 576))]
    #[case((1921, 1081), (1, 1), (0, 0), (1920, 1080))]
    #[case((4096, 2), (1, 1), (64, 64), (64, 2))]
    #[case((854, 480), (1, 1), (320, 0), (320, 180))]
    fn sizes_fit(
        #[case] size: (u32, u32),
        #[case] px: (u64, u64),
        #[case] limit: (u32, u32),
        #[case] want: (u32, u32),
    ) {
        assert_eq!(fit(size.0, size.1, Ratio::new(px.0, px.1).unwrap(), limit), want);
    }

    #[rstest]
    fn a_flat_picture_stays_flat(
        #[values(8, 10, 16)] depth: u8,
        #[values(Chroma::C420, Chroma::C422, Chroma::Rgba, Chroma::Gray)] chroma: Chroma,
    ) {
        let pool = Pool::new();
        let mut f = VideoFrame::new(&pool, 101, 57, chroma, depth).unwrap();
        let value = (3u16 << (depth - 2)) - 1;
        f.planes.iter_mut().for_each(|p| p.fill(value));
        let out = Scaler::new(40, 30, pool).scale(&f).unwrap();
        assert_eq!((out.width, out.height, out.depth), (40, 30, depth));
        for p in &out.planes {
            assert!((0..p.height).all(|y| (0..p.width).all(|x| p.at(x, y) == value)));
        }
    }

    #[test]
    fn padding_beside_the_picture_does_not_bleed_in() {
        let pool = Pool::new();
        let mut f = VideoFrame::new(&pool, 20, 20, Chroma::Gray, 8).unwrap();
        let stride = f.planes[0].stride;
        let bytes = f.planes[0].bytes_mut().unwrap();
        bytes.fill(255);
        (0..20).for_each(|y| bytes[y * stride..y * stride + 20].fill(10));
        let out = Scaler::new(10, 10, pool).scale(&f).unwrap();
        assert!((0..10).all(|y| (0..10).all(|x| out.planes[0].at(x, y) == 10)));
    }
}
