//! One picture of a film.

use super::{Control, Line, Made, Message};
use crate::container::wrap::Sink;
use crate::error::{Error, Result};
use crate::filter::video::{Chain, Shown};
use crate::frame::{Plane, Samples, VideoFrame};
use crate::plan::StillPlan;
use crate::still;
use std::sync::mpsc::Receiver;

pub fn make(
    number: usize,
    plan: &StillPlan,
    mut chain: Chain,
    mut sink: Box<dyn Sink>,
    from: Receiver<Message>,
    control: &Control,
) -> Result<Made> {
    let (mut ready, mut best): (Vec<Shown>, Option<(f64, Shown)>) = (Vec::new(), None);
    for message in from {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        let ended = match message {
            Message::Picture(shown) => {
                chain.push(shown, &mut ready)?;
                false
            }
            Message::Sound { .. } => false,
            Message::End(line) => {
                chain.finish(&mut ready)?;
                line == Line::Pictures
            }
        };
        for shown in ready.drain(..) {
            let says = tells(&shown.frame);
            if best.as_ref().is_none_or(|(most, _)| says > *most) {
                best = Some((says, shown));
            }
        }
        if ended {
            let Some((_, shown)) = best else {
                return Err(Error::damaged("picture track", "it has no picture to make a still of"));
            };
            still::write_frame(&shown.frame, plan.format.into(), &mut sink)?;
            control.add(number, 1);
            return Ok(Made {
                size: Some((shown.frame.width, shown.frame.height)),
                frames: 1,
                ..Made::default()
            });
        }
    }
    Err(Error::Stopped)
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
