//! VP8 (RFC 6386) and VP9 (VP9 Bitstream & Decoding Process Specification, 0.6). Decoding is done by libvpx,
//! where the build found it.

#[cfg(vpx)]
mod coverage;
#[cfg(vpx)]
mod decode;
#[cfg(vpx)]
mod encode;

#[cfg(vpx)]
use super::DecodeVideo;
use super::{EncodeVideo, PictureForm};
use crate::error::{Error, Result};
#[cfg(vpx)]
use crate::frame::Pool;
use crate::frame::VideoFrame;
use crate::recipe::BitRecipe;

/// A VP9 encoder; its table row says whether there is one.
#[cfg(vpx)]
pub fn encoder(form: &PictureForm, rate: BitRecipe, key_every: u32) -> Result<Box<dyn EncodeVideo>> {
    Ok(match form.chroma {
        Chroma::Rgba => Box::new(coverage::Encoder::new(form, rate, key_every)?),
        _ => Box::new(encode::Encoder::new(form, rate, key_every)?),
    })
}

/// A decoder of VP9 or else VP8.
#[cfg(vpx)]
pub fn decoder(nine: bool, track: &VideoTrack, pool: Pool) -> Result<Box<dyn DecodeVideo>> {
    Ok(match track.coverage {
        true => Box::new(coverage::Decoder::new(nine, track, pool)?),
        false => Box::new(decode::Decoder::new(nine, track, pool)?),
    })
}

#[cfg(not(vpx))]
pub fn encoder(_: &PictureForm, _: BitRecipe, _: u32) -> Result<Box<dyn EncodeVideo>> {
    Err(Error::unsupported("", "VP9 is made by libvpx, which was not there when this program was built"))
}

/// Why no still of VP8 is made, if none is.
pub fn no_still() -> Result<()> {
    match PRESENT {
        true => Ok(()),
        false => {
            let why = "WebP with loss is made by libvpx, which was not there when this program was built";
            Err(Error::unsupported("", why))
        }
    }
}

/// One picture by itself in VP8, 8-bit 4:2:0, with a quantiser of 0 to 63.
#[cfg(vpx)]
pub fn still(frame: &VideoFrame, quantiser: u32) -> Result<Vec<u8>> {
    let mut encoder = encode::Encoder::of_still((frame.width, frame.height), quantiser)?;
    let mut packets = Vec::new();
    encoder.encode(frame, 0, 1, &mut packets)?;
    encoder.flush(&mut packets)?;
    match packets.pop() {
        Some(packet) if packets.is_empty() => Ok(packet.data),
        _ => Err(Error::limit("VP8 encoder", "it gave no picture")),
    }
}

#[cfg(not(vpx))]
pub fn still(_: &VideoFrame, _: u32) -> Result<Vec<u8>> {
    no_still().map(|()| Vec::new())
}

use crate::bits::Bits;
use crate::frame::{Chroma, Colour};
use crate::track::VideoTrack;

/// Was libvpx there when this program was built?
pub const PRESENT: bool = cfg!(vpx);

/// Fills in what a VP9 packet's uncompressed header (6.2) says. Only key frames say it.
pub fn look_vp9(packet: &[u8], v: &mut VideoTrack) {
    let _ = vp9(packet, v);
}

fn vp9(packet: &[u8], v: &mut VideoTrack) -> Option<()> {
    let mut b = Bits::new(packet);
    if b.take(2)? != 2 {
        return None;
    }
    let mut profile = b.take(1)? | b.take(1)? << 1;
    if profile == 3 {
        profile += b.take(1)?;
    }
    if b.flag()? || b.flag()? {
        return None;
    }
    b.take(2)?;
    if b.take(24)? != 0x49_83_42 {
        return None;
    }
    let depth = match profile {
        0 | 1 => 8,
        _ if b.flag()? => 12,
        _ => 10,
    };
    // 7.2.2: colour_space in the terms of H.273: matrix.
    let space = b.take(3)?;
    v.colour.matrix = [2, 5, 1, 6, 7, 9, 2, 0][space as usize];
    let mut chroma = Chroma::C420;
    if space == 7 {
        v.colour.full_range = true;
        chroma = Chroma::C444;
    } else {
        v.colour.full_range = b.flag()?;
        if profile == 1 || profile == 3 {
            chroma = match (b.flag()?, b.flag()?) {
                (true, true) => Chroma::C420,
                (true, false) => Chroma::C422,
                _ => Chroma::C444,
            };
        }
    }
    (v.depth, v.chroma, v.profile) = (Some(depth), Some(chroma), Some(format!("profile {profile}")));
    let (w, h) = (b.take(16)? + 1, b.take(16)? + 1);
    if v.width == 0 || v.height == 0 {
        (v.width, v.height) = (w, h);
    }
    Some(())
}

/// VP8 has one form: 8-bit 4:2:0 (RFC 6386, 9.1: the size of a key frame).
pub fn look_vp8(packet: &[u8], v: &mut VideoTrack) {
    (v.depth, v.chroma) = (Some(8), Some(Chroma::C420));
    if let &[first, _, _, 0x9d, 0x01, 0x2a, w0, w1, h0, h1, ..] = packet
        && first & 1 == 0
        && (v.width == 0 || v.height == 0)
    {
        v.width = u32::from(u16::from_le_bytes([w0, w1]) & 0x3fff);
        v.height = u32::from(u16::from_le_bytes([h0, h1]) & 0x3fff);
    }
}

/// Fills in what a `vpcC` record (VP Codec ISO Media File Format Binding, 1.0) says.
pub fn describe(record: &[u8], v: &mut VideoTrack) {
    let Some(&[profile, level, bits, primaries, transfer, matrix]) = record.get(4..10) else { return };
    v.profile = Some(format!("profile {profile}"));
    v.level = (level > 0).then(|| format!("{}.{}", level / 10, level % 10));
    v.depth = Some(bits >> 4);
    v.chroma = Some(match bits >> 1 & 7 {
        0 | 1 => Chroma::C420,
        2 => Chroma::C422,
        _ => Chroma::C444,
    });
    v.colour = Colour { primaries, transfer, matrix, full_range: bits & 1 == 1 };
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_and_key_frames_describe() {
        let mut v = VideoTrack::sized(0, 0);
        describe(&[1, 0, 0, 0, 2, 31, 0xa2, 9, 16, 9, 0, 0], &mut v);
        assert_eq!((v.depth, v.chroma, v.colour.matrix), (Some(10), Some(Chroma::C420), 9));
        look_vp8(&[0x10, 0, 0, 0x9d, 1, 0x2a, 0x40, 1, 0xf0, 0], &mut v);
        assert_eq!((v.width, v.height), (320, 240));
        let mut v = VideoTrack::sized(0, 0);
        look_vp9(&[0x82, 0x49, 0x83, 0x42, 0x00, 0x0a, 0xf0, 0x08, 0xf0], &mut v);
        assert_eq!((v.profile.as_deref(), v.depth), (Some("profile 0"), Some(8)));
        assert_eq!((v.width, v.height), (176, 144));
    }
}
