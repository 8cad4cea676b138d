//! One track of uncompressed sound that lies in one piece: WAV, AIFF, CAF.

use crate::container::block::BlockReader;
use crate::container::{About, Demux, Packet, Source, Track};
use crate::error::Result;
use crate::units::Time;

/// Samples of all channels in a packet.
const RUN: u64 = 4096;

pub struct Samples {
    source: BlockReader,
    format: &'static str,
    tracks: Vec<Track>,
    about: About,
    data_at: u64,
    /// Bytes of one sample of all channels.
    frame: u64,
    each: u64,
    total: u64,
    next: u64,
    /// Sound from this sample on only fills up the last block.
    heard: i64,
    chosen: bool,
}

/// Where the samples lie.
pub struct Place {
    pub at: u64,
    pub len: u64,
    pub frame: u64,
    /// Samples of each channel in that.
    pub each: u64,
}

impl Samples {
    pub fn new(
        format: &'static str,
        source: Box<dyn Source>,
        mut track: Track,
        about: About,
        place: Place,
    ) -> Self {
        let total = place.len / place.frame.max(1);
        let samples = total.saturating_mul(place.each).min(i64::MAX as u64);
        track.duration = Time::new(samples as i64, track.timescale);
        track.bytes = Some(place.len);
        Samples {
            source: BlockReader::new(source),
            format,
            tracks: vec![track],
            about,
            data_at: place.at,
            frame: place.frame.max(1),
            each: place.each.max(1),
            total,
            next: 0,
            heard: samples as i64,
            chosen: true,
        }
    }
}

impl Samples {
    /// As many samples are sound, where fewer than the last block holds are left out.
    pub fn set_heard(&mut self, samples: u64) {
        let fill = (self.heard as u64).saturating_sub(samples);
        if samples > 0 && fill < self.each {
            self.heard -= fill as i64;
            self.tracks[0].duration = Time::new(self.heard, self.tracks[0].timescale);
        }
    }
    /// For coded sound, whose bytes are no samples.
    pub fn set_duration(&mut self, d: Time) {
        self.tracks[0].duration = d;
    }
}

impl Demux for Samples {
    fn format(&self) -> &'static str {
        self.format
    }
    fn tracks(&self) -> &[Track] {
        &self.tracks
    }
    fn about(&self) -> &About {
        &self.about
    }
    fn choose(&mut self, tracks: &[usize]) {
        self.chosen = tracks.contains(&0);
    }
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        let n = (RUN / self.each).max(1).min(self.total - self.next);
        if n == 0 || !self.chosen {
            return Ok(None);
        }
        let at = self.data_at + self.next * self.frame;
        let pts = (self.next * self.each) as i64;
        self.next += n;
        let data = self.source.read(at, (n * self.frame) as usize)?;
        let duration = (n * self.each) as i64;
        let left = self.heard - pts;
        Ok(Some(Packet {
            pts,
            duration: duration.min(left.max(0)),
            keep: (left < duration).then_some(left.max(0) as u32),
            key: true,
            shown: true,
            data,
            ..Packet::default()
        }))
    }
}
