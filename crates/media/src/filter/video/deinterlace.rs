//! Two fields become whole pictures.
//!
//! One field of a picture is kept; the lines of the other are made. Where nothing moves they are the other field's own, so
//! that still parts keep all their lines. Where something moves they are drawn between the lines above and below, along the
//! direction in which these look most alike; in between, both are mixed.
//!
//! Movement at a point is the largest difference that its neighbourhood shows between fields of the same lines, one
//! picture apart: above, below, and at the point itself.

use super::wide::{self, Machine, Work, whole};
use super::{Form, Shown, VideoFilter};
use crate::error::Result;
use crate::frame::{Fields, Plane, Pool, Samples, VideoFrame};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Method {
    /// The lines of one field alone, each missing one between its neighbours.
    Linear,
    /// As told above.
    #[default]
    Adaptive,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Deinterlacing {
    #[serde(default)]
    pub method: Method,
    /// A picture for each field instead of one for both.
    #[serde(default)]
    pub every_field: bool,
}

impl Deinterlacing {
    pub fn words(&self) -> String {
        let method = match self.method {
            Method::Linear => "from one field",
            Method::Adaptive => "by movement",
        };
        format!(
            "deinterlace {method}, a picture for {}",
            if self.every_field { "each field" } else { "both fields" }
        )
    }
}

/// Differences (of 255) up to which a point is still, and from which it moves.
const STILL: i32 = 4;
const MOVES: i32 = 14;

pub struct Deinterlacer {
    how: Deinterlacing,
    /// Order where a picture does not state its own.
    stated: Fields,
    pool: Pool,
    before: Option<Arc<VideoFrame>>,
    now: Option<Shown>,
}

impl Deinterlacer {
    pub fn new(how: Deinterlacing, from: &Form, pool: Pool) -> Deinterlacer {
        Deinterlacer { how, stated: from.fields, pool, before: None, now: None }
    }

    /// The pictures of the one that is held, now that the one after it is known.
    fn give(&mut self, next: Option<&Arc<VideoFrame>>, out: &mut Vec<Shown>) -> Result<()> {
        let Some(now) = self.now.take() else { return Ok(()) };
        let alike = |f: &&Arc<VideoFrame>| {
            (f.width, f.height, f.chroma, f.depth)
                == (now.frame.width, now.frame.height, now.frame.chroma, now.frame.depth)
        };
        // At the ends the picture is its own neighbour.
        let before = self.before.as_ref().filter(alike).unwrap_or(&now.frame).clone();
        let next = next.filter(alike).unwrap_or(&now.frame).clone();
        let fields = match now.frame.fields {
            Fields::Progressive | Fields::Interlaced => self.stated,
            known => known,
        };
        let first = usize::from(fields == Fields::BottomFirst);
        let twice = if self.how.every_field { 2 } else { 1 };
        for field in 0..twice {
            // The field that is kept, by the parity of its lines; beside it the two pictures whose other fields are
            // nearest in time.
            let keep = (first + field) % 2;
            let (near, far) = if field == 0 { (&before, &next) } else { (&next, &before) };
            let frame = self.whole(&now.frame, near, far, keep)?;
            // In ticks of twice the scale, if there are two.
            let (pts, duration) = match twice {
                2 => (now.pts * 2 + now.duration * field as i64, now.duration),
                _ => (now.pts, now.duration),
            };
            out.push(Shown { frame: Arc::new(frame), pts, duration });
        }
        self.before = Some(now.frame);
        Ok(())
    }

    pub(super) fn whole(
        &self,
        f: &VideoFrame,
        near: &VideoFrame,
        far: &VideoFrame,
        keep: usize,
    ) -> Result<VideoFrame> {
        let mut out = VideoFrame::new(&self.pool, f.width, f.height, f.chroma, f.depth)?;
        out.describe_like(f);
        out.fields = Fields::Progressive;
        let scale = 1i32 << (f.depth - 8);
        for i in 0..f.planes.len() {
            let (w, h) = (f.planes[i].width as usize, f.planes[i].height as usize);
            let Plane { stride, samples, .. } = &mut out.planes[i];
            let lines = [&f.planes[i], &near.planes[i], &far.planes[i]];
            match (lines.map(|p| &p.samples), samples) {
                ([Samples::U8(a), Samples::U8(b), Samples::U8(c)], Samples::U8(to)) => {
                    let all = [a, b, c].map(|s| Lines { samples: s, stride: lines[0].stride });
                    wide::run(Fill {
                        method: self.how.method,
                        all,
                        size: (w, h),
                        keep,
                        scale,
                        to,
                        stride: *stride,
                    });
                }
                ([Samples::U16(a), Samples::U16(b), Samples::U16(c)], Samples::U16(to)) => {
                    let all = [a, b, c].map(|s| Lines { samples: s, stride: lines[0].stride });
                    wide::run(Fill {
                        method: self.how.method,
                        all,
                        size: (w, h),
                        keep,
                        scale,
                        to,
                        stride: *stride,
                    });
                }
                _ => (),
            }
        }
        Ok(out)
    }
}

impl VideoFilter for Deinterlacer {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        let next = shown.frame.clone();
        self.give(Some(&next), out)?;
        self.now = Some(shown);
        Ok(())
    }

    fn finish(&mut self, out: &mut Vec<Shown>) -> Result<()> {
        self.give(None, out)
    }
}

struct Lines<'a, T> {
    samples: &'a [T],
    stride: usize,
}

impl<'a, T> Lines<'a, T> {
    #[inline(always)]
    fn line(&self, y: usize, width: usize) -> &'a [T] {
        &self.samples[y * self.stride..y * self.stride + width]
    }
}

/// A sample of 8 or of more bits, and the numbers that sums of three of them fit in: the fewer bits these have, the more of
/// them go into a vector.
trait Sample: Copy + PartialEq {
    type Number: Number;
    fn get(self) -> Self::Number;
    fn of(v: i32) -> Self;
}
impl Sample for u8 {
    type Number = i16;
    #[inline(always)]
    fn get(self) -> i16 {
        self.into()
    }
    #[inline(always)]
    fn of(v: i32) -> u8 {
        v as u8
    }
}
impl Sample for u16 {
    type Number = i32;
    #[inline(always)]
    fn get(self) -> i32 {
        self.into()
    }
    #[inline(always)]
    fn of(v: i32) -> u16 {
        v as u16
    }
}

trait Number: Copy + Ord + Into<i32> {
    const ZERO: Self;
    fn apart(self, other: Self) -> Self;
    fn sum(self, other: Self, third: Self) -> Self;
    fn mean(self, other: Self) -> Self;
    /// Itself where it is less, else below all numbers that are not.
    fn if_less(self, than: Self) -> Self;
    /// The lesser of both, where what is below all counts as above all.
    fn lesser(self, other: Self) -> Self;
    /// Itself where two are the same, else the other.
    fn if_same(self, two: (Self, Self), other: Self) -> Self;
    /// On the way to another, as far as it moves.
    fn towards(self, other: Self, moving: Self, scale: i32) -> Self;
}

/// From still to moving.
const WAY: i32 = MOVES - STILL;

macro_rules! number {
    ($t:ty, $unsigned:ty, $wide:ty, $towards:item) => {
        impl Number for $t {
            const ZERO: $t = 0;
            #[inline(always)]
            fn apart(self, other: $t) -> $t {
                (self - other).abs()
            }
            #[inline(always)]
            fn sum(self, other: $t, third: $t) -> $t {
                self + other + third
            }
            #[inline(always)]
            fn mean(self, other: $t) -> $t {
                // As processors have it: in wider numbers without a sign.
                ((self as $unsigned as $wide + other as $unsigned as $wide + 1) >> 1) as $t
            }
            #[inline(always)]
            fn if_less(self, than: $t) -> $t {
                if self < than { self } else { -1 }
            }
            #[inline(always)]
            fn lesser(self, other: $t) -> $t {
                (self as $unsigned).min(other as $unsigned) as $t
            }
            #[inline(always)]
            fn if_same(self, (a, b): ($t, $t), other: $t) -> $t {
                if a == b { self } else { other }
            }
            #[inline(always)]
            $towards
        }
    };
}
number!(
    i16,
    u16,
    u32,
    // 8 bits: the scale is 1, and a tenth is the upper half of a product.
    fn towards(self, other: i16, moving: i16, _: i32) -> i16 {
        const PART: i32 = (1 << 16) / WAY + 1;
        let way = (moving - STILL as i16).max(0).min(WAY as i16);
        let by = (other - self) * way + (WAY / 2) as i16;
        self + ((i32::from(by) * PART) >> 16) as i16
    }
);
number!(
    i32,
    u32,
    u32,
    fn towards(self, other: i32, moving: i32, scale: i32) -> i32 {
        let (still, full) = (STILL * scale, WAY * scale);
        let way = (moving - still).clamp(0, full) as f32 / full as f32;
        whole(self as f32 + (other - self) as f32 * way)
    }
);

struct Fill<'a, T> {
    method: Method,
    /// The picture, and those that are nearest in time to its one field and to the other.
    all: [Lines<'a, T>; 3],
    size: (usize, usize),
    keep: usize,
    scale: i32,
    to: &'a mut [T],
    stride: usize,
}

impl<T: Sample> Work for Fill<'_, T> {
    #[inline(always)]
    fn work(self, _: impl Machine) {
        fill(self);
    }
}

/// Line by line, so that compilers find the vectors in it.
#[inline(always)]
fn fill<T: Sample>(work: Fill<'_, T>) {
    let Fill { method, all: [now, near, far], size: (w, h), keep, scale, to, stride } = work;
    let mut moved = vec![T::Number::ZERO; w];
    // How far the kept lines above and below have moved: each is the one above of the next.
    let (mut high, mut low) = (Moved::<T::Number>::new(w), Moved::<T::Number>::new(w));
    let mut drawn = Drawn::<T::Number>::new(w.min(PIECE + 2 * (REACH + 1)));
    let still = STILL * scale;
    for y in 0..h {
        let out = &mut to[y * stride..y * stride + w];
        if y % 2 == keep || h < 2 {
            out.copy_from_slice(now.line(y, w));
            continue;
        }
        // The nearest lines that are kept; at the edge there is one.
        let up = if y == 0 { 1 } else { y - 1 };
        let down = if y + 1 >= h { y - 1 } else { y + 1 };
        let (above, below) = (now.line(up, w), now.line(down, w));
        if method == Method::Linear {
            out.iter_mut()
                .zip(above)
                .zip(below)
                .for_each(|((o, a), b)| *o = T::of(a.get().mean(b.get()).into()));
            continue;
        }
        std::mem::swap(&mut high, &mut low);
        for (kept, at) in [(&mut high, up), (&mut low, down)] {
            if kept.of != Some(at) {
                apart(&mut kept.by, now.line(at, w), near.line(at, w), true);
                apart(&mut kept.by, now.line(at, w), far.line(at, w), false);
                kept.of = Some(at);
            }
        }
        let other = now.line(y, w);
        apart(&mut moved, other, near.line(y, w), true);
        for kept in [&high, &low] {
            moved.iter_mut().zip(&kept.by).for_each(|(m, k)| *m = (*m).max(*k));
        }
        // In pieces that stay nearest to the processor with all that is counted of them; most of a picture stands still.
        for from in (0..w).step_by(PIECE) {
            let to = (from + PIECE).min(w);
            let (out, other, moved) = (&mut out[from..to], &other[from..to], &moved[from..to]);
            if moved.iter().fold(T::Number::ZERO, |most, m| most.max(*m)).into() <= still {
                out.copy_from_slice(other);
                continue;
            }
            let (a, b) = (from.saturating_sub(REACH + 1), (to + REACH + 1).min(w));
            drawn.draw(&above[a..b], &below[a..b]);
            let drawn = &drawn.values[from - a..to - a];
            for (((o, was), drawn), moving) in out.iter_mut().zip(other).zip(drawn).zip(moved) {
                *o = T::of(was.get().towards(*drawn, *moving, scale).into());
            }
        }
    }
}

/// How far each point of a line has moved.
struct Moved<N> {
    of: Option<usize>,
    by: Vec<N>,
}

impl<N: Number> Moved<N> {
    fn new(w: usize) -> Moved<N> {
        Moved { of: None, by: vec![N::ZERO; w] }
    }
}

/// The largest difference of two lines so far, at each point. All pairs in one loop were tried: no vectors were found in it.
#[inline(always)]
fn apart<T: Sample>(most: &mut [T::Number], a: &[T], b: &[T], first: bool) {
    for ((m, a), b) in most.iter_mut().zip(a).zip(b) {
        let d = a.get().apart(b.get());
        *m = if first { d } else { d.max(*m) };
    }
}

/// Points that are drawn at once.
const PIECE: usize = 256;

/// How far an edge may lean.
const REACH: usize = 3;

/// The values between two lines, each along the direction in which they are most alike there. Steeper ones need clearer
/// reasons, for they are found by chance more often: an edge gets better step by step.
struct Drawn<N> {
    above: Vec<N>,
    below: Vec<N>,
    apart: Vec<N>,
    straight: Vec<N>,
    /// The best so far, and the last of its side as long as that gets better.
    best: Vec<N>,
    last: Vec<N>,
    values: Vec<N>,
}

impl<N: Number> Drawn<N> {
    fn new(w: usize) -> Drawn<N> {
        let line = || vec![N::ZERO; w];
        Drawn {
            above: line(),
            below: line(),
            apart: line(),
            straight: line(),
            best: line(),
            last: line(),
            values: line(),
        }
    }

    #[inline(always)]
    fn fit(&mut self, w: usize) {
        if self.above.len() == w {
            return;
        }
        let all = [
            &mut self.above,
            &mut self.below,
            &mut self.apart,
            &mut self.straight,
            &mut self.best,
            &mut self.last,
            &mut self.values,
        ];
        all.into_iter().for_each(|line| line.resize(w, N::ZERO));
    }

    #[inline(always)]
    fn draw<T: Sample<Number = N>>(&mut self, above: &[T], below: &[T]) {
        let w = above.len();
        self.fit(w);
        self.above.iter_mut().zip(above).for_each(|(t, v)| *t = v.get());
        self.below.iter_mut().zip(below).for_each(|(t, v)| *t = v.get());
        let lines = self.values.iter_mut().zip(&self.above).zip(&self.below);
        lines.for_each(|((v, a), b)| *v = a.mean(*b));
        if w < 2 * REACH + 3 {
            return;
        }
        self.unlike(0);
        let n = self.apart.len() - 2;
        let three = self.apart[..n].iter().zip(&self.apart[1..=n]).zip(&self.apart[2..]);
        self.straight[1..=n].iter_mut().zip(three).for_each(|(c, ((x, y), z))| *c = x.sum(*y, *z));
        self.best.copy_from_slice(&self.straight);
        let inside = REACH + 1..w - REACH - 1;
        for side in [-1isize, 1] {
            self.last.copy_from_slice(&self.straight);
            for reach in 1..=REACH as isize {
                let lean = side * reach;
                self.unlike(lean);
                let (from, to) = (inside.start as isize, inside.end as isize);
                let a = &self.above[(from + lean) as usize..(to + lean) as usize];
                let b = &self.below[(from - lean) as usize..(to - lean) as usize];
                // Each point with its neighbours.
                let [left, here, right] = [0, 1, 2].map(|n| &self.apart[inside.start - 1 + n..]);
                let best = &mut self.best[inside.clone()];
                let last = &mut self.last[inside.clone()];
                let values = &mut self.values[inside.clone()];
                // All as long as each other, which is told so that nothing is asked at every point.
                let n = a.len();
                let (b, best, last) = (&b[..n], &mut best[..n], &mut last[..n]);
                let (left, here, right) = (&left[..n], &here[..n], &right[..n]);
                let values = &mut values[..n];
                for i in 0..n {
                    let cost = left[i].sum(here[i], right[i]);
                    last[i] = cost.if_less(last[i]);
                    let new = last[i].lesser(best[i]);
                    values[i] = values[i].if_same((new, best[i]), a[i].mean(b[i]));
                    best[i] = new;
                }
            }
        }
    }

    /// How unlike the lines are at each point, along a direction.
    #[inline(always)]
    fn unlike(&mut self, lean: isize) {
        let w = self.above.len();
        let (from, to) = (REACH as isize, (w - REACH) as isize);
        let a = &self.above[(from + lean) as usize..(to + lean) as usize];
        let b = &self.below[(from - lean) as usize..(to - lean) as usize];
        let apart = &mut self.apart[REACH..w - REACH];
        apart.iter_mut().zip(a).zip(b).for_each(|((d, a), b)| *d = a.apart(*b));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Chroma;
    use crate::testkit::psnr;

    /// One point by itself, as it is told.
    fn along(above: &[u8], below: &[u8], x: usize) -> i32 {
        let straight = above[x].get().mean(below[x].get()).into();
        if x < REACH + 1 || x + REACH + 1 >= above.len() {
            return straight;
        }
        let unlike = |lean: isize| -> i32 {
            let (a, b) = ((x as isize + lean) as usize, (x as isize - lean) as usize);
            (0..3).map(|d| i32::from(above[a + d - 1].get() - below[b + d - 1].get()).abs()).sum()
        };
        let (mut best, mut value) = (unlike(0), straight);
        for side in [-1isize, 1] {
            let mut last = unlike(0);
            for reach in 1..=REACH as isize {
                let lean = side * reach;
                let cost = unlike(lean);
                if cost >= last {
                    break;
                }
                last = cost;
                if cost < best {
                    best = cost;
                    let (a, b) = ((x as isize + lean) as usize, (x as isize - lean) as usize);
                    value = above[a].get().mean(below[b].get()).into();
                }
            }
        }
        value
    }

    #[rstest]
    fn a_line_is_drawn_as_each_of_its_points(#[values(1, 5, 8, 9, 40, 333)] w: usize) {
        for seed in 1..20u32 {
            let line = |n: u32| -> Vec<u8> {
                (0..w as u32).map(|x| ((x + n * 3) * seed * 7919 % 251 / (1 + seed % 5)) as u8).collect()
            };
            let (above, below) = (line(0), line(1));
            let mut drawn = Drawn::new(w);
            drawn.draw(&above, &below);
            let want: Vec<i32> = (0..w).map(|x| along(&above, &below, x)).collect();
            let values: Vec<i32> = drawn.values.iter().map(|v| i32::from(*v)).collect();
            assert_eq!(values, want);
        }
    }

    use crate::units::Ratio;
    use rstest::rstest;

    fn form(fields: Fields) -> Form {
        Form {
            width: 96,
            height: 64,
            chroma: Chroma::C420,
            depth: 8,
            colour: Default::default(),
            fields,
            pixel_shape: Ratio::ONE,
            rotation: 0,
            rate: Ratio::new(25, 1),
            timescale: 25,
        }
    }

    /// A still texture with a disc that moves `speed` pixels from field to field, at field `n`.
    fn scene(n: usize, speed: f32, depth: u8) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 96, 64, Chroma::C420, depth).unwrap();
        let scale = 1u16 << (depth - 8);
        for (i, p) in f.planes.iter_mut().enumerate() {
            let by = if i == 0 { 1.0 } else { 2.0 };
            for y in 0..p.height as usize {
                for x in 0..p.width as usize {
                    let (fx, fy) = (x as f32 * by, y as f32 * by);
                    let still = 110.0 + 40.0 * (fx * 0.4).sin() * (fy * 1.3).cos();
                    let (dx, dy) = (fx - 30.0 - n as f32 * speed, fy - 32.0);
                    let inside = (14.0 - (dx * dx + dy * dy).sqrt()).clamp(0.0, 1.0);
                    let v = still * (1.0 - inside) + 220.0 * inside;
                    p.put(x, y, (v as u16) * scale);
                }
            }
        }
        f
    }

    /// Fields of pictures at twice the rate, woven.
    fn woven(n: usize, speed: f32, depth: u8, top_first: bool) -> VideoFrame {
        let (a, b) = (scene(2 * n, speed, depth), scene(2 * n + 1, speed, depth));
        let mut f = scene(2 * n, speed, depth);
        for (i, p) in f.planes.iter_mut().enumerate() {
            for y in 0..p.height as usize {
                let from = if (y % 2 == 0) == top_first { &a } else { &b };
                (0..p.width as usize).for_each(|x| p.put(x, y, from.planes[i].at(x as u32, y as u32)));
            }
        }
        f.fields = if top_first { Fields::TopFirst } else { Fields::BottomFirst };
        f
    }

    fn run(how: Deinterlacing, speed: f32, depth: u8, top_first: bool) -> Vec<Shown> {
        let mut d = Deinterlacer::new(how, &form(Fields::TopFirst), Pool::new());
        let mut out = Vec::new();
        for n in 0..6 {
            let frame = Arc::new(woven(n, speed, depth, top_first));
            d.push(Shown { frame, pts: n as i64, duration: 1 }, &mut out).unwrap();
        }
        d.finish(&mut out).unwrap();
        out
    }

    #[rstest]
    fn still_parts_are_untouched(#[values(8, 10)] depth: u8, #[values(true, false)] top_first: bool) {
        let out = run(Deinterlacing::default(), 0.0, depth, top_first);
        assert_eq!(out.len(), 6);
        for s in out {
            let want = scene(0, 0.0, depth);
            assert!(s.frame.planes == want.planes);
        }
    }

    /// Against the progressive original: better than one field alone by far, and every field at its own moment.
    #[rstest]
    fn moving_parts_are_near_the_original(
        #[values(true, false)] top_first: bool,
        #[values(1.0, 2.5)] speed: f32,
    ) {
        let how = Deinterlacing { every_field: true, ..Default::default() };
        let linear = Deinterlacing { method: Method::Linear, ..how };
        let (a, b) = (run(how, speed, 8, top_first), run(linear, speed, 8, top_first));
        assert_eq!((a.len(), b.len()), (12, 12));
        let mean = |all: &[Shown]| {
            let inner = &all[2..10];
            let sum: f64 =
                inner.iter().enumerate().map(|(n, s)| psnr(&s.frame, &scene(n + 2, speed, 8))).sum();
            sum / inner.len() as f64
        };
        let (adaptive, linear) = (mean(&a), mean(&b));
        assert!(adaptive > 32.0 && adaptive > linear + 4.0, "{adaptive:.1} dB, one field {linear:.1} dB");
        assert!(a.iter().enumerate().all(|(n, s)| (s.pts, s.duration) == (n as i64, 1)));
    }
}
