//! A watcher's frames, as they went over the socket.

pub mod draw;
pub mod state;
pub mod update;
