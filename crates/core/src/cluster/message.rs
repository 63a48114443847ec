//! What instances tell each other of themselves, as typed messages and in the words of CloudEvents.
//!
//! A message's source is `/gossip/` and the name of the instance that says it. What does not fit is not a message: whoever
//! reads one goes on without it.

use std::collections::BTreeMap;
use std::ops::RangeInclusive;

use gossip_protocol::system::{AlarmRow, InstanceRow, LinkRow, PresenceRow, SystemRow, TopicRow};
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{Call, CloudEvent, RpcError, code};
use serde_json::{Map, Value as Json, json};

use super::presence::{Told, Where};
use crate::position::Micros;
use crate::schema::Row;
use crate::topic::Floor;
use crate::value::Value;

/// Alarms that one instance tells the others.
const MAX_ALARMS: usize = 20;

/// What a message's source begins with.
const SOURCE: &str = "/gossip/";

const STANDS: &str = "gossip.instance.v1";
const PEOPLE: &str = "gossip.presence.v1";
const HISTORY_ASK: &str = "gossip.history.ask.v1";
const HISTORY: &str = "gossip.history.v1";
const CALL: &str = "gossip.call.v1";
const ANSWER: &str = "gossip.call.answer.v1";

/// How an instance stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Stands {
    /// When it began, by its clock.
    pub run: u64,
    /// When it said so.
    pub sent: Micros,
    /// Its row of `gossip.instances`.
    pub instance: InstanceRow,
    /// Its row of `gossip.links`.
    pub link: LinkRow,
    /// Its rows of `gossip.topics`.
    pub topics: Vec<TopicRow>,
    /// Its rows of `gossip.alarms`, not more than a few.
    pub alarms: Vec<AlarmRow>,
    /// Digests of what it holds, by topic.
    pub digests: BTreeMap<String, u64>,
    /// The versions of the relay's format that it reads.
    pub reads: RangeInclusive<u32>,
}

/// A message of one instance to all others.
#[derive(Clone, Debug, PartialEq)]
pub enum Message {
    /// How it stands; every second.
    Stands(Box<Stands>),
    /// It stops: nobody need wait for it.
    Leaves {
        /// When it began.
        run: u64,
    },
    /// Who is present at it: all, or what has changed.
    People(Told),
    /// It asks what others keep of topics.
    AskHistory {
        /// Which topics.
        topics: Vec<String>,
        /// The instance that is asked; `None`: whichever answers first.
        whom: Option<String>,
    },
    /// What it keeps of a topic, or a part of that.
    History {
        /// The id of the question.
        ask: String,
        /// The topic.
        topic: String,
        /// There is no room for what is not newer than this.
        floor: Option<Floor>,
        /// The events.
        events: Vec<CloudEvent>,
    },
    /// An operator's call that another instance is to answer.
    Call {
        /// The call's id.
        id: String,
        /// The instance.
        instance: String,
        /// The call's name.
        method: String,
        /// Its parameters.
        params: Map<String, Json>,
    },
    /// The answer.
    Answer {
        /// The call's id.
        id: String,
        /// What came of it.
        outcome: Result<Json, RpcError>,
    },
}

impl Message {
    /// A call as another instance is asked to answer it.
    pub fn call(id: String, instance: String, call: &Call) -> Message {
        let call = json!(call);
        let method = call["method"].as_str().unwrap_or_default().into();
        Message::Call { id, instance, method, params: call["params"].as_object().cloned().unwrap_or_default() }
    }

    /// In the words of CloudEvents, as the instance of this name says it. `id` is the event's.
    pub fn to_event(&self, from: &str, id: String, now: Micros) -> CloudEvent {
        let (kind, data) = match self {
            Message::Stands(s) => (STANDS, stands(s)),
            Message::Leaves { run } => (STANDS, json!({"run": run, "leaves": true})),
            Message::People(told) => (PEOPLE, people(told)),
            Message::AskHistory { topics, whom: None } => (HISTORY_ASK, json!({"topics": topics})),
            Message::AskHistory { topics, whom } => (HISTORY_ASK, json!({"topics": topics, "whom": whom})),
            Message::History { ask, topic, floor, events } => {
                (HISTORY, json!({"ask": ask, "topic": topic, "floor": floor, "events": events}))
            }
            Message::Call { id, instance, method, params } => {
                (CALL, json!({"id": id, "instance": instance, "call": method, "params": params}))
            }
            Message::Answer { id, outcome: Ok(result) } => (ANSWER, json!({"id": id, "result": result})),
            Message::Answer { id, outcome: Err(e) } => (ANSWER, json!({"id": id, "error": e})),
        };
        CloudEvent::new(kind, &format!("{SOURCE}{from}"), id, rfc3339(now), data)
    }

    /// Who says what in an event; `None` if it is no message.
    pub fn read(event: &CloudEvent) -> Option<(&str, Message)> {
        let from = event.source.strip_prefix(SOURCE)?;
        let data = &event.data;
        let text = |name: &str| data[name].as_str().map(String::from);
        let message = match event.kind.as_str() {
            STANDS if data["leaves"] == Json::Bool(true) => Message::Leaves { run: data["run"].as_u64()? },
            STANDS => Message::Stands(Box::new(read_stands(data)?)),
            PEOPLE => Message::People(read_people(from, data)?),
            HISTORY_ASK => Message::AskHistory { topics: texts(&data["topics"]), whom: text("whom") },
            HISTORY => {
                let events = data["events"].as_array().into_iter().flatten();
                Message::History {
                    ask: text("ask")?,
                    topic: text("topic")?,
                    floor: serde_json::from_value(data["floor"].clone()).ok(),
                    events: events.filter_map(|e| serde_json::from_value(e.clone()).ok()).collect(),
                }
            }
            CALL => Message::Call {
                id: text("id")?,
                instance: text("instance")?,
                method: text("call")?,
                params: data["params"].as_object().cloned().unwrap_or_default(),
            },
            ANSWER => {
                let unread = || RpcError::new(code::UNAVAILABLE, "the instance answers what nobody can read");
                let outcome = match data.get("error") {
                    None => Ok(data["result"].clone()),
                    Some(e) => Err(serde_json::from_value(e.clone()).unwrap_or_else(|_| unread())),
                };
                Message::Answer { id: text("id")?, outcome }
            }
            _ => return None,
        };
        Some((from, message))
    }

    /// Whether it is said again and again, so that nobody needs to be told of it.
    pub fn is_routine(&self) -> bool {
        matches!(self, Message::Stands(_) | Message::People(Told { share: Some(_), .. }))
    }
}

fn texts(json: &Json) -> Vec<String> {
    json.as_array().into_iter().flatten().filter_map(Json::as_str).map(String::from).collect()
}

fn stands(s: &Stands) -> Json {
    let digests: BTreeMap<&str, String> = s.digests.iter().map(|(name, d)| (name.as_str(), d.to_string())).collect();
    json!({
        "run": s.run, "sent": s.sent, "instance": s.instance.to_json(), "link": s.link.to_json(),
        "topics": s.topics.iter().map(SystemRow::to_json).collect::<Vec<_>>(),
        "alarms": s.alarms.iter().take(MAX_ALARMS).map(SystemRow::to_json).collect::<Vec<_>>(),
        "digests": digests, "reads": [s.reads.start(), s.reads.end()],
    })
}

fn row<R: SystemRow>(told: &Json) -> Option<R> {
    R::read(told.as_object()?).ok()
}

fn rows<R: SystemRow>(told: &Json, most: usize) -> Vec<R> {
    told.as_array().into_iter().flatten().take(most).filter_map(row).collect()
}

fn read_stands(data: &Json) -> Option<Stands> {
    let reads = |i: usize| data["reads"][i].as_u64().and_then(|v| u32::try_from(v).ok()).unwrap_or(1);
    let digest = |(topic, digest): (&String, &Json)| Some((topic.clone(), digest.as_str()?.parse().ok()?));
    Some(Stands {
        run: data["run"].as_u64()?,
        sent: data["sent"].as_i64().unwrap_or_default(),
        instance: row(&data["instance"])?,
        link: row(&data["link"])?,
        topics: rows(&data["topics"], usize::MAX),
        alarms: rows(&data["alarms"], MAX_ALARMS),
        digests: data["digests"].as_object().into_iter().flatten().filter_map(digest).collect(),
        reads: reads(0)..=reads(1),
    })
}

/// A row of `gossip.presence` as the engine has it.
pub fn person(row: PresenceRow) -> Row {
    row.cells().into_iter().map(Value::from).collect()
}

fn people(told: &Told) -> Json {
    let shown = |row: &Row| -> Json {
        let named = PresenceRow::SHAPE.columns.iter().zip(row.iter());
        named.map(|((name, _), value)| (name.to_string(), value.to_json())).collect::<Map<_, _>>().into()
    };
    let one = |(at, row): &(Where, Option<Row>)| match row {
        Some(row) => shown(row),
        None => json!({"place": &*at.0, "client": at.1, "gone": true}),
    };
    let people: Vec<Json> = told.people.iter().map(one).collect();
    let mut data = json!({"run": told.run, "number": told.number, "people": people});
    if let Some((index, of)) = told.share {
        (data["index"], data["of"]) = (index.into(), of.into());
    }
    data
}

/// Whoever names somebody who is elsewhere says nothing that counts.
fn read_people(from: &str, data: &Json) -> Option<Told> {
    let one = |one: &Map<String, Json>| {
        if one.get("gone") == Some(&Json::Bool(true)) {
            return Some(((one.get("place")?.as_str()?.into(), one.get("client")?.as_u64()?), None));
        }
        let row = PresenceRow::read(one).ok().filter(|row| row.instance == from)?;
        Some(((row.place.as_str().into(), row.client), Some(person(row))))
    };
    let people = data["people"].as_array().into_iter().flatten().filter_map(Json::as_object);
    let number = |of: &str| data[of].as_u64().and_then(|n| usize::try_from(n).ok());
    Some(Told {
        run: data["run"].as_u64()?,
        number: data["number"].as_u64().unwrap_or_default(),
        share: number("index").zip(number("of")),
        people: people.map(one).collect::<Option<_>>()?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use gossip_protocol::system::Moment;

    #[test]
    fn whatever_is_said_is_understood_the_same() {
        let instance = InstanceRow { name: "north".into(), changes: 1 << 60, ..InstanceRow::default() };
        let stands = Stands {
            run: 7,
            sent: 5,
            instance,
            link: LinkRow { delay_ms: Some(0.5), ..LinkRow::default() },
            topics: vec![TopicRow { name: "tide".into(), ..TopicRow::default() }],
            alarms: vec![AlarmRow { instance: "north".into(), ..AlarmRow::default() }],
            digests: BTreeMap::from([("tide".into(), u64::MAX)]),
            reads: 3..=4,
        };
        let someone = PresenceRow {
            place: "quay".into(),
            instance: "north".into(),
            client: 3,
            subject: None,
            data: json!({"typing": true}),
            since: Moment("2026-11-23T10:00:00.000001Z".into()),
        };
        let people = vec![(("quay".into(), 3), Some(person(someone))), (("quay".into(), 4), None)];
        let told = |share| Message::People(Told { run: 7, number: 9, share, people: people.clone() });
        let event = CloudEvent::new("tide", "/g", "1".into(), rfc3339(1), json!({"level": 2}));
        let drain = Call::Drain { instance: Some("south".into()) };
        for message in [
            Message::Stands(Box::new(stands)),
            Message::Leaves { run: 7 },
            told(None),
            told(Some((1, 3))),
            Message::AskHistory { topics: vec!["tide".into()], whom: Some("south".into()) },
            Message::AskHistory { topics: vec![], whom: None },
            Message::History { ask: "a".into(), topic: "tide".into(), floor: None, events: vec![event] },
            Message::call("c".into(), "south".into(), &drain),
            Message::Answer { id: "c".into(), outcome: Ok(json!({"done": 1})) },
            Message::Answer { id: "c".into(), outcome: Err(RpcError::new(code::LIMIT, "full")) },
        ] {
            let event = message.to_event("north", "e".into(), 1);
            let event = CloudEvent::read(&event.to_bytes()).unwrap();
            assert_eq!(Message::read(&event), Some(("north", message)));
        }
        // Nobody says who is present elsewhere.
        let forged = told(None).to_event("south", "e".into(), 1);
        assert_eq!(Message::read(&forged), None);
    }
}
