//! Identifiers.

pub use gossip_protocol::timestamp::{Micros, Timestamp};

/// Identifies a watcher for as long as it exists.
pub type WatcherId = u32;
