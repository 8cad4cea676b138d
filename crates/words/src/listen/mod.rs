//! From sound of any kind to windows of speech.

pub mod mix;
pub mod sound;
pub mod spans;
pub mod windows;

pub use mix::Mixer;
pub use sound::SoundTrack;
pub use spans::{Span, Spans};
pub use windows::{Packing, Window, Windows};
