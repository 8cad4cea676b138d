//! Whether a JPEG (ITU-T T.81) is whole. Decoders show what there is of a picture that was cut off or spoilt, with gray
//! or smeared blocks for the rest: good for looking at it, wrong for making others of it.

use super::check_area;
use crate::container::Source;
use crate::error::{Error, Result};
use image::metadata::Orientation;
use image::{DynamicImage, GrayImage, RgbImage};
use std::io::{BufReader, Read, SeekFrom};
use zune_jpeg::JpegDecoder;
use zune_jpeg::errors::DecodeErrors;
use zune_jpeg::zune_core::bytestream::ZCursor;
use zune_jpeg::zune_core::colorspace::ColorSpace;
use zune_jpeg::zune_core::options::DecoderOptions;

const SOI: u8 = 0xd8;
const EOI: u8 = 0xd9;
const SOS: u8 = 0xda;

/// A picture as it is coded, how it is to be turned, and its colour profile.
pub struct Coded {
    pub picture: DynamicImage,
    pub orientation: Orientation,
    pub profile: Option<Vec<u8>>,
}

/// The first picture of a file. Damaged: no end marker behind the last scan (cut off), or a scan that a decoder which
/// forgives nothing refuses.
pub fn decode(source: &mut dyn Source) -> Result<Coded> {
    source.seek(SeekFrom::Start(0))?;
    let mut bytes = Vec::new();
    BufReader::new(&mut *source).take(crate::limits::MAX_STILL_BYTES).read_to_end(&mut bytes)?;
    let end = end(&bytes)?;
    let bytes = &bytes[..end];
    scan::check(bytes)?;
    let side = crate::limits::MAX_PICTURE_SIDE as usize * 4;
    let options = DecoderOptions::default().set_strict_mode(true).set_max_width(side).set_max_height(side);
    let mut decoder = JpegDecoder::new_with_options(ZCursor::new(bytes), options);
    decoder.decode_headers().map_err(wrong)?;
    let Some((w, h)) = decoder.dimensions() else {
        return Err(Error::damaged("JPEG", "it does not say how large its picture is"));
    };
    let (w, h) = (w as u32, h as u32);
    check_area("JPEG", w, h)?;
    let is_gray = decoder.input_colorspace() == Some(ColorSpace::Luma);
    let colours = if is_gray { ColorSpace::Luma } else { ColorSpace::RGB };
    let options = decoder.options().jpeg_set_out_colorspace(colours);
    decoder.set_options(options);
    let samples = decoder.decode().map_err(wrong)?;
    let picture = if is_gray {
        GrayImage::from_raw(w, h, samples).map(DynamicImage::ImageLuma8)
    } else {
        RgbImage::from_raw(w, h, samples).map(DynamicImage::ImageRgb8)
    };
    let picture = picture.ok_or_else(|| Error::damaged("JPEG", "less of its picture than its size says"))?;
    let turn = decoder.exif().and_then(|exif| Orientation::from_exif_chunk(exif));
    let orientation = turn.unwrap_or(Orientation::NoTransforms);
    Ok(Coded { picture, orientation, profile: decoder.icc_profile() })
}

fn wrong(e: DecodeErrors) -> Error {
    match e {
        DecodeErrors::Unsupported(what) => Error::unsupported("JPEG", format!("{what:?}")),
        DecodeErrors::LargeDimensions(_) => Error::limit("JPEG", e.to_string()),
        e => Error::damaged("JPEG", format!("its picture data is spoilt ({e})")),
    }
}

/// The place behind the end marker of the first picture (B.1 and B.2).
fn end(b: &[u8]) -> Result<usize> {
    let cut = |at: usize, what: &str| {
        Error::damaged_at("JPEG", at as u64, format!("{what}: the file is cut off, or still being copied"))
    };
    let mut at = 2;
    let mut scans = 0;
    loop {
        // Fill bytes may stand in front of a marker.
        while b.get(at) == Some(&0xff) && b.get(at + 1) == Some(&0xff) {
            at += 1;
        }
        let (Some(0xff), Some(&marker)) = (b.get(at), b.get(at + 1)) else {
            return Err(match b.get(at) {
                None | Some(0xff) => cut(at, "no end of the picture"),
                Some(_) => Error::damaged_at("JPEG", at as u64, "no marker where one must be"),
            });
        };
        at += 2;
        match marker {
            EOI if scans > 0 => return Ok(at),
            EOI => return Err(Error::damaged_at("JPEG", at as u64, "the picture ends before it began")),
            SOI | 0x01 | 0xd0..=0xd7 => continue,
            _ => (),
        }
        let len =
            usize::from(crate::bits::be16(b, at).ok_or_else(|| cut(at, "a segment without its length"))?);
        at += len.max(2);
        if at > b.len() {
            return Err(cut(at, "a segment that is not all there"));
        }
        if marker == SOS {
            scans += 1;
            // Coded data: a 0xff in it is followed by 0, or is a restart marker.
            loop {
                let Some(n) = memchr::memchr(0xff, &b[at..]) else {
                    return Err(cut(b.len(), "no end of the picture"));
                };
                at += n;
                match b.get(at + 1) {
                    Some(0 | 0xd0..=0xd7) => at += 2,
                    Some(0xff) => at += 1,
                    Some(_) => break,
                    None => return Err(cut(b.len(), "no end of the picture")),
                }
            }
        }
    }
}

/// The coded data of a sequential picture, walked code by code (F.2.2): what is spoilt somewhere in it makes the walk
/// end at another place than the scan does. Progressive pictures are left to the decoder.
mod scan {
    use super::{Error, Result, SOS};
    use crate::bits::be16;

    /// Codes up to this long are found in one step.
    const SHORT: u32 = 9;

    /// Codes of one table by length and value, as C.2 makes them.
    #[derive(Clone, Default)]
    struct Codes {
        /// For each length: the first code, the first symbol's place, how many.
        lengths: [(u32, usize, u32); 17],
        symbols: Vec<u8>,
        /// By the next bits: the length of the code that they begin with, and its symbol; no length: a longer one, or none.
        short: Vec<(u8, u8)>,
    }

    impl Codes {
        fn parse(counts: &[u8], symbols: &[u8]) -> Codes {
            let short = vec![(0, 0); 1 << SHORT];
            let mut codes = Codes { symbols: symbols.to_vec(), short, ..Codes::default() };
            let (mut code, mut at) = (0u32, 0);
            for (len, &n) in counts.iter().enumerate() {
                codes.lengths[len + 1] = (code, at, n.into());
                let rest = SHORT.saturating_sub(len as u32 + 1);
                for one in 0..usize::from(n).min(symbols.len().saturating_sub(at)) {
                    let from = (code as usize + one) << rest;
                    if let Some(all) = codes.short.get_mut(from..from + (1 << rest))
                        && len < SHORT as usize
                    {
                        all.fill((len as u8 + 1, symbols[at + one]));
                    }
                }
                at += usize::from(n);
                code = (code + u32::from(n)) << 1;
            }
            codes
        }
    }

    /// The bits of coded data up to a marker: of a 0xff with a 0 behind it, which is a value, the 0 is left out.
    struct Bits<'a> {
        b: &'a [u8],
        /// Of the next byte that is not held yet.
        at: usize,
        held: u64,
        left: u32,
    }

    impl Bits<'_> {
        fn fill(&mut self) {
            while self.left <= 56 {
                let Some(&byte) = self.b.get(self.at) else { return };
                if byte == 0xff {
                    if self.b.get(self.at + 1) != Some(&0) {
                        return;
                    }
                    self.at += 1;
                }
                self.at += 1;
                self.held = self.held << 8 | u64::from(byte);
                self.left += 8;
            }
        }

        /// What is held to the end of a byte is passed over; false: there is more than that.
        fn ends_here(&mut self) -> bool {
            self.fill();
            let more = self.left >= 8;
            self.left = 0;
            !more
        }

        fn skip(&mut self, n: u32) -> Option<()> {
            if n > self.left {
                self.fill();
            }
            self.left = self.left.checked_sub(n)?;
            Some(())
        }

        fn symbol(&mut self, codes: &Codes) -> Option<u8> {
            if self.left < 16 {
                self.fill();
            }
            // The next 16 bits; behind the end zeros, which are not counted.
            let next =
                if self.left < 16 { self.held << (16 - self.left) } else { self.held >> (self.left - 16) };
            let next = (next & 0xffff) as u32;
            let (len, symbol) = codes.short.get((next >> (16 - SHORT)) as usize).copied()?;
            if len > 0 {
                self.left = self.left.checked_sub(len.into())?;
                return Some(symbol);
            }
            for len in SHORT + 1..17 {
                let (first, place, n) = codes.lengths[len as usize];
                let behind = (next >> (16 - len)).wrapping_sub(first);
                if behind < n {
                    self.left = self.left.checked_sub(len)?;
                    return codes.symbols.get(place + behind as usize).copied();
                }
            }
            None
        }
    }

    #[derive(Clone, Copy, Default)]
    struct Component {
        id: u8,
        blocks: u32,
        h: u32,
        v: u32,
        dc: usize,
        ac: usize,
    }

    pub fn check(b: &[u8]) -> Result<()> {
        let spoilt = |at: usize, what: &str| {
            Err(Error::damaged_at("JPEG", at as u64, format!("its picture data is spoilt: {what}")))
        };
        let (mut dc, mut ac) = (vec![Codes::default(); 4], vec![Codes::default(); 4]);
        let mut components: Vec<Component> = Vec::new();
        let (mut size, mut interval) = ((0, 0), 0u32);
        let mut at = 2;
        while let (Some(0xff), Some(&marker)) = (b.get(at), b.get(at + 1)) {
            at += 2;
            if marker == 0xff {
                at -= 1;
                continue;
            }
            if matches!(marker, 0x01 | 0xd0..=0xd9) {
                continue;
            }
            let Some(body) = be16(b, at).and_then(|n| b.get(at + 2..at + usize::from(n.max(2)))) else {
                return Ok(());
            };
            at += body.len() + 2;
            match marker {
                0xc4 => {
                    let mut rest = body;
                    while let Some((head, tail)) = rest.split_at_checked(17) {
                        let n: usize = head[1..].iter().map(|&n| usize::from(n)).sum();
                        let Some((symbols, tail)) = tail.split_at_checked(n) else { break };
                        let list = if head[0] >> 4 == 0 { &mut dc } else { &mut ac };
                        list[usize::from(head[0] & 3)] = Codes::parse(&head[1..], symbols);
                        rest = tail;
                    }
                }
                0xdd => interval = be16(body, 0).unwrap_or(0).into(),
                // Sequential, coded by Huffman: baseline and extended.
                0xc0 | 0xc1 => {
                    let (Some(h), Some(w)) = (be16(body, 1), be16(body, 3)) else { return Ok(()) };
                    size = (u32::from(w), u32::from(h));
                    components = body
                        .get(6..)
                        .unwrap_or(&[])
                        .chunks_exact(3)
                        .map(|c| {
                            let (h, v) = (u32::from(c[1] >> 4), u32::from(c[1] & 15));
                            Component { id: c[0], blocks: h * v, h, v, ..Component::default() }
                        })
                        .collect();
                }
                0xc2..=0xcf => return Ok(()),
                SOS if !components.is_empty() && size.1 > 0 => {
                    let n = usize::from(body.first().copied().unwrap_or(0));
                    let mut inside = Vec::new();
                    for c in body.get(1..1 + n * 2).unwrap_or(&[]).chunks_exact(2) {
                        let Some(found) = components.iter().find(|x| x.id == c[0]) else { return Ok(()) };
                        inside.push(Component {
                            dc: usize::from(c[1] >> 4 & 3),
                            ac: usize::from(c[1] & 3),
                            ..*found
                        });
                    }
                    let most = |f: fn(&Component) -> u32| components.iter().map(f).max().unwrap_or(1).max(1);
                    let (h, v) = (most(|c| c.h), most(|c| c.v));
                    // A scan of one component has its own blocks only (A.2.2).
                    let units = match inside.as_mut_slice() {
                        [one] => {
                            one.blocks = 1;
                            let side = |n: u32, own: u32, of: u32| (n * own).div_ceil(of * 8);
                            side(size.0, one.h.max(1), h) * side(size.1, one.v.max(1), v)
                        }
                        _ => size.0.div_ceil(8 * h) * size.1.div_ceil(8 * v),
                    };
                    let mut bits = Bits { b, at, held: 0, left: 0 };
                    for unit in 0..units {
                        if interval > 0 && unit > 0 && unit % interval == 0 {
                            if !bits.ends_here() {
                                return spoilt(bits.at, "more of it than the picture has");
                            }
                            if !matches!(b.get(bits.at..bits.at + 2), Some([0xff, 0xd0..=0xd7])) {
                                return spoilt(bits.at, "no restart marker where one must be");
                            }
                            bits.at += 2;
                        }
                        for c in &inside {
                            for _ in 0..c.blocks {
                                if block(&mut bits, &dc[c.dc], &ac[c.ac]).is_none() {
                                    return spoilt(
                                        bits.at,
                                        "a code that is none, or the end of it too early",
                                    );
                                }
                            }
                        }
                    }
                    if !bits.ends_here() {
                        return spoilt(bits.at, "more of it than the picture has");
                    }
                    at = bits.at;
                    while b.get(at) == Some(&0xff) && b.get(at + 1) == Some(&0xff) {
                        at += 1;
                    }
                    if !matches!((b.get(at), b.get(at + 1)), (Some(0xff), Some(&m)) if m != 0 && !(0xd0..=0xd7).contains(&m))
                    {
                        return spoilt(at, "more of it than the picture has");
                    }
                }
                _ => (),
            }
        }
        Ok(())
    }

    fn block(bits: &mut Bits<'_>, dc: &Codes, ac: &Codes) -> Option<()> {
        let n = bits.symbol(dc)?;
        if n > 16 {
            return None;
        }
        bits.skip(n.into())?;
        let mut k = 1;
        while k < 64 {
            let symbol = bits.symbol(ac)?;
            let (run, n) = (u32::from(symbol >> 4), symbol & 15);
            match (run, n) {
                (15, 0) => k += 16,
                (_, 0) => return Some(()),
                _ => {
                    k += run + 1;
                    bits.skip(n.into())?;
                }
            }
        }
        (k <= 64).then_some(())
    }
}
