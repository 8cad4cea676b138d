//! A camera's raw picture is what its sensor saw. What is shown is the picture that the camera itself made of it and put beside
//! it, as large as it took it: a JPEG somewhere in the file, whatever the maker's form is. A small one is a thumbnail, and never
//! taken for the picture. A Digital Negative without a large one is developed.

use super::directory::Directory;
use super::dng::{self, Negative};
use super::{FORMATS, StillFacts, StillFormat, check_area, tiff, whole};
use crate::container::Source;
use crate::error::{Error, Result};
use crate::frame::Chroma;
use image::metadata::Orientation;
use image::{DynamicImage, ImageBuffer};
use std::io::Cursor;

const NAME: &str = "camera raw";
/// Pixels below which it is a thumbnail.
const LEAST: u64 = 1_000_000;

pub fn score(head: &[u8]) -> u8 {
    let is = head.starts_with(b"IIRO")
        || head.starts_with(b"IIU\0")
        || head.starts_with(b"MMOR")
        || head.starts_with(b"FUJIFILM")
        || head.get(4..12) == Some(b"ftypcrx ")
        || head.starts_with(b"II*\0") && head.get(8..10) == Some(b"CR");
    if is { 100 } else { 0 }
}

/// What is known of a maker's form by its first bytes, or what stands in its first directory.
fn kind(bytes: &[u8], source: &mut dyn Source) -> Result<&'static str> {
    Ok(match bytes {
        b if b.starts_with(b"FUJIFILM") => "RAF",
        b if b.starts_with(b"IIU\0") => "RW2",
        b if b.starts_with(b"IIRO") || b.starts_with(b"MMOR") => "ORF",
        b if b.get(4..12) == Some(b"ftypcrx ") => "CR3",
        b if b.get(8..10) == Some(b"CR") => "CR2",
        _ => match tiff::raw_kind(source)? {
            Some(k) if k.contains("DNG") => "DNG",
            _ => "TIFF/EP and its kin: NEF, ARW, PEF",
        },
    })
}

/// A JPEG in the middle of something: where it begins, and its size.
#[derive(Clone, Copy)]
struct Preview {
    at: usize,
    width: u32,
    height: u32,
}

/// The size that stands in the frame header of the JPEG that begins here (T.81, B.2.2), if it is one that is looked at.
fn size(b: &[u8]) -> Option<(u32, u32)> {
    let mut at = 2;
    loop {
        if *b.get(at)? != 0xff {
            return None;
        }
        let marker = *b.get(at + 1)?;
        match marker {
            0xff => {
                at += 1;
                continue;
            }
            // Baseline, extended and progressive; without loss it is what the sensor saw.
            0xc0..=0xc2 => {
                let (h, w) = (crate::bits::be16(b, at + 5)?, crate::bits::be16(b, at + 7)?);
                let good = *b.get(at + 4)? == 8 && matches!(*b.get(at + 9)?, 1 | 3) && w > 0 && h > 0;
                return good.then_some((w.into(), h.into()));
            }
            0xc4 | 0xdb | 0xdd | 0xe0..=0xef | 0xfe => {
                at += 2 + usize::from(crate::bits::be16(b, at + 2)?).max(2);
            }
            _ => return None,
        }
    }
}

/// The largest that there is.
fn preview(bytes: &[u8]) -> Option<Preview> {
    let mut best: Option<Preview> = None;
    let mut at = 0;
    while let Some(found) = bytes.get(at..).and_then(|b| b.windows(3).position(|w| w == [0xff, 0xd8, 0xff])) {
        at += found;
        if let Some((width, height)) = size(&bytes[at..]) {
            let area = |p: &Preview| u64::from(p.width) * u64::from(p.height);
            let this = Preview { at, width, height };
            if best.as_ref().is_none_or(|b| area(b) < area(&this)) {
                best = Some(this);
            }
        }
        at += 3;
    }
    best
}

/// What is shown of a file.
enum Shown<'a> {
    Preview(Preview),
    Developed(Box<Negative<'a>>),
}

/// The camera's own picture where it is as large as what its sensor saw; else that is developed, if it can be; else the camera's
/// own all the same, if it is no thumbnail.
fn shown<'a>(bytes: &'a [u8], kind: &str) -> Result<Shown<'a>> {
    let preview = preview(bytes);
    let large = preview.filter(|p| u64::from(p.width) * u64::from(p.height) >= LEAST);
    let mut why = String::new();
    match dng::find(bytes) {
        Some(Ok(n)) => {
            let (w, h) = n.size();
            // A few pixels at the edges are often left out of it.
            let full = |p: &Preview| {
                let most = |own: u32, of: u32| u64::from(own) * 10 >= u64::from(of) * 9;
                most(p.width.max(p.height), w.max(h)) && most(p.width.min(p.height), w.min(h))
            };
            return Ok(match large.filter(full) {
                Some(p) => Shown::Preview(p),
                None => Shown::Developed(Box::new(n)),
            });
        }
        Some(Err(what)) => why = format!(" {what}, which is not developed here, and"),
        None => (),
    }
    let instead = "a copy in JPEG, PNG or TIFF that was developed from it can be read";
    match (large, preview) {
        (Some(p), _) => Ok(Shown::Preview(p)),
        (None, Some(p)) => Err(Error::unsupported(
            "",
            format!(
                "this is a camera's raw picture ({kind}){why} with nothing but a thumbnail of {}x{} in it; {instead}",
                p.width, p.height
            ),
        )),
        (None, None) => Err(Error::unsupported(
            "",
            format!(
                "this is a camera's raw picture ({kind}){why} without a picture to look at in it; {instead}"
            ),
        )),
    }
}

/// The JPEG by itself, and how it is to be turned if it does not say so itself.
fn jpeg(bytes: &[u8], p: Preview) -> (Cursor<Vec<u8>>, Option<Orientation>) {
    let turn = Directory::first(bytes).and_then(|d| d.turn()).and_then(Orientation::from_exif);
    let jpeg = bytes[p.at..].to_vec();
    let says = jpeg[..4096.min(jpeg.len())].windows(6).any(|w| w == b"Exif\0\0");
    (Cursor::new(jpeg), turn.filter(|_| !says))
}

fn inner() -> Result<&'static StillFormat> {
    FORMATS.iter().find(|f| f.name == "JPEG").ok_or_else(|| Error::unsupported("", "no JPEG"))
}

pub fn facts(source: &mut dyn Source) -> Result<StillFacts> {
    let bytes = whole(NAME, source)?;
    let kind = kind(&bytes, source)?;
    let mut facts = match shown(&bytes, kind)? {
        Shown::Preview(p) => {
            let (mut jpeg, turn) = jpeg(&bytes, p);
            let mut facts = super::facts(inner()?, &mut jpeg)?;
            if let Some(turn) = turn {
                facts.turn(turn.to_exif());
            }
            facts.remarks.insert(
                0,
                format!(
                    "a camera's raw picture ({kind}): what is shown is the picture of {}x{} that the camera put beside it",
                    facts.width, facts.height
                ),
            );
            facts
        }
        Shown::Developed(n) => {
            let (w, h) = n.size();
            check_area(dng::NAME, w, h)?;
            let chroma = if n.gray() { Chroma::Gray } else { Chroma::Rgb };
            let mut facts = StillFacts::new(NAME, w, h, 16, chroma);
            facts.turn(n.turn);
            let by = "by the matrices in the file, without a tone curve";
            let mut remark =
                format!("a camera's raw picture ({kind}): what its sensor saw is developed {by}");
            if n.uncorrected {
                remark += "; corrections of lens and sensor that the file lists are not made";
            }
            facts.remarks.push(remark);
            facts
        }
    };
    facts.format = NAME;
    Ok(facts)
}

pub fn decode(source: &mut dyn Source) -> Result<DynamicImage> {
    let bytes = whole(NAME, source)?;
    let kind = kind(&bytes, source)?;
    let (mut picture, turn) = match shown(&bytes, kind)? {
        Shown::Preview(p) => {
            let (mut jpeg, turn) = jpeg(&bytes, p);
            (super::decode(inner()?, &mut jpeg)?, turn)
        }
        Shown::Developed(n) => {
            let (w, h) = n.size();
            let all = n.develop()?;
            let picture = match n.gray() {
                true => ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageLuma16),
                false => ImageBuffer::from_raw(w, h, all).map(DynamicImage::ImageRgb16),
            };
            let wrong = || Error::damaged(NAME, "a picture of another size than it says");
            (picture.ok_or_else(wrong)?, Orientation::from_exif(n.turn))
        }
    };
    if let Some(turn) = turn {
        picture.apply_orientation(turn);
    }
    Ok(picture)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::still::{facts_of, frame_of};

    fn jpeg_of(w: u32, h: u32) -> Vec<u8> {
        let picture = DynamicImage::ImageRgb8(image::RgbImage::from_fn(w, h, |x, y| {
            image::Rgb([x as u8, y as u8, 90])
        }));
        let mut out = Cursor::new(Vec::new());
        crate::still::convert(&picture, (0, 0), crate::still::StillCodec::Jpeg(85), &mut out).unwrap();
        out.into_inner()
    }

    /// A file of a maker: a start, a thumbnail, what the sensor saw, and a large picture.
    fn raw(start: &[u8], large: (u32, u32)) -> Vec<u8> {
        let mut all = start.to_vec();
        all.resize(512, 0);
        all.extend(jpeg_of(160, 120));
        // Noise with what looks like the beginning of a picture.
        all.extend((0..50_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8));
        all.extend([0xff, 0xd8, 0xff, 0xc3, 0, 17, 8]);
        all.extend(jpeg_of(large.0, large.1));
        all.extend([0; 1000]);
        all
    }

    #[test]
    fn the_large_picture_is_shown_and_told_for_what_it_is() {
        for start in [
            &b"IIRO\x08\0\0\0"[..],
            b"FUJIFILMCCD-RAW ",
            b"IIU\0\x18\0\0\0",
            b"\0\0\0\x18ftypcrx \0\0\0\x01crx isom",
        ] {
            let mut file = Cursor::new(raw(start, (1600, 1000)));
            let facts = facts_of(&mut file).unwrap();
            assert_eq!((facts.format, facts.width, facts.height), (NAME, 1600, 1000));
            assert!(facts.remarks[0].contains("that the camera put beside it"), "{:?}", facts.remarks);
            let f = frame_of(&mut file, &crate::frame::Pool::new()).unwrap();
            assert_eq!((f.width, f.height), (1600, 1000));
        }
    }

    #[test]
    fn a_thumbnail_is_never_taken_for_the_picture() {
        let e = facts_of(&mut Cursor::new(raw(b"IIRO\x08\0\0\0", (640, 480)))).unwrap_err();
        assert!(
            matches!(e, Error::Unsupported(_)) && e.to_string().contains("a thumbnail of 640x480"),
            "{e}"
        );
        let mut bare = b"FUJIFILMCCD-RAW ".to_vec();
        bare.resize(5000, 7);
        let e = facts_of(&mut Cursor::new(bare)).unwrap_err();
        assert!(e.to_string().contains("RAF") && e.to_string().contains("without a picture"), "{e}");
    }

    /// A directory in the form of TIFF says that the picture is to be turned.
    #[test]
    fn it_is_turned_as_its_directory_says() {
        let mut start = b"II*\0\x10\0\0\0CR\x02\0".to_vec();
        start.resize(16, 0);
        start.extend([1, 0, 0x12, 1, 3, 0, 1, 0, 0, 0, 6, 0, 0, 0, 0, 0, 0, 0]);
        let mut file = Cursor::new(raw(&start, (1600, 1000)));
        let facts = facts_of(&mut file).unwrap();
        assert_eq!((facts.width, facts.height), (1000, 1600));
        let f = frame_of(&mut file, &crate::frame::Pool::new()).unwrap();
        assert_eq!((f.width, f.height), (1000, 1600));
    }
}
