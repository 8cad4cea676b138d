//! Files of sound alone.

pub mod adts;
pub mod aiff;
pub mod amr;
pub mod au;
pub mod caf;
pub mod flac;
pub(crate) mod frames;
pub mod id3;
pub mod mpeg;
pub mod mux;
pub(crate) mod samples;
