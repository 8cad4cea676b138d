//! What headers of MPEG-1, MPEG-2 and MPEG-4 part 2 pictures say (ISO/IEC 11172-2, 2.4.2.3;
//! ISO/IEC 13818-2, 6.2.2.1 and 6.2.2.3; ISO/IEC 14496-2, 6.2.3).

use crate::bits::{Bits, unit_of};
use crate::frame::{Chroma, Colour, Fields};
use crate::track::{Codec, VideoTrack};
use crate::units::Ratio;

/// Table 6-4 of 13818-2.
const RATES: [(u32, u32); 8] =
    [(24_000, 1001), (24, 1), (25, 1), (30_000, 1001), (30, 1), (50, 1), (60_000, 1001), (60, 1)];

/// The codec and picture properties that a sequence header states; `None` if there is none in these bytes.
pub fn sequence(bytes: &[u8]) -> Option<(Codec, VideoTrack)> {
    let at = unit_of(bytes, 0xb3)?;
    let mut b = Bits::new(&bytes[at + 4..]);
    let (w, h) = (b.take(12)?, b.take(12)?);
    let (aspect, rate) = (b.take(4)?, b.take(4)?);
    let mut v = VideoTrack::sized(w, h);
    let &(num, den) = RATES.get(rate.checked_sub(1)? as usize)?;
    let mut rate = Ratio { num, den };
    (v.chroma, v.depth) = (Some(Chroma::C420), Some(8));
    let rest = &bytes[at + 4..];
    let extension = rest.windows(5).position(|w| w[..4] == [0, 0, 1, 0xb5] && w[4] >> 4 == 1);
    let second = match extension {
        Some(at) => extend(&rest[at + 4..], &mut v, &mut rate).is_some(),
        None => false,
    };
    if second {
        // Table 6-3: the shape of the whole picture.
        let shape = match aspect {
            2 => Some((4, 3)),
            3 => Some((16, 9)),
            4 => Some((221, 100)),
            _ => None,
        };
        if let Some((sw, sh)) = shape
            && let Some(r) = Ratio::new(sw * u64::from(v.height), sh * u64::from(v.width))
        {
            v.pixel_shape = r;
        }
        display(rest, &mut v);
    }
    v.rate = Some(rate);
    v.constant_rate = true;
    let name = if second { "MPEG-2" } else { "MPEG-1 video" };
    Some((Codec::Other { code: if second { "mp2v" } else { "mp1v" }.into(), name: Some(name) }, v))
}

/// Whether a packet of MPEG-1 or MPEG-2 begins with the header of a sequence or of a group of pictures.
pub fn begins_group(packet: &[u8]) -> bool {
    [0xb3, 0xb8].iter().any(|kind| unit_of(packet, *kind).is_some())
}

/// Fills in what a container does not say of such pictures.
pub fn complete(packet: &[u8], v: &mut VideoTrack) {
    let Some((_, seen)) = sequence(packet) else { return };
    if v.width == 0 || v.height == 0 {
        (v.width, v.height, v.pixel_shape) = (seen.width, seen.height, seen.pixel_shape);
    }
    (v.chroma, v.depth, v.fields) = (seen.chroma, seen.depth, seen.fields);
    v.profile = v.profile.take().or(seen.profile);
    v.level = v.level.take().or(seen.level);
    if v.colour == Colour::default() {
        v.colour = seen.colour;
    }
    v.rate = v.rate.or(seen.rate);
}

fn extend(b: &[u8], v: &mut VideoTrack, rate: &mut Ratio) -> Option<()> {
    let mut b = Bits::new(b);
    b.take(4)?;
    let level_and_profile = b.take(8)?;
    let progressive = b.flag()?;
    let chroma = b.take(2)?;
    v.width |= b.take(2)? << 12;
    v.height |= b.take(2)? << 12;
    b.take(12 + 1 + 8 + 1)?;
    let (n, d) = (b.take(2)? + 1, b.take(5)? + 1);
    *rate = Ratio::new(u64::from(rate.num) * u64::from(n), u64::from(rate.den) * u64::from(d))?;
    v.fields = if progressive { Fields::Progressive } else { Fields::Interlaced };
    v.chroma = Some(match chroma {
        2 => Chroma::C422,
        3 => Chroma::C444,
        _ => Chroma::C420,
    });
    // Table 8-1 and 8-2.
    v.profile = Some(
        match level_and_profile >> 4 & 7 {
            _ if level_and_profile & 0x80 != 0 => "4:2:2",
            1 => "High",
            2 => "Spatially Scalable",
            3 => "SNR Scalable",
            4 => "Main",
            5 => "Simple",
            _ => "unknown",
        }
        .into(),
    );
    v.level = match level_and_profile & 15 {
        _ if level_and_profile & 0x80 != 0 => None,
        4 => Some("High"),
        6 => Some("High 1440"),
        8 => Some("Main"),
        10 => Some("Low"),
        _ => None,
    }
    .map(String::from);
    Some(())
}

/// Sequence display extension: colour (6.2.2.4).
fn display(bytes: &[u8], v: &mut VideoTrack) {
    let Some(at) = bytes.windows(5).position(|w| w[..4] == [0, 0, 1, 0xb5] && w[4] >> 4 == 2) else { return };
    if let Some(&[flags, primaries, transfer, matrix]) = bytes.get(at + 4..at + 8)
        && flags & 1 == 1
    {
        v.colour = Colour { primaries, transfer, matrix, full_range: false };
    }
}

/// Profile of a visual object sequence header (14496-2, table G.1).
pub fn part2_profile(setup: &[u8]) -> Option<&'static str> {
    let at = setup.windows(4).position(|w| w == [0, 0, 1, 0xb0])?;
    Some(match setup.get(at + 4)? {
        0x01..=0x06 | 0x08 | 0x09 => "Simple",
        0xf0..=0xf7 => "Advanced Simple",
        0x31..=0x34 => "Core",
        0xe1..=0xec => "Simple Studio",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_interlaced_broadcast_sequence_is_told() {
        let mut bytes = vec![9, 0, 0, 1, 0xb3, 0x2d, 0x02, 0x40, 0x33, 0xff, 0xff, 0xe0, 0x18];
        bytes.extend([0, 0, 1, 0xb5, 0x14, 0x82, 0x00, 0x01, 0x00, 0x00]);
        let (codec, v) = sequence(&bytes).unwrap();
        assert_eq!((codec.name().as_str(), v.width, v.height), ("MPEG-2", 720, 576));
        assert_eq!(
            (v.fields, v.profile.as_deref(), v.level.as_deref()),
            (Fields::Interlaced, Some("Main"), Some("Main"))
        );
        assert_eq!((v.rate, v.pixel_shape), (Ratio::new(25, 1), Ratio::new(64, 45).unwrap()));
        assert_eq!(sequence(&bytes[..8]), None);
    }
}
