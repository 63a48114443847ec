//! Topics of other programs: what they publish on a broker, in whatever form, for one instance to take in and pass on.
//!
//! Where the broker can hold messages for a consumer that is away for a moment (MQTT sessions, AMQP queues), it is asked
//! to, under a name that all instances of a cluster share: the next one that reads gets what the last one did not. How a
//! broker is read is its own affair ([`Protocol::ingest`](crate::broker::Protocol::ingest)).

use std::time::Duration;

use bytes::Bytes;
use tokio::sync::mpsc;

use crate::tls::TlsRoots;

/// How long a broker holds messages while nobody reads them.
pub const AWAY: Duration = Duration::from_secs(300);

/// Bytes of one message that are taken.
pub const MAX_BYTES: u32 = 1 << 20;

/// A message of another program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ingested {
    /// The name under which it was published: a subject, topic, channel or routing key.
    pub name: String,
    /// Its payload.
    pub bytes: Bytes,
}

/// Where a topic of other programs is.
#[derive(Clone, PartialEq, Eq)]
pub struct Ingest {
    /// The broker's address and, behind the first slash, the filter of names as it is. May hold a password.
    pub url: String,
    /// The name that all instances share that may take over from each other.
    pub group: String,
    /// The certificates that the broker's is checked against.
    pub roots: TlsRoots,
}

/// The two parts of an [`Ingest`] address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Place<'a> {
    /// The broker's address.
    pub broker: &'a str,
    /// The filter of names.
    pub filter: &'a str,
}

impl<'a> Place<'a> {
    /// Splits `url` behind its host; `None` if a part is missing.
    pub fn of(url: &'a str) -> Option<Place<'a>> {
        let host = url.find("://")? + 3;
        let slash = host + url[host..].find('/').filter(|&length| length > 0)?;
        let (broker, filter) = (&url[..slash], &url[slash + 1..]);
        (!filter.is_empty()).then_some(Place { broker, filter })
    }
}

/// Takes what a broker delivers, and how reading it goes.
pub struct Sink {
    messages: mpsc::Sender<Ingested>,
    state: Box<dyn Fn(Option<String>) + Send + Sync>,
}

impl Sink {
    /// Messages go to `messages`, which bounds how many wait. `state` gets `None` when reading begins, else why it
    /// cannot.
    pub fn new(messages: mpsc::Sender<Ingested>, state: impl Fn(Option<String>) + Send + Sync + 'static) -> Sink {
        Sink { messages, state: Box::new(state) }
    }

    /// Passes a message on; one that is too long without its bytes, which then does not fit the topic and is counted as
    /// such. `false` once nobody takes them any more.
    pub async fn pass_on(&self, name: String, bytes: Bytes) -> bool {
        let bytes = if bytes.len() > MAX_BYTES as usize { Bytes::new() } else { bytes };
        self.messages.send(Ingested { name, bytes }).await.is_ok()
    }

    /// The broker has accepted the subscription.
    pub fn reading(&self) {
        (self.state)(None);
    }

    /// It has not, or the connection is lost.
    pub fn failed(&self, why: String) {
        (self.state)(Some(why));
    }

    /// Waits until nobody takes messages any more.
    pub async fn closed(&self) {
        self.messages.closed().await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_message_that_is_too_long_is_passed_on_as_one_that_does_not_fit() {
        let (out, mut messages) = mpsc::channel(2);
        let sink = Sink::new(out, |_| {});
        for n in [MAX_BYTES, MAX_BYTES + 1] {
            assert!(sink.pass_on("tide".into(), vec![b' '; n as usize].into()).await);
        }
        assert_eq!(messages.recv().await.unwrap().bytes.len(), MAX_BYTES as usize);
        assert_eq!(messages.recv().await, Some(Ingested { name: "tide".into(), bytes: Bytes::new() }));
        drop(messages);
        assert!(!sink.pass_on("tide".into(), Bytes::new()).await);
    }

    #[test]
    fn an_address_is_a_broker_and_a_filter() {
        let place = |broker, filter| Some(Place { broker, filter });
        assert_eq!(Place::of("mqtt://me:x@h:1/a/+/#"), place("mqtt://me:x@h:1", "a/+/#"));
        assert_eq!(Place::of("nats://h/a.>"), place("nats://h", "a.>"));
        for bad in ["mqtt://h", "mqtt://h/", "nats:///a", "secret", ""] {
            assert_eq!(Place::of(bad), None, "{bad}");
        }
    }
}
