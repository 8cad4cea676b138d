//! Film that video carries by 2:3 pulldown, taken out again: of every five pictures four.
//!
//! Pictures of film are shown for two fields and three in turn, so that some pictures of video have one field of each of two.
//! The field that comes first in a picture belongs to the other one of the same picture or of the one before: the pair
//! whose lines fit together is woven. Of five that were woven so one is there twice, and is left out.

use super::deinterlace::{Deinterlacer, Deinterlacing, Method};
use super::wide::{self, Machine, Work};
use super::{Form, Shown, VideoFilter, rate};
use crate::error::Result;
use crate::frame::{Fields, Plane, Pool, Samples, VideoFrame};
use crate::units::{Ratio, Time};
use std::sync::Arc;

/// Pictures of video that hold [`KEPT`] of film.
const CYCLE: usize = 5;
const KEPT: usize = 4;
/// Lines fit worse by this factor, and by so much of 255 a sample on average, before another field is looked for.
const WORSE: f64 = 1.5;
const CLEARLY: f64 = 0.02;
/// A pair that fits this many times worse than pairs usually do belongs together no more (a title that moves at the rate of
/// video, a cut between two fields): one field of it is made whole.
const BROKEN: f64 = 6.0;
const BROKEN_LEAST: f64 = 0.6;
/// How much nearer to the one before than all others a picture must be to be told as the one that is there twice.
const TWICE: f64 = 0.6;
/// A sample that stands out from the lines above and below by no more is noise.
const NOISE: i32 = 6;

/// The rate of film that a rate of video holds.
pub fn film_rate(video: Ratio) -> Option<Ratio> {
    Ratio::new(u64::from(video.num) * KEPT as u64, u64::from(video.den) * CYCLE as u64)
}

/// Rates of video that carry film so.
pub fn may_hold_film(video: Option<Ratio>) -> bool {
    video.is_some_and(|r| (29.9..=30.1).contains(&r.value()))
}

pub struct Unpulled {
    stated: Fields,
    pool: Pool,
    lines: Deinterlacer,
    before: Option<Arc<VideoFrame>>,
    /// How well pairs fit of late.
    usual: f64,
    /// What was woven and not yet given, with how far each is from the one before it.
    woven: Vec<(Arc<VideoFrame>, f64)>,
    last: Option<Arc<VideoFrame>>,
    /// The place in five of the one that was there twice.
    place: usize,
    times: Times,
}

struct Times {
    old: u32,
    new: u32,
    step: i64,
    /// Where the five begin, in old ticks, and what is next, in new ones.
    from: i64,
    next: Option<i64>,
}

impl Unpulled {
    pub fn new(from: &Form, pool: Pool) -> Unpulled {
        let film = from.rate.and_then(film_rate).unwrap_or(Ratio { num: 24_000, den: 1001 });
        let new = rate::timescale(from.timescale, film);
        let step = (u64::from(new) * u64::from(film.den) / u64::from(film.num)).max(1) as i64;
        let how = Deinterlacing { method: Method::Linear, every_field: false };
        Unpulled {
            stated: from.fields,
            lines: Deinterlacer::new(how, from, pool.clone()),
            pool,
            before: None,
            usual: 0.0,
            woven: Vec::new(),
            last: None,
            place: CYCLE,
            times: Times { old: from.timescale, new, step, from: 0, next: None },
        }
    }

    /// The picture that the first field of this one belongs to.
    fn whole(&mut self, now: &Arc<VideoFrame>) -> Result<Arc<VideoFrame>> {
        let fields = if now.fields == Fields::BottomFirst { now.fields } else { self.stated };
        let first = usize::from(fields == Fields::BottomFirst);
        let own = unfit(now, now, first);
        let before = self.before.as_ref().filter(|b| alike(b, now));
        let other = before.map_or(f64::INFINITY, |b| unfit(now, b, first));
        let turn = own > other * WORSE && own > other + CLEARLY;
        let best = own.min(other);
        let broken = best > BROKEN_LEAST && best > self.usual * BROKEN;
        self.usual = if broken { self.usual } else { self.usual * 0.8 + best * 0.2 };
        if broken {
            return Ok(Arc::new(self.lines.whole(now, now, now, first)?));
        }
        match before.filter(|_| turn) {
            Some(before) => Ok(Arc::new(weave(now, before, first, &self.pool)?)),
            None if now.fields == Fields::Progressive => Ok(now.clone()),
            None => {
                let mut whole = now.copy(&self.pool)?;
                whole.fields = Fields::Progressive;
                Ok(Arc::new(whole))
            }
        }
    }

    /// Gives what was gathered, without what is there twice.
    fn give(&mut self, out: &mut Vec<Shown>) {
        let count = self.woven.len();
        if count == 0 {
            return;
        }
        let keep = (count * KEPT + CYCLE / 2) / CYCLE;
        let mut order: Vec<usize> = (0..count).collect();
        order.sort_by(|a, b| self.woven[*a].1.total_cmp(&self.woven[*b].1));
        let mut twice: Vec<usize> = order[..count - keep].to_vec();
        if count == CYCLE {
            // Where nothing moves none is nearer than others: the place stays.
            let clear = self.woven[order[0]].1 < self.woven[order[1]].1 * TWICE;
            if clear || self.place >= count {
                self.place = order[0];
            }
            twice = vec![self.place];
        }
        let t = &mut self.times;
        let from = Time::new(t.from, t.old).ticks_at(t.new);
        // Times go on evenly, but over a hole.
        let mut next = t.next.filter(|n| (n - from).abs() < 2 * t.step).unwrap_or(from);
        for (n, (frame, _)) in self.woven.drain(..).enumerate() {
            if !twice.contains(&n) {
                out.push(Shown { frame, pts: next, duration: t.step });
                next += t.step;
            }
        }
        t.next = Some(next);
    }
}

impl VideoFilter for Unpulled {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        if self.woven.is_empty() {
            self.times.from = shown.pts;
        }
        let frame = self.whole(&shown.frame)?;
        let far = match self.last.as_ref().filter(|l| alike(l, &frame)) {
            Some(last) => apart(&frame, last),
            None => f64::INFINITY,
        };
        self.last = Some(frame.clone());
        self.before = Some(shown.frame);
        self.woven.push((frame, far));
        if self.woven.len() == CYCLE {
            self.give(out);
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut Vec<Shown>) -> Result<()> {
        self.give(out);
        Ok(())
    }
}

fn alike(a: &VideoFrame, b: &VideoFrame) -> bool {
    (a.width, a.height, a.chroma, a.depth) == (b.width, b.height, b.chroma, b.depth)
}

/// The lines of one parity of a picture, and those of the other parity of another one.
fn weave(first: &VideoFrame, second: &VideoFrame, parity: usize, pool: &Pool) -> Result<VideoFrame> {
    let mut out = first.copy(pool)?;
    out.fields = Fields::Progressive;
    for (to, from) in out.planes.iter_mut().zip(&second.planes) {
        let (w, a, b) = (from.width as usize, from.stride, to.stride);
        for y in (1 - parity..from.height as usize).step_by(2) {
            match (&mut to.samples, &from.samples) {
                (Samples::U8(to), Samples::U8(from)) => {
                    to[y * b..y * b + w].copy_from_slice(&from[y * a..y * a + w])
                }
                (Samples::U16(to), Samples::U16(from)) => {
                    to[y * b..y * b + w].copy_from_slice(&from[y * a..y * a + w])
                }
                _ => (),
            }
        }
    }
    Ok(out)
}

/// How badly the lines of one parity of a picture fit between those of the other parity of another: what stands out from
/// both its neighbours, of 255 a sample on average.
fn unfit(first: &VideoFrame, second: &VideoFrame, parity: usize) -> f64 {
    let (a, b) = (&first.planes[0], &second.planes[0]);
    let mut sum = 0;
    let (w, h) = (a.width as usize, a.height as usize);
    let noise = NOISE << (first.depth - 8);
    for y in (1..h.saturating_sub(1)).filter(|y| y % 2 != parity) {
        let rows = |p: &Plane, y: usize| y * p.stride..y * p.stride + w;
        let (up, down, own) = (rows(a, y - 1), rows(a, y + 1), rows(b, y));
        match (&a.samples, &b.samples) {
            (Samples::U8(a), Samples::U8(b)) => {
                wide::run(Sticks { up: &a[up], down: &a[down], own: &b[own], noise, sum: &mut sum })
            }
            (Samples::U16(a), Samples::U16(b)) => {
                wide::run(Sticks { up: &a[up], down: &a[down], own: &b[own], noise, sum: &mut sum })
            }
            _ => (),
        }
    }
    sum as f64 / (w * h).max(1) as f64 * 2.0 / f64::from(1u32 << (first.depth - 8))
}

/// One line between two.
struct Sticks<'a, T> {
    up: &'a [T],
    down: &'a [T],
    own: &'a [T],
    noise: i32,
    sum: &'a mut u64,
}

impl<T: Copy + Into<i32>> Work for Sticks<'_, T> {
    #[inline(always)]
    fn work(self, _: impl Machine) {
        let mut sum = 0u32;
        for ((u, d), o) in self.up.iter().zip(self.down).zip(self.own) {
            let (u, d, o): (i32, i32, i32) = ((*u).into(), (*d).into(), (*o).into());
            // Above both, or below both.
            let over = (o - u.max(d)).max(u.min(d) - o) - self.noise;
            sum = sum.wrapping_add(over.max(0) as u32);
        }
        *self.sum += u64::from(sum);
    }
}

/// How far two pictures are from each other, of 255 a sample on average.
fn apart(one: &VideoFrame, other: &VideoFrame) -> f64 {
    let (a, b) = (&one.planes[0], &other.planes[0]);
    let (w, h) = (a.width as usize, a.height as usize);
    let mut sum = 0;
    for y in 0..h {
        let (from, to) = (y * a.stride..y * a.stride + w, y * b.stride..y * b.stride + w);
        match (&a.samples, &b.samples) {
            (Samples::U8(a), Samples::U8(b)) => wide::run(Unlike { a: &a[from], b: &b[to], sum: &mut sum }),
            (Samples::U16(a), Samples::U16(b)) => wide::run(Unlike { a: &a[from], b: &b[to], sum: &mut sum }),
            _ => (),
        }
    }
    sum as f64 / (w * h).max(1) as f64 / f64::from(1u32 << (one.depth - 8))
}

struct Unlike<'a, T> {
    a: &'a [T],
    b: &'a [T],
    sum: &'a mut u64,
}

impl<T: Copy + Into<i32>> Work for Unlike<'_, T> {
    #[inline(always)]
    fn work(self, _: impl Machine) {
        let mut sum = 0u32;
        for (a, b) in self.a.iter().zip(self.b) {
            sum = sum.wrapping_add(((*a).into() - (*b).into()).unsigned_abs());
        }
        *self.sum += u64::from(sum);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Chroma;
    use rstest::rstest;

    const VIDEO: Ratio = Ratio { num: 30_000, den: 1001 };

    /// A picture of film: a texture that drifts, and fine lines.
    fn film(n: usize, depth: u8) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 96, 64, Chroma::C420, depth).unwrap();
        for p in &mut f.planes {
            let (w, h) = (p.width as usize, p.height as usize);
            for (y, x) in (0..h).flat_map(|y| (0..w).map(move |x| (y, x))) {
                let t = (x as f32 + 3.0 * n as f32) * 0.3;
                let v = 120.0 + 70.0 * t.sin() * (y as f32 * 0.5 + n as f32 * 0.2).cos();
                p.put(x, y, (v as u16) << (depth - 8));
            }
        }
        f
    }

    /// Video of film: which picture each field shows, two and three in turn from a place in the cycle on.
    fn fields(pictures: std::ops::Range<usize>, phase: usize) -> Vec<usize> {
        let each = pictures.enumerate();
        let mut all: Vec<usize> =
            each.flat_map(|(n, p)| vec![p; if (n + phase).is_multiple_of(2) { 2 } else { 3 }]).collect();
        all.truncate(all.len() / 2 * 2);
        all
    }

    fn video(fields: &[usize], depth: u8, top_first: bool) -> Vec<VideoFrame> {
        let kind = if top_first { Fields::TopFirst } else { Fields::BottomFirst };
        fields
            .chunks_exact(2)
            .map(|two| {
                let mut f =
                    weave(&film(two[0], depth), &film(two[1], depth), usize::from(!top_first), &Pool::new())
                        .unwrap();
                f.fields = kind;
                f
            })
            .collect()
    }

    fn run(frames: Vec<VideoFrame>) -> Vec<Shown> {
        let form = Form {
            fields: Fields::TopFirst,
            rate: Some(VIDEO),
            timescale: 30_000,
            ..super::super::contract::form(96, 64, Chroma::C420, 8)
        };
        let (mut filter, mut out) = (Unpulled::new(&form, Pool::new()), Vec::new());
        for (n, f) in frames.into_iter().enumerate() {
            filter
                .push(Shown { frame: Arc::new(f), pts: n as i64 * 1001, duration: 1001 }, &mut out)
                .unwrap();
        }
        filter.finish(&mut out).unwrap();
        out
    }

    fn same(a: &VideoFrame, b: &VideoFrame) -> bool {
        a.planes == b.planes
    }

    /// Every picture of film once, sample for sample, at its own time; whatever the phase and the order of fields.
    #[rstest]
    fn the_pictures_of_film_come_back(
        #[values(0, 1)] phase: usize,
        #[values(0, 1, 2, 3, 5)] cut: usize,
        #[values(true, false)] top_first: bool,
        #[values(8, 10)] depth: u8,
    ) {
        let all = video(&fields(0..40, phase), depth, top_first);
        let out = run(all[cut..].iter().map(|f| f.copy(&Pool::new()).unwrap()).collect());
        let number = |s: &Shown| (0..40).find(|n| same(&s.frame, &film(*n, depth)));
        let numbers: Vec<Option<usize>> = out.iter().map(number).collect();
        // At the ends a field may have lost its other half.
        let inner = &numbers[2..numbers.len() - 3];
        assert!(inner.iter().all(Option::is_some), "{numbers:?}");
        assert!(inner.windows(2).all(|w| w[1].unwrap() == w[0].unwrap() + 1), "{numbers:?}");
        assert!(out.windows(2).all(|w| w[0].pts + w[0].duration == w[1].pts));
        assert_eq!(out[0].frame.fields, Fields::Progressive);
    }

    /// Cut in the middle of a cycle: the new phase is found.
    #[test]
    fn another_phase_is_found() {
        let mut frames = video(&fields(0..22, 0), 8, true);
        frames.truncate(23);
        frames.extend(video(&fields(60..90, 1), 8, true));
        let count = frames.len();
        let out = run(frames);
        assert!((out.len() as f64 - count as f64 * 0.8).abs() <= 1.0);
        let whole = |s: &&Shown| (0..90).any(|n| same(&s.frame, &film(n, 8)));
        let broken = out.len() - out.iter().filter(whole).count();
        assert!(broken <= 3, "{broken} of {} are no pictures of film", out.len());
        let late = &out[out.len() - 15..out.len() - 3];
        assert!(late.iter().all(|s| whole(&s)));
    }

    /// What stands still keeps its lines, and is as long as it was.
    #[test]
    fn what_does_not_move_stays() {
        let frames = (0..50).map(|_| {
            let mut f = film(3, 8);
            f.fields = Fields::TopFirst;
            f
        });
        let out = run(frames.collect());
        assert_eq!(out.len(), 40);
        assert!(out.iter().all(|s| same(&s.frame, &film(3, 8))));
    }
}
