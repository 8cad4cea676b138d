//! Colours brought to those of high definition (ITU-R BT.709), and looks from tables.
//!
//! Everything is a table from red, green and blue as coded to the same as wanted, between whose points the four nearest
//! count (tetrahedral interpolation): that of a `.cube` file, or one drawn up from the formulas of ITU-R BT.2100-2 and
//! BT.2390-11. Where only the matrix differs there is none. Pictures of luma and colour differences have it once more on
//! their own planes (`lattice.rs`), which is several times as quick; a look that this does not follow closely goes pixel by
//! pixel.

use super::frame::{shared, weights};
use super::lattice::Lattice;
use super::matrix::Between;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Plane, Pool, Samples, VideoFrame};
use std::sync::Arc;

/// Largest tables that are read: points in a direction, and of three single curves.
const MOST_CUBE: usize = 129;
const MOST_CURVE: usize = 65_536;
/// Points in a direction of tables from formulas.
const POINTS: usize = 49;

type Rgb = [f32; 3];

/// A look-up table of colours, from 0 to 1 each.
#[derive(Clone, PartialEq)]
pub struct Table {
    /// Three curves, or points in three directions, red the quickest.
    cube: bool,
    size: usize,
    low: Rgb,
    high: Rgb,
    points: Vec<[f32; 4]>,
}

impl std::fmt::Debug for Table {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // Its points by their sum: tables are told apart by it.
        let sum = xxhash_rust::xxh3::xxh3_128(bytemuck::cast_slice(&self.points));
        write!(f, "table of {} from {:?} to {:?}, {sum:x}", self.size, self.low, self.high)
    }
}

impl Table {
    /// A `.cube` file: a size, lines of three numbers, red the quickest.
    pub fn parse(text: &str) -> Result<Table> {
        let bad = |line: usize, why: String| Error::setting("look", format!("{why} (line {line})"));
        let mut table = Table { cube: true, size: 0, low: [0.0; 3], high: [1.0; 3], points: Vec::new() };
        for (n, line) in
            text.trim_start_matches('\u{feff}').lines().enumerate().map(|(n, l)| (n + 1, l.trim()))
        {
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let mut words = line.split_whitespace();
            let first = words.next().unwrap_or_default();
            let rest: Vec<&str> = words.collect();
            let three = |words: &[&str]| -> Option<Rgb> {
                let all: Vec<f32> = words.iter().filter_map(|w| w.parse().ok()).collect();
                <Rgb>::try_from(all).ok().filter(|v| v.iter().all(|v| v.is_finite()))
            };
            match first {
                "TITLE" => (),
                "LUT_3D_SIZE" | "LUT_1D_SIZE" => {
                    table.cube = first == "LUT_3D_SIZE";
                    let most = if table.cube { MOST_CUBE } else { MOST_CURVE };
                    let size = rest.first().and_then(|w| w.parse().ok()).filter(|n| (2..=most).contains(n));
                    table.size = size.ok_or_else(|| {
                        bad(n, format!("a size of 2 to {most}, not \"{}\"", rest.join(" ")))
                    })?;
                }
                "DOMAIN_MIN" | "DOMAIN_MAX" => {
                    let v = three(&rest).ok_or_else(|| bad(n, "three numbers".into()))?;
                    if first == "DOMAIN_MIN" { table.low = v } else { table.high = v }
                }
                "LUT_3D_INPUT_RANGE" | "LUT_1D_INPUT_RANGE" => {
                    let ends: Vec<f32> = rest.iter().filter_map(|w| w.parse().ok()).collect();
                    let [low, high] = ends[..] else { return Err(bad(n, "two numbers".into())) };
                    (table.low, table.high) = ([low; 3], [high; 3]);
                }
                word if word.starts_with(|c: char| c.is_ascii_alphabetic()) => {
                    return Err(bad(n, format!("a word that such a table does not have: \"{word}\"")));
                }
                _ => {
                    let words: Vec<&str> = line.split_whitespace().collect();
                    let [r, g, b] = three(&words).ok_or_else(|| {
                        bad(
                            n,
                            format!("three numbers, not \"{}\"", line.chars().take(40).collect::<String>()),
                        )
                    })?;
                    if table.points.len() >= table.wanted() {
                        return Err(bad(n, format!("{} lines of numbers and no more", table.wanted())));
                    }
                    table.points.push([r, g, b, 0.0]);
                }
            }
        }
        let (there, wanted) = (table.points.len(), table.wanted());
        if wanted == 0 || there != wanted {
            let why = format!("{wanted} lines of numbers for its size; it has {there}");
            return Err(Error::setting("look", why));
        }
        if (0..3).any(|c| table.low[c] >= table.high[c]) {
            return Err(Error::setting("look", "a domain that ends behind its beginning"));
        }
        Ok(table)
    }

    fn wanted(&self) -> usize {
        if self.cube { self.size * self.size * self.size } else { self.size }
    }

    /// Points of a formula.
    fn drawn(f: impl Fn(Rgb) -> Rgb) -> Table {
        let at = |i: usize| i as f32 / (POINTS - 1) as f32;
        let all = (0..POINTS * POINTS * POINTS).map(|i| {
            let [r, g, b] = f([at(i % POINTS), at(i / POINTS % POINTS), at(i / POINTS / POINTS)]);
            [r, g, b, 0.0]
        });
        Table { cube: true, size: POINTS, low: [0.0; 3], high: [1.0; 3], points: all.collect() }
    }

    #[inline]
    fn at(&self, rgb: Rgb) -> Rgb {
        let last = self.size - 1;
        let place = |c: usize| {
            let v = ((rgb[c] - self.low[c]) / (self.high[c] - self.low[c])).clamp(0.0, 1.0) * last as f32;
            let whole = (v as usize).min(last - 1);
            (whole, v - whole as f32)
        };
        let [(r, fr), (g, fg), (b, fb)] = [place(0), place(1), place(2)];
        if !self.cube {
            let one =
                |c: usize, (i, f): (usize, f32)| self.points[i][c] * (1.0 - f) + self.points[i + 1][c] * f;
            return [one(0, (r, fr)), one(1, (g, fg)), one(2, (b, fb))];
        }
        let (dr, dg, db) = (1, self.size, self.size * self.size);
        let from = r + g * dg + b * db;
        // From one corner to the opposite one, along the largest part first.
        let (first, second, big, mid, small) = match (fr >= fg, fg >= fb, fr >= fb) {
            (true, true, _) => (dr, dr + dg, fr, fg, fb),
            (true, false, true) => (dr, dr + db, fr, fb, fg),
            (true, false, false) => (db, db + dr, fb, fr, fg),
            (false, _, true) => (dg, dg + dr, fg, fr, fb),
            (false, true, false) => (dg, dg + db, fg, fb, fr),
            (false, false, false) => (db, db + dg, fb, fg, fr),
        };
        let p = |i: usize| self.points[from + i];
        let (a, b, c, d) = (p(0), p(first), p(second), p(dr + dg + db));
        std::array::from_fn(|i| a[i] * (1.0 - big) + b[i] * (big - mid) + c[i] * (mid - small) + d[i] * small)
    }
}

/// What is done to colours.
#[derive(Clone, Debug, PartialEq)]
pub struct Grading {
    /// Brought to ITU-R BT.709 from what the source says it has.
    pub to_hd: bool,
    /// A look on top: the name of its file.
    pub look: Option<(String, Arc<Table>)>,
}

impl Grading {
    pub fn words(&self, from: Colour) -> String {
        let to_hd = match self.to_hd.then_some(Kind::of(from)) {
            Some(Kind::Pq) => Some("from PQ to BT.709, 1000 cd/m2 to 203"),
            Some(Kind::Hlg) => Some("from HLG to BT.709, 1000 cd/m2 to 203"),
            Some(Kind::Wide) => Some("from BT.2020 to BT.709"),
            Some(Kind::Plain) => Some("the matrix of BT.709"),
            None => None,
        };
        let look = self.look.as_ref().map(|(name, _)| format!("the look of {name}"));
        let all: Vec<String> = to_hd.map(String::from).into_iter().chain(look).collect();
        all.join(", ")
    }

    pub fn colour_after(&self, colour: Colour, chroma: Chroma) -> Colour {
        if !self.to_hd {
            return colour;
        }
        let rgb = matches!(chroma, Chroma::Rgb | Chroma::Rgba) || colour.matrix == 0;
        Colour { primaries: 1, transfer: 1, matrix: if rgb { colour.matrix } else { 1 }, ..colour }
    }
}

/// What has to be done to get to BT.709.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Pq,
    Hlg,
    /// Wide colours with the usual curve.
    Wide,
    Plain,
}

impl Kind {
    fn of(c: Colour) -> Kind {
        match (c.transfer, c.primaries) {
            (16, _) => Kind::Pq,
            (18, _) => Kind::Hlg,
            (_, 9) => Kind::Wide,
            _ => Kind::Plain,
        }
    }

    fn table(self) -> Option<Table> {
        self.formula().map(Table::drawn)
    }

    /// From red, green and blue as coded, 0 to 1 each, to the same of BT.709.
    fn formula(self) -> Option<Box<dyn Fn(Rgb) -> Rgb + Send>> {
        let bring = move |light: [f64; 3]| -> Rgb {
            let light = to_709(light);
            // The display of BT.1886: what it is given for this light.
            light.map(|v| v.clamp(0.0, 1.0).powf(1.0 / 2.4) as f32)
        };
        match self {
            Kind::Plain => None,
            Kind::Wide => Some(Box::new(move |c| bring(c.map(|v| f64::from(v).powf(2.4))))),
            Kind::Pq => Some(Box::new(move |c| bring(tone(c.map(|v| pq_light(v.into())))))),
            Kind::Hlg => Some(Box::new(move |c| bring(tone(hlg_light(c.map(f64::from)))))),
        }
    }
}

/// Brightest light of the source, and of what it is brought to (reference white of ITU-R BT.2408), in cd/m2.
const FROM_PEAK: f64 = 1000.0;
const TO_PEAK: f64 = 203.0;

/// ITU-R BT.2100-2, table 4: cd/m2 for a signal of PQ, and back.
fn pq_light(v: f64) -> f64 {
    let p = v.max(0.0).powf(1.0 / M2);
    10_000.0 * ((p - C1).max(0.0) / (C2 - C3 * p)).powf(1.0 / M1)
}

fn pq_signal(light: f64) -> f64 {
    let y = (light / 10_000.0).max(0.0).powf(M1);
    ((C1 + C2 * y) / (1.0 + C3 * y)).powf(M2)
}

const M1: f64 = 2610.0 / 16_384.0;
const M2: f64 = 2523.0 / 4096.0 * 128.0;
const C1: f64 = 3424.0 / 4096.0;
const C2: f64 = 2413.0 / 4096.0 * 32.0;
const C3: f64 = 2392.0 / 4096.0 * 32.0;

/// Table 5: cd/m2 on a display of 1000 for a signal of HLG, whose brightness has a power of 1.2.
fn hlg_light(c: [f64; 3]) -> [f64; 3] {
    const A: f64 = 0.178_832_77;
    let b = 1.0 - 4.0 * A;
    let k = 0.5 - A * (4.0 * A).ln();
    let scene = c.map(|v| if v <= 0.5 { v * v / 3.0 } else { (((v - k) / A).exp() + b) / 12.0 });
    let luma = 0.2627 * scene[0] + 0.6780 * scene[1] + 0.0593 * scene[2];
    let by = FROM_PEAK * luma.max(1e-9).powf(0.2);
    scene.map(|v| v * by)
}

/// ITU-R BT.2390-11, 5.4.1: bright parts are bent so that the brightest is the display's, on the brightest of the three;
/// their relation stays. Gives light from 0 to 1.
fn tone(light: [f64; 3]) -> [f64; 3] {
    let brightest = light.iter().copied().fold(0.0, f64::max);
    if brightest <= 0.0 {
        return [0.0; 3];
    }
    let (from, to) = (pq_signal(FROM_PEAK), pq_signal(TO_PEAK));
    let most = to / from;
    let knee = 1.5 * most - 0.5;
    let e = (pq_signal(brightest) / from).min(1.0);
    let bent = if e < knee {
        e
    } else {
        let t = (e - knee) / (1.0 - knee);
        let (t2, t3) = (t * t, t * t * t);
        (2.0 * t3 - 3.0 * t2 + 1.0) * knee
            + (t3 - 2.0 * t2 + t) * (1.0 - knee)
            + (-2.0 * t3 + 3.0 * t2) * most
    };
    let by = pq_light(bent * from) / brightest / TO_PEAK;
    light.map(|v| v * by)
}

/// ITU-R BT.2087-0, annex 2: light of BT.2020 as that of BT.709.
fn to_709([r, g, b]: [f64; 3]) -> [f64; 3] {
    [
        1.6605 * r - 0.5876 * g - 0.0728 * b,
        -0.1246 * r + 1.1329 * g - 0.0083 * b,
        -0.0182 * r - 0.1006 * g + 1.1187 * b,
    ]
}

/// Colours that a table on the planes is tried on, and how far its luma may be off: on average and at most, of 255.
const COLOURS: usize = 300;
const NEAR: (f32, f32) = (0.5, 10.0);

/// The table on the planes gives what is drawn up in it, at colours from everywhere.
fn is_near(lattice: &mut Lattice, depth: u8, from: &Matrix) -> bool {
    let one = (1u32 << (depth - 8)) as f32;
    let top = one * 256.0 - 1.0;
    let (mut sum, mut most) = (0f32, 0f32);
    let mut state = 1u32;
    let mut some = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 8) as f32 / (1 << 24) as f32
    };
    for _ in 0..COLOURS {
        let coded = from.coded([some(), some(), some()]).map(|v| v.round().clamp(0.0, top));
        let (got, want) = (lattice.at(coded.map(|v| v as u32)), lattice.exact(coded));
        let off = (got[0] as f32 - want[0]).abs() / one;
        sum += off;
        most = most.max(off);
    }
    sum / COLOURS as f32 <= NEAR.0 && most <= NEAR.1
}

pub struct Grader {
    grading: Grading,
    pool: Pool,
    /// Drawn up for one kind of source.
    hd: Option<(Colour, Option<Table>)>,
    /// The same on the planes of pictures of one form, where it is near enough.
    drawn: Option<(Form, Option<Lattice>)>,
}

/// Colour, bits and height, on which the matrix depends where it is not stated.
type Form = (Colour, u8, u32);

/// In luma and colour differences.
fn is_coded(f: &VideoFrame) -> bool {
    matches!(f.chroma, Chroma::C420 | Chroma::C422 | Chroma::C444) && f.colour.matrix != 0
}

fn form(f: &VideoFrame) -> Form {
    (f.colour, f.depth, f.height)
}

/// From coded values to red, green and blue, and back.
#[derive(Clone, Copy)]
struct Matrix {
    kr: f32,
    kb: f32,
    luma: (f32, f32),
    chroma: (f32, f32),
}

impl Matrix {
    fn new(matrix: u8, height: u32, full: bool, depth: u8) -> Matrix {
        // Where nothing is stated, small pictures are of standard definition.
        let matrix = if matrix == 2 && height < 720 { 6 } else { matrix };
        let (kr, kb) = weights(matrix);
        let (one, most) = ((1u32 << (depth - 8)) as f32, ((1u32 << depth) - 1) as f32);
        let middle = (1u32 << (depth - 1)) as f32;
        let (luma, chroma) = match full {
            true => ((0.0, most), (middle, most)),
            false => ((16.0 * one, 219.0 * one), (middle, 224.0 * one)),
        };
        Matrix { kr: kr as f32, kb: kb as f32, luma, chroma }
    }

    #[inline]
    fn rgb(&self, y: f32, cb: f32, cr: f32) -> Rgb {
        let y = (y - self.luma.0) / self.luma.1;
        let b = (cb - self.chroma.0) / self.chroma.1 * (2.0 * (1.0 - self.kb));
        let r = (cr - self.chroma.0) / self.chroma.1 * (2.0 * (1.0 - self.kr));
        [y + r, y - (self.kb * b + self.kr * r) / (1.0 - self.kr - self.kb), y + b]
    }

    #[inline]
    fn coded(&self, [r, g, b]: Rgb) -> Rgb {
        let y = self.kr * r + (1.0 - self.kr - self.kb) * g + self.kb * b;
        [
            self.luma.0 + y * self.luma.1,
            self.chroma.0 + (b - y) / (2.0 * (1.0 - self.kb)) * self.chroma.1,
            self.chroma.0 + (r - y) / (2.0 * (1.0 - self.kr)) * self.chroma.1,
        ]
    }
}

impl Grader {
    pub fn new(grading: Grading, pool: Pool) -> Grader {
        Grader { grading, pool, hd: None, drawn: None }
    }

    fn matrices(&self, f: &VideoFrame) -> (Matrix, Matrix) {
        let to = if self.grading.to_hd { 1 } else { f.colour.matrix };
        let of = |matrix| Matrix::new(matrix, f.height, f.colour.full_range, f.depth);
        (of(f.colour.matrix), of(to))
    }

    /// Draws up the table on the planes, if pictures like this one have any.
    fn draw(&mut self, f: &VideoFrame, kind: Kind) {
        if !is_coded(f) || f.depth > Lattice::DEEPEST || self.drawn.as_ref().is_some_and(|d| d.0 == form(f)) {
            return;
        }
        let formula = self.grading.to_hd.then(|| kind.formula()).flatten();
        let look = self.grading.look.as_ref().map(|l| l.1.clone());
        if formula.is_none() && look.is_none() {
            return;
        }
        let has_look = look.is_some();
        let (from, to) = self.matrices(f);
        let change = move |[y, b, r]: Rgb| {
            let mut rgb = from.rgb(y, b, r);
            if let Some(formula) = &formula {
                rgb = formula(rgb.map(|v| v.clamp(0.0, 1.0)));
            }
            to.coded(look.as_ref().map_or(rgb, |t| t.at(rgb)))
        };
        let mut lattice = Lattice::new(f.depth, Box::new(change));
        // The formulas are smooth enough.
        let near = !has_look || is_near(&mut lattice, f.depth, &from);
        self.drawn = Some((form(f), near.then_some(lattice)));
    }

    #[allow(clippy::needless_range_loop)] // several rows at once
    pub fn grade(&mut self, f: &VideoFrame) -> Result<VideoFrame> {
        let kind = Kind::of(f.colour);
        let mut out = VideoFrame::new(&self.pool, f.width, f.height, f.chroma, f.depth)?;
        out.describe_like(f);
        out.colour = self.grading.colour_after(f.colour, f.chroma);
        self.draw(f, kind);
        if let Some((_, Some(lattice))) = self.drawn.as_mut().filter(|d| d.0 == form(f) && is_coded(f))
            && lattice.run(
                &f.planes,
                &mut out.planes,
                (f.width as usize, f.height as usize),
                shared(f.chroma, 1),
            )
        {
            return Ok(out);
        }
        if self.grading.to_hd && self.hd.as_ref().is_none_or(|(c, _)| *c != f.colour) {
            self.hd = Some((f.colour, kind.table()));
        }
        let hd = self.hd.as_ref().and_then(|h| h.1.as_ref());
        let look = self.grading.look.as_ref().map(|l| l.1.as_ref());
        let change = |rgb: Rgb| {
            let rgb = hd.map_or(rgb, |t| t.at(rgb));
            look.map_or(rgb, |t| t.at(rgb))
        };
        let top = ((1u32 << f.depth) - 1) as f32;
        let code = |v: f32| (v + 0.5).clamp(0.0, top) as u16;
        let w = f.width as usize;
        let mut rows = vec![vec![0f32; w]; 4];
        let identity = matches!(f.chroma, Chroma::Rgb | Chroma::Rgba);
        let named = f.chroma == Chroma::C444 && f.colour.matrix == 0;
        if identity || named {
            let order = if named { [2, 0, 1] } else { [0, 1, 2] };
            for y in 0..f.height as usize {
                for c in 0..3 {
                    read(&f.planes[order[c]], y, &mut rows[c]);
                }
                for x in 0..w {
                    let rgb = change([rows[0][x] / top, rows[1][x] / top, rows[2][x] / top]);
                    (0..3).for_each(|c| out.planes[order[c]].put(x, y, code(rgb[c] * top)));
                }
            }
            if let (Some(a), Some(b)) = (f.planes.get(3), out.planes.get_mut(3)) {
                (0..f.height)
                    .for_each(|y| (0..f.width).for_each(|x| b.put(x as usize, y as usize, a.at(x, y))));
            }
            return Ok(out);
        }
        let (from, to) = self.matrices(f);
        if f.chroma == Chroma::Gray {
            for y in 0..f.height as usize {
                read(&f.planes[0], y, &mut rows[0]);
                for x in 0..w {
                    let rgb = change(from.rgb(rows[0][x], from.chroma.0, from.chroma.0));
                    out.planes[0].put(x, y, code(to.coded(rgb)[0]));
                }
            }
            return Ok(out);
        }
        let (sx, sy) = shared(f.chroma, 1);
        if hd.is_none() && look.is_none() {
            Between::of(|[y, b, r]| {
                let [y, b, r] = [from.luma.0 + y, from.chroma.0 + b, from.chroma.0 + r];
                to.coded(from.rgb(y, b, r))
            })
            .run(&f.planes, &mut out.planes, f.depth, (sx, sy));
            return Ok(out);
        }
        let wide = w.div_ceil(sx);
        let (mut cb, mut cr) = (vec![0f32; wide], vec![0f32; wide]);
        let (mut sum_b, mut sum_r) = (vec![0f32; wide], vec![0f32; wide]);
        for y in 0..f.height as usize {
            read(&f.planes[0], y, &mut rows[0]);
            read(&f.planes[1], y / sy, &mut cb);
            read(&f.planes[2], y / sy, &mut cr);
            let Plane { samples, stride, .. } = &mut out.planes[0];
            let at = y * *stride;
            for x in 0..w {
                let c = x / sx;
                let v = to.coded(change(from.rgb(rows[0][x], cb[c], cr[c])));
                match samples {
                    Samples::U8(b) => b[at + x] = code(v[0]) as u8,
                    Samples::U16(d) => d[at + x] = code(v[0]),
                }
                sum_b[c] += v[1];
                sum_r[c] += v[2];
            }
            let last = y + 1 == f.height as usize;
            if y % sy == sy - 1 || last {
                let down = (y % sy + 1) as f32;
                for c in 0..wide {
                    let across = (w - c * sx).min(sx) as f32;
                    out.planes[1].put(c, y / sy, code(sum_b[c] / (across * down)));
                    out.planes[2].put(c, y / sy, code(sum_r[c] / (across * down)));
                }
                sum_b.fill(0.0);
                sum_r.fill(0.0);
            }
        }
        Ok(out)
    }
}

fn read(p: &Plane, y: usize, to: &mut [f32]) {
    let at = y * p.stride..y * p.stride + (p.width as usize).min(to.len());
    match &p.samples {
        Samples::U8(b) => to.iter_mut().zip(&b[at]).for_each(|(t, v)| *t = f32::from(*v)),
        Samples::U16(w) => to.iter_mut().zip(&w[at]).for_each(|(t, v)| *t = f32::from(*v)),
    }
}

#[cfg(test)]
mod tests {
    use super::super::frame::values_of;
    use super::*;
    use rstest::rstest;

    fn flat(chroma: Chroma, depth: u8, colour: Colour, values: [u16; 4]) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 7, 5, chroma, depth).unwrap();
        f.colour = colour;
        for (p, v) in f.planes.iter_mut().zip(values) {
            (0..p.height as usize).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, v)));
        }
        f
    }

    fn colour(primaries: u8, transfer: u8, matrix: u8) -> Colour {
        Colour { primaries, transfer, matrix, full_range: false }
    }

    fn values(f: &VideoFrame) -> Vec<i32> {
        f.planes.iter().map(|p| i32::from(p.at(3, 2))).collect()
    }

    /// ITU-R BT.2100-2 and BT.2408-5: signals of known light.
    #[rstest]
    #[case(0.508_078, 100.0)]
    #[case(0.580_689, 203.0)]
    #[case(0.751_827, 1000.0)]
    fn pq_has_the_standards_light(#[case] signal: f64, #[case] light: f64) {
        assert!((pq_light(signal) / light - 1.0).abs() < 1e-4);
        assert!((pq_signal(light) - signal).abs() < 1e-5);
    }

    #[test]
    fn hlg_of_three_quarters_is_reference_white() {
        let light = hlg_light([0.75; 3]);
        assert!((light[0] / 203.0 - 1.0).abs() < 0.01, "{light:?}");
        assert!((hlg_light([1.0; 3])[1] / 1000.0 - 1.0).abs() < 0.001);
    }

    #[rstest]
    fn a_matrix_changes_and_the_colour_stays(
        #[values(Chroma::C420, Chroma::C422, Chroma::C444)] chroma: Chroma,
        #[values(8, 10)] depth: u8,
        #[values([200, 60, 30], [20, 150, 220], [128, 128, 128])] rgb: [u8; 3],
    ) {
        let (sd, hd) = (colour(6, 6, 6), colour(1, 1, 1));
        let f = flat(chroma, depth, sd, values_of(rgb, chroma, sd, depth));
        let grading = Grading { to_hd: true, look: None };
        let out = Grader::new(grading, Pool::new()).grade(&f).unwrap();
        assert_eq!(out.colour, hd);
        let want = values_of(rgb, chroma, hd, depth);
        let near = 1 << (depth - 8);
        assert!(
            values(&out).iter().zip(want).all(|(a, b)| (a - i32::from(b)).abs() <= near),
            "{:?} {want:?}",
            values(&out)
        );
    }

    /// Every colour, of every size: as it is when it goes by red, green and blue.
    #[rstest]
    fn a_matrix_is_that_of_each_pixel(
        #[values(Chroma::C420, Chroma::C422, Chroma::C444)] chroma: Chroma,
        #[values(8, 10)] depth: u8,
        #[values((64, 36), (33, 7), (1, 1))] size: (u32, u32),
        #[values(true, false)] full_range: bool,
    ) {
        let mut f = VideoFrame::new(&Pool::new(), size.0, size.1, chroma, depth).unwrap();
        f.colour = Colour { full_range, ..colour(5, 1, 5) };
        let top = (1u32 << depth) - 1;
        for (i, p) in f.planes.iter_mut().enumerate() {
            let (w, h) = (p.width as usize, p.height as usize);
            for (y, x) in (0..h).flat_map(|y| (0..w).map(move |x| (y, x))) {
                p.put(x, y, ((x * 7919 + y * 104_729 + i * 31_337) as u32 % 9973 % (top + 1)) as u16);
            }
        }
        // A look that changes nothing takes the way of each pixel.
        let text = "LUT_1D_SIZE 2\nDOMAIN_MIN -2 -2 -2\nDOMAIN_MAX 3 3 3\n-2 -2 -2\n3 3 3\n";
        let nothing = Some(("same".into(), Arc::new(Table::parse(text).unwrap())));
        let grade = |look| Grader::new(Grading { to_hd: true, look }, Pool::new()).grade(&f).unwrap();
        let (quick, slow) = (grade(None), grade(nothing));
        assert_eq!(quick.colour, slow.colour);
        for (p, q) in quick.planes.iter().zip(&slow.planes) {
            for (y, x) in (0..p.height).flat_map(|y| (0..p.width).map(move |x| (y, x))) {
                assert!(
                    p.at(x, y).abs_diff(q.at(x, y)) <= 1,
                    "{} and {} at {x}, {y}",
                    p.at(x, y),
                    q.at(x, y)
                );
            }
        }
    }

    /// What is dark stays as it is, white is bent below the brightest, and the brightest is the brightest.
    #[rstest]
    #[case::pq(16, [(0.0, 16, 16), (0.4, 70, 125), (0.580_689, 185, 225), (0.751_827, 233, 235), (1.0, 233, 235)])]
    #[case::hlg(18, [(0.0, 16, 16), (0.3, 80, 130), (0.75, 185, 225), (0.9, 215, 234), (1.0, 233, 235)])]
    fn bright_light_is_brought_to_what_is_shown(#[case] transfer: u8, #[case] steps: [(f64, i32, i32); 5]) {
        let wide = colour(9, transfer, 9);
        let mut grader = Grader::new(Grading { to_hd: true, look: None }, Pool::new());
        let mut before = 0;
        for (signal, least, most) in steps {
            let y = (64.0 + 876.0 * signal).round() as u16;
            let out = grader.grade(&flat(Chroma::C420, 10, wide, [y, 512, 512, 0])).unwrap();
            let v = values(&out);
            assert!((least * 4..=most * 4 + 3).contains(&v[0]), "{signal}: {v:?}");
            assert!(
                v[0] >= before && (v[1] - 512).abs() <= 4 && (v[2] - 512).abs() <= 4,
                "gray stays gray: {v:?}"
            );
            before = v[0];
        }
    }

    /// What the table on the planes gives is what the formula does, for colours from everywhere, of every size of picture.
    #[rstest]
    fn the_table_on_the_planes_is_near_the_formula(
        #[values(Chroma::C420, Chroma::C422, Chroma::C444)] chroma: Chroma,
        #[values(8, 10, 12)] depth: u8,
        #[values((16, (64, 36)), (18, (33, 7)), (1, (1, 1)))] (transfer, size): (u8, (u32, u32)),
    ) {
        let from = Colour { full_range: false, ..colour(9, transfer, 9) };
        let mut f = VideoFrame::new(&Pool::new(), size.0, size.1, chroma, depth).unwrap();
        f.colour = from;
        // A colour for each of the samples of a difference, brighter and darker a little within it.
        let (sx, sy) = shared(chroma, 1);
        let matrix = Matrix::new(9, size.1, false, depth);
        for y in 0..size.1 as usize {
            for x in 0..size.0 as usize {
                let (cx, cy) = (x / sx, y / sy);
                let part = |by: usize| ((cx * 37 + cy * 101) * by % 251) as f32 / 251.0;
                let coded = matrix.coded([part(7), part(11), part(13)]);
                let near = coded[0] + ((x + y) % 3) as f32 * (1 << (depth - 8)) as f32;
                f.planes[0].put(x, y, near.round() as u16);
                f.planes[1].put(cx, cy, coded[1].round() as u16);
                f.planes[2].put(cx, cy, coded[2].round() as u16);
            }
        }
        let mut grader = Grader::new(Grading { to_hd: true, look: None }, Pool::new());
        let quick = grader.grade(&f).unwrap();
        assert!(matches!(&grader.drawn, Some((_, Some(_)))), "it is near enough to be taken");
        // The same pixel by pixel.
        grader.drawn = Some(((from, depth, size.1), None));
        let slow = grader.grade(&f).unwrap();
        let one = f64::from(1 << (depth - 8));
        for (n, (p, q)) in quick.planes.iter().zip(&slow.planes).enumerate() {
            let all = (0..p.height).flat_map(|y| (0..p.width).map(move |x| (x, y)));
            let off: Vec<f64> = all.map(|(x, y)| f64::from(p.at(x, y).abs_diff(q.at(x, y))) / one).collect();
            let (mean, most) =
                (off.iter().sum::<f64>() / off.len() as f64, off.iter().copied().fold(0.0, f64::max));
            assert!(
                (mean <= 1.2 || off.len() < 20) && most <= 12.0,
                "plane {n}: {mean:.2} off, {most:.2} at most"
            );
        }
    }

    /// A look that is too uneven for the table on the planes goes pixel by pixel.
    #[test]
    fn a_rough_look_is_followed_exactly() {
        let hd = colour(1, 1, 1);
        let rough = |[r, g, b]: Rgb| [if r > 0.5 { 1.0 } else { 0.0 }, if g > 0.3 { 1.0 } else { 0.0 }, b];
        let table = Table::parse(&cube(65, rough)).unwrap();
        let grading = Grading { to_hd: false, look: Some(("rough.cube".into(), Arc::new(table))) };
        let mut grader = Grader::new(grading, Pool::new());
        grader.grade(&flat(Chroma::C420, 8, hd, [128, 128, 128, 0])).unwrap();
        assert!(matches!(&grader.drawn, Some((_, None))));
    }

    fn cube(size: usize, f: impl Fn(Rgb) -> Rgb) -> String {
        let at = |i: usize| i as f32 / (size - 1) as f32;
        let lines = (0..size * size * size).map(|i| {
            let [r, g, b] = f([at(i % size), at(i / size % size), at(i / size / size)]);
            format!("{r:.6} {g:.6} {b:.6}\n")
        });
        format!("# made up\nTITLE \"Ebb\"\nLUT_3D_SIZE {size}\n{}", lines.collect::<String>())
    }

    #[rstest]
    fn a_look_is_what_its_table_says(
        #[values(Chroma::C420, Chroma::C444, Chroma::Rgb, Chroma::Rgba)] chroma: Chroma,
        #[values(2, 17)] size: usize,
    ) {
        let hd = colour(1, 1, 1);
        let table = Table::parse(&cube(size, |[r, g, b]| [1.0 - r, g * 0.5, b])).unwrap();
        let grading = Grading { to_hd: false, look: Some(("ebb.cube".into(), Arc::new(table))) };
        let f = flat(chroma, 8, hd, values_of([200, 100, 50], chroma, hd, 8));
        let out = Grader::new(grading, Pool::new()).grade(&f).unwrap();
        let want = values_of([55, 50, 50], chroma, hd, 8);
        assert!(
            values(&out).iter().zip(want).all(|(a, b)| (a - i32::from(b)).abs() <= 2),
            "{:?} {want:?}",
            values(&out)
        );
    }

    #[test]
    fn curves_are_read_as_well() {
        let t = Table::parse("LUT_1D_SIZE 3\n0 0 0\n0.2 0.5 0.5\n1 1 0\n").unwrap();
        let v = t.at([0.5, 0.75, 1.0]);
        assert!((v[0] - 0.2).abs() < 1e-6 && (v[1] - 0.75).abs() < 1e-6 && v[2].abs() < 1e-6, "{v:?}");
    }

    #[rstest]
    #[case("", "0 lines of numbers")]
    #[case("LUT_3D_SIZE 1\n", "a size of 2 to 129")]
    #[case("LUT_3D_SIZE 900\n", "line 1")]
    #[case("LUT_3D_SIZE 2\n0 0 0\n", "8 lines of numbers for its size; it has 1")]
    #[case("LUT_3D_SIZE 2\n0 0 zero\n", "three numbers, not \"0 0 zero\" (line 2)")]
    #[case("LUT_1D_SIZE 2\n0 0 0\n1 1 1\n1 1 1\n", "2 lines of numbers and no more (line 4)")]
    #[case("HELLO\n", "a word that such a table does not have")]
    #[case("LUT_1D_SIZE 2\nDOMAIN_MIN 1 1 1\n0 0 0\n1 1 1\n", "a domain that ends")]
    #[case("LUT_1D_SIZE 2\nnan nan nan\n0 0 0\n", "a word")]
    fn a_broken_table_is_told(#[case] text: &str, #[case] words: &str) {
        let e = Table::parse(text).unwrap_err();
        assert!(e.to_string().contains(words), "{e}");
    }
}
