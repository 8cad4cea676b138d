//! Headers of sequences and pictures (ISO/IEC 13818-2, 6.2; ISO/IEC 11172-2, 2.4.2), as far as decoding needs them.

use super::vlc::Reader;
use crate::bits::unit_of;
use crate::codec::mpeg_video;
use crate::frame::{Chroma, Colour};
use crate::units::Ratio;

/// The order in which coefficients come (7.3), as places in rows.
pub const ZIGZAG: [u8; 64] = [
    0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25, 18, 11, 4, 5, 12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6, 7,
    14, 21, 28, 35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51, 58, 59, 52, 45, 38, 31, 39,
    46, 53, 60, 61, 54, 47, 55, 62, 63,
];
pub const ALTERNATE: [u8; 64] = [
    0, 8, 16, 24, 1, 9, 2, 10, 17, 25, 32, 40, 48, 56, 57, 49, 41, 33, 26, 18, 3, 11, 4, 12, 19, 27, 34, 42,
    50, 58, 35, 43, 51, 59, 20, 28, 5, 13, 6, 14, 21, 29, 36, 44, 52, 60, 37, 45, 53, 61, 22, 30, 7, 15, 23,
    31, 38, 46, 54, 62, 39, 47, 55, 63,
];
/// The usual matrix of what is coded by itself (6.3.11), in rows.
const INTRA: [u8; 64] = [
    8, 16, 19, 22, 26, 27, 29, 34, 16, 16, 22, 24, 27, 29, 34, 37, 19, 22, 26, 27, 29, 34, 34, 38, 22, 22,
    26, 27, 29, 34, 37, 40, 22, 26, 27, 29, 32, 35, 40, 48, 26, 27, 29, 32, 35, 40, 48, 58, 26, 27, 29, 34,
    38, 46, 56, 69, 27, 29, 35, 38, 46, 56, 69, 83,
];

/// Matrices of quantisers: by itself or not, luma or chroma.
#[derive(Clone, PartialEq)]
pub struct Matrices {
    pub intra: [[u8; 64]; 2],
    pub other: [[u8; 64]; 2],
}

impl Default for Matrices {
    fn default() -> Matrices {
        Matrices { intra: [INTRA; 2], other: [[16; 64]; 2] }
    }
}

/// What holds for all pictures until the next one comes.
#[derive(Clone, PartialEq)]
pub struct Sequence {
    pub width: usize,
    pub height: usize,
    pub chroma: Chroma,
    /// MPEG-1: no extensions follow.
    pub old: bool,
    pub progressive: bool,
    /// No picture waits for one that is shown before it.
    pub low_delay: bool,
    pub colour: Colour,
    pub pixel_shape: Ratio,
}

fn matrix(r: &mut Reader<'_>, to: &mut [u8; 64]) {
    for at in ZIGZAG {
        to[usize::from(at)] = r.take(8).max(1) as u8;
    }
}

impl Sequence {
    /// From its header on; matrices that it brings are set.
    pub fn parse(bytes: &[u8], matrices: &mut Matrices) -> Option<Sequence> {
        let (_, track) = mpeg_video::sequence(bytes)?;
        let at = unit_of(bytes, 0xb3)?;
        let mut r = Reader::new(&bytes[at + 4..]);
        r.skip(24 + 8 + 18 + 1 + 10 + 1);
        *matrices = Matrices::default();
        if r.flag() {
            matrix(&mut r, &mut matrices.intra[0]);
        }
        if r.flag() {
            matrix(&mut r, &mut matrices.other[0]);
        }
        matrices.intra[1] = matrices.intra[0];
        matrices.other[1] = matrices.other[0];
        let extension = bytes[at..].windows(5).position(|w| w[..4] == [0, 0, 1, 0xb5] && w[4] >> 4 == 1);
        let (mut progressive, mut low_delay) = (true, false);
        if let Some(e) = extension {
            let mut r = Reader::new(&bytes[at + e + 4..]);
            r.skip(4 + 8);
            progressive = r.flag();
            r.skip(2 + 2 + 2 + 12 + 1 + 8);
            low_delay = r.flag();
        }
        Some(Sequence {
            width: track.width as usize,
            height: track.height as usize,
            chroma: track.chroma.unwrap_or(Chroma::C420),
            old: extension.is_none(),
            progressive,
            low_delay,
            colour: track.colour,
            pixel_shape: track.pixel_shape,
        })
    }
}

/// How a picture is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// By itself.
    I,
    /// From those before.
    P,
    /// From those on both sides.
    B,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Structure {
    Top,
    Bottom,
    Frame,
}

/// One picture: a frame or a field.
#[derive(Clone, Debug)]
pub struct Picture {
    pub number: u32,
    pub kind: Kind,
    pub full_pel: [bool; 2],
    /// Bits of vectors: before and behind, across and down.
    pub f_code: [[u32; 2]; 2],
    pub dc_precision: u32,
    pub structure: Structure,
    pub top_first: bool,
    pub frames_only: bool,
    pub concealment: bool,
    pub steep: bool,
    pub second_table: bool,
    pub alternate: bool,
    pub progressive: bool,
}

impl Picture {
    /// What follows the start code.
    pub fn parse(bytes: &[u8]) -> Option<Picture> {
        let mut r = Reader::new(bytes);
        let number = r.take(10);
        let kind = match r.take(3) {
            1 => Kind::I,
            2 => Kind::P,
            3 => Kind::B,
            _ => return None,
        };
        r.skip(16);
        let (mut full_pel, mut f_code) = ([false; 2], [[1; 2]; 2]);
        let ways = [Kind::I, Kind::P, Kind::B].iter().position(|k| *k == kind).unwrap_or(0);
        for way in 0..ways {
            full_pel[way] = r.flag();
            f_code[way] = [r.take(3).max(1); 2];
        }
        (!r.is_over()).then_some(Picture {
            number,
            kind,
            full_pel,
            f_code,
            dc_precision: 0,
            structure: Structure::Frame,
            top_first: true,
            frames_only: true,
            concealment: false,
            steep: false,
            second_table: false,
            alternate: false,
            progressive: true,
        })
    }

    /// An extension of it, behind its start code; matrices that it brings are set.
    pub fn extend(&mut self, bytes: &[u8], matrices: &mut Matrices) -> Option<()> {
        let mut r = Reader::new(bytes);
        match r.take(4) {
            3 => {
                for n in 0..4 {
                    if !r.flag() {
                        continue;
                    }
                    let of = if n % 2 == 0 { &mut matrices.intra } else { &mut matrices.other };
                    matrix(&mut r, &mut of[n / 2]);
                    if n < 2 {
                        of[1] = of[0];
                    }
                }
            }
            8 => {
                for way in &mut self.f_code {
                    // 15 stands where there are none.
                    *way = [r.take(4), r.take(4)].map(|f| if f == 15 { 1 } else { f.clamp(1, 9) });
                }
                self.full_pel = [false; 2];
                self.dc_precision = r.take(2);
                self.structure = match r.take(2) {
                    1 => Structure::Top,
                    2 => Structure::Bottom,
                    3 => Structure::Frame,
                    _ => return None,
                };
                self.top_first = r.flag();
                self.frames_only = r.flag();
                self.concealment = r.flag();
                self.steep = r.flag();
                self.second_table = r.flag();
                self.alternate = r.flag();
                r.skip(2);
                self.progressive = r.flag();
            }
            _ => (),
        }
        (!r.is_over()).then_some(())
    }
}

/// The structure of the picture in these bytes and its number, without reading more of it.
pub fn structure_of(bytes: &[u8]) -> Option<(Structure, u32)> {
    let at = unit_of(bytes, 0)?;
    let mut picture = Picture::parse(&bytes[at + 4..])?;
    let rest = &bytes[at + 4..];
    let extension = rest.windows(5).take(64).position(|w| w[..4] == [0, 0, 1, 0xb5] && w[4] >> 4 == 8);
    if let Some(e) = extension {
        picture.extend(&rest[e + 4..], &mut Matrices::default())?;
    }
    Some((picture.structure, picture.number))
}
