//! Products of a few rows: the decoder, which takes one step at a time. The weights come from memory once for all
//! rows, and bringing them is what takes the time.

use super::{by_level, madd};

const LANES: usize = 32;

#[inline(always)]
fn dot_body<const F: bool, const M: usize, const N: usize>(a: &[f32], b: &[f32]) -> f32 {
    let mut sums = [0.0f32; LANES];
    let (ca, cb) = (a.chunks_exact(LANES), b.chunks_exact(LANES));
    let rest: f32 = ca.remainder().iter().zip(cb.remainder()).map(|(a, b)| a * b).sum();
    for (a, b) in ca.zip(cb) {
        for (s, (&a, &b)) in sums.iter_mut().zip(a.iter().zip(b)) {
            *s = madd::<F>(a, b, *s);
        }
    }
    sums.iter().sum::<f32>() + rest
}

by_level! {
    pub fn dot(a: &[f32], b: &[f32]) -> f32 = dot_body
}

/// Rows taken together by [`times`].
const TOGETHER: usize = 4;

/// Two weight rows times up to four inputs: eight sums in flight.
#[inline(always)]
fn rows_times<const F: bool, const B: usize>(q: &[i8], k: usize, x: [&[f32]; B], out: &mut [[f32; B]]) {
    for (row, out) in q.chunks_exact(k).zip(out) {
        let mut sums = [[0.0f32; LANES]; B];
        let chunks = row.chunks_exact(LANES);
        let rest = chunks.remainder();
        for (i, c) in chunks.enumerate() {
            let mut w = [0.0f32; LANES];
            for (w, &q) in w.iter_mut().zip(c) {
                *w = f32::from(q);
            }
            for (s, x) in sums.iter_mut().zip(&x) {
                let x = &x[i * LANES..][..LANES];
                for l in 0..LANES {
                    s[l] = madd::<F>(w[l], x[l], s[l]);
                }
            }
        }
        for (b, o) in out.iter_mut().enumerate() {
            let tail: f32 =
                rest.iter().zip(&x[b][k - rest.len()..]).map(|(&q, &x)| f32::from(q) * x).sum();
            *o = sums[b].iter().sum::<f32>() + tail;
        }
    }
}

#[inline(always)]
fn times_body<const F: bool, const M: usize, const N: usize>(
    q: &[i8],
    scale: f32,
    zero: f32,
    k: usize,
    x: &[f32],
    out: &mut [f32],
) {
    let (count, n) = (x.len() / k, q.len() / k);
    const BLOCK: usize = 16;
    for b0 in (0..count).step_by(TOGETHER) {
        let together = TOGETHER.min(count - b0);
        let row = |b: usize| &x[(b0 + b) * k..][..k];
        let sums: [f32; TOGETHER] = std::array::from_fn(|b| if b < together { row(b).iter().sum() } else { 0.0 });
        for n0 in (0..n).step_by(BLOCK) {
            let height = BLOCK.min(n - n0);
            let q = &q[n0 * k..][..height * k];
            let mut put = |b: usize, i: usize, v: f32| out[(b0 + b) * n + n0 + i] = v * scale + zero * sums[b];
            if together == 1 {
                let mut part = [[0.0; 1]; BLOCK];
                rows_times::<F, 1>(q, k, [row(0)], &mut part[..height]);
                part[..height].iter().enumerate().for_each(|(i, p)| put(0, i, p[0]));
            } else {
                let mut part = [[0.0; TOGETHER]; BLOCK];
                let rows = std::array::from_fn(|b| row(b.min(together - 1)));
                rows_times::<F, TOGETHER>(q, k, rows, &mut part[..height]);
                for (i, p) in part[..height].iter().enumerate() {
                    p[..together].iter().enumerate().for_each(|(b, &v)| put(b, i, v));
                }
            }
        }
    }
}

by_level! {
    /// Each row of `k` values in `x` times every row of weights `q * scale + zero`: `out[row][weight row]`.
    #[allow(clippy::too_many_arguments)]
    pub fn times(q: &[i8], scale: f32, zero: f32, k: usize, x: &[f32], out: &mut [f32]) = times_body
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn weights_times_rows(#[values(1, 2, 4, 5, 9)] rows: usize, #[values(3, 64, 70)] k: usize) {
        let n = 37;
        let q: Vec<i8> = (0..n * k).map(|i| (i * 37 % 251) as i8).collect();
        let x: Vec<f32> = (0..rows * k).map(|i| (i * 13 % 17) as f32 / 7.0 - 1.0).collect();
        let (scale, zero) = (0.02, -0.4);
        let mut out = vec![0.0; rows * n];
        times(&q, scale, zero, k, &x, &mut out);
        for r in 0..rows {
            for c in 0..n {
                let w: Vec<f32> = q[c * k..][..k].iter().map(|&q| f32::from(q) * scale + zero).collect();
                let want = dot(&w, &x[r * k..][..k]);
                assert!((out[r * n + c] - want).abs() < 2e-3, "{} {want}", out[r * n + c]);
            }
        }
    }
}
