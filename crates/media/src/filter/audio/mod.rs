//! Filters on sound.

pub mod loudness;
pub mod mix;
pub mod resample;
pub mod timeline;

pub use mix::mix_down;
pub use resample::Resampler;
pub use timeline::Timeline;
