//! Another frame rate, by repeating pictures and leaving some out. Every picture of the new rate is the one that is shown at
//! its moment, and has its exact time.

use super::{Shown, VideoFilter};
use crate::error::Result;
use crate::frame::{Pool, Samples, VideoFrame};
use crate::units::{Ratio, Time};
use std::sync::Arc;

/// Ticks a second in which every picture of this rate has a whole time: the old ones where they do.
pub fn timescale(old: u32, rate: Ratio) -> u32 {
    if u64::from(old) * u64::from(rate.den) % u64::from(rate.num) == 0 {
        return old;
    }
    // Fine enough for players that round to it.
    let times = 1000u32.div_ceil(rate.num).max(1);
    rate.num.saturating_mul(times)
}

pub struct Rate {
    old: u32,
    new: u32,
    step: i64,
    /// The last picture, in old ticks: shown until the next comes.
    held: Option<Shown>,
    /// The next moment, in new ticks.
    next: Option<i64>,
}

impl Rate {
    pub fn new(rate: Ratio, old: u32) -> Rate {
        let new = timescale(old, rate);
        let step = (u64::from(new) * u64::from(rate.den) / u64::from(rate.num)) as i64;
        Rate { old, new, step: step.max(1), held: None, next: None }
    }

    /// Shows the held picture at every moment before `until` (old ticks).
    fn show(&mut self, until: i64, out: &mut Vec<Shown>) {
        let Some(held) = &self.held else { return };
        let next = self.next.get_or_insert_with(|| Time::new(held.pts, self.old).ticks_at(self.new));
        // Half a step of grace: a source of the same rate whose times are rounded gives each picture once.
        while Time::new(*next, self.new).ticks_at(self.old * 2) + 1 < until.saturating_mul(2) {
            out.push(Shown { frame: held.frame.clone(), pts: *next, duration: self.step });
            *next += self.step;
        }
    }
}

impl VideoFilter for Rate {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        self.show(shown.pts, out);
        self.held = Some(shown);
        Ok(())
    }

    fn finish(&mut self, out: &mut Vec<Shown>) -> Result<()> {
        if let Some(held) = &self.held {
            let end = held.pts + held.duration.max(1);
            self.show(end, out);
        }
        Ok(())
    }
}

/// The same, but a picture between two of the source is a mixture of both, by how near each is.
pub struct Blend {
    times: Rate,
    before: Option<Shown>,
    pool: Pool,
}

/// Nearer than this (in parts of the way), a picture is taken as it is.
const NEAR: f64 = 0.04;

impl Blend {
    pub fn new(rate: Ratio, old: u32, pool: Pool) -> Blend {
        Blend { times: Rate::new(rate, old), before: None, pool }
    }

    /// Pictures for every moment up to `until` (old ticks), between the one before and this one.
    fn show(&mut self, until: i64, next: Option<&Shown>, out: &mut Vec<Shown>) -> Result<()> {
        let Some(before) = &self.before else { return Ok(()) };
        let mut due = Vec::new();
        self.times.held = Some(before.clone());
        self.times.show(until, &mut due);
        for shown in due {
            let at = shown.pts as f64 / f64::from(self.times.new) * f64::from(self.times.old);
            let frame = match next {
                Some(next) if next.pts > before.pts => {
                    let way = ((at - before.pts as f64) / (next.pts - before.pts) as f64).clamp(0.0, 1.0);
                    match way {
                        w if w < NEAR => before.frame.clone(),
                        w if w > 1.0 - NEAR => next.frame.clone(),
                        w => Arc::new(mix(&before.frame, &next.frame, w, &self.pool)?),
                    }
                }
                _ => before.frame.clone(),
            };
            out.push(Shown { frame, ..shown });
        }
        Ok(())
    }
}

impl VideoFilter for Blend {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        self.show(shown.pts, Some(&shown), out)?;
        self.before = Some(shown);
        Ok(())
    }

    fn finish(&mut self, out: &mut Vec<Shown>) -> Result<()> {
        let end = self.before.as_ref().map_or(0, |b| b.pts + b.duration.max(1));
        self.show(end, None, out)
    }
}

fn mix(a: &VideoFrame, b: &VideoFrame, way: f64, pool: &Pool) -> Result<VideoFrame> {
    let mut out = a.copy(pool)?;
    if (a.width, a.height, a.chroma, a.depth) != (b.width, b.height, b.chroma, b.depth) {
        return Ok(out);
    }
    let by = (way * 256.0).round() as u32;
    for (to, from) in out.planes.iter_mut().zip(&b.planes) {
        match (&mut to.samples, &from.samples) {
            (Samples::U8(t), Samples::U8(f)) => t
                .iter_mut()
                .zip(f.iter())
                .for_each(|(t, f)| *t = ((u32::from(*t) * (256 - by) + u32::from(*f) * by + 128) >> 8) as u8),
            (Samples::U16(t), Samples::U16(f)) => t.iter_mut().zip(f.iter()).for_each(|(t, f)| {
                *t = ((u32::from(*t) * (256 - by) + u32::from(*f) * by + 128) >> 8) as u16
            }),
            _ => (),
        }
    }
    Ok(out)
}

/// Times run so many times as fast: a thousandth each.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pace(pub u32);

impl Pace {
    /// Parts of `self` that both scales are whole in.
    fn reduced(self) -> (i64, i64) {
        let mut parts = (i64::from(self.0.max(1)), 1000i64);
        for by in [2, 5] {
            while parts.0 % by == 0 && parts.1 % by == 0 {
                parts = (parts.0 / by, parts.1 / by);
            }
        }
        parts
    }

    pub fn timescale(self, old: u32) -> u32 {
        let (times, _) = self.reduced();
        u32::try_from(i64::from(old) * times).unwrap_or(old)
    }

    pub fn rate(self, of: Ratio) -> Option<Ratio> {
        let (times, parts) = self.reduced();
        Ratio::new(u64::from(of.num) * times as u64, u64::from(of.den) * parts as u64)
    }

    /// As many pictures a second of the source as are wanted of the result.
    pub fn sparse(self, of: Ratio) -> Option<Ratio> {
        let (times, parts) = self.reduced();
        Ratio::new(u64::from(of.num) * parts as u64, u64::from(of.den) * times as u64)
    }

    pub fn of(self, at: i64, old: u32) -> i64 {
        let (times, parts) = self.reduced();
        if self.timescale(old) == old { at * parts / times } else { at * parts }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Chroma;
    use rstest::rstest;

    /// Ten seconds of one rate in another: how many come, and that each is the one of its moment.
    #[rstest]
    #[case(25_000, (25, 1), (50, 1), 500)]
    #[case(50_000, (50, 1), (25, 1), 250)]
    #[case(30_000, (30_000, 1001), (25, 1), 250)]
    #[case(90_000, (24_000, 1001), (30_000, 1001), 300)]
    #[case(1000, (30_000, 1001), (30_000, 1001), 300)]
    fn every_moment_has_its_picture(
        #[case] scale: u32,
        #[case] from: (u64, u64),
        #[case] to: (u64, u64),
        #[case] want: usize,
    ) {
        let (from, to) = (Ratio::new(from.0, from.1).unwrap(), Ratio::new(to.0, to.1).unwrap());
        let mut rate = Rate::new(to, scale);
        let count = (10.0 * from.value()).round() as i64;
        let moment = |n: i64| (n as f64 / from.value() * f64::from(scale)).round() as i64;
        let mut out = Vec::new();
        for n in 0..count {
            let mut f = VideoFrame::new(&Pool::new(), 2, 2, Chroma::Gray, 16).unwrap();
            f.planes[0].put(0, 0, n as u16);
            let shown = Shown { frame: Arc::new(f), pts: moment(n), duration: moment(n + 1) - moment(n) };
            rate.push(shown, &mut out).unwrap();
        }
        rate.finish(&mut out).unwrap();
        assert!(out.len().abs_diff(want) <= 1, "{} for {want}", out.len());
        let new = timescale(scale, to);
        for (i, s) in out.iter().enumerate() {
            let at = s.pts as f64 / f64::from(new);
            assert!((at - i as f64 / to.value()).abs() < 1e-9, "picture {i} at {at}");
            let source = i64::from(s.frame.planes[0].at(0, 0)) as f64 / from.value();
            let late = at - source;
            assert!(
                late > -0.001 && late < 1.0 / from.value() + 0.001,
                "picture {i} is of {source}, at {at}"
            );
        }
    }

    /// A picture that moves evenly is at the right place in every picture of the new rate.
    #[rstest]
    #[case((24, 1), (25, 1))]
    #[case((25, 1), (50, 1))]
    #[case((50, 1), (30, 1))]
    fn a_mixture_is_between_its_neighbours(#[case] from: (u64, u64), #[case] to: (u64, u64)) {
        let (from, to) = (Ratio::new(from.0, from.1).unwrap(), Ratio::new(to.0, to.1).unwrap());
        let mut blend = Blend::new(to, 600, Pool::new());
        let mut out = Vec::new();
        for n in 0..100i64 {
            let mut f = VideoFrame::new(&Pool::new(), 2, 2, Chroma::Gray, 16).unwrap();
            let at = |n: i64| n * 600 / i64::from(from.num);
            (0..4).for_each(|i| f.planes[0].put(i % 2, i / 2, (at(n) * 20) as u16));
            let shown = Shown { frame: Arc::new(f), pts: at(n), duration: at(n + 1) - at(n) };
            blend.push(shown, &mut out).unwrap();
        }
        blend.finish(&mut out).unwrap();
        let want = 100.0 / from.value() * to.value();
        assert!((out.len() as f64 - want).abs() <= 1.0);
        let last = out.len() - (to.value() / from.value()).ceil() as usize - 1;
        for s in &out[..last] {
            let at = s.pts as f64 / f64::from(timescale(600, to)) * 600.0 * 20.0;
            // A picture that is near enough is taken whole.
            let off = (f64::from(s.frame.planes[0].at(1, 1)) - at).abs();
            assert!(off <= 600.0 / from.value() * 20.0 * NEAR + 5.0, "{off} off at {at}");
        }
    }

    #[rstest]
    #[case(2000, 25_000, 50_000, 100, 100)]
    #[case(500, 25_000, 25_000, 100, 200)]
    #[case(1500, 90_000, 270_000, 90_000, 180_000)]
    fn times_run_faster(
        #[case] pace: u32,
        #[case] old: u32,
        #[case] new: u32,
        #[case] at: i64,
        #[case] want: i64,
    ) {
        let pace = Pace(pace);
        assert_eq!((pace.timescale(old), pace.of(at, old)), (new, want));
        let seconds = at as f64 / f64::from(old) * 1000.0 / f64::from(pace.0);
        assert!((want as f64 / f64::from(new) - seconds).abs() < 1e-9);
    }
}
