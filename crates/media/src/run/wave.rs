//! A picture of the sound: the highest and lowest sample of every column.

use super::film::within;
use super::{Control, Line, Made, Message};
use crate::container::wrap::Sink;
use crate::error::{Error, Result};
use crate::plan::WavePlan;
use crate::still::{Canvas, StillCodec};
use std::sync::mpsc::Receiver;

/// Parts of a second for which the highest and lowest sample are kept: memory for an hour is 6 MB.
const PARTS: u32 = 200;

pub fn make(
    number: usize,
    plan: &WavePlan,
    mut sink: Box<dyn Sink>,
    from: Receiver<Message>,
    control: &Control,
) -> Result<Made> {
    let mut peaks = Peaks::default();
    for message in from {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        match message {
            Message::Sound { place, frame } if place == plan.place => {
                if let Some(frame) = within(&frame, plan.span) {
                    peaks.add(frame.pts, frame.rate, usize::from(frame.channels), &frame.samples);
                }
                control.add(number, frame.len() as u64);
            }
            Message::End(Line::Sound) => {
                let size = peaks.draw(plan)?.encode(StillCodec::Png, &mut sink)?;
                return Ok(Made { size: Some(size), ..Made::default() });
            }
            Message::Sound { .. } | Message::Packet(_) | Message::Picture(_) | Message::End(_) => (),
        }
    }
    Err(Error::Stopped)
}

#[derive(Default)]
struct Peaks {
    parts: Vec<(f32, f32)>,
}

impl Peaks {
    fn add(&mut self, pts: i64, rate: u32, channels: usize, samples: &[f32]) {
        for (n, frame) in samples.chunks_exact(channels.max(1)).enumerate() {
            let Ok(at) = u64::try_from(pts + n as i64) else { continue };
            let part = (at * u64::from(PARTS) / u64::from(rate.max(1))) as usize;
            // Sound with a hole of days in it is not drawn that long.
            if part >= self.parts.len() {
                if part > self.parts.len() + PARTS as usize * 86_400 {
                    continue;
                }
                self.parts.resize(part + 1, (0.0, 0.0));
            }
            let (low, high) = &mut self.parts[part];
            for s in frame {
                (*low, *high) = (low.min(*s), high.max(*s));
            }
        }
    }

    fn draw(&self, plan: &WavePlan) -> Result<Canvas> {
        let (w, h) = (plan.look.width, plan.look.height);
        let mut canvas = Canvas::new(w, h, plan.look.ground)?;
        let n = self.parts.len() as u64;
        let middle = (h - 1) as f32 / 2.0;
        for x in 0..u64::from(w) {
            let from = (x * n / u64::from(w)) as usize;
            let to = ((x + 1) * n / u64::from(w)).max(from as u64 + 1).min(n) as usize;
            let (low, high) = self
                .parts
                .get(from..to)
                .unwrap_or_default()
                .iter()
                .fold((0f32, 0f32), |(l, h), p| (l.min(p.0), h.max(p.1)));
            let row = |v: f32| (middle - v.clamp(-1.0, 1.0) * middle).round() as u32;
            canvas.column(x as u32, row(high), row(low), plan.look.colour);
        }
        Ok(canvas)
    }
}
