//! The sequence parameter set (ITU-T H.265, 12/2016: 7.3.2.2) with its usability information (annex E).

use crate::bits::{Bits, unescape};
use crate::codec::h264::sps::pixel_shape;
use crate::frame::Colour;
use crate::units::Ratio;

#[derive(Clone, Debug, PartialEq)]
pub struct Sps {
    pub id: u32,
    /// General profile space, tier, profile, compatibility, constraints and level, as a configuration record has them.
    pub general: [u8; 12],
    /// 0 gray, 1 4:2:0, 2 4:2:2, 3 4:4:4.
    pub chroma_format: u8,
    pub separate_planes: bool,
    pub depth: u8,
    pub width: u32,
    pub height: u32,
    /// Bits of a picture's place in the order of showing.
    pub order_bits: u32,
    pub pixel_shape: Ratio,
    pub colour: Colour,
    /// Each picture is one field.
    pub fields: bool,
    pub rate: Option<Ratio>,
    /// Width and height before anything is cut off.
    pub coded: (u32, u32),
    blocks: Option<Blocks>,
}

/// Sides of blocks as powers of two, and how often transforms may be halved (7.4.3.2.1).
#[derive(Clone, Debug, PartialEq)]
struct Blocks {
    least_coding: u32,
    coding: u32,
    least_transform: u32,
    transform: u32,
    halved: u32,
}

/// Largest number of sets of reference pictures (7.4.3.2).
const MOST_SETS: u32 = 64;

impl Sps {
    /// Reads a whole NAL unit, its two header bytes included. A cut tail costs only what it would have said.
    pub fn parse(nal: &[u8]) -> Option<Sps> {
        let bytes = unescape(nal.get(2..)?);
        let mut b = Bits::new(&bytes);
        b.take(4)?;
        let layers = b.take(3)?;
        b.flag()?;
        let general: [u8; 12] = bytes.get(1..13)?.try_into().ok()?;
        b.skip(96)?;
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
        let id = b.ue()?;
        let chroma = b.ue()?;
        let separate_planes = chroma == 3 && b.flag()?;
        let (w, h) = (b.ue()?, b.ue()?);
        let (mut left, mut right, mut top, mut bottom) = (0, 0, 0, 0);
        if b.flag()? {
            (left, right, top, bottom) = (b.ue()?, b.ue()?, b.ue()?, b.ue()?);
        }
        let depth = b.ue()?.max(b.ue()?);
        let order = b.ue()?;
        if chroma > 3 || depth > 8 || order > 12 || id > 15 {
            return None;
        }
        let (ux, uy) = match chroma {
            1 => (2, 2),
            2 => (2, 1),
            _ => (1, 1),
        };
        let mut sps = Sps {
            id,
            general,
            chroma_format: chroma as u8,
            separate_planes,
            depth: 8 + depth as u8,
            width: w.checked_sub(left.checked_add(right)?.checked_mul(ux)?)?,
            height: h.checked_sub(top.checked_add(bottom)?.checked_mul(uy)?)?,
            order_bits: order + 4,
            pixel_shape: Ratio::ONE,
            colour: Colour::default(),
            fields: false,
            rate: None,
            coded: (w, h),
            blocks: None,
        };
        sps.blocks = skip_sizes(&mut b, layers).and_then(|()| Blocks::read(&mut b));
        if sps.blocks.is_some() && go_to_usability(&mut b, sps.order_bits).is_some_and(|there| there) {
            let _ = sps.read_usability(&mut b);
        }
        Some(sps)
    }

    /// What in it no decoder can work with (7.4.3.2.1).
    pub fn fault(&self) -> Option<&'static str> {
        const LARGEST_CODING: u32 = 6;
        const LARGEST_TRANSFORM: u32 = 5;
        let Some(Blocks { least_coding, coding, least_transform, transform, halved }) = self.blocks else {
            return Some("it is cut");
        };
        if coding > LARGEST_CODING {
            return Some("coding blocks of over 64 pixels");
        }
        let part = (1 << least_coding) - 1;
        if (self.coded.0 | self.coded.1) & part != 0 {
            return Some("its picture is no whole number of coding blocks");
        }
        if least_transform > least_coding || transform > coding.min(LARGEST_TRANSFORM) {
            return Some("transforms larger than what they are of");
        }
        (halved > coding - least_transform).then_some("transforms halved more often than they can be")
    }

    /// E.2.1, up to the rate.
    fn read_usability(&mut self, b: &mut Bits<'_>) -> Option<()> {
        if b.flag()? {
            let idc = b.take(8)?;
            let stated = if idc == 255 { (b.take(16)?, b.take(16)?) } else { pixel_shape(idc) };
            self.pixel_shape = Ratio::new(stated.0.into(), stated.1.into()).unwrap_or(Ratio::ONE);
        }
        if b.flag()? {
            b.flag()?;
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
        if b.flag()? {
            b.ue()?;
            b.ue()?;
        }
        b.flag()?;
        self.fields = b.flag()?;
        b.flag()?;
        if b.flag()? {
            for _ in 0..4 {
                b.ue()?;
            }
        }
        if b.flag()? {
            let (units, scale) = (b.take(32)?, b.take(32)?);
            self.rate = Ratio::new(scale.into(), units.into());
        }
        Some(())
    }
}

impl Blocks {
    fn read(b: &mut Bits<'_>) -> Option<Blocks> {
        const MOST: u32 = 16;
        let mut six = [0; 6];
        for value in &mut six {
            *value = b.ue()?;
        }
        // No value near `MOST` is lawful; sums of such cannot overflow.
        let [coding, more, transform, more_transform, between, within] = six.map(|v| v.min(MOST));
        Some(Blocks {
            least_coding: coding + 3,
            coding: coding + 3 + more,
            least_transform: transform + 2,
            transform: transform + 2 + more_transform,
            halved: between.max(within),
        })
    }
}

/// The sizes of buffers for each layer.
fn skip_sizes(b: &mut Bits<'_>, layers: u32) -> Option<()> {
    let each = b.flag()?;
    for _ in if each { 0 } else { layers }..=layers {
        for _ in 0..3 {
            b.ue()?;
        }
    }
    Some(())
}

/// From behind the sizes of blocks to the usability information; whether there is any.
fn go_to_usability(b: &mut Bits<'_>, order_bits: u32) -> Option<bool> {
    if b.flag()? && b.flag()? {
        skip_scaling_lists(b)?;
    }
    b.take(2)?;
    if b.flag()? {
        b.take(8)?;
        b.ue()?;
        b.ue()?;
        b.flag()?;
    }
    let sets = b.ue()?;
    if sets > MOST_SETS {
        return None;
    }
    let mut last = Vec::new();
    for n in 0..sets {
        last = reference_set(b, n, &last)?;
    }
    if b.flag()? {
        for _ in 0..b.ue()?.min(32) {
            b.take(order_bits)?;
            b.flag()?;
        }
    }
    b.take(2)?;
    b.flag()
}

/// 7.3.4.
fn skip_scaling_lists(b: &mut Bits<'_>) -> Option<()> {
    for size in 0..4u32 {
        for _ in (0..6).step_by(if size == 3 { 3 } else { 1 }) {
            if !b.flag()? {
                b.ue()?;
                continue;
            }
            if size > 1 {
                b.se()?;
            }
            for _ in 0..64.min(1 << (4 + (size << 1))) {
                b.se()?;
            }
        }
    }
    Some(())
}

/// A set of reference pictures (7.3.7) as distances in the order of showing, those before first (7-61, 7-62).
fn reference_set(b: &mut Bits<'_>, number: u32, last: &[i32]) -> Option<Vec<i32>> {
    const MOST: u32 = 16;
    if number > 0 && b.flag()? {
        let back = b.flag()?;
        let by = i32::try_from(b.ue()?.checked_add(1)?).ok()?;
        let by = if back { -by } else { by };
        let mut kept = Vec::new();
        for _ in 0..=last.len() {
            kept.push(b.flag()? || b.flag()?);
        }
        let (before, behind): (Vec<_>, Vec<_>) =
            last.iter().copied().zip(kept.iter().copied()).partition(|(d, _)| *d < 0);
        let own = (0, *kept.last()?);
        let moved = |(d, keep): (i32, bool)| keep.then(|| d.saturating_add(by));
        let all_before = behind.iter().rev().copied().chain([own]).chain(before.iter().copied());
        let all_behind = before.iter().rev().copied().chain([own]).chain(behind.iter().copied());
        let mut out: Vec<i32> = all_before.filter_map(moved).filter(|d| *d < 0).collect();
        out.extend(all_behind.filter_map(moved).filter(|d| *d > 0));
        return Some(out);
    }
    let (before, behind) = (b.ue()?, b.ue()?);
    if before > MOST || behind > MOST {
        return None;
    }
    let mut out = Vec::new();
    for (count, sign) in [(before, -1), (behind, 1)] {
        let mut at = 0i32;
        for _ in 0..count {
            at = at.checked_add(i32::try_from(b.ue()?).ok()?.checked_add(1)?)?;
            b.flag()?;
            out.push(at * sign);
        }
    }
    Some(out)
}
