//! Forms: to make a change, to grant something, to save something.

pub mod change;
pub mod open;
pub mod state;
pub mod update;
