//! Decoded sound: 32-bit float, interleaved, full scale at 1.0.

use crate::track::Packet;

/// A stretch of sound. `pts` is in samples of `rate` from the start of the presentation.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct AudioFrame {
    pub rate: u32,
    pub channels: u16,
    pub pts: i64,
    /// `samples.len()` is a multiple of `channels`.
    pub samples: Vec<f32>,
}

impl AudioFrame {
    /// Samples in each channel.
    pub fn len(&self) -> usize {
        self.samples.len() / usize::from(self.channels.max(1))
    }
    pub fn is_empty(&self) -> bool {
        self.samples.is_empty()
    }

    /// Drops samples (of each channel) at both ends; more than there are leaves it empty.
    pub fn trim(&mut self, start: usize, end: usize) {
        let ch = usize::from(self.channels.max(1));
        let len = self.len();
        let start = start.min(len);
        let keep = len.saturating_sub(end).max(start);
        self.samples.truncate(keep * ch);
        self.samples.drain(..start * ch);
        self.pts += start as i64;
    }

    /// What is to be heard of a packet's sound, at the packet's time; `None` if nothing is.
    pub fn heard(mut self, packet: &Packet) -> Option<AudioFrame> {
        self.trim(packet.trim_start as usize, 0);
        // The packet's time is that of its first sample that is kept.
        self.pts = packet.pts;
        if let Some(keep) = packet.keep {
            self.trim(0, self.len().saturating_sub(keep as usize));
        }
        (packet.shown && !self.is_empty()).then_some(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(1, 1, vec![2.0, 3.0, 4.0, 5.0], 1)]
    #[case(0, 9, vec![], 0)]
    #[case(9, 0, vec![], 4)]
    fn trim_keeps_whole_samples(
        #[case] s: usize,
        #[case] e: usize,
        #[case] want: Vec<f32>,
        #[case] pts: i64,
    ) {
        let mut f =
            AudioFrame { rate: 8000, channels: 2, pts: 0, samples: (0..8).map(|v| v as f32).collect() };
        f.trim(s, e);
        assert_eq!((f.samples, f.pts), (want, pts));
    }
}
