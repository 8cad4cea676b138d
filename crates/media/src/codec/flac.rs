//! The stream information and frame header of FLAC (RFC 9639, 8.2 and 9.1).

use crate::bits::Bits;

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Info {
    pub rate: u32,
    pub channels: u16,
    pub bits: u8,
    /// Samples in all; 0 is not known.
    pub total: u64,
    pub max_frame: u32,
}

impl Info {
    pub const BYTES: usize = 34;

    pub fn parse(b: &[u8]) -> Option<Info> {
        let mut bits = Bits::new(b.get(..Self::BYTES)?);
        bits.skip(32 + 24)?;
        let max_frame = bits.take(24)?;
        let rate = bits.take(20)?;
        let channels = bits.take(3)? as u16 + 1;
        let depth = bits.take(5)? as u8 + 1;
        let total = u64::from(bits.take(4)?) << 32 | u64::from(bits.take(32)?);
        (rate > 0).then_some(Info { rate, channels, bits: depth, total, max_frame })
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FrameHeader {
    pub samples: u32,
    pub channels: u16,
    /// Number of the first sample, or of the frame where frames are all as long.
    pub number: u64,
    pub variable: bool,
}

impl FrameHeader {
    /// Bytes that hold any header.
    pub const MOST: usize = 16;

    /// `None` unless these bytes start a frame whose header checks out.
    pub fn parse(b: &[u8]) -> Option<FrameHeader> {
        let &[a, s, c, d, ..] = b else { return None };
        if a != 0xff || s & 0xfe != 0xf8 || c >> 4 == 0 || c & 15 == 15 || d >> 4 > 10 || d & 1 == 1 {
            return None;
        }
        // Coded like UTF-8, up to 36 bits.
        let lead = *b.get(4)?;
        let more = match lead.leading_ones() {
            0 => 0,
            n @ 2..=7 => n as usize - 1,
            _ => return None,
        };
        let mut number = if more == 0 { u64::from(lead) } else { u64::from(lead) & (0x3f >> more) };
        for i in 0..more {
            let byte = *b.get(5 + i)?;
            if byte >> 6 != 2 {
                return None;
            }
            number = number << 6 | u64::from(byte & 0x3f);
        }
        let mut at = 5 + more;
        let samples = match c >> 4 {
            1 => 192,
            n @ 2..=5 => 144 << n,
            6 => {
                at += 1;
                u32::from(*b.get(at - 1)?) + 1
            }
            7 => {
                at += 2;
                u32::from(u16::from_be_bytes([*b.get(at - 2)?, *b.get(at - 1)?])) + 1
            }
            n => 1 << n,
        };
        at += match c & 15 {
            12 => 1,
            13 | 14 => 2,
            _ => 0,
        };
        if crc8(b.get(..at)?) != *b.get(at)? {
            return None;
        }
        let channels = if d >> 4 < 8 { u16::from(d >> 4) + 1 } else { 2 };
        Some(FrameHeader { samples, channels, number, variable: s & 1 == 1 })
    }
}

/// Polynomial x^8 + x^2 + x + 1 (9.1.8).
fn crc8(b: &[u8]) -> u8 {
    b.iter().fold(0, |crc, &byte| {
        (0..8).fold(crc ^ byte, |c: u8, _| if c & 0x80 != 0 { c << 1 ^ 7 } else { c << 1 })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Example 1 of RFC 9639, appendix D.1.
    #[test]
    fn the_standards_own_example_is_read() {
        let info = [
            0x10, 0x00, 0x10, 0x00, 0x00, 0x00, 0x0f, 0x00, 0x00, 0x0f, 0x0a, 0xc4, 0x42, 0xf0, 0x00, 0x00,
            0x00, 0x01, 0x3e, 0x84, 0xb4, 0x18, 0x07, 0xdc, 0x69, 0x03, 0x07, 0x58, 0x6a, 0x3d, 0xad, 0x1a,
            0x2e, 0x0f,
        ];
        let i = Info::parse(&info).unwrap();
        assert_eq!((i.rate, i.channels, i.bits, i.total), (44_100, 2, 16, 1));
        let frame =
            [0xff, 0xf8, 0x69, 0x18, 0x00, 0x00, 0xbf, 0x03, 0x58, 0xfd, 0x03, 0x12, 0x8b, 0xaa, 0x9a];
        let h = FrameHeader::parse(&frame).unwrap();
        assert_eq!((h.samples, h.channels, h.number, h.variable), (1, 2, 0, false));
        let mut bad = frame;
        bad[6] ^= 1;
        assert_eq!(FrameHeader::parse(&bad), None);
    }
}
