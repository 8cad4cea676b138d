//! GSM full rate (ETSI EN 300 961, "GSM 06.10"): 160 samples of speech at 8 kHz in 260 bits, sample for sample as the standard
//! says, with its own names for the quantities.

use super::DecodeAudio;
use crate::error::{Error, Result};
use crate::frame::AudioFrame;
use crate::track::Packet;

/// Bytes of a frame with a sign of four bits in front, high bits first; and of two frames as WAVE has them, low bits first.
pub const PLAIN: u16 = 33;
pub const PAIR: u16 = 65;

/// Samples of a block of so many bytes.
pub fn samples(block: u16) -> Option<u32> {
    match block {
        PLAIN => Some(160),
        PAIR => Some(320),
        _ => None,
    }
}

// Tables 5.1 (of which INVA is the inverse of A), 5.3b and 5.6.
const LAR_BITS: [u32; 8] = [6, 6, 5, 5, 4, 4, 3, 3];
const B: [i16; 8] = [0, 0, 2048, -2560, 94, -1792, -341, -1144];
const MIC: [i16; 8] = [-32, -32, -16, -16, -8, -8, -4, -4];
const INVA: [i16; 8] = [13_107, 13_107, 13_107, 13_107, 19_223, 17_476, 31_454, 29_708];
const QLB: [i16; 4] = [3_277, 11_469, 21_299, 32_767];
const FAC: [i16; 8] = [18_431, 20_479, 22_527, 24_575, 26_623, 28_671, 30_719, 32_767];

/// The product, rounded (5.1, mult_r).
fn mult_r(a: i16, b: i16) -> i16 {
    if (a, b) == (i16::MIN, i16::MIN) {
        return i16::MAX;
    }
    ((i32::from(a) * i32::from(b) + 16_384) >> 15) as i16
}

/// Bits in either order.
struct Bits<'a> {
    b: &'a [u8],
    at: usize,
    low_first: bool,
}

impl Bits<'_> {
    fn take(&mut self, n: u32) -> i16 {
        let mut value = 0;
        for i in 0..n {
            let byte = self.b.get(self.at / 8).copied().unwrap_or(0);
            let within = self.at % 8;
            self.at += 1;
            if self.low_first {
                value |= i16::from(byte >> within & 1) << i;
            } else {
                value = value << 1 | i16::from(byte >> (7 - within) & 1);
            }
        }
        value
    }
}

/// What is kept from frame to frame (5.3.1 and on).
struct State {
    /// The last 120 samples of the excitation, and room for 40.
    drp: [i16; 160],
    nrp: i16,
    /// Of the frame before.
    larpp: [i16; 8],
    v: [i16; 9],
    msr: i16,
}

pub struct Decoder {
    block: u16,
    rate: u32,
    state: State,
}

impl Decoder {
    pub fn new(block: u16, rate: u32, channels: u16) -> Result<Decoder> {
        if samples(block).is_none() || channels != 1 {
            let why = format!(
                "GSM in blocks of {block} bytes with {channels} channels cannot be decoded; one channel in 33 or 65 bytes can"
            );
            return Err(Error::unsupported("", why));
        }
        let state = State { drp: [0; 160], nrp: 40, larpp: [0; 8], v: [0; 9], msr: 0 };
        Ok(Decoder { block, rate, state })
    }
}

impl DecodeAudio for Decoder {
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame> {
        let block = usize::from(self.block);
        if packet.data.is_empty() || !packet.data.len().is_multiple_of(block) {
            return Err(Error::damaged(
                "GSM",
                format!("{} bytes are no whole number of frames", packet.data.len()),
            ));
        }
        let mut out = Vec::new();
        for b in packet.data.chunks_exact(block) {
            let mut bits = Bits { b, at: 0, low_first: self.block == PAIR };
            if self.block == PAIR {
                self.state.frame(&mut bits, &mut out);
            } else if bits.take(4) != 0xd {
                return Err(Error::damaged("GSM", format!("a frame begins with {:#04x}", b[0])));
            }
            self.state.frame(&mut bits, &mut out);
        }
        let samples = out.iter().map(|s| f32::from(*s) / 32_768.0).collect();
        Ok(AudioFrame { rate: self.rate, channels: 1, pts: packet.pts, samples })
    }
}

impl State {
    fn frame(&mut self, bits: &mut Bits<'_>, out: &mut Vec<i16>) {
        let larc = LAR_BITS.map(|n| bits.take(n));
        let mut wt = [0; 160];
        for part in wt.chunks_exact_mut(40) {
            let (nc, bc) = (bits.take(7), bits.take(2));
            let erp = excitation(bits);
            self.long_term(nc, bc, &erp, part);
        }
        let larpp = std::array::from_fn(|i| {
            let t = ((larc[i] + MIC[i]) << 10).saturating_sub(B[i] << 1);
            let t = mult_r(INVA[i], t);
            t.saturating_add(t)
        });
        let before = std::mem::replace(&mut self.larpp, larpp);
        // The first 40 samples pass over from the filter before (table 3.2).
        let mixed = |f: fn(i16, i16) -> i16| std::array::from_fn(|i| f(before[i], larpp[i]));
        let steps: [(std::ops::Range<usize>, [i16; 8]); 4] = [
            (0..13, mixed(|a, b| (a >> 2).saturating_add(b >> 2).saturating_add(a >> 1))),
            (13..27, mixed(|a, b| (a >> 1).saturating_add(b >> 1))),
            (27..40, mixed(|a, b| (a >> 2).saturating_add(b >> 2).saturating_add(b >> 1))),
            (40..160, larpp),
        ];
        for (range, larp) in steps {
            let rrp = larp.map(reflection);
            for wt in &wt[range] {
                let s = self.short_term(&rrp, *wt);
                // What was made less steep before coding (5.3.7).
                self.msr = s.saturating_add(mult_r(self.msr, 28_180));
                out.push(self.msr.saturating_add(self.msr) & !7);
            }
        }
    }

    /// 5.3.2
    fn long_term(&mut self, nc: i16, bc: i16, erp: &[i16; 40], out: &mut [i16]) {
        let nr = if (40..=120).contains(&nc) { nc } else { self.nrp };
        self.nrp = nr;
        let brp = QLB[bc as usize & 3];
        for (k, erp) in erp.iter().enumerate() {
            let drpp = mult_r(brp, self.drp[120 + k - nr as usize]);
            self.drp[120 + k] = erp.saturating_add(drpp);
        }
        out.copy_from_slice(&self.drp[120..]);
        self.drp.copy_within(40.., 0);
    }

    /// 5.3.4
    fn short_term(&mut self, rrp: &[i16; 8], wt: i16) -> i16 {
        let mut sri = wt;
        for i in (0..8).rev() {
            sri = sri.saturating_sub(mult_r(rrp[i], self.v[i]));
            self.v[i + 1] = self.v[i].saturating_add(mult_r(rrp[i], sri));
        }
        self.v[0] = sri;
        sri
    }
}

/// From log area ratios to reflection coefficients (5.2.9.2).
fn reflection(larp: i16) -> i16 {
    let t = larp.saturating_abs();
    let r = match t {
        ..11_059 => t << 1,
        11_059..20_070 => t + 11_059,
        _ => (t >> 2).saturating_add(26_112),
    };
    if larp < 0 { -r } else { r }
}

/// The pulses of 40 samples (5.2.15 to 5.2.17).
fn excitation(bits: &mut Bits<'_>) -> [i16; 40] {
    let (mc, xmaxc) = (bits.take(2) as usize, bits.take(6));
    let mut exp = if xmaxc > 15 { (xmaxc >> 3) - 1 } else { 0 };
    let mut mant = xmaxc - (exp << 3);
    if mant == 0 {
        (exp, mant) = (-4, 7);
    } else {
        while mant <= 7 {
            mant = mant << 1 | 1;
            exp -= 1;
        }
        mant -= 8;
    }
    let factor = FAC[mant as usize & 7];
    let shift = 6 - exp;
    let half = if shift > 0 { 1i16 << (shift - 1) } else { 0 };
    let mut erp = [0; 40];
    for i in 0..13 {
        let xmc = bits.take(3);
        let t = mult_r(factor, ((xmc << 1) - 7) << 12).saturating_add(half);
        erp[mc + 3 * i] = t >> shift;
    }
    erp
}

#[cfg(test)]
mod tests {
    use super::*;

    fn noise(n: usize) -> Vec<u8> {
        let mut dice = 9u32;
        let mut next = || {
            dice = dice.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (dice >> 24) as u8
        };
        (0..n).map(|_| next()).collect()
    }

    #[test]
    fn any_bits_give_sound_in_range() {
        let mut d = Decoder::new(PAIR, 8_000, 1).unwrap();
        let sound = d.decode(&Packet { data: noise(6_500), ..Packet::default() }).unwrap();
        assert_eq!(sound.len(), 32_000);
        assert!(sound.samples.iter().all(|s| (-1.0..1.0).contains(s)));
        assert!(d.decode(&Packet { data: noise(64), ..Packet::default() }).is_err());
        assert!(Decoder::new(66, 8_000, 1).is_err() && Decoder::new(PAIR, 8_000, 2).is_err());
    }

    #[test]
    fn both_packings_of_the_same_frames_are_the_same_sound() {
        let pairs = noise(650);
        let mut plain = Vec::new();
        for pair in pairs.chunks_exact(65) {
            let mut bits = Bits { b: pair, at: 0, low_first: true };
            for _ in 0..2 {
                let mut w = crate::bits::Put::default();
                w.bits(0xd, 4);
                let mut copy = |n: u32| {
                    w.bits(bits.take(n) as u32, n);
                };
                LAR_BITS.into_iter().for_each(&mut copy);
                for _ in 0..4 {
                    [7, 2, 2, 6].into_iter().chain([3; 13]).for_each(&mut copy);
                }
                plain.extend(w.bytes());
            }
        }
        let sound = |block, data| {
            let mut d = Decoder::new(block, 8_000, 1).unwrap();
            d.decode(&Packet { data, ..Packet::default() }).unwrap().samples
        };
        assert_eq!(plain.len(), 660);
        assert_eq!(sound(PAIR, pairs), sound(PLAIN, plain));
    }
}
