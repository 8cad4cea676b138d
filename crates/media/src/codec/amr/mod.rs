//! AMR and AMR-WB (3GPP TS 26.071, 26.171), speech of telephones: frames of 20 ms, each with a byte in front that tells its
//! kind (RFC 4867, 5.3). Decoding is done by the OpenCORE libraries, where the build found them.

#[cfg(amr)]
mod decode;
#[cfg(amr)]
pub use decode::Decoder;

/// Were the libraries there when this program was built?
pub const PRESENT: bool = cfg!(amr);

/// Bytes behind the first of a frame of each kind; kinds that are not used end what holds them.
const NARROW: [i8; 16] = [12, 13, 15, 17, 19, 20, 26, 31, 5, -1, -1, -1, -1, -1, -1, 0];
const WIDE: [i8; 16] = [17, 23, 32, 36, 40, 46, 50, 58, 60, 5, -1, -1, -1, -1, 0, 0];

/// Bytes of the frame that begins here, its first byte among them; `None` where none does.
pub fn frame(b: &[u8], wide: bool) -> Option<usize> {
    let first = *b.first()?;
    let table = if wide { &WIDE } else { &NARROW };
    let bytes = usize::try_from(table[usize::from(first >> 3 & 15)]).ok()?;
    // The highest bit, and the two lowest, are not used in files.
    (first & 0x83 == 0).then_some(bytes + 1)
}

/// Samples of a frame, and how many a second.
pub fn samples(wide: bool) -> (u32, u32) {
    if wide { (320, 16_000) } else { (160, 8_000) }
}

/// Samples of all frames of a packet.
pub fn length(packet: &[u8], wide: bool) -> u32 {
    let mut at = 0;
    let mut count = 0;
    while let Some(n) = packet.get(at..).and_then(|b| frame(b, wide)) {
        at += n;
        count += 1;
    }
    count * samples(wide).0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_tell_their_length() {
        // 12.2 kbit/s, silence, nothing; what is not used; a bit that is not.
        let b = |kind: u8| [kind << 3 | 4];
        assert_eq!([7, 8, 15, 9].map(|k| frame(&b(k), false)), [Some(32), Some(6), Some(1), None]);
        assert_eq!([8, 14, 15, 10].map(|k| frame(&b(k), true)), [Some(61), Some(1), Some(1), None]);
        assert_eq!((frame(&[0x80], false), frame(&[], true)), (None, None));
        let two = [&b(7)[..], &[0; 31], &b(15)].concat();
        assert_eq!(length(&two, false), 320);
    }
}
