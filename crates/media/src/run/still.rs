//! One picture of a film.

use super::pictures::{Collect, collect};
use super::{Control, Made, Message};
use crate::container::wrap::Sink;
use crate::error::Result;
use crate::filter::video::{Chain, Shown};
use crate::frame::{Plane, Samples, VideoFrame};
use crate::plan::StillPlan;
use crate::still::{self, StillCodec};
use std::sync::mpsc::Receiver;

pub fn make(
    number: usize,
    plan: &StillPlan,
    chain: Chain,
    sink: Box<dyn Sink>,
    from: Receiver<Message>,
    control: &Control,
) -> Result<Made> {
    let telling = Telling { best: None, codec: plan.format, sink };
    let made = collect(Box::new(telling), number, chain, from, control)?;
    Ok(Made { frames: 1, ..made })
}

/// Keeps the one that tells most.
struct Telling {
    best: Option<(f64, Shown)>,
    codec: StillCodec,
    sink: Box<dyn Sink>,
}

impl Collect for Telling {
    fn take(&mut self, shown: &Shown) -> Result<()> {
        let says = tells(&shown.frame);
        if self.best.as_ref().is_none_or(|(most, _)| says > *most) {
            self.best = Some((says, shown.clone()));
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<(u32, u32)> {
        let Some((_, shown)) = &self.best else { return Ok((0, 0)) };
        still::write_frame(&shown.frame, self.codec, &mut self.sink)?;
        Ok((shown.frame.width, shown.frame.height))
    }
}

/// How much a picture tells: its fine detail, and how much of its range it uses; black and blank ones tell nothing.
fn tells(f: &VideoFrame) -> f64 {
    let Some(p) = f.planes.first() else { return 0.0 };
    let scale = f64::from(1u32 << (f.depth - 8));
    let (mut detail, mut count, mut histogram) = (0.0, 0u64, [0u64; 32]);
    let mut row = Vec::new();
    for y in (0..p.height as usize).step_by(2) {
        values(p, y, &mut row);
        for w in row.windows(2) {
            detail += (f64::from(w[0]) - f64::from(w[1])).abs() / scale;
        }
        for v in &row {
            let v = (f64::from(*v) / scale) as usize;
            histogram[(v / 8).min(31)] += 1;
        }
        count += row.len() as u64;
    }
    let spread: f64 = histogram
        .iter()
        .filter(|n| **n > 0)
        .map(|n| *n as f64 / count.max(1) as f64)
        .map(|part| -part * part.log2())
        .sum();
    spread * (1.0 + detail / count.max(1) as f64)
}

fn values(p: &Plane, y: usize, row: &mut Vec<u16>) {
    let at = y * p.stride..y * p.stride + p.width as usize;
    row.clear();
    match &p.samples {
        Samples::U8(b) => row.extend(b[at].iter().map(|v| u16::from(*v))),
        Samples::U16(w) => row.extend_from_slice(&w[at]),
    }
}
