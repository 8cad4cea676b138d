//! Words: speech to transcript, captions, search text, summary.
//!
//! Pure, as [`media`]: sound comes in as frames, what leaves is a transcript with a time on every word, and what
//! is written from it.

pub mod captions;
pub mod error;
pub mod listen;
mod markup;
mod math;
pub mod model;
pub mod page;
pub mod recognise;
pub mod score;
pub mod service;
pub mod summary;
pub mod terms;
pub mod transcribe;
pub mod transcript;
pub mod write;

pub use error::{Error, Result};
pub use model::Model;
pub use transcribe::transcribe;
pub use transcript::Transcript;
