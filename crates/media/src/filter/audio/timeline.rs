//! Sound on an unbroken line: holes in a track's times become silence, overlaps are cut, so that what is
//! written keeps its place against the picture.

use crate::error::{Error, Result};
use crate::frame::AudioFrame;
use crate::limits::MAX_SOUND_GAP_SECONDS;

/// Differences up to this part of a second are rounding of times, not holes.
const SLACK: u32 = 50;

#[derive(Debug, Default)]
pub struct Timeline {
    /// Moment of the first sample, once there is one.
    pub start: Option<i64>,
    next: i64,
    /// Samples of silence put in.
    pub filled: u64,
    /// Samples cut because two packets claimed the same time.
    pub cut: u64,
}

impl Timeline {
    /// Samples of silence that must be written first, and then the frame as it must be written behind what
    /// was written before. What lies before 0 is dropped.
    pub fn place(&mut self, mut frame: AudioFrame) -> Result<(u64, Vec<f32>)> {
        if frame.pts < 0 {
            frame.trim(usize::try_from(-frame.pts).unwrap_or(usize::MAX), 0);
        }
        if frame.is_empty() {
            return Ok((0, Vec::new()));
        }
        if self.start.is_none() {
            self.start = Some(frame.pts);
            self.next = frame.pts;
        }
        let slack = i64::from((frame.rate / SLACK).max(1));
        let gap = frame.pts - self.next;
        let mut silence = 0;
        if gap > slack {
            if gap > i64::from(frame.rate) * i64::from(MAX_SOUND_GAP_SECONDS) {
                return Err(Error::damaged("sound", format!("a hole of {gap} samples before {}", frame.pts)));
            }
            silence = gap as u64;
            self.filled += silence;
            self.next += gap;
        } else if gap < -slack {
            let over = usize::try_from(-gap).unwrap_or(usize::MAX).min(frame.len());
            self.cut += over as u64;
            frame.trim(over, 0);
        }
        self.next += frame.len() as i64;
        Ok((silence, frame.samples))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frame(pts: i64, n: usize) -> AudioFrame {
        AudioFrame { rate: 1000, channels: 1, pts, samples: vec![1.0; n] }
    }

    #[test]
    fn holes_fill_overlaps_cut_and_jitter_stays() {
        let mut t = Timeline::default();
        let got: Vec<usize> =
            [frame(-30, 100), frame(75, 100), frame(300, 100), frame(350, 100), frame(0, 5)]
                .into_iter()
                .map(|f| t.place(f).map(|(silence, sound)| silence as usize + sound.len()).unwrap())
                .collect();
        // 30 before zero dropped; 5 early is jitter; a hole of 130; an overlap of 50; all of it too late.
        assert_eq!(got, [70, 100, 230, 50, 0]);
        assert_eq!((t.start, t.filled, t.cut), (Some(0), 130, 55));
    }

    #[test]
    fn an_absurd_hole_is_damage() {
        let mut t = Timeline::default();
        t.place(frame(0, 1)).unwrap();
        assert!(t.place(frame(i64::MAX / 2, 1)).is_err());
    }
}
