//! Reading numbers: bits from the top, and bytes in either order. All of it returns `None` past the end.

/// Bits of a byte string, the highest of each byte first.
#[derive(Clone, Debug)]
pub struct Bits<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Bits<'a> {
    pub fn new(bytes: &'a [u8]) -> Self {
        Bits { bytes, at: 0 }
    }
    pub fn bit(&mut self) -> Option<u32> {
        let byte = self.bytes.get(self.at / 8)?;
        let bit = byte >> (7 - self.at % 8) & 1;
        self.at += 1;
        Some(bit.into())
    }
    pub fn flag(&mut self) -> Option<bool> {
        Some(self.bit()? == 1)
    }
    /// Up to 32 bits.
    pub fn take(&mut self, n: u32) -> Option<u32> {
        (0..n).try_fold(0u32, |v, _| Some(v << 1 | self.bit()?))
    }
    pub fn skip(&mut self, n: usize) -> Option<()> {
        self.at = self.at.checked_add(n)?;
        (self.at <= self.bytes.len() * 8).then_some(())
    }
    /// Unsigned Exp-Golomb (ITU-T H.264, 9.1).
    pub fn ue(&mut self) -> Option<u32> {
        let mut zeros = 0;
        while self.bit()? == 0 {
            zeros += 1;
            if zeros > 31 {
                return None;
            }
        }
        Some((1u64 << zeros) as u32 - 1 + self.take(zeros)?)
    }
}

/// Signed Exp-Golomb (ITU-T H.264, 9.1.1).
impl Bits<'_> {
    pub fn se(&mut self) -> Option<i32> {
        let v = self.ue()?;
        let half = (v / 2) as i32;
        Some(if v % 2 == 1 { half.wrapping_add(1) } else { half.wrapping_neg() })
    }
}

/// The first start code (0, 0, 1) at or behind a place.
pub fn start_code(b: &[u8], at: usize) -> Option<usize> {
    memchr::memmem::find(b.get(at..)?, &[0, 0, 1]).map(|i| at + i)
}

/// The first start code of a unit of this kind.
pub fn unit_of(b: &[u8], kind: u8) -> Option<usize> {
    memchr::memmem::find(b, &[0, 0, 1, kind])
}

/// The bytes of a NAL unit without the 3 that keep start codes out (ITU-T H.264, 7.3.1).
pub fn unescape(nal: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(nal.len());
    let mut zeros = 0;
    for &b in nal {
        if zeros >= 2 && b == 3 {
            zeros = 0;
            continue;
        }
        zeros = if b == 0 { zeros + 1 } else { 0 };
        out.push(b);
    }
    out
}

fn array<const N: usize>(b: &[u8], at: usize) -> Option<[u8; N]> {
    b.get(at..at.checked_add(N)?)?.try_into().ok()
}
pub fn be16(b: &[u8], at: usize) -> Option<u16> {
    array(b, at).map(u16::from_be_bytes)
}
pub fn be32(b: &[u8], at: usize) -> Option<u32> {
    array(b, at).map(u32::from_be_bytes)
}
pub fn be64(b: &[u8], at: usize) -> Option<u64> {
    array(b, at).map(u64::from_be_bytes)
}
pub fn le16(b: &[u8], at: usize) -> Option<u16> {
    array(b, at).map(u16::from_le_bytes)
}
pub fn le32(b: &[u8], at: usize) -> Option<u32> {
    array(b, at).map(u32::from_le_bytes)
}
pub fn le64(b: &[u8], at: usize) -> Option<u64> {
    array(b, at).map(u64::from_le_bytes)
}

/// Text up to the first zero byte, trimmed; `None` if nothing is left. At most 4096 bytes are looked at.
pub fn text(raw: &[u8]) -> Option<String> {
    let raw = &raw[..raw.len().min(4096)];
    let raw = raw.split(|&c| c == 0).next().unwrap_or(&[]);
    let t = String::from_utf8_lossy(raw).trim().to_owned();
    (!t.is_empty()).then_some(t)
}

/// Writes bits, for tests that make headers.
#[cfg(test)]
#[derive(Default)]
pub struct Put(pub Vec<bool>);
#[cfg(test)]
impl Put {
    pub fn bits(&mut self, v: u32, n: u32) -> &mut Self {
        self.0.extend((0..n).rev().map(|i| v >> i & 1 == 1));
        self
    }
    pub fn ue(&mut self, v: u32) -> &mut Self {
        let n = 32 - (v + 1).leading_zeros();
        self.bits(0, n - 1).bits(v + 1, n)
    }
    pub fn bytes(&self) -> Vec<u8> {
        self.0
            .chunks(8)
            .map(|c| c.iter().enumerate().fold(0, |b, (i, &v)| b | u8::from(v) << (7 - i)))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0)]
    #[case(1)]
    #[case(7)]
    #[case(254)]
    #[case(65_000)]
    fn numbers_come_back(#[case] v: u32) {
        let bytes = Put::default().ue(v).bits(5, 3).bytes();
        let mut b = Bits::new(&bytes);
        assert_eq!((b.ue(), b.take(3)), (Some(v), Some(5)));
    }

    #[test]
    fn the_end_is_none_and_not_a_panic() {
        let mut b = Bits::new(&[0, 0]);
        assert_eq!((b.take(17), b.ue(), b.skip(1), Bits::new(&[0; 9]).ue()), (None, None, None, None));
        assert_eq!((be32(&[1, 2, 3], 0), le16(&[1, 2], usize::MAX)), (None, None));
    }

    #[test]
    fn escapes_go_and_text_ends_at_zero() {
        assert_eq!(unescape(&[1, 0, 0, 3, 1, 0, 0, 3]), [1, 0, 0, 1, 0, 0]);
        assert_eq!(text(b" Marsh \0rest").as_deref(), Some("Marsh"));
        assert_eq!(text(b"\0"), None);
    }
}
