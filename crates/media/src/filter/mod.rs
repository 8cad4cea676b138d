//! Filters: a frame in, a frame out. Every one takes every frame type, or says why not before it starts.

pub mod audio;
pub mod video;
