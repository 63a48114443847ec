//! Earshot: each transaction, with what every watcher heard of it.

mod columns;
pub mod draw;
pub mod flow;
pub mod journey;
pub mod legs;
pub mod sight;
pub mod state;
mod summed;
pub mod sums;
