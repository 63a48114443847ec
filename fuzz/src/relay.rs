//! What is said on a message broker, by instances and by anybody else who may publish there.

use std::collections::BTreeMap;
use std::sync::{Arc, LazyLock};

use async_trait::async_trait;
use gossip_core::cluster::message::Message as Member;
use gossip_core::cluster::{Cluster, Output};
use gossip_core::position::Position;
use gossip_core::topic::{ColumnSource, Retention, Topic};
use gossip_core::value::Type;
use gossip_protocol::CloudEvent;
use gossip_protocol::system::{InstanceRow, LinkRow};
use gossip_relay::broker::Broker;
use gossip_relay::broker_relay::BrokerRelay;
use gossip_relay::event::{decode, encode, learn};
use gossip_relay::message::{Message, Path};
use gossip_relay::parts::Part;
use gossip_relay::vouch::Keys;
use gossip_relay::{Received, Relay, RelayError, Settings};
use parking_lot::Mutex;
use tokio::runtime::{Builder, Runtime};
use tokio::sync::mpsc;

/// Messages in one go.
const MOST: usize = 64;

/// A broker on which everything has been said already.
struct Said(Mutex<Option<Vec<Message>>>, Vec<Message>);

#[async_trait]
impl Broker for Said {
    fn kind(&self) -> &'static str {
        "said"
    }

    fn max_message_bytes(&self) -> usize {
        1 << 20
    }

    /// Nobody is there who could be asked for what it does not keep.
    fn is_connected(&self) -> bool {
        false
    }

    async fn publish_durable(&self, _: &str, _: Vec<Message>) -> Result<(), RelayError> {
        Ok(())
    }

    async fn publish(&self, _: Message) -> Result<(), RelayError> {
        Ok(())
    }

    async fn listen(&self) -> Result<mpsc::Receiver<Message>, RelayError> {
        let (sender, heard) = mpsc::channel(MOST);
        for message in self.0.lock().take().unwrap_or_default() {
            let _ = sender.try_send(message);
        }
        Ok(heard)
    }

    async fn replay(&self, _: &str, _: Position) -> Result<Option<Vec<Message>>, RelayError> {
        Ok(Some(self.1.clone()))
    }

    async fn newest(&self, _: &str) -> Result<Vec<Message>, RelayError> {
        Ok(self.1.clone())
    }

    fn names(&self) -> Vec<(&'static str, String)> {
        vec![]
    }
}

static KEYS: LazyLock<Keys> = LazyLock::new(|| Keys::new(b"the cluster's secret", None));

thread_local! {
    static RUNTIME: Runtime = Builder::new_current_thread().enable_all().build().expect("a runtime");
}

/// Takes messages, each after its length (two bytes, the higher first) and a byte that says under what it stands, which
/// part it is, and whether an instance said it.
pub fn run(data: &[u8]) {
    let settings = Settings { keys: Some(KEYS.clone()), ..Settings::default() };
    let mut messages = Vec::new();
    let mut rest = data;
    while let Some(([high, low, how], tail)) = rest.split_first_chunk().filter(|_| messages.len() < MOST) {
        let length: usize = u16::from_be_bytes([*high, *low]).into();
        let (bytes, tail) = tail.split_at(tail.len().min(length));
        rest = tail;
        messages.push(message(&settings.prefix, *how, bytes));
    }
    believe(&messages);
    let kept: Vec<Message> = messages.iter().filter(|m| matches!(m.path, Path::Rows(_))).cloned().collect();
    RUNTIME.with(|runtime| runtime.block_on(hear(Said(Mutex::new(Some(messages)), kept), &settings)));
}

fn message(prefix: &str, how: u8, bytes: &[u8]) -> Message {
    let name = ["s", "north", "notes", "other"][usize::from(how >> 2 & 3)].to_string();
    let path = [Path::Rows, Path::Beat, Path::Topic, Path::Member][usize::from(how & 3)](name);
    let part = [(0, 1), (0, 1), (0, 2), (1, 2)].map(|(index, of)| Part { index, of })[usize::from(how >> 4 & 3)];
    let mut message = Message { path, part, to: None, id: String::new(), code: None, bytes: bytes.to_vec().into() };
    if how & 0x40 == 0 {
        message.code = Some(KEYS.code(prefix, &message));
    }
    message
}

/// A topic that keeps what it hears.
fn notes() -> Arc<Topic> {
    let columns = vec![("text".into(), Type::Text, ColumnSource::Path(vec!["text".into()]))];
    Arc::new(Topic::new("notes", columns, &[], Retention::Newest(8), None).expect("a topic"))
}

/// What an instance makes of events, had the relay let them through, which it does while they are fresh: whatever follows
/// can be said, and is understood.
fn believe(messages: &[Message]) {
    let mut cluster = Cluster::new("north", 1, 1, 1..=1, &[notes()]);
    for (message, now) in messages.iter().zip((0..).step_by(100_000)) {
        let Ok(event) = CloudEvent::read(&message.bytes) else { continue };
        let mut follows = cluster.tick(now);
        match &message.path {
            Path::Topic(name) => drop(cluster.apply_event(name, &event, now)),
            _ => {
                if let Some((from, said)) = Member::read(&event) {
                    follows.extend(cluster.receive(from, &event.id, said, now));
                }
            }
        }
        follows.extend(cluster.report_status(InstanceRow::default(), LinkRow::default(), vec![], now));
        for one in follows {
            if let Output::Broadcast(message) = one {
                let said = message.to_event("north", "id".into(), now);
                assert!(Member::read(&said).is_some(), "{said:?}");
            }
        }
    }
}

async fn hear(said: Said, settings: &Settings) {
    let relay = BrokerRelay::new(Arc::new(said), settings, "north");
    let mut inbox = relay.join().await.expect("it listens");
    while let Some(heard) = inbox.recv().await {
        match heard {
            Received::Interval(interval) => {
                // What is said on is understood as well.
                let mut tables = BTreeMap::new();
                learn(&mut tables, &interval);
                decode(&encode(&interval, &tables)).expect("what it says itself");
            }
            Received::Event(event) => {
                let again: CloudEvent = serde_json::from_slice(&event.event.to_bytes()).expect("what it says itself");
                assert_eq!(again.check(), Ok(()));
            }
        }
    }
    let since = relay.replay("s", Position::default()).await.ok().flatten().unwrap_or_default();
    since.windows(2).for_each(|w| assert!(w[1].from <= w[0].to, "a gap"));
    let _ = relay.standing();
}
