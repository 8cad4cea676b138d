//! Watch folders: which files are there, and which of them are steady.
//!
//! [`steady`] is a pure state machine on a clock that is handed in; [`folder`] looks at real folders;
//! [`service`] runs both for one watch.

pub mod beside;
pub mod fetch;
pub mod folder;
pub mod gather;
pub mod service;
pub mod steady;
pub mod told;
pub mod trees;

pub use steady::{Steady, Why};
