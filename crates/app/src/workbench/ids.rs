//! What things are counted and named by.

pub use gossip_protocol::timestamp::Micros;

/// A number that a watcher keeps for its life.
pub type WatcherId = u32;
