//! Writing plain files of sound: FLAC, MP3, AIFF.

use crate::codec::{Coded, vorbis};
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::track::Codec;
use std::io::SeekFrom;

/// Packets one behind the other, and a head that is known at the end.
pub struct Plain {
    out: Box<dyn Sink>,
    /// How much stands in front of the setup record.
    before: u64,
    kind: Kind,
}

enum Kind {
    Flac,
    Mp3,
}

/// "fLaC" and the header of the one block of descriptions: the last, of 34 bytes (RFC 9639, 8.1).
const FLAC: &[u8] = b"fLaC\x80\0\0\x22";
const FLAC_INFO: usize = 34;

impl Plain {
    pub fn flac(mut out: Box<dyn Sink>) -> Result<Plain> {
        out.seek(SeekFrom::Start(0))?;
        out.write_all(FLAC)?;
        out.write_all(&[0; FLAC_INFO])?;
        Ok(Plain { out, before: FLAC.len() as u64, kind: Kind::Flac })
    }

    /// The first packet is an empty frame, in whose place the description comes.
    pub fn mp3(mut out: Box<dyn Sink>) -> Result<Plain> {
        out.seek(SeekFrom::Start(0))?;
        Ok(Plain { out, before: 0, kind: Kind::Mp3 })
    }
}

impl Mux for Plain {
    fn comment(&mut self, words: &str) -> Result<()> {
        match self.kind {
            // The description is not the last block any more; behind it a Vorbis comment (RFC 9639, 8.6).
            Kind::Flac => {
                let body = vorbis::write(words);
                self.out.seek(SeekFrom::Start(4))?;
                self.out.write_all(&[0])?;
                self.out.seek(SeekFrom::Start(self.before + FLAC_INFO as u64))?;
                self.out.write_all(&[0x84])?;
                self.out.write_all(&(body.len() as u32).to_be_bytes()[1..])?;
                self.out.write_all(&body)?;
            }
            // ID3v2.4: one COMM frame, in UTF-8.
            Kind::Mp3 => {
                let frame = [b"\x03eng\0", words.as_bytes()].concat();
                let mut tag = b"ID3\x04\0\0".to_vec();
                tag.extend(seven_bits(frame.len() as u32 + 10));
                tag.extend(b"COMM");
                tag.extend(seven_bits(frame.len() as u32));
                tag.extend([0, 0]);
                tag.extend(frame);
                self.out.write_all(&tag)?;
                self.before = tag.len() as u64;
            }
        }
        Ok(())
    }

    fn write(&mut self, _track: usize, packet: &Coded) -> Result<()> {
        self.out.write_all(&packet.data)?;
        Ok(())
    }

    fn finish(mut self: Box<Self>, endings: &[Ending]) -> Result<Vec<Fragment>> {
        if let Some(ending) = endings.first() {
            self.out.seek(SeekFrom::Start(self.before))?;
            self.out.write_all(&ending.setup)?;
        }
        self.out.flush()?;
        Ok(Vec::new())
    }
}

/// A number as four bytes of seven bits.
fn seven_bits(n: u32) -> [u8; 4] {
    [21, 14, 7, 0].map(|shift| (n >> shift & 0x7f) as u8)
}

/// AIFF (Audio Interchange File Format 1.3): whole numbers, high byte first.
pub struct Aiff {
    out: Box<dyn Sink>,
    rate: u32,
    channels: u16,
    bytes: u8,
    len: u64,
    comment: Vec<u8>,
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
        Ok(Aiff { out, rate: *rate, channels: *channels, bytes: layout.bytes, len: 0, comment: Vec::new() })
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
    fn comment(&mut self, words: &str) -> Result<()> {
        self.comment = words.as_bytes().to_vec();
        Ok(())
    }

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
        let mut behind = Vec::new();
        if !self.comment.is_empty() {
            behind.extend(b"ANNO");
            behind.extend((self.comment.len() as u32).to_be_bytes());
            behind.extend(&self.comment);
            behind.resize(behind.len().next_multiple_of(2), 0);
        }
        self.out.write_all(&behind)?;
        let long = |n: u64| {
            u32::try_from(n).map_err(|_| Error::limit("AIFF", "more than 4 GiB of sound; WAV holds more"))
        };
        let frame = u64::from(self.channels) * u64::from(self.bytes);
        let mut b = b"FORM".to_vec();
        b.extend(long(AIFF_HEAD - 8 + self.len.next_multiple_of(2) + behind.len() as u64)?.to_be_bytes());
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
