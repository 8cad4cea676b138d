//! Noise taken out and edges brought out, each from a sample's eight neighbours.

use crate::error::Result;
use crate::frame::pool::Sample;
use crate::frame::{Chroma, Plane, Pool, Samples, VideoFrame};

/// Differences to neighbours that count as noise at the strongest, in 8 bits.
const NOISE: f32 = 16.0;

/// The mean of those neighbours that differ by no more than noise does: edges stay.
pub fn denoise(f: &VideoFrame, amount: f32, pool: &Pool) -> Result<VideoFrame> {
    let most = (amount * NOISE * (1u32 << (f.depth - 8)) as f32).round() as i32;
    around(
        f,
        pool,
        |_| true,
        move |n| {
            let (mut sum, mut count) = (0, 0);
            for v in n {
                let near = (v - n[4]).abs() <= most;
                sum += if near { v } else { 0 };
                count += i32::from(near);
            }
            // Of one to nine.
            (sum as f32 / count as f32 + 0.5) as i32
        },
    )
}

/// What differs from the smoothed picture around it, added once more.
pub fn sharpen(f: &VideoFrame, amount: f32, pool: &Pool) -> Result<VideoFrame> {
    let top = ((1u32 << f.depth) - 1) as i32;
    // In 256ths, of sixteen: 1 2 1, 2 4 2, 1 2 1.
    let by = (amount * 256.0).round() as i32;
    let colours = matches!(f.chroma, Chroma::Rgb | Chroma::Rgba);
    around(
        f,
        pool,
        |plane| plane == 0 || (colours && plane < 3),
        move |n| {
            let smooth = n[0] + n[2] + n[6] + n[8] + 2 * (n[1] + n[3] + n[5] + n[7]) + 4 * n[4];
            let over = (16 * n[4] - smooth) * by;
            (n[4] + ((over + 2048) >> 12)).clamp(0, top)
        },
    )
}

/// Each sample of the chosen planes from itself (the fifth) and its neighbours, row by row; at the edges the nearest
/// stand in.
fn around(
    f: &VideoFrame,
    pool: &Pool,
    which: impl Fn(usize) -> bool,
    work: impl Fn([i32; 9]) -> i32 + Copy,
) -> Result<VideoFrame> {
    let mut out = VideoFrame::new(pool, f.width, f.height, f.chroma, f.depth)?;
    out.describe_like(f);
    for (n, (from, to)) in f.planes.iter().zip(&mut out.planes).enumerate() {
        let (w, h, stride) = (from.width as usize, from.height as usize, to.stride);
        let Plane { samples, .. } = to;
        match (&from.samples, samples) {
            (Samples::U8(a), Samples::U8(b)) if which(n) => {
                let go = || plane(a, from.stride, b, stride, (w, h), |v| i32::from(*v), |v| v as u8, work);
                pulp::Arch::new().dispatch(go);
            }
            (Samples::U16(a), Samples::U16(b)) if which(n) => {
                let go = || plane(a, from.stride, b, stride, (w, h), |v| i32::from(*v), |v| v as u16, work);
                pulp::Arch::new().dispatch(go);
            }
            (Samples::U8(a), Samples::U8(b)) => copy(a, b),
            (Samples::U16(a), Samples::U16(b)) => copy(a, b),
            _ => (),
        }
    }
    Ok(out)
}

fn copy<T: Copy>(from: &[T], to: &mut [T]) {
    let n = from.len().min(to.len());
    to[..n].copy_from_slice(&from[..n]);
}

#[allow(clippy::too_many_arguments)]
#[inline(always)]
fn plane<T: Sample>(
    from: &[T],
    from_stride: usize,
    to: &mut [T],
    to_stride: usize,
    (w, h): (usize, usize),
    read: impl Fn(&T) -> i32,
    write: impl Fn(i32) -> T,
    work: impl Fn([i32; 9]) -> i32,
) {
    // Three rows with one more at both ends.
    let mut rows = [vec![0i32; w + 2], vec![0i32; w + 2], vec![0i32; w + 2]];
    let fill = |y: usize, row: &mut Vec<i32>| {
        let line = &from[y * from_stride..y * from_stride + w];
        row[1..=w].iter_mut().zip(line).for_each(|(r, v)| *r = read(v));
        (row[0], row[w + 1]) = (row[1], row[w]);
    };
    fill(0, &mut rows[0]);
    fill(0, &mut rows[1]);
    for y in 0..h {
        fill((y + 1).min(h - 1), &mut rows[2]);
        let [a, b, c] = &rows;
        for (x, t) in to[y * to_stride..y * to_stride + w].iter_mut().enumerate() {
            let n = [a[x], a[x + 1], a[x + 2], b[x], b[x + 1], b[x + 2], c[x], c[x + 1], c[x + 2]];
            *t = write(work(n));
        }
        rows.rotate_left(1);
    }
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
