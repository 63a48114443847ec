//! The path on which instances pass changes to each other.
//!
//! A relay carries [`Interval`]s from the one reader of a source to all instances, the reader's own included. It may
//! lose, double and delay: what arrives says which stretch of the source it covers, so instances notice what is missing
//! and ask for it again ([`Relay::replay`]). What a relay must do is keep what it has acknowledged for a bounded time
//! and bring messages of one sender in the order sent, as far as it brings them.
//!
//! [`inproc`] is the relay within one process, [`faulty`] wraps another one and does its worst.

pub mod faulty;
pub mod inproc;

use std::sync::Arc;

use async_trait::async_trait;
use gossip_core::position::{Interval, Position};
use tokio::sync::mpsc;

/// Intervals that may wait for one member. Beyond, the newest is dropped for that member; it will notice.
pub const INBOX: usize = 1_024;

/// Why a relay did not do what it was asked.
#[derive(Debug, thiserror::Error)]
pub enum RelayError {
    /// The broker cannot be reached now.
    #[error("relay is not reachable: {0}")]
    Unreachable(String),
}

/// What arrives at one member.
pub type Inbox = mpsc::Receiver<Arc<Interval>>;

/// A path between instances.
#[async_trait]
pub trait Relay: Send + Sync {
    /// Hands an interval to all members. Returns when it is kept, so that the source may forget it.
    async fn publish(&self, interval: Arc<Interval>) -> Result<(), RelayError>;

    /// Joins; from now on everything published arrives, beginning with a sign of where the sources are.
    async fn join(&self) -> Result<Inbox, RelayError>;

    /// Everything kept after a position, without a gap; `None` if not all of it is kept any more.
    async fn replay(&self, source: &str, after: Position) -> Result<Option<Vec<Arc<Interval>>>, RelayError>;

    /// Where the last interval of a source ended.
    async fn last(&self, source: &str) -> Result<Option<Position>, RelayError>;
}
