//! The place of each picture in the order of showing (ITU-T H.265, 12/2016: 8.3.1), from the head of its first slice
//! (7.3.6.1) and the parameter sets that this leans on. The decoder gives pictures with that place, packets have times:
//! this is what brings the two together.

use super::{NAL_PPS, NAL_SPS, Sps, unit};
use crate::bits::{Bits, unescape};
use std::collections::BTreeMap;

/// End of sequence (table 7-1).
const NAL_EOS: u8 = 36;
/// Bytes of a slice in which the head that matters stands.
const HEAD: usize = 64;

#[derive(Default)]
pub struct Order {
    /// By number: bits of the place, separate planes.
    sps: BTreeMap<u32, (u32, bool)>,
    /// By number: the sequence's number, whether slices tell if they are shown, bits to pass over.
    pps: BTreeMap<u32, (u32, bool, u32)>,
    /// The last picture that others count from.
    base: i32,
    /// The next picture is the first of a sequence.
    begins: bool,
    /// The sequence began in the middle: pictures that lean on what was before are not shown.
    cut: bool,
}

/// What the first slice of a picture says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Place {
    pub order: i32,
    /// Cannot be shown: it leans on what was never there.
    pub skipped: bool,
}

impl Order {
    pub fn new() -> Order {
        Order { begins: true, ..Order::default() }
    }

    /// Takes a unit; the place of a picture that begins with it.
    pub fn take(&mut self, nal: &[u8]) -> Option<Place> {
        let kind = unit(nal)?;
        match kind {
            NAL_SPS => {
                let sps = Sps::parse(nal)?;
                self.sps.insert(sps.id, (sps.order_bits, sps.separate_planes));
                None
            }
            NAL_PPS => {
                let bytes = unescape(nal.get(2..)?.get(..HEAD).unwrap_or(&nal[2..]));
                let mut b = Bits::new(&bytes);
                let (id, sps) = (b.ue()?, b.ue()?);
                b.flag()?;
                if id < 64 {
                    self.pps.insert(id, (sps, b.flag()?, b.take(3)?));
                }
                None
            }
            NAL_EOS => {
                self.begins = true;
                None
            }
            0..=31 => self.slice(kind, nal),
            _ => None,
        }
    }

    fn slice(&mut self, kind: u8, nal: &[u8]) -> Option<Place> {
        let layer = (nal[0] & 1) << 5 | nal.get(1)? >> 3;
        let temporal = (nal[1] & 7).checked_sub(1)?;
        if layer > 0 {
            return None;
        }
        let bytes = unescape(nal.get(2..)?.get(..HEAD).unwrap_or(&nal[2..]));
        let mut b = Bits::new(&bytes);
        if !b.flag()? {
            return None;
        }
        if (16..=23).contains(&kind) {
            b.flag()?;
        }
        let (sps, tells, extra) = *self.pps.get(&b.ue()?)?;
        let (bits, separate) = *self.sps.get(&sps)?;
        b.skip(extra as usize)?;
        b.ue()?;
        b.skip(usize::from(tells) + if separate { 2 } else { 0 })?;
        let (instant, random) = (matches!(kind, 19 | 20), (16..=23).contains(&kind));
        let low = if instant { 0 } else { b.take(bits)? as i32 };
        let fresh = random && (instant || matches!(kind, 16..=18) || self.begins);
        let order = if fresh {
            low
        } else {
            let (span, base_low) = (1i32 << bits, self.base & ((1 << bits) - 1));
            let high = self.base - base_low;
            if low < base_low && base_low - low >= span / 2 {
                high.wrapping_add(span) + low
            } else if low > base_low && low - base_low > span / 2 {
                high.wrapping_sub(span) + low
            } else {
                high + low
            }
        };
        if random {
            self.cut = fresh && !instant;
        }
        self.begins = false;
        let (skippable, leading) = (matches!(kind, 8 | 9), (6..=9).contains(&kind));
        // Those that nothing counts from: leading ones, and those that nothing of their layer leans on.
        if temporal == 0 && !leading && !(kind < 15 && kind.is_multiple_of(2)) {
            self.base = order;
        }
        Some(Place { order, skipped: skippable && self.cut })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bits::Put;
    use rstest::rstest;

    fn ready() -> Order {
        let mut order = Order::new();
        order.sps.insert(0, (4, false));
        let mut p = Put::default();
        p.bits(0x4401, 16).ue(0).ue(0).bits(0, 1).bits(0, 1).bits(0, 3);
        assert_eq!(order.take(&p.bytes()), None);
        order
    }

    /// The first slice of a picture.
    fn slice(kind: u8, low: u32) -> Vec<u8> {
        let mut p = Put::default();
        p.bits(u32::from(kind) << 9 | 1, 16).bits(1, 1);
        if (16..=23).contains(&kind) {
            p.bits(0, 1);
        }
        p.ue(0).ue(1);
        if !matches!(kind, 19 | 20) {
            p.bits(low, 4);
        }
        p.bits(0xff, 8).bytes()
    }

    #[rstest]
    // Counting goes over the end of the low bits, forwards and back.
    #[case(&[(19, 0), (1, 8), (0, 4), (1, 0), (0, 12), (1, 8)], &[0, 8, 4, 16, 12, 24])]
    // A picture that can be begun at goes on counting, unless it is the first.
    #[case(&[(19, 0), (1, 6), (21, 12), (9, 10)], &[0, 6, 12, 10])]
    #[case(&[(21, 5), (1, 9), (19, 0), (1, 2)], &[5, 9, 0, 2])]
    fn places_are_counted(#[case] slices: &[(u8, u32)], #[case] want: &[i32]) {
        let mut order = ready();
        let got: Vec<i32> =
            slices.iter().map(|&(kind, low)| order.take(&slice(kind, low)).unwrap().order).collect();
        assert_eq!(got, want);
    }

    #[test]
    fn what_leans_on_a_beginning_that_is_not_there_is_not_shown() {
        let mut order = ready();
        let skipped = |o: &mut Order, kind, low| o.take(&slice(kind, low)).unwrap().skipped;
        let all = [(21, 8), (9, 6), (8, 7), (7, 5), (1, 12), (21, 14), (9, 13)];
        let got: Vec<bool> = all.iter().map(|&(kind, low)| skipped(&mut order, kind, low)).collect();
        assert_eq!(got, [false, true, true, false, false, false, false]);
    }

    #[test]
    fn a_slice_without_its_sets_says_nothing() {
        assert_eq!(Order::new().take(&slice(19, 0)), None);
        assert_eq!(ready().take(&[0x26]), None);
        assert_eq!(ready().take(&[]), None);
    }
}
