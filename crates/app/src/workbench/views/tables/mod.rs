//! Tables: what streams, who may read it, and what is in the way.

pub mod catalog;
pub mod draw;
pub mod state;
pub mod update;
