//! DPX (SMPTE ST 268-1:2014): file header 5.1, image header 5.2, television header 5.5, packing of samples
//! annex C. Red, green, blue (with or without coverage) and luma are read, in 8, 10, 12 and 16 bits.

use super::{StillFacts, check_area};
use crate::container::Source;
use crate::error::{Error, Result};
use crate::frame::Chroma;
use image::{DynamicImage, ImageBuffer};
use std::io::{Read, SeekFrom};

const HEADER: usize = 2048;
/// All bits set: not stated.
const UNSTATED: u32 = u32::MAX;

pub fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"SDPX") || head.starts_with(b"XPDS") { 100 } else { 0 }
}

struct Header {
    little: bool,
    bytes: Vec<u8>,
}

impl Header {
    fn read(source: &mut dyn Source) -> Result<Header> {
        source.seek(SeekFrom::Start(0))?;
        let mut bytes = Vec::with_capacity(HEADER);
        source.take(HEADER as u64).read_to_end(&mut bytes)?;
        if bytes.len() < 1664 {
            return Err(Error::damaged("DPX", "cut off: the header is not whole"));
        }
        bytes.resize(HEADER, 0xff);
        Ok(Header { little: bytes.starts_with(b"XPDS"), bytes })
    }
    fn u32(&self, at: usize) -> u32 {
        let b = [self.bytes[at], self.bytes[at + 1], self.bytes[at + 2], self.bytes[at + 3]];
        if self.little { u32::from_le_bytes(b) } else { u32::from_be_bytes(b) }
    }
    fn u16(&self, at: usize) -> u16 {
        let b = [self.bytes[at], self.bytes[at + 1]];
        if self.little { u16::from_le_bytes(b) } else { u16::from_be_bytes(b) }
    }
}

struct Element {
    width: u32,
    height: u32,
    chroma: Chroma,
    bits: u8,
    /// 0 packed tight, 1 filled at the low end of words, 2 at the high end.
    packing: u16,
    at: u64,
    end_of_line: u32,
    little: bool,
    transfer: u8,
    timecode: Option<String>,
}

/// Red, green and blue of 16 bits as a file of 10, three in a word, filled at the low end (annex C, method A).
pub fn write(words: &[u16], (w, h): (u32, u32)) -> Vec<u8> {
    let mut out = vec![0xff; HEADER];
    let size = HEADER as u32 + w * h * 4;
    let mut put = |at: usize, v: &[u8]| out[at..at + v.len()].copy_from_slice(v);
    put(0, b"SDPX");
    put(8, b"V2.0\0\0\0\0");
    for (at, v) in [(4, HEADER as u32), (16, size), (20, 1), (24, 1664), (28, 384), (32, 0), (660, UNSTATED)]
    {
        put(at, &v.to_be_bytes());
    }
    // Names: none but the program's.
    put(36, &[0; 624]);
    put(160, b"Deft Porter");
    // Left to right and down, one element.
    put(768, &[0, 0, 0, 1]);
    for (at, v) in
        [(772, w), (776, h), (780, 0), (784, 0), (792, 1023), (808, HEADER as u32), (812, 0), (816, 0)]
    {
        put(at, &v.to_be_bytes());
    }
    // Red, green and blue with the curve and the colours of ITU-R BT.709, 10 bits, filled, not coded.
    put(800, &[50, 6, 6, 10, 0, 1, 0, 0]);
    put(820, &[0; 32]);
    for at in [1432, 1532, 1556, 1588] {
        put(at, &[0; 24]);
    }
    for p in words.chunks_exact(3) {
        let ten = |v: u16| (u32::from(v) * 1023 + 32_767) / 65_535;
        let v = ten(p[0]) << 22 | ten(p[1]) << 12 | ten(p[2]) << 2;
        out.extend(v.to_be_bytes());
    }
    out
}

fn element(h: &Header) -> Result<Element> {
    let (width, height) = (h.u32(772), h.u32(776));
    check_area("DPX", width, height)?;
    let chroma = match h.bytes[800] {
        50 => Chroma::Rgb,
        51 => Chroma::Rgba,
        6 => Chroma::Gray,
        n => {
            return Err(Error::unsupported(
                "DPX",
                format!("pictures of descriptor {n}; 6 (luma), 50 and 51 (red, green, blue) are read"),
            ));
        }
    };
    let bits = h.bytes[803];
    if !matches!(bits, 8 | 10 | 12 | 16) {
        return Err(Error::unsupported("DPX", format!("{bits} bits a sample; 8, 10, 12 and 16 are read")));
    }
    if h.u16(806) == 1 {
        return Err(Error::unsupported("DPX", "run-length coded samples"));
    }
    let packing = h.u16(804);
    if packing > 2 {
        return Err(Error::damaged("DPX", format!("packing {packing}; 0 to 2")));
    }
    let own = h.u32(808);
    let at = if own == UNSTATED || own == 0 { h.u32(4) } else { own };
    let pad = h.u32(812);
    // Time code of the television header: binary coded decimals.
    let tc = h.u32(1920);
    let digits = (0..8).all(|i| tc >> (4 * i) & 15 < 10);
    let timecode = (tc != UNSTATED && digits)
        .then(|| format!("{:02x}:{:02x}:{:02x}:{:02x}", tc >> 24, tc >> 16 & 255, tc >> 8 & 255, tc & 255));
    Ok(Element {
        width,
        height,
        chroma,
        bits,
        packing,
        at: at.into(),
        end_of_line: if pad == UNSTATED { 0 } else { pad },
        little: h.little,
        transfer: h.bytes[801],
        timecode,
    })
}

pub fn facts(source: &mut dyn Source) -> Result<StillFacts> {
    let e = element(&Header::read(source)?)?;
    let mut f = StillFacts::new("DPX", e.width, e.height, e.bits, e.chroma);
    f.timecode = e.timecode;
    if matches!(e.transfer, 1 | 3) {
        f.remarks.push("samples are densities of film; they are shown as they are".into());
    }
    Ok(f)
}

impl Element {
    fn samples_in_row(&self) -> usize {
        self.width as usize * self.chroma.planes()
    }
    fn row_bytes(&self) -> usize {
        let n = self.samples_in_row();
        let words = |bits: usize| bits.div_ceil(32) * 4;
        let row = match (self.bits, self.packing) {
            (8, _) => words(n * 8),
            (10, 0) => words(n * 10),
            (10, _) => n.div_ceil(3) * 4,
            (12, 0) => words(n * 12),
            _ => n * 2,
        };
        row + self.end_of_line as usize
    }

    fn word(&self, row: &[u8], i: usize) -> u32 {
        let b = row.get(i * 4..i * 4 + 4).map_or([0; 4], |b| [b[0], b[1], b[2], b[3]]);
        if self.little { u32::from_le_bytes(b) } else { u32::from_be_bytes(b) }
    }

    /// A sample as it is stored.
    fn sample(&self, row: &[u8], i: usize) -> u32 {
        match (self.bits, self.packing) {
            (8, _) => row.get(i).copied().unwrap_or(0).into(),
            // Three in a word, the first on top; the two free bits are low (1) or high (2).
            (10, 1 | 2) => {
                let shift = [20, 10, 0][i % 3] + if self.packing == 1 { 2 } else { 0 };
                self.word(row, i / 3) >> shift & 0x3ff
            }
            (12, 1 | 2) | (16, _) => {
                let b = row.get(i * 2..i * 2 + 2).map_or([0; 2], |b| [b[0], b[1]]);
                let v = u32::from(if self.little { u16::from_le_bytes(b) } else { u16::from_be_bytes(b) });
                match (self.bits, self.packing) {
                    (12, 1) => v >> 4,
                    (12, _) => v & 0xfff,
                    _ => v,
                }
            }
            // Tight: samples fill words from the low end and go on in the next.
            (bits, _) => {
                let at = i * usize::from(bits);
                let two = u64::from(self.word(row, at / 32)) | u64::from(self.word(row, at / 32 + 1)) << 32;
                (two >> (at % 32)) as u32 & ((1 << bits) - 1)
            }
        }
    }
}

pub fn decode(source: &mut dyn Source) -> Result<DynamicImage> {
    let e = element(&Header::read(source)?)?;
    let there = source.seek(SeekFrom::End(0))?;
    let need = e.row_bytes() as u64 * u64::from(e.height);
    if e.at.saturating_add(need) > there + u64::from(e.end_of_line) {
        return Err(Error::damaged(
            "DPX",
            format!("cut off: {need} bytes of samples from byte {}, but the file ends at {there}", e.at),
        ));
    }
    source.seek(SeekFrom::Start(e.at))?;
    let n = e.samples_in_row();
    let mut row = vec![0; e.row_bytes()];
    let mut eight = Vec::new();
    let mut deep = Vec::new();
    let most = (1u32 << e.bits) - 1;
    for y in 0..e.height {
        let last = y + 1 == e.height;
        let len = if last { row.len() - e.end_of_line as usize } else { row.len() };
        source.read_exact(&mut row[..len])?;
        if e.bits == 8 {
            eight.extend((0..n).map(|i| e.sample(&row, i) as u8));
        } else {
            deep.extend((0..n).map(|i| ((e.sample(&row, i) * 65_535 + most / 2) / most) as u16));
        }
    }
    let (w, h) = (e.width, e.height);
    let picture = match (e.bits, e.chroma) {
        (8, Chroma::Rgb) => ImageBuffer::from_raw(w, h, eight).map(DynamicImage::ImageRgb8),
        (8, Chroma::Rgba) => ImageBuffer::from_raw(w, h, eight).map(DynamicImage::ImageRgba8),
        (8, _) => ImageBuffer::from_raw(w, h, eight).map(DynamicImage::ImageLuma8),
        (_, Chroma::Rgb) => ImageBuffer::from_raw(w, h, deep).map(DynamicImage::ImageRgb16),
        (_, Chroma::Rgba) => ImageBuffer::from_raw(w, h, deep).map(DynamicImage::ImageRgba16),
        _ => ImageBuffer::from_raw(w, h, deep).map(DynamicImage::ImageLuma16),
    };
    picture.ok_or_else(|| Error::limit("DPX", "too large to be put together"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Cursor;

    /// A file of one row, written word by word.
    fn file(bits: u8, packing: u16, width: u32, little: bool, body: &[u32]) -> Vec<u8> {
        let mut b = vec![0xff; HEADER];
        b[..4].copy_from_slice(if little { b"XPDS" } else { b"SDPX" });
        let mut put = |at: usize, v: u32| {
            b[at..at + 4].copy_from_slice(&if little { v.to_le_bytes() } else { v.to_be_bytes() })
        };
        put(4, HEADER as u32);
        put(772, width);
        put(776, 1);
        put(808, HEADER as u32);
        put(812, 0);
        put(1920, 0x1001_0203);
        b[800] = 50;
        b[803] = bits;
        let p = if little { packing.to_le_bytes() } else { packing.to_be_bytes() };
        b[804..806].copy_from_slice(&p);
        b[806..808].fill(0);
        for w in body {
            b.extend(if little { w.to_le_bytes() } else { w.to_be_bytes() });
        }
        b
    }

    #[rstest]
    #[case::ten_filled(10, 1, &[1023 << 22 | 512 << 12 | 1 << 2], [65_535, 32_800, 64])]
    #[case::ten_filled_high(10, 2, &[1023 << 20 | 512 << 10 | 1], [65_535, 32_800, 64])]
    #[case::ten_tight(10, 0, &[1023 | 512 << 10 | 1 << 20], [65_535, 32_800, 64])]
    #[case::twelve_tight(12, 0, &[4095 | 1 << 12 | 2048 << 24, 2048 >> 8], [65_535, 16, 32_776])]
    #[case::sixteen(16, 0, &[0xffff_0001, 0x8000_0000], [65_535, 1, 32_768])]
    fn samples_are_taken_out_of_words(
        #[case] bits: u8,
        #[case] packing: u16,
        #[case] body: &[u32],
        #[case] want: [u16; 3],
        #[values(false, true)] little: bool,
    ) {
        if little && bits == 16 {
            // Two samples share a word only in the other order.
            return;
        }
        let bytes = file(bits, packing, 1, little, body);
        let mut source = Cursor::new(bytes);
        assert_eq!(decode(&mut source).unwrap().to_rgb16().get_pixel(0, 0).0, want);
        let f = facts(&mut source).unwrap();
        assert_eq!((f.depth, f.timecode.as_deref()), (bits, Some("10:01:02:03")));
    }

    #[test]
    fn cut_and_odd_files_are_refused() {
        let mut whole = file(10, 1, 100, false, &[0; 10]);
        let e = decode(&mut Cursor::new(whole.clone())).unwrap_err().to_string();
        assert!(e.contains("cut off"), "{e}");
        whole[803] = 64;
        assert!(facts(&mut Cursor::new(whole.clone())).is_err());
        whole.truncate(100);
        assert!(facts(&mut Cursor::new(whole)).is_err());
    }
}
