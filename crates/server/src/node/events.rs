//! Events of topics: published here, heard from the relay, taken in from other programs, and fetched by an instance that
//! starts late.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use gossip_core::datetime;
use gossip_core::engine::Input;
use gossip_core::position::Micros;
use gossip_core::rule::Claims;
use gossip_core::topic::Keep;
use gossip_protocol::cloudevent::{CloudEvent, MAX_EVENT, SENDER};
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{RpcError, code};
use gossip_relay::ingest::{Ingested, Sink};
use gossip_relay::{About, Event, Relay};
use parking_lot::Mutex;
use rand::Rng;
use serde_json::{Map, Value as Json, json};
use tokio::sync::mpsc;
use tokio::task::AbortHandle;

use super::Node;
use super::publishing::{Answer, Name, Published, Publishing};
use crate::now;
use crate::topics::{Heard, read, written};

/// Events that may wait to be handed to the relay.
const WAITING: usize = 1_024;

/// Longest wait of the relay for one event.
const TELL_WITHIN: Duration = Duration::from_secs(5);

/// Asks what is kept of topics; what is kept of one.
const HISTORY_ASK: &str = "gossip.history.ask.v1";
const HISTORY: &str = "gossip.history.v1";

/// Bytes of events in one message of an answer, about.
const HISTORY_BYTES: usize = 64 * 1024;

/// Within this time instances answer, each at a moment of its own, unless another one was first.
const ANSWER_WITHIN_MS: u64 = 300;

/// What sources begin with that Gossip itself names; nobody publishes as one of them but as their own.
const OWN_SOURCES: &str = "/gossip/";

/// Questions that are remembered as answered.
const MAX_ANSWERED: usize = 1_000;

/// What somebody wants to publish.
pub struct Publish {
    /// The topic.
    pub topic: String,
    /// Who.
    pub claims: Arc<Claims>,
    /// The event. What is empty is filled in: its id, its source, its time.
    pub event: CloudEvent,
    /// Told the position once the event has come back.
    pub answer: Answer,
}

/// What is under way.
pub(super) struct Events {
    tell: mpsc::Sender<Arc<Event>>,
    publishing: Publishing,
    /// Listening to topics of other programs, while this instance is the one that does.
    foreign: Vec<AbortHandle>,
    /// How that stands, by topic; empty while it listens.
    foreign_state: Arc<Mutex<BTreeMap<String, String>>>,
    /// Questions about history that somebody has answered.
    answered: Arc<Mutex<HashSet<String>>>,
    was_connected: bool,
}

impl Events {
    /// Starts the task that hands events to the relay, one after the other, so that each sender's stay in order.
    pub(super) fn start(relay: Arc<dyn Relay>) -> Events {
        let (tell, mut told) = mpsc::channel::<Arc<Event>>(WAITING);
        tokio::spawn(async move {
            while let Some(event) = told.recv().await {
                let outcome = tokio::time::timeout(TELL_WITHIN, relay.tell(event)).await;
                if !matches!(outcome, Ok(Ok(()))) {
                    tracing::debug!("an event was not taken by the relay");
                }
            }
        });
        Events {
            tell,
            publishing: Publishing::default(),
            foreign: Vec::new(),
            foreign_state: Arc::default(),
            answered: Arc::default(),
            was_connected: true,
        }
    }
}

fn not_permitted(topic: &str) -> RpcError {
    let shown: String = topic.chars().take(60).collect();
    RpcError::new(code::NOT_KNOWN, format!("topic {shown} is not known or not permitted"))
}

fn unavailable(why: &str) -> RpcError {
    RpcError::new(code::UNAVAILABLE, format!("not available now: {why}; try again with the same id"))
        .with(json!({"retry_after_ms": 1_000}))
}

/// Takes back to this moment what says that it happened later: an event of the year 9999 would otherwise be the last one
/// of its key for ever, and push out all that a topic keeps by time. What cannot be read is left for [`read`] to refuse.
fn not_later_than(now: Micros, event: &mut CloudEvent) {
    let said = event.time.as_deref().and_then(datetime::parse_event_time);
    if said.is_some_and(|time| time != datetime::FOREVER && time.saturating_add(datetime::SINCE_1970) > now) {
        event.time = Some(rfc3339(now));
    }
}

fn name_of(topic: &str, event: &CloudEvent) -> Name {
    let sender = event.more.get(SENDER).and_then(Json::as_str).map(String::from);
    (topic.into(), sender, event.source.clone(), event.id.clone())
}

pub(super) fn new_id() -> String {
    format!("{:032x}", rand::rng().random::<u128>())
}

impl Node {
    /// Hands an event to the relay if it may be published.
    pub(super) fn publish(&mut self, p: Publish) {
        let Publish { topic: name, claims, mut event, answer } = p;
        let topic = self.topics.get(&name).filter(|t| self.engine.rules().may_publish_to(&t.table, &claims)).cloned();
        let Some(topic) = topic else {
            let _ = answer.send(Err(not_permitted(&name)));
            return;
        };
        if event.id.is_empty() {
            event.id = new_id();
        }
        let invalid = |why: String| RpcError::new(code::INVALID_PARAMS, format!("topic {name}: {why}"));
        // The same for the same person everywhere, so that a retry elsewhere is known again.
        let own = format!("{OWN_SOURCES}clients/{}", claims.subject().unwrap_or("anonymous"));
        if event.source.is_empty() {
            event.source = own;
        } else if event.source.starts_with(OWN_SOURCES) && event.source != own {
            let why =
                format!("source: what begins with {OWN_SOURCES} is somebody else's; leave it out, or name your own");
            let _ = answer.send(Err(invalid(why)));
            return;
        }
        event.kind.clone_from(&name);
        event.time.get_or_insert_with(|| rfc3339(now()));
        not_later_than(now(), &mut event);
        event.datacontenttype.get_or_insert_with(|| "application/json".into());
        match claims.subject() {
            Some(subject) => drop(event.more.insert(SENDER.into(), subject.into())),
            None => drop(event.more.remove(SENDER)),
        }
        let fits = event.check().and_then(|()| match event.to_bytes().len() {
            n if n > MAX_EVENT => Err(format!("an event has at most {MAX_EVENT} bytes, this one {n}")),
            _ => topic.row(&read(&event, &topic, None)?),
        });
        let row = match fits {
            Ok(row) => row,
            Err(why) => {
                let _ = answer.send(Err(invalid(why)));
                return;
            }
        };
        let rules = self.engine.rules();
        if !rules.may_publish(topic.table.table(), &row, &topic.chosen(), &claims, self.engine.catalog()) {
            let _ = answer.send(Err(not_permitted(&name)));
            return;
        }
        let named = name_of(&name, &event);
        let told = Arc::new(Event { about: About::Topic(name), event });
        if self.events.publishing.is_full() || self.events.tell.try_send(told).is_err() {
            let _ = answer.send(Err(unavailable("too many events wait for the relay")));
            return;
        }
        self.events.publishing.wait(named, answer, now());
    }

    /// Takes an event from the relay.
    pub(super) fn told(&mut self, event: &Event) {
        match &event.about {
            About::Members => self.told_of_member(&event.event),
            About::Topic(name) => {
                let heard = self.hear_event(name, &event.event);
                for answer in self.events.publishing.came_back(&name_of(name, &event.event)) {
                    let published = |of| Published { position: self.topics.position(), older: of == Heard::Older };
                    let outcome = heard.clone().map(published);
                    let _ = answer.send(outcome.map_err(|why| RpcError::new(code::INVALID_PARAMS, why)));
                }
            }
        }
    }

    fn hear_event(&mut self, topic: &str, event: &CloudEvent) -> Result<Heard, String> {
        let heard = self.topics.hear(topic, event, now())?;
        if heard == Heard::Changed
            && let Some(interval) = self.topics.take(now())
        {
            self.received = now();
            self.handle(Input::Interval(Arc::new(interval)));
        }
        Ok(heard)
    }

    /// What is to be done for topics from time to time. `reads` says whether this instance is the source's reader: it
    /// also listens to other programs, for all.
    pub(super) fn tend_topics(&mut self, reads: bool) {
        for answer in self.events.publishing.late(now()) {
            let _ = answer.send(Err(unavailable("the event has not come back over the relay")));
        }
        match (reads, self.events.foreign.is_empty()) {
            (true, true) => self.listen_to_others(),
            (false, false) => {
                self.events.foreign.drain(..).for_each(|task| task.abort());
                self.events.foreign_state.lock().clear();
            }
            _ => {}
        }
        let connected = self.start.relay.standing().connected;
        if connected && !std::mem::replace(&mut self.events.was_connected, connected) {
            self.ask_history();
        }
        self.events.was_connected = connected;
    }

    fn listen_to_others(&mut self) {
        for (name, from) in &self.start.foreign {
            let (heard, mut messages) = mpsc::channel::<Ingested>(WAITING);
            let (from, topic) = (from.clone(), name.clone());
            let state = self.events.foreign_state.clone();
            let listening = tokio::spawn(async move {
                let sink = Sink::new(heard, move |why| {
                    if let Some(why) = &why {
                        tracing::warn!(%topic, "cannot listen: {why}");
                    }
                    state.lock().insert(topic.clone(), why.unwrap_or_default());
                });
                gossip_relay::ingest(&from, sink).await;
            });
            let (tell, name) = (self.events.tell.clone(), name.clone());
            let passing_on = tokio::spawn(async move {
                while let Some(message) = messages.recv().await {
                    let event = Event { about: About::Topic(name.clone()), event: taken_in(&name, &message) };
                    if tell.send(Arc::new(event)).await.is_err() {
                        return;
                    }
                }
            });
            self.events.foreign.extend([listening.abort_handle(), passing_on.abort_handle()]);
        }
    }

    /// How listening to other programs stands, in a few words.
    pub(super) fn foreign_state(&self) -> String {
        let state = self.events.foreign_state.lock();
        let one = |(topic, why): (&String, &String)| match why.as_str() {
            "" => format!("{topic}: listening"),
            why => format!("{topic}: {why}"),
        };
        state.iter().map(one).collect::<Vec<_>>().join("; ")
    }

    /// Tells all members something. What the relay has no room for now is not told.
    pub(super) fn tell_members(&self, kind: &str, data: Json) {
        let source = format!("/gossip/{}", self.start.name);
        let event = CloudEvent::new(kind, &source, new_id(), rfc3339(now()), data);
        let _ = self.events.tell.try_send(Arc::new(Event { about: About::Members, event }));
    }

    /// Tells all members something later, from a task.
    pub(super) fn teller(&self) -> Teller {
        Teller { tell: self.events.tell.clone(), source: format!("/gossip/{}", self.start.name) }
    }

    /// Asks the other instances for what is kept of topics.
    pub(super) fn ask_history(&self) {
        let kept: Vec<&str> =
            self.topics.iter().filter(|(_, s, _)| s.topic().keep != Keep::Nothing).map(|(name, ..)| name).collect();
        if !kept.is_empty() {
            self.tell_members(HISTORY_ASK, json!({"topics": kept}));
        }
    }

    /// Asks one instance for what it keeps of some topics.
    pub(super) fn ask_history_of(&self, instance: &str, topics: &[String]) {
        if !topics.is_empty() {
            tracing::info!("instance {instance} holds something else of {}; asking it", topics.join(", "));
            self.tell_members(HISTORY_ASK, json!({"topics": topics, "whom": instance}));
        }
    }

    /// Takes what concerns history; `false` if it does not.
    pub(super) fn told_history(&mut self, event: &CloudEvent) -> bool {
        match event.kind.as_str() {
            HISTORY_ASK => {
                let asked = event.data["topics"].as_array().cloned().unwrap_or_default();
                if event.data["whom"].as_str().is_some_and(|whom| whom != self.start.name) {
                    return true;
                }
                self.answer_history(&event.id, asked.iter().filter_map(Json::as_str));
                true
            }
            HISTORY => {
                if let Some(ask) = event.data["ask"].as_str() {
                    let mut answered = self.events.answered.lock();
                    if answered.len() >= MAX_ANSWERED {
                        answered.clear();
                    }
                    answered.insert(ask.to_string());
                }
                let topic = event.data["topic"].as_str().unwrap_or("").to_string();
                if let Ok(floor) = serde_json::from_value(event.data["floor"].clone()) {
                    self.topics.raise_floor(&topic, floor);
                }
                for told in event.data["events"].as_array().into_iter().flatten() {
                    if let Ok(told) = serde_json::from_value::<CloudEvent>(told.clone()) {
                        // One that does not fit has been counted.
                        let _ = self.hear_event(&topic, &told);
                    }
                }
                true
            }
            _ => false,
        }
    }

    fn answer_history<'a>(&self, ask: &str, topics: impl Iterator<Item = &'a str>) {
        let mut messages = Vec::new();
        for name in topics {
            let Some((_, state, _)) = self.topics.iter().find(|(n, ..)| *n == name) else { continue };
            let (mut events, mut bytes) = (Vec::new(), 0);
            let message =
                |events: Vec<Json>| json!({"ask": ask, "topic": name, "floor": state.floor(), "events": events});
            for e in state.events() {
                let event = written(name, e);
                bytes += event.to_bytes().len();
                events.push(json!(event));
                if bytes > HISTORY_BYTES {
                    messages.push(message(std::mem::take(&mut events)));
                    bytes = 0;
                }
            }
            if !events.is_empty() {
                messages.push(message(events));
            }
        }
        if messages.is_empty() {
            return;
        }
        let (teller, answered, ask) = (self.teller(), self.events.answered.clone(), ask.to_string());
        tokio::spawn(async move {
            let wait = rand::rng().random_range(0..ANSWER_WITHIN_MS);
            tokio::time::sleep(Duration::from_millis(wait)).await;
            if answered.lock().contains(&ask) {
                return;
            }
            for data in messages {
                teller.tell(HISTORY, data).await;
            }
        });
    }
}

/// Tells all members something.
pub(super) struct Teller {
    tell: mpsc::Sender<Arc<Event>>,
    source: String,
}

impl Teller {
    /// Waits until the relay has room for it. Does nothing once the instance has ended.
    pub(super) async fn tell(&self, kind: &str, data: Json) {
        let event = CloudEvent::new(kind, &self.source, new_id(), rfc3339(now()), data);
        let _ = self.tell.send(Arc::new(Event { about: About::Members, event })).await;
    }
}

impl Drop for Events {
    fn drop(&mut self) {
        self.foreign.iter().for_each(AbortHandle::abort);
    }
}

/// What another program said, as an event: what it was, if it was one, else with the message as its data. What it does
/// not say itself is said here, once for all instances.
fn taken_in(topic: &str, message: &Ingested) -> CloudEvent {
    let time = rfc3339(now());
    if let Ok(mut event) = CloudEvent::read(&message.bytes) {
        event.time.get_or_insert(time);
        not_later_than(now(), &mut event);
        event.subject.get_or_insert_with(|| message.name.clone());
        event.more.remove(SENDER);
        return event;
    }
    // What is not JSON does not fit any column, and is counted as such by everybody.
    let data = serde_json::from_slice(&message.bytes).unwrap_or(Json::Null);
    let mut event = CloudEvent::new(topic, &format!("/foreign/{topic}"), new_id(), time, data);
    event.subject = Some(message.name.clone());
    event.more = Map::new();
    event
}
