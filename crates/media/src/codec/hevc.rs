//! HEVC is not decoded here, but told by name (ITU-T H.265, 12/2016: annex A profiles, 7.3.2.2 and 7.3.3).

use crate::bits::{Bits, unescape};
use crate::frame::{Chroma, Fields};
use crate::track::VideoTrack;

/// NAL unit type of a sequence parameter set (table 7-1).
pub const NAL_SPS: u8 = 33;

/// Fills in what the configuration record (ISO/IEC 14496-15, 8.3.3.1) says.
pub fn describe(record: &[u8], v: &mut VideoTrack) {
    let Some(head) = record.get(..23) else { return };
    let (profile, compatible) = (head[1] & 31, u32::from_be_bytes([head[2], head[3], head[4], head[5]]));
    let chroma = head[16] & 3;
    let depth = 8 + (head[17] & 7).max(head[18] & 7);
    name(v, profile, compatible, chroma, depth, head[12]);
    v.fields = if head[6] & 0x40 != 0 && head[6] & 0x80 == 0 { Fields::Interlaced } else { v.fields };
    if v.width == 0 {
        // The parameter sets follow: type, count, and each with its length.
        let mut at = 23;
        for _ in 0..record[22].min(16) {
            let Some(&[kind, c0, c1]) = record.get(at..at + 3) else { return };
            at += 3;
            for _ in 0..u16::from_be_bytes([c0, c1]).min(64) {
                let Some(&[l0, l1]) = record.get(at..at + 2) else { return };
                let len = usize::from(u16::from_be_bytes([l0, l1]));
                let Some(nal) = record.get(at + 2..at + 2 + len) else { return };
                if kind & 63 == NAL_SPS {
                    let _ = parameter_set(nal, v);
                    return;
                }
                at += 2 + len;
            }
        }
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

/// A sequence parameter set, its two header bytes included.
pub fn parameter_set(nal: &[u8], v: &mut VideoTrack) -> Option<()> {
    let bytes = unescape(nal.get(2..)?);
    let mut b = Bits::new(&bytes);
    b.take(4)?;
    let layers = b.take(3)?;
    b.flag()?;
    b.take(3)?;
    let profile = b.take(5)? as u8;
    let compatible = b.take(32)?;
    b.skip(48)?;
    let level = b.take(8)? as u8;
    let mut present = Vec::new();
    for _ in 0..layers {
        present.push((b.flag()?, b.flag()?));
    }
    if layers > 0 {
        b.skip(2 * (8 - layers as usize))?;
    }
    for (profile, level) in present {
        b.skip(if profile { 88 } else { 0 } + if level { 8 } else { 0 })?;
    }
    b.ue()?;
    let chroma = b.ue()?;
    if chroma == 3 {
        b.flag()?;
    }
    let (w, h) = (b.ue()?, b.ue()?);
    let (mut left, mut right, mut top, mut bottom) = (0, 0, 0, 0);
    if b.flag()? {
        (left, right, top, bottom) = (b.ue()?, b.ue()?, b.ue()?, b.ue()?);
    }
    let depth = b.ue()?.max(b.ue()?);
    if chroma > 3 || depth > 8 {
        return None;
    }
    let (ux, uy) = match chroma {
        1 => (2, 2),
        2 => (2, 1),
        _ => (1, 1),
    };
    v.width = w.checked_sub(left.checked_add(right)?.checked_mul(ux)?)?;
    v.height = h.checked_sub(top.checked_add(bottom)?.checked_mul(uy)?)?;
    name(v, profile, compatible, chroma as u8, 8 + depth as u8, level);
    Some(())
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
