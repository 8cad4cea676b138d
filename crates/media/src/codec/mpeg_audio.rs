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

impl Header {
    pub const BYTES: usize = 4;

    /// `None` if these bytes start no frame (or one of the free format, which states no length).
    pub fn parse(b: &[u8]) -> Option<Header> {
        let &[sync, b1, b2, b3, ..] = b else { return None };
        if sync != 0xff || b1 & 0xe0 != 0xe0 {
            return None;
        }
        let (version, layer) = (b1 >> 3 & 3, 4 - (b1 >> 1 & 3));
        let (bits, rate) = (usize::from(b2 >> 4), usize::from(b2 >> 2 & 3));
        if version == 1 || layer == 4 || bits == 0 || bits == 15 || rate == 3 {
            return None;
        }
        let first = version == 3;
        let rate = [44_100, 48_000, 32_000][rate]
            >> match version {
                3 => 0,
                2 => 1,
                _ => 2,
            };
        let table = match (first, layer) {
            (true, l) => usize::from(l) - 1,
            (false, 1) => 3,
            (false, _) => 4,
        };
        let bits_per_second = BITS[table][bits - 1] * 1000;
        let padding = u32::from(b2 >> 1 & 1);
        let len = match (layer, first) {
            (1, _) => (12 * bits_per_second / rate + padding) * 4,
            (3, false) => 72 * bits_per_second / rate + padding,
            _ => 144 * bits_per_second / rate + padding,
        };
        let channels = if b3 >> 6 == 3 { 1 } else { 2 };
        Some(Header { layer, first, rate, channels, bits_per_second, len: len as usize })
    }

    pub fn samples(&self) -> u32 {
        match (self.layer, self.first) {
            (1, _) => 384,
            (3, false) => 576,
            _ => 1152,
        }
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
    }
}
