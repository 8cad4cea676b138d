//! Elements (RFC 8794): an ID, a size, content.

use crate::container::reader::Reader;
use crate::error::{Error, Result};

/// A number of one to eight bytes (RFC 8794, 4). `keep` leaves the length marker in, as for IDs.
pub fn number(b: &[u8], keep: bool) -> Option<(u64, usize)> {
    let first = *b.first()?;
    let len = first.leading_zeros() as usize + 1;
    if len > 8 {
        return None;
    }
    let mut v = u64::from(first);
    if !keep {
        v &= (1u64 << (8 - len)) - 1;
    }
    for &byte in b.get(1..len)? {
        v = v << 8 | u64::from(byte);
    }
    Some((v, len))
}

/// A size with all bits set is not known (RFC 8794, 6.2).
pub fn size(b: &[u8]) -> Option<(Option<u64>, usize)> {
    let (v, len) = number(b, false)?;
    Some(((v != (1u64 << (7 * len)) - 1).then_some(v), len))
}

/// The head of an element in a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Head {
    pub id: u32,
    pub at: u64,
    pub body: u64,
    /// `None`: to where an element of a higher level starts.
    pub size: Option<u64>,
}

impl Head {
    pub fn end(&self, file: u64) -> u64 {
        self.size.map_or(file, |s| self.body.saturating_add(s))
    }
}

/// The element that starts here; `None` at the end of the file. The reader then stands at its content.
pub fn head(r: &mut Reader) -> Result<Option<Head>> {
    let at = r.at();
    let b = r.peek(12)?;
    if b.is_empty() {
        return Ok(None);
    }
    let bad = || Error::damaged_at("Matroska", at, "no element starts here");
    let (id, n) = number(&b, true).filter(|(_, n)| *n <= 4).ok_or_else(bad)?;
    let (size, m) = size(&b[n..]).ok_or_else(bad)?;
    r.skip((n + m) as u64);
    Ok(Some(Head { id: id as u32, at, body: r.at(), size }))
}

/// Elements in memory: ID and content. A broken one ends the walk, one that is cut is shortened.
pub fn inside(mut b: &[u8]) -> impl Iterator<Item = (u32, &[u8])> {
    std::iter::from_fn(move || {
        let (id, n) = number(b, true).filter(|(_, n)| *n <= 4)?;
        let (size, m) = size(b.get(n..)?)?;
        let rest = &b[n + m..];
        let len = size.map_or(rest.len(), |s| usize::try_from(s).unwrap_or(usize::MAX).min(rest.len()));
        b = &rest[len..];
        Some((id as u32, &rest[..len]))
    })
}

pub fn find(b: &[u8], id: u32) -> Option<&[u8]> {
    inside(b).find(|(i, _)| *i == id).map(|(_, b)| b)
}

/// An unsigned number's content.
pub fn unsigned(b: &[u8]) -> u64 {
    b.iter().take(8).fold(0, |v, &x| v << 8 | u64::from(x))
}

/// A floating-point number's content of four or eight bytes.
pub fn float(b: &[u8]) -> f64 {
    match b.len() {
        4 => f64::from(f32::from_bits(unsigned(b) as u32)),
        8 => f64::from_bits(unsigned(b)),
        _ => 0.0,
    }
}

/// A signed number's content.
pub fn signed(b: &[u8]) -> i64 {
    let bits = 8 * b.len().min(8) as u32;
    if bits == 0 { 0 } else { (unsigned(b) as i64) << (64 - bits) >> (64 - bits) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[0x81], Some((1, 1)))]
    #[case(&[0x40, 0x02], Some((2, 2)))]
    #[case(&[0x01, 0, 0, 0, 0, 0, 0, 9], Some((9, 8)))]
    #[case(&[0x40], None)]
    #[case(&[0x00, 1], None)]
    fn numbers(#[case] b: &[u8], #[case] want: Option<(u64, usize)>) {
        assert_eq!(number(b, false), want);
    }

    #[test]
    fn unknown_sizes_signs_and_floats() {
        assert_eq!(size(&[0xff]), Some((None, 1)));
        assert_eq!((signed(&[0xff]), signed(&[0x7f, 0]), signed(&[])), (-1, 0x7f00, 0));
        assert_eq!(float(&0.5f32.to_be_bytes()), 0.5);
        let b = [0xd7, 0x81, 5, 0x83, 0x88, 1];
        assert_eq!(inside(&b).collect::<Vec<_>>(), [(0xd7, &[5][..]), (0x83, &[1])]);
    }
}
