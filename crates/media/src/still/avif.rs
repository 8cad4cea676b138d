//! Writing AVIF (AV1 Image File Format 1.1): one AV1 picture as an item of a HEIF file (ISO/IEC 23008-12). It is read by
//! [`super::heif`].

use super::SRGB;
use super::colour::to_frame;
use crate::codec::av1_encode;
use crate::container::mp4::boxes::Builder;
use crate::error::{Error, Result};
use crate::filter::video::flatten::flatten;
use crate::filter::video::{Converter, Wanted};
use crate::frame::{Chroma, Colour, Pool, VideoFrame};
use image::DynamicImage;
use std::io::Write;

/// What pictures are coded in: the full range, as stills are, and BT.709's luma.
const COLOUR: Colour = Colour { matrix: 1, full_range: true, ..SRGB };

/// A coded picture: the setup record, and its packet.
type Coded = (Vec<u8>, Vec<u8>);

/// In 8 or 10 bits, with its coverage if it has one. Sides are even and at least [`av1_encode::LEAST`].
pub fn write(picture: &DynamicImage, depth: u8, quality: u8, out: &mut dyn Write) -> Result<()> {
    av1_encode::there()?;
    let (w, h) = (picture.width(), picture.height());
    if w < av1_encode::LEAST || h < av1_encode::LEAST {
        let least = av1_encode::LEAST;
        return Err(Error::unsupported("AVIF", format!("{w}x{h}; it is made from {least}x{least} on")));
    }
    let pool = Pool::new();
    let seen = to_frame(picture, &pool)?;
    let code = |f: &VideoFrame| av1_encode::still(f, quantiser(quality));
    let wanted = Wanted { chroma: Chroma::C420, depth, full_range: true, dither: false };
    let mut colours = Converter::to(wanted, pool.clone()).convert(&flatten(&seen, None, &pool)?)?;
    colours.colour = COLOUR;
    let mut items = vec![code(&colours)?];
    if seen.chroma == Chroma::Rgba {
        items.push(code(&coverage(&seen, depth, &pool)?)?);
    }
    let mut b = Builder::new();
    b.put(b"ftyp", |b| {
        b.raw(b"avif");
        b.u32(0);
        b.raw(b"avifmif1miaf");
    });
    // The places of the pictures are behind this box, whose size does not hang on them.
    let size = meta((w, h), depth, &items, 0).len();
    let at = b.bytes.len() + size + 8;
    b.raw(&meta((w, h), depth, &items, at as u32));
    b.put(b"mdat", |b| items.iter().for_each(|(_, packet)| b.raw(packet)));
    Ok(out.write_all(&b.bytes)?)
}

/// How far a picture covers what is behind it, as luma: not every encoder makes pictures without differences of colour.
fn coverage(seen: &VideoFrame, depth: u8, pool: &Pool) -> Result<VideoFrame> {
    let mut f = VideoFrame::new(pool, seen.width, seen.height, Chroma::C420, depth)?;
    f.colour = COLOUR;
    let [luma, differences @ ..] = &mut f.planes[..] else { return Ok(f) };
    let (from, to) = ((1u32 << seen.depth) - 1, (1u32 << depth) - 1);
    for y in 0..seen.height {
        for x in 0..seen.width {
            let v = u32::from(seen.planes[3].at(x, y));
            luma.put(x as usize, y as usize, ((v * to + from / 2) / from) as u16);
        }
    }
    differences.iter_mut().for_each(|p| p.fill(1 << (depth - 1)));
    Ok(f)
}

/// AV1's quantiser for qualities of JPEG's scale: PSNR is 1 to 2 dB higher, measured on a photograph, because at the same one
/// this encoder leaves less of the colours.
const SCALE: [(u32, u32); 10] =
    [(1, 63), (10, 53), (20, 46), (40, 41), (60, 35), (75, 29), (85, 21), (90, 15), (95, 5), (100, 1)];

fn quantiser(quality: u8) -> u32 {
    let quality = u32::from(quality).clamp(1, 100);
    let above = SCALE.iter().position(|s| s.0 >= quality).unwrap_or(SCALE.len() - 1).max(1);
    let ((q0, n0), (q1, n1)) = (SCALE[above - 1], SCALE[above]);
    n0 - (n0 - n1) * (quality - q0) / (q1 - q0)
}

/// 23008-12, 6.2, 6.4 and 6.5: the items one after the other, what they are, where they lie and how they are shown. The second
/// is the coverage of the first.
fn meta((w, h): (u32, u32), depth: u8, items: &[Coded], mut at: u32) -> Vec<u8> {
    let mut b = Builder::new();
    let numbered = || (1u16..).zip(items);
    b.full(b"meta", 0, 0, |b| {
        b.full(b"hdlr", 0, 0, |b| {
            b.u32(0);
            b.raw(b"pict");
            b.zeros(13);
        });
        b.full(b"pitm", 0, 0, |b| b.u16(1));
        b.full(b"iloc", 0, 0, |b| {
            // Four bytes each for place and length, no base.
            b.u16(0x4400);
            b.u16(items.len() as u16);
            for (item, (_, packet)) in numbered() {
                b.u16(item);
                b.u16(0);
                b.u16(1);
                b.u32(at);
                b.u32(packet.len() as u32);
                at += packet.len() as u32;
            }
        });
        b.full(b"iinf", 0, 0, |b| {
            b.u16(items.len() as u16);
            for (item, _) in numbered() {
                b.full(b"infe", 2, 0, |b| {
                    b.u16(item);
                    b.u16(0);
                    b.raw(b"av01");
                    b.u8(0);
                });
            }
        });
        if items.len() > 1 {
            b.full(b"iref", 0, 0, |b| {
                b.put(b"auxl", |b| [2, 1, 1].into_iter().for_each(|v| b.u16(v)));
            });
        }
        b.put(b"iprp", |b| {
            b.put(b"ipco", |b| {
                b.full(b"ispe", 0, 0, |b| {
                    b.u32(w);
                    b.u32(h);
                });
                b.full(b"pixi", 0, 0, |b| b.raw(&[3, depth, depth, depth]));
                b.put(b"colr", |b| {
                    b.raw(b"nclx");
                    b.u16(COLOUR.primaries.into());
                    b.u16(COLOUR.transfer.into());
                    b.u16(COLOUR.matrix.into());
                    b.u8(0x80);
                });
                items.iter().for_each(|(record, _)| b.put(b"av1C", |b| b.raw(record)));
                if items.len() > 1 {
                    b.full(b"auxC", 0, 0, |b| b.raw(COVERAGE));
                }
            });
            b.full(b"ipma", 0, 0, |b| {
                b.u32(items.len() as u32);
                b.u16(1);
                // Who does not understand the configuration must not show it.
                b.raw(&[4, 1, 2, 3, MUST | 4]);
                if items.len() > 1 {
                    b.u16(2);
                    b.raw(&[4, 1, 2, MUST | 5, MUST | 6]);
                }
            });
        });
    });
    b.bytes
}

/// A property that cannot be done without.
const MUST: u8 = 0x80;
/// What a picture beside another is (23008-12, 6.5.8; H.273's name for coverage), with the end of its text.
const COVERAGE: &[u8] = b"urn:mpeg:mpegB:cicp:systems:auxiliary:alpha\0";

#[cfg(test)]
mod tests {
    use super::super::frame_of;
    use super::*;
    use image::Rgba;
    use rstest::rstest;
    use std::io::Cursor;

    #[test]
    fn more_quality_is_a_finer_quantiser() {
        let all: Vec<u32> = (0..=255).map(quantiser).collect();
        assert!(all.is_sorted_by(|a, b| a >= b), "{all:?}");
        assert_eq!((all[1], all[85], all[100], all[255]), (63, 21, 1, 1));
    }

    /// Coverage is read again beside the colours, in as many bits as they have.
    #[rstest]
    fn coverage_and_depth_are_kept(#[values(8, 10)] depth: u8, #[values(false, true)] seen: bool) {
        let picture = image::ImageBuffer::from_fn(96, 64, |x, y| {
            Rgba([
                20_000 + x as u16 * 40,
                30_000,
                40_000,
                if seen { y as u16 * 1000 + 500 } else { u16::MAX },
            ])
        });
        let picture = DynamicImage::ImageRgba16(picture);
        let picture = if seen { picture } else { picture.to_rgb16().into() };
        let mut out = Cursor::new(Vec::new());
        write(&picture, depth, 95, &mut out).unwrap();
        let f = frame_of(&mut out, &Pool::new()).unwrap();
        // A frame has 16 bits where its picture has more than 8.
        assert_eq!((f.width, f.height, f.depth > 8), (96, 64, depth > 8));
        assert_eq!(f.chroma == Chroma::Rgba, seen);
        let top = f64::from((1u32 << f.depth) - 1) / 65_535.0;
        for (x, y) in [(8, 8), (50, 30), (90, 60)] {
            let want = [20_000 + x * 40, 30_000, 40_000, y * 1000 + 500];
            for (plane, want) in f.planes.iter().zip(want) {
                let off = (f64::from(plane.at(x, y)) / top - f64::from(want)).abs();
                assert!(off < 900.0, "at {x}, {y}: {} off, of {depth} bits", off);
            }
        }
        // A slope of so few steps is smooth in ten bits only.
        let steps: std::collections::BTreeSet<u16> = (0..96).map(|x| f.planes[0].at(x, 20)).collect();
        assert!(if depth > 8 { steps.len() > 30 } else { steps.len() < 24 }, "{} steps", steps.len());
    }

    #[test]
    fn what_it_does_not_hold_is_refused() {
        let small = DynamicImage::new_rgb8(14, 80);
        assert!(
            write(&small, 8, 80, &mut Vec::new()).unwrap_err().to_string().contains("14x80; it is made from")
        );
    }
}
