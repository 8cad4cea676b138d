//! MPEG systems: transport streams, program streams, and plain streams of pictures (ISO/IEC 13818-1).

mod es;
mod pes;
pub mod plain;
pub mod ps;
pub mod ts;
pub mod ts_mux;
