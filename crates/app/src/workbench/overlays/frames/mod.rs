//! Raw frames: of a watcher, or of the client that is looked at.

pub mod draw;
pub mod state;
pub mod update;
pub mod words;
