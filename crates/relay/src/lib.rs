//! The path on which instances pass changes and events to each other.
//!
//! A relay carries [`Interval`]s from the one reader of a source to all instances, the reader's own included, and
//! [`Event`]s of topics and of the instances themselves from each to all. It may lose, double and delay: an interval says
//! which stretch of the source it covers, so instances notice what is missing and ask for it again ([`Relay::replay`]);
//! events say who sent them under which id. What a relay must do is to bring messages of one sender in the order sent, as
//! far as it brings them, and to answer for what it has acknowledged.
//!
//! [`inproc`] is the relay within one process. [`broker_relay`] is the relay over a broker: what is the same on all of
//! them. What differs is behind the traits [`broker::Protocol`] and [`broker::Broker`], a file for each protocol and a line
//! in [`broker::protocols`]. A message is an [`event`] for intervals and a [`cloudevent`] for all else. By [`vouch`]
//! instances know each other's messages from a stranger's. [`mod@ingest`] reads what other programs publish on a broker.
//! [`faulty`] wraps another relay and does its worst.
//!
//! ```
//! use std::sync::Arc;
//!
//! use gossip_protocol::CloudEvent;
//! use gossip_relay::inproc::InProcess;
//! use gossip_relay::{About, Event, Received, Relay};
//!
//! # tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap().block_on(async {
//! let relay = InProcess::default();
//! let mut inbox = relay.join().await.unwrap();
//! let event = CloudEvent::new("tide", "/gauge/west", "1".into(), "2026-11-23T14:00:00Z".into(), 31.into());
//! relay.broadcast(Arc::new(Event { about: About::Topic("tide".into()), event })).await.unwrap();
//! assert!(matches!(inbox.recv().await, Some(Received::Event(e)) if e.about == About::Topic("tide".into())));
//! # });
//! ```

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

pub mod broker;
pub mod broker_relay;
mod connect;
mod error;
pub mod event;
pub mod faulty;
pub mod ingest;
pub mod inproc;
pub mod message;
pub mod parts;
mod settings;
pub mod tls;
pub mod vouch;
pub mod window;

use std::sync::Arc;

use async_trait::async_trait;
use gossip_core::column_pruning::Needed;
use gossip_core::position::{Interval, Position};
use gossip_core::schema::Table;
use tokio::sync::mpsc;

pub use crate::connect::{check_ingest, connect, expected_schemes, ingest, schemes};
pub use crate::error::RelayError;
pub use crate::settings::{RetentionLimits, Settings, scheme};

use gossip_protocol::CloudEvent;

/// Messages that may wait for one member. Beyond, the newest is dropped for that member; it will notice.
pub const INBOX: usize = 1_024;

/// The messages of one member.
pub type Inbox = mpsc::Receiver<Received>;

/// A message from the relay.
#[derive(Clone, Debug, PartialEq)]
pub enum Received {
    /// An interval of a source.
    Interval(Arc<Interval>),
    /// An event.
    Event(Arc<Event>),
}

impl Received {
    /// The interval, if it is one.
    pub fn interval(self) -> Option<Arc<Interval>> {
        match self {
            Received::Interval(i) => Some(i),
            Received::Event(_) => None,
        }
    }
}

/// An event for all members.
#[derive(Clone, Debug, PartialEq)]
pub struct Event {
    /// What it is about.
    pub about: About,
    /// The event itself.
    pub event: CloudEvent,
}

/// What an event is about. The two stand under separate names on a broker, so that permissions can differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum About {
    /// A topic, by its name: letters, digits, `-` and `_`.
    Topic(String),
    /// The instances themselves: membership, presence, calls.
    Members,
}

/// The state of a relay, for `gossip.links`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Standing {
    /// What kind it is: `inproc`, `nats`, …
    pub kind: &'static str,
    /// Whether the broker can be reached.
    pub connected: bool,
    /// Messages sent.
    pub sent: u64,
    /// Messages received.
    pub heard: u64,
    /// Messages that were dropped because this member did not take them.
    pub lost: u64,
    /// Messages that could not be read.
    pub malformed: u64,
    /// The newest of those: under which name, why, and how it began.
    pub last_malformed: Option<String>,
    /// What the broker says of itself, where it tells.
    pub broker: Option<String>,
    /// Messages that it stores, and their bytes, where it stores any.
    pub stored: Option<(u64, u64)>,
    /// The names used on the broker, by what is done there.
    pub names: Vec<(&'static str, String)>,
}

/// A path between instances.
#[async_trait]
pub trait Relay: Send + Sync {
    /// Announces the descriptions of tables; later changes of them travel in intervals.
    fn describe(&self, _tables: &[Arc<Table>]) {}

    /// Sets the format's version, which all members must be able to read.
    fn speak(&self, _version: u32) {}

    /// Sets which tables and columns the rules read or show; nothing else has to be sent. `None`, which is the default:
    /// everything.
    fn need(&self, _needed: Option<Needed>) {}

    /// Publishes an interval to all members. Returns when it is stored, so that the source may forget it.
    async fn publish(&self, interval: Arc<Interval>) -> Result<(), RelayError>;

    /// Sends an event to all members. Returns when the relay has accepted it; it is not stored.
    async fn broadcast(&self, event: Arc<Event>) -> Result<(), RelayError>;

    /// Joins; from now on everything published arrives, beginning with a sign of where the sources are.
    async fn join(&self) -> Result<Inbox, RelayError>;

    /// Every stored interval after a position, without a gap; `None` if some are no longer stored.
    async fn replay(&self, source: &str, after: Position) -> Result<Option<Vec<Arc<Interval>>>, RelayError>;

    /// The last interval of a source.
    async fn last(&self, source: &str) -> Result<Option<Arc<Interval>>, RelayError>;

    /// Its state.
    fn standing(&self) -> Standing;
}
