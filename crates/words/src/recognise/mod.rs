//! Windows of speech to words with times.

pub mod align;
pub mod assemble;
pub mod engine;
pub mod greedy;
pub mod join;
pub mod level;
