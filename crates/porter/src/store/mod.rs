//! The job store: every change is an event, committed before it is acted on.
//!
//! SQLite in WAL mode with full sync: what was committed survives a kill and a power cut. All that happens is a
//! [`Change`]; applying one ([`apply`]) reads no clock and draws no number, so the same changes give the same store.

mod apply;
mod change;
mod migrate;
mod open;
mod rows;
pub mod said;
#[cfg(test)]
mod tests;
mod view;

pub use change::{
    CHANGE_VERSION, Cause, Change, Counts, Event, IfTaken, MadeFile, NotMade, PlannedOutput, RECIPE_VERSION,
    Step, TaskKey,
};
pub use open::{Store, Tx};
pub use rows::*;
pub use said::Said;
pub use view::{Filter, OpenRank, Sql, View};
