//! Another frame rate, by repeating pictures and leaving some out. Every picture of the new rate is the one that is shown at
//! its moment, and has its exact time.

use super::{Shown, VideoFilter};
use crate::error::Result;
use crate::units::{Ratio, Time};

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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::{Chroma, Pool, VideoFrame};
    use rstest::rstest;
    use std::sync::Arc;

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
}
