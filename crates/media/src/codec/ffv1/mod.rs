//! FFV1, version 3 (RFC 9043): pictures of 8 to 16 bits without loss, each by itself, in slices that are coded side by side.
//! The range coder and the contexts are shared by both directions; [`encode`] and [`decode`] walk the same lines.

mod coder;
mod decode;
mod encode;

pub use decode::{Decoder, describe};
pub use encode::Encoder;

use crate::error::{Error, Result};
use crate::frame::Chroma;

/// Bytes of states for one symbol (3.8.1.2).
const STATES: usize = 32;
/// A fresh state.
const EVEN: u8 = 128;

type States = [u8; STATES];

/// Five tables that turn differences of neighbours into a context (3.6), and how many contexts there are.
#[derive(Clone, Debug, PartialEq)]
struct Quants {
    tables: Box<[[i16; 256]; 5]>,
    contexts: usize,
}

impl Quants {
    /// The farther neighbours count as well.
    fn is_large(&self) -> bool {
        self.tables[3][127] != 0 || self.tables[4][127] != 0
    }

    /// The context of a sample from its neighbours: left, left of that, above left, above, above right, two above.
    fn context(&self, large: bool, n: Near) -> i32 {
        let at = |t: usize, d: i32| i32::from(self.tables[t][(d & 255) as usize]);
        let near = at(0, n.l - n.tl) + at(1, n.tl - n.t) + at(2, n.t - n.tr);
        if large { near + at(3, n.ll - n.l) + at(4, n.tt - n.t) } else { near }
    }
}

/// Neighbours of a sample.
#[derive(Clone, Copy)]
struct Near {
    l: i32,
    ll: i32,
    tl: i32,
    t: i32,
    tr: i32,
    tt: i32,
}

impl Near {
    /// The median of left, above, and left and above less above left (3.3). `wide`: 16 bits that are taken with a sign.
    fn guess(self, wide: bool) -> i32 {
        let signed = |v: i32| if wide && v >= 32_768 { v - 65_536 } else { v };
        let (l, t, tl) = (signed(self.l), signed(self.t), signed(self.tl));
        let along = l + t - tl;
        l.min(t).max(l.max(t).min(along))
    }
}

/// What the configuration record says (4.2).
#[derive(Clone, Debug, PartialEq)]
struct Config {
    micro: u32,
    /// Planes are green, blue less green, red less green (3.7.2).
    rgb: bool,
    depth: u8,
    chroma: bool,
    /// Powers of two that chroma is smaller by.
    across: u32,
    down: u32,
    alpha: bool,
    /// Slices in a row, and rows of them.
    columns: u32,
    lines: u32,
    quants: Vec<Quants>,
    /// States that contexts begin with, of each set of tables.
    initial: Vec<Option<Vec<States>>>,
    /// How a state follows another after a one.
    ones: Box<[u8; 256]>,
    checked: bool,
    /// Every picture stands by itself.
    intra: bool,
}

impl Config {
    fn chroma_form(&self) -> Result<Chroma> {
        Ok(match (self.rgb, self.chroma, self.alpha, self.across, self.down) {
            (true, _, false, ..) => Chroma::Rgb,
            (true, _, true, ..) => Chroma::Rgba,
            (false, false, false, ..) => Chroma::Gray,
            (false, true, false, 1, 1) => Chroma::C420,
            (false, true, false, 1, 0) => Chroma::C422,
            (false, true, false, 0, 0) => Chroma::C444,
            (_, _, alpha, across, down) => {
                let with = if alpha { " with coverage" } else { "" };
                let why = format!("chroma of 1/{} by 1/{}{with}", 1 << across, 1 << down);
                return Err(Error::unsupported("FFV1", why));
            }
        })
    }

    /// Bits that differences of a plane are taken in.
    fn bits(&self) -> u32 {
        u32::from(self.depth) + u32::from(self.rgb)
    }

    /// Of a plane: which set of states it uses (luma, chroma, coverage).
    fn kind(plane: usize) -> usize {
        plane.div_ceil(2)
    }

    /// The corner and size of a slice in pixels (4.6).
    fn slice(&self, x: u32, y: u32, w: u32, h: u32) -> (u32, u32, u32, u32) {
        let at = |i: u32, of: u32, n: u32| (u64::from(i) * u64::from(of) / u64::from(n)) as u32;
        let (left, right) = (at(x, w, self.columns), at(x + 1, w, self.columns));
        let (top, bottom) = (at(y, h, self.lines), at(y + 1, h, self.lines));
        (left, top, right - left, bottom - top)
    }

    /// The part of a plane that a slice covers.
    fn part(&self, plane: usize, (x, y, w, h): (u32, u32, u32, u32)) -> (usize, usize, usize, usize) {
        let (across, down) =
            if !self.rgb && matches!(plane, 1 | 2) { (self.across, self.down) } else { (0, 0) };
        let up = |v: u32, by: u32| v.div_ceil(1 << by) as usize;
        ((x >> across) as usize, (y >> down) as usize, up(w, across), up(h, down))
    }

    fn is_wide(&self) -> bool {
        self.depth == 16 && !self.rgb
    }

    /// Blue stands in for green (3.7.2.1).
    fn turned(&self) -> bool {
        (9..=15).contains(&self.depth) && !self.alpha
    }
}

/// A checksum that is 0 over what it is behind and itself (4.9.3).
fn parity(bytes: &[u8]) -> u32 {
    static TABLE: std::sync::LazyLock<[u32; 256]> = std::sync::LazyLock::new(|| {
        std::array::from_fn(|n| {
            let mut v = (n as u32) << 24;
            (0..8).for_each(|_| v = v << 1 ^ if v & 1 << 31 != 0 { 0x04c1_1db7 } else { 0 });
            v
        })
    });
    bytes.iter().fold(0, |crc, b| crc << 8 ^ TABLE[(crc >> 24) as usize ^ usize::from(*b)])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::single::OnePicture;
    use crate::codec::{EncodeVideo, PictureForm};
    use crate::frame::{Pool, VideoFrame};
    use crate::track::VideoTrack;
    use crate::units::Ratio;
    use rstest::rstest;

    fn form(w: u32, h: u32, chroma: Chroma, depth: u8) -> PictureForm {
        PictureForm { chroma, depth, ..PictureForm::plain(w, h, Ratio { num: 25, den: 1 }) }
    }

    /// Slopes, edges and noise, up to the ends of the range.
    fn picture(w: u32, h: u32, chroma: Chroma, depth: u8, seed: u32) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), w, h, chroma, depth).unwrap();
        let most = (1u32 << depth) - 1;
        let mut noise = seed | 1;
        for (n, p) in f.planes.iter_mut().enumerate() {
            let (pw, ph) = (p.width, p.height);
            for (y, x) in (0..ph).flat_map(|y| (0..pw).map(move |x| (y, x))) {
                noise ^= noise << 13;
                noise ^= noise >> 17;
                noise ^= noise << 5;
                let v = match (x / 16 + y / 8 + n as u32) % 4 {
                    0 => most * x / w.max(1),
                    1 => noise & most,
                    2 => most / 2 + (noise & 3),
                    _ => {
                        if y % 2 == 0 {
                            0
                        } else {
                            most
                        }
                    }
                };
                p.put(x as usize, y as usize, v.min(most) as u16);
            }
        }
        f
    }

    #[rstest]
    fn what_is_coded_is_decoded_bit_for_bit(
        #[values(Chroma::Gray, Chroma::C420, Chroma::C422, Chroma::C444, Chroma::Rgb, Chroma::Rgba)]
        chroma: Chroma,
        #[values(8, 10, 12, 16)] depth: u8,
        #[values((1, 1), (7, 5), (96, 64), (641, 363))] size: (u32, u32),
    ) {
        let (w, h) = size;
        if chroma == Chroma::Rgba && depth == 16 && w > 100 {
            return;
        }
        let mut e = Encoder::new(&form(w, h, chroma, depth)).unwrap();
        let mut v = VideoTrack::sized(w, h);
        let mut d = Decoder::new(&e.setup(), &mut v, Pool::new()).unwrap();
        assert_eq!((v.chroma, v.depth), (Some(chroma), Some(depth)));
        for seed in [1, 77] {
            let f = picture(w, h, chroma, depth, seed);
            let mut out = Vec::new();
            e.encode(&f, 0, 1, &mut out).unwrap();
            assert!(out[0].key);
            let back = d.picture(&out[0].data).unwrap();
            assert!(f.planes == back.planes);
        }
    }

    /// RFC 9043, 5: what is larger than 352x288 has four slices at least.
    #[rstest]
    #[case(352, 288, 1)]
    #[case(854, 480, 4)]
    #[case(100, 1100, 4)]
    #[case(641, 363, 4)]
    #[case(427, 361, 4)]
    #[case(1920, 1080, 8)]
    fn large_pictures_are_cut(#[case] w: u32, #[case] h: u32, #[case] least: u32) {
        let e = Encoder::new(&form(w, h, Chroma::C420, 8)).unwrap();
        let config = Config::parse(&e.setup()).unwrap();
        assert!(config.columns * config.lines >= least, "{} by {}", config.columns, config.lines);
        // No row or column of chroma is left out.
        let slices = (0..config.lines).flat_map(|y| (0..config.columns).map(move |x| (x, y)));
        let parts: Vec<_> = slices.map(|(x, y)| config.part(1, config.slice(x, y, w, h))).collect();
        let covered: usize = parts.iter().map(|(_, _, w, h)| w * h).sum();
        assert_eq!(covered as u32, w.div_ceil(2) * h.div_ceil(2));
    }

    #[test]
    fn damage_is_told_and_nothing_panics() {
        let (w, h) = (320, 240);
        let mut e = Encoder::new(&form(w, h, Chroma::C422, 10)).unwrap();
        let mut out = Vec::new();
        e.encode(&picture(w, h, Chroma::C422, 10, 5), 0, 1, &mut out).unwrap();
        let mut d = Decoder::new(&e.setup(), &mut VideoTrack::sized(w, h), Pool::new()).unwrap();
        let good = out.remove(0).data;
        for at in (0..good.len()).step_by(97) {
            let mut bad = good.clone();
            bad[at] ^= 0x55;
            assert!(d.picture(&bad).is_err(), "byte {at}");
            assert!(d.picture(&good[..at]).is_err());
        }
        assert!(d.picture(&good).is_ok());
        let setup = e.setup();
        for at in 0..setup.len() {
            let mut bad = setup.clone();
            bad[at] ^= 1;
            assert!(Decoder::new(&bad, &mut VideoTrack::sized(w, h), Pool::new()).is_err());
        }
    }

    #[test]
    fn a_checksum_and_what_it_is_of_are_zero() {
        let mut bytes = b"Estuary Hours".to_vec();
        bytes.extend(parity(&bytes).to_be_bytes());
        assert_eq!(parity(&bytes), 0);
    }
}
