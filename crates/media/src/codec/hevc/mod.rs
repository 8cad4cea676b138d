//! HEVC (ITU-T H.265, 12/2016: annex A profiles, 7.3). Decoding itself is done by rust_h265; of what that leaves out, by
//! libde265 where the build found it.

mod decode;
mod order;
mod sps;
mod usual;
#[cfg(de265)]
mod wide;

pub use decode::Decoder;
pub use sps::Sps;

use crate::codec::h264::nal_units;
use crate::codec::rows::needs;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Fields};
use crate::track::{Track, VideoTrack};

/// NAL unit types (table 7-1).
pub const NAL_VPS: u8 = 32;
pub const NAL_SPS: u8 = 33;
pub const NAL_PPS: u8 = 34;

/// Fills in what the configuration record (ISO/IEC 14496-15, 8.3.3.1) says.
pub fn describe(record: &[u8], v: &mut VideoTrack) {
    let Some(head) = record.get(..23) else { return };
    let (profile, compatible) = (head[1] & 31, u32::from_be_bytes([head[2], head[3], head[4], head[5]]));
    let chroma = head[16] & 3;
    let depth = 8 + (head[17] & 7).max(head[18] & 7);
    name(v, profile, compatible, chroma, depth, head[12]);
    v.fields = if head[6] & 0x40 != 0 && head[6] & 0x80 == 0 { Fields::Interlaced } else { v.fields };
    if let Ok(config) = Config::parse(record) {
        // A container has its own times.
        let rate = v.rate;
        let _ = config.describe(v);
        v.rate = rate;
    }
}

fn name(v: &mut VideoTrack, profile: u8, compatible: u32, chroma: u8, depth: u8, level: u8) {
    let can = |n: u32| compatible >> (31 - n) & 1 == 1;
    let chroma = [Chroma::Gray, Chroma::C420, Chroma::C422, Chroma::C444][usize::from(chroma)];
    let profile = match profile {
        0 if can(1) => 1,
        0 if can(2) => 2,
        n => n,
    };
    v.profile = Some(match profile {
        1 => "Main".into(),
        2 => "Main 10".into(),
        3 => "Main Still Picture".into(),
        // Format range extensions: named by depth and chroma (A.3.5).
        4 => {
            let sampled = match chroma {
                Chroma::Gray => "Monochrome",
                Chroma::C422 => "Main 4:2:2",
                Chroma::C444 => "Main 4:4:4",
                _ => "Main",
            };
            let bits = [8, 10, 12, 16].into_iter().find(|&b| depth <= b).unwrap_or(16);
            if bits == 8 { sampled.to_owned() } else { format!("{sampled} {bits}") }
        }
        9 => "Screen Content".into(),
        n => format!("profile {n}"),
    });
    v.level = (level > 0).then(|| format!("{}.{}", level / 30, level % 30 / 3));
    (v.chroma, v.depth) = (Some(chroma), Some(depth));
}

/// Fills in what a sequence parameter set says, its two header bytes included.
pub fn parameter_set(nal: &[u8], v: &mut VideoTrack) -> Option<()> {
    let sps = Sps::parse(nal)?;
    if v.width == 0 || v.height == 0 {
        (v.width, v.height, v.pixel_shape) = (sps.width, sps.height, sps.pixel_shape);
    }
    let compatible = u32::from_be_bytes([sps.general[1], sps.general[2], sps.general[3], sps.general[4]]);
    name(v, sps.general[0] & 31, compatible, sps.chroma_format, sps.depth, sps.general[11]);
    if sps.colour != Colour::default() {
        v.colour = sps.colour;
    }
    if sps.fields {
        v.fields = Fields::Interlaced;
    }
    v.rate = v.rate.or(sps.rate);
    Some(())
}

/// The configuration record (ISO/IEC 14496-15, 8.3.3.1), as far as decoding needs it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Config {
    /// Bytes in front of each NAL unit that hold its length: 1, 2 or 4.
    pub length_size: usize,
    /// Parameter sets, and whatever else stands there.
    pub units: Vec<Vec<u8>>,
}

impl Config {
    pub fn parse(record: &[u8]) -> Result<Config> {
        let cut = || Error::damaged("hvcC", "the record is cut short");
        let head = record.get(..23).ok_or_else(cut)?;
        let length_size = usize::from(head[21] & 3) + 1;
        if length_size == 3 {
            return Err(Error::damaged("hvcC", "NAL unit lengths of 3 bytes; 1, 2 or 4"));
        }
        let mut units = Vec::new();
        let mut rest = &record[23..];
        for _ in 0..head[22] {
            let &[_, c0, c1, ref more @ ..] = rest else { return Err(cut()) };
            rest = more;
            for _ in 0..u16::from_be_bytes([c0, c1]) {
                let &[l0, l1, ref more @ ..] = rest else { return Err(cut()) };
                let len = usize::from(u16::from_be_bytes([l0, l1]));
                units.push(more.get(..len).ok_or_else(cut)?.to_vec());
                rest = &more[len..];
            }
        }
        Ok(Config { length_size, units })
    }

    /// The first sequence parameter set.
    fn first_sps(&self) -> Option<&Vec<u8>> {
        self.units.iter().find(|u| unit(u) == Some(NAL_SPS))
    }

    /// Fills in what the first sequence parameter set says.
    pub fn describe(&self, v: &mut VideoTrack) -> Option<()> {
        parameter_set(self.first_sps()?, v)
    }

    pub fn write(&self) -> Vec<u8> {
        let sps = self.first_sps().and_then(|s| Sps::parse(s));
        let mut out = vec![1];
        out.extend(sps.as_ref().map_or([0; 12], |s| s.general));
        let (chroma, depth) = sps.map_or((1, 8), |s| (s.chroma_format, s.depth));
        out.extend([0xf0, 0, 0xfc, 0xfc | chroma, 0xf8 | (depth - 8), 0xf8 | (depth - 8), 0, 0]);
        out.extend([0x0c | (self.length_size - 1) as u8, 3]);
        for kind in [NAL_VPS, NAL_SPS, NAL_PPS] {
            let all: Vec<&Vec<u8>> = self.units.iter().filter(|u| unit(u) == Some(kind)).collect();
            out.push(0x80 | kind);
            out.extend((all.len() as u16).to_be_bytes());
            for u in all {
                out.extend((u.len() as u16).to_be_bytes());
                out.extend(u);
            }
        }
        out
    }
}

/// Type of a NAL unit.
fn unit(nal: &[u8]) -> Option<u8> {
    nal.first().map(|h| h >> 1 & 63)
}

/// The configuration record for packets that carry their parameter sets; lengths are of 4 bytes. `None` while a set of
/// a kind is missing.
pub fn record_of(packet: &[u8]) -> Option<Config> {
    const MOST: usize = 64;
    let mut units: Vec<Vec<u8>> = Vec::new();
    for u in nal_units(packet, 4).flatten() {
        if matches!(unit(u), Some(NAL_VPS..=NAL_PPS))
            && units.len() < MOST
            && !units.iter().any(|have| have == u)
        {
            units.push(u.to_vec());
        }
    }
    let all = [NAL_VPS, NAL_SPS, NAL_PPS].iter().all(|k| units.iter().any(|u| unit(u) == Some(*k)));
    all.then_some(Config { length_size: 4, units })
}

/// Was libde265 there when this program was built?
pub const WIDE_PRESENT: bool = cfg!(de265);

/// Layouts that need libde265.
fn is_wide(v: &VideoTrack) -> bool {
    matches!(v.chroma, Some(Chroma::C422 | Chroma::Gray))
}

/// Why a track cannot be decoded all the same.
pub fn refuse(track: &Track) -> Result<()> {
    let Some(v) = track.video() else { return Ok(()) };
    let layout = if v.chroma == Some(Chroma::Gray) { "without colour" } else { "in 4:2:2" };
    let why = match v.depth {
        Some(13..) => "of more than 12 bits",
        _ if v.fields != Fields::Progressive => "of separate fields",
        _ if is_wide(v) => return needs(&format!("HEVC {layout}"), WIDE_PRESENT, "libde265"),
        _ => return Ok(()),
    };
    Err(Error::unsupported(
        "",
        format!("HEVC {why} cannot be decoded; HEVC of whole pictures of 8 to 12 bits can"),
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bits::Put;

    #[test]
    fn main_10_is_told_from_record_and_parameter_set() {
        let mut p = Put::default();
        p.bits(0x4201, 16).bits(0, 4).bits(0, 3).bits(1, 1);
        p.bits(2, 8).bits(1 << 29, 32).bits(0x9000_0000, 32).bits(0x0001, 16).bits(120, 8);
        p.ue(0).ue(1).ue(3840).ue(2176).bits(1, 1).ue(0).ue(0).ue(0).ue(8).ue(2).ue(2).bits(1, 1);
        let mut v = VideoTrack::sized(0, 0);
        // Runs of zeros in this set would be escaped in a real one; the reader undoes that.
        parameter_set(&p.bytes(), &mut v).unwrap();
        assert_eq!((v.width, v.height, v.profile.as_deref()), (3840, 2160, Some("Main 10")));
        assert_eq!((v.depth, v.level.as_deref()), (Some(10), Some("4.0")));
        let mut record = vec![1, 4, 8, 0, 0, 0, 0x90, 0, 0, 0, 0, 0, 153, 0, 0, 0, 2, 2, 2, 0, 0, 0, 0];
        let mut v = VideoTrack::sized(1920, 1080);
        describe(&record, &mut v);
        assert_eq!((v.profile.as_deref(), v.chroma), (Some("Main 4:2:2 10"), Some(Chroma::C422)));
        record.truncate(10);
        describe(&record, &mut VideoTrack::sized(0, 0));
    }
}
