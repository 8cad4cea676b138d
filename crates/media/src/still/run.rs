//! A numbered run of pictures as a clip: each file is a packet.

use crate::codec::DecodeVideo;
use crate::container::{About, Codec, Demux, Media, Packet, Source, Track, VideoTrack};
use crate::error::{Error, Result};
use crate::frame::{Pool, VideoFrame};
use crate::limits::MAX_PACKET_BYTES;
use crate::units::{Ratio, Time};
use std::io::{Cursor, Read, SeekFrom};

/// Opens the picture with this place in the run.
pub type OpenOne = Box<dyn Fn(u64) -> Result<Box<dyn Source>> + Send>;

pub struct Run {
    open: OpenOne,
    count: u64,
    next: u64,
    each: i64,
    tracks: Vec<Track>,
    about: About,
    chosen: bool,
}

impl Run {
    /// A clip of `count` pictures, each shown for one frame of `rate`. The first tells size and form.
    pub fn open(open: OpenOne, count: u64, rate: Ratio) -> Result<Run> {
        let mut first = open(0)?;
        let facts = super::facts_of(&mut first)?;
        let turned = facts.rotation == 90 || facts.rotation == 270;
        let (w, h) = if turned { (facts.height, facts.width) } else { (facts.width, facts.height) };
        // Decoding turns the picture already.
        let mut v = VideoTrack::sized(if turned { h } else { w }, if turned { w } else { h });
        (v.rate, v.constant_rate) = (Some(rate), true);
        (v.chroma, v.depth, v.colour) = (Some(facts.chroma), Some(facts.depth), facts.colour);
        v.profile = Some(facts.format.into());
        let mut track = Track::new(1, Codec::Stills, Media::Video(v), rate.num);
        let length = i64::try_from(count).ok().and_then(|n| n.checked_mul(rate.den.into()));
        track.duration =
            Time::new(length.ok_or_else(|| Error::limit("numbered run", "too many pictures"))?, rate.num);
        (track.packets, track.shown) = (Some(count), Some(count));
        Ok(Run {
            open,
            count,
            next: 0,
            each: rate.den.into(),
            tracks: vec![track],
            about: About::default(),
            chosen: true,
        })
    }
}

impl Demux for Run {
    fn format(&self) -> &'static str {
        "numbered pictures"
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
        if self.next >= self.count || !self.chosen {
            return Ok(None);
        }
        let n = self.next;
        self.next += 1;
        let mut source = (self.open)(n)?;
        let size = source.seek(SeekFrom::End(0))?;
        if size > MAX_PACKET_BYTES {
            return Err(Error::limit(
                "numbered run",
                format!("picture {n} has {size} bytes; up to {MAX_PACKET_BYTES}"),
            ));
        }
        source.seek(SeekFrom::Start(0))?;
        let mut data = Vec::with_capacity(size as usize);
        source.take(MAX_PACKET_BYTES).read_to_end(&mut data)?;
        Ok(Some(Packet {
            pts: n as i64 * self.each,
            duration: self.each,
            key: true,
            shown: true,
            data,
            ..Packet::default()
        }))
    }
}

/// Whole picture files to frames.
pub struct Decoder {
    pool: Pool,
    lost: Vec<(i64, i64)>,
}

impl Decoder {
    pub fn new(pool: Pool) -> Self {
        Decoder { pool, lost: Vec::new() }
    }
}

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        match super::frame_of(&mut Cursor::new(&packet.data), &self.pool) {
            Ok(mut f) => {
                (f.pts, f.duration) = (packet.pts, packet.duration);
                out.push(f);
                Ok(())
            }
            // One picture that is not one does not end a run.
            Err(e) => {
                self.lost.push((packet.pts, packet.duration));
                Err(Error::damaged("picture", e.to_string()))
            }
        }
    }
    fn flush(&mut self, _out: &mut Vec<VideoFrame>) -> Result<()> {
        Ok(())
    }
    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        std::mem::take(&mut self.lost)
    }
}
