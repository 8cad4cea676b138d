//! Slices: rows of macroblocks (ISO/IEC 13818-2, 6.2.4 to 6.2.6 and 7.6).

use super::blocks::{self, Scaling};
use super::header::{ALTERNATE, Kind, Matrices, Picture, Sequence, Structure, ZIGZAG};
use super::motion::{ALL, Planes, Rows, Take, take};
use super::vlc::{BACKWARD, CODES, FORWARD, INTRA, PATTERN, QUANT, Reader};
use crate::frame::Chroma;

/// Steps of the quantiser by their code, where they grow faster than it (table 7-6).
const STEEP: [i32; 32] = [
    0, 1, 2, 3, 4, 5, 6, 7, 8, 10, 12, 14, 16, 18, 20, 22, 24, 28, 32, 36, 40, 44, 48, 52, 56, 64, 72, 80,
    88, 96, 104, 112,
];

/// How a macroblock is predicted.
#[derive(Clone, Copy, PartialEq)]
enum Motion {
    Frame,
    Field,
    /// Two halves of a macroblock of a field.
    Halves,
    /// From both fields, by one vector and a small difference.
    Dual,
}

/// Vectors of one way.
#[derive(Clone, Copy, Default)]
struct Vectors {
    each: [[i32; 2]; 2],
    lower: [bool; 2],
    small: [i32; 2],
}

/// Pictures that another one stands on.
pub struct References<'a> {
    /// Before and behind, in the order of showing.
    pub ways: [Option<&'a Planes>; 2],
    /// The field of the same frame that came before, and whether it is the lower one.
    pub first: Option<(&'a Planes, bool)>,
}

pub struct Slices<'a> {
    pub sequence: &'a Sequence,
    pub picture: &'a Picture,
    pub matrices: &'a Matrices,
    pub references: References<'a>,
    pub to: &'a mut Planes,
    /// Of each macroblock: it came.
    pub came: &'a mut [bool],
    /// Something was taken from a picture that is not there.
    pub missed: bool,
}

/// What goes on from macroblock to macroblock.
struct Run {
    /// Of luma and both colour differences.
    means: [i32; 3],
    /// Vectors before: first or second, way, across or down.
    vectors: [[[i32; 2]; 2]; 2],
    code: usize,
    /// Ways of the one before.
    ways: u16,
}

/// By how many powers of two there are fewer colour differences.
pub fn sub(chroma: Chroma) -> (u32, u32) {
    match chroma {
        Chroma::C444 => (0, 0),
        Chroma::C422 => (1, 0),
        _ => (1, 1),
    }
}

impl Slices<'_> {
    fn is_frame(&self) -> bool {
        self.picture.structure == Structure::Frame
    }

    fn across(&self) -> usize {
        self.sequence.width.div_ceil(16)
    }

    /// Macroblocks of the picture.
    fn count(&self) -> usize {
        let rows = self.to.heights[0] / 16;
        self.across() * if self.is_frame() { rows } else { rows / 2 }
    }

    /// One slice, from behind its start code; nothing where it is broken.
    pub fn read(&mut self, row: usize, bytes: &[u8]) -> Option<()> {
        let mut r = Reader::new(bytes);
        let row = if self.sequence.height > 2800 { row + ((r.take(3) as usize) << 7) } else { row };
        let mut run = Run {
            means: [1 << (self.picture.dc_precision + 7); 3],
            vectors: [[[0; 2]; 2]; 2],
            code: r.take(5) as usize,
            ways: FORWARD,
        };
        while r.flag() {
            r.skip(8);
            if r.is_over() {
                return None;
            }
        }
        let mut at = row * self.across();
        let mut first = true;
        while at < self.count() {
            let step = CODES.step(&mut r)? as usize;
            if first {
                at += step - 1;
            } else {
                for _ in 1..step {
                    self.skipped(at, &mut run)?;
                    at += 1;
                }
            }
            first = false;
            self.macroblock(&mut r, at, &mut run)?;
            if r.is_over() {
                return None;
            }
            *self.came.get_mut(at)? = true;
            at += 1;
            if r.peek(23) == 0 {
                return Some(());
            }
        }
        (r.peek(23) == 0).then_some(())
    }

    /// What did not come is as it was before.
    pub fn fill(&mut self) {
        if self.references.ways[0].is_none() && self.references.first.is_none() {
            return;
        }
        for at in 0..self.count() {
            if self.came.get(at) == Some(&false) {
                self.still(at);
            }
        }
    }

    /// One that is not coded: as it was before, or as the one beside it moved.
    fn skipped(&mut self, at: usize, run: &mut Run) -> Option<()> {
        run.means = [1 << (self.picture.dc_precision + 7); 3];
        match self.picture.kind {
            Kind::I => return None,
            Kind::P => {
                run.vectors = [[[0; 2]; 2]; 2];
                self.still(at);
            }
            Kind::B => {
                let lower = self.picture.structure == Structure::Bottom;
                let motion = if self.is_frame() { Motion::Frame } else { Motion::Field };
                let all = [0, 1].map(|way| Vectors {
                    each: [run.vectors[0][way]; 2],
                    lower: [lower; 2],
                    small: [0; 2],
                });
                self.predict(at, run.ways, motion, &all);
            }
        }
        *self.came.get_mut(at)? = true;
        Some(())
    }

    /// As it stood there before.
    fn still(&mut self, at: usize) {
        let lower = self.picture.structure == Structure::Bottom;
        let motion = if self.is_frame() { Motion::Frame } else { Motion::Field };
        let none = Vectors { lower: [lower; 2], ..Vectors::default() };
        self.predict(at, FORWARD, motion, &[none; 2]);
    }

    fn macroblock(&mut self, r: &mut Reader<'_>, at: usize, run: &mut Run) -> Option<()> {
        if at >= self.count() {
            return None;
        }
        let p = self.picture;
        let kind = CODES.kind(r, p.kind as usize)?;
        let ways = kind & (FORWARD | BACKWARD);
        let motion = match (ways, self.is_frame()) {
            (0, true) => Motion::Frame,
            (0, false) => Motion::Field,
            (_, true) if p.frames_only => Motion::Frame,
            (_, true) => {
                [None, Some(Motion::Field), Some(Motion::Frame), Some(Motion::Dual)][r.take(2) as usize]?
            }
            (_, false) => {
                [None, Some(Motion::Field), Some(Motion::Halves), Some(Motion::Dual)][r.take(2) as usize]?
            }
        };
        let by_fields = self.is_frame() && !p.frames_only && kind & (INTRA | PATTERN) != 0 && r.flag();
        if kind & QUANT != 0 {
            run.code = r.take(5) as usize;
        }
        let intra = kind & INTRA != 0;
        let mut all = [Vectors::default(); 2];
        if ways & FORWARD != 0 || intra && p.concealment {
            all[0] = self.vectors(r, 0, motion, run)?;
        }
        if ways & BACKWARD != 0 {
            all[1] = self.vectors(r, 1, motion, run)?;
        }
        if intra && p.concealment {
            r.skip(1);
        }
        if intra {
            if !p.concealment {
                run.vectors = [[[0; 2]; 2]; 2];
            }
        } else {
            run.means = [1 << (p.dc_precision + 7); 3];
            if ways == 0 {
                run.vectors = [[[0; 2]; 2]; 2];
                self.still(at);
            } else {
                self.predict(at, ways, motion, &all);
            }
        }
        run.ways = if ways == 0 { FORWARD } else { ways };
        let blocks = match self.sequence.chroma {
            Chroma::C444 => 12,
            Chroma::C422 => 8,
            _ => 6,
        };
        let coded = if intra {
            (1 << blocks) - 1
        } else if kind & PATTERN != 0 {
            let pattern = u32::from(CODES.pattern(r)?);
            let more = blocks - 6;
            if more > 0 { pattern << more | r.take(more) } else { pattern }
        } else {
            0
        };
        for n in 0..blocks {
            if coded >> (blocks - 1 - n) & 1 == 1 {
                self.block(r, (at, n as usize), (intra, by_fields), run)?;
            }
        }
        Some(())
    }

    fn block(
        &mut self,
        r: &mut Reader<'_>,
        (at, n): (usize, usize),
        (intra, by_fields): (bool, bool),
        run: &mut Run,
    ) -> Option<()> {
        let (p, old) = (self.picture, self.sequence.old);
        let plane = if n < 4 { 0 } else { 1 + n % 2 };
        let table = usize::from(plane > 0);
        let of_itself = if intra {
            run.means[plane] += CODES.mean(r, plane > 0)?;
            Some((run.means[plane] * (8 >> p.dc_precision), p.second_table))
        } else {
            None
        };
        let matrices = if intra { &self.matrices.intra } else { &self.matrices.other };
        let scaling = Scaling {
            matrix: &matrices[table],
            // MPEG-1 counts in steps twice as large.
            step: if p.steep { STEEP[run.code & 31] } else { 2 * run.code as i32 },
            scan: if p.alternate { &ALTERNATE } else { &ZIGZAG },
            old,
            intra: of_itself,
        };
        let mut block = [0; 64];
        blocks::read(r, &scaling, &mut block)?;
        blocks::inverse(&mut block);
        let across = self.across();
        let (mx, my) = (at % across, at / across);
        let (sx, sy) = if plane == 0 { (0, 0) } else { sub(self.sequence.chroma) };
        let (w, h) = (16 >> sx, 16 >> sy);
        // Which of the blocks of its plane: luma from left to right, colour differences downwards first.
        let (bx, by) = match n {
            0..4 => (n % 2, n / 2),
            _ => ((n - 4) / 4, (n - 4) / 2 % 2),
        };
        let fields = by_fields && h == 16;
        let stride = self.to.strides[plane];
        let (rows, lower) = match p.structure {
            Structure::Frame => (1, 0),
            Structure::Top => (2, 0),
            Structure::Bottom => (2, 1),
        };
        let (y, step) = match fields {
            true => (my * h + by, 2),
            false => ((my * h + by * 8) * rows + lower, rows),
        };
        let mut from = y * stride + mx * w + bx * 8;
        for line in block.as_chunks::<8>().0 {
            let out = self.to.samples[plane].get_mut(from..from + 8)?;
            for (o, v) in out.iter_mut().zip(line) {
                let v = if intra { *v } else { i32::from(*o) + v };
                *o = v.clamp(0, 255) as u8;
            }
            from += stride * step;
        }
        Some(())
    }

    /// Vectors of one way (6.2.5.2).
    fn vectors(&mut self, r: &mut Reader<'_>, way: usize, motion: Motion, run: &mut Run) -> Option<Vectors> {
        let mut out = Vectors::default();
        let is_frame = self.is_frame();
        let two = motion == Motion::Field && is_frame || motion == Motion::Halves;
        let of_field = motion != Motion::Frame;
        for n in 0..if two { 2 } else { 1 } {
            if of_field && motion != Motion::Dual {
                out.lower[n] = r.flag();
            }
            for axis in 0..2 {
                // Down, those of fields are half of those of frames.
                let halved = of_field && is_frame && axis == 1;
                let before = run.vectors[n][way][axis] >> u32::from(halved);
                let bits = self.picture.f_code[way][axis] - 1;
                let range = 16 << bits;
                let v = before + CODES.motion(r, bits)?;
                let v = if v >= range {
                    v - 2 * range
                } else if v < -range {
                    v + 2 * range
                } else {
                    v
                };
                if motion == Motion::Dual {
                    out.small[axis] = match r.peek(2) {
                        2 => 1,
                        3 => -1,
                        _ => 0,
                    };
                    r.skip(if out.small[axis] == 0 { 1 } else { 2 });
                }
                out.each[n][axis] = v << u32::from(self.picture.full_pel[way]);
                run.vectors[n][way][axis] = v << u32::from(halved);
            }
        }
        if !two {
            run.vectors[1][way] = run.vectors[0][way];
            out.each[1] = out.each[0];
            out.lower[1] = out.lower[0];
        }
        Some(out)
    }

    fn predict(&mut self, at: usize, ways: u16, motion: Motion, all: &[Vectors; 2]) {
        let across = self.across();
        let (x, y) = (at % across * 16, at / across);
        let is_frame = self.is_frame();
        let own_lower = self.picture.structure == Structure::Bottom;
        let own = if is_frame { ALL } else { Rows::field(own_lower) };
        let mut mean = false;
        for (way, bit) in [FORWARD, BACKWARD].into_iter().enumerate() {
            if ways & bit == 0 {
                continue;
            }
            let v = &all[way];
            let mut put = |to: Rows, lower: Option<bool>, (y, height): (usize, usize), vector, mean| {
                let from = lower.map_or(ALL, Rows::field);
                let same = self.references.first.filter(|f| way == 0 && lower == Some(f.1)).map(|f| f.0);
                let same = same.filter(|_| self.picture.kind == Kind::P);
                match same.or(self.references.ways[way]) {
                    Some(source) => {
                        let t = Take { to, from, x, y, height, vector, mean };
                        take(self.to, source, sub(self.sequence.chroma), t);
                    }
                    None => self.missed = true,
                }
            };
            match (motion, is_frame) {
                (Motion::Frame, _) => put(ALL, None, (y * 16, 16), v.each[0], mean),
                (Motion::Field, true) => {
                    for n in 0..2 {
                        put(Rows::field(n == 1), Some(v.lower[n]), (y * 8, 8), v.each[n], mean);
                    }
                }
                (Motion::Field, false) => put(own, Some(v.lower[0]), (y * 16, 16), v.each[0], mean),
                (Motion::Halves, _) => {
                    for n in 0..2 {
                        put(own, Some(v.lower[n]), (y * 16 + n * 8, 8), v.each[n], mean);
                    }
                }
                (Motion::Dual, true) => {
                    for n in 0..2 {
                        let to = Rows::field(n == 1);
                        put(to, Some(n == 1), (y * 8, 8), v.each[0], mean);
                        // Up to the other field it is half as far, or one and a half times (7.6.3.6).
                        let near = (n == 0) == self.picture.top_first;
                        let other = dual(v, if near { 1 } else { 3 }, if n == 0 { -1 } else { 1 });
                        put(to, Some(n == 0), (y * 8, 8), other, true);
                    }
                }
                (Motion::Dual, false) => {
                    put(own, Some(own_lower), (y * 16, 16), v.each[0], mean);
                    let other = dual(v, 1, if own_lower { 1 } else { -1 });
                    put(own, Some(!own_lower), (y * 16, 16), other, true);
                }
            }
            mean = true;
        }
    }
}

/// The vector to the field of the other parity.
fn dual(v: &Vectors, times: i32, down: i32) -> [i32; 2] {
    let [x, y] = v.each[0].map(|c| (c * times + i32::from(c > 0)) >> 1);
    [x + v.small[0], y + v.small[1] + down]
}
