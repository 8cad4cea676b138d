//! Work in folders that others can write to: through handles, never through links, never over what is there.

pub mod copy;
pub mod dir;
pub mod filling;
pub mod fitting;
pub mod frames;
pub mod known;
pub mod many;
pub mod moving;
pub mod pieces;

pub use copy::{Quiet, Watching};
pub use dir::{Dir, Seen};
