//! Reading an output back before it may leave: does it hold what was made?

use crate::codec;
use crate::container::{self, Demux, Source};
use crate::error::{Error, Result};
use crate::frame::Pool;
use crate::run::Made;
use std::sync::atomic::{AtomicU64, Ordering};

/// What an output was found to hold.
#[derive(Clone, Debug, PartialEq)]
pub struct Held {
    pub size: Option<(u32, u32)>,
    pub frames: u64,
    pub seconds: f64,
    pub packets: u64,
}

/// Reads every packet of a made file, decodes the first picture, and compares with what was said to have
/// been made. The error says what differs. `read` counts the bytes of packets as it goes on.
pub fn output(source: Box<dyn Source>, made: &Made, read: &AtomicU64) -> Result<Held> {
    let mut demux = container::open(source)?;
    if let Some(damage) = &demux.about().damage {
        return Err(Error::damaged("output", damage.clone()));
    }
    let held = read_back(demux.as_mut(), read)?;
    let differs = |what: &str, found: String, wanted: String| {
        Err(Error::damaged("output", format!("{what}: {found} in the file, {wanted} were made")))
    };
    if held.frames != made.frames {
        return differs("frames", held.frames.to_string(), made.frames.to_string());
    }
    if held.size != made.size {
        return differs("picture size", format!("{:?}", held.size), format!("{:?}", made.size));
    }
    // Of packets of uneven times that were copied, a reader may take the last to be as long as the others.
    let near = if made.copied { 0.05 } else { 0.001 };
    if (held.seconds - made.seconds).abs() > near {
        return differs("seconds", held.seconds.to_string(), made.seconds.to_string());
    }
    let sounds = demux.tracks().iter().filter(|t| t.audio().is_some()).count();
    if sounds != made.sound.len() {
        return differs("sound tracks", sounds.to_string(), made.sound.len().to_string());
    }
    Ok(held)
}

fn read_back(demux: &mut dyn Demux, read: &AtomicU64) -> Result<Held> {
    let pool = Pool::new();
    let video = demux.tracks().iter().position(|t| t.video().is_some());
    // What was copied may be in a form that is not decoded here.
    let video = video.map(|i| (i, &demux.tracks()[i]));
    let decoder = video.filter(|(_, t)| codec::why_not(t).is_none());
    let mut decoder = decoder.map(|(_, t)| codec::video_decoder(t, &pool)).transpose()?;
    let video = video.map(|(i, _)| i);
    let mut held = Held { size: None, frames: 0, seconds: 0.0, packets: 0 };
    let mut pictures = Vec::new();
    while let Some(packet) = demux.next_packet()? {
        held.packets += 1;
        read.fetch_add(packet.data.len() as u64, Ordering::Relaxed);
        if Some(packet.track) == video {
            held.frames += u64::from(packet.shown);
            if let Some(d) = &mut decoder {
                d.decode(&packet, &mut pictures)?;
                if let Some(p) = pictures.pop() {
                    held.size = Some((p.width, p.height));
                    decoder = None;
                }
            }
        }
    }
    if let Some(d) = &mut decoder {
        d.flush(&mut pictures)?;
        held.size = pictures.pop().map(|p| (p.width, p.height));
    }
    for t in demux.tracks().iter().filter(|t| t.video().is_some() || t.audio().is_some()) {
        held.seconds = held.seconds.max(t.start.seconds() + t.duration.seconds());
    }
    Ok(held)
}
