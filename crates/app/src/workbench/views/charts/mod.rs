//! Charts: rates, delays and what waits, over time.

pub mod draw;
pub mod state;
pub mod update;
