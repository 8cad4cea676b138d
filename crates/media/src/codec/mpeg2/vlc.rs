//! Codes of variable length (ISO/IEC 13818-2, annex B), and bits read fast.

use std::sync::LazyLock;

/// Bits of a slice; behind its end are zeros.
pub struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Reader<'a> {
    pub fn new(bytes: &'a [u8]) -> Reader<'a> {
        Reader { bytes, at: 0 }
    }

    /// The next `n` bits, 1 to 32, which stay.
    #[inline]
    pub fn peek(&self, n: u32) -> u32 {
        let from = self.at / 8;
        let word = match self.bytes.get(from..).and_then(|b| b.first_chunk::<8>()) {
            Some(b) => u64::from_be_bytes(*b),
            None => {
                let rest = self.bytes.get(from..).unwrap_or(&[]);
                let mut last = [0; 8];
                last[..rest.len()].copy_from_slice(rest);
                u64::from_be_bytes(last)
            }
        };
        (word << (self.at % 8) >> (64 - n)) as u32
    }

    #[inline]
    pub fn skip(&mut self, n: u32) {
        self.at += n as usize;
    }

    #[inline]
    pub fn take(&mut self, n: u32) -> u32 {
        let v = self.peek(n);
        self.skip(n);
        v
    }

    #[inline]
    pub fn flag(&mut self) -> bool {
        self.take(1) == 1
    }

    /// More was read than there was; zeros at its end may have been taken for those in front of what follows.
    pub fn is_over(&self) -> bool {
        self.at > self.bytes.len() * 8 + 24
    }

    /// What a code stands for; nothing where there is no such code.
    #[inline]
    fn code(&mut self, table: &Table) -> Option<u16> {
        let (value, bits) = table.0[self.peek(table.1) as usize];
        self.skip(bits.into());
        (bits > 0).then_some(value)
    }
}

/// For each value of so many bits: what the code that they begin with stands for, and its length.
struct Table(Vec<(u16, u8)>, u32);

impl Table {
    fn new(bits: u32, codes: impl Iterator<Item = (&'static str, u16)>) -> Table {
        let mut table = vec![(0, 0); 1 << bits];
        for (code, value) in codes {
            let (at, len) = (code.bytes().fold(0, |v, b| v << 1 | usize::from(b == b'1')), code.len() as u32);
            let from = at << (bits - len);
            table[from..from + (1 << (bits - len))].fill((value, len as u8));
        }
        Table(table, bits)
    }

    /// Codes in the order of what they stand for.
    fn counted(bits: u32, first: u16, codes: &[&'static str]) -> Table {
        Table::new(bits, codes.iter().copied().zip(first..))
    }
}

/// B.1: steps to the next macroblock.
const STEPS: [&str; 33] = [
    "1",
    "011",
    "010",
    "0011",
    "0010",
    "00011",
    "00010",
    "0000111",
    "0000110",
    "00001011",
    "00001010",
    "00001001",
    "00001000",
    "00000111",
    "00000110",
    "0000010111",
    "0000010110",
    "0000010101",
    "0000010100",
    "0000010011",
    "0000010010",
    "00000100011",
    "00000100010",
    "00000100001",
    "00000100000",
    "00000011111",
    "00000011110",
    "00000011101",
    "00000011100",
    "00000011011",
    "00000011010",
    "00000011001",
    "00000011000",
];
const MORE_STEPS: u16 = 33;
const STUFFING: u16 = 0;

/// What is in a macroblock (B.2 to B.4), as bits.
pub const INTRA: u16 = 1;
pub const PATTERN: u16 = 2;
pub const BACKWARD: u16 = 4;
pub const FORWARD: u16 = 8;
pub const QUANT: u16 = 16;

const KINDS_I: [(&str, u16); 2] = [("1", INTRA), ("01", INTRA | QUANT)];
const KINDS_P: [(&str, u16); 7] = [
    ("1", FORWARD | PATTERN),
    ("01", PATTERN),
    ("001", FORWARD),
    ("00011", INTRA),
    ("00010", QUANT | FORWARD | PATTERN),
    ("00001", QUANT | PATTERN),
    ("000001", QUANT | INTRA),
];
const KINDS_B: [(&str, u16); 11] = [
    ("10", FORWARD | BACKWARD),
    ("11", FORWARD | BACKWARD | PATTERN),
    ("010", BACKWARD),
    ("011", BACKWARD | PATTERN),
    ("0010", FORWARD),
    ("0011", FORWARD | PATTERN),
    ("00011", INTRA),
    ("00010", QUANT | FORWARD | BACKWARD | PATTERN),
    ("000011", QUANT | FORWARD | PATTERN),
    ("000010", QUANT | BACKWARD | PATTERN),
    ("000001", QUANT | INTRA),
];

/// B.9: which blocks are coded.
const PATTERNS: [(&str, u16); 64] = [
    ("111", 60),
    ("1101", 4),
    ("1100", 8),
    ("1011", 16),
    ("1010", 32),
    ("10011", 12),
    ("10010", 48),
    ("10001", 20),
    ("10000", 40),
    ("01111", 28),
    ("01110", 44),
    ("01101", 52),
    ("01100", 56),
    ("01011", 1),
    ("01010", 61),
    ("01001", 2),
    ("01000", 62),
    ("001111", 24),
    ("001110", 36),
    ("001101", 3),
    ("001100", 63),
    ("0010111", 5),
    ("0010110", 9),
    ("0010101", 17),
    ("0010100", 33),
    ("0010011", 6),
    ("0010010", 10),
    ("0010001", 18),
    ("0010000", 34),
    ("00011111", 7),
    ("00011110", 11),
    ("00011101", 19),
    ("00011100", 35),
    ("00011011", 13),
    ("00011010", 49),
    ("00011001", 21),
    ("00011000", 41),
    ("00010111", 14),
    ("00010110", 50),
    ("00010101", 22),
    ("00010100", 42),
    ("00010011", 15),
    ("00010010", 51),
    ("00010001", 23),
    ("00010000", 43),
    ("00001111", 25),
    ("00001110", 37),
    ("00001101", 26),
    ("00001100", 38),
    ("00001011", 29),
    ("00001010", 45),
    ("00001001", 53),
    ("00001000", 57),
    ("00000111", 30),
    ("00000110", 46),
    ("00000101", 54),
    ("00000100", 58),
    ("000000111", 31),
    ("000000110", 47),
    ("000000101", 55),
    ("000000100", 59),
    ("000000011", 27),
    ("000000010", 39),
    ("000000001", 0),
];

/// B.10, without the sign behind.
const MOTION: [&str; 17] = [
    "1",
    "01",
    "001",
    "0001",
    "000011",
    "0000101",
    "0000100",
    "0000011",
    "000001011",
    "000001010",
    "000001001",
    "0000010001",
    "0000010000",
    "0000001111",
    "0000001110",
    "0000001101",
    "0000001100",
];

/// B.12 and B.13: how many bits a difference of means has.
const LUMA_SIZES: [&str; 12] = [
    "100",
    "00",
    "01",
    "101",
    "110",
    "1110",
    "11110",
    "111110",
    "1111110",
    "11111110",
    "111111110",
    "111111111",
];
const CHROMA_SIZES: [&str; 12] = [
    "00",
    "01",
    "10",
    "110",
    "1110",
    "11110",
    "111110",
    "1111110",
    "11111110",
    "111111110",
    "1111111110",
    "1111111111",
];

/// Coefficients: zeros in front, level and code without its sign. These have the same code in both tables.
const COMMON: &[(u8, u8, &str)] = &[
    (3, 3, "000000011100"),
    (4, 3, "000000010010"),
    (6, 2, "000000011110"),
    (7, 2, "000000010101"),
    (8, 2, "000000010001"),
    (17, 1, "000000011111"),
    (18, 1, "000000011010"),
    (19, 1, "000000011001"),
    (20, 1, "000000010111"),
    (21, 1, "000000010110"),
    (1, 6, "0000000010110"),
    (1, 7, "0000000010101"),
    (2, 5, "0000000010100"),
    (3, 4, "0000000010011"),
    (5, 3, "0000000010010"),
    (9, 2, "0000000010001"),
    (10, 2, "0000000010000"),
    (22, 1, "0000000011111"),
    (23, 1, "0000000011110"),
    (24, 1, "0000000011101"),
    (25, 1, "0000000011100"),
    (26, 1, "0000000011011"),
    (0, 16, "00000000011111"),
    (0, 17, "00000000011110"),
    (0, 18, "00000000011101"),
    (0, 19, "00000000011100"),
    (0, 20, "00000000011011"),
    (0, 21, "00000000011010"),
    (0, 22, "00000000011001"),
    (0, 23, "00000000011000"),
    (0, 24, "00000000010111"),
    (0, 25, "00000000010110"),
    (0, 26, "00000000010101"),
    (0, 27, "00000000010100"),
    (0, 28, "00000000010011"),
    (0, 29, "00000000010010"),
    (0, 30, "00000000010001"),
    (0, 31, "00000000010000"),
    (0, 32, "000000000011000"),
    (0, 33, "000000000010111"),
    (0, 34, "000000000010110"),
    (0, 35, "000000000010101"),
    (0, 36, "000000000010100"),
    (0, 37, "000000000010011"),
    (0, 38, "000000000010010"),
    (0, 39, "000000000010001"),
    (0, 40, "000000000010000"),
    (1, 8, "000000000011111"),
    (1, 9, "000000000011110"),
    (1, 10, "000000000011101"),
    (1, 11, "000000000011100"),
    (1, 12, "000000000011011"),
    (1, 13, "000000000011010"),
    (1, 14, "000000000011001"),
    (1, 15, "0000000000010011"),
    (1, 16, "0000000000010010"),
    (1, 17, "0000000000010001"),
    (1, 18, "0000000000010000"),
    (6, 3, "0000000000010100"),
    (11, 2, "0000000000011010"),
    (12, 2, "0000000000011001"),
    (13, 2, "0000000000011000"),
    (14, 2, "0000000000010111"),
    (15, 2, "0000000000010110"),
    (16, 2, "0000000000010101"),
    (27, 1, "0000000000011111"),
    (28, 1, "0000000000011110"),
    (29, 1, "0000000000011101"),
    (30, 1, "0000000000011100"),
    (31, 1, "0000000000011011"),
];

/// B.14.
const ZERO: &[(u8, u8, &str)] = &[
    (END, 0, "10"),
    (ESCAPE, 0, "000001"),
    (0, 1, "11"),
    (1, 1, "011"),
    (0, 2, "0100"),
    (2, 1, "0101"),
    (0, 3, "00101"),
    (3, 1, "00111"),
    (4, 1, "00110"),
    (1, 2, "000110"),
    (5, 1, "000111"),
    (6, 1, "000101"),
    (7, 1, "000100"),
    (0, 4, "0000110"),
    (2, 2, "0000100"),
    (8, 1, "0000111"),
    (9, 1, "0000101"),
    (0, 5, "00100110"),
    (0, 6, "00100001"),
    (1, 3, "00100101"),
    (3, 2, "00100100"),
    (10, 1, "00100111"),
    (11, 1, "00100011"),
    (12, 1, "00100010"),
    (13, 1, "00100000"),
    (0, 7, "0000001010"),
    (1, 4, "0000001100"),
    (2, 3, "0000001011"),
    (4, 2, "0000001111"),
    (5, 2, "0000001001"),
    (14, 1, "0000001110"),
    (15, 1, "0000001101"),
    (16, 1, "0000001000"),
    (0, 8, "000000011101"),
    (0, 9, "000000011000"),
    (0, 10, "000000010011"),
    (0, 11, "000000010000"),
    (1, 5, "000000011011"),
    (2, 4, "000000010100"),
    (0, 12, "0000000011010"),
    (0, 13, "0000000011001"),
    (0, 14, "0000000011000"),
    (0, 15, "0000000010111"),
];

/// B.15.
const ONE: &[(u8, u8, &str)] = &[
    (END, 0, "0110"),
    (ESCAPE, 0, "000001"),
    (0, 1, "10"),
    (1, 1, "010"),
    (0, 2, "110"),
    (2, 1, "00101"),
    (0, 3, "0111"),
    (3, 1, "00111"),
    (4, 1, "000110"),
    (1, 2, "00110"),
    (5, 1, "000111"),
    (6, 1, "0000110"),
    (7, 1, "0000100"),
    (0, 4, "11100"),
    (2, 2, "0000111"),
    (8, 1, "0000101"),
    (9, 1, "1111000"),
    (0, 5, "11101"),
    (0, 6, "000101"),
    (1, 3, "1111001"),
    (3, 2, "00100110"),
    (10, 1, "1111010"),
    (11, 1, "00100001"),
    (12, 1, "00100101"),
    (13, 1, "00100100"),
    (0, 7, "000100"),
    (1, 4, "00100111"),
    (2, 3, "11111100"),
    (4, 2, "11111101"),
    (5, 2, "000000100"),
    (14, 1, "000000101"),
    (15, 1, "000000111"),
    (16, 1, "0000001101"),
    (0, 8, "1111011"),
    (0, 9, "1111100"),
    (0, 10, "00100011"),
    (0, 11, "00100010"),
    (1, 5, "00100000"),
    (2, 4, "0000001100"),
    (0, 12, "11111010"),
    (0, 13, "11111011"),
    (0, 14, "11111110"),
    (0, 15, "11111111"),
];

/// In place of zeros in front: the block ends, or zeros and level follow as numbers.
const END: u8 = 64;
const ESCAPE: u8 = 65;

/// Codes of up to 8 bits by these, longer ones, which begin with six zeros, by the ten bits behind.
pub struct Coefficients {
    short: Vec<(u8, u8, u8)>,
    long: Vec<(u8, u8, u8)>,
}

impl Coefficients {
    fn new(own: &[(u8, u8, &str)]) -> Coefficients {
        let mut t = Coefficients { short: vec![(0, 0, 0); 1 << 8], long: vec![(0, 0, 0); 1 << 10] };
        for (run, level, code) in own.iter().chain(COMMON) {
            let (table, code, bits) = match code.strip_prefix("000000").filter(|_| code.len() > 8) {
                Some(rest) => (&mut t.long, rest, 10),
                None => (&mut t.short, *code, 8),
            };
            let at = code.bytes().fold(0, |v, b| v << 1 | usize::from(b == b'1'));
            let len = if bits == 10 { code.len() + 6 } else { code.len() };
            let left = bits - code.len();
            table[at << left..(at + 1) << left].fill((*run, *level, len as u8));
        }
        t
    }
}

/// One coefficient.
pub enum Coefficient {
    Level { run: usize, level: i32 },
    End,
}

impl Coefficients {
    /// The next of them. `old`: levels behind an escape are as in MPEG-1.
    #[inline]
    pub fn next(&self, r: &mut Reader<'_>, old: bool) -> Option<Coefficient> {
        let bits = r.peek(16);
        let (run, level, len) =
            if bits >= 1 << 10 { self.short[(bits >> 8) as usize] } else { self.long[bits as usize] };
        if len == 0 {
            return None;
        }
        r.skip(len.into());
        match run {
            END => Some(Coefficient::End),
            ESCAPE => {
                let run = r.take(6) as usize;
                let level = if old {
                    match r.take(8) as u8 as i8 {
                        0 => r.take(8) as i32,
                        -128 => r.take(8) as i32 - 256,
                        small => small.into(),
                    }
                } else {
                    (r.take(12) as i32) << 20 >> 20
                };
                (level != 0).then_some(Coefficient::Level { run, level })
            }
            run => {
                let level = i32::from(level);
                Some(Coefficient::Level { run: run.into(), level: if r.flag() { -level } else { level } })
            }
        }
    }
}

/// All tables.
pub struct Codes {
    steps: Table,
    kinds: [Table; 3],
    patterns: Table,
    motion: Table,
    sizes: [Table; 2],
    pub coefficients: [Coefficients; 2],
}

pub static CODES: LazyLock<Codes> = LazyLock::new(|| Codes {
    steps: Table::new(
        11,
        STEPS.into_iter().zip(1..).chain([("00000001000", MORE_STEPS + 1), ("00000001111", STUFFING)]),
    ),
    kinds: [
        Table::new(6, KINDS_I.into_iter()),
        Table::new(6, KINDS_P.into_iter()),
        Table::new(6, KINDS_B.into_iter()),
    ],
    patterns: Table::new(9, PATTERNS.into_iter()),
    motion: Table::counted(10, 0, &MOTION),
    sizes: [Table::counted(10, 0, &LUMA_SIZES), Table::counted(10, 0, &CHROMA_SIZES)],
    coefficients: [Coefficients::new(ZERO), Coefficients::new(ONE)],
});

impl Codes {
    /// Macroblocks to the next one that is coded.
    pub fn step(&self, r: &mut Reader<'_>) -> Option<u32> {
        let mut all = 0;
        loop {
            match r.code(&self.steps)? {
                STUFFING => (),
                n if n > MORE_STEPS => all += u32::from(MORE_STEPS),
                n => return Some(all + u32::from(n)),
            }
            if all > 1 << 16 || r.is_over() {
                return None;
            }
        }
    }

    /// Of pictures of this kind: 0 by itself, 1 from those before, 2 from both sides.
    pub fn kind(&self, r: &mut Reader<'_>, of: usize) -> Option<u16> {
        r.code(self.kinds.get(of)?)
    }

    pub fn pattern(&self, r: &mut Reader<'_>) -> Option<u16> {
        r.code(&self.patterns)
    }

    /// A difference of vectors; the rest of it has `bits` bits.
    pub fn motion(&self, r: &mut Reader<'_>, bits: u32) -> Option<i32> {
        let code = i32::from(r.code(&self.motion)?);
        if code == 0 {
            return Some(0);
        }
        let negative = r.flag();
        let rest = if bits > 0 { r.take(bits) as i32 } else { 0 };
        let size = ((code - 1) << bits) + rest + 1;
        Some(if negative { -size } else { size })
    }

    /// A difference of means.
    pub fn mean(&self, r: &mut Reader<'_>, chroma: bool) -> Option<i32> {
        let size = u32::from(r.code(&self.sizes[usize::from(chroma)])?);
        if size == 0 {
            return Some(0);
        }
        let v = r.take(size) as i32;
        Some(if v >> (size - 1) == 0 { v - (1 << size) + 1 } else { v })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// No code begins with another one, and the tables have the room left that the standard leaves.
    #[test]
    fn codes_are_told_apart() {
        let fits = |codes: &[&str]| {
            for (i, a) in codes.iter().enumerate() {
                assert!(!codes.iter().enumerate().any(|(j, b)| i != j && b.starts_with(a)), "{a}");
            }
            codes.iter().map(|c| 1u32 << (16 - c.len())).sum::<u32>()
        };
        // Of the first all but twelve zeros are codes; of the second what has a shorter code there is none, too.
        for (own, want) in [(ZERO, 65_536 - 16), (ONE, 65_536 - 16 - 128)] {
            let all: Vec<&str> = own.iter().chain(COMMON).map(|c| c.2).collect();
            assert_eq!((all.len(), fits(&all)), (113, want));
        }
        assert_eq!(fits(&LUMA_SIZES), 1 << 16);
        assert_eq!(fits(&CHROMA_SIZES), 1 << 16);
        assert_eq!(fits(&PATTERNS.map(|p| p.0)), (1 << 16) - 128);
        for codes in [&STEPS[..], &MOTION] {
            fits(codes);
        }
    }

    #[test]
    fn levels_behind_an_escape_are_read() {
        let first = |bytes: &[u8], old| match CODES.coefficients[0].next(&mut Reader::new(bytes), old) {
            Some(Coefficient::Level { run, level }) => Some((run, level)),
            _ => None,
        };
        // Escape, run 3, level -2.
        assert_eq!(first(&[0b0000_0100, 0b0011_1111, 0b1111_1110, 0], false), Some((3, -2)));
        // The same in eight bits; and 200 and -200 in sixteen.
        assert_eq!(first(&[0b0000_0100, 0b0011_1111, 0b1110_0000], true), Some((3, -2)));
        assert_eq!(first(&[0b0000_0100, 0b0011_0000, 0b0000_1100, 0b1000_0000], true), Some((3, 200)));
        assert_eq!(first(&[0b0000_0100, 0b0011_1000, 0b0000_0011, 0b1000_0000], true), Some((3, -200)));
        assert_eq!(first(&[0, 0], false), None);
    }
}
