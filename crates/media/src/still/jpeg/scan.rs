//! The coded data of a sequential picture, walked code by code (ITU-T T.81, F.2.2): what is spoilt somewhere in it makes the walk
//! end at another place than the scan does. Progressive pictures are left to the decoder.

use super::{DHT, SOS, segment};
use crate::bits::be16;
use crate::error::{Error, Result};

/// Codes up to this long are found in one step.
const SHORT: u32 = 9;

/// Codes of one table by length and value, as C.2 makes them.
#[derive(Clone, Default)]
pub(super) struct Codes {
    /// For each length: the first code, the first symbol's place, how many.
    lengths: [(u32, usize, u32); 17],
    symbols: Vec<u8>,
    /// By the next bits: the length of the code that they begin with, and its symbol; no length: a longer one, or none.
    short: Vec<(u8, u8)>,
}

impl Codes {
    fn parse(counts: &[u8], symbols: &[u8]) -> Codes {
        let short = vec![(0, 0); 1 << SHORT];
        let mut codes = Codes { symbols: symbols.to_vec(), short, ..Codes::default() };
        let (mut code, mut at) = (0u32, 0);
        for (len, &n) in counts.iter().enumerate() {
            codes.lengths[len + 1] = (code, at, n.into());
            let rest = SHORT.saturating_sub(len as u32 + 1);
            for one in 0..usize::from(n).min(symbols.len().saturating_sub(at)) {
                let from = (code as usize + one) << rest;
                if let Some(all) = codes.short.get_mut(from..from + (1 << rest))
                    && len < SHORT as usize
                {
                    all.fill((len as u8 + 1, symbols[at + one]));
                }
            }
            at += usize::from(n);
            code = (code + u32::from(n)) << 1;
        }
        codes
    }
}

/// The tables of a segment (B.2.4.2): class, number, codes.
pub(super) fn tables(mut body: &[u8]) -> Vec<(u8, usize, Codes)> {
    let mut all = Vec::new();
    while let Some((head, tail)) = body.split_at_checked(17) {
        let n: usize = head[1..].iter().map(|&n| usize::from(n)).sum();
        let Some((symbols, tail)) = tail.split_at_checked(n) else { break };
        all.push((head[0] >> 4, usize::from(head[0] & 3), Codes::parse(&head[1..], symbols)));
        body = tail;
    }
    all
}

/// The bits of coded data up to a marker: of a 0xff with a 0 behind it, which is a value, the 0 is left out.
pub(super) struct Bits<'a> {
    b: &'a [u8],
    /// Of the next byte that is not held yet.
    pub at: usize,
    held: u64,
    left: u32,
}

impl<'a> Bits<'a> {
    pub fn new(b: &'a [u8], at: usize) -> Self {
        Bits { b, at, held: 0, left: 0 }
    }

    fn fill(&mut self) {
        while self.left <= 56 {
            let Some(&byte) = self.b.get(self.at) else { return };
            if byte == 0xff {
                if self.b.get(self.at + 1) != Some(&0) {
                    return;
                }
                self.at += 1;
            }
            self.at += 1;
            self.held = self.held << 8 | u64::from(byte);
            self.left += 8;
        }
    }

    /// What is held to the end of a byte is passed over; false: there is more than that.
    pub fn ends_here(&mut self) -> bool {
        self.fill();
        let more = self.left >= 8;
        self.left = 0;
        !more
    }

    /// A value of so many bits (F.2.2.1, EXTEND).
    pub fn value(&mut self, n: u32) -> Option<i32> {
        if n == 0 {
            return Some(0);
        }
        if n > self.left {
            self.fill();
        }
        self.left = self.left.checked_sub(n)?;
        let bits = (self.held >> self.left) as i32 & ((1i64 << n) - 1) as i32;
        Some(if bits < 1 << (n - 1) { bits - (1 << n) + 1 } else { bits })
    }

    fn skip(&mut self, n: u32) -> Option<()> {
        if n > self.left {
            self.fill();
        }
        self.left = self.left.checked_sub(n)?;
        Some(())
    }

    pub fn symbol(&mut self, codes: &Codes) -> Option<u8> {
        if self.left < 16 {
            self.fill();
        }
        // The next 16 bits; behind the end zeros, which are not counted.
        let next = if self.left < 16 { self.held << (16 - self.left) } else { self.held >> (self.left - 16) };
        let next = (next & 0xffff) as u32;
        let (len, symbol) = codes.short.get((next >> (16 - SHORT)) as usize).copied()?;
        if len > 0 {
            self.left = self.left.checked_sub(len.into())?;
            return Some(symbol);
        }
        for len in SHORT + 1..17 {
            let (first, place, n) = codes.lengths[len as usize];
            let behind = (next >> (16 - len)).wrapping_sub(first);
            if behind < n {
                self.left = self.left.checked_sub(len)?;
                return codes.symbols.get(place + behind as usize).copied();
            }
        }
        None
    }
}

#[derive(Clone, Copy, Default)]
pub struct Component {
    pub id: u8,
    blocks: u32,
    /// Blocks of a unit, across and down.
    pub h: u32,
    pub v: u32,
    /// Its table of steps.
    pub steps: usize,
    dc: usize,
    ac: usize,
    /// Its place among those of the picture.
    place: usize,
    /// Blocks in a row of it, where it has a scan of its own.
    alone: u32,
    /// The lowest frequency of the block before it.
    before: i32,
}

/// What the segment begins with that tells how colours were transformed.
const TRANSFORM: [u8; 5] = [0x41, 0x64, 0x6f, 0x62, 0x65];

/// Sixty-four coefficients, in the order of their rows.
pub type Block = [i32; 64];

/// What takes the blocks of a picture.
pub trait Takes {
    /// It wants the coefficients, and not only to know that they are there; and not only the lowest of a block.
    const VALUES: bool;
    const ALL: bool;
    /// Bits of a sample, size, components.
    fn begin(&mut self, depth: u8, size: (u32, u32), components: &[Component]);
    /// How colours were transformed, where a segment of ITU-T T.872, 6.5.3 says it.
    fn transformed(&mut self, how: u8);
    fn steps(&mut self, table: usize, steps: &Block);
    /// Of a component, at this place among its blocks.
    fn block(&mut self, component: usize, at: (u32, u32), block: &Block);
}

struct Nobody;

impl Takes for Nobody {
    const VALUES: bool = false;
    const ALL: bool = false;
    fn begin(&mut self, _: u8, _: (u32, u32), _: &[Component]) {}
    fn transformed(&mut self, _: u8) {}
    fn steps(&mut self, _: usize, _: &Block) {}
    fn block(&mut self, _: usize, _: (u32, u32), _: &Block) {}
}

/// Where the coefficients of a block stand (figure A.6).
const ZIGZAG: [u8; 64] = [
    0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25, 18, 11, 4, 5, 12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6, 7,
    14, 21, 28, 35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51, 58, 59, 52, 45, 38, 31, 39,
    46, 53, 60, 61, 54, 47, 55, 62, 63,
];

pub fn check(b: &[u8]) -> Result<()> {
    walk(b, &mut Nobody)
}

pub fn walk<T: Takes>(b: &[u8], to: &mut T) -> Result<()> {
    let spoilt = |at: usize, what: &str| {
        Err(Error::damaged_at("JPEG", at as u64, format!("its picture data is spoilt: {what}")))
    };
    let (mut dc, mut ac) = (vec![Codes::default(); 4], vec![Codes::default(); 4]);
    let mut components: Vec<Component> = Vec::new();
    let (mut size, mut interval) = ((0, 0), 0u32);
    let mut at = 2;
    while let Some((marker, body)) = segment(b, &mut at) {
        match marker {
            DHT => {
                for (class, n, codes) in tables(body) {
                    let list = if class == 0 { &mut dc } else { &mut ac };
                    list[n] = codes;
                }
            }
            0xdb if T::VALUES => {
                let mut rest = body;
                while let Some((&head, tail)) = rest.split_first() {
                    let wide = usize::from(head >> 4 != 0) + 1;
                    let Some((values, tail)) = tail.split_at_checked(64 * wide) else { break };
                    let mut steps = [0; 64];
                    for (v, at) in values.chunks_exact(wide).zip(ZIGZAG) {
                        steps[usize::from(at)] = v.iter().fold(0, |n, b| n << 8 | i32::from(*b));
                    }
                    to.steps(usize::from(head & 3), &steps);
                    rest = tail;
                }
            }
            0xee if body.starts_with(&TRANSFORM) => to.transformed(body.get(11).copied().unwrap_or(0)),
            0xdd => interval = be16(body, 0).unwrap_or(0).into(),
            // Sequential, coded by Huffman: baseline and extended.
            0xc0 | 0xc1 => {
                let (Some(h), Some(w)) = (be16(body, 1), be16(body, 3)) else { return Ok(()) };
                size = (u32::from(w), u32::from(h));
                components = body
                    .get(6..)
                    .unwrap_or(&[])
                    .chunks_exact(3)
                    .enumerate()
                    .map(|(place, c)| {
                        let (h, v) = (u32::from(c[1] >> 4), u32::from(c[1] & 15));
                        let steps = usize::from(c[2] & 3);
                        Component { id: c[0], blocks: h * v, h, v, steps, place, ..Component::default() }
                    })
                    .collect();
                to.begin(body.first().copied().unwrap_or(0), size, &components);
            }
            0xc2..=0xcf => return Ok(()),
            SOS if !components.is_empty() && size.1 > 0 => {
                let n = usize::from(body.first().copied().unwrap_or(0));
                let mut inside = Vec::new();
                for c in body.get(1..1 + n * 2).unwrap_or(&[]).chunks_exact(2) {
                    let Some(found) = components.iter().find(|x| x.id == c[0]) else { return Ok(()) };
                    inside.push(Component {
                        dc: usize::from(c[1] >> 4 & 3),
                        ac: usize::from(c[1] & 3),
                        ..*found
                    });
                }
                let most = |f: fn(&Component) -> u32| components.iter().map(f).max().unwrap_or(1).max(1);
                let (h, v) = (most(|c| c.h), most(|c| c.v));
                // A scan of one component has its own blocks only (A.2.2).
                let units = match inside.as_mut_slice() {
                    [one] => {
                        one.blocks = 1;
                        let side = |n: u32, own: u32, of: u32| (n * own).div_ceil(of * 8);
                        one.alone = side(size.0, one.h.max(1), h);
                        side(size.0, one.h.max(1), h) * side(size.1, one.v.max(1), v)
                    }
                    _ => size.0.div_ceil(8 * h) * size.1.div_ceil(8 * v),
                };
                let mut bits = Bits::new(b, at);
                let mut values: Block = [0; 64];
                for unit in 0..units {
                    if interval > 0 && unit > 0 && unit % interval == 0 {
                        if !bits.ends_here() {
                            return spoilt(bits.at, "more of it than the picture has");
                        }
                        if !matches!(b.get(bits.at..bits.at + 2), Some([0xff, 0xd0..=0xd7])) {
                            return spoilt(bits.at, "no restart marker where one must be");
                        }
                        bits.at += 2;
                        inside.iter_mut().for_each(|c| c.before = 0);
                    }
                    let across = size.0.div_ceil(8 * h);
                    for c in &mut inside {
                        for n in 0..c.blocks {
                            let read = if T::VALUES {
                                if T::ALL {
                                    values.fill(0);
                                }
                                let read = coded(&mut bits, &dc[c.dc], &ac[c.ac], &mut values, T::ALL);
                                c.before = c.before.wrapping_add(values[0]);
                                values[0] = c.before;
                                let place = match c.alone {
                                    0 => (unit % across * c.h + n % c.h, unit / across * c.v + n / c.h),
                                    alone => (unit % alone, unit / alone),
                                };
                                to.block(c.place, place, &values);
                                read
                            } else {
                                block(&mut bits, &dc[c.dc], &ac[c.ac])
                            };
                            if read.is_none() {
                                return spoilt(bits.at, "a code that is none, or the end of it too early");
                            }
                        }
                    }
                }
                if !bits.ends_here() {
                    return spoilt(bits.at, "more of it than the picture has");
                }
                at = bits.at;
                while b.get(at) == Some(&0xff) && b.get(at + 1) == Some(&0xff) {
                    at += 1;
                }
                if !matches!((b.get(at), b.get(at + 1)), (Some(0xff), Some(&m)) if m != 0 && !(0xd0..=0xd7).contains(&m))
                {
                    return spoilt(at, "more of it than the picture has");
                }
            }
            _ => (),
        }
    }
    Ok(())
}

fn block(bits: &mut Bits<'_>, dc: &Codes, ac: &Codes) -> Option<()> {
    let n = bits.symbol(dc)?;
    if n > 16 {
        return None;
    }
    bits.skip(n.into())?;
    let mut k = 1;
    while k < 64 {
        let symbol = bits.symbol(ac)?;
        let (run, n) = (u32::from(symbol >> 4), symbol & 15);
        match (run, n) {
            (15, 0) => k += 16,
            (_, 0) => return Some(()),
            _ => {
                k += run + 1;
                bits.skip(n.into())?;
            }
        }
    }
    (k <= 64).then_some(())
}

/// The same with the values of its codes; of the first what it is more than the one of the block before.
#[inline(always)]
fn coded(bits: &mut Bits<'_>, dc: &Codes, ac: &Codes, to: &mut Block, all: bool) -> Option<()> {
    let n = bits.symbol(dc)?;
    if n > 16 {
        return None;
    }
    to[0] = bits.value(n.into())?;
    let mut k = 1;
    while k < 64 {
        let symbol = bits.symbol(ac)?;
        let (run, n) = (usize::from(symbol >> 4), symbol & 15);
        match (run, n) {
            (15, 0) => k += 16,
            (_, 0) => return Some(()),
            _ => {
                k += run + 1;
                if !all {
                    bits.skip(n.into())?;
                    continue;
                }
                let value = bits.value(n.into())?;
                if let Some(at) = ZIGZAG.get(k - 1) {
                    to[usize::from(*at)] = value;
                }
            }
        }
    }
    (k <= 64).then_some(())
}
