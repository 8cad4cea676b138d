//! GIF (GIF89a specification, 1990): one picture, or several with delays.

use crate::bits::le16;
use crate::container::reader::Reader;
use crate::container::stream::{Described, Look, Parts, Raw, Streamed};
use crate::container::{About, Codec, Demux, Format, Media, Packet, Source, Track, Tried, VideoTrack};
use crate::error::{Error, Result};
use crate::frame::{Chroma, video::check_size};
use crate::limits::MAX_PACKET_BYTES;
use std::io::Read;

pub static FORMAT: Format = Format { name: "GIF", score, open, tried: Tried::Files };

const LOOK: u64 = 1 << 30;
/// Delays count in this many a second; a delay of 0 is shown as a tenth of a second, the custom of browsers.
const SCALE: u32 = 100;
const NO_DELAY: i64 = 10;

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"GIF87a") || head.starts_with(b"GIF89a") { 100 } else { 0 }
}

struct Gif {
    r: Reader,
    first: u64,
    /// Flags, delay and transparent index of the control block that came last.
    control: [u8; 4],
    time: i64,
    cut: Option<String>,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let head = r.take(13, "GIF header")?;
    let (w, h) = (le16(&head, 6).unwrap_or(0), le16(&head, 8).unwrap_or(0));
    check_size("GIF", w.into(), h.into())?;
    let colours = if head[10] & 0x80 != 0 { 6u64 << (head[10] & 7) } else { 0 };
    r.take(colours, "GIF colours")?;
    let first = r.at();
    r.go(0);
    let mut v = VideoTrack::sized(w.into(), h.into());
    (v.chroma, v.depth) = (Some(Chroma::Rgb), Some(8));
    let mut track = Track::new(1, Codec::Gif, Media::Video(v), SCALE);
    track.setup = r.take(first, "GIF")?;
    let gif = Gif { r, first, control: [0; 4], time: 0, cut: None };
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: false };
    Ok(Box::new(Streamed::open(gif, vec![Described::new(track, SCALE)], About::default(), look)?))
}

/// The setup record and up to `most` first frames, as packets.
pub fn frames(source: &mut dyn Source, most: usize) -> Result<(Vec<u8>, Vec<Packet>)> {
    let mut bytes = Vec::new();
    source.take(MAX_PACKET_BYTES).read_to_end(&mut bytes)?;
    let mut demux = open(Box::new(std::io::Cursor::new(bytes)))?;
    let setup = demux.tracks().first().map(|t| t.setup.clone()).unwrap_or_default();
    let mut packets = Vec::new();
    while packets.len() < most {
        match demux.next_packet() {
            Ok(Some(p)) => packets.push(p),
            Ok(None) | Err(_) => break,
        }
    }
    Ok((setup, packets))
}

impl Gif {
    /// The bytes of data blocks up to the empty one that ends them.
    fn blocks(&mut self) -> Result<Option<Vec<u8>>> {
        let mut out = Vec::new();
        loop {
            let Some([n]) = self.r.array::<1>()? else { return Ok(None) };
            out.push(n);
            if n == 0 {
                return Ok(Some(out));
            }
            if self.r.left() < n.into() || out.len() as u64 > MAX_PACKET_BYTES {
                return Ok(None);
            }
            out.extend(self.r.take(n.into(), "GIF block")?);
        }
    }

    fn ended(&mut self, at: u64) -> Option<Raw> {
        self.cut.get_or_insert(format!("cut off, or still being copied: the frame at byte {at} has no end"));
        self.r.go(self.r.len());
        None
    }
}

impl Parts for Gif {
    fn next(&mut self) -> Result<Option<Raw>> {
        loop {
            let at = self.r.at();
            match self.r.array::<1>()? {
                Some([0x21]) => {
                    let Some([label]) = self.r.array::<1>()? else { return Ok(None) };
                    let Some(body) = self.blocks()? else { return Ok(self.ended(at)) };
                    if label == 0xf9
                        && let Some(c) = body.get(1..5)
                    {
                        self.control.copy_from_slice(c);
                    }
                }
                Some([0x2c]) => {
                    let Some(place) = self.r.array::<9>()? else { return Ok(self.ended(at)) };
                    let colours = if place[8] & 0x80 != 0 { 6u64 << (place[8] & 7) } else { 0 };
                    if self.r.left() < colours + 1 {
                        return Ok(self.ended(at));
                    }
                    let mut data = [&self.control[..], &[0x2c], &place].concat();
                    data.extend(self.r.take(colours + 1, "GIF colours")?);
                    let Some(blocks) = self.blocks()? else { return Ok(self.ended(at)) };
                    data.extend(blocks);
                    let delay = i64::from(le16(&self.control, 1).unwrap_or(0));
                    let duration = if delay == 0 { NO_DELAY } else { delay };
                    let pts = self.time;
                    self.time += duration;
                    self.control = [0; 4];
                    return Ok(Some(Raw {
                        pts: Some(pts),
                        duration: Some(duration),
                        key: pts == 0,
                        data,
                        ..Raw::default()
                    }));
                }
                Some([0x3b]) | None => return Ok(None),
                Some([0]) => (),
                Some([b]) => {
                    self.r.go(self.r.len());
                    return Err(Error::damaged_at(
                        "GIF",
                        at,
                        format!("a block of the unknown kind {b:#04x}"),
                    ));
                }
            }
        }
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
        self.time = 0;
        self.control = [0; 4];
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn cut(&self) -> Option<String> {
        self.cut.clone()
    }
}
