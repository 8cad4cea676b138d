//! Filters on pictures.

pub mod convert;
pub mod scale;

pub use scale::{Scaler, fit};
