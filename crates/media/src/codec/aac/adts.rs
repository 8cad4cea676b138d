//! The header in front of each frame of a plain AAC stream (ISO/IEC 14496-3, 1.A.2.2).

use super::FREQUENCIES;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Header {
    pub object_type: u8,
    pub rate_index: u8,
    pub channel_config: u8,
    /// Bytes of the header, and of the whole frame with it.
    pub header: usize,
    pub len: usize,
}

impl Header {
    pub const BYTES: usize = 7;

    pub fn parse(b: &[u8]) -> Option<Header> {
        let &[sync, b1, b2, b3, b4, b5, b6, ..] = b else { return None };
        if sync != 0xff || b1 & 0xf6 != 0xf0 {
            return None;
        }
        let rate_index = b2 >> 2 & 15;
        let header = if b1 & 1 == 0 { 9 } else { 7 };
        let len = usize::from(b3 & 3) << 11 | usize::from(b4) << 3 | usize::from(b5) >> 5;
        // One block of 1024 samples a frame; more than one is allowed by the standard, but not written.
        if usize::from(rate_index) >= FREQUENCIES.len() || len <= header || b6 & 3 != 0 {
            return None;
        }
        let channel_config = (b2 & 1) << 2 | b3 >> 6;
        Some(Header { object_type: (b2 >> 6) + 1, rate_index, channel_config, header, len })
    }

    pub fn rate(&self) -> u32 {
        FREQUENCIES[usize::from(self.rate_index)]
    }

    pub fn setup(&self) -> Vec<u8> {
        super::Config::write(self.object_type, self.rate_index, self.channel_config)
    }

    pub fn alike(&self, o: &Header) -> bool {
        (self.object_type, self.rate_index, self.channel_config)
            == (o.object_type, o.rate_index, o.channel_config)
    }
}

/// The header of a frame with so many bytes behind it, of AAC-LC; none where it would not fit.
pub fn write(rate: u32, channels: u16, bytes: usize) -> Option<Vec<u8>> {
    let index = FREQUENCIES.iter().position(|f| *f == rate)? as u8;
    let (len, channels) = (bytes + Header::BYTES, channels as u8);
    if len >= 1 << 13 || channels > 7 {
        return None;
    }
    Some(vec![
        0xff,
        0xf1,
        1 << 6 | index << 2 | channels >> 2,
        (channels & 3) << 6 | (len >> 11) as u8,
        (len >> 3) as u8,
        (len as u8) << 5 | 0x1f,
        0xfc,
    ])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::aac::Config;

    #[test]
    fn a_header_gives_length_and_setup() {
        let h = Header::parse(&[0xff, 0xf1, 0x50, 0x80, 0x2e, 0x7f, 0xfc]).unwrap();
        assert_eq!((h.rate(), h.len, h.header), (44_100, 371, 7));
        let c = Config::parse(&h.setup()).unwrap();
        assert_eq!((c.rate, c.channels, c.profile), (44_100, Some(2), "AAC-LC"));
        assert_eq!(Header::parse(&[0xff, 0xfb, 0x90, 0, 0, 0, 0]), None);
    }
}
