//! The commands, one file each.

pub mod attach;
pub mod check;
pub mod open;
pub mod prepare;
pub mod record;
pub mod serve;
pub mod token;
pub mod watch;
