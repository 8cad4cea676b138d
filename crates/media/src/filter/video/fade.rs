//! From black, and to black.

use super::frame::values_of;
use super::{Form, Shown, VideoFilter};
use crate::error::Result;
use crate::frame::{Pool, Samples, VideoFrame};
use std::sync::Arc;

/// When pictures come up and go down, in ticks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fading {
    /// From the first picture on so long.
    pub up: i64,
    /// So long, up to this moment behind the first picture.
    pub down: i64,
    pub end: i64,
}

impl Fading {
    pub fn words(&self, form: &Form) -> String {
        let seconds = |ticks: i64| ticks as f64 / f64::from(form.timescale.max(1));
        format!("from black in {:.2} s, to black in {:.2} s", seconds(self.up), seconds(self.down))
    }

    /// How much of a picture is seen, 0 to 1.
    fn seen(&self, at: i64) -> f32 {
        let part = |done: i64, of: i64| if of > 0 { (done as f32 / of as f32).clamp(0.0, 1.0) } else { 1.0 };
        part(at, self.up).min(part(self.end - at, self.down))
    }
}

pub struct Fader {
    pub fading: Fading,
    pub pool: Pool,
    pub first: Option<i64>,
}

impl VideoFilter for Fader {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        let first = *self.first.get_or_insert(shown.pts);
        let seen = self.fading.seen(shown.pts - first);
        let frame = if seen < 1.0 { Arc::new(dim(&shown.frame, seen, &self.pool)?) } else { shown.frame };
        out.push(Shown { frame, ..shown });
        Ok(())
    }
}

fn dim(f: &VideoFrame, seen: f32, pool: &Pool) -> Result<VideoFrame> {
    let mut out = f.copy(pool)?;
    let black = values_of([0; 3], f.chroma, f.colour, f.depth);
    // In 4096ths; coverage stays.
    let by = (seen * 4096.0).round() as i32;
    for (plane, black) in out.planes.iter_mut().zip(black).take(3) {
        let black = i32::from(black);
        let value = |v: i32| black + (((v - black) * by + 2048) >> 12);
        match &mut plane.samples {
            Samples::U8(b) => b.iter_mut().for_each(|v| *v = value(i32::from(*v)) as u8),
            Samples::U16(w) => w.iter_mut().for_each(|v| *v = value(i32::from(*v)) as u16),
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Chroma;

    #[test]
    fn it_comes_from_black_and_goes_to_black() {
        let fading = Fading { up: 4, down: 2, end: 20 };
        let mut fader = Fader { fading, pool: Pool::new(), first: None };
        let mut out = Vec::new();
        for n in 0..=20i64 {
            let mut f = VideoFrame::new(&Pool::new(), 4, 4, Chroma::C422, 10).unwrap();
            f.planes
                .iter_mut()
                .for_each(|p| (0..4).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, 800))));
            fader.push(Shown { frame: Arc::new(f), pts: 7 + n, duration: 1 }, &mut out).unwrap();
        }
        let luma: Vec<u16> = out.iter().map(|s| s.frame.planes[0].at(0, 0)).collect();
        let chroma: Vec<u16> = out.iter().map(|s| s.frame.planes[1].at(0, 0)).collect();
        assert_eq!((luma[0], luma[2], luma[4], luma[18], luma[19], luma[20]), (64, 432, 800, 800, 432, 64));
        assert_eq!((chroma[0], chroma[4], chroma[20]), (512, 800, 512));
    }
}
