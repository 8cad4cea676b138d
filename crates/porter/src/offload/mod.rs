//! Copies of whole folders that can be trusted: a card to two disks with one read, read back, and listed in a manifest; and
//! the other way round, what is there held against its manifest.

pub mod copy;
pub mod manifest;
pub mod sums;
pub mod tree;
pub mod verify;

pub use copy::{Copied, copy};
pub use verify::{Verified, verify};
