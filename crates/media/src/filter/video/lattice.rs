//! A change of colours as a table on a picture's own planes, for pictures of luma and two colour differences.
//!
//! All luma samples that share their colour differences lie in one column of the table, between four of its lines: how much
//! each line counts stands in a table of its own, together with how far luma is between two of its steps, and a sample is
//! eight products. The colour differences of the new picture are those at the mean of that luma; both lie beside each other, so
//! that they are found once.

use super::wide::{self, End, Machine, Work};
use crate::frame::{Plane, Samples};

/// Cells in the direction of each colour difference, in powers of two, and steps in that of luma.
const CELLS: u32 = 6;
const SIDE: usize = 1 << CELLS;
const STEPS: usize = 256;
/// Bits of a value, of a weight, and at most of how far luma is into its step.
const BITS: u32 = 14;
const WEIGHT: u32 = 14;
const PARTS: u32 = 4;

/// At one place of the colour differences, for each step of luma, what luma and both differences become.
type Point = [[i16; 3]; STEPS + 1];
/// For each step of luma, what it becomes on the four lines about a cell.
type Column = [[i16; 4]; STEPS + 1];
/// The same of the first colour difference, and of the second.
type Differences = [[i16; 8]; STEPS + 1];

struct Cell {
    luma: Column,
    differences: Differences,
}
/// What becomes of coded values.
pub type Changing = Box<dyn Fn([f32; 3]) -> [f32; 3] + Send>;

/// Drawn up as far as pictures need it: most have few of all colours.
pub struct Lattice {
    depth: u32,
    change: Changing,
    points: Vec<Option<Box<Point>>>,
    /// Which of the drawn ones each cell is, for all that a number of 16 bits tells apart.
    cells: Vec<u16>,
    /// One behind the other, which is easier for the processor's tables of pages.
    drawn: Vec<Cell>,
    /// How much each of the four lines about a cell counts, at this step of luma and at the next one: for each place of the
    /// colour differences in their cell, and for each part of a step.
    weights: Vec<i16>,
    spots: Spots,
}

/// A cell that is not drawn.
const NONE: u16 = u16::MAX;

/// Where the samples of a row are, which is found for all of them before they are looked up.
#[derive(Default)]
struct Spots {
    /// For each colour difference its cell, then which of the drawn ones it is, and where its weights begin.
    cells: Vec<u16>,
    places: Vec<u16>,
    lines: [Lumas; 2],
    means: Lumas,
    /// Of the lumas that share a colour difference.
    sums: Vec<u16>,
}

/// For each luma its step (8 bits), and in the upper 16 which weights are its.
#[derive(Default)]
struct Lumas(Vec<u32>);

/// All weights that a number of 16 bits tells apart, eight numbers each, and eight more: none has to be asked whether it is
/// there.
const WEIGHTS: usize = (1 << (16 + 3)) + 8;

impl Lattice {
    /// Most bits of a sample.
    pub const DEEPEST: u8 = 8 + PARTS as u8;

    pub fn new(depth: u8, change: Changing) -> Lattice {
        let depth = u32::from(depth);
        Lattice {
            depth,
            change,
            points: std::iter::repeat_with(|| None).take((SIDE + 1) * (SIDE + 1)).collect(),
            cells: vec![NONE; 1 << 16],
            drawn: Vec::new(),
            weights: weights(depth),
            spots: Spots::default(),
        }
    }

    /// Which of the drawn cells these are.
    #[cold]
    #[inline(never)]
    fn draw(&mut self, four: [u16; 4]) -> [u16; 4] {
        let Lattice { depth, change, points, cells, drawn, .. } = self;
        four.map(|cell| {
            let at = &mut cells[usize::from(cell)];
            if *at == NONE {
                // There are fewer cells than numbers.
                *at = drawn.len() as u16;
                drawn.push(columns(*depth, change, points, cell.into()));
            }
            *at
        })
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
    pub fn at(&mut self, pixel: [u32; 3]) -> [i32; 3] {
        let pixel = pixel.map(|v| [v as u16]);
        let mut to = [[0u16]; 3];
        let strides = [1; 3];
        wide::run(Shared::<_, 1, 1>(Job {
            table: self,
            from: pixel.each_ref().map(|v| v.as_slice()),
            from_strides: strides,
            to: to.each_mut().map(|v| v.as_mut_slice()),
            to_strides: strides,
            size: (1, 1),
        }));
        to.map(|[v]| v.into())
    }
}

/// What is drawn up for a cell.
fn columns(depth: u32, change: &Changing, points: &mut [Option<Box<Point>>], cell: usize) -> Cell {
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
    let value = |n: usize, y: usize, line: usize| four[line][y][n];
    Cell {
        luma: std::array::from_fn(|y| std::array::from_fn(|line| value(0, y, line))),
        differences: std::array::from_fn(|y| std::array::from_fn(|n| value(1 + n / 4, y, n % 4))),
    }
}

/// For each place in a cell and each part of a step.
fn weights(depth: u32) -> Vec<i16> {
    let (bits, extra) = (depth - CELLS, depth - 8);
    let one = 1i32 << (WEIGHT / 2);
    let mut all = vec![0; WEIGHTS];
    for (n, to) in all.as_chunks_mut::<8>().0.iter_mut().enumerate().take(1 << (2 * bits + extra)) {
        let n = n as i32;
        let (part, b, r) = (n & ((1 << extra) - 1), n >> extra & ((1 << bits) - 1), n >> (extra + bits));
        let (b, r) = ((b << (WEIGHT / 2)) >> bits, (r << (WEIGHT / 2)) >> bits);
        let four = [(one - b) * (one - r), b * (one - r), (one - b) * r, b * r];
        for (k, four) in four.into_iter().enumerate() {
            let second = (four * part + ((1 << extra) >> 1)) >> extra;
            (to[k], to[k + 4]) = ((four - second) as i16, second as i16);
        }
    }
    all
}

trait Sample: Copy + Default + Into<u16> {
    fn of(v: u16) -> Self;
}
impl Sample for u8 {
    #[inline(always)]
    fn of(v: u16) -> u8 {
        v as u8
    }
}
impl Sample for u16 {
    #[inline(always)]
    fn of(v: u16) -> u16 {
        v
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
    fn work(self, machine: impl Machine) {
        let Job { table, from, from_strides, to: [luma, blue, red], to_strides, size: (w, h) } = self.0;
        let wide = w.div_ceil(ACROSS);
        let (depth, blocks) = (table.depth, 8 / ACROSS);
        let end = End { bits: 2 * BITS - depth, most: (1 << depth) - 1 };
        let mut spots = std::mem::take(&mut table.spots);
        let mut below = vec![T::default(); w];
        let rows = luma.chunks_mut(to_strides[0] * DOWN).zip(blue.chunks_mut(to_strides[1]));
        let rows = rows.zip(red.chunks_mut(to_strides[2])).take(h.div_ceil(DOWN));
        for (row, ((to, to_b), to_r)) in rows.enumerate() {
            let first = row * DOWN;
            let b = &from[1][row * from_strides[1]..][..wide];
            let r = &from[2][row * from_strides[2]..][..wide];
            // What is below the picture is its last row once more, and goes nowhere.
            let lines: [&[T]; DOWN] =
                std::array::from_fn(|n| &from[0][(first + n).min(h - 1) * from_strides[0]..][..w]);
            let mut to = to.chunks_mut(to_strides[0]).take(h - first).chain(std::iter::once(&mut below[..]));
            let mut to: [_; DOWN] =
                std::array::from_fn(|_| to.next().unwrap_or_default()[..w].as_chunks_mut::<8>());
            let (mut to_b, mut to_r) = (to_b[..wide].as_chunks_mut(), to_r[..wide].as_chunks_mut());
            spots.find::<T, ACROSS, DOWN>(depth, lines, b, r);
            for four in spots.cells.as_chunks_mut::<4>().0 {
                let Some(cells) = table.cells.first_chunk::<{ 1 << 16 }>() else { return };
                let mut of = four.map(|cell| cells[usize::from(cell)]);
                if of.contains(&NONE) {
                    of = table.draw(*four);
                }
                *four = of;
            }
            let drawn = table.drawn.as_slice();
            let Some(weights) = table.weights.first_chunk() else { return };
            let lines: [_; DOWN] = std::array::from_fn(|n| spots.lines[n].0.as_chunks::<8>().0);
            let means = spots.means.0.as_chunks::<4>().0;
            for (x, cells) in spots.cells.chunks_exact(blocks).enumerate() {
                let of: [&Cell; 8] = std::array::from_fn(|n| &drawn[usize::from(cells[n % blocks])]);
                for n in 0..DOWN {
                    let columns = std::array::from_fn(|n| &of[n / ACROSS].luma);
                    let values = lumas(machine, columns, weights, lines[n][x], end);
                    write(&mut to[n], x, values);
                }
                for four in 0..blocks / 4 {
                    let columns = std::array::from_fn(|n| &of[four * 4 + n].differences);
                    let x = x * blocks / 4 + four;
                    let values = differences(machine, columns, weights, means[x], end);
                    write(&mut to_b, x, std::array::from_fn::<_, 4, _>(|n| values[n]));
                    write(&mut to_r, x, std::array::from_fn::<_, 4, _>(|n| values[n + 4]));
                }
            }
        }
        table.spots = spots;
    }
}

/// What eight lumas become, each in a column.
#[inline(always)]
fn lumas(
    machine: impl Machine,
    columns: [&Column; 8],
    weights: &[i16; WEIGHTS],
    at: [u32; 8],
    end: End,
) -> [u16; 8] {
    // This step and the next one. All of them are there.
    let step = |n: usize| columns[n].as_flattened()[(at[n] & 0xff) as usize * 4..].first_chunk();
    let weights = |n: usize| weights[(at[n] >> 13) as usize..].first_chunk();
    let steps = std::array::from_fn(|n| step(n).unwrap_or(&[0; 8]));
    machine.mixed(steps, std::array::from_fn(|n| weights(n).unwrap_or(&[0; 8])), end)
}

/// Both colour differences at four lumas: four of the one, then four of the other.
#[inline(always)]
fn differences(
    machine: impl Machine,
    columns: [&Differences; 4],
    weights: &[i16; WEIGHTS],
    at: [u32; 4],
    end: End,
) -> [u16; 8] {
    let step = |n: usize| columns[n].as_flattened()[(at[n] & 0xff) as usize * 8..].first_chunk();
    let weights = |n: usize| weights[(at[n] >> 13) as usize..].first_chunk();
    let steps = std::array::from_fn(|n| step(n).unwrap_or(&[0; 16]));
    machine.mixed_pairs(steps, std::array::from_fn(|n| weights(n).unwrap_or(&[0; 8])), end)
}

impl Spots {
    #[inline(always)]
    fn find<T: Sample, const ACROSS: usize, const DOWN: usize>(
        &mut self,
        depth: u32,
        lines: [&[T]; DOWN],
        b: &[T],
        r: &[T],
    ) {
        let (bits, most, extra) = (depth - CELLS, SIDE as u16 - 1, depth - 8);
        let (mask, top) = ((1 << bits) - 1, ((1u32 << depth) - 1) as u16);
        let padded = lines[0].len().div_ceil(8) * 8 / ACROSS;
        self.cells.resize(padded, 0);
        self.places.resize(padded, 0);
        let differences = b.iter().zip(r);
        for ((cell, place), (b, r)) in self.cells.iter_mut().zip(&mut self.places).zip(differences) {
            let (b, r): (u16, u16) = ((*b).into(), (*r).into());
            *cell = ((r >> bits).min(most) << CELLS) | (b >> bits).min(most);
            *place = (((r & mask) << bits) | (b & mask)) << extra;
        }
        // What is beside the picture is looked up where its last sample is.
        let last = self.cells[b.len() - 1];
        self.cells[b.len()..].fill(last);
        self.sums.clear();
        self.sums.resize(b.len(), 0);
        for (to, line) in self.lines.iter_mut().zip(lines) {
            to.find(extra, line, &self.places, ACROSS);
            let whole = line.chunks_exact(ACROSS);
            // One that is alone stands for both.
            if let ([v], Some(sum)) = (whole.remainder(), self.sums.last_mut()) {
                *sum += ((*v).into() & top) * ACROSS as u16;
            }
            for (sum, beside) in self.sums.iter_mut().zip(whole) {
                *sum += beside.iter().map(|v| (*v).into() & top).sum::<u16>();
            }
        }
        let count = (ACROSS * DOWN) as u16;
        for sum in &mut self.sums {
            *sum = (*sum + count / 2) / count;
        }
        self.means.find(extra, &self.sums, &self.places, 1);
    }
}

impl Lumas {
    #[inline(always)]
    fn find<T: Sample>(&mut self, extra: u32, from: &[T], places: &[u16], across: usize) {
        let part = (1 << extra) - 1;
        let spot = |y: u16, place: u16| {
            let step = (y >> extra).min(STEPS as u16 - 1);
            (u32::from(place | (y & part)) << 16) | u32::from(step)
        };
        self.0.resize(from.len().next_multiple_of(8), 0);
        let whole = from.chunks_exact(across);
        if let ([v], Some(place)) = (whole.remainder(), places.get(from.len() / across)) {
            self.0[from.len() - 1] = spot((*v).into(), *place);
        }
        for ((to, from), place) in self.0.chunks_exact_mut(across).zip(whole).zip(places) {
            to.iter_mut().zip(from).for_each(|(to, y)| *to = spot((*y).into(), *place));
        }
    }
}

/// As many as there is room for.
#[inline(always)]
fn write<T: Sample, const N: usize>((whole, rest): &mut (&mut [[T; N]], &mut [T]), at: usize, new: [u16; N]) {
    let count = whole.len();
    match whole.get_mut(at) {
        Some(to) => *to = std::array::from_fn(|n| T::of(new[n])),
        None if at == count => write_some(rest, &new),
        None => (),
    }
}

#[cold]
#[inline(never)]
fn write_some<T: Sample>(to: &mut [T], new: &[u16]) {
    to.iter_mut().zip(new).for_each(|(to, new)| *to = T::of(*new));
}
