//! Ask: live queries, written and watched.

pub mod draw;
pub mod state;
pub mod update;
