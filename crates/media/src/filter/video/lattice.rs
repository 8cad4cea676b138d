//! A change of colours as a table on a picture's own planes, for pictures of luma and two colour differences.
//!
//! All luma samples that share their colour differences lie in one column of the table, between four of its lines: how much
//! each line counts is found once for all of them, and a sample is four products. The colour differences of the new picture
//! are those at the mean of that luma.

use super::wide::{self, Machine, Work};
use crate::frame::{Plane, Samples};

/// Cells in the direction of each colour difference, in powers of two, and steps in that of luma.
const CELLS: u32 = 6;
const SIDE: usize = 1 << CELLS;
const STEPS: usize = 256;
/// Bits of a value, and of how far a colour difference is into its cell.
const BITS: u32 = 14;
const PART: u32 = 7;

/// At one place of the colour differences, for each step of luma, what luma and both differences become.
type Point = [[i16; 3]; STEPS + 1];
/// For each step of luma, one value on the four lines about a cell.
type Column = [[i16; 4]; STEPS + 1];
/// What becomes of coded values.
pub type Changing = Box<dyn Fn([f32; 3]) -> [f32; 3] + Send>;

/// Drawn up as far as pictures need it: most have few of all colours.
pub struct Lattice {
    depth: u32,
    change: Changing,
    points: Vec<Option<Box<Point>>>,
    /// For luma and each colour difference.
    cells: Vec<Option<Box<[Column; 3]>>>,
}

impl Lattice {
    /// Most bits of a sample.
    pub const DEEPEST: u8 = 12;

    pub fn new(depth: u8, change: Changing) -> Lattice {
        let points = std::iter::repeat_with(|| None).take((SIDE + 1) * (SIDE + 1)).collect();
        let cells = std::iter::repeat_with(|| None).take(SIDE * SIDE).collect();
        Lattice { depth: depth.into(), change, points, cells }
    }

    #[inline(always)]
    fn columns(&mut self, cell: usize) -> &[Column; 3] {
        let Lattice { depth, change, points, cells } = self;
        cells[cell].get_or_insert_with(|| columns(*depth, change, points, cell))
    }

    /// `shared`: luma samples that have one colour difference, across and down. False where the planes are of another form.
    pub fn run(
        &mut self,
        from: &[Plane],
        to: &mut [Plane],
        size: (usize, usize),
        shared: (usize, usize),
    ) -> bool {
        let ([fy, fb, fr, ..], [ty, tb, tr, ..]) = (from, to) else { return false };
        let from_strides = [fy.stride, fb.stride, fr.stride];
        let to_strides = [ty.stride, tb.stride, tr.stride];
        macro_rules! run {
            ($($samples:ident)*) => {
                match ([&fy.samples, &fb.samples, &fr.samples], (&mut ty.samples, &mut tb.samples, &mut tr.samples)) {
                    $(([Samples::$samples(y), Samples::$samples(b), Samples::$samples(r)],
                       (Samples::$samples(ty), Samples::$samples(tb), Samples::$samples(tr))) => {
                        let job = Job {
                            table: self,
                            from: [y, b, r],
                            from_strides,
                            to: [ty, tb, tr],
                            to_strides,
                            size,
                        };
                        match shared {
                            (2, 2) => wide::run(Shared::<_, 2, 2>(job)),
                            (2, 1) => wide::run(Shared::<_, 2, 1>(job)),
                            (1, 1) => wide::run(Shared::<_, 1, 1>(job)),
                            _ => return false,
                        }
                    })*
                    _ => return false,
                }
            };
        }
        run!(U8 U16);
        true
    }

    /// The same without a table.
    pub fn exact(&self, coded: [f32; 3]) -> [f32; 3] {
        (self.change)(coded)
    }

    /// What becomes of one pixel's values.
    pub fn at(&mut self, [y, b, r]: [u32; 3]) -> [i32; 3] {
        let (depth, (cell, weights)) = (self.depth, cell(self.depth, b, r));
        self.columns(cell).each_ref().map(|column| value(depth, column, &weights, y))
    }
}

/// What is drawn up for a cell.
#[cold]
#[inline(never)]
fn columns(
    depth: u32,
    change: &Changing,
    points: &mut [Option<Box<Point>>],
    cell: usize,
) -> Box<[Column; 3]> {
    let top = ((1u32 << depth) - 1) as f32;
    let scale = (1u32 << (BITS - depth)) as f32;
    let step = |n: usize, steps: usize| (n as f32 * ((1u32 << depth) as f32 / steps as f32)).min(top);
    let mut point = |b: usize, r: usize| -> Box<Point> {
        let draw = || -> Box<Point> {
            let at = |y| change([step(y, STEPS), step(b, SIDE), step(r, SIDE)]);
            // What goes over is cut off behind the table, so that it is cut off at the right place.
            let part = |v: f32| (v.clamp(-0.9 * top, 1.9 * top) * scale).round() as i16;
            Box::new(std::array::from_fn(|y| at(y).map(part)))
        };
        points[r * (SIDE + 1) + b].get_or_insert_with(draw).clone()
    };
    let (b, r) = (cell % SIDE, cell / SIDE);
    let four = [point(b, r), point(b + 1, r), point(b, r + 1), point(b + 1, r + 1)];
    Box::new(std::array::from_fn(|n| std::array::from_fn(|y| four.each_ref().map(|p| p[y][n]))))
}

/// Where colour differences lie: in which cell, and how much each of the four lines about it counts.
#[inline(always)]
fn cell(depth: u32, b: u32, r: u32) -> (usize, [i16; 4]) {
    let bits = depth - CELLS;
    let most = SIDE as u32 - 1;
    let mask = (1 << bits) - 1;
    let part = |v: u32| (((v & mask) << PART) >> bits) as i32;
    let (pb, pr) = (part(b), part(r));
    let (qb, qr) = ((1 << PART) - pb, (1 << PART) - pr);
    let cell = ((r >> bits).min(most) * SIDE as u32 + (b >> bits).min(most)) as usize;
    (cell, [qb * qr, pb * qr, qb * pr, pb * pr].map(|w| w as i16))
}

/// A value at a luma.
#[inline(always)]
fn value(depth: u32, column: &Column, weights: &[i16; 4], y: u32) -> i32 {
    let extra = depth - 8;
    let k = ((y >> extra) as usize).min(STEPS - 1);
    let dot = |v: &[i16; 4]| -> i32 { (0..4).map(|n| i32::from(v[n]) * i32::from(weights[n])).sum() };
    let shift = 2 * BITS - depth;
    let (half, top) = (1 << (shift - 1), (1 << depth) - 1);
    if extra == 0 {
        return ((dot(&column[k]) + half) >> shift).clamp(0, top);
    }
    let (low, high) = (dot(&column[k]) >> extra, dot(&column[k + 1]) >> extra);
    let part = (y & ((1 << extra) - 1)) as i32;
    ((low * ((1 << extra) - part) + high * part + half) >> shift).clamp(0, top)
}

trait Sample: Copy {
    fn get(self) -> u32;
    fn of(v: i32) -> Self;
}
impl Sample for u8 {
    #[inline(always)]
    fn get(self) -> u32 {
        self.into()
    }
    #[inline(always)]
    fn of(v: i32) -> u8 {
        v as u8
    }
}
impl Sample for u16 {
    #[inline(always)]
    fn get(self) -> u32 {
        self.into()
    }
    #[inline(always)]
    fn of(v: i32) -> u16 {
        v as u16
    }
}

struct Job<'a, T> {
    table: &'a mut Lattice,
    from: [&'a [T]; 3],
    from_strides: [usize; 3],
    to: [&'a mut [T]; 3],
    to_strides: [usize; 3],
    size: (usize, usize),
}

/// Luma samples of one colour difference, across and down.
struct Shared<'a, T, const ACROSS: usize, const DOWN: usize>(Job<'a, T>);

impl<T: Sample, const ACROSS: usize, const DOWN: usize> Work for Shared<'_, T, ACROSS, DOWN> {
    #[inline(always)]
    fn work(self, _: impl Machine) {
        let Job { table, from, from_strides, to: [luma, blue, red], to_strides, size: (w, h) } = self.0;
        let wide = w.div_ceil(ACROSS);
        let depth = table.depth;
        for row in 0..h.div_ceil(DOWN) {
            let first = row * DOWN;
            let rows = DOWN.min(h - first);
            let b = &from[1][row * from_strides[1]..][..wide];
            let r = &from[2][row * from_strides[2]..][..wide];
            let to_b = &mut blue[row * to_strides[1]..][..wide];
            let to_r = &mut red[row * to_strides[2]..][..wide];
            // A row above its end is the last one once more, and is not written.
            let lines: [&[T]; DOWN] =
                std::array::from_fn(|n| &from[0][(first + n.min(rows - 1)) * from_strides[0]..][..w]);
            for x in 0..wide {
                let (cell, weights) = cell(depth, b[x].get(), r[x].get());
                let [column, to_blue, to_red] = table.columns(cell);
                let at = x * ACROSS;
                let across = ACROSS.min(w - at);
                let (mut sum, mut count) = (0, 0);
                for (n, line) in lines.iter().enumerate().take(rows) {
                    let to = &mut luma[(first + n) * to_strides[0] + at..][..across];
                    for (to, v) in to.iter_mut().zip(&line[at..at + across]) {
                        let v = v.get();
                        sum += v;
                        count += 1;
                        *to = T::of(value(depth, column, &weights, v));
                    }
                }
                let mean = match count {
                    4 => (sum + 2) >> 2,
                    2 => (sum + 1) >> 1,
                    _ => sum / count,
                };
                to_b[x] = T::of(value(depth, to_blue, &weights, mean));
                to_r[x] = T::of(value(depth, to_red, &weights, mean));
            }
        }
    }
}
