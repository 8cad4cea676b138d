//! Making AV1 (AV1 Bitstream & Decoding Process Specification, 2019 with errata 1) through SVT-AV1, where the build found
//! it. It is read by [`super::av1`].

#[cfg(svt)]
mod encode;

use super::{EncodeVideo, PictureForm};
use crate::error::Result;
use crate::recipe::BitRecipe;

/// The smallest side that the library takes.
pub const LEAST: u32 = 64;

/// Keeps the library from telling about its settings, on a standard error that is the program's; of errors it tells still. To
/// be called before there are threads: it writes to the environment.
pub fn quiet() {
    #[cfg(svt)]
    encode::quiet();
}

#[cfg(svt)]
pub fn encoder(form: &PictureForm, rate: BitRecipe, key_every: u32) -> Result<Box<dyn EncodeVideo>> {
    Ok(Box::new(encode::Encoder::new(form, rate, key_every)?))
}

/// For one picture by itself.
#[cfg(svt)]
pub fn of_still(form: &PictureForm, quantiser: u32) -> Result<Box<dyn EncodeVideo>> {
    Ok(Box::new(encode::Encoder::of_still(form, quantiser)?))
}

#[cfg(not(svt))]
pub fn encoder(_: &PictureForm, _: BitRecipe, _: u32) -> Result<Box<dyn EncodeVideo>> {
    Err(crate::error::Error::unsupported("", "SVT-AV1 was not there when this program was built"))
}

#[cfg(not(svt))]
pub fn of_still(form: &PictureForm, _: u32) -> Result<Box<dyn EncodeVideo>> {
    encoder(form, BitRecipe::Quantiser(0), 1)
}

#[cfg(all(test, svt))]
mod tests {
    use super::*;
    use crate::codec::av1_encode::still;
    use crate::frame::{Chroma, Pool, VideoFrame};
    use crate::units::Ratio;

    fn picture(n: u16) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 96, 64, Chroma::C420, 8).unwrap();
        for p in &mut f.planes {
            for y in 0..p.height as usize {
                (0..p.width as usize).for_each(|x| p.put(x, y, (x as u16 * 3 + y as u16 * 5 + n * 7) % 256));
            }
        }
        f
    }

    fn film(pictures: u16) -> Vec<u8> {
        let form = PictureForm::plain(96, 64, Ratio { num: 25, den: 1 });
        let mut encoder = encoder(&form, BitRecipe::Quantiser(30), 25).unwrap();
        let mut out = Vec::new();
        (0..pictures).for_each(|n| encoder.encode(&picture(n), n.into(), 1, &mut out).unwrap());
        encoder.flush(&mut out).unwrap();
        out.into_iter().flat_map(|p| p.data).collect()
    }

    /// Encoders of many threads, which the library alone does not bear: each gives what it gives by itself.
    #[test]
    fn many_at_once() {
        let alone: Vec<_> = (0..4).map(|n| still(&picture(n), 25).unwrap()).collect();
        let film_alone = film(12);
        std::thread::scope(|s| {
            for t in 0..6u16 {
                let (alone, film_alone) = (&alone, &film_alone);
                s.spawn(move || {
                    for n in 0..12 {
                        match (t + n) % 5 {
                            4 => assert!(film(12) == *film_alone),
                            k => assert!(still(&picture(k), 25).unwrap() == alone[usize::from(k)]),
                        }
                    }
                });
            }
        });
    }
}
