//! One plane of samples in another size: each new sample is a weighted sum of those that lie around its place.
//!
//! Rows are made first, sixteen at a time; these then lie beside each other, so that the sums across are taken of all
//! sixteen at once. Where samples have few bits and few are summed, they and their sums are whole numbers of sixteen bits, of
//! which twice as many fit in a vector ([`narrow`]); else numbers with a fraction. Both are the same on every machine.

use super::scale::Kernel;
use super::wide::{self, Machine, Sixteen, Work, transposed, whole};
use crate::frame::Samples;

impl Kernel {
    /// How far it reaches, in samples of the source where nothing shrinks.
    fn reach(self) -> f64 {
        match self {
            Kernel::Bilinear => 1.0,
            Kernel::CatmullRom => 2.0,
            Kernel::Lanczos => 3.0,
        }
    }

    /// Its weight at a distance.
    fn weight(self, at: f64) -> f64 {
        let x = at.abs();
        let sinc = |x: f64| {
            if x == 0.0 { 1.0 } else { (x * std::f64::consts::PI).sin() / (x * std::f64::consts::PI) }
        };
        match self {
            Kernel::Bilinear => (1.0 - x).max(0.0),
            // Catmull and Rom, 1974: the cubic through its points with a slope of half their neighbours' distance.
            Kernel::CatmullRom if x < 1.0 => (1.5 * x - 2.5) * x * x + 1.0,
            Kernel::CatmullRom if x < 2.0 => ((-0.5 * x + 2.5) * x - 4.0) * x + 2.0,
            Kernel::CatmullRom => 0.0,
            Kernel::Lanczos if x < 3.0 => sinc(x) * sinc(x / 3.0),
            Kernel::Lanczos => 0.0,
        }
    }
}

/// Where each new sample of one direction takes from, and how much of each.
pub struct Axis {
    from: u32,
    to: u32,
    /// The first sample, and where its weights begin and end.
    taps: Vec<(u32, u32, u32)>,
    weights: Vec<f32>,
    /// The same as fractions of sixteen bits, each for sixteen samples. Those of a new sample are one together.
    narrow: Vec<Sixteen>,
    /// Most samples that are summed, and what their weights are together without their signs: sums get so much larger than
    /// samples.
    most: usize,
    gain: f32,
}

/// What is one.
const ONE: i32 = 1 << 15;

/// Weights as fractions that are exactly one together: what is missing is given to the largest.
fn fractions(weights: &[f32]) -> impl Iterator<Item = Sixteen> {
    let mut all: Vec<i32> = weights.iter().map(|w| (w * ONE as f32).round() as i32).collect();
    let missing = ONE - all.iter().sum::<i32>();
    if let Some(largest) = all.iter_mut().max() {
        *largest += missing;
    }
    all.into_iter().map(|w| [w.clamp(1 - ONE, ONE - 1) as i16; 16])
}

impl Axis {
    /// The kernel is widened where it shrinks, so that nothing aliases.
    pub fn new(kernel: Kernel, from: u32, to: u32) -> Axis {
        let scale = f64::from(from) / f64::from(to);
        let wide = scale.max(1.0);
        let reach = kernel.reach() * wide;
        let (mut taps, mut weights): (Vec<(u32, u32, u32)>, Vec<f32>) = (Vec::new(), Vec::new());
        for i in 0..to {
            let middle = (f64::from(i) + 0.5) * scale;
            let first = ((middle - reach).floor().max(0.0) as u32).min(from - 1);
            let end = ((middle + reach).ceil() as u32).clamp(first + 1, from);
            let all: Vec<f64> =
                (first..end).map(|x| kernel.weight((f64::from(x) + 0.5 - middle) / wide)).collect();
            let sum: f64 = all.iter().sum();
            // At a place between two of them a triangle may have none: the nearest is taken.
            if sum.abs() < 1e-9 {
                let at = weights.len() as u32;
                taps.push(((middle as u32).min(from - 1), at, at + 1));
                weights.push(1.0);
                continue;
            }
            let (skip, keep) = inner(&all);
            let at = weights.len() as u32;
            taps.push((first + skip as u32, at, at + keep as u32));
            weights.extend(all[skip..skip + keep].iter().map(|w| (w / sum) as f32));
        }
        let of = |(_, from, to): &(u32, u32, u32)| &weights[*from as usize..*to as usize];
        let narrow = taps.iter().flat_map(|t| fractions(of(t))).collect();
        let most = taps.iter().map(|t| of(t).len()).max().unwrap_or(0);
        // One is told by the nearest that there is below it; more, as at edges of what is enlarged, cannot be told.
        let over = weights.iter().any(|w| w.abs() > 1.00001);
        let gain = taps.iter().map(|t| of(t).iter().map(|w| w.abs()).sum()).fold(1.0, f32::max);
        let gain = if over { f32::INFINITY } else { gain };
        Axis { from, to, taps, weights, narrow, most, gain }
    }

    /// The first sample that a new one takes from, and its weights.
    #[inline(always)]
    fn of(&self, i: usize) -> (usize, &[f32]) {
        let (first, from, to) = self.taps[i];
        (first as usize, &self.weights[from as usize..to as usize])
    }

    #[inline(always)]
    fn narrow(&self, i: usize) -> (usize, &[Sixteen]) {
        let (first, from, to) = self.taps[i];
        (first as usize, &self.narrow[from as usize..to as usize])
    }

    pub fn is(&self, from: u32, to: u32) -> bool {
        (self.from, self.to) == (from, to)
    }
}

/// Without weights of nothing at both ends.
fn inner(all: &[f64]) -> (usize, usize) {
    let some = |w: &f64| w.abs() > 1e-12;
    let first = all.iter().position(some).unwrap_or(0);
    let last = all.iter().rposition(some).unwrap_or(all.len() - 1);
    (first, last + 1 - first)
}

/// Rows that are made together.
const ROWS: usize = 16;
/// And how much of them: what a row of a film has. Shorter pieces stay nearer to the processor, and wait for memory more often.
const TILE: usize = 1920;

pub trait Sample: Copy + Default + Send + Sync {
    fn get(self) -> f32;
    /// Of one that has less than fifteen bits.
    fn number(self) -> i16;
    /// Of a number that fits.
    fn of(v: i32) -> Self;
}
impl Sample for u8 {
    #[inline(always)]
    fn get(self) -> f32 {
        self.into()
    }
    #[inline(always)]
    fn number(self) -> i16 {
        self.into()
    }
    #[inline(always)]
    fn of(v: i32) -> u8 {
        v as u8
    }
}
impl Sample for u16 {
    #[inline(always)]
    fn get(self) -> f32 {
        self.into()
    }
    #[inline(always)]
    fn number(self) -> i16 {
        self as i16
    }
    #[inline(always)]
    fn of(v: i32) -> u16 {
        v as u16
    }
}

/// Sizes are width, height, stride; `top` is the largest value.
pub fn plane(
    from: &Samples,
    from_size: (u32, u32, usize),
    to: &mut Samples,
    to_size: (u32, u32, usize),
    (across, down): (&Axis, &Axis),
    top: u16,
) -> bool {
    let top = f32::from(top);
    match (from, to) {
        (Samples::U8(a), Samples::U8(b)) => {
            run(Resize::<_, 1> { from: a, from_size, to: b, to_size, first: 0, axes: (across, down), top });
        }
        (Samples::U16(a), Samples::U16(b)) => {
            run(Resize::<_, 1> { from: a, from_size, to: b, to_size, first: 0, axes: (across, down), top });
        }
        _ => return false,
    }
    true
}

/// The same of pixels whose samples stand beside each other, without anything between rows.
pub fn beside<T: Sample, const BESIDE: usize>(
    from: &[T],
    (fw, fh): (u32, u32),
    to: &mut [T],
    (tw, th): (u32, u32),
    axes: (&Axis, &Axis),
    top: u16,
) {
    let (from_size, to_size) = ((fw, fh, fw as usize * BESIDE), (tw, th, tw as usize * BESIDE));
    run(Resize::<_, BESIDE> { from, from_size, to, to_size, first: 0, axes, top: f32::from(top) });
}

/// Planes of more samples than a film's of 3840x2160 have are of large stills: every processor takes some of the rows.
const LARGE: u64 = 8 << 20;

fn run<T: Sample, const BESIDE: usize>(r: Resize<'_, T, BESIDE>) {
    let (width, height, _) = r.from_size;
    let threads = match u64::from(width) * u64::from(height) >= LARGE {
        true => std::thread::available_parallelism().map_or(1, usize::from).min(8),
        false => 1,
    };
    let Resize { from, from_size, to, to_size: (tw, th, stride), axes, top, .. } = r;
    // Whole blocks of rows, so that each is summed as it would be alone.
    let each = (th as usize).div_ceil(threads).next_multiple_of(ROWS);
    std::thread::scope(|s| {
        for (n, to) in to.chunks_mut((each * stride).max(1)).enumerate() {
            let rows = each.min((th as usize).saturating_sub(n * each)) as u32;
            let band = Resize::<_, BESIDE> {
                from,
                from_size,
                to,
                to_size: (tw, rows, stride),
                first: n * each,
                axes,
                top,
            };
            match threads {
                1 => wide::run(band),
                _ => drop(s.spawn(move || wide::run(band))),
            }
        }
    });
}

/// `BESIDE`: samples of a pixel that stand beside each other.
struct Resize<'a, T, const BESIDE: usize> {
    from: &'a [T],
    from_size: (u32, u32, usize),
    to: &'a mut [T],
    to_size: (u32, u32, usize),
    /// The row of the new picture that `to` begins with.
    first: usize,
    axes: (&'a Axis, &'a Axis),
    top: f32,
}

impl<T: Sample, const BESIDE: usize> Work for Resize<'_, T, BESIDE> {
    #[inline(always)]
    fn work(self, machine: impl Machine) {
        match self.narrow() {
            Some(bits) => narrow(self, bits, machine),
            None => resize(self),
        }
    }
}

impl<T: Sample, const BESIDE: usize> Resize<'_, T, BESIDE> {
    /// Bits of fraction beside those of a sample, if sums in sixteen bits are as near as others: what is cut off of each
    /// summed sample stays less than a quarter of a step in all, each way.
    fn narrow(&self) -> Option<u32> {
        // Less its middle a sample has one bit less, and sums may be up to twice as large as it.
        let bits = 15u32.saturating_sub(16 - (self.top as u16).leading_zeros());
        let (across, down) = self.axes;
        let near = across.most.max(down.most) * 2 <= 1 << bits;
        let fits = across.gain * down.gain < 2.0;
        (BESIDE == 1 && self.top >= 255.0 && near && fits).then_some(bits)
    }
}

/// Groups of sixteen samples that are summed at once.
const GROUPS: usize = 5;

#[inline(always)]
#[allow(clippy::needless_range_loop)] // several at once
fn narrow<T: Sample, const BESIDE: usize>(r: Resize<'_, T, BESIDE>, bits: u32, machine: impl Machine) {
    let Resize { from, from_size: (fw, _, fs), to, to_size: (tw, th, ts), first: begin, axes, top } = r;
    let (across, down) = axes;
    let (fw, tw, th) = (fw as usize, tw as usize, th as usize);
    let top = top as i16;
    let middle = (top + 1) >> 1;
    let mut lines = vec![[0i16; 16]; TILE];
    let mut block = vec![[0i16; 16]; fw.next_multiple_of(16)];
    let mut last = vec![T::default(); GROUPS * 16];
    let mut out = [[T::default(); 16]; 16];
    for first in (0..th).step_by(ROWS) {
        let rows = ROWS.min(th - first);
        // A piece of the rows at a time, so that what lies beside each other stays near the processor.
        for left in (0..fw).step_by(TILE) {
            let wide = TILE.min(fw - left);
            for r in 0..rows {
                let (start, weights) = down.narrow(begin + first + r);
                for at in (0..wide).step_by(GROUPS * 16) {
                    let here = (wide - at).min(GROUPS * 16);
                    // Less the middle of what a sample can be.
                    let mut sum = [[0i16; 16]; GROUPS];
                    for (k, w) in weights.iter().enumerate() {
                        let mut line = &from[(start + k) * fs + left + at..][..here];
                        if here < GROUPS * 16 {
                            // The end of a row has no others behind it.
                            last[..here].copy_from_slice(line);
                            line = &last;
                        }
                        // As an array, so that compilers keep the sums in registers.
                        let Ok(line) = <&[T; GROUPS * 16]>::try_from(line) else { break };
                        for g in 0..GROUPS {
                            let mut values = [0i16; 16];
                            for l in 0..16 {
                                values[l] = (line[g * 16 + l].number() - middle) << bits;
                            }
                            sum[g] = plus(sum[g], machine.product(values, *w));
                        }
                    }
                    for (n, sum) in sum.iter().enumerate().take(here.div_ceil(16)) {
                        lines[at + n * 16 + r] = *sum;
                    }
                }
            }
            // Sixteen of each row now, one below the other: beside each other they are columns.
            for (n, square) in lines.chunks_exact(16).enumerate().take(wide.div_ceil(16)) {
                let Ok(square) = <&[Sixteen; 16]>::try_from(square) else { continue };
                block[left + n * 16..][..16].copy_from_slice(&transposed(square));
            }
        }
        for left in (0..tw).step_by(16) {
            let wide = 16.min(tw - left);
            for (x, out) in out.iter_mut().enumerate().take(wide) {
                let (start, weights) = across.narrow(left + x);
                let mut sum = [1i16 << (bits - 1); 16];
                for (w, lane) in weights.iter().zip(&block[start..]) {
                    sum = plus(sum, machine.product(*lane, *w));
                }
                for (out, s) in out.iter_mut().zip(sum) {
                    *out = T::of(i32::from(((s >> bits) + middle).max(0).min(top)));
                }
            }
            let rows_of = transposed(&out);
            for (r, row) in rows_of.iter().enumerate().take(rows) {
                to[(first + r) * ts + left..][..wide].copy_from_slice(&row[..wide]);
            }
        }
    }
}

/// Sums that fit.
#[inline(always)]
fn plus(a: Sixteen, b: Sixteen) -> Sixteen {
    std::array::from_fn(|n| a[n].wrapping_add(b[n]))
}

#[inline(always)]
fn resize<T: Sample, const BESIDE: usize>(r: Resize<'_, T, BESIDE>) {
    let Resize { from, from_size: (fw, _, fs), to, to_size: (tw, th, ts), first: begin, axes, top } = r;
    let (across, down) = axes;
    let (wide_row, tw, th) = (fw as usize, tw as usize, th as usize);
    let fw = wide_row * BESIDE;
    let mut row = vec![0f32; TILE];
    let mut block = vec![[0f32; ROWS]; fw];
    for first in (0..th).step_by(ROWS) {
        let rows = ROWS.min(th - first);
        // A piece of the rows at a time, so that what lies beside each other stays near the processor.
        for left in (0..fw).step_by(TILE) {
            let wide = TILE.min(fw - left);
            for r in 0..rows {
                let (start, weights) = down.of(begin + first + r);
                let row = &mut row[..wide];
                for (k, w) in weights.iter().enumerate() {
                    let at = (start + k) * fs + left;
                    let line = &from[at..at + wide];
                    if k == 0 {
                        row.iter_mut().zip(line).for_each(|(s, v)| *s = w * v.get());
                    } else {
                        row.iter_mut().zip(line).for_each(|(s, v)| *s += w * v.get());
                    }
                }
                // Each colour by itself: its samples then lie beside each other.
                for c in 0..BESIDE {
                    let mine = &mut block[c * wide_row + left / BESIDE..];
                    mine.iter_mut().zip(row[c..].iter().step_by(BESIDE)).for_each(|(b, v)| b[r] = *v);
                }
            }
        }
        for x in 0..tw {
            let (start, mine) = across.of(x);
            for c in 0..BESIDE {
                let mut sum = [0f32; ROWS];
                for (w, lane) in mine.iter().zip(&block[c * wide_row + start..]) {
                    for l in 0..ROWS {
                        sum[l] += w * lane[l];
                    }
                }
                let sum = sum.map(|s| whole(s.max(0.0).min(top)));
                for (r, v) in sum.iter().enumerate().take(rows) {
                    to[(first + r) * ts + x * BESIDE + c] = T::of(*v);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::pool::Buffer;
    use rstest::rstest;

    /// What several threads make is what one makes.
    #[test]
    fn large_pictures_are_made_in_bands() {
        let (fw, fh, tw, th) = (5000, 3400, 40, 77);
        let from: Vec<u8> = (0..fw * fh).map(|n: u32| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
        let axes = (&Axis::new(Kernel::CatmullRom, fw, tw), &Axis::new(Kernel::CatmullRom, fh, th));
        let own = (fw, fh, fw as usize);
        let mut one = vec![0u8; (tw * th) as usize];
        let to_size = (tw, th, tw as usize);
        wide::run(Resize::<_, 1> {
            from: &from,
            from_size: own,
            to: &mut one,
            to_size,
            first: 0,
            axes,
            top: 255.0,
        });
        let mut to = Samples::U8(Buffer::from_vec(vec![0; (tw * th) as usize]));
        assert!(plane(&Samples::U8(Buffer::from_vec(from)), own, &mut to, to_size, axes, 255));
        let Samples::U8(several) = to else { unreachable!() };
        assert!(several.iter().eq(one.iter()));
    }

    /// Colours beside each other come out as they do plane by plane.
    #[rstest]
    #[case((60, 40), (24, 18))]
    #[case((33, 17), (70, 50))]
    #[case((700, 5), (31, 2))]
    #[case((1, 1), (3, 2))]
    fn beside_each_other_is_as_apart(#[case] (fw, fh): (u32, u32), #[case] (tw, th): (u32, u32)) {
        let value = |x: u32, y: u32, c: u32| ((x * x * 7 + y * 31 + x * y * 3 + c * 89) % 256) as u8;
        let pixels = || (0..fh).flat_map(|y| (0..fw).map(move |x| (x, y)));
        let axes = (&Axis::new(Kernel::CatmullRom, fw, tw), &Axis::new(Kernel::CatmullRom, fh, th));
        let all: Vec<u8> = pixels().flat_map(|(x, y)| [0, 1, 2].map(|c| value(x, y, c))).collect();
        let deep: Vec<u16> = all.iter().map(|v| u16::from(*v)).collect();
        let many = (tw * th * 3) as usize;
        let (mut got, mut got_deep) = (vec![0u8; many], vec![0u16; many]);
        beside::<_, 3>(&all, (fw, fh), &mut got, (tw, th), axes, 255);
        beside::<_, 3>(&deep, (fw, fh), &mut got_deep, (tw, th), axes, 255);
        let near = |a: u8, b: u16| u16::from(a).abs_diff(b) <= 1;
        assert!(got.iter().zip(&got_deep).all(|(a, b)| near(*a, *b)));
        for c in 0..3 {
            let own = pixels().map(|(x, y)| value(x, y, c)).collect();
            let from = Samples::U8(Buffer::from_vec(own));
            let mut to = Samples::U8(Buffer::from_vec(vec![0; (tw * th) as usize]));
            assert!(plane(&from, (fw, fh, fw as usize), &mut to, (tw, th, tw as usize), axes, 255));
            let Samples::U8(want) = to else { unreachable!() };
            let mut both = got.iter().skip(c as usize).step_by(3).zip(want.iter());
            assert!(both.all(|(a, b)| near(*a, u16::from(*b))), "colour {c}");
        }
    }

    /// Against the sum as it is told, each sample by itself.
    #[rstest]
    fn every_sample_is_the_weighted_sum(
        #[values(Kernel::Bilinear, Kernel::CatmullRom, Kernel::Lanczos)] kernel: Kernel,
        #[values((64, 48, 64, 48), (64, 48, 40, 33), (33, 17, 70, 50), (5, 3, 1, 1), (1, 1, 9, 7), (101, 60, 13, 40))]
        size: (u32, u32, u32, u32),
        #[values(8, 10, 12)] depth: u8,
    ) {
        let (fw, fh, tw, th) = size;
        let most = (1u32 << depth) - 1;
        let value = |x: u32, y: u32| (x * x * 7 + y * 31 + x * y * 3) % (most + 1);
        let stride = fw as usize + 3;
        let all =
            (0..fh).flat_map(|y| (0..stride as u32).map(move |x| if x < fw { value(x, y) } else { most }));
        let all: Vec<u32> = all.collect();
        let (from, mut to) = match depth {
            8 => (
                Samples::U8(Buffer::from_vec(all.iter().map(|v| *v as u8).collect())),
                Samples::U8(Buffer::from_vec(vec![0; (tw * th) as usize])),
            ),
            _ => (
                Samples::U16(Buffer::from_vec(all.iter().map(|v| *v as u16).collect())),
                Samples::U16(Buffer::from_vec(vec![0; (tw * th) as usize])),
            ),
        };
        let axes = (&Axis::new(kernel, fw, tw), &Axis::new(kernel, fh, th));
        assert!(plane(&from, (fw, fh, stride), &mut to, (tw, th, tw as usize), axes, most as u16));
        let weights = |i: u32, from: u32, to: u32| -> Vec<f64> {
            let scale = f64::from(from) / f64::from(to);
            let middle = (f64::from(i) + 0.5) * scale;
            let all: Vec<f64> =
                (0..from).map(|x| kernel.weight((f64::from(x) + 0.5 - middle) / scale.max(1.0))).collect();
            let sum: f64 = all.iter().sum();
            all.iter().map(|w| w / sum).collect()
        };
        for (y, x) in (0..th).flat_map(|y| (0..tw).map(move |x| (y, x))) {
            let (wx, wy) = (weights(x, fw, tw), weights(y, fh, th));
            let mut sum = 0.0;
            for (v, h) in (0..fh).flat_map(|v| (0..fw).map(move |h| (v, h))) {
                sum += wy[v as usize] * wx[h as usize] * f64::from(value(h, v));
            }
            let want = sum.round().clamp(0.0, f64::from(most));
            let got = match &to {
                Samples::U8(b) => f64::from(b[(y * tw + x) as usize]),
                Samples::U16(w) => f64::from(w[(y * tw + x) as usize]),
            };
            assert!((got - want).abs() <= 1.0, "{x}, {y}: {got}, not {want}");
        }
    }
}
