//! Matroska and WebM (RFC 9559 on top of EBML, RFC 8794).

mod demux;
mod ebml;
mod mux;
mod tracks;

pub use mux::{Writer, codec_id};

use super::{Demux, Format, Source, Tried};
use crate::error::Result;

pub static FORMAT: Format = Format { name: "Matroska", score, open, tried: Tried::Files };

fn score(head: &[u8]) -> u8 {
    if head.starts_with(&[0x1a, 0x45, 0xdf, 0xa3]) { 100 } else { 0 }
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    demux::open(source)
}
