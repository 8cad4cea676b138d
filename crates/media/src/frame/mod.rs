//! Decoded pictures and sound.

pub mod audio;
pub mod pool;
pub mod video;

pub use audio::AudioFrame;
pub use pool::Pool;
pub use video::{Chroma, Colour, Fields, Plane, Samples, VideoFrame};
