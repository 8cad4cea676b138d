//! H.264 (ITU-T H.264, 08/2021). Encoding is done by openh264; decoding by it as well where it can (progressive pictures
//! in 8-bit 4:2:0), and by rust_h264, which is exact and slower, where it cannot.

pub mod control;
mod either;
mod encode;
mod exact;
mod quick;
pub mod sps;

pub use either::{Decoder, refuse};
#[cfg(feature = "testkit")]
pub(crate) use encode::set_up;
pub use encode::{Encoder, Rate};
pub use sps::Sps;

use crate::bits::start_code;
use crate::error::{Error, Result};

/// NAL unit types (table 7-1).
pub const NAL_IDR: u8 = 5;
pub const NAL_SPS: u8 = 7;
pub const NAL_PPS: u8 = 8;

/// The AVC decoder configuration record (ISO/IEC 14496-15, 5.3.3.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Config {
    /// Bytes in front of each NAL unit that hold its length: 1, 2 or 4.
    pub length_size: usize,
    pub sps: Vec<Vec<u8>>,
    pub pps: Vec<Vec<u8>>,
}

impl Config {
    pub fn parse(b: &[u8]) -> Result<Config> {
        let cut = || Error::damaged("avcC", "the record is cut short");
        let &[version, _, _, _, lengths, counts, ref rest @ ..] = b else { return Err(cut()) };
        if version != 1 {
            return Err(Error::damaged("avcC", format!("version {version}; only 1 is known")));
        }
        let length_size = usize::from(lengths & 3) + 1;
        if length_size == 3 {
            return Err(Error::damaged("avcC", "NAL unit lengths of 3 bytes; 1, 2 or 4"));
        }
        let (sps, rest) = units(rest, usize::from(counts & 0x1f)).ok_or_else(cut)?;
        let (&count, rest) = rest.split_first().ok_or_else(cut)?;
        let (pps, _) = units(rest, usize::from(count)).ok_or_else(cut)?;
        Ok(Config { length_size, sps, pps })
    }

    pub fn write(&self) -> Vec<u8> {
        let first = self.sps.first().map_or(&[][..], |s| s.as_slice());
        let at = |i| first.get(i).copied().unwrap_or(0);
        let mut out = vec![1, at(1), at(2), at(3), 0xfc | (self.length_size - 1) as u8];
        out.push(0xe0 | self.sps.len() as u8);
        put_units(&mut out, &self.sps);
        out.push(self.pps.len() as u8);
        put_units(&mut out, &self.pps);
        // High profiles add chroma format and depths (5.3.3.1.2).
        if matches!(at(1), 100 | 110 | 122 | 144)
            && let Ok(sps) = Sps::parse(first)
        {
            out.extend([
                0xfc | sps.chroma_format,
                0xf8 | (sps.luma_depth - 8),
                0xf8 | (sps.chroma_depth - 8),
                0,
            ]);
        }
        out
    }

    /// What the first parameter set says; `None` if the record has none.
    pub fn first_sps(&self) -> Result<Option<Sps>> {
        self.sps.first().map(|s| Sps::parse(s)).transpose()
    }
}

fn units(mut b: &[u8], count: usize) -> Option<(Vec<Vec<u8>>, &[u8])> {
    let mut out = Vec::new();
    for _ in 0..count {
        let len = usize::from(u16::from_be_bytes([*b.first()?, *b.get(1)?]));
        out.push(b.get(2..2 + len)?.to_vec());
        b = &b[2 + len..];
    }
    Some((out, b))
}

fn put_units(out: &mut Vec<u8>, units: &[Vec<u8>]) {
    for u in units {
        out.extend((u.len() as u16).to_be_bytes());
        out.extend(u);
    }
}

/// The NAL units of a packet whose units have their length in front. A length past the end is an error,
/// after the units before it were given.
pub fn nal_units(packet: &[u8], length_size: usize) -> impl Iterator<Item = Result<&[u8]>> {
    let mut at = 0;
    std::iter::from_fn(move || {
        if at >= packet.len() {
            return None;
        }
        let Some(head) = packet.get(at..at + length_size) else {
            at = packet.len();
            return Some(Err(Error::damaged("NAL unit", "its length field is cut short")));
        };
        let len = head.iter().fold(0usize, |n, &b| n << 8 | usize::from(b));
        let start = at + length_size;
        let left = packet.len() - start;
        if len > left {
            at = packet.len();
            return Some(Err(Error::damaged(
                "NAL unit",
                format!("length {len}, but {left} bytes are left in the packet"),
            )));
        }
        at = start + len;
        Some(Ok(&packet[start..at]))
    })
}

/// The NAL units of a byte stream (annex B), without the zeros between them.
pub fn stream_units(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    let next = move |from: usize| start_code(bytes, from);
    let mut start = next(0).map(|a| a + 3);
    std::iter::from_fn(move || {
        let from = start?;
        let end = next(from);
        start = end.map(|a| a + 3);
        let mut unit = &bytes[from..end.unwrap_or(bytes.len())];
        while let [rest @ .., 0] = unit {
            unit = rest;
        }
        Some(unit)
    })
    .filter(|u| !u.is_empty())
}

/// A byte stream's units with lengths of 4 bytes in front.
pub fn with_lengths(bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(bytes.len() + 16);
    for u in stream_units(bytes) {
        out.extend((u.len() as u32).to_be_bytes());
        out.extend_from_slice(u);
    }
    out
}

/// The configuration record for packets that carry their parameter sets; lengths are of 4 bytes. `None` while
/// a set of either kind is missing.
pub fn record_of(packet: &[u8]) -> Option<Config> {
    const MAX_SPS: usize = 16;
    const MAX_PPS: usize = 64;
    let mut c = Config { length_size: 4, sps: Vec::new(), pps: Vec::new() };
    for u in nal_units(packet, 4).flatten().filter(|u| !u.is_empty()) {
        let (list, most) = match u[0] & 31 {
            NAL_SPS => (&mut c.sps, MAX_SPS),
            NAL_PPS => (&mut c.pps, MAX_PPS),
            _ => continue,
        };
        if list.len() < most && !list.iter().any(|have| have == u) {
            list.push(u.to_vec());
        }
    }
    (!c.sps.is_empty() && !c.pps.is_empty()).then_some(c)
}

/// Slices and parameter sets (table 7-1). Other units (messages, delimiters, filler) say nothing that decoding needs,
/// and what is broken in one of them must not reach the pictures: it may even look like the start of a unit.
fn is_picture_unit(nal: &[u8]) -> bool {
    nal.first().is_some_and(|h| h & 0x80 == 0 && matches!(h & 31, 1..=5 | 7 | 8))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn records_are_written_as_read() {
        let c = Config {
            length_size: 4,
            sps: vec![vec![0x67, 77, 0x40, 30, 1, 2]],
            pps: vec![vec![0x68, 9], vec![0x68, 8]],
        };
        assert_eq!(Config::parse(&c.write()).unwrap(), c);
    }

    #[test]
    fn a_cut_packet_gives_what_is_whole_and_then_says_so() {
        let packet = [0, 0, 0, 2, 7, 8, 0, 0, 0, 9, 1];
        let got: Vec<_> = nal_units(&packet, 4).collect();
        assert_eq!(got[0].as_ref().unwrap(), &[7, 8]);
        assert!(got[1].is_err() && got.len() == 2);
    }

    #[test]
    fn byte_streams_become_units_with_lengths() {
        let stream = [0, 0, 0, 1, 0x67, 66, 0, 30, 0, 0, 1, 0x68, 9, 0, 0, 0, 1, 0x65, 1, 2, 0, 3];
        let units: Vec<_> = stream_units(&stream).collect();
        assert_eq!(units, [&[0x67, 66, 0, 30][..], &[0x68, 9], &[0x65, 1, 2, 0, 3]]);
        assert_eq!(with_lengths(&stream)[..8], [0, 0, 0, 4, 0x67, 66, 0, 30]);
        assert_eq!(record_of(&with_lengths(&stream)).unwrap().pps, [[0x68, 9]]);
        assert!(record_of(&with_lengths(&stream[..8])).is_none());
        assert_eq!(stream_units(&[0, 0]).count(), 0);
    }

    proptest! {
        #[test]
        fn every_byte_behind_a_start_code_comes_back(units in proptest::collection::vec(proptest::collection::vec(1u8..=255, 1..20), 1..6)) {
            let stream: Vec<u8> = units.iter().flat_map(|u| [&[0, 0, 1][..], u].concat()).collect();
            prop_assert_eq!(stream_units(&stream).map(<[u8]>::to_vec).collect::<Vec<_>>(), units);
        }

        #[test]
        fn no_bytes_make_the_parsers_panic(b in proptest::collection::vec(any::<u8>(), 0..200), n in 1usize..5) {
            let _ = Config::parse(&b).map(|c| c.first_sps().is_ok());
            let _ = Sps::parse(&b);
            let _ = nal_units(&b, n).count();
        }
    }
}
