//! Forms: to make a change, to grant something, to save something.

pub mod change;
pub mod state;
pub mod update;
