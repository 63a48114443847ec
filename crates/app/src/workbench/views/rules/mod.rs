//! Rules: who may read what, edited and tried.

pub mod draw;
pub mod state;
pub mod update;
