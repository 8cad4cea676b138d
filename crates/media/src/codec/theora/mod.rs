//! Theora (Theora Specification, Xiph.Org Foundation, 2017). Decoding is done by libtheora, where the build found it.

#[cfg(theora)]
mod decode;
#[cfg(theora)]
pub use decode::Decoder;

/// Was libtheora there when this program was built?
pub const PRESENT: bool = cfg!(theora);
