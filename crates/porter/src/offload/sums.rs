//! Checksums as the trade writes them.

use md5::{Digest, Md5};
use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA512};
use serde::{Deserialize, Serialize};
use std::io::{self, Read};
use xxhash_rust::xxh3::Xxh3;
use xxhash_rust::xxh64::Xxh64;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    Xxh64,
    Xxh3,
    Xxh128,
    Md5,
    /// Older lists have it.
    Sha1,
    Sha256,
    /// SMPTE ST 2114.
    C4,
}

impl Kind {
    pub const ALL: [(Kind, &'static str); 7] = [
        (Kind::Xxh64, "xxh64"),
        (Kind::Xxh3, "xxh3"),
        (Kind::Xxh128, "xxh128"),
        (Kind::Md5, "md5"),
        (Kind::Sha1, "sha1"),
        (Kind::Sha256, "sha256"),
        (Kind::C4, "c4"),
    ];

    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(k, _)| *k == self).map_or("", |(_, name)| name)
    }

    pub fn parse(name: &str) -> Option<Kind> {
        Self::ALL.iter().find(|(_, n)| n.eq_ignore_ascii_case(name)).map(|(k, _)| *k)
    }

    /// Of a sum as text; several have the same length, and then the one that such lists have.
    pub fn of_length(text: &str) -> Option<Kind> {
        let is_hex = text.chars().all(|c| c.is_ascii_hexdigit());
        match text.len() {
            16 if is_hex => Some(Kind::Xxh64),
            32 if is_hex => Some(Kind::Md5),
            40 if is_hex => Some(Kind::Sha1),
            64 if is_hex => Some(Kind::Sha256),
            90 if text.starts_with("c4") => Some(Kind::C4),
            _ => None,
        }
    }
}

/// One that is being computed.
pub enum Sum {
    Xxh64(Box<Xxh64>),
    Xxh3(Box<Xxh3>),
    Xxh128(Box<Xxh3>),
    Md5(Md5),
    /// SHA-1 or SHA-256.
    Sha(Context),
    C4(Context),
}

impl Sum {
    pub fn new(kind: Kind) -> Sum {
        match kind {
            Kind::Xxh64 => Sum::Xxh64(Box::new(Xxh64::new(0))),
            Kind::Xxh3 => Sum::Xxh3(Box::default()),
            Kind::Xxh128 => Sum::Xxh128(Box::default()),
            Kind::Md5 => Sum::Md5(Md5::new()),
            Kind::Sha1 => Sum::Sha(Context::new(&SHA1_FOR_LEGACY_USE_ONLY)),
            Kind::Sha256 => Sum::Sha(Context::new(&SHA256)),
            Kind::C4 => Sum::C4(Context::new(&SHA512)),
        }
    }

    pub fn add(&mut self, block: &[u8]) {
        match self {
            Sum::Xxh64(h) => h.update(block),
            Sum::Xxh3(h) | Sum::Xxh128(h) => h.update(block),
            Sum::Md5(h) => h.update(block),
            Sum::Sha(h) => h.update(block),
            Sum::C4(h) => h.update(block),
        }
    }

    pub fn end(self) -> String {
        let hex = |bytes: &[u8]| bytes.iter().map(|b| format!("{b:02x}")).collect::<String>();
        match self {
            Sum::Xxh64(h) => format!("{:016x}", h.digest()),
            Sum::Xxh3(h) => format!("{:016x}", h.digest()),
            Sum::Xxh128(h) => format!("{:032x}", h.digest128()),
            Sum::Md5(h) => hex(&h.finalize()),
            Sum::Sha(h) => hex(h.finish().as_ref()),
            Sum::C4(h) => c4(h.finish().as_ref()),
        }
    }
}

/// Several of one read.
pub fn of(
    source: &mut dyn Read,
    kinds: &[Kind],
    passed: &dyn Fn(u64) -> io::Result<()>,
) -> io::Result<Vec<String>> {
    let mut sums: Vec<Sum> = kinds.iter().map(|k| Sum::new(*k)).collect();
    let mut block = vec![0; 1 << 20];
    loop {
        match source.read(&mut block) {
            Ok(0) => return Ok(sums.into_iter().map(Sum::end).collect()),
            Ok(n) => {
                sums.iter_mut().for_each(|s| s.add(&block[..n]));
                passed(n as u64)?;
            }
            Err(e) if e.kind() == io::ErrorKind::Interrupted => (),
            Err(e) => return Err(e),
        }
    }
}

/// `c4` and 88 signs: the SHA-512 as a number to the base 58.
pub fn c4(digest: &[u8]) -> String {
    const SIGNS: &[u8; 58] = b"123456789ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnopqrstuvwxyz";
    const LENGTH: usize = 88;
    let mut number = digest.to_vec();
    let mut signs = Vec::with_capacity(LENGTH);
    while signs.len() < LENGTH {
        let mut rest = 0u32;
        for byte in &mut number {
            let n = rest << 8 | u32::from(*byte);
            *byte = (n / 58) as u8;
            rest = n % 58;
        }
        signs.push(SIGNS[rest as usize] as char);
    }
    format!("c4{}", signs.iter().rev().collect::<String>())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Of "abc", from the publications of each.
    #[rstest]
    #[case(Kind::Xxh64, "44bc2cf5ad770999")]
    #[case(Kind::Xxh3, "78af5f94892f3950")]
    #[case(Kind::Md5, "900150983cd24fb0d6963f7d28e17f72")]
    #[case(Kind::Sha1, "a9993e364706816aba3e25717850c26c9cd0d89d")]
    #[case(Kind::Sha256, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad")]
    fn sums_are_those_that_were_published(#[case] kind: Kind, #[case] want: &str) {
        let got = of(&mut &b"abc"[..], &[kind], &|_| Ok(())).unwrap();
        assert_eq!(got, [want]);
        assert_eq!(Kind::parse(kind.name()), Some(kind));
    }

    #[test]
    fn a_c4_id_has_ninety_signs() {
        let got = of(&mut &b""[..], &[Kind::C4], &|_| Ok(())).unwrap();
        assert_eq!(
            got,
            ["c459dsjfscH38cYeXXYogktxf4Cd9ibshE3BHUo6a58hBXmRQdZrAkZzsWcbWtDg5oQstpDuni4Hirj75GEmTc1sFT"]
        );
        assert_eq!(Kind::of_length(&got[0]), Some(Kind::C4));
    }
}
