//! Both sides halved, in the source's own form. Everything that shrinks a picture to a small part begins so: it is one step
//! for all outputs, and what comes after it has a quarter of the samples to read.
//!
//! Two samples and one on each side of them weigh 1, 3, 3, 1 (in eighths): a triangle over the pair, as a bilinear kernel
//! widened for the shrinking has it. The sharper kernel of the scaling that follows makes up for its softness.

use crate::error::Result;
use crate::frame::{Plane, Pool, Samples, VideoFrame};

pub fn halve(f: &VideoFrame, pool: &Pool) -> Result<VideoFrame> {
    let mut out = VideoFrame::new(pool, f.width.div_ceil(2), f.height.div_ceil(2), f.chroma, f.depth)?;
    out.describe_like(f);
    for (from, to) in f.planes.iter().zip(&mut out.planes) {
        let size = (from.width as usize, from.height as usize, from.stride);
        let Plane { width, height, stride, samples } = to;
        let to = (*width as usize, *height as usize, *stride);
        match (&from.samples, samples) {
            (Samples::U8(a), Samples::U8(b)) => plane(a, size, b, to),
            (Samples::U16(a), Samples::U16(b)) => plane(a, size, b, to),
            // Both have the depth of the picture.
            _ => (),
        }
    }
    Ok(out)
}

/// Sizes are width, height, stride.
fn plane<T: Copy + Into<u32> + Narrow>(
    from: &[T],
    (fw, fh, fs): (usize, usize, usize),
    to: &mut [T],
    (tw, th, ts): (usize, usize, usize),
) {
    // A row of the sums of four rows, with one column more on each side.
    let mut sums = vec![0u32; fw + 3];
    for y in 0..th {
        let row = |n: usize| {
            let n = n.clamp(1, fh) - 1;
            &from[n * fs..n * fs + fw]
        };
        // Counted from one, so that the row above the first is the first.
        let (a, b, c, d) = (row(2 * y), row(2 * y + 1), row(2 * y + 2), row(2 * y + 3));
        for ((((s, a), b), c), d) in sums[1..].iter_mut().zip(a).zip(b).zip(c).zip(d) {
            let (a, b, c, d): (u32, u32, u32, u32) = ((*a).into(), (*b).into(), (*c).into(), (*d).into());
            *s = a + d + 3 * (b + c);
        }
        sums[0] = sums[1];
        sums[fw + 1] = sums[fw];
        sums[fw + 2] = sums[fw];
        let out = &mut to[y * ts..y * ts + tw];
        for (t, s) in out.iter_mut().zip(sums.windows(4).step_by(2)) {
            *t = T::narrow((s[0] + s[3] + 3 * (s[1] + s[2]) + 32) >> 6);
        }
    }
}

/// Back to the width of a sample; the value fits.
trait Narrow {
    fn narrow(v: u32) -> Self;
}
impl Narrow for u8 {
    fn narrow(v: u32) -> u8 {
        v as u8
    }
}
impl Narrow for u16 {
    fn narrow(v: u32) -> u16 {
        v as u16
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Chroma;
    use rstest::rstest;

    /// A slope stays the same slope, with its middle where it was.
    #[rstest]
    fn a_slope_stays_in_its_place(#[values(8, 10, 16)] depth: u8, #[values(40, 41)] width: u32) {
        let pool = Pool::new();
        let mut f = VideoFrame::new(&pool, width, 9, Chroma::C422, depth).unwrap();
        for p in &mut f.planes {
            (0..p.height as usize)
                .for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, 4 * x as u16)));
        }
        let out = halve(&f, &pool).unwrap();
        assert_eq!((out.width, out.height, out.depth), (width.div_ceil(2), 5, depth));
        for p in &out.planes {
            for x in 1..p.width - 2 {
                // The middle of samples 2x and 2x + 1.
                assert_eq!(p.at(x, 2), (8 * x + 2) as u16, "at {x}");
            }
        }
    }
}
