//! Real instances on a real database over real sockets.
#![allow(clippy::unwrap_used)]

mod common;
mod instance;
mod load;
