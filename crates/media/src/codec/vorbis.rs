//! What must be known of Vorbis (Vorbis I specification, xiph.org, 2020) without decoding it: its headers and
//! the two block lengths, which tell how long a packet is.
//!
//! The setup record is the three headers with their lengths in front, as Matroska keeps them.

/// Identification, comment and setup header.
pub fn headers(setup: &[u8]) -> Option<[&[u8]; 3]> {
    let (&count, rest) = setup.split_first()?;
    if count != 2 {
        return None;
    }
    let (first, rest) = laced(rest)?;
    let (second, rest) = laced(rest)?;
    let (a, rest) = rest.split_at_checked(first)?;
    let (b, c) = rest.split_at_checked(second)?;
    Some([a, b, c])
}

fn laced(b: &[u8]) -> Option<(usize, &[u8])> {
    let n = b.iter().take_while(|&&v| v == 255).count();
    let last = *b.get(n)?;
    Some((n * 255 + usize::from(last), &b[n + 1..]))
}

/// Makes the setup record.
pub fn join(headers: [&[u8]; 3]) -> Vec<u8> {
    let mut out = vec![2];
    for h in &headers[..2] {
        out.extend(std::iter::repeat_n(255, h.len() / 255));
        out.push((h.len() % 255) as u8);
    }
    headers.iter().for_each(|h| out.extend_from_slice(h));
    out
}

/// The setup record from one that may have the length of each head in two bytes in front of it.
pub fn any_setup(b: &[u8]) -> Option<Vec<u8>> {
    if headers(b).is_some_and(|[first, ..]| identification(first).is_some()) {
        return Some(b.to_vec());
    }
    let mut rest = b;
    let mut next = || {
        let size = usize::from(crate::bits::be16(rest, 0)?);
        let head = rest.get(2..2 + size)?;
        rest = &rest[2 + size..];
        Some(head)
    };
    Some(join([next()?, next()?, next()?]))
}

/// Sample rate and channels of an identification header (4.2.2).
pub fn identification(h: &[u8]) -> Option<(u32, u16)> {
    if !h.starts_with(b"\x01vorbis") {
        return None;
    }
    let rate = u32::from_le_bytes(h.get(12..16)?.try_into().ok()?);
    Some((rate, u16::from(*h.get(11)?)))
}

/// A comment header (5.2) with one comment, without its marker.
pub fn write(comment: &str) -> Vec<u8> {
    let vendor = b"Deft Porter";
    let mut out = (vendor.len() as u32).to_le_bytes().to_vec();
    out.extend(vendor);
    let lines: Vec<String> =
        Some(comment).filter(|c| !c.is_empty()).map(|c| format!("COMMENT={c}")).into_iter().collect();
    out.extend((lines.len() as u32).to_le_bytes());
    for line in lines {
        out.extend((line.len() as u32).to_le_bytes());
        out.extend(line.as_bytes());
    }
    out
}

/// Tags of a comment header (5.2): those of one `KEY=value` line each, without its `lead` bytes of marker.
pub fn comments(h: &[u8]) -> Vec<(String, String)> {
    let word = |at: usize| Some(u32::from_le_bytes(h.get(at..at.checked_add(4)?)?.try_into().ok()?) as usize);
    let mut out = Vec::new();
    let Some(vendor) = word(0) else { return out };
    let Some(count) = vendor.checked_add(4).and_then(word) else { return out };
    let mut at = vendor + 8;
    for _ in 0..count.min(200) {
        let Some(len) = word(at) else { break };
        let Some(line) = at.checked_add(4).and_then(|from| h.get(from..from.checked_add(len)?)) else {
            break;
        };
        at += 4 + len;
        let line = String::from_utf8_lossy(&line[..len.min(4096)]);
        if let Some((key, value)) = line.split_once('=').filter(|(k, v)| !k.is_empty() && !v.is_empty()) {
            // Pictures in text form are no tags.
            if !key.eq_ignore_ascii_case("METADATA_BLOCK_PICTURE") {
                out.push((key.to_lowercase(), value.to_owned()));
            }
        }
    }
    out
}

/// Lengths of the two kinds of block, and which mode uses which.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Blocks {
    short: u32,
    long: u32,
    /// For each mode: long.
    modes: Vec<bool>,
    before: Option<u32>,
}

/// Bits of one mode in the setup header (4.2.4): flag, window type, transform type, mapping.
const MODE: usize = 41;

impl Blocks {
    pub fn parse(setup: &[u8]) -> Option<Blocks> {
        let [ident, _, tables] = headers(setup)?;
        let sizes = *ident.get(28)?;
        let (short, long) = (1 << (sizes & 15), 1 << (sizes >> 4));
        // The modes end the header, so they are read from its end: a framing bit, the modes, their count.
        // Bits are packed from the low end of each byte.
        let bit = |i: usize| tables.get(i / 8).is_some_and(|b| b >> (i % 8) & 1 == 1);
        let number = |at: usize, n: usize| (0..n).fold(0u32, |v, i| v | u32::from(bit(at + i)) << i);
        let end = (0..tables.len() * 8).rev().find(|&i| bit(i))?;
        let mut found = None;
        for n in 1..=64 {
            let Some(at) = end.checked_sub(n * MODE) else { break };
            if number(at + 1, 16) != 0 || number(at + 17, 16) != 0 || number(at + 33, 8) > 63 {
                break;
            }
            if at >= 6 && number(at - 6, 6) as usize + 1 == n {
                found = Some(n);
            }
        }
        let n = found?;
        let modes = (0..n).map(|i| bit(end - (n - i) * MODE)).collect();
        Some(Blocks { short, long, modes, before: None })
    }

    /// Samples that this packet adds (4.3.8): a quarter of the block before and a quarter of its own.
    pub fn samples(&mut self, packet: &[u8]) -> Option<u32> {
        let first = *packet.first()?;
        if first & 1 == 1 {
            return Some(0);
        }
        let bits = usize::BITS - (self.modes.len() - 1).leading_zeros();
        let mode = usize::from(first >> 1) & ((1 << bits) - 1);
        let block = if *self.modes.get(mode)? { self.long } else { self.short };
        let before = self.before.replace(block);
        Some(before.map_or(0, |b| b / 4 + block / 4))
    }

    /// Forgets the block before: the next packet starts anew.
    pub fn restart(&mut self) {
        self.before = None;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_split_as_joined() {
        let (a, b, c) = (vec![1; 30], vec![2; 600], vec![3; 5]);
        assert_eq!(headers(&join([&a, &b, &c])), Some([a.as_slice(), &b, &c]));
        assert_eq!(headers(&[2, 255]), None);
        assert_eq!(headers(&[]), None);
        let first = [&b"\x01vorbis"[..], &[0; 23]].concat();
        let joined = join([&first, &[4; 9], &[5; 300]]);
        let sized = [&[0, 30][..], &first, &[0, 9], &[4; 9], &[1, 44], &[5; 300]].concat();
        assert_eq!((any_setup(&joined), any_setup(&sized)), (Some(joined.clone()), Some(joined)));
        assert_eq!(any_setup(&[0, 3, 1]), None);
    }

    #[test]
    fn comments_are_split_and_cut_ones_end_quietly() {
        let mut h = vec![0, 0, 0, 0, 2, 0, 0, 0, 13, 0, 0, 0];
        h.extend(b"TITLE=Estuary");
        h.extend([255, 255, 255, 255, 1]);
        assert_eq!(comments(&h), [("title".to_owned(), "Estuary".to_owned())]);
    }
}
