//! Speech and text services: engines somewhere else that are given sound or text and answer in JSON. What is asked
//! and how the answers become one transcript is here; how a request travels is the caller's.
//!
//! The requests and answers are described by [`openapi::document`].

pub mod answer;
pub mod hear;
pub mod openapi;
pub mod summary;

pub use answer::{Answer, AnswerSegment, AnswerWord};
pub use hear::{Part, Reply, SpeechService, Told, recognise};
pub use summary::{TextAnswer, TextRequest, TextService};
