//! Words: speech to transcript, captions, search text, summary.
//!
//! Nothing is here yet but the door. What enters will be sound as [`media::frame::AudioFrame`], what leaves
//! a transcript value with a time on every word.
