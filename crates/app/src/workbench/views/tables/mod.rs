//! Tables: what streams, who may read it, and the problems found.

pub mod catalog;
pub mod draw;
pub mod state;
pub mod update;
