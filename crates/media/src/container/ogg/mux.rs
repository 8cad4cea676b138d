//! Writing Opus in Ogg (RFC 3533, RFC 7845).

use crate::codec::Coded;
use crate::codec::opus::Head;
use crate::codec::vorbis;
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use std::io::SeekFrom;

/// The longest a page waits, in samples of 48 kHz.
const PAGE: i64 = 48_000;
const SERIAL: u32 = 0x0071_de5a;

pub struct Writer {
    out: Box<dyn Sink>,
    sequence: u32,
    page: Vec<Vec<u8>>,
    /// Samples written with the pages, and with those that wait.
    granule: i64,
    waiting: i64,
    /// Until the page of descriptions is written.
    comment: Option<String>,
}

impl Writer {
    pub fn new(mut out: Box<dyn Sink>, tracks: &[OutTrack]) -> Result<Writer> {
        let [OutTrack { kind: OutTrackKind::Audio { channels, .. }, skip, .. }] = tracks else {
            return Err(Error::setting("Ogg", "one track of sound is written"));
        };
        out.seek(SeekFrom::Start(0))?;
        let channels = *channels as u8;
        let head = Head {
            channels,
            skip: *skip as u16,
            gain: 0,
            family: 0,
            streams: 1,
            coupled: channels.saturating_sub(1),
            mapping: vec![0, 1],
        };
        let mut w = Writer {
            out,
            sequence: 0,
            page: Vec::new(),
            granule: 0,
            waiting: 0,
            comment: Some(String::new()),
        };
        w.page.push(head.write(48_000));
        w.turn(2, 0)?;
        Ok(w)
    }

    /// The page of descriptions stands by itself (RFC 7845, 5.2).
    fn describe(&mut self) -> Result<()> {
        let Some(comment) = self.comment.take() else { return Ok(()) };
        let mut tags = b"OpusTags".to_vec();
        tags.extend(vorbis::write(&comment));
        self.page.push(tags);
        self.turn(0, 0)
    }

    /// Writes the page that waits.
    fn turn(&mut self, kind: u8, granule: i64) -> Result<()> {
        let mut lacing = Vec::new();
        for p in &self.page {
            lacing.extend(std::iter::repeat_n(255u8, p.len() / 255));
            lacing.push((p.len() % 255) as u8);
        }
        let count = u8::try_from(lacing.len())
            .map_err(|_| Error::limit("Ogg", format!("a page of {} segments", lacing.len())))?;
        let mut b = b"OggS\0".to_vec();
        b.push(kind);
        b.extend(granule.to_le_bytes());
        b.extend(SERIAL.to_le_bytes());
        b.extend(self.sequence.to_le_bytes());
        b.extend([0; 4]);
        b.push(count);
        b.extend(lacing);
        self.page.drain(..).for_each(|p| b.extend(p));
        let sum = checksum(&b);
        b[22..26].copy_from_slice(&sum.to_le_bytes());
        self.out.write_all(&b)?;
        self.sequence += 1;
        Ok(())
    }
}

impl Mux for Writer {
    fn comment(&mut self, words: &str) -> Result<()> {
        self.comment = Some(words.to_owned());
        Ok(())
    }

    fn write(&mut self, _track: usize, packet: &Coded) -> Result<()> {
        self.describe()?;
        let segments: usize = self.page.iter().map(|p| p.len() / 255 + 1).sum();
        if self.waiting >= PAGE || segments + packet.data.len() / 255 + 1 > 255 {
            self.granule += self.waiting;
            self.waiting = 0;
            let granule = self.granule;
            self.turn(0, granule)?;
        }
        self.page.push(packet.data.clone());
        self.waiting += packet.duration;
        Ok(())
    }

    fn finish(mut self: Box<Self>, endings: &[Ending]) -> Result<Vec<Fragment>> {
        self.describe()?;
        // The last page says where the sound ends: what comes after is not heard.
        let end = endings.first().map_or(0, |e| e.skip + e.length);
        let end = end.clamp(self.granule, self.granule + self.waiting);
        self.turn(4, end)?;
        self.out.flush()?;
        Ok(Vec::new())
    }
}

/// RFC 3533, 6: polynomial 0x04c11db7, nothing turned around.
fn checksum(b: &[u8]) -> u32 {
    b.iter().fold(0u32, |sum, &v| {
        (0..8).fold(sum ^ u32::from(v) << 24, |s, _| if s >> 31 == 1 { s << 1 ^ 0x04c1_1db7 } else { s << 1 })
    })
}
