//! The sequence parameter set (ITU-T H.264, 7.3.2.1.1) and its usability information (annex E).

use crate::bits;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Fields};
use crate::track::VideoTrack;
use crate::units::Ratio;

#[derive(Clone, Debug, PartialEq)]
pub struct Sps {
    pub profile: u8,
    pub constraints: u8,
    pub level: u8,
    /// 0 gray, 1 4:2:0, 2 4:2:2, 3 4:4:4.
    pub chroma_format: u8,
    pub luma_depth: u8,
    pub chroma_depth: u8,
    pub width: u32,
    pub height: u32,
    pub frames_only: bool,
    /// Bits of a frame's number in the heads of its slices.
    pub number_bits: u32,
    pub separate_planes: bool,
    /// Pictures come in the order of showing.
    pub in_order: bool,
    pub pixel_shape: Ratio,
    pub colour: Colour,
}

/// Bits whose end is damage.
struct Bits<'a>(bits::Bits<'a>);

fn there<T>(v: Option<T>) -> Result<T> {
    v.ok_or_else(|| Error::damaged("SPS", "it is cut short, or holds a number of more than 32 bits"))
}

impl Bits<'_> {
    fn bit(&mut self) -> Result<u32> {
        there(self.0.bit())
    }
    fn flag(&mut self) -> Result<bool> {
        there(self.0.flag())
    }
    fn take(&mut self, n: u32) -> Result<u32> {
        there(self.0.take(n))
    }
    fn ue(&mut self) -> Result<u32> {
        there(self.0.ue())
    }
    fn se(&mut self) -> Result<i32> {
        there(self.0.se())
    }
}

impl Sps {
    /// Reads a whole NAL unit, its header byte included.
    pub fn parse(nal: &[u8]) -> Result<Sps> {
        // Without what keeps start codes out (7.4.1).
        let bytes = bits::unescape(nal.get(1..).unwrap_or(&[]));
        let mut b = Bits(bits::Bits::new(&bytes));
        let profile = b.take(8)? as u8;
        let constraints = b.take(8)? as u8;
        let level = b.take(8)? as u8;
        b.ue()?;
        let (mut chroma_format, mut luma_depth, mut chroma_depth) = (1, 8, 8);
        let mut separate_planes = false;
        if matches!(profile, 100 | 110 | 122 | 244 | 44 | 83 | 86 | 118 | 128 | 138 | 139 | 134 | 135) {
            chroma_format = b.ue()?;
            if chroma_format > 3 {
                return Err(Error::damaged("SPS", format!("chroma_format_idc {chroma_format}; 0 to 3")));
            }
            if chroma_format == 3 {
                separate_planes = b.flag()?;
            }
            luma_depth = 8 + b.ue()?;
            chroma_depth = 8 + b.ue()?;
            if luma_depth > 14 || chroma_depth > 14 {
                return Err(Error::damaged(
                    "SPS",
                    format!("bit depths {luma_depth} and {chroma_depth}; 8 to 14"),
                ));
            }
            b.bit()?;
            if b.flag()? {
                for i in 0..if chroma_format == 3 { 12 } else { 8 } {
                    if b.flag()? {
                        skip_scaling_list(&mut b, if i < 6 { 16 } else { 64 })?;
                    }
                }
            }
        }
        let number_bits = b.ue()?.min(12) + 4;
        let order = b.ue()?;
        match order {
            0 => {
                b.ue()?;
            }
            1 => {
                b.bit()?;
                b.se()?;
                b.se()?;
                let count = b.ue()?;
                if count > 255 {
                    return Err(Error::damaged(
                        "SPS",
                        format!("{count} frames in the order-count cycle; up to 255"),
                    ));
                }
                for _ in 0..count {
                    b.se()?;
                }
            }
            _ => (),
        }
        b.ue()?;
        b.bit()?;
        let mbs_wide = u64::from(b.ue()?) + 1;
        let map_units = u64::from(b.ue()?) + 1;
        let frames_only = b.flag()?;
        if !frames_only {
            b.bit()?;
        }
        b.bit()?;
        let (mut w, mut h) = (mbs_wide * 16, map_units * 16 * if frames_only { 1 } else { 2 });
        if b.flag()? {
            // 7.4.2.1.1: crop units.
            let (ux, uy) = match chroma_format {
                1 => (2, 2),
                2 => (2, 1),
                _ => (1, 1),
            };
            let uy = uy * if frames_only { 1 } else { 2 };
            let (l, r, t, bo) = (b.ue()?, b.ue()?, b.ue()?, b.ue()?);
            w = w.saturating_sub((u64::from(l) + u64::from(r)) * ux);
            h = h.saturating_sub((u64::from(t) + u64::from(bo)) * uy);
        }
        let mut sps = Sps {
            profile,
            constraints,
            level,
            chroma_format: chroma_format as u8,
            luma_depth: luma_depth as u8,
            chroma_depth: chroma_depth as u8,
            width: u32::try_from(w).unwrap_or(u32::MAX),
            height: u32::try_from(h).unwrap_or(u32::MAX),
            frames_only,
            number_bits,
            separate_planes,
            in_order: order == 2,
            pixel_shape: Ratio::ONE,
            colour: Colour::default(),
        };
        // A cut tail costs only what it would have said.
        if b.flag().unwrap_or(false) {
            let _ = sps.read_vui(&mut b);
        }
        Ok(sps)
    }

    fn read_vui(&mut self, b: &mut Bits<'_>) -> Result<()> {
        if b.flag()? {
            let idc = b.take(8)?;
            let shape = if idc == 255 { (b.take(16)?, b.take(16)?) } else { pixel_shape(idc) };
            if let Some(r) = Ratio::new(shape.0.into(), shape.1.into()) {
                self.pixel_shape = r;
            }
        }
        if b.flag()? {
            b.bit()?;
        }
        if b.flag()? {
            b.take(3)?;
            self.colour.full_range = b.flag()?;
            if b.flag()? {
                self.colour.primaries = b.take(8)? as u8;
                self.colour.transfer = b.take(8)? as u8;
                self.colour.matrix = b.take(8)? as u8;
            }
        }
        Ok(())
    }

    /// Fills in what the set says and a container, whose size and shape count, does not.
    pub fn complete(&self, track: &mut VideoTrack) {
        let (mut said, stated) = (track.clone(), track.clone());
        self.describe(&mut said);
        if stated.width > 0 && stated.height > 0 {
            (said.width, said.height, said.pixel_shape) = (stated.width, stated.height, stated.pixel_shape);
            if stated.pixel_shape == Ratio::ONE {
                said.pixel_shape = self.pixel_shape;
            }
        }
        if said.colour == Colour::default() {
            said.colour = stated.colour;
        }
        *track = said;
    }

    /// Fills in what the set says of a track.
    pub fn describe(&self, track: &mut VideoTrack) {
        (track.width, track.height) = (self.width, self.height);
        track.pixel_shape = self.pixel_shape;
        track.fields = if self.frames_only { Fields::Progressive } else { Fields::Interlaced };
        track.chroma = Some(match self.chroma_format {
            0 => Chroma::Gray,
            2 => Chroma::C422,
            3 => Chroma::C444,
            _ => Chroma::C420,
        });
        track.depth = Some(self.luma_depth.max(self.chroma_depth));
        track.profile = Some(self.profile_name());
        track.level = Some(format!("{}.{}", self.level / 10, self.level % 10));
        track.colour = self.colour;
    }

    /// How many pictures can have to wait for one that is shown before them: what the level lets a decoder hold (A.3.1,
    /// table A-1).
    pub fn most_reordered(&self) -> usize {
        const HELD: [(u8, u64); 13] = [
            (10, 396),
            (11, 900),
            (20, 2376),
            (21, 4752),
            (30, 8100),
            (31, 18_000),
            (32, 20_480),
            (41, 32_768),
            (42, 34_816),
            (50, 110_400),
            (52, 184_320),
            (62, 696_320),
            (255, 696_320),
        ];
        let intra = matches!(self.profile, 44 | 110 | 122 | 244) && self.constraints & 0x10 != 0;
        if self.in_order || intra {
            return 0;
        }
        let blocks = u64::from(self.width.div_ceil(16)) * u64::from(self.height.div_ceil(16));
        let held = HELD.iter().find(|h| self.level <= h.0).map_or(696_320, |h| h.1);
        (held / blocks.max(1)).clamp(1, 16) as usize
    }

    /// Of a slice that holds a field: the number of its frame, and whether it is the lower field (7.3.3).
    pub fn field(&self, slice: &[u8]) -> Option<(u32, bool)> {
        if self.frames_only {
            return None;
        }
        let bytes = bits::unescape(slice.get(1..)?.get(..32).unwrap_or(&slice[1..]));
        let mut b = bits::Bits::new(&bytes);
        for _ in 0..3 {
            b.ue()?;
        }
        if self.separate_planes {
            b.take(2)?;
        }
        let number = b.take(self.number_bits)?;
        if b.flag()? { Some((number, b.flag()?)) } else { None }
    }

    /// A.2.
    pub fn profile_name(&self) -> String {
        let intra = self.constraints & 0x10 != 0;
        match self.profile {
            66 if self.constraints & 0x40 != 0 => "Constrained Baseline".into(),
            66 => "Baseline".into(),
            77 => "Main".into(),
            88 => "Extended".into(),
            100 => "High".into(),
            110 if intra => "High 10 Intra".into(),
            110 => "High 10".into(),
            122 if intra => "High 4:2:2 Intra".into(),
            122 => "High 4:2:2".into(),
            244 => "High 4:4:4 Predictive".into(),
            44 => "CAVLC 4:4:4 Intra".into(),
            n => format!("profile {n}"),
        }
    }
}

/// Pixel shapes by number, 0:0 for one that is not stated (table E-1; H.265 has the same).
pub fn pixel_shape(idc: u32) -> (u32, u32) {
    const SHAPES: [(u32, u32); 17] = [
        (0, 0),
        (1, 1),
        (12, 11),
        (10, 11),
        (16, 11),
        (40, 33),
        (24, 11),
        (20, 11),
        (32, 11),
        (80, 33),
        (18, 11),
        (15, 11),
        (64, 33),
        (160, 99),
        (4, 3),
        (3, 2),
        (2, 1),
    ];
    SHAPES.get(idc as usize).copied().unwrap_or((0, 0))
}

fn skip_scaling_list(b: &mut Bits<'_>, size: usize) -> Result<()> {
    let (mut last, mut next) = (8i32, 8i32);
    for _ in 0..size {
        if next != 0 {
            next = last.wrapping_add(b.se()?).rem_euclid(256);
        }
        if next != 0 {
            last = next;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    use crate::bits::Put;

    fn nal(p: &Put) -> Vec<u8> {
        [vec![0x67], p.bytes()].concat()
    }

    #[test]
    fn a_high_422_10_bit_interlaced_set_is_told() {
        let mut p = Put::default();
        p.bits(122, 8).bits(0, 8).bits(41, 8).ue(0);
        p.ue(2).ue(2).ue(2).bits(0, 1).bits(0, 1); // 4:2:2, 10 bit
        p.ue(0).ue(0).ue(0).ue(4).bits(0, 1);
        p.ue(119).ue(33).bits(0, 1).bits(1, 1).bits(1, 1); // 1920 x 34*32=1088, fields
        p.bits(1, 1).ue(0).ue(0).ue(0).ue(4); // crop 4*2 rows
        p.bits(1, 1).bits(1, 1).bits(255, 8).bits(4, 16).bits(3, 16); // VUI, shape 4:3
        p.bits(0, 1).bits(1, 1).bits(5, 3).bits(1, 1).bits(1, 1).bits(9, 8).bits(16, 8).bits(9, 8).bits(1, 8);
        let s = Sps::parse(&nal(&p)).unwrap();
        assert_eq!((s.width, s.height, s.luma_depth, s.chroma_format), (1920, 1080, 10, 2));
        assert!(!s.frames_only);
        assert_eq!(s.profile_name(), "High 4:2:2");
        assert_eq!(s.pixel_shape, Ratio { num: 4, den: 3 });
        assert_eq!(s.colour, Colour { primaries: 9, transfer: 16, matrix: 9, full_range: true });
    }

    #[test]
    fn a_set_cut_before_its_size_is_damaged() {
        assert!(Sps::parse(&[0x67, 66, 0, 30]).is_err());
    }
}
