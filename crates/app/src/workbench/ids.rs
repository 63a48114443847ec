//! What things are counted and named by.

/// Microseconds since 1970.
pub type Micros = i64;

/// A number that a watcher keeps for its life.
pub type WatcherId = u32;
