//! Filters on pictures.

pub mod scale;

pub use scale::{Scaler, fit};
