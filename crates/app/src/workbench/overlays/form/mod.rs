//! Forms: to make a change, to add a rule, to save something.

pub mod change;
pub mod open;
pub mod state;
pub mod update;
