//! The faster decoder as long as it gives every picture, the exact one where it cannot.

use super::exact::Exact;
use super::quick::Quick;
use crate::codec::DecodeVideo;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Fields, Pool, VideoFrame};
use crate::track::{Packet, Track, VideoTrack};

/// Most that is kept of a group of pictures, to begin it again with the other decoder.
const KEPT: usize = 64 << 20;

pub struct Decoder {
    now: Now,
    setup: Vec<u8>,
    fields: Fields,
    decode_times: bool,
    pool: Pool,
}

enum Now {
    Quick(Box<Trial>),
    Exact(Box<Exact>),
}

/// The faster decoder, with what the other one would need to take over.
struct Trial {
    decoder: Quick,
    /// Packets since the last one that decoding can begin with; empty when there are too many.
    kept: Vec<Packet>,
    bytes: usize,
    /// The last time that was given out.
    last: i64,
    /// The other decoder did no better: what is missing is missing in the file.
    settled: bool,
}

/// Whether the faster decoder can take a track.
fn is_plain(v: &VideoTrack) -> bool {
    v.depth.is_none_or(|d| d == 8)
        && v.chroma.is_none_or(|c| c == Chroma::C420)
        && v.fields == Fields::Progressive
}

/// Why a track cannot be decoded at all.
pub fn refuse(track: &Track) -> Result<()> {
    let Some(v) = track.video() else {
        return Err(Error::unsupported("track", "not a picture track"));
    };
    let odd = match (v.chroma, v.depth) {
        (Some(Chroma::C444), _) => "4:4:4".to_owned(),
        (_, Some(depth)) if !matches!(depth, 8 | 10) => format!("{depth}-bit"),
        _ => return Ok(()),
    };
    Err(Error::unsupported(
        "",
        format!("{odd} H.264 cannot be decoded; H.264 in 4:2:0 and 4:2:2 of 8 and 10 bits can"),
    ))
}

impl Decoder {
    pub fn new(track: &Track, v: &VideoTrack, pool: Pool) -> Result<Self> {
        let (setup, fields, decode_times) = (track.setup.clone(), v.fields, track.decode_times);
        let now = if is_plain(v) {
            let decoder = Quick::new(&setup, pool.clone())?.in_order(decode_times);
            Now::Quick(Box::new(Trial {
                decoder,
                kept: Vec::new(),
                bytes: 0,
                last: i64::MIN,
                settled: false,
            }))
        } else {
            Now::Exact(Box::new(Exact::new(&setup, fields, decode_times, pool.clone())?))
        };
        Ok(Decoder { now, setup, fields, decode_times, pool })
    }

    /// The exact decoder at the same place, with what it gives behind the last picture that was given out; `None` if it
    /// loses something as well.
    fn other(&self) -> Option<(Exact, Vec<VideoFrame>)> {
        let Now::Quick(trial) = &self.now else { return None };
        if trial.settled || trial.kept.is_empty() {
            return None;
        }
        let mut exact = Exact::new(&self.setup, self.fields, self.decode_times, self.pool.clone()).ok()?;
        let mut out = Vec::new();
        for packet in &trial.kept {
            exact.decode(packet, &mut out).ok()?;
        }
        if exact.concealed() > 0 || !exact.take_lost().is_empty() {
            return None;
        }
        out.retain(|f| f.pts > trial.last);
        Some((exact, out))
    }
}

impl Trial {
    fn keep(&mut self, packet: &Packet) {
        if self.settled {
            return;
        }
        if packet.key {
            self.kept.clear();
            self.bytes = 0;
        } else if self.kept.is_empty() {
            return;
        }
        self.bytes += packet.data.len();
        if self.bytes > KEPT {
            self.kept = Vec::new();
            return;
        }
        self.kept.push(packet.clone());
    }
}

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        let trial = match &mut self.now {
            Now::Exact(exact) => return exact.decode(packet, out),
            Now::Quick(trial) => trial,
        };
        trial.keep(packet);
        let (before, from) = (trial.decoder.concealed(), out.len());
        let done = trial.decoder.decode(packet, out);
        let lost = matches!(done, Err(Error::Damaged(_)))
            || trial.decoder.concealed() > before
            || trial.decoder.has_lost();
        if lost && let Some((mut exact, mut instead)) = self.other() {
            out.truncate(from);
            out.append(&mut instead);
            exact.take_lost();
            self.now = Now::Exact(Box::new(exact));
            return Ok(());
        }
        let Now::Quick(trial) = &mut self.now else { return done };
        if lost && !trial.kept.is_empty() {
            (trial.settled, trial.kept) = (true, Vec::new());
        }
        trial.last = out.last().map_or(trial.last, |f| f.pts.max(trial.last));
        done
    }

    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        match &mut self.now {
            Now::Quick(t) => {
                t.kept.clear();
                t.decoder.flush(out)
            }
            Now::Exact(d) => d.flush(out),
        }
    }

    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        match &mut self.now {
            Now::Quick(t) => t.decoder.take_lost(),
            Now::Exact(d) => d.take_lost(),
        }
    }

    fn concealed(&self) -> u64 {
        match &self.now {
            Now::Quick(t) => t.decoder.concealed(),
            Now::Exact(d) => d.concealed(),
        }
    }

    fn why(&self) -> Option<&str> {
        match &self.now {
            Now::Quick(t) => t.decoder.why(),
            Now::Exact(d) => d.why(),
        }
    }
}
