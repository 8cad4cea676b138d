//! How many samples a packet of sound decodes to, told from the packet without decoding it.

use super::{Codec, Track};
use crate::bits::{Bits, be16, be32, le32};
use crate::codec::{aac, adpcm, amr, flac, gsm, mpeg_audio, opus, vorbis};

/// Knows the packets of one track.
pub enum PacketLength {
    /// Every packet is as long.
    Fixed(u32),
    /// Bytes of one sample of all channels.
    Bytes(u32),
    /// Bytes of a block, and its samples.
    Blocks(u32, u32),
    MpegAudio,
    Amr(bool),
    Vorbis(Box<vorbis::Blocks>),
    Opus,
    Flac(u32),
    Alac(u32),
    EnhancedAc3,
    Unknown,
}

impl PacketLength {
    pub fn of(track: &Track) -> PacketLength {
        let Some(audio) = track.audio() else { return PacketLength::Unknown };
        match &track.codec {
            Codec::Aac => aac::Config::parse(&track.setup)
                .map_or(PacketLength::Fixed(1024), |c| PacketLength::Fixed(c.frame())),
            Codec::MpegAudio(_) => PacketLength::MpegAudio,
            Codec::Vorbis => vorbis::Blocks::parse(&track.setup)
                .map_or(PacketLength::Unknown, |b| PacketLength::Vorbis(Box::new(b))),
            Codec::Opus => PacketLength::Opus,
            Codec::Flac => PacketLength::Flac(be16(&track.setup, 2).unwrap_or(0).into()),
            Codec::Alac => PacketLength::Alac(be32(&track.setup, 0).unwrap_or(4096)),
            Codec::Pcm(p) => PacketLength::Bytes((u32::from(p.bytes) * u32::from(audio.channels)).max(1)),
            Codec::Amr { wide } => PacketLength::Amr(*wide),
            Codec::Adpcm { .. } | Codec::Gsm { .. } => block(&track.codec, audio.channels)
                .map_or(PacketLength::Unknown, |(bytes, n)| PacketLength::Blocks(bytes, n)),
            Codec::Other { name: Some("AC-3"), .. } => PacketLength::Fixed(1536),
            // Samples of a frame and frames of a packet, in its head (The Speex Codec Manual, table 7.1).
            Codec::Other { name: Some("Speex"), .. } => {
                match (le32(&track.setup, 56), le32(&track.setup, 64)) {
                    (Some(each @ 1..=2048), Some(n @ 0..=10)) => PacketLength::Fixed(each * n.max(1)),
                    _ => PacketLength::Unknown,
                }
            }
            Codec::Other { name: Some("E-AC-3"), .. } => PacketLength::EnhancedAc3,
            _ => PacketLength::Unknown,
        }
    }

    /// Samples of each channel; call it for every packet in order.
    pub fn samples(&mut self, data: &[u8]) -> Option<u32> {
        match self {
            PacketLength::Fixed(n) => Some(*n),
            PacketLength::Bytes(n) => u32::try_from(data.len() / *n as usize).ok(),
            PacketLength::Blocks(bytes, each) => {
                u32::try_from(data.len() / *bytes as usize).ok().map(|n| n * *each)
            }
            PacketLength::Amr(wide) => Some(amr::length(data, *wide)).filter(|n| *n > 0),
            PacketLength::MpegAudio => mpeg_audio::Header::samples_of(data),
            PacketLength::Vorbis(b) => b.samples(data),
            PacketLength::Opus => opus::samples(data),
            PacketLength::Flac(usual) => flac::FrameHeader::parse(data).map(|h| h.samples).or(Some(*usual)),
            PacketLength::Alac(usual) => Some(alac_samples(data).unwrap_or(*usual)),
            // ETSI TS 102 366, E.1.3.1.3: number of audio blocks of 256 samples.
            PacketLength::EnhancedAc3 => {
                let half = data.get(4)? >> 6 == 3;
                let blocks = if half { 6 } else { [1, 2, 3, 6][usize::from(data.get(4)? >> 4 & 3)] };
                Some(blocks * 256)
            }
            PacketLength::Unknown => None,
        }
    }
}

/// Sound in blocks that are all alike: bytes of one for all channels, and its samples.
pub fn block(codec: &Codec, channels: u16) -> Option<(u32, u32)> {
    match *codec {
        Codec::Adpcm { kind, block } => Some((block.max(1).into(), adpcm::samples(kind, block, channels)?)),
        Codec::Gsm { block } => Some((block.into(), gsm::samples(block)?)),
        _ => None,
    }
}

/// A shortened packet states its length behind the element's header (Apple Lossless Audio Codec, "ALAC frame").
fn alac_samples(data: &[u8]) -> Option<u32> {
    let mut b = Bits::new(data);
    b.take(7 + 12)?;
    let partial = b.flag()?;
    b.take(3)?;
    partial.then(|| b.take(32)).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_short_alac_packet_says_so() {
        let mut long = PacketLength::Alac(4096);
        assert_eq!(long.samples(&[0; 20]), Some(4096));
        assert_eq!(long.samples(&[0, 0, 0b0001_0000, 0, 0, 3, 0b1110_1000 & 0xfe, 0]), Some(500));
    }
}
