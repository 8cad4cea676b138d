//! Making AV1 (AV1 Bitstream & Decoding Process Specification, 2019 with errata 1) through SVT-AV1, where the build found
//! it. It is read by [`super::av1`].

#[cfg(svt)]
mod encode;

use super::{EncodeVideo, PictureForm};
use crate::error::{Error, Result};
use crate::frame::VideoFrame;
use crate::recipe::BitRecipe;
#[cfg(svt)]
use crate::units::Ratio;

/// Was SVT-AV1 there when this program was built?
pub const PRESENT: bool = cfg!(svt);
/// The smallest side that the library takes.
pub const LEAST: u32 = 64;
pub const MISSING: &str = "AV1 is made by SVT-AV1, which was not there when this program was built";

/// Keeps the library from telling about its settings, on a standard error that is the program's; of errors it tells still. To
/// be called before there are threads: it writes to the environment.
pub fn quiet() {
    #[cfg(svt)]
    encode::quiet();
}

/// An AV1 encoder; its table row says whether there is one.
#[cfg(svt)]
pub fn encoder(form: &PictureForm, rate: BitRecipe, key_every: u32) -> Result<Box<dyn EncodeVideo>> {
    Ok(Box::new(encode::Encoder::new(form, rate, key_every)?))
}

#[cfg(not(svt))]
pub fn encoder(_: &PictureForm, _: BitRecipe, _: u32) -> Result<Box<dyn EncodeVideo>> {
    Err(Error::unsupported("", MISSING))
}

/// One picture by itself, 8-bit 4:2:0, with a quantiser of 1 to 63: the setup record, and its packet.
#[cfg(svt)]
pub fn still(frame: &VideoFrame, quantiser: u32) -> Result<(Vec<u8>, Vec<u8>)> {
    let form = PictureForm {
        colour: frame.colour,
        chroma: frame.chroma,
        depth: frame.depth,
        steady_keys: true,
        ..PictureForm::plain(frame.width, frame.height, Ratio::ONE)
    };
    let mut encoder = encode::Encoder::of_still(&form, quantiser)?;
    let mut packets = Vec::new();
    encoder.encode(frame, 0, 1, &mut packets)?;
    encoder.flush(&mut packets)?;
    match packets.pop() {
        Some(packet) if packets.is_empty() => Ok((encoder.setup(), packet.data)),
        _ => Err(Error::limit("AV1 encoder", "it gave no picture")),
    }
}

#[cfg(not(svt))]
pub fn still(_: &VideoFrame, _: u32) -> Result<(Vec<u8>, Vec<u8>)> {
    missing().map(|()| (Vec::new(), Vec::new()))
}

/// Why none can be made here.
pub fn missing() -> Result<()> {
    if PRESENT { Ok(()) } else { Err(Error::unsupported("", MISSING)) }
}
