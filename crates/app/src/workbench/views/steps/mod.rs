//! First steps: what there is to do, and what is done.

pub mod draw;
pub mod list;
