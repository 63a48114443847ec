//! Rules: who may read what, with an editor and a what-if.

pub mod draw;
pub mod people;
pub mod state;
pub mod update;
