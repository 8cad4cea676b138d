//! The samples of one slice: variable-length codes (RDD 36, 7.1), weights (7.3), and the transform (7.4).

use super::header::{Frame, Slice, bad};
use crate::bits::be16;
use crate::error::Result;
use crate::frame::Chroma;

/// A code of RDD 36, 7.1.1.1: Golomb-Rice up to as many zeros, exponential behind.
#[derive(Clone, Copy)]
struct Code {
    most: u32,
    rice: u32,
    exponent: u32,
}

const fn code(most: u32, rice: u32, exponent: u32) -> Code {
    Code { most, rice, exponent }
}

const FIRST_DC: Code = code(0, 5, 6);
/// By the difference before (Table 9).
const DC: [Code; 7] =
    [code(0, 0, 1), code(0, 1, 2), code(0, 1, 2), code(1, 2, 3), code(1, 2, 3), code(0, 3, 4), code(0, 3, 4)];
/// By the run before (Table 10).
const RUN: [Code; 16] = {
    let (a, b, c, d) = (code(2, 0, 1), code(1, 0, 1), code(1, 1, 2), code(0, 1, 2));
    [a, a, b, b, code(0, 0, 1), c, c, c, c, d, d, d, d, d, d, code(0, 2, 3)]
};
/// By the level before (Table 11).
const LEVEL: [Code; 10] = {
    let d = code(0, 1, 2);
    [code(0, 0, 1), code(2, 0, 2), code(1, 0, 1), code(2, 0, 1), code(0, 0, 1), d, d, d, d, code(0, 2, 3)]
};

/// Order of coefficients, of whole pictures and of fields (Figures 4 and 5).
#[rustfmt::skip]
const SCAN: [[u8; 64]; 2] = [
    [
        0, 1, 8, 9, 2, 3, 10, 11, 16, 17, 24, 25, 18, 19, 26, 27,
        4, 5, 12, 20, 13, 6, 7, 14, 21, 28, 29, 22, 15, 23, 30, 31,
        32, 33, 40, 48, 41, 34, 35, 42, 49, 56, 57, 50, 43, 36, 37, 44,
        51, 58, 59, 52, 45, 38, 39, 46, 53, 60, 61, 54, 47, 55, 62, 63,
    ],
    [
        0, 8, 1, 9, 16, 24, 17, 25, 2, 10, 3, 11, 18, 26, 19, 27,
        32, 40, 33, 34, 41, 48, 56, 49, 42, 35, 43, 50, 57, 58, 51, 59,
        4, 12, 5, 6, 13, 20, 28, 21, 14, 7, 15, 22, 29, 36, 44, 37,
        30, 23, 31, 38, 45, 52, 60, 53, 46, 39, 47, 54, 61, 62, 55, 63,
    ],
];

/// Bits of a slice; zeros behind its end.
struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl Reader<'_> {
    fn left(&self) -> usize {
        (self.bytes.len() * 8).saturating_sub(self.at)
    }

    /// The next 32 bits.
    fn peek(&self) -> u32 {
        let from = self.bytes.get(self.at / 8..).unwrap_or_default();
        let eight = match from.first_chunk::<8>() {
            Some(eight) => u64::from_be_bytes(*eight),
            None => from.iter().enumerate().fold(0, |v, (i, b)| v | u64::from(*b) << (56 - 8 * i)),
        };
        (eight << (self.at % 8) >> 32) as u32
    }

    fn take(&mut self, n: u32) -> u32 {
        let v = if n == 0 { 0 } else { self.peek() >> (32 - n) };
        self.at += n as usize;
        v
    }

    fn number(&mut self, code: Code) -> Option<u32> {
        let next = self.peek();
        let zeros = next.leading_zeros();
        if zeros > code.most {
            let bits = code.exponent + 2 * zeros - code.most;
            if bits > 31 || bits as usize > self.left() {
                return None;
            }
            Some(self.take(bits) + ((code.most + 1) << code.rice) - (1 << code.exponent))
        } else {
            self.at += zeros as usize + 1;
            Some((zeros << code.rice) + self.take(code.rice))
        }
    }

    /// Nothing but zeros follows.
    fn is_over(&self) -> bool {
        let left = self.left();
        left == 0 || left < 32 && self.peek() == 0
    }
}

pub type Block = [f32; 64];
/// Eight macroblocks of four blocks.
const MOST_BLOCKS: usize = 32;

/// Coefficients of all blocks of a component of a slice, each at its place with columns first.
fn coefficients(bytes: &[u8], blocks: &mut [Block], scan: &[u8; 64], weights: &[f32; 64]) -> Option<()> {
    let r = &mut Reader { bytes, at: 0 };
    let signed = |v: u32| (v >> 1) as i32 ^ -((v & 1) as i32);
    let mut dc = 0i32;
    let mut before = 0;
    let mut negative = false;
    for (n, block) in blocks.iter_mut().enumerate() {
        if n == 0 {
            before = r.number(FIRST_DC)?;
            dc = signed(before);
            before = 5;
        } else {
            let v = r.number(DC[before.min(6) as usize])?;
            // The sign of a difference is told against that of the one before.
            negative = v != 0 && negative != (v & 1 == 1);
            let step = v.div_ceil(2) as i32;
            dc = dc.wrapping_add(if negative { -step } else { step });
            before = v;
        }
        block[0] = dc as f32 * weights[0];
    }
    let many = blocks.len();
    let (mask, shift) = (many - 1, many.trailing_zeros());
    let (mut at, mut run, mut level) = (mask, 4, 2);
    while !r.is_over() {
        run = r.number(RUN[run.min(15) as usize])?;
        at += run as usize + 1;
        let place = usize::from(*scan.get(at >> shift)?);
        level = r.number(LEVEL[level.min(9) as usize])? + 1;
        let sign = r.take(1);
        let v = level as f32 * weights[place];
        blocks[at & mask][place % 8 * 8 + place / 8] = if sign == 1 { -v } else { v };
    }
    Some(())
}

/// One direction of the inverse transform (7.4), for eight lines at once; the half that belongs to it stands in the weights.
#[inline(always)]
fn lines(x: &[[f32; 8]; 8]) -> [[f32; 8]; 8] {
    use std::f32::consts::FRAC_1_SQRT_2 as C4;
    const C1: f32 = 0.980_785_25;
    const C2: f32 = 0.923_879_5;
    const C3: f32 = 0.831_469_6;
    const C5: f32 = 0.555_570_24;
    const C6: f32 = 0.382_683_43;
    const C7: f32 = 0.195_090_32;
    let mut out = [[0.0; 8]; 8];
    for i in 0..8 {
        let at = |k: usize| x[k][i];
        let (p0, p1) = ((at(0) + at(4)) * C4, (at(0) - at(4)) * C4);
        let (p2, p3) = (at(2) * C2 + at(6) * C6, at(2) * C6 - at(6) * C2);
        let even = [p0 + p2, p1 + p3, p1 - p3, p0 - p2];
        let odd = [
            at(1) * C1 + at(3) * C3 + at(5) * C5 + at(7) * C7,
            at(1) * C3 - at(3) * C7 - at(5) * C1 - at(7) * C5,
            at(1) * C5 - at(3) * C1 + at(5) * C7 + at(7) * C3,
            at(1) * C7 - at(3) * C5 + at(5) * C3 - at(7) * C1,
        ];
        for k in 0..4 {
            out[k][i] = even[k] + odd[k];
            out[7 - k][i] = even[k] - odd[k];
        }
    }
    out
}

/// Samples of a block of coefficients that lie with columns first.
fn transform(block: &Block, depth: u8) -> [[u16; 8]; 8] {
    let rows: [[f32; 8]; 8] = std::array::from_fn(|u| std::array::from_fn(|v| block[u * 8 + v]));
    let across = lines(&rows);
    let turned: [[f32; 8]; 8] = std::array::from_fn(|v| std::array::from_fn(|x| across[x][v]));
    let down = lines(&turned);
    let (middle, most) = ((1u32 << (depth - 1)) as f32 + 0.5, ((1u32 << depth) - 1) as f32);
    // The lowest value is added to before it is cut, so that cutting rounds down.
    down.map(|row| row.map(|v| (v + middle).clamp(0.0, most) as u16))
}

/// Weights of a slice: of the frame's table and its own step, and what the transform leaves over.
fn weights(table: &[u8; 64], step: u8, depth: u8) -> [f32; 64] {
    let step = if step > 128 { 128 + (u32::from(step) - 128) * 4 } else { u32::from(step) };
    let scale = step as f32 / 8.0 / 4.0 * f32::from(1u16 << (depth - 9));
    table.map(|w| f32::from(w) * scale)
}

/// Where the samples of a slice go: the rows of its macroblocks in each plane.
pub trait Put {
    /// Eight rows of eight samples of a component, from this place in the row of macroblocks on.
    fn block(&mut self, component: usize, x: usize, y: usize, samples: &[[u16; 8]; 8]);
    fn coverage(&mut self, x: usize, y: usize, samples: &[u16]);
}

pub fn decode(frame: &Frame, depth: u8, slice: &Slice<'_>, to: &mut impl Put) -> Result<()> {
    let bytes = slice.bytes;
    let cut = || bad("a slice is cut short");
    let head = usize::from(bytes.first().ok_or_else(cut)? >> 3);
    let step = *bytes.get(1).ok_or_else(cut)?;
    if head < 6 || step == 0 || step > 224 {
        return Err(bad("a slice's header makes no sense"));
    }
    let size = |at: usize| be16(bytes, at).map(usize::from).ok_or_else(cut);
    let (luma, blue) = (size(2)?, size(4)?);
    let rest = bytes.get(head..).ok_or_else(cut)?;
    let (luma, rest) = rest.split_at_checked(luma).ok_or_else(cut)?;
    let (blue, rest) = rest.split_at_checked(blue).ok_or_else(cut)?;
    let (red, covered) = match head {
        0..8 => (rest, &[][..]),
        _ => rest.split_at_checked(size(6)?).ok_or_else(cut)?,
    };
    let scan = &SCAN[usize::from(frame.pictures() == 2)];
    let mut blocks = [[0.0; 64]; MOST_BLOCKS];
    for (component, bytes) in [luma, blue, red].into_iter().enumerate() {
        let is_luma = component == 0;
        let narrow = !is_luma && frame.chroma == Chroma::C422;
        let each = if narrow { 2 } else { 4 };
        let blocks = &mut blocks[..slice.count * each];
        blocks.fill([0.0; 64]);
        let weights = weights(&frame.weights[usize::from(!is_luma)], step, depth);
        coefficients(bytes, blocks, scan, &weights)
            .ok_or_else(|| bad("a slice has codes that there are none of"))?;
        let wide = if narrow { 8 } else { 16 };
        for (n, block) in blocks.iter().enumerate() {
            // Luma goes row by row in a macroblock, chroma column by column: so it is in the streams that are in use.
            let k = n % each;
            let (across, down) = if is_luma { (k % 2, k / 2) } else { (k / 2, k % 2) };
            let x = (slice.first + n / each) * wide + across * 8;
            to.block(component, x, down * 8, &transform(block, depth));
        }
    }
    if let Some(bits) = frame.coverage {
        let wide = slice.count * 16;
        let samples =
            coverage(covered, bits, wide * 16).ok_or_else(|| bad("a slice's coverage is spoilt"))?;
        samples.chunks_exact(wide).enumerate().for_each(|(y, row)| to.coverage(slice.first * 16, y, row));
    }
    Ok(())
}

/// Coverage of a slice: differences and runs (7.1.2).
fn coverage(bytes: &[u8], bits: u32, many: usize) -> Option<Vec<u16>> {
    let r = &mut Reader { bytes, at: 0 };
    let mask = (1u32 << bits) - 1;
    let mut out = Vec::with_capacity(many);
    let mut value = mask;
    while out.len() < many {
        if r.left() == 0 {
            return None;
        }
        let step = if r.take(1) == 1 {
            r.take(bits)
        } else {
            let v = r.take(if bits == 16 { 7 } else { 4 });
            let size = (v + 2) >> 1;
            if v & 1 == 1 { size.wrapping_neg() } else { size }
        };
        value = value.wrapping_add(step) & mask;
        out.push(value as u16);
        if out.len() < many && r.take(1) == 0 {
            let run = match r.take(4) {
                0 => r.take(11),
                n => n,
            };
            let end = (out.len() + run as usize).min(many);
            out.resize(end, value as u16);
        }
    }
    Some(out)
}
