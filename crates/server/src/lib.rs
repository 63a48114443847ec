//! One Gossip instance: it listens, knows who its clients are, and moves bytes between them, the source, the relay and
//! the engine, which decides everything (`gossip-core`).
//!
//! Start with [`instance`] for the parts and their lives, then [`node`], the loop that owns the engine.
//!
//! - [`front`] lets connections in; [`connection`] is one client's socket ([`upgrade`] gets it), [`outbox`] what waits for
//!   it, [`writers`] write it.
//! - [`http`] routes requests, [`requests`] is what they share; [`sse`] has server-sent events, [`publish_http`] events that
//!   are published; [`query_ref`] resolves a query's text, name or grant.
//! - [`reading`] and [`snapshots`] are the threads that touch the database, [`system`] Gossip's own tables,
//!   [`shown`] what operators see of rows.
//! - [`admission`] and [`auth`] decide who may connect, [`authz_webhook`] calls an application for more claims, [`audit_log`] says
//!   who was refused what; [`supervisor`] sees to it that nothing dies unnoticed, and [`config`] is the file.

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

pub mod admission;
pub mod audit_log;
pub mod auth;
pub mod authz_webhook;
pub mod config;
pub mod connection;
pub mod front;
pub mod http;
pub mod instance;
pub mod node;
pub mod outbox;
pub mod publish_http;
pub mod query_ref;
pub mod reading;
pub mod requests;
pub mod shown;
pub mod snapshots;
pub mod sse;
pub mod supervisor;
pub mod system;
pub mod tap;
pub mod upgrade;
pub mod writers;

/// A client for the addresses that a configuration names: key sets, decisions.
fn http_client(timeout: std::time::Duration) -> reqwest::Result<reqwest::Client> {
    // Only the first call of a process can, and needs to.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder().timeout(timeout).redirect(reqwest::redirect::Policy::none()).build()
}

/// The time by this machine's clock, in microseconds since 1970.
pub fn now() -> gossip_core::position::Timestamp {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.map_or(0, |d| d.as_micros() as i64)
}
