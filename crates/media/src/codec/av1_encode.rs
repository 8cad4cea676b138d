//! Who makes AV1: SVT-AV1 where the build found it, else rav1e where the program was built with it (`--features rav1e`), which
//! makes stills in good time and films slowly.

#[cfg(all(not(svt), feature = "rav1e"))]
use super::rav1e as maker;
#[cfg(not(all(not(svt), feature = "rav1e")))]
use super::svt as maker;
use super::{EncodeVideo, PictureForm};
use crate::error::{Error, Result};
use crate::frame::VideoFrame;
use crate::recipe::BitRecipe;
use crate::units::Ratio;

/// Is there one in this program?
pub const PRESENT: bool = cfg!(any(svt, feature = "rav1e"));
/// The smallest side that is taken.
pub const LEAST: u32 = maker::LEAST;
/// Why it is not there, if it is not.
pub const MISSING: Option<&str> = if PRESENT {
    None
} else {
    Some("AV1 is made by SVT-AV1, which was not there when this program was built (nor was rav1e asked for)")
};

/// An AV1 encoder; its table row says whether there is one.
pub fn encoder(form: &PictureForm, rate: BitRecipe, key_every: u32) -> Result<Box<dyn EncodeVideo>> {
    maker::encoder(form, rate, key_every)
}

/// One picture by itself, 4:2:0 of 8 or 10 bits, with a quantiser of 1 to 63: the setup record, and its packet.
pub fn still(frame: &VideoFrame, quantiser: u32) -> Result<(Vec<u8>, Vec<u8>)> {
    there()?;
    let form = PictureForm {
        colour: frame.colour,
        chroma: frame.chroma,
        depth: frame.depth,
        steady_keys: true,
        ..PictureForm::plain(frame.width, frame.height, Ratio::ONE)
    };
    let mut encoder = maker::of_still(&form, quantiser)?;
    let mut packets = Vec::new();
    encoder.encode(frame, 0, 1, &mut packets)?;
    encoder.flush(&mut packets)?;
    match packets.pop() {
        Some(packet) if packets.is_empty() => Ok((encoder.setup(), packet.data)),
        _ => Err(Error::limit("AV1 encoder", "it gave no picture")),
    }
}

/// Why none can be made here.
pub fn there() -> Result<()> {
    MISSING.map_or(Ok(()), |why| Err(Error::unsupported("", why)))
}
