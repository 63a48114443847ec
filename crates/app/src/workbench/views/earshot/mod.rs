//! Earshot: each transaction with what became of it for everybody who listens.

pub mod draw;
pub mod flow;
pub mod journey;
pub mod legs;
