//! Relay: how changes travel between instances, and where they wait.

pub mod draw;
pub mod state;
pub mod update;
