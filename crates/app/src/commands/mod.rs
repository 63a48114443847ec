//! The commands, one file each.

pub mod attach;
pub mod check;
pub mod drain;
pub mod draw;
pub mod expect;
pub mod open;
pub mod prepare;
pub mod publish;
pub mod record;
pub mod serve;
pub mod token;
pub mod watch;
