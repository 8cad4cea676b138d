//! Writing plain files of sound: FLAC, MP3, AIFF.

use crate::codec::Coded;
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::track::Codec;
use std::io::SeekFrom;

/// Packets one behind the other, and a head that is known at the end.
pub struct Plain {
    out: Box<dyn Sink>,
    /// What stands in front of the setup record.
    before: &'static [u8],
}

/// "fLaC" and the header of the one block of descriptions: the last, of 34 bytes (RFC 9639, 8.1).
const FLAC: &[u8] = b"fLaC\x80\0\0\x22";
const FLAC_INFO: usize = 34;

impl Plain {
    pub fn flac(mut out: Box<dyn Sink>) -> Result<Plain> {
        out.seek(SeekFrom::Start(0))?;
        out.write_all(FLAC)?;
        out.write_all(&[0; FLAC_INFO])?;
        Ok(Plain { out, before: FLAC })
    }

    /// The first packet is an empty frame, in whose place the description comes.
    pub fn mp3(mut out: Box<dyn Sink>) -> Result<Plain> {
        out.seek(SeekFrom::Start(0))?;
        Ok(Plain { out, before: b"" })
    }
}

impl Mux for Plain {
    fn write(&mut self, _track: usize, packet: &Coded) -> Result<()> {
        self.out.write_all(&packet.data)?;
        Ok(())
    }

    fn finish(mut self: Box<Self>, endings: &[Ending]) -> Result<Vec<Fragment>> {
        if let Some(ending) = endings.first() {
            self.out.seek(SeekFrom::Start(self.before.len() as u64))?;
            self.out.write_all(&ending.setup)?;
        }
        self.out.flush()?;
        Ok(Vec::new())
    }
}

/// AIFF (Audio Interchange File Format 1.3): whole numbers, high byte first.
pub struct Aiff {
    out: Box<dyn Sink>,
    rate: u32,
    channels: u16,
    bytes: u8,
    len: u64,
}

/// Bytes in front of the samples.
const AIFF_HEAD: u64 = 12 + 26 + 16;

impl Aiff {
    pub fn new(mut out: Box<dyn Sink>, tracks: &[OutTrack]) -> Result<Aiff> {
        let [OutTrack { codec: Codec::Pcm(layout), kind: OutTrackKind::Audio { rate, channels, .. }, .. }] =
            tracks
        else {
            return Err(Error::setting("AIFF", "one track of PCM sound is written"));
        };
        out.seek(SeekFrom::Start(0))?;
        out.write_all(&[0; AIFF_HEAD as usize])?;
        Ok(Aiff { out, rate: *rate, channels: *channels, bytes: layout.bytes, len: 0 })
    }
}

/// A rate as an 80-bit number of IEEE 754's extended form.
fn extended(rate: u32) -> [u8; 10] {
    let mut b = [0; 10];
    let shift = rate.leading_zeros();
    b[..2].copy_from_slice(&((16_383 + 31 - shift) as u16).to_be_bytes());
    b[2..6].copy_from_slice(&(rate << shift).to_be_bytes());
    b
}

impl Mux for Aiff {
    fn write(&mut self, _track: usize, packet: &Coded) -> Result<()> {
        let mut data = packet.data.clone();
        data.chunks_exact_mut(self.bytes.into()).for_each(|s| s.reverse());
        self.out.write_all(&data)?;
        self.len += data.len() as u64;
        Ok(())
    }

    fn finish(mut self: Box<Self>, _endings: &[Ending]) -> Result<Vec<Fragment>> {
        if self.len % 2 == 1 {
            self.out.write_all(&[0])?;
        }
        let long = |n: u64| {
            u32::try_from(n).map_err(|_| Error::limit("AIFF", "more than 4 GiB of sound; WAV holds more"))
        };
        let frame = u64::from(self.channels) * u64::from(self.bytes);
        let mut b = b"FORM".to_vec();
        b.extend(long(AIFF_HEAD - 8 + self.len.next_multiple_of(2))?.to_be_bytes());
        b.extend(b"AIFFCOMM\0\0\0\x12");
        b.extend(self.channels.to_be_bytes());
        b.extend(long(self.len / frame.max(1))?.to_be_bytes());
        b.extend((u16::from(self.bytes) * 8).to_be_bytes());
        b.extend(extended(self.rate));
        b.extend(b"SSND");
        b.extend(long(self.len + 8)?.to_be_bytes());
        b.extend([0; 8]);
        self.out.seek(SeekFrom::Start(0))?;
        self.out.write_all(&b)?;
        self.out.flush()?;
        Ok(Vec::new())
    }
}
