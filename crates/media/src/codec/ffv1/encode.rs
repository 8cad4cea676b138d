//! Pictures to packets.

use super::coder::{Encoder as Coder, usual_ones, zeros};
use super::{Config, EVEN, Near, Quants, STATES, States, parity};
use crate::codec::{Coded, EncodeVideo, PictureForm};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Plane, Samples, VideoFrame};

/// Pixels of a picture from which on there are four slices at least (5: 352x288).
const WHOLE_UP_TO: u64 = 101_376;
/// Least pixels of a slice in a direction, and most slices there.
const LEAST: u32 = 16;
const MOST: u32 = 8;

/// How many slices there are in a row, and rows of them. Each begins at a whole sample of chroma: of one that does not, the
/// last row or column would belong to none (4.7.1 rounds its beginning down and its size up).
fn cut((w, across): (u32, u32), (h, down): (u32, u32)) -> (u32, u32) {
    if u64::from(w) * u64::from(h) <= WHOLE_UP_TO {
        return (1, 1);
    }
    let whole = |of: u32, by: u32, n: u32| {
        of >= n * LEAST && (1..n).all(|i| (u64::from(i) * u64::from(of) / u64::from(n)) % (1 << by) == 0)
    };
    // Eight are enough for every machine, four where that does not go; then whatever does.
    let usual = [(2, 4), (4, 2), (2, 2), (1, 4), (4, 1)];
    let others = (1..=MOST).flat_map(|c| (1..=MOST).map(move |l| (c, l))).filter(|(c, l)| c * l >= 4);
    usual
        .into_iter()
        .chain(others)
        .find(|(c, l)| whole(w, across, *c) && whole(h, down, *l))
        .unwrap_or((1, 1))
}

pub struct Encoder {
    config: Config,
    zeros: Box<[u8; 256]>,
    size: (u32, u32),
    chroma: Chroma,
}

impl Encoder {
    pub fn new(form: &PictureForm) -> Result<Encoder> {
        let rgb = matches!(form.chroma, Chroma::Rgb | Chroma::Rgba);
        let (across, down) = match form.chroma {
            Chroma::C420 => (1, 1),
            Chroma::C422 => (1, 0),
            _ => (0, 0),
        };
        let (w, h) = (form.width, form.height);
        let (columns, lines) = cut((w, across), (h, down));
        let config = Config {
            micro: 4,
            rgb,
            depth: form.depth,
            chroma: form.chroma != Chroma::Gray,
            across,
            down,
            alpha: form.chroma == Chroma::Rgba,
            columns,
            lines,
            quants: vec![Quants::usual(form.depth)],
            initial: vec![None],
            ones: usual_ones(),
            checked: true,
            intra: true,
        };
        let zeros = zeros(&config.ones);
        Ok(Encoder { config, zeros, size: (w, h), chroma: form.chroma })
    }

    fn slice(&self, f: &VideoFrame, x: u32, y: u32) -> Vec<u8> {
        let c = &self.config;
        let mut coder = Coder::new(&c.ones, &self.zeros);
        if (x, y) == (0, 0) {
            // Every picture is a key.
            coder.bit(&mut { EVEN }, true);
        }
        // Where it is, which tables each kind of plane uses, that it is a whole picture, and the shape of its pixels.
        let mut s = [EVEN; STATES];
        let kinds = 2 + u32::from(c.alpha);
        let head = [x, y, 0, 0].into_iter().chain((0..kinds).map(|_| 0)).chain([3, 0, 0]);
        head.for_each(|v| coder.number(&mut s, v as i32, false));
        let quants = &c.quants[0];
        let mut states: Vec<Vec<States>> =
            (0..kinds).map(|_| vec![[EVEN; STATES]; quants.contexts]).collect();
        let at = c.slice(x, y, self.size.0, self.size.1);
        let planes = f.planes.len();
        if c.rgb {
            self.rgb_lines(f, at, &mut coder, &mut states);
        } else {
            for plane in 0..planes {
                let (px, py, w, h) = c.part(plane, at);
                let mut lines = Lines::new(w);
                for line in 0..h {
                    row(&f.planes[plane], px, py + line, lines.next());
                    self.line(&mut lines, &mut coder, &mut states[Config::kind(plane)]);
                }
            }
        }
        let mut out = coder.finish(true);
        let len = out.len() as u32;
        out.extend(&len.to_be_bytes()[1..]);
        out.push(0);
        out.extend(parity(&out).to_be_bytes());
        out
    }

    /// The planes take turns line by line, as differences to green (3.7.2.1).
    fn rgb_lines(
        &self,
        f: &VideoFrame,
        (x, y, w, h): (u32, u32, u32, u32),
        coder: &mut Coder<'_>,
        states: &mut [Vec<States>],
    ) {
        let c = &self.config;
        let (w, offset) = (w as usize, 1i32 << c.depth);
        let planes = f.planes.len();
        let mut lines: Vec<Lines> = (0..planes).map(|_| Lines::new(w)).collect();
        let mut raw = vec![vec![0i32; w]; planes];
        for line in 0..h {
            for (plane, raw) in f.planes.iter().zip(&mut raw) {
                row(plane, x as usize, (y + line) as usize, raw);
            }
            let middle = if c.turned() { 2 } else { 1 };
            let first = if c.turned() { 1 } else { 2 };
            #[allow(clippy::needless_range_loop)] // three rows at once
            for i in 0..w {
                let g = raw[middle][i];
                let (b, r) = (raw[first][i] - g, raw[0][i] - g);
                raw[middle][i] = g + ((b + r) >> 2);
                raw[first][i] = b + offset;
                raw[0][i] = r + offset;
            }
            // Luma, blue, red, coverage.
            for (n, from) in [middle, first, 0, 3].into_iter().take(planes).enumerate() {
                lines[n].next().copy_from_slice(&raw[from]);
                self.line(&mut lines[n], coder, &mut states[Config::kind(n)]);
            }
        }
    }

    fn line(&self, lines: &mut Lines, coder: &mut Coder<'_>, states: &mut [States]) {
        let (bits, wide) = (self.config.bits(), self.config.is_wide());
        let quants = &self.config.quants[0];
        let shift = 32 - bits;
        lines.edge();
        for x in 0..lines.width {
            let near = lines.near(x);
            let context = quants.context(false, near);
            let mut d = lines.now(x) - near.guess(wide);
            if context < 0 {
                d = -d;
            }
            // As a number of so many bits with a sign.
            let d = d << shift >> shift;
            coder.number(&mut states[context.unsigned_abs() as usize], d, true);
        }
    }
}

impl Quants {
    /// Eleven steps for each of the three nearest differences.
    fn usual(depth: u8) -> Quants {
        // The index is the low 8 bits of the difference: more bits have wider steps, as far as those reach.
        let steps: [usize; 5] = if depth <= 8 { [1, 2, 5, 12, 23] } else { [2, 6, 16, 36, 72] };
        let mut tables = Box::new([[0i16; 256]; 5]);
        let mut scale = 1;
        for table in tables.iter_mut().take(3) {
            for i in 1..128 {
                let v = steps.iter().filter(|s| i >= **s).count() as i16 * scale;
                (table[i], table[256 - i]) = (v, -v);
            }
            table[128] = -table[127];
            scale *= 11;
        }
        Quants { tables, contexts: (11usize * 11 * 11).div_ceil(2) }
    }
}

/// The lines that a sample's neighbours lie in, with room at both sides.
pub(super) struct Lines {
    pub width: usize,
    rows: [Vec<i32>; 3],
    at: usize,
}

const LEAD: usize = 2;

impl Lines {
    pub fn new(width: usize) -> Lines {
        Lines { width, rows: std::array::from_fn(|_| vec![0; width + LEAD + 1]), at: 0 }
    }

    /// The line that comes next, to be filled.
    pub fn next(&mut self) -> &mut [i32] {
        self.at = (self.at + 1) % 3;
        let w = self.width;
        &mut self.rows[self.at][LEAD..LEAD + w]
    }

    /// What lies beside the line and the one above (3.1).
    pub fn edge(&mut self) {
        let above = (self.at + 2) % 3;
        let first = self.rows[above][LEAD];
        self.rows[self.at][LEAD - 1] = first;
        let end = LEAD + self.width;
        self.rows[above][end] = self.rows[above][end - 1];
    }

    pub fn now(&self, x: usize) -> i32 {
        self.rows[self.at][LEAD + x]
    }

    pub fn put(&mut self, x: usize, v: i32) {
        self.rows[self.at][LEAD + x] = v;
    }

    #[inline]
    pub fn near(&self, x: usize) -> Near {
        let (now, above) = (&self.rows[self.at], &self.rows[(self.at + 2) % 3]);
        let far = &self.rows[(self.at + 1) % 3];
        let i = LEAD + x;
        Near { l: now[i - 1], ll: now[i - 2], tl: above[i - 1], t: above[i], tr: above[i + 1], tt: far[i] }
    }
}

/// A part of a row, as numbers.
fn row(plane: &Plane, x: usize, y: usize, to: &mut [i32]) {
    let at = y * plane.stride + x..y * plane.stride + x + to.len();
    match &plane.samples {
        Samples::U8(b) => to.iter_mut().zip(&b[at]).for_each(|(t, v)| *t = i32::from(*v)),
        Samples::U16(w) => to.iter_mut().zip(&w[at]).for_each(|(t, v)| *t = i32::from(*v)),
    }
}

impl EncodeVideo for Encoder {
    fn encode(&mut self, frame: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        let same = (frame.width, frame.height) == self.size && frame.chroma == self.chroma;
        if !same || frame.depth != self.config.depth {
            return Err(Error::unsupported(
                "FFV1 encoder",
                "the pictures change their size or form midway, which is not kept without loss",
            ));
        }
        let this = &*self;
        let slices: Vec<(u32, u32)> =
            (0..this.config.lines).flat_map(|y| (0..this.config.columns).map(move |x| (x, y))).collect();
        let coded: Vec<Vec<u8>> = std::thread::scope(|scope| {
            let all: Vec<_> =
                slices.iter().map(|&(x, y)| scope.spawn(move || this.slice(frame, x, y))).collect();
            all.into_iter().map(|s| s.join().unwrap_or_default()).collect()
        });
        if coded.iter().any(Vec::is_empty) {
            return Err(Error::limit("FFV1 encoder", "a slice ended early"));
        }
        out.push(Coded::new(pts, duration, true, coded.concat()));
        Ok(())
    }

    fn flush(&mut self, _out: &mut Vec<Coded>) -> Result<()> {
        Ok(())
    }

    /// The configuration record (4.2).
    fn setup(&self) -> Vec<u8> {
        let c = &self.config;
        let mut coder = Coder::new(&c.ones, &self.zeros);
        let mut s = [EVEN; STATES];
        let number = |coder: &mut Coder<'_>, s: &mut States, v: u32| coder.number(s, v as i32, false);
        for v in [3, c.micro, 1, u32::from(c.rgb), c.depth.into()] {
            number(&mut coder, &mut s, v);
        }
        coder.bit(&mut s[0], c.chroma);
        number(&mut coder, &mut s, c.across);
        number(&mut coder, &mut s, c.down);
        coder.bit(&mut s[0], c.alpha);
        for v in [c.columns - 1, c.lines - 1, c.quants.len() as u32] {
            number(&mut coder, &mut s, v);
        }
        for table in c.quants.iter().flat_map(|q| q.tables.iter()) {
            // How long each value goes on (4.10).
            let mut s = [EVEN; STATES];
            let mut last = 0;
            for i in (1..128).filter(|i| table[*i] != table[i - 1]).chain([128]) {
                number(&mut coder, &mut s, (i - last - 1) as u32);
                last = i;
            }
        }
        // No states to begin with, a checksum behind each slice, every picture by itself.
        c.quants.iter().for_each(|_| coder.bit(&mut s[0], false));
        number(&mut coder, &mut s, c.checked.into());
        number(&mut coder, &mut s, c.intra.into());
        let mut out = coder.finish(false);
        out.extend(parity(&out).to_be_bytes());
        out
    }
}
