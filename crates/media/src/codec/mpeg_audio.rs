//! The frame header of MPEG audio (ISO/IEC 11172-3, 2.4.1.3; ISO/IEC 13818-3, 2.4.2.3 for the low rates).

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Header {
    pub layer: u8,
    /// MPEG-1; otherwise MPEG-2 or its 2.5 extension of lower rates.
    pub first: bool,
    pub rate: u32,
    pub channels: u16,
    pub bits_per_second: u32,
    /// Bytes of the whole frame.
    pub len: usize,
}

/// Kilobits a second for indexes 1 to 14.
const BITS: [[u32; 14]; 5] = [
    [32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448],
    [32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384],
    [32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320],
    [32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256],
    [8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160],
];

const fn table(first: bool, layer: u8) -> usize {
    match (first, layer) {
        (true, l) => l as usize - 1,
        (false, 1) => 3,
        (false, _) => 4,
    }
}

/// Version as the header has it: 3 is the first generation, 2 the second, 0 the one with a quarter of the rates.
const fn rate(version: u8, index: usize) -> u32 {
    let shift = match version {
        3 => 0,
        2 => 1,
        _ => 2,
    };
    [44_100u32, 48_000, 32_000][index] >> shift
}

/// Bytes of a frame without padding (2.4.3.1), by version (counted from the first), layer, rate and bit rate: worked out
/// once, because a file has millions of frames.
static LENGTHS: [[[[u32; 14]; 3]; 3]; 4] = {
    let mut out = [[[[0; 14]; 3]; 3]; 4];
    let mut i = 0;
    while i < 4 * 3 * 3 * 14 {
        let (v, l, r, b) = (i / 126, i / 42 % 3, i / 14 % 3, i % 14);
        let (first, layer, rate) = (v == 0, l as u8 + 1, rate(3 - v as u8, r));
        let bits = BITS[table(first, layer)][b] * 1000;
        out[v][l][r][b] = match (layer, first) {
            (1, _) => 12 * bits / rate * 4,
            (3, false) => 72 * bits / rate,
            _ => 144 * bits / rate,
        };
        i += 1;
    }
    out
};

impl Header {
    pub const BYTES: usize = 4;

    /// `None` if these bytes start no frame (or one of the free format, which states no length).
    pub fn parse(b: &[u8]) -> Option<Header> {
        let &[sync, b1, b2, b3, ..] = b else { return None };
        if sync != 0xff || b1 & 0xe0 != 0xe0 {
            return None;
        }
        let (version, layer) = (b1 >> 3 & 3, 4 - (b1 >> 1 & 3));
        let (bits, index) = (usize::from(b2 >> 4), usize::from(b2 >> 2 & 3));
        if version == 1 || layer == 4 || bits == 0 || bits == 15 || index == 3 {
            return None;
        }
        let first = version == 3;
        let rate = rate(version, index);
        let bits_per_second = BITS[table(first, layer)][bits - 1] * 1000;
        let slot = if layer == 1 { 4 } else { 1 };
        let len = LENGTHS[usize::from(3 - version)][usize::from(layer) - 1][index][bits - 1]
            + u32::from(b2 >> 1 & 1) * slot;
        let channels = if b3 >> 6 == 3 { 1 } else { 2 };
        Some(Header { layer, first, rate, channels, bits_per_second, len: len as usize })
    }

    pub fn samples(&self) -> u32 {
        samples(self.layer, self.first)
    }

    /// What the frame that starts here decodes to, without working out how long it is.
    pub fn samples_of(b: &[u8]) -> Option<u32> {
        let &[0xff, b1, ..] = b else { return None };
        let (version, layer) = (b1 >> 3 & 3, 4 - (b1 >> 1 & 3));
        (b1 & 0xe0 == 0xe0 && version != 1 && layer != 4).then(|| samples(layer, version == 3))
    }

    /// Where the side information of layer 3 ends and an information frame's own data starts.
    pub fn side_end(&self) -> usize {
        Self::BYTES
            + match (self.first, self.channels) {
                (true, 1) | (false, 2) => 17,
                (true, _) => 32,
                (false, _) => 9,
            }
    }

    /// Frames of one stream agree in these.
    pub fn alike(&self, other: &Header) -> bool {
        (self.layer, self.first, self.rate) == (other.layer, other.first, other.rate)
    }
}

fn samples(layer: u8, first: bool) -> u32 {
    match (layer, first) {
        (1, _) => 384,
        (3, false) => 576,
        _ => 1152,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case([0xff, 0xfb, 0x90, 0x00], Some((3, 44_100, 2, 417, 1152)))]
    #[case([0xff, 0xfd, 0xc4, 0xc0], Some((2, 48_000, 1, 768, 1152)))]
    #[case([0xff, 0xf3, 0x84, 0xc4], Some((3, 24_000, 1, 192, 576)))]
    #[case([0xff, 0xff, 0x92, 0x00], Some((1, 44_100, 2, 316, 384)))]
    #[case([0xff, 0xfb, 0xf0, 0x00], None)]
    #[case([0xff, 0xeb, 0x90, 0x00], None)]
    fn headers(#[case] b: [u8; 4], #[case] want: Option<(u8, u32, u16, usize, u32)>) {
        let got = Header::parse(&b).map(|h| (h.layer, h.rate, h.channels, h.len, h.samples()));
        assert_eq!(got, want);
        assert!(want.is_none_or(|w| Header::samples_of(&b) == Some(w.4)));
    }
}
