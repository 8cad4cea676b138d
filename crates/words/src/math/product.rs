//! Products of many rows at once: the encoder. A panel of columns is unpacked to floats and kept in the nearest
//! cache while tiles of rows pass over it.

use super::{by_level, madd};

/// Rows of the left side. They may overlap: a convolution over time is a product of rows that share values.
#[derive(Clone, Copy)]
pub struct Rows<'a> {
    pub data: &'a [f32],
    /// From the start of a row to the start of the next.
    pub stride: usize,
    pub count: usize,
}

/// Columns of the right side, each of `k` values.
#[derive(Clone, Copy)]
pub enum Columns<'a> {
    /// Column `n` is the `n`-th run of `k` bytes; a value is `q * scale + zero`.
    Bytes { q: &'a [i8], scale: f32, zero: f32 },
    /// Weights of a convolution, `[out, channel, tap]`, for rows that hold `channels` values for each tap.
    Taps { q: &'a [i8], channels: usize, scale: f32, zero: f32 },
    /// Column `n` starts at `n * stride`.
    Floats { data: &'a [f32], stride: usize },
    /// Value `i` of column `n` is at `i * stride + n`.
    Across { data: &'a [f32], stride: usize },
}

/// Values of a column that are worked on before the next: with 32 columns, 26 KB.
const DEPTH: usize = 208;

/// Unpacks columns `n..n + width`, values `k..k + depth`, so that the values of one place lie side by side.
#[inline(always)]
fn unpack<const N: usize>(
    c: &Columns<'_>,
    len: usize,
    k: usize,
    depth: usize,
    n: usize,
    width: usize,
    to: &mut [f32],
) {
    if width < N {
        to[..depth * N].fill(0.0);
    }
    match *c {
        Columns::Bytes { q, scale, zero } => {
            for j in 0..width {
                let column = &q[(n + j) * len + k..][..depth];
                for (i, &v) in column.iter().enumerate() {
                    to[i * N + j] = f32::from(v) * scale + zero;
                }
            }
        }
        Columns::Taps { q, channels, scale, zero } => {
            let taps = len / channels;
            for j in 0..width {
                let column = &q[(n + j) * len..][..len];
                for i in 0..depth {
                    let (tap, channel) = ((k + i) / channels, (k + i) % channels);
                    to[i * N + j] = f32::from(column[channel * taps + tap]) * scale + zero;
                }
            }
        }
        Columns::Floats { data, stride } => {
            for j in 0..width {
                let column = &data[(n + j) * stride + k..][..depth];
                for (i, &v) in column.iter().enumerate() {
                    to[i * N + j] = v;
                }
            }
        }
        Columns::Across { data, stride } => {
            for i in 0..depth {
                to[i * N..][..width].copy_from_slice(&data[(k + i) * stride + n..][..width]);
            }
        }
    }
}

/// `M` rows times a panel of `N` columns.
#[inline(always)]
fn tile<const F: bool, const M: usize, const N: usize>(
    rows: [&[f32]; M],
    panel: &[f32],
    sums: &mut [[f32; N]; M],
) {
    let mut acc = *sums;
    let depth = panel.len() / N;
    let rows = rows.map(|r| &r[..depth]);
    for (k, b) in panel.chunks_exact(N).enumerate() {
        for (acc, row) in acc.iter_mut().zip(&rows) {
            let a = row[k];
            for (s, &b) in acc.iter_mut().zip(b) {
                *s = madd::<F>(a, b, *s);
            }
        }
    }
    *sums = acc;
}

#[inline(always)]
fn body<const F: bool, const M: usize, const N: usize>(
    rows: Rows<'_>,
    columns: Columns<'_>,
    k: usize,
    n: usize,
    out: &mut [f32],
    out_stride: usize,
) {
    let mut panel = [0.0f32; DEPTH * 32];
    for n0 in (0..n).step_by(N) {
        let width = N.min(n - n0);
        for k0 in (0..k).step_by(DEPTH) {
            let depth = DEPTH.min(k - k0);
            unpack::<N>(&columns, k, k0, depth, n0, width, &mut panel);
            let panel = &panel[..depth * N];
            for r0 in (0..rows.count).step_by(M) {
                let height = M.min(rows.count - r0);
                // Rows past the end repeat the last one and are not written.
                let views: [&[f32]; M] = std::array::from_fn(|r| {
                    &rows.data[(r0 + r.min(height - 1)) * rows.stride + k0..][..depth]
                });
                let mut sums = [[0.0f32; N]; M];
                if k0 > 0 {
                    for (r, s) in sums.iter_mut().enumerate().take(height) {
                        s[..width].copy_from_slice(&out[(r0 + r) * out_stride + n0..][..width]);
                    }
                }
                tile::<F, M, N>(views, panel, &mut sums);
                for (r, s) in sums.iter().enumerate().take(height) {
                    out[(r0 + r) * out_stride + n0..][..width].copy_from_slice(&s[..width]);
                }
            }
        }
    }
}

by_level! {
    /// `out[r][c] = sum over k of rows[r][k] * columns[c][k]`, for `n` columns. Panics if a slice is too short.
    #[allow(clippy::too_many_arguments)]
    pub fn product(rows: Rows<'_>, columns: Columns<'_>, k: usize, n: usize, out: &mut [f32], out_stride: usize) = body
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn numbers(n: usize, seed: u32) -> Vec<f32> {
        let mut s = seed;
        (0..n)
            .map(|_| {
                s = s.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                (s >> 8) as f32 / (1 << 24) as f32 - 0.5
            })
            .collect()
    }

    #[rstest]
    fn every_form_of_columns_gives_the_plain_sum(
        #[values(1, 7, 8, 19)] m: usize,
        #[values(1, 31, 32, 52)] n: usize,
        #[values(1, 52, 210, 416)] k: usize,
    ) {
        let a = numbers(m * 3 + k, 1);
        let q: Vec<i8> = numbers(n * k, 2).iter().map(|v| (v * 255.0) as i8).collect();
        let (scale, zero) = (0.01, 0.3);
        let w: Vec<f32> = q.iter().map(|&q| f32::from(q) * scale + zero).collect();
        let across: Vec<f32> = (0..k * n).map(|i| w[(i % n) * k + i / n]).collect();
        // Rows overlap: each starts 3 values behind the one before it.
        let rows = Rows { data: &a, stride: 3, count: m };
        let taps = if k.is_multiple_of(52) { 52 } else { 1 };
        let channels = k / taps;
        let turned: Vec<i8> =
            (0..n * k).map(|i| q[i / k * k + (i % k % taps) * channels + i % k / taps]).collect();
        for columns in [
            Columns::Bytes { q: &q, scale, zero },
            Columns::Taps { q: &turned, channels, scale, zero },
            Columns::Floats { data: &w, stride: k },
            Columns::Across { data: &across, stride: n },
        ] {
            let mut out = vec![9.0; m * (n + 1)];
            product(rows, columns, k, n, &mut out, n + 1);
            for r in 0..m {
                for c in 0..n {
                    let want: f64 = (0..k).map(|i| f64::from(a[r * 3 + i]) * f64::from(w[c * k + i])).sum();
                    let got = f64::from(out[r * (n + 1) + c]);
                    assert!((got - want).abs() < 1e-3, "{m}x{n}x{k}: {got} {want}");
                }
                if r + 1 < m {
                    assert_eq!(out[r * (n + 1) + n], 9.0);
                }
            }
        }
    }
}
