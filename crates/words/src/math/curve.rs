//! Functions of single values and of rows.

use super::{by_level, madd};

/// e to the power of `x`, to two units in the last place: 2^n times a polynomial of the rest (Cody and Waite's
/// reduction; coefficients of the Taylor series, of which the seventh is below rounding for |r| <= ln 2 / 2).
#[inline(always)]
fn exp<const FUSED: bool>(x: f32) -> f32 {
    const SHIFT: f32 = 12_582_912.0; // 1.5 * 2^23: adding it leaves a whole number in the low bits
    const LN2_HIGH: f32 = 0.693_359_4;
    const LN2_LOW: f32 = -2.121_944_4e-4;
    let x = x.clamp(-87.0, 88.0);
    let shifted = madd::<FUSED>(x, std::f32::consts::LOG2_E, SHIFT);
    let n = shifted - SHIFT;
    let r = madd::<FUSED>(n, -LN2_HIGH, x);
    let r = madd::<FUSED>(n, -LN2_LOW, r);
    let mut p = 1.0 / 720.0;
    for c in [1.0 / 120.0, 1.0 / 24.0, 1.0 / 6.0, 0.5, 1.0, 1.0] {
        p = madd::<FUSED>(p, r, c);
    }
    let power = shifted.to_bits().wrapping_sub(SHIFT.to_bits()).wrapping_add(127) << 23;
    p * f32::from_bits(power)
}

#[inline(always)]
fn tanh_one<const FUSED: bool>(x: f32) -> f32 {
    1.0 - 2.0 / (exp::<FUSED>(2.0 * x) + 1.0)
}

pub fn tanh(x: f32) -> f32 {
    tanh_one::<false>(x)
}

pub fn sigmoid(x: f32) -> f32 {
    1.0 / (1.0 + exp::<false>(-x))
}

/// x * Phi(x). The error function is Abramowitz and Stegun's 7.1.26, off by at most 1.5e-7.
#[inline(always)]
fn gelu_one<const FUSED: bool>(x: f32) -> f32 {
    let z = x.abs() * std::f32::consts::FRAC_1_SQRT_2;
    let t = 1.0 / madd::<FUSED>(0.327_591_1, z, 1.0);
    let mut p = 1.061_405_4;
    for c in [-1.453_152, 1.421_413_7, -0.284_496_74, 0.254_829_6] {
        p = madd::<FUSED>(p, t, c);
    }
    let erf = 1.0 - p * t * exp::<FUSED>(-z * z);
    0.5 * x * (1.0 + erf.copysign(x))
}

#[inline(always)]
fn gelu_body<const F: bool, const M: usize, const N: usize>(x: &mut [f32]) {
    for v in x {
        *v = gelu_one::<F>(*v);
    }
}
#[inline(always)]
fn tanh_body<const F: bool, const M: usize, const N: usize>(x: &mut [f32]) {
    for v in x {
        *v = tanh_one::<F>(*v);
    }
}

/// A sum in sixteen lanes: fast, and the same whatever the processor.
#[inline(always)]
fn lanes(x: &[f32], mut f: impl FnMut(f32) -> f32) -> f32 {
    let mut sums = [0.0f32; 16];
    let chunks = x.chunks_exact(16);
    let rest: f32 = chunks.remainder().iter().map(|&v| f(v)).sum();
    for c in chunks {
        for (s, &v) in sums.iter_mut().zip(c) {
            *s += f(v);
        }
    }
    sums.iter().sum::<f32>() + rest
}

#[inline(always)]
fn softmax_body<const F: bool, const M: usize, const N: usize>(x: &mut [f32], scale: f32) {
    let most = x.iter().fold(f32::NEG_INFINITY, |m, &v| if v > m { v } else { m });
    for v in x.iter_mut() {
        *v = exp::<F>((*v - most) * scale);
    }
    let share = 1.0 / lanes(x, |v| v);
    for v in x {
        *v *= share;
    }
}

#[inline(always)]
fn norm_body<const F: bool, const M: usize, const N: usize>(x: &[f32], weight: &[f32], out: &mut [f32]) {
    let n = weight.len().max(1);
    for (row, to) in x.chunks_exact(n).zip(out.chunks_exact_mut(n)) {
        let mean = lanes(row, |v| v) / n as f32;
        let variance = lanes(row, |v| (v - mean) * (v - mean)) / n as f32;
        let share = 1.0 / (variance + 1e-5).sqrt();
        for ((o, v), w) in to.iter_mut().zip(row).zip(weight) {
            *o = (v - mean) * share * w;
        }
    }
}

by_level! {
    /// `0.5 x (1 + erf(x / sqrt 2))`.
    pub fn gelu(x: &mut [f32]) = gelu_body
}
by_level! {
    pub fn tanh_all(x: &mut [f32]) = tanh_body
}
by_level! {
    /// Shares of `exp(x * scale)` that sum to 1.
    pub fn softmax(x: &mut [f32], scale: f32) = softmax_body
}
by_level! {
    /// Each row of `weight.len()` values to mean 0 and variance 1, times the weight.
    pub fn layer_norm(x: &[f32], weight: &[f32], out: &mut [f32]) = norm_body
}

#[cfg(test)]
mod tests {
    use super::*;

    fn steps() -> impl Iterator<Item = f32> {
        (-2000..=2000).map(|i| i as f32 / 100.0)
    }

    /// Against the standard library in double precision; erf by its series.
    #[test]
    fn curves_follow_their_definitions() {
        let erf = |x: f64| {
            let (mut sum, mut term) = (x, x);
            for n in 1..200 {
                term *= -x * x / f64::from(n);
                sum += term / f64::from(2 * n + 1);
            }
            if x.abs() > 5.0 { x.signum() } else { sum * std::f64::consts::FRAC_2_SQRT_PI }
        };
        let (mut g, mut t): (Vec<f32>, Vec<f32>) = (steps().collect(), steps().collect());
        gelu(&mut g);
        tanh_all(&mut t);
        for ((x, g), t) in steps().zip(g).zip(t) {
            let d = f64::from(x);
            let want = 0.5 * d * (1.0 + erf(d / std::f64::consts::SQRT_2));
            assert!((f64::from(g) - want).abs() < 2e-6, "gelu {x}: {g} {want}");
            assert!((f64::from(t) - d.tanh()).abs() < 3e-7, "tanh {x}: {t}");
            assert!((f64::from(exp::<false>(x)) / d.exp() - 1.0).abs() < 4e-7, "exp {x}");
            assert!((f64::from(sigmoid(x)) - 1.0 / (1.0 + (-d).exp())).abs() < 3e-7);
        }
    }

    #[test]
    fn rows_are_shares_and_norms() {
        let mut x: Vec<f32> = (0..37).map(|i| (i % 7) as f32).collect();
        softmax(&mut x, 0.5);
        assert!((x.iter().sum::<f32>() - 1.0).abs() < 1e-6);
        assert!((x[6] / x[5] - 0.5f32.exp()).abs() < 1e-5);
        let row: Vec<f32> = (0..20).map(|i| 100.0 + i as f32).collect();
        let mut out = vec![0.0; 20];
        layer_norm(&row, &[2.0; 20], &mut out);
        let power = out.iter().map(|v| v * v).sum::<f32>() / 20.0;
        assert!(out.iter().sum::<f32>().abs() < 1e-4 && (power - 4.0).abs() < 1e-3);
    }
}
