//! Writing WAVE, and RF64 (EBU Tech 3306) where 4 GB are not enough.

use crate::codec::Coded;
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::track::{Codec, TimecodeTrack};
use std::io::SeekFrom;

/// Room for the long sizes: RIFF with its size and kind, and a chunk of 28 bytes.
const DS64: u32 = 28;

pub struct Writer {
    out: Box<dyn Sink>,
    len: u64,
    head: u64,
    block: u64,
}

impl Writer {
    pub fn new(mut out: Box<dyn Sink>, tracks: &[OutTrack]) -> Result<Writer> {
        let [OutTrack { codec: Codec::Pcm(layout), kind: OutTrackKind::Audio { rate, channels, .. }, .. }] =
            tracks
        else {
            return Err(Error::setting("WAV", "one track of PCM sound is written"));
        };
        let block = u32::from(*channels) * u32::from(layout.bytes);
        let mut b = b"RIFF\0\0\0\0WAVEJUNK".to_vec();
        b.extend(DS64.to_le_bytes());
        b.extend([0; DS64 as usize]);
        b.extend(b"fmt ");
        // More than two channels, or bits, are told in the longer form.
        let long = *channels > 2 || layout.bits > 16;
        b.extend(if long { 40u32 } else { 16 }.to_le_bytes());
        b.extend(if long { 0xfffeu16 } else { 1 }.to_le_bytes());
        b.extend(channels.to_le_bytes());
        b.extend(rate.to_le_bytes());
        b.extend((rate * block).to_le_bytes());
        b.extend((block as u16).to_le_bytes());
        b.extend(u16::from(layout.bits).to_le_bytes());
        if long {
            b.extend(22u16.to_le_bytes());
            b.extend(u16::from(layout.bits).to_le_bytes());
            // Left and right, or the six of 5.1; of others nothing is said.
            let mask: u32 = match channels {
                1 => 4,
                2 => 3,
                6 => 0x3f,
                _ => 0,
            };
            b.extend(mask.to_le_bytes());
            b.extend([1, 0, 0, 0, 0, 0, 0x10, 0, 0x80, 0, 0, 0xaa, 0, 0x38, 0x9b, 0x71]);
        }
        if let Some((seconds, code)) = &tracks[0].began {
            b.extend(broadcast(*seconds, *rate, *channels, layout.bits));
            b.extend(production(code, *rate, layout.bits));
        }
        b.extend(b"data\0\0\0\0");
        out.seek(SeekFrom::Start(0))?;
        out.write_all(&b)?;
        Ok(Writer { out, len: 0, head: b.len() as u64, block: block.into() })
    }
}

/// The broadcast extension, version 1 (EBU Tech 3285, 2.3): when the first sample was recorded, in samples since midnight.
fn broadcast(seconds: f64, rate: u32, channels: u16, bits: u8) -> Vec<u8> {
    let sound = match channels {
        1 => "mono",
        2 => "stereo",
        _ => "multichannel",
    };
    let history = format!("A=PCM,F={rate},W={bits},M={sound},T=Deft Porter\r\n");
    let mut body = vec![0u8; 602];
    let mut put = |at: usize, bytes: &[u8]| body[at..at + bytes.len()].copy_from_slice(bytes);
    put(256, b"Deft Porter");
    let samples = (seconds * f64::from(rate)).round().max(0.0) as u64 % (86_400 * u64::from(rate));
    put(338, &samples.to_le_bytes());
    put(346, &1u16.to_le_bytes());
    body.extend(history.as_bytes());
    chunk(b"bext", &body)
}

/// How the timecode counts (iXML specification 1.61, SPEED).
fn production(code: &TimecodeTrack, rate: u32, bits: u8) -> Vec<u8> {
    let speed = format!("{}/{}", code.rate.num, code.rate.den);
    let flag = if code.drop_frame { "DF" } else { "NDF" };
    let text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<BWFXML><IXML_VERSION>1.61</IXML_VERSION><SPEED>\
         <MASTER_SPEED>{speed}</MASTER_SPEED><CURRENT_SPEED>{speed}</CURRENT_SPEED><TIMECODE_RATE>{speed}</TIMECODE_RATE>\
         <TIMECODE_FLAG>{flag}</TIMECODE_FLAG><FILE_SAMPLE_RATE>{rate}</FILE_SAMPLE_RATE>\
         <AUDIO_BIT_DEPTH>{bits}</AUDIO_BIT_DEPTH></SPEED></BWFXML>"
    );
    chunk(b"iXML", text.as_bytes())
}

/// Chunks have an even length.
fn chunk(name: &[u8; 4], body: &[u8]) -> Vec<u8> {
    let mut out = name.to_vec();
    out.extend((body.len() as u32).to_le_bytes());
    out.extend(body);
    out.resize(out.len().next_multiple_of(2), 0);
    out
}

impl Mux for Writer {
    fn comment(&mut self, words: &str) -> Result<()> {
        let mut body = b"INFO".to_vec();
        body.extend(chunk(b"ICMT", &[words.as_bytes(), &[0]].concat()));
        let list = chunk(b"LIST", &body);
        self.out.seek(SeekFrom::Start(self.head - 8))?;
        self.out.write_all(&list)?;
        self.out.write_all(b"data\0\0\0\0")?;
        self.head += list.len() as u64;
        Ok(())
    }

    fn write(&mut self, _track: usize, packet: &Coded) -> Result<()> {
        self.out.write_all(&packet.data)?;
        self.len += packet.data.len() as u64;
        Ok(())
    }

    fn finish(mut self: Box<Self>, _endings: &[Ending]) -> Result<Vec<Fragment>> {
        if self.len % 2 == 1 {
            self.out.write_all(&[0])?;
        }
        let all = self.head - 8 + self.len.next_multiple_of(2);
        match (u32::try_from(all), u32::try_from(self.len)) {
            (Ok(all), Ok(len)) => {
                self.out.seek(SeekFrom::Start(4))?;
                self.out.write_all(&all.to_le_bytes())?;
                self.out.seek(SeekFrom::Start(self.head - 4))?;
                self.out.write_all(&len.to_le_bytes())?;
            }
            _ => {
                self.out.seek(SeekFrom::Start(0))?;
                self.out.write_all(b"RF64\xff\xff\xff\xffWAVEds64")?;
                self.out.write_all(&DS64.to_le_bytes())?;
                for v in [all, self.len, self.len / self.block.max(1)] {
                    self.out.write_all(&v.to_le_bytes())?;
                }
                self.out.write_all(&[0; 4])?;
                self.out.seek(SeekFrom::Start(self.head - 4))?;
                self.out.write_all(&[0xff; 4])?;
            }
        }
        self.out.flush()?;
        Ok(Vec::new())
    }
}
