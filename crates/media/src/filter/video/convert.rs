//! Any picture in the form that an encoder takes: 8-bit 4:2:0 in limited range, which every player shows, or another.
//!
//! Depth is rounded, chroma is averaged over the pixels it stands for (or drawn between those that are there), red, green and
//! blue become luma and colour difference by ITU-R BT.709-6, 3.2 to 3.4. Coverage is shown over black.

use super::frame::weights;
use super::wide::{self, Machine, Work, whole};
use crate::error::Result;
use crate::frame::{Chroma, Colour, Plane, Pool, Samples, VideoFrame};

/// Colours that pictures of red, green and blue get.
pub const HD: Colour = Colour { primaries: 1, transfer: 1, matrix: 1, full_range: false };

/// How samples lie in what an encoder takes: 4:2:0 or 4:2:2.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Wanted {
    pub chroma: Chroma,
    pub depth: u8,
    pub full_range: bool,
    /// Where bits are lost, what is between two values is shown as a pattern of both, instead of as steps in what is
    /// smooth.
    pub dither: bool,
}

impl Wanted {
    pub const PLAIN: Wanted = Wanted { chroma: Chroma::C420, depth: 8, full_range: false, dither: false };
    /// JFIF (ITU-T T.871) has the full range.
    pub const JPEG: Wanted = Wanted { chroma: Chroma::C422, depth: 8, full_range: true, dither: false };
    pub const TEN_BITS: Wanted = Wanted { chroma: Chroma::C422, depth: 10, full_range: false, dither: false };

    /// Whether a picture is so.
    pub fn is(&self, f: &VideoFrame) -> bool {
        f.chroma == self.chroma && f.depth == self.depth && f.colour.full_range == self.full_range
    }

    /// What the pictures of a track are in after conversion.
    pub fn colour_after(&self, colour: Colour, chroma: Chroma) -> Colour {
        let full_range = self.full_range;
        match chroma {
            Chroma::Rgb | Chroma::Rgba => Colour { full_range, ..HD },
            _ if colour.matrix == 0 => Colour { full_range, ..HD },
            _ => Colour { full_range, ..colour },
        }
    }

    pub fn words(&self) -> String {
        let chroma = if self.chroma == Chroma::C422 { "4:2:2" } else { "4:2:0" };
        let range = if self.full_range { "full" } else { "limited" };
        let dithered = if self.dither { ", dithered" } else { "" };
        format!("{}-bit {chroma}, {range} range{dithered}", self.depth)
    }
}

pub struct Converter {
    pool: Pool,
    wanted: Wanted,
    tables: Option<Tables>,
}

/// For one depth and range: luma and colour difference as they are wanted, with 4 bits of fraction.
struct Tables {
    depth: u8,
    full: bool,
    /// The range is the same and is limited: bits alone change, and no table is looked into.
    bits_only: bool,
    luma: Vec<u16>,
    chroma: Vec<u16>,
}

const FRACTION: u32 = 4;

/// Where in a square of 8 by 8 a value is rounded up first: an ordered pattern, the same in every picture, so that what is
/// still stays still (Bayer, "An optimum method for two-level rendition of continuous-tone pictures", 1973).
const PATTERN: [[u8; 8]; 8] = pattern();

const fn pattern() -> [[u8; 8]; 8] {
    let mut out = [[0; 8]; 8];
    let mut place = 0;
    while place < 64 {
        let (x, y) = (place % 8, place / 8);
        // Bits of x^y and y, in turn, the lowest first.
        let mut bit = 0;
        while bit < 3 {
            let (a, b) = ((x ^ y) >> bit & 1, y >> bit & 1);
            out[y][x] |= ((a << 1 | b) << (2 * (2 - bit))) as u8;
            bit += 1;
        }
        place += 1;
    }
    out
}

/// What is added in a row instead of a half before this many bits are cut off.
#[inline(always)]
fn thresholds(y: usize, shift: u32) -> [u32; 8] {
    PATTERN[y % 8].map(|n| ((2 * u32::from(n) + 1) << shift) >> 7)
}

impl Converter {
    /// To 8-bit 4:2:0 in limited range.
    pub fn new(pool: Pool) -> Self {
        Converter::to(Wanted::PLAIN, pool)
    }

    pub fn to(wanted: Wanted, pool: Pool) -> Self {
        Converter { pool, wanted, tables: None }
    }

    pub fn convert(&mut self, f: &VideoFrame) -> Result<VideoFrame> {
        let mut out = VideoFrame::new(&self.pool, f.width, f.height, self.wanted.chroma, self.wanted.depth)?;
        out.describe_like(f);
        out.colour = self.wanted.colour_after(f.colour, f.chroma);
        let identity = f.chroma == Chroma::C444 && f.colour.matrix == 0;
        match f.chroma {
            Chroma::Rgb | Chroma::Rgba => from_rgb(f, [0, 1, 2], self.wanted, &mut out),
            // Matrix 0 (H.273): the planes are green, blue and red.
            _ if identity => from_rgb(f, [2, 0, 1], self.wanted, &mut out),
            _ => self.difference(f, &mut out),
        }
        Ok(out)
    }

    fn difference(&mut self, f: &VideoFrame, out: &mut VideoFrame) {
        let (depth, full) = (f.depth, f.colour.full_range);
        if self.tables.as_ref().is_none_or(|t| (t.depth, t.full) != (depth, full)) {
            let (luma, chroma) = tables(depth, full, self.wanted);
            let bits_only = !full && !self.wanted.full_range;
            self.tables = Some(Tables { depth, full, bits_only, luma, chroma });
        }
        let Some(Tables { luma, chroma, bits_only, .. }) = &self.tables else { return };
        let top = (1u32 << self.wanted.depth) - 1;
        let bits = bits_only.then(|| i32::from(self.wanted.depth) - i32::from(depth) + FRACTION as i32);
        let rows = |from: &Plane, to: &mut Plane, share: Share, table: &[u16]| {
            let how = Values { table, bits, most: (1 << depth) - 1 };
            let dither = self.wanted.dither && self.wanted.depth < depth;
            wide::run(Rows { from, to, share, how, top, dither });
        };
        rows(&f.planes[0], &mut out.planes[0], Share { across: 1, down: 1, up: false }, luma);
        if f.chroma == Chroma::Gray {
            let middle = 1u16 << (self.wanted.depth - 1);
            out.planes[1..].iter_mut().for_each(|p| p.fill(middle));
            return;
        }
        let tall = self.wanted.chroma == Chroma::C422;
        let share = match f.chroma {
            Chroma::C444 => Share { across: 2, down: if tall { 1 } else { 2 }, up: false },
            Chroma::C422 => Share { across: 1, down: if tall { 1 } else { 2 }, up: false },
            _ => Share { across: 1, down: 1, up: tall },
        };
        for i in 1..3 {
            rows(&f.planes[i], &mut out.planes[i], share, chroma);
        }
    }
}

/// ITU-R BT.2100-2, tables 9: what each value is as it is wanted.
fn tables(depth: u8, full: bool, wanted: Wanted) -> (Vec<u16>, Vec<u16>) {
    let most = (1u32 << depth) - 1;
    let one = f64::from(1u32 << FRACTION);
    let top = f64::from((1u32 << wanted.depth) - 1);
    let step = |depth: u8| f64::from(1u32 << (depth - 8));
    let value = |v: f64| (v.clamp(0.0, top) * one).round() as u16;
    // From 0 to 1, and from -0.5 to 0.5.
    let (low, high) = (step(depth), step(wanted.depth));
    let luma = |v: u32| {
        let v = f64::from(v);
        if full == wanted.full_range && !full {
            return v / low * high;
        }
        let part = if full { v / f64::from(most) } else { (v / low - 16.0) / 219.0 };
        if wanted.full_range { part * top } else { (16.0 + 219.0 * part) * high }
    };
    let middle = f64::from(1u32 << (depth - 1));
    let chroma = |v: u32| {
        let v = f64::from(v);
        if full == wanted.full_range && !full {
            return v / low * high;
        }
        let part = if full { (v - middle) / f64::from(most) } else { (v / low - 128.0) / 224.0 };
        if wanted.full_range { 128.0 * high + part * top } else { (128.0 + 224.0 * part) * high }
    };
    ((0..=most).map(|v| value(luma(v))).collect(), (0..=most).map(|v| value(chroma(v))).collect())
}

/// How many samples of the source one of the result stands for, or that there are twice as many rows of them.
#[derive(Clone, Copy)]
struct Share {
    across: usize,
    down: usize,
    up: bool,
}

/// What a sample is as it is wanted: by a table, or by so many bits to the left.
#[derive(Clone, Copy)]
struct Values<'a> {
    table: &'a [u16],
    bits: Option<i32>,
    most: u32,
}

impl Values<'_> {
    /// A row of the source as values with a fraction; the last one stands in for those below.
    #[inline(always)]
    fn row(&self, from: &Plane, y: usize, line: &mut [u32], times: u32, add: bool) {
        let at = y.min(from.height as usize - 1) * from.stride;
        let at = at..at + from.width as usize;
        match &from.samples {
            Samples::U8(b) => self.put(line, &b[at], times, add),
            Samples::U16(d) => self.put(line, &d[at], times, add),
        }
    }

    /// A row, times a weight, added to what is there or in its place.
    #[inline(always)]
    fn put<T: Copy + Into<u32>>(&self, line: &mut [u32], row: &[T], times: u32, add: bool) {
        // Bits above the depth are not the picture's.
        let most = self.most;
        let pairs = line.iter_mut().zip(row);
        match (self.bits, add) {
            (Some(n @ 0..), false) => pairs.for_each(|(l, v)| *l = ((*v).into().min(most) << n) * times),
            (Some(n @ 0..), true) => pairs.for_each(|(l, v)| *l += ((*v).into().min(most) << n) * times),
            (Some(n), false) => pairs.for_each(|(l, v)| *l = ((*v).into().min(most) >> -n) * times),
            (Some(n), true) => pairs.for_each(|(l, v)| *l += ((*v).into().min(most) >> -n) * times),
            (None, false) => pairs.for_each(|(l, v)| {
                *l = u32::from(self.table[(*v).into().min(most) as usize]) * times;
            }),
            (None, true) => pairs.for_each(|(l, v)| {
                *l += u32::from(self.table[(*v).into().min(most) as usize]) * times;
            }),
        }
    }
}

struct Rows<'a> {
    from: &'a Plane,
    to: &'a mut Plane,
    share: Share,
    how: Values<'a>,
    top: u32,
    dither: bool,
}

impl Work for Rows<'_> {
    #[inline(always)]
    fn work(self, _: impl Machine) {
        rows(self);
    }
}

/// Writes a plane.
#[inline(always)]
fn rows(work: Rows<'_>) {
    let Rows { from, to, share, how, top, dither } = work;
    let (w, h) = (to.width as usize, to.height as usize);
    let fw = from.width as usize;
    // One more at its end where its width is odd.
    let mut line = vec![0u32; (w * share.across).max(fw)];
    let shift = FRACTION + if share.up { 2 } else { (share.across * share.down).ilog2() };
    let half = if dither { 0 } else { 1u32 << (shift - 1) };
    for y in 0..h {
        if share.up {
            // A quarter of the way to the neighbour.
            let near = y / 2;
            let far = if y % 2 == 0 { near.saturating_sub(1) } else { near + 1 };
            how.row(from, near, &mut line, 3, false);
            how.row(from, far, &mut line, 1, true);
        } else {
            for dy in 0..share.down {
                how.row(from, y * share.down + dy, &mut line, 1, dy > 0);
            }
        }
        let last = line[fw - 1];
        line[fw..].fill(last);
        let at = y * to.stride..y * to.stride + w;
        let round = |sum: u32| ((sum + half) >> shift).min(top);
        if dither {
            let add = thresholds(y, shift);
            for line in line.chunks_mut(8 * share.across) {
                line.chunks_mut(share.across).zip(add).for_each(|(l, add)| l[0] += add);
            }
        }
        let pairs = line.chunks_exact(2).map(|v| v[0] + v[1]);
        match (&mut to.samples, share.across) {
            (Samples::U8(b), 1) => b[at].iter_mut().zip(&line).for_each(|(t, v)| *t = round(*v) as u8),
            (Samples::U8(b), _) => b[at].iter_mut().zip(pairs).for_each(|(t, v)| *t = round(v) as u8),
            (Samples::U16(d), 1) => d[at].iter_mut().zip(&line).for_each(|(t, v)| *t = round(*v) as u16),
            (Samples::U16(d), _) => d[at].iter_mut().zip(pairs).for_each(|(t, v)| *t = round(v) as u16),
        }
    }
}

/// Weights of red, green and blue times 65536, and what is added, for luma and the two differences.
fn from_rgb_weights(wanted: Wanted) -> [[i32; 4]; 3] {
    let (kr, kb) = weights(HD.matrix);
    let kg = 1.0 - kr - kb;
    let high = f64::from(1u32 << (wanted.depth - 8));
    let (luma, chroma) = if wanted.full_range { (1.0, 1.0) } else { (219.0 / 255.0, 224.0 / 255.0) };
    let fixed = |v: f64| (v * 65_536.0).round() as i32;
    let (b, r) = (chroma / (2.0 * (1.0 - kb)), chroma / (2.0 * (1.0 - kr)));
    let floor = if wanted.full_range { 0.0 } else { 16.0 * high };
    let add = |v: f64| ((v + 0.5) * f64::from(1u32 << (16 + FRACTION))) as i32;
    [
        [fixed(kr * luma), fixed(kg * luma), fixed(kb * luma), add(floor)],
        [fixed(-kr * b), fixed(-kg * b), fixed((1.0 - kb) * b), add(128.0 * high)],
        [fixed((1.0 - kr) * r), fixed(-kg * r), fixed(-kb * r), add(128.0 * high)],
    ]
}

fn from_rgb(f: &VideoFrame, order: [usize; 3], wanted: Wanted, out: &mut VideoFrame) {
    wide::run(FromRgb { f, order, wanted, out });
}

struct FromRgb<'a> {
    f: &'a VideoFrame,
    order: [usize; 3],
    wanted: Wanted,
    out: &'a mut VideoFrame,
}

impl Work for FromRgb<'_> {
    #[inline(always)]
    fn work(self, _: impl Machine) {
        by_lines(self.f, self.order, self.wanted, self.out);
    }
}

/// Luma, or a difference, of a row.
#[inline(always)]
fn mix(k: &[i32; 4], [r, g, b]: [&[i32]; 3], add: Option<[i32; 8]>, top: i32, to: &mut [i32]) {
    let mixed = |r: i32, g: i32, b: i32| k[0] * r + k[1] * g + k[2] * b + k[3];
    let Some(add) = add else {
        for (((to, r), g), b) in to.iter_mut().zip(r).zip(g).zip(b) {
            *to = (mixed(*r, *g, *b) >> (16 + FRACTION)).clamp(0, top);
        }
        return;
    };
    let parts = r.chunks(8).zip(g.chunks(8)).zip(b.chunks(8));
    for (to, ((r, g), b)) in to.chunks_mut(8).zip(parts) {
        for ((((t, r), g), b), add) in to.iter_mut().zip(r).zip(g).zip(b).zip(&add) {
            *t = ((mixed(*r, *g, *b) + add) >> (16 + FRACTION)).clamp(0, top);
        }
    }
}

/// A row of a plane, white being 255 (or 1020) with a fraction, over black where it has coverage.
#[inline(always)]
fn numbers(f: &VideoFrame, plane: usize, y: usize, scale: f32, to: &mut [i32]) {
    let p = &f.planes[plane];
    let (w, y) = (f.width as usize, y.min(f.height as usize - 1));
    let at = y * p.stride..y * p.stride + w;
    match &p.samples {
        Samples::U8(b) => {
            to.iter_mut().zip(&b[at]).for_each(|(t, v)| *t = whole(f32::from(*v) * scale));
        }
        Samples::U16(d) => {
            to.iter_mut().zip(&d[at]).for_each(|(t, v)| *t = whole(f32::from(*v) * scale));
        }
    }
    if let Some(a) = f.planes.get(3).filter(|_| f.chroma == Chroma::Rgba) {
        let most = ((1u32 << f.depth) - 1) as f32;
        for (x, t) in to.iter_mut().enumerate().take(w) {
            *t = whole(*t as f32 * (f32::from(a.at(x as u32, y as u32)) / most));
        }
    }
    let last = to[w - 1];
    to[w..].fill(last);
}

#[inline(always)]
fn put(p: &mut Plane, y: usize, values: &[i32]) {
    let at = y * p.stride..y * p.stride + p.width as usize;
    match &mut p.samples {
        Samples::U8(b) => b[at].iter_mut().zip(values).for_each(|(t, v)| *t = *v as u8),
        Samples::U16(d) => d[at].iter_mut().zip(values).for_each(|(t, v)| *t = *v as u16),
    }
}

#[inline(always)]
fn by_lines(f: &VideoFrame, order: [usize; 3], wanted: Wanted, out: &mut VideoFrame) {
    let most = (1u32 << f.depth) - 1;
    let top = (1i32 << wanted.depth) - 1;
    let (w, h) = (f.width as usize, f.height as usize);
    // One more at its end where the width is odd.
    let wide = w.next_multiple_of(2);
    let white = (255u32 << (wanted.depth - 8)) << FRACTION;
    let scale = white as f32 / most as f32;
    let [for_luma, for_cb, for_cr] = from_rgb_weights(wanted);
    let down = if wanted.chroma == Chroma::C420 { 2 } else { 1 };
    let mut lines = vec![vec![0i32; wide]; 6];
    let mut means = vec![vec![0i32; wide / 2]; 3];
    let mut made = vec![0i32; wide];
    let dither = wanted.dither && wanted.depth < f.depth;
    let add =
        |y: usize| dither.then(|| thresholds(y, 16 + FRACTION).map(|t| t as i32 - (1 << (15 + FRACTION))));
    for y in (0..h).step_by(down) {
        for n in 0..3 * down {
            numbers(f, order[n % 3], y + n / 3, scale, &mut lines[n]);
        }
        for dy in 0..down.min(h - y) {
            let at = dy * 3;
            let from = [&*lines[at], &lines[at + 1], &lines[at + 2]];
            mix(&for_luma, from, add(y + dy), top, &mut made);
            put(&mut out.planes[0], y + dy, &made);
        }
        let other = if down == 2 { 3 } else { 0 };
        for (i, mean) in means.iter_mut().enumerate() {
            let pairs = lines[i].chunks_exact(2).zip(lines[i + other].chunks_exact(2));
            mean.iter_mut().zip(pairs).for_each(|(m, (a, b))| *m = (a[0] + a[1] + b[0] + b[1]) / 4);
        }
        for (plane, k) in [(1, &for_cb), (2, &for_cr)] {
            let from = [&*means[0], &means[1], &means[2]];
            mix(k, from, add(y / down), top, &mut made[..wide / 2]);
            put(&mut out.planes[plane], y / down, &made);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// The mean over a square of the pattern is what was between two values, no sample is further than one from it, and
    /// where nothing is lost nothing changes.
    #[rstest]
    fn what_is_between_two_values_is_a_pattern_of_both(
        #[values(Chroma::C420, Chroma::C444, Chroma::Rgb)] chroma: Chroma,
        #[values(10, 12, 16)] depth: u8,
    ) {
        let mut f = VideoFrame::new(&Pool::new(), 64, 64, chroma, depth).unwrap();
        f.colour = HD;
        let step = 1u16 << (depth - 8);
        // A quarter of the way from 100 to 101, and so on.
        for (plane, quarters) in f.planes.iter_mut().zip([1, 2, 3]) {
            let Samples::U16(d) = &mut plane.samples else { panic!() };
            d.fill(100 * step + step / 4 * quarters);
        }
        let mean = |f: &VideoFrame, plane: usize| {
            let p = &f.planes[plane];
            let all = (0..p.height).flat_map(|y| (0..p.width).map(move |x| (x, y)));
            let all: Vec<f64> = all.map(|(x, y)| f64::from(p.at(x, y))).collect();
            let mean = all.iter().sum::<f64>() / all.len() as f64;
            assert!(all.iter().all(|v| (v - mean).abs() < 1.0), "{all:?}");
            mean
        };
        let plain = Wanted::PLAIN;
        let fine = Wanted { depth: 10, ..plain };
        let dithered = Converter::to(Wanted { dither: true, ..plain }, Pool::new()).convert(&f).unwrap();
        let exact = Converter::to(fine, Pool::new()).convert(&f).unwrap();
        for plane in 0..3 {
            let want = mean(&exact, plane) / 4.0;
            let off = (mean(&dithered, plane) - want).abs();
            assert!(off < 0.14, "{plane}: {} for {want}", mean(&dithered, plane));
        }
        let mut eight = VideoFrame::new(&Pool::new(), 64, 64, Chroma::C420, 8).unwrap();
        eight.colour = HD;
        let same = Converter::to(Wanted { dither: true, ..plain }, Pool::new()).convert(&eight).unwrap();
        for (a, b) in same.planes.iter().zip(&eight.planes) {
            let all = |p: &Plane| (0..p.height).map(|y| p.at(y % p.width, y)).collect::<Vec<_>>();
            assert_eq!(all(a), all(b));
        }
    }

    fn flat(chroma: Chroma, depth: u8, values: [u16; 4], colour: Colour) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 5, 3, chroma, depth).unwrap();
        f.colour = colour;
        for (p, v) in f.planes.iter_mut().zip(values) {
            (0..p.height as usize).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, v)));
        }
        f
    }
    const FULL: Colour = Colour { primaries: 2, transfer: 2, matrix: 5, full_range: true };

    #[rstest]
    #[case::ten_bits(Chroma::C422, 10, [64, 512, 960, 0], HD, [16, 128, 240])]
    #[case::twelve_bits(Chroma::C444, 12, [3760, 2048, 256, 0], HD, [235, 128, 16])]
    #[case::full_range(Chroma::C420, 8, [255, 128, 255, 0], FULL, [235, 128, 240])]
    #[case::black_in_full_range(Chroma::C444, 8, [0, 0, 128, 0], FULL, [16, 16, 128])]
    #[case::gray(Chroma::Gray, 16, [0x8000, 0, 0, 0], FULL, [126, 128, 128])]
    #[case::white(Chroma::Rgb, 8, [255, 255, 255, 0], FULL, [235, 128, 128])]
    #[case::red(Chroma::Rgb, 16, [65_535, 0, 0, 0], FULL, [63, 102, 240])]
    #[case::half_covered_white(Chroma::Rgba, 8, [255, 255, 255, 128], FULL, [126, 128, 128])]
    #[case::blue_by_identity(Chroma::C444, 8, [0, 255, 0, 0], Colour { matrix: 0, ..FULL }, [32, 240, 118])]
    fn flat_pictures_have_the_standards_values(
        #[case] chroma: Chroma,
        #[case] depth: u8,
        #[case] values: [u16; 4],
        #[case] colour: Colour,
        #[case] want: [i32; 3],
    ) {
        let out = Converter::new(Pool::new()).convert(&flat(chroma, depth, values, colour)).unwrap();
        assert!(Wanted::PLAIN.is(&out) || out.colour.full_range == colour.full_range);
        for (i, w) in want.into_iter().enumerate() {
            for p in [(0, 0), (out.planes[i].width - 1, out.planes[i].height - 1)] {
                let got = i32::from(out.planes[i].at(p.0, p.1));
                assert!((got - w).abs() <= 1, "plane {i} at {p:?}: {got}, not {w}");
            }
        }
        assert!(!out.colour.full_range);
    }

    #[test]
    fn chroma_is_the_mean_of_what_it_stands_for() {
        let mut f = flat(Chroma::C444, 8, [16, 100, 128, 0], HD);
        f.planes[1].put(1, 1, 140);
        let out = Converter::new(Pool::new()).convert(&f).unwrap();
        assert_eq!(out.planes[1].at(0, 0), 110);
    }

    /// Every form becomes every other, and flat colours stay what they are.
    #[rstest]
    fn any_form_becomes_what_is_wanted(
        #[values(Chroma::Gray, Chroma::C420, Chroma::C422, Chroma::C444, Chroma::Rgb, Chroma::Rgba)]
        chroma: Chroma,
        #[values(8, 10, 16)] depth: u8,
        #[values(Wanted::PLAIN, Wanted::JPEG, Wanted::TEN_BITS)] wanted: Wanted,
    ) {
        use super::super::frame::values_of;
        let rgb = if chroma == Chroma::Gray { [120; 3] } else { [200, 90, 40] };
        let f = flat(chroma, depth, values_of(rgb, chroma, HD, depth), HD);
        let out = Converter::to(wanted, Pool::new()).convert(&f).unwrap();
        assert!(wanted.is(&out));
        let want = values_of(rgb, wanted.chroma, out.colour, wanted.depth);
        for (i, p) in out.planes.iter().enumerate() {
            let all = (0..p.height).flat_map(|y| (0..p.width).map(move |x| (x, y)));
            let near = 1i32 << (wanted.depth - 8);
            for (x, y) in all {
                let (got, want) = (i32::from(p.at(x, y)), i32::from(want[i]));
                assert!((got - want).abs() <= near, "plane {i}: {got}, not {want}");
            }
        }
    }
}
