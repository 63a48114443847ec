//! First steps: from a database to a first change that is heard.

pub mod draw;
pub mod list;
