//! A watcher's raw frames.

pub mod draw;
pub mod state;
pub mod update;
