//! Uncompressed sound, and ITU-T G.711 (11/88), which is PCM by another scale.

use super::{Coded, DecodeAudio, EncodeAudio};
use crate::error::{Error, Result};
use crate::frame::AudioFrame;
use crate::track::{Packet, PcmKind, PcmLayout};

pub struct Decoder {
    layout: PcmLayout,
    rate: u32,
    channels: u16,
}

/// Refuses layouts that no sample can have.
pub fn check(l: PcmLayout) -> Result<()> {
    let fine = match l.kind {
        PcmKind::Signed | PcmKind::Unsigned => {
            (1..=4).contains(&l.bytes) && l.bits <= l.bytes * 8 && l.bits > 0
        }
        PcmKind::Float => matches!((l.bits, l.bytes), (32, 4) | (64, 8)),
        PcmKind::Alaw | PcmKind::Mulaw => l.bytes == 1,
    };
    if fine {
        Ok(())
    } else {
        Err(Error::unsupported("", format!("{l} in {} bytes a sample cannot be decoded", l.bytes)))
    }
}

impl Decoder {
    pub fn new(layout: PcmLayout, rate: u32, channels: u16) -> Result<Self> {
        check(layout)?;
        Ok(Decoder { layout, rate, channels })
    }
}

/// Samples of each channel in a packet that is written.
pub const FRAME: u32 = 4096;

/// Signed whole numbers, low byte first.
pub struct Encoder {
    bytes: usize,
    channels: usize,
    waiting: Vec<f32>,
    given: i64,
}

impl Encoder {
    /// `bits`: 16 or 24.
    pub fn new(bits: u8, channels: u16) -> Encoder {
        let channels = usize::from(channels.max(1));
        Encoder { bytes: usize::from(bits / 8), channels, waiting: Vec::new(), given: 0 }
    }

    fn give(&mut self, samples: usize, out: &mut Vec<Coded>) {
        let some = &self.waiting[..samples];
        let data = match self.bytes {
            2 => whole::<2>(some),
            3 => whole::<3>(some),
            _ => whole::<4>(some),
        };
        self.waiting.drain(..samples);
        let duration = (samples / self.channels) as i64;
        out.push(Coded::new(self.given, duration, true, data));
        self.given += duration;
    }
}

/// The nearest whole numbers of so many bytes.
fn whole<const BYTES: usize>(samples: &[f32]) -> Vec<u8> {
    let full = f64::from(1u32 << (8 * BYTES - 1));
    let mut data = vec![0; samples.len() * BYTES];
    for (to, v) in data.as_chunks_mut().0.iter_mut().zip(samples) {
        // Above this number one has no fraction, and its lower 32 bits are the whole number that was added.
        let v = (f64::from(*v) * full).clamp(-full, full - 1.0) + (3u64 << 51) as f64;
        let v: [u8; 8] = v.to_bits().to_le_bytes();
        *to = std::array::from_fn::<u8, BYTES, _>(|n| v[n]);
    }
    data
}

impl EncodeAudio for Encoder {
    fn encode(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<()> {
        self.waiting.extend_from_slice(samples);
        let frame = FRAME as usize * self.channels;
        while self.waiting.len() >= frame {
            self.give(frame, out);
        }
        Ok(())
    }

    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        if !self.waiting.is_empty() {
            self.give(self.waiting.len(), out);
        }
        Ok(())
    }

    fn setup(&self) -> Vec<u8> {
        Vec::new()
    }

    fn priming(&self) -> u32 {
        0
    }
}

/// G.711, table 1a: A-law to 13 bits.
fn alaw(byte: u8) -> f32 {
    let b = byte ^ 0x55;
    let exponent = (b >> 4) & 7;
    let mantissa = i32::from(b & 15) << 4 | 8;
    let magnitude = if exponent == 0 { mantissa } else { (mantissa + 0x100) << (exponent - 1) };
    (if b & 0x80 != 0 { magnitude } else { -magnitude }) as f32 / 32_768.0
}

/// G.711, table 2a: mu-law to 14 bits.
fn mulaw(byte: u8) -> f32 {
    let b = !byte;
    let magnitude = ((i32::from(b & 15) << 3 | 0x84) << ((b >> 4) & 7)) - 0x84;
    (if b & 0x80 != 0 { -magnitude } else { magnitude }) as f32 / 32_768.0
}

impl PcmLayout {
    /// One sample of `bytes` bytes, full scale at 1.0.
    fn sample(self, b: &[u8]) -> f32 {
        match self.kind {
            PcmKind::Alaw => alaw(b[0]),
            PcmKind::Mulaw => mulaw(b[0]),
            PcmKind::Float => {
                let mut raw = [0u8; 8];
                let n = b.len().min(8);
                raw[..n].copy_from_slice(&b[..n]);
                if self.big_endian {
                    raw[..n].reverse();
                }
                let v = if n == 4 {
                    f32::from_le_bytes([raw[0], raw[1], raw[2], raw[3]])
                } else {
                    f64::from_le_bytes(raw) as f32
                };
                if v.is_finite() { v } else { 0.0 }
            }
            PcmKind::Signed | PcmKind::Unsigned => {
                // The bytes stand at the top of 32 bits, so every width has the same full scale.
                let mut word = 0u32;
                for i in 0..b.len() {
                    let byte = if self.big_endian { b[i] } else { b[b.len() - 1 - i] };
                    word |= u32::from(byte) << (24 - 8 * i);
                }
                if self.kind == PcmKind::Unsigned {
                    word ^= 0x8000_0000;
                }
                word as i32 as f32 / 2_147_483_648.0
            }
        }
    }
}

impl DecodeAudio for Decoder {
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame> {
        let bytes = usize::from(self.layout.bytes);
        let frame = bytes * usize::from(self.channels);
        // An incomplete last sample is dropped.
        let whole = packet.data.len() / frame * frame;
        let samples = packet.data[..whole].chunks_exact(bytes).map(|b| self.layout.sample(b)).collect();
        Ok(AudioFrame { rate: self.rate, channels: self.channels, pts: packet.pts, samples })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn layout(bits: u8, big_endian: bool, kind: PcmKind) -> PcmLayout {
        PcmLayout { bits, bytes: bits.div_ceil(8), big_endian, kind }
    }

    #[rstest]
    #[case(layout(8, false, PcmKind::Unsigned), &[0x80, 0x00, 0xc0], &[0.0, -1.0, 0.5])]
    #[case(layout(16, false, PcmKind::Signed), &[0x00, 0x40, 0x00, 0x80], &[0.5, -1.0])]
    #[case(layout(16, true, PcmKind::Signed), &[0x40, 0x00, 0x80, 0x00], &[0.5, -1.0])]
    #[case(layout(24, true, PcmKind::Signed), &[0xc0, 0, 0], &[-0.5])]
    #[case(layout(32, false, PcmKind::Float), &[0, 0, 0x80, 0x3e], &[0.25])]
    #[case(layout(8, true, PcmKind::Mulaw), &[0xff, 0x80, 0x00], &[0.0, 0.9803467, -0.9803467])]
    #[case(layout(8, true, PcmKind::Alaw), &[0xd5, 0xaa], &[0.000_244_140_63, 0.984375])]
    fn samples_have_their_value(#[case] l: PcmLayout, #[case] bytes: &[u8], #[case] want: &[f32]) {
        let mut d = Decoder::new(l, 8000, 1).unwrap();
        let got = d.decode(&Packet { data: bytes.to_vec(), ..Packet::default() }).unwrap().samples;
        assert_eq!(got, want);
    }

    #[test]
    fn a_torn_last_sample_is_dropped_and_odd_layouts_refused() {
        let mut d = Decoder::new(layout(16, false, PcmKind::Signed), 8000, 2).unwrap();
        assert_eq!(d.decode(&Packet { data: vec![0; 7], ..Packet::default() }).unwrap().len(), 1);
        assert!(Decoder::new(layout(40, false, PcmKind::Signed), 8000, 2).is_err());
    }
}
