//! Writing one track in fragments (ISO/IEC 14496-12, 8.8), as streaming wants it (ISO/IEC 23000-19, CMAF): a head that
//! describes the track, and fragments that begin with a key picture and play by themselves.

use super::boxes::Builder;
use super::mux::{Index, Tables, filler};
use crate::codec::Coded;
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use std::io::SeekFrom;

/// Bytes of the head: what it describes is known at the end.
pub const HEAD: u64 = 2048;

struct Packet {
    bytes: u32,
    ticks: u32,
    key: bool,
}

pub struct FragmentWriter {
    out: Box<dyn Sink>,
    track: OutTrack,
    /// Least length of a fragment, in ticks.
    least: i64,
    open: Vec<Packet>,
    data: Vec<u8>,
    /// Ticks in front of what is open, and of all.
    start: i64,
    end: i64,
    at: u64,
    fragments: Vec<Fragment>,
}

impl FragmentWriter {
    /// One track, in fragments of so many seconds; pictures begin one at a key picture only.
    pub fn new(mut out: Box<dyn Sink>, mut tracks: Vec<OutTrack>, seconds: f64) -> Result<FragmentWriter> {
        let (Some(track), true) = (tracks.pop(), tracks.is_empty()) else {
            return Err(Error::setting("container", "fragments hold one track each"));
        };
        out.seek(SeekFrom::Start(0))?;
        out.write_all(&filler(HEAD))?;
        // A little less: times are rounded, and a key picture that comes in time must not be missed.
        let least = (seconds * f64::from(track.timescale) * 0.99).round() as i64;
        Ok(FragmentWriter {
            out,
            track,
            least,
            open: Vec::new(),
            data: Vec::new(),
            start: 0,
            end: 0,
            at: HEAD,
            fragments: Vec::new(),
        })
    }

    fn close(&mut self) -> Result<()> {
        if self.open.is_empty() {
            return Ok(());
        }
        let is_video = matches!(self.track.kind, OutTrackKind::Video { .. });
        let number = self.fragments.len() as u32 + 1;
        let mut b = Builder::new();
        b.put(b"moof", |b| {
            b.full(b"mfhd", 0, 0, |b| b.u32(number));
            b.put(b"traf", |b| {
                // Offsets from the beginning of this box.
                b.full(b"tfhd", 0, 0x02_0000, |b| b.u32(1));
                b.full(b"tfdt", 1, 0, |b| b.u64(self.start as u64));
                // Where data begins, and of each packet: length, bytes, whether it is a key.
                b.full(b"trun", 0, 0x01 | 0x100 | 0x200 | 0x400, |b| {
                    b.u32(self.open.len() as u32);
                    b.u32(0);
                    for p in &self.open {
                        b.u32(p.ticks);
                        b.u32(p.bytes);
                        // Depends on no other; or on others, and is no place to begin at.
                        b.u32(if p.key || !is_video { 0x0200_0000 } else { 0x0101_0000 });
                    }
                });
            });
        });
        let header = b.bytes.len() + 8;
        let place = header - 8 - self.open.len() * 12 - 4;
        b.bytes[place..place + 4].copy_from_slice(&(header as u32).to_be_bytes());
        let size = u32::try_from(self.data.len() + 8)
            .map_err(|_| Error::limit("MP4", "a fragment of 4 GiB or more"))?;
        b.u32(size);
        b.raw(b"mdat");
        self.out.write_all(&b.bytes)?;
        self.out.write_all(&self.data)?;
        let bytes = (b.bytes.len() + self.data.len()) as u64;
        let seconds = (self.end - self.start) as f64 / f64::from(self.track.timescale);
        self.fragments.push(Fragment { at: self.at, bytes, seconds });
        self.at += bytes;
        self.start = self.end;
        self.open.clear();
        self.data.clear();
        Ok(())
    }
}

impl Mux for FragmentWriter {
    fn write(&mut self, _track: usize, packet: &Coded) -> Result<()> {
        if packet.key && self.end - self.start >= self.least {
            self.close()?;
        }
        let wrong = |what: &str| Error::limit("MP4", format!("a packet with {what} beyond 32 bits"));
        self.open.push(Packet {
            bytes: u32::try_from(packet.data.len()).map_err(|_| wrong("a size"))?,
            ticks: u32::try_from(packet.duration).map_err(|_| wrong("a length"))?,
            key: packet.key,
        });
        self.end += packet.duration;
        self.data.extend_from_slice(&packet.data);
        Ok(())
    }

    fn finish(mut self: Box<Self>, endings: &[Ending]) -> Result<Vec<Fragment>> {
        // The last packet is as long as what is heard of it: no edit list cuts an end off here.
        if let (Some(ending), Some(last)) = (endings.first(), self.open.last_mut()) {
            let over = self.end - (ending.skip + ending.length);
            if over > 0 && over < i64::from(last.ticks) {
                last.ticks -= over as u32;
                self.end -= over;
            }
        }
        self.close()?;
        let mut head = Builder::new();
        head.put(b"ftyp", |b| {
            b.raw(b"cmfc");
            b.u32(0);
            b.raw(b"iso6cmfcmp41");
        });
        let tables = [Tables::default()];
        let tracks = std::slice::from_ref(&self.track);
        let index =
            Index { tracks, tables: &tables, created: 0, comment: None, media_at: 0, in_fragments: true };
        head.raw(&index.bytes(endings));
        let left = HEAD.checked_sub(head.bytes.len() as u64).filter(|n| *n == 0 || *n >= 8);
        let left = left.ok_or_else(|| Error::limit("MP4", "a head that does not fit its room"))?;
        head.raw(&filler(left));
        self.out.seek(SeekFrom::Start(0))?;
        self.out.write_all(&head.bytes)?;
        self.out.flush()?;
        Ok(self.fragments)
    }
}
