//! Events of topics: published here, received from the relay, ingested from other programs, and fetched by an instance that
//! starts late.

use std::sync::Arc;

use gossip_core::cluster::topics::{Applied, from_cloudevent};
use gossip_core::datetime;
use gossip_core::engine::Input;
use gossip_core::position::Timestamp;
use gossip_core::publication::Publication;
use gossip_protocol::cloudevent::{CloudEvent, MAX_EVENT, SENDER};
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{RpcError, code};
use gossip_relay::ingest::{Ingested, Sink};
use gossip_relay::{About, Event};
use serde_json::{Map, Value as Json, json};
use tokio::sync::mpsc;

use super::outgoing::{WAITING, new_id};
use super::publishing::{Name, Published};
use super::question::Publish;
use super::state::Node;
use crate::now;

/// The prefix of sources that Gossip assigns; clients cannot publish under another's.
const OWN_SOURCES: &str = "/gossip/";

fn not_permitted(topic: &str) -> RpcError {
    let shown: String = topic.chars().take(60).collect();
    RpcError::new(code::NOT_KNOWN, format!("topic {shown} is not known or not permitted"))
}

fn unavailable(why: &str) -> RpcError {
    RpcError::new(code::UNAVAILABLE, format!("not available now: {why}; try again with the same id"))
        .with(json!({"retry_after_ms": 1_000}))
}

/// Takes back to this moment what says that it happened later: an event of the year 9999 would otherwise be the last one
/// of its key for ever, and push out all that a topic keeps by time. What cannot be read is left for [`from_cloudevent`] to refuse.
fn not_later_than(now: Timestamp, event: &mut CloudEvent) {
    let said = event.time.as_deref().and_then(datetime::parse_event_time);
    if said.is_some_and(|time| time != datetime::FOREVER && time.saturating_add(datetime::SINCE_1970) > now) {
        event.time = Some(rfc3339(now));
    }
}

fn name_of(topic: &str, event: &CloudEvent) -> Name {
    let sender = event.more.get(SENDER).and_then(Json::as_str).map(String::from);
    (topic.into(), sender, event.source.clone(), event.id.clone())
}

impl Node {
    /// Hands an event to the relay if it may be published.
    pub(super) fn publish(&mut self, p: Publish) {
        let Publish { topic: name, claims, mut event, answer } = p;
        let topic =
            self.cluster.topics().get(&name).filter(|t| self.engine.rules().may_publish_to(&t.table, &claims)).cloned();
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
            let why = format!("source: what begins with {OWN_SOURCES} is reserved; leave it out, or use another");
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
            _ => topic.row(&from_cloudevent(&event, &topic, None)?),
        });
        let row = match fits {
            Ok(row) => row,
            Err(why) => {
                let _ = answer.send(Err(invalid(why)));
                return;
            }
        };
        let (table, chosen) = (topic.table.table(), &topic.chosen());
        let wanted = Publication { table, row: &row, chosen, claims: &claims };
        if !wanted.is_permitted(self.engine.rules(), self.engine.catalog()) {
            let _ = answer.send(Err(not_permitted(&name)));
            return;
        }
        let named = name_of(&name, &event);
        let told = Arc::new(Event { about: About::Topic(name), event });
        if self.events.publishing.is_full() || self.events.queue.try_send(told).is_err() {
            let _ = answer.send(Err(unavailable("too many events wait for the relay")));
            return;
        }
        self.events.publishing.wait(named, answer, now());
    }

    /// Takes an event from the relay.
    pub(super) fn told(&mut self, event: &Event) {
        match &event.about {
            About::Members => self.member_message(&event.event),
            About::Topic(name) => {
                let heard = self.apply_event(name, &event.event);
                for answer in self.events.publishing.came_back(&name_of(name, &event.event)) {
                    let published =
                        |of| Published { position: self.cluster.topics().position(), older: of == Applied::Stale };
                    let outcome = heard.clone().map(published);
                    let _ = answer.send(outcome.map_err(|why| RpcError::new(code::INVALID_PARAMS, why)));
                }
            }
        }
    }

    fn apply_event(&mut self, topic: &str, event: &CloudEvent) -> Result<Applied, String> {
        let (heard, interval) = self.cluster.apply_event(topic, event, now());
        if let Some(interval) = interval {
            self.received = now();
            self.handle(Input::Interval(Arc::new(interval)));
        }
        heard
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
            let outputs = self.cluster.request_history();
            self.cluster_outputs(outputs);
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
            let (queue, name) = (self.events.queue.clone(), name.clone());
            let passing_on = tokio::spawn(async move {
                while let Some(message) = messages.recv().await {
                    let event = Event { about: About::Topic(name.clone()), event: taken_in(&name, &message) };
                    if queue.send(Arc::new(event)).await.is_err() {
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
