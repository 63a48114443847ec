//! The topics of one instance: the events that it keeps of each, and CloudEvents to and from them.

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_protocol::cloudevent::{CloudEvent, SENDER};
use gossip_protocol::system::TopicRow;
use gossip_protocol::timestamp::rfc3339;
use serde_json::{Map, Value as Json};

use crate::datetime;
use crate::local_source::Own;
use crate::position::{Interval, Position, Timestamp};
use crate::schema::{Row, TOPIC_SOURCE, Table};
use crate::topic::{Floor, Retention, Topic, TopicEvent, TopicState, TopicUpdate};

/// What an event did to its topic.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Applied {
    /// It changed the topic's table.
    Changed,
    /// It is a duplicate, or of no topic here.
    Duplicate,
    /// A later event of its key was there already, so it changed nothing.
    Stale,
}

/// Counters of events.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Events that changed the table.
    pub taken: u64,
    /// Events that were duplicates or stale.
    pub passed: u64,
    /// Malformed events.
    pub malformed: u64,
}

/// All topics.
#[derive(Debug)]
pub struct Topics {
    states: BTreeMap<String, (TopicState, Counts)>,
    own: Own,
    /// Time of the pending event.
    happened: Timestamp,
    /// The newest malformed event: topic and error.
    last_malformed: Option<String>,
}

impl Topics {
    /// Without any events yet. `run` tells this run from all others, here
    /// and elsewhere: positions of topics are its own.
    pub fn new(topics: &[Arc<Topic>], run: u64) -> Topics {
        let state = |t: &Arc<Topic>| (t.table.name.name.to_string(), (TopicState::new(t.clone()), Counts::default()));
        Topics {
            states: topics.iter().map(state).collect(),
            own: Own::new(TOPIC_SOURCE, run),
            happened: 0,
            last_malformed: None,
        }
    }

    /// The topic of a name.
    pub fn get(&self, name: &str) -> Option<&Arc<Topic>> {
        self.states.get(name).map(|(state, _)| state.topic())
    }

    /// All of them, by name.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &TopicState, Counts)> {
        self.states.iter().map(|(name, (state, counts))| (name.as_str(), state, *counts))
    }

    /// The row of `gossip.topics` for a topic at this instance.
    pub fn row(&self, name: &str, instance: &str) -> Option<TopicRow> {
        let (state, counts) = self.states.get(name)?;
        let keep = match state.topic().keep {
            Retention::Nothing => "nothing".to_string(),
            Retention::Last => "last".to_string(),
            Retention::Newest(n) => n.to_string(),
            Retention::During(time) => format!("{} s", time / 1_000_000),
        };
        let last = self.last_malformed.as_ref().filter(|why| why.starts_with(&format!("{name}:")));
        Some(TopicRow {
            name: name.into(),
            instance: instance.into(),
            keep,
            kept: state.len() as u64,
            taken: counts.taken,
            passed: counts.passed,
            malformed: counts.malformed,
            last_malformed: last.cloned(),
        })
    }

    /// The tables.
    pub fn tables(&self) -> impl Iterator<Item = &Arc<Table>> {
        self.states.values().map(|(state, _)| state.topic().table.table())
    }

    /// Applies an event; its change is pending then.
    ///
    /// # Errors
    /// Why it is malformed, without its values.
    pub fn apply(&mut self, name: &str, event: &CloudEvent, now: Timestamp) -> Result<Applied, String> {
        let Some((state, counts)) = self.states.get_mut(name) else { return Ok(Applied::Duplicate) };
        match from_cloudevent(event, state.topic(), None).and_then(|event| Ok((event.time, state.take(event)?))) {
            Ok((time, TopicUpdate::Changed(change))) => {
                counts.taken += 1;
                // A publisher's clock may be ahead: no event happens after it is received.
                self.happened = time.min(now);
                self.own.push(change);
                Ok(Applied::Changed)
            }
            Ok((_, taken)) => {
                counts.passed += 1;
                Ok(if taken == TopicUpdate::Older { Applied::Stale } else { Applied::Duplicate })
            }
            Err(why) => {
                counts.malformed += 1;
                self.last_malformed = Some(format!("{name}: {why}"));
                Err(why)
            }
        }
    }

    /// Another instance has dropped everything that is not newer than this.
    pub fn raise_floor(&mut self, name: &str, floor: Floor) {
        if let Some((state, _)) = self.states.get_mut(name) {
            state.raise_floor(floor);
        }
    }

    /// The pending changes, as an interval.
    pub fn take(&mut self, now: Timestamp) -> Option<Interval> {
        self.own.take(self.happened, now)
    }

    /// An empty interval at the topics' position.
    pub fn sign(&self, now: Timestamp) -> Interval {
        self.own.sign(now)
    }

    /// Their position, for a publisher.
    pub fn position(&self) -> String {
        self.own.position()
    }

    /// All rows of a topic with their position; nothing may be pending.
    pub fn snapshot(&self, name: &str, now: Timestamp) -> (Vec<Row>, Position) {
        (self.states.get(name).map(|(state, _)| state.rows(now)).unwrap_or_default(), self.own.at())
    }
}

/// The topic's event in a CloudEvent. Without a time it happened at `or_now`.
///
/// # Errors
/// What is missing or cannot be read.
pub fn from_cloudevent(event: &CloudEvent, topic: &Topic, or_now: Option<Timestamp>) -> Result<TopicEvent, String> {
    let time = match (&event.time, or_now) {
        (Some(text), _) => {
            let time = datetime::parse_event_time(text).filter(|t| *t != datetime::FOREVER && *t != datetime::NEVER);
            time.ok_or("time: expected RFC 3339")?.saturating_add(datetime::SINCE_1970)
        }
        (None, Some(now)) => now,
        // Events that are not kept need no order.
        (None, None) if topic.keep == Retention::Nothing => 0,
        (None, None) => return Err("time: missing; it says which event is the last".into()),
    };
    Ok(TopicEvent {
        id: event.id.as_str().into(),
        source: event.source.as_str().into(),
        subject: event.subject.as_deref().map(Arc::from),
        sender: event.more.get(SENDER).and_then(Json::as_str).map(Arc::from),
        time,
        data: event.data.clone(),
    })
}

/// A topic's event as a CloudEvent.
pub fn to_cloudevent(name: &str, e: &TopicEvent) -> CloudEvent {
    let mut event = CloudEvent::new(name, &e.source, e.id.to_string(), rfc3339(e.time), e.data.clone());
    event.subject = e.subject.as_deref().map(String::from);
    if let Some(sender) = &e.sender {
        event.more = Map::from_iter([(SENDER.to_string(), Json::from(&**sender))]);
    }
    event
}
