//! What a message broker does for the relay: it takes messages under a name and brings them to everybody who listens.
//!
//! Each broker is spoken to by its ecosystem's own client. All of them say when a message was taken, carry a few
//! properties beside its bytes, and bring the messages of one sender in order as long as the connection stands. What a
//! connection lost is lost: the relay above notices. Some keep messages for those who come later, others do not.

pub mod address;
#[cfg(feature = "amqp")]
mod amqp;
#[cfg(feature = "mqtt")]
mod mqtt;
#[cfg(feature = "nats")]
mod nats;
pub mod protocols;
#[cfg(feature = "redis")]
mod redis;

use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use backon::{BackoffBuilder, ExponentialBackoff, ExponentialBuilder};
use gossip_core::position::Position;
use parking_lot::Mutex;
use tokio::sync::mpsc;

use crate::ingest::{Ingest, Place, Sink};
use crate::message::Message;
use crate::{RelayError, Settings};

/// Longest wait for a broker's acknowledgement.
pub const TIMEOUT: Duration = Duration::from_secs(5);

/// Messages that may wait between a broker's client and the relay.
pub const WAITING: usize = 1_024;

/// Most that is fetched to close one gap: beyond that a snapshot is cheaper.
pub const MOST_FETCHED: usize = 4_096;

/// Longest pause between attempts to connect; jitter can double it.
const LONGEST_PAUSE: Duration = Duration::from_millis(2_500);

/// A broker.
#[async_trait]
pub trait Broker: Send + Sync + 'static {
    /// What it is called: the scheme of its addresses.
    fn kind(&self) -> &'static str;

    /// Most bytes of a message.
    fn max_message_bytes(&self) -> usize;

    /// Whether it can be reached at the moment.
    fn is_connected(&self) -> bool;

    /// Publishes changes of a source. Returns when the broker has acknowledged all of them.
    async fn publish_durable(&self, source: &str, messages: Vec<Message>) -> Result<(), RelayError>;

    /// Publishes a message to those who are subscribed now.
    async fn publish(&self, message: Message) -> Result<(), RelayError>;

    /// Everything under the prefix from now on, one's own messages included. It goes on by itself after the connection
    /// was lost, and ends with the receiver.
    async fn listen(&self) -> Result<mpsc::Receiver<Message>, RelayError>;

    /// The stored messages of a source that end after a position, oldest first; at most [`MOST_FETCHED`], else `None`.
    /// `None` too where nothing is stored.
    async fn replay(&self, _source: &str, _after: Position) -> Result<Option<Vec<Message>>, RelayError> {
        Ok(None)
    }

    /// The messages of the newest stored interval of a source.
    async fn newest(&self, _source: &str) -> Result<Vec<Message>, RelayError> {
        Ok(vec![])
    }

    /// What the broker says of itself: its name and release, where it tells.
    fn about(&self) -> Option<String> {
        None
    }

    /// How much is stored of a source.
    async fn stored(&self, _source: &str) -> Result<Option<Stored>, RelayError> {
        Ok(None)
    }

    /// What it uses on the broker, by what is done there.
    fn names(&self) -> Vec<(&'static str, String)>;
}

/// What a broker stores.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Stored {
    /// Messages.
    pub messages: u64,
    /// Their bytes, as the broker counts them.
    pub bytes: u64,
}

/// A protocol that brokers speak: how their addresses look, and how to connect.
#[async_trait]
pub trait Protocol: Send + Sync + 'static {
    /// The schemes of its addresses, without TLS and with it.
    fn schemes(&self) -> &'static [&'static str];

    /// An address with a filter, for messages.
    fn ingest_example(&self) -> &'static str;

    /// Whether a filter of names can be one of this protocol.
    fn takes_filter(&self, _filter: &str) -> bool {
        true
    }

    /// Connects for the relay. Later losses of the connection are mended by the broker's client.
    ///
    /// # Errors
    ///
    /// The address is not one, or the broker cannot be reached.
    async fn connect(&self, settings: &Settings) -> Result<Arc<dyn Broker>, RelayError>;

    /// Reads messages of other programs into `sink` until the connection ends or `sink` is closed.
    ///
    /// # Errors
    ///
    /// Why it cannot be read.
    async fn ingest(&self, place: Place<'_>, from: &Ingest, sink: &Sink) -> Result<(), RelayError>;
}

/// Those who listen to a broker that speaks to all of them over one connection.
#[derive(Default)]
pub struct Listeners(Mutex<Vec<mpsc::Sender<Message>>>);

impl Listeners {
    /// Another one.
    pub fn add(&self) -> mpsc::Receiver<Message> {
        let (sender, heard) = mpsc::channel(WAITING);
        self.0.lock().push(sender);
        heard
    }

    /// Hands a message to all. Nothing may hold the connection up: what somebody has no room for is lost to them, and
    /// noticed.
    pub fn deliver(&self, message: &Message) {
        let stays = |l: &mpsc::Sender<Message>| {
            !matches!(l.try_send(message.clone()), Err(mpsc::error::TrySendError::Closed(_)))
        };
        self.0.lock().retain(stays);
    }
}

/// Pauses between attempts to connect: longer and longer, and never the same for all instances.
pub fn backoff() -> ExponentialBackoff {
    let from = ExponentialBuilder::default().with_min_delay(Duration::from_millis(50)).with_max_delay(LONGEST_PAUSE);
    from.with_jitter().without_max_times().build()
}

/// Waits for the next pause.
pub async fn pause(backoff: &mut ExponentialBackoff) {
    tokio::time::sleep(backoff.next().unwrap_or(LONGEST_PAUSE)).await;
}
