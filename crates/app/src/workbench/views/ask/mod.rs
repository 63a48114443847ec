//! Ask: writes and runs live queries.

pub mod draw;
pub mod state;
pub mod update;
