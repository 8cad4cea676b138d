//! What is taken from other pictures (ISO/IEC 13818-2, 7.6).

/// Samples of a frame, in whole macroblocks: luma and both colour differences.
#[derive(Clone)]
pub struct Planes {
    pub samples: [Vec<u8>; 3],
    pub strides: [usize; 3],
    pub heights: [usize; 3],
}

impl Planes {
    /// Grey, of so many macroblocks; `sub`: by which powers of two colour differences are fewer, across and down.
    pub fn new(across: usize, down: usize, sub: (u32, u32)) -> Planes {
        let size = |n: usize| match n {
            0 => (across * 16, down * 16),
            _ => ((across * 16) >> sub.0, (down * 16) >> sub.1),
        };
        let sizes = [size(0), size(1), size(2)];
        Planes {
            samples: sizes.map(|(w, h)| vec![128; w * h]),
            strides: sizes.map(|s| s.0),
            heights: sizes.map(|s| s.1),
        }
    }
}

/// The rows of a plane that count: all, or those of one field.
#[derive(Clone, Copy, Debug)]
pub struct Rows {
    /// 0, or 1 for the lower field.
    pub first: usize,
    /// 1, or 2 for a field.
    pub every: usize,
}

pub const ALL: Rows = Rows { first: 0, every: 1 };

impl Rows {
    pub fn field(lower: bool) -> Rows {
        Rows { first: usize::from(lower), every: 2 }
    }
}

/// A block that is taken: where to, how large, from which rows, by which vector in half samples of luma.
#[derive(Clone, Copy, Debug)]
pub struct Take {
    pub to: Rows,
    pub from: Rows,
    /// Of the luma, in rows of `to`.
    pub x: usize,
    pub y: usize,
    pub height: usize,
    pub vector: [i32; 2],
    /// It is the second one: the mean of both counts.
    pub mean: bool,
}

/// Takes the block in all planes.
pub fn take(to: &mut Planes, from: &Planes, sub: (u32, u32), t: Take) {
    for n in 0..3 {
        let (sx, sy) = if n == 0 { (0, 0) } else { sub };
        let part = |v: i32, by: u32| if by == 0 { v } else { v / 2 };
        let (vx, vy) = (part(t.vector[0], sx), part(t.vector[1], sy));
        let place = Place { x: t.x >> sx, y: t.y >> sy, w: 16 >> sx, h: t.height >> sy, vx, vy };
        let stride = from.strides[n];
        let source = Field {
            samples: &from.samples[n],
            start: t.from.first * stride,
            stride: stride * t.from.every,
            w: stride,
            h: from.heights[n] / t.from.every,
        };
        let (start, step) = (t.to.first * to.strides[n], to.strides[n] * t.to.every);
        let dest = &mut to.samples[n];
        if place.w == 16 {
            block::<16>(dest, (start, step), &source, place, t.mean);
        } else {
            block::<8>(dest, (start, step), &source, place, t.mean);
        }
    }
}

struct Place {
    x: usize,
    y: usize,
    w: usize,
    h: usize,
    vx: i32,
    vy: i32,
}

struct Field<'a> {
    samples: &'a [u8],
    start: usize,
    stride: usize,
    w: usize,
    h: usize,
}

fn block<const W: usize>(
    to: &mut [u8],
    (start, step): (usize, usize),
    from: &Field<'_>,
    p: Place,
    mean: bool,
) {
    // What leads out of the picture is broken: the nearest place inside is taken.
    let inside = |at: usize, by: i32, size: usize, all: usize| {
        let last = (all.saturating_sub(size) * 2) as i64;
        (at as i64 * 2 + i64::from(by)).clamp(0, last.max(0)) as usize
    };
    let (hx, hy) = (inside(p.x, p.vx, W, from.w), inside(p.y, p.vy, p.h, from.h));
    let (x, y, half_x, half_y) = (hx / 2, hy / 2, hx % 2 == 1, hy % 2 == 1);
    for r in 0..p.h {
        let at = from.start + (y + r) * from.stride + x;
        let under = if half_y { at + from.stride } else { at };
        let beside = usize::from(half_x);
        let rows = (from.samples.get(at..at + W + beside), from.samples.get(under..under + W + beside));
        let out = start + (p.y + r) * step + p.x;
        let (Some(out), (Some(a), Some(b))) = (to.get_mut(out..out + W), rows) else { return };
        let mut v = [0u8; W];
        match (half_x, half_y) {
            (false, false) => v.copy_from_slice(&a[..W]),
            (true, false) => {
                for i in 0..W {
                    v[i] = ((u16::from(a[i]) + u16::from(a[i + 1]) + 1) >> 1) as u8;
                }
            }
            (false, true) => {
                for i in 0..W {
                    v[i] = ((u16::from(a[i]) + u16::from(b[i]) + 1) >> 1) as u8;
                }
            }
            (true, true) => {
                for i in 0..W {
                    let sum = u16::from(a[i]) + u16::from(a[i + 1]) + u16::from(b[i]) + u16::from(b[i + 1]);
                    v[i] = ((sum + 2) >> 2) as u8;
                }
            }
        }
        if mean {
            for (o, v) in out.iter_mut().zip(v) {
                *o = ((u16::from(*o) + u16::from(v) + 1) >> 1) as u8;
            }
        } else {
            out.copy_from_slice(&v);
        }
    }
}
