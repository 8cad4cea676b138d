//! The job store: every change of state is an event, committed before it is acted on.
//!
//! SQLite in WAL mode with full sync: what was committed survives a kill and a power cut. Stored values of
//! a kind this program does not know are kept as [`State::Unknown`].

mod migrate;
mod rows;
pub mod said;
mod sqlite;

pub use rows::*;
pub use sqlite::Store;
