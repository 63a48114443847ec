//! Earshot: each transaction, with what every watcher heard of it.

pub mod draw;
pub mod flow;
pub mod journey;
pub mod legs;
