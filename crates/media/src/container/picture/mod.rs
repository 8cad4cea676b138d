//! Files of pictures alone.

pub mod gif;
pub mod ivf;
pub mod y4m;
pub mod y4m_mux;
