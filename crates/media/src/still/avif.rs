//! Writing AVIF (AV1 Image File Format 1.1): one AV1 picture as an item of a HEIF file (ISO/IEC 23008-12). It is read by
//! [`super::heif`].

use super::SRGB;
use super::colour::to_frame;
use crate::codec::av1_encode;
use crate::container::mp4::boxes::Builder;
use crate::error::{Error, Result};
use crate::filter::video::{Converter, Wanted};
use crate::frame::{Chroma, Colour, Pool};
use image::{DynamicImage, RgbImage};
use std::io::Write;

/// What the picture is coded in: the full range, as stills are, and BT.709's luma.
const FORM: Wanted = Wanted { chroma: Chroma::C420, depth: 8, full_range: true, dither: false };
const COLOUR: Colour = Colour { matrix: 1, full_range: true, ..SRGB };

/// Red, green and blue of 8 bits; sides are even and at least [`av1_encode::LEAST`].
pub fn write(rgb: Vec<u8>, (w, h): (u32, u32), quality: u8, out: &mut dyn Write) -> Result<()> {
    av1_encode::there()?;
    let picture = RgbImage::from_raw(w, h, rgb).map(DynamicImage::ImageRgb8);
    let picture =
        picture.ok_or_else(|| Error::limit("AVIF", "a picture of another size than its samples"))?;
    if w < av1_encode::LEAST || h < av1_encode::LEAST {
        let least = av1_encode::LEAST;
        return Err(Error::unsupported("AVIF", format!("{w}x{h}; it is made from {least}x{least} on")));
    }
    let pool = Pool::new();
    let mut frame = Converter::to(FORM, pool.clone()).convert(&to_frame(&picture, &pool)?)?;
    frame.colour = COLOUR;
    drop(picture);
    let (record, packet) = av1_encode::still(&frame, quantiser(quality))?;
    let mut b = Builder::new();
    b.put(b"ftyp", |b| {
        b.raw(b"avif");
        b.u32(0);
        b.raw(b"avifmif1miaf");
    });
    // The place of the picture is behind this box, whose size does not hang on it.
    let size = meta((w, h), &record, (0, packet.len())).len();
    let at = b.bytes.len() + size + 8;
    b.raw(&meta((w, h), &record, (at as u32, packet.len())));
    b.put(b"mdat", |b| b.raw(&packet));
    Ok(out.write_all(&b.bytes)?)
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

/// 23008-12, 6.2 and 6.5: one item, what it is, where it lies and how it is shown.
fn meta((w, h): (u32, u32), record: &[u8], (at, len): (u32, usize)) -> Vec<u8> {
    let mut b = Builder::new();
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
            b.u16(1);
            b.u16(1);
            b.u16(0);
            b.u16(1);
            b.u32(at);
            b.u32(len as u32);
        });
        b.full(b"iinf", 0, 0, |b| {
            b.u16(1);
            b.full(b"infe", 2, 0, |b| {
                b.u16(1);
                b.u16(0);
                b.raw(b"av01");
                b.u8(0);
            });
        });
        b.put(b"iprp", |b| {
            b.put(b"ipco", |b| {
                b.full(b"ispe", 0, 0, |b| {
                    b.u32(w);
                    b.u32(h);
                });
                b.full(b"pixi", 0, 0, |b| b.raw(&[3, 8, 8, 8]));
                b.put(b"av1C", |b| b.raw(record));
                b.put(b"colr", |b| {
                    b.raw(b"nclx");
                    b.u16(COLOUR.primaries.into());
                    b.u16(COLOUR.transfer.into());
                    b.u16(COLOUR.matrix.into());
                    b.u8(0x80);
                });
            });
            b.full(b"ipma", 0, 0, |b| {
                b.u32(1);
                b.u16(1);
                // Who does not understand the configuration must not show it.
                b.raw(&[4, 1, 2, 0x80 | 3, 4]);
            });
        });
    });
    b.bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_quality_is_a_finer_quantiser() {
        let all: Vec<u32> = (0..=255).map(quantiser).collect();
        assert!(all.is_sorted_by(|a, b| a >= b), "{all:?}");
        assert_eq!((all[1], all[85], all[100], all[255]), (63, 21, 1, 1));
    }

    #[test]
    fn what_it_does_not_hold_is_refused() {
        let why = |size: (u32, u32), samples| {
            write(vec![0; samples], size, 80, &mut Vec::new()).unwrap_err().to_string()
        };
        assert!(why((62, 80), 62 * 80 * 3).contains("from 64x64 on"));
        assert!(why((64, 64), 7).contains("another size"));
    }
}
