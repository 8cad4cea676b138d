//! Blocks of 8x8: coefficients and what they come to (ISO/IEC 13818-2, 7.2 to 7.5; ISO/IEC 11172-2, 2.4.4).

use super::vlc::{CODES, Coefficient, Reader};

/// What the coefficients of a block are multiplied with, and how they lie.
pub struct Scaling<'a> {
    pub matrix: &'a [u8; 64],
    pub step: i32,
    pub scan: &'a [u8; 64],
    pub old: bool,
    /// Of a block by itself: its mean, with its factor, and which table its codes are of.
    pub intra: Option<(i32, bool)>,
}

/// Reads a block; nothing where it is broken.
pub fn read(r: &mut Reader<'_>, s: &Scaling<'_>, block: &mut [i32; 64]) -> Option<()> {
    block.fill(0);
    let mut sum = 0;
    let (mut at, table) = match s.intra {
        Some((mean, second)) => {
            block[0] = mean.clamp(-2048, 2047);
            sum = block[0];
            (1, &CODES.coefficients[usize::from(second)])
        }
        None => {
            // The first one has a shorter code, for a block does not begin with its end.
            let table = &CODES.coefficients[0];
            if r.peek(1) == 1 {
                r.skip(1);
                let level = if r.flag() { -1 } else { 1 };
                put(s, block, 0, level, &mut sum);
                (1, table)
            } else {
                (0, table)
            }
        }
    };
    loop {
        match table.next(r, s.old)? {
            Coefficient::End => break,
            Coefficient::Level { run, level } => {
                at += run;
                if at > 63 {
                    return None;
                }
                put(s, block, at, level, &mut sum);
                at += 1;
            }
        }
    }
    // 7.4.4: the sum is odd.
    if !s.old && sum & 1 == 0 {
        block[63] ^= 1;
    }
    Some(())
}

#[inline]
fn put(s: &Scaling<'_>, block: &mut [i32; 64], at: usize, level: i32, sum: &mut i32) {
    let place = usize::from(s.scan[at & 63] & 63);
    let level = if s.intra.is_some() { 2 * level } else { 2 * level + level.signum() };
    let mut v = level * i32::from(s.matrix[place]) * s.step / 32;
    if s.old && v & 1 == 0 {
        v -= v.signum();
    }
    let v = v.clamp(-2048, 2047);
    *sum += v;
    block[place] = v;
}

const BITS: i32 = 13;
const MORE: i32 = 2;

/// The inverse transform (annex A), in whole numbers of 13 bits: that of Loeffler, Ligtenberg and Moschytz (1989), all
/// columns side by side.
fn columns(b: &mut [i32; 64], down: i32) {
    let row = |b: &[i32; 64], y: usize| -> [i32; 8] { std::array::from_fn(|x| b[y * 8 + x]) };
    let v: [[i32; 8]; 8] = std::array::from_fn(|y| row(b, y));
    for x in 0..8 {
        let (z2, z3) = (v[2][x], v[6][x]);
        let z1 = (z2 + z3) * 4433;
        let (t2, t3) = (z1 - z3 * 15137, z1 + z2 * 6270);
        let (t0, t1) = ((v[0][x] + v[4][x]) << BITS, (v[0][x] - v[4][x]) << BITS);
        let even = [t0 + t3, t1 + t2, t1 - t2, t0 - t3];
        let (a, c, d, e) = (v[7][x], v[5][x], v[3][x], v[1][x]);
        let (z1, z2, z3, z4) = (a + e, c + d, a + d, c + e);
        let z5 = (z3 + z4) * 9633;
        let (z1, z2) = (z1 * -7373, z2 * -20995);
        let (z3, z4) = (z3 * -16069 + z5, z4 * -3196 + z5);
        let odd = [e * 12299 + z1 + z4, d * 25172 + z2 + z3, c * 16819 + z2 + z4, a * 2446 + z1 + z3];
        let half = 1 << (down - 1);
        for y in 0..4 {
            b[y * 8 + x] = (even[y] + odd[y] + half) >> down;
            b[(7 - y) * 8 + x] = (even[y] - odd[y] + half) >> down;
        }
    }
}

fn turned(b: &mut [i32; 64]) {
    for y in 0..8 {
        for x in y + 1..8 {
            b.swap(y * 8 + x, x * 8 + y);
        }
    }
}

/// Coefficients to differences.
pub fn inverse(b: &mut [i32; 64]) {
    if b[1..].iter().all(|v| *v == 0) {
        let all = (b[0] + 4) >> 3;
        b.fill(all);
        return;
    }
    columns(b, BITS - MORE);
    // Differences lie within 255, so what is between lies within 722; that of a broken block is kept from going over.
    b.iter_mut().for_each(|v| *v = (*v).clamp(-8191, 8191));
    turned(b);
    columns(b, BITS + MORE + 3);
    turned(b);
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The definition (annex A), in floating point.
    fn exact(b: &[i32; 64]) -> [f64; 64] {
        let c = |u: usize| if u == 0 { 0.5f64.sqrt() } else { 1.0 };
        let cos = |x: usize, u: usize| ((2 * x + 1) as f64 * u as f64 * std::f64::consts::PI / 16.0).cos();
        std::array::from_fn(|i| {
            let (y, x) = (i / 8, i % 8);
            let each = (0..64).map(|j| {
                let (v, u) = (j / 8, j % 8);
                c(u) * c(v) * f64::from(b[j]) * cos(x, u) * cos(y, v)
            });
            each.sum::<f64>() / 4.0
        })
    }

    #[test]
    fn the_inverse_transform_is_that_of_the_standard() {
        let mut seed = 7u32;
        let mut next = move || {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (seed >> 16) as i32
        };
        let cos = |x: usize, u: usize| {
            let c = if u == 0 { 0.5f64.sqrt() } else { 1.0 };
            c * ((2 * x + 1) as f64 * u as f64 * std::f64::consts::PI / 16.0).cos() / 2.0
        };
        let (mut worst, mut squares, mut count) = (0.0f64, 0.0, 0);
        for round in 0..1500 {
            // IEEE 1180: blocks of random differences, transformed.
            let most = [5, 300, 256][round % 3];
            let from: [f64; 64] = std::array::from_fn(|_| f64::from(next() % (2 * most + 1) - most));
            let mut b: [i32; 64] = std::array::from_fn(|j| {
                let each = (0..64).map(|i| from[i] * cos(i / 8, j / 8) * cos(i % 8, j % 8));
                (each.sum::<f64>().round() as i32).clamp(-2048, 2047)
            });
            let want = exact(&b);
            inverse(&mut b);
            for (got, want) in b.iter().zip(want) {
                let off = (f64::from(*got) - want.round()).abs();
                worst = worst.max(off);
                squares += off.powi(2);
                count += 1;
            }
        }
        // No sample is off by more than one, the mean square by no more than 0.02.
        assert!(worst <= 1.0 && squares / f64::from(count) < 0.02, "{worst} {}", squares / f64::from(count));
        // What no encoder writes goes nowhere over.
        for v in [-2048, 2047] {
            inverse(&mut std::array::from_fn(|n| if n % 3 == 0 { v } else { -1 - v }));
            inverse(&mut [v; 64]);
        }
    }
}
