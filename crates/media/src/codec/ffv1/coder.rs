//! The range coder (RFC 9043, 3.8.1): bits with a state each that learns how likely a one is.

use super::States;

/// How a state follows another after a one, where a stream does not say (3.8.1.4).
pub fn usual_ones() -> Box<[u8; 256]> {
    // The table of the standard is that of a state that moves a twentieth of the way to certainty, as 8-bit numbers that
    // never stand still; `the_table_is_the_standards` holds it to values of the text.
    const MOST: i64 = 248;
    const ONE: i64 = 1 << 32;
    let step = |p: i64| p + (((ONE - p) * (ONE / 20)) + ONE / 2) / ONE;
    let eight = |p: i64| (256 * p + ONE / 2) >> 32;
    let mut ones = Box::new([0u8; 256]);
    let (mut p, mut last) = (ONE / 2, 0i64);
    for _ in 0..128 {
        let now = eight(p).max(last + 1);
        if (1..256).contains(&last) && now <= MOST {
            ones[last as usize] = now as u8;
        }
        p = step(p);
        last = now;
    }
    for i in 256 - MOST..=MOST {
        if ones[i as usize] == 0 {
            let now = eight(step((i * ONE + 128) >> 8)).max(i + 1).min(MOST);
            ones[i as usize] = now as u8;
        }
    }
    ones
}

/// The other way round: after a zero.
pub fn zeros(ones: &[u8; 256]) -> Box<[u8; 256]> {
    let mut zeros = Box::new([0u8; 256]);
    (1..256).for_each(|i| zeros[i] = (256 - u32::from(ones[256 - i])) as u8);
    zeros
}

pub struct Encoder<'a> {
    low: u32,
    range: u32,
    /// A byte that a carry may still change, and how many of all ones lie behind it.
    held: Option<u8>,
    full: u32,
    ones: &'a [u8; 256],
    zeros: &'a [u8; 256],
    pub out: Vec<u8>,
}

impl<'a> Encoder<'a> {
    pub fn new(ones: &'a [u8; 256], zeros: &'a [u8; 256]) -> Self {
        Encoder { low: 0, range: 0xff00, held: None, full: 0, ones, zeros, out: Vec::new() }
    }

    #[inline]
    pub fn bit(&mut self, state: &mut u8, bit: bool) {
        let part = (self.range * u32::from(*state)) >> 8;
        if bit {
            self.low += self.range - part;
            self.range = part;
            *state = self.ones[usize::from(*state)];
        } else {
            self.range -= part;
            *state = self.zeros[usize::from(*state)];
        }
        while self.range < 0x100 {
            self.shift();
        }
    }

    fn shift(&mut self) {
        match self.held {
            None => self.held = Some((self.low >> 8) as u8),
            Some(held) if self.low <= 0xff00 => {
                self.out.push(held);
                self.out.extend(std::iter::repeat_n(0xff, self.full as usize));
                self.full = 0;
                self.held = Some((self.low >> 8) as u8);
            }
            Some(held) if self.low >= 0x1_0000 => {
                self.out.push(held.wrapping_add(1));
                self.out.extend(std::iter::repeat_n(0, self.full as usize));
                self.full = 0;
                self.held = Some((self.low >> 8) as u8);
            }
            Some(_) => self.full += 1,
        }
        self.low = (self.low & 0xff) << 8;
        self.range <<= 8;
    }

    /// A number (3.8.1.2): whether it is 0, how many bits it has, those behind the first, and its sign.
    #[inline]
    pub fn number(&mut self, s: &mut States, v: i32, signed: bool) {
        if v == 0 {
            return self.bit(&mut s[0], true);
        }
        self.bit(&mut s[0], false);
        let a = v.unsigned_abs();
        let e = a.ilog2() as usize;
        for i in 0..e {
            self.bit(&mut s[1 + i.min(9)], true);
        }
        self.bit(&mut s[1 + e.min(9)], false);
        for i in (0..e).rev() {
            self.bit(&mut s[22 + i.min(9)], a >> i & 1 != 0);
        }
        if signed {
            self.bit(&mut s[11 + e.min(10)], v < 0);
        }
    }

    /// The end of a slice: a bit that is known, and all that is held.
    pub fn finish(mut self, known: bool) -> Vec<u8> {
        if known {
            self.bit(&mut 129, false);
        }
        self.range = 0xff;
        self.low += 0xff;
        while self.range < 0x100 {
            self.shift();
        }
        self.range = 0xff;
        while self.range < 0x100 {
            self.shift();
        }
        self.out
    }
}

pub struct Decoder<'a> {
    low: u32,
    range: u32,
    bytes: &'a [u8],
    at: usize,
    ones: &'a [u8; 256],
    zeros: &'a [u8; 256],
}

impl<'a> Decoder<'a> {
    pub fn new(bytes: &'a [u8], ones: &'a [u8; 256], zeros: &'a [u8; 256]) -> Self {
        let first = |i: usize| u32::from(bytes.get(i).copied().unwrap_or(0));
        let low = (first(0) << 8 | first(1)).min(0xff00);
        Decoder { low, range: 0xff00, bytes, at: 2, ones, zeros }
    }

    #[inline]
    pub fn bit(&mut self, state: &mut u8) -> bool {
        let part = (self.range * u32::from(*state)) >> 8;
        self.range -= part;
        let bit = self.low >= self.range;
        if bit {
            self.low -= self.range;
            self.range = part;
            *state = self.ones[usize::from(*state)];
        } else {
            *state = self.zeros[usize::from(*state)];
        }
        // A state of 0 has no part: nothing is left to read in, and the stream is damaged.
        if self.range == 0 {
            (self.range, self.at) = (0xff00, usize::MAX / 2);
        }
        while self.range < 0x100 {
            self.range <<= 8;
            self.low = self.low << 8 | u32::from(self.bytes.get(self.at).copied().unwrap_or(0));
            self.at += 1;
        }
        bit
    }

    #[inline]
    pub fn number(&mut self, s: &mut States, signed: bool) -> i32 {
        if self.bit(&mut s[0]) {
            return 0;
        }
        let mut e = 0usize;
        while self.bit(&mut s[1 + e.min(9)]) {
            e += 1;
            if e > 30 {
                self.at = usize::MAX / 2;
                return 0;
            }
        }
        let mut a = 1u32;
        for i in (0..e).rev() {
            a = a << 1 | u32::from(self.bit(&mut s[22 + i.min(9)]));
        }
        let a = (a & 0x7fff_ffff) as i32;
        if signed && self.bit(&mut s[11 + e.min(10)]) { -a } else { a }
    }

    /// It read behind its end: what came was not what was written.
    pub fn is_over(&self) -> bool {
        self.at > self.bytes.len() + 2
    }
}

#[cfg(test)]
mod tests {
    use super::super::{EVEN, STATES};
    use super::*;

    /// The table of 3.8.1.4.
    #[test]
    fn the_table_is_the_standards() {
        #[rustfmt::skip]
        let want: [u8; 256] = [
            0, 0, 0, 0, 0, 0, 0, 0, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31, 32, 33, 34, 35, 36, 37, 37, 38, 39, 40, 41, 42,
            43, 44, 45, 46, 47, 48, 49, 50, 51, 52, 53, 54, 55, 56, 56, 57, 58, 59, 60, 61, 62, 63, 64, 65, 66, 67, 68, 69, 70, 71,
            72, 73, 74, 75, 75, 76, 77, 78, 79, 80, 81, 82, 83, 84, 85, 86, 87, 88, 89, 90, 91, 92, 93, 94, 94, 95, 96, 97, 98, 99,
            100, 101, 102, 103, 104, 105, 106, 107, 108, 109, 110, 111, 112, 113, 114, 114, 115, 116, 117, 118, 119, 120, 121, 122,
            123, 124, 125, 126, 127, 128, 129, 130, 131, 132, 133, 133, 134, 135, 136, 137, 138, 139, 140, 141, 142, 143, 144, 145,
            146, 147, 148, 149, 150, 151, 152, 152, 153, 154, 155, 156, 157, 158, 159, 160, 161, 162, 163, 164, 165, 166, 167, 168,
            169, 170, 171, 171, 172, 173, 174, 175, 176, 177, 178, 179, 180, 181, 182, 183, 184, 185, 186, 187, 188, 189, 190, 190,
            191, 192, 194, 194, 195, 196, 197, 198, 199, 200, 201, 202, 202, 204, 205, 206, 207, 208, 209, 209, 210, 211, 212, 213,
            215, 215, 216, 217, 218, 219, 220, 220, 222, 223, 224, 225, 226, 227, 227, 229, 229, 230, 231, 232, 234, 234, 235, 236,
            237, 238, 239, 240, 241, 242, 243, 244, 245, 246, 247, 248, 248, 0, 0, 0, 0, 0, 0, 0,
        ];
        assert_eq!(*usual_ones(), want);
    }

    #[test]
    fn numbers_come_back() {
        let (ones, zeros) = (usual_ones(), zeros(&usual_ones()));
        let mut e = Encoder::new(&ones, &zeros);
        let mut s = [EVEN; STATES];
        let all: Vec<i32> = (0..4000).map(|i| (i * i * 37 % 70_000) - 35_000).chain([0; 500]).collect();
        all.iter().for_each(|v| e.number(&mut s, *v, true));
        let bytes = e.finish(true);
        let mut d = Decoder::new(&bytes, &ones, &zeros);
        let mut s = [EVEN; STATES];
        assert!(all.iter().all(|v| d.number(&mut s, true) == *v));
        assert!(!d.bit(&mut 129) && !d.is_over());
    }
}
