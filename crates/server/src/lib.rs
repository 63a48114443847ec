//! One Gossip instance: it listens, knows who its clients are, and moves bytes between them, the source, the relay and
//! the engine, which decides everything (`gossip-core`).
//!
//! Start with [`instance`] for the parts and their lives, then [`node`], the loop that owns the engine. [`connection`]
//! is one client's socket ([`upgrade`] gets it), [`outbox`] what waits for it, [`writers`] write it, [`reading`] the threads that touch the database, [`system`]
//! Gossip's own tables, [`auth`] tokens and [`config`] the file.

pub mod auth;
pub mod config;
pub mod connection;
pub mod instance;
pub mod node;
pub mod outbox;
pub mod reading;
pub mod system;
pub mod upgrade;
pub mod writers;

/// The time by this machine's clock, in microseconds since 1970.
pub fn now() -> gossip_core::position::Micros {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.map_or(0, |d| d.as_micros() as i64)
}
