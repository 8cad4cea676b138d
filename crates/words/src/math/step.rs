//! Products of a few rows: the decoder, which takes one step at a time. The weights come from memory once for all
//! rows, and bringing them is what takes the time.

use super::{Level, by_level, level, madd};

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

/// `out[j] = sum over i of a[i] * b[i * stride + j]`: one row times a matrix whose columns lie side by side.
#[inline(always)]
fn across_body<const F: bool, const M: usize, const N: usize>(
    a: &[f32],
    b: &[f32],
    stride: usize,
    out: &mut [f32],
) {
    const BLOCK: usize = 64;
    let n = out.len();
    for j in (0..n).step_by(BLOCK) {
        let mut sums = [0.0f32; BLOCK];
        let width = BLOCK.min(n - j);
        if width == BLOCK {
            for (i, &a) in a.iter().enumerate() {
                let row: &[f32] = &b[i * stride + j..][..BLOCK];
                for (s, &b) in sums.iter_mut().zip(row) {
                    *s = madd::<F>(a, b, *s);
                }
            }
        } else {
            for (i, &a) in a.iter().enumerate() {
                for (s, &b) in sums.iter_mut().zip(&b[i * stride + j..][..width]) {
                    *s = madd::<F>(a, b, *s);
                }
            }
        }
        out[j..j + width].copy_from_slice(&sums[..width]);
    }
}

by_level! {
    /// `out[j] = sum over i of a[i] * b[i * stride + j]`.
    pub fn across(a: &[f32], b: &[f32], stride: usize, out: &mut [f32]) = across_body
}

/// Inputs taken together by [`times`].
const TOGETHER: usize = 4;
/// Weight rows taken together.
const ROWS: usize = 4;

/// `R` rows of weights times `B` inputs of `k` values, without scale.
#[inline(always)]
fn plain_rows<const R: usize, const B: usize>(q: [&[i8]; R], x: [&[f32]; B], out: &mut [[f32; B]; R]) {
    for (q, out) in q.iter().zip(out) {
        for (x, o) in x.iter().zip(out) {
            *o = q.iter().zip(*x).map(|(&q, &x)| f32::from(q) * x).sum();
        }
    }
}

/// The same with the processor's own vectors: compilers do not find them in this loop by themselves.
#[cfg(target_arch = "x86_64")]
macro_rules! vector_rows {
    ($name:ident, $features:literal, $lanes:literal, $zero:ident, $load:ident, $widen:expr, $madd:ident, $sum:expr) => {
        #[target_feature(enable = $features)]
        fn $name<const R: usize, const B: usize>(q: [&[i8]; R], x: [&[f32]; B], out: &mut [[f32; B]; R]) {
            use std::arch::x86_64::*;
            let k = x.first().map_or(0, |x| x.len());
            assert!(q.iter().all(|q| q.len() == k) && x.iter().all(|x| x.len() == k));
            let whole = k / $lanes * $lanes;
            let mut sums = [[$zero(); B]; R];
            for at in (0..whole).step_by($lanes) {
                // SAFETY: `at + lanes <= k`, which is the length of every slice here.
                #[allow(unsafe_code)]
                let inputs: [_; B] = std::array::from_fn(|b| unsafe { $load(x[b].as_ptr().add(at)) });
                for (q, sums) in q.iter().zip(&mut sums) {
                    // SAFETY: as above.
                    #[allow(unsafe_code)]
                    let w = unsafe { $widen(q.as_ptr().add(at)) };
                    for (s, &x) in sums.iter_mut().zip(&inputs) {
                        *s = $madd(w, x, *s);
                    }
                }
            }
            for r in 0..R {
                for b in 0..B {
                    let rest: f32 =
                        q[r][whole..].iter().zip(&x[b][whole..]).map(|(&q, &x)| f32::from(q) * x).sum();
                    out[r][b] = $sum(sums[r][b]) + rest;
                }
            }
        }
    };
}
#[cfg(target_arch = "x86_64")]
vector_rows!(
    wide_rows,
    "avx512f,avx512bw,avx512vl,avx512dq",
    16,
    _mm512_setzero_ps,
    _mm512_loadu_ps,
    |p: *const i8| _mm512_cvtepi32_ps(_mm512_cvtepi8_epi32(_mm_loadu_si128(p.cast()))),
    _mm512_fmadd_ps,
    |v| _mm512_reduce_add_ps(v)
);
#[cfg(target_arch = "x86_64")]
vector_rows!(
    middle_rows,
    "avx2,fma",
    8,
    _mm256_setzero_ps,
    _mm256_loadu_ps,
    |p: *const i8| _mm256_cvtepi32_ps(_mm256_cvtepi8_epi32(_mm_loadl_epi64(p.cast()))),
    _mm256_fmadd_ps,
    |v| {
        let half = _mm_add_ps(_mm256_castps256_ps128(v), _mm256_extractf128_ps::<1>(v));
        let pair = _mm_add_ps(half, _mm_movehl_ps(half, half));
        _mm_cvtss_f32(_mm_add_ss(pair, _mm_movehdup_ps(pair)))
    }
);

fn rows<const R: usize, const B: usize>(
    level: Level,
    q: [&[i8]; R],
    x: [&[f32]; B],
    out: &mut [[f32; B]; R],
) {
    match level {
        // SAFETY: `level` has found these features in the processor that runs this.
        #[cfg(target_arch = "x86_64")]
        #[allow(unsafe_code)]
        Level::Wide => unsafe { wide_rows(q, x, out) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        #[allow(unsafe_code)]
        Level::Middle => unsafe { middle_rows(q, x, out) },
        Level::Plain => plain_rows(q, x, out),
    }
}

/// All weight rows times `B` inputs; `put` is given input, row and value.
fn batch<const B: usize>(
    level: Level,
    q: &[i8],
    k: usize,
    x: [&[f32]; B],
    mut put: impl FnMut(usize, usize, f32),
) {
    let n = q.len() / k;
    let row = |r: usize| &q[r.min(n - 1) * k..][..k];
    for r0 in (0..n).step_by(ROWS) {
        let mut part = [[0.0; B]; ROWS];
        rows(level, std::array::from_fn::<_, ROWS, _>(|i| row(r0 + i)), x, &mut part);
        for (i, values) in part.iter().enumerate().take(ROWS.min(n - r0)) {
            values.iter().enumerate().for_each(|(b, &v)| put(b, r0 + i, v));
        }
    }
}

/// Each row of `k` values in `x` times every row of weights `q * scale + zero`: `out[row][weight row]`.
pub fn times(q: &[i8], scale: f32, zero: f32, k: usize, x: &[f32], out: &mut [f32]) {
    let (count, n) = (x.len() / k, q.len() / k);
    let level = level();
    for b0 in (0..count).step_by(TOGETHER) {
        let together = TOGETHER.min(count - b0);
        let row = |b: usize| &x[(b0 + b.min(together - 1)) * k..][..k];
        let sums: [f32; TOGETHER] = std::array::from_fn(|b| row(b).iter().sum());
        let put = |b: usize, r: usize, v: f32| {
            if b < together {
                out[(b0 + b) * n + r] = v * scale + zero * sums[b];
            }
        };
        match together {
            1 => batch(level, q, k, [row(0)], put),
            2 => batch(level, q, k, [row(0), row(1)], put),
            _ => batch(level, q, k, [row(0), row(1), row(2), row(3)], put),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_row_times_columns_side_by_side() {
        for n in [1, 63, 64, 130] {
            let a: Vec<f32> = (0..52).map(|i| (i % 5) as f32 - 2.0).collect();
            let b: Vec<f32> = (0..52 * (n + 3)).map(|i| (i * 7 % 11) as f32).collect();
            let mut out = vec![0.0; n];
            across(&a, &b, n + 3, &mut out);
            for (j, got) in out.iter().enumerate() {
                let want: f32 = a.iter().enumerate().map(|(i, a)| a * b[i * (n + 3) + j]).sum();
                assert_eq!(*got, want);
            }
        }
    }

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
