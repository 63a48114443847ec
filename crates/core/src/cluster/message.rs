//! The messages between instances, typed, and as CloudEvents.
//!
//! An event's source is `/gossip/` and the name of the sending instance. Events that do not have this form are ignored.

use std::collections::BTreeMap;
use std::ops::RangeInclusive;

use gossip_protocol::system::{AlarmRow, InstanceRow, LinkRow, PresenceRow, SystemRow, TopicRow};
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{Call, CloudEvent, RpcError, code};
use serde_json::{Map, Value as Json, json};

use super::presence::{Location, PresenceUpdate};
use crate::position::Timestamp;
use crate::schema::Row;
use crate::topic::Floor;
use crate::value::Value;

/// Alarms that an instance reports to the others.
const MAX_ALARMS: usize = 20;

/// The prefix of a message's source.
const SOURCE: &str = "/gossip/";

const STATUS: &str = "gossip.instance.v1";
const PRESENCE: &str = "gossip.presence.v1";
const HISTORY_REQUEST: &str = "gossip.history.ask.v1";
const HISTORY_RESPONSE: &str = "gossip.history.v1";
const CALL_REQUEST: &str = "gossip.call.v1";
const CALL_RESPONSE: &str = "gossip.call.answer.v1";

/// The status of an instance.
#[derive(Clone, Debug, PartialEq)]
pub struct Status {
    /// When the instance started, by its clock.
    pub run: u64,
    /// When it was sent, by the sender's clock.
    pub sent: Timestamp,
    /// Its row of `gossip.instances`.
    pub instance: InstanceRow,
    /// Its row of `gossip.links`.
    pub link: LinkRow,
    /// Its rows of `gossip.topics`.
    pub topics: Vec<TopicRow>,
    /// The first of its rows of `gossip.alarms`.
    pub alarms: Vec<AlarmRow>,
    /// A digest of the events it keeps, by topic.
    pub digests: BTreeMap<String, u64>,
    /// The versions of the relay format that it reads.
    pub reads: RangeInclusive<u32>,
}

/// A message of one instance to all others.
#[derive(Clone, Debug, PartialEq)]
pub enum Message {
    /// Its status, sent every second.
    Status(Box<Status>),
    /// It is shutting down.
    Leaving {
        /// When it started.
        run: u64,
    },
    /// Who is present at it: everybody, or a change.
    Presence(PresenceUpdate),
    /// It asks for the events that others keep.
    HistoryRequest {
        /// Which topics.
        topics: Vec<String>,
        /// The instance that should respond; `None`: whichever is first.
        whom: Option<String>,
    },
    /// The events that it keeps of a topic, or some of them.
    HistoryResponse {
        /// The id of the request.
        request: String,
        /// The topic.
        topic: String,
        /// Events that are not newer than this were dropped for lack of room.
        floor: Option<Floor>,
        /// The events.
        events: Vec<CloudEvent>,
    },
    /// An operator's call, to be answered by another instance.
    CallRequest {
        /// The call's id.
        id: String,
        /// The instance.
        instance: String,
        /// The call's name.
        method: String,
        /// Its parameters.
        params: Map<String, Json>,
    },
    /// The response to one.
    CallResponse {
        /// The call's id.
        id: String,
        /// Its result.
        outcome: Result<Json, RpcError>,
    },
}

impl Message {
    /// The request for another instance to answer a call.
    pub fn call_request(id: String, instance: String, call: &Call) -> Message {
        let call = json!(call);
        let method = call["method"].as_str().unwrap_or_default().into();
        Message::CallRequest { id, instance, method, params: call["params"].as_object().cloned().unwrap_or_default() }
    }

    /// As a CloudEvent of this id, sent by the instance of this name.
    pub fn to_event(&self, from: &str, id: String, now: Timestamp) -> CloudEvent {
        let (kind, data) = match self {
            Message::Status(s) => (STATUS, status_json(s)),
            Message::Leaving { run } => (STATUS, json!({"run": run, "leaves": true})),
            Message::Presence(update) => (PRESENCE, presence_json(update)),
            Message::HistoryRequest { topics, whom: None } => (HISTORY_REQUEST, json!({"topics": topics})),
            Message::HistoryRequest { topics, whom } => (HISTORY_REQUEST, json!({"topics": topics, "whom": whom})),
            Message::HistoryResponse { request, topic, floor, events } => {
                (HISTORY_RESPONSE, json!({"ask": request, "topic": topic, "floor": floor, "events": events}))
            }
            Message::CallRequest { id, instance, method, params } => {
                (CALL_REQUEST, json!({"id": id, "instance": instance, "call": method, "params": params}))
            }
            Message::CallResponse { id, outcome: Ok(result) } => (CALL_RESPONSE, json!({"id": id, "result": result})),
            Message::CallResponse { id, outcome: Err(e) } => (CALL_RESPONSE, json!({"id": id, "error": e})),
        };
        CloudEvent::new(kind, &format!("{SOURCE}{from}"), id, rfc3339(now), data)
    }

    /// The sender and the message of an event; `None` if it is not one.
    pub fn read(event: &CloudEvent) -> Option<(&str, Message)> {
        let from = event.source.strip_prefix(SOURCE)?;
        let data = &event.data;
        let text = |name: &str| data[name].as_str().map(String::from);
        let message = match event.kind.as_str() {
            STATUS if data["leaves"] == Json::Bool(true) => Message::Leaving { run: data["run"].as_u64()? },
            STATUS => Message::Status(Box::new(read_status(data)?)),
            PRESENCE => Message::Presence(read_presence(from, data)?),
            HISTORY_REQUEST => Message::HistoryRequest { topics: texts(&data["topics"]), whom: text("whom") },
            HISTORY_RESPONSE => {
                let events = data["events"].as_array().into_iter().flatten();
                Message::HistoryResponse {
                    request: text("ask")?,
                    topic: text("topic")?,
                    floor: serde_json::from_value(data["floor"].clone()).ok(),
                    events: events.filter_map(|e| serde_json::from_value(e.clone()).ok()).collect(),
                }
            }
            CALL_REQUEST => Message::CallRequest {
                id: text("id")?,
                instance: text("instance")?,
                method: text("call")?,
                params: data["params"].as_object().cloned().unwrap_or_default(),
            },
            CALL_RESPONSE => {
                let malformed = || RpcError::new(code::UNAVAILABLE, "the instance sent a malformed response");
                let outcome = match data.get("error") {
                    None => Ok(data["result"].clone()),
                    Some(e) => Err(serde_json::from_value(e.clone()).unwrap_or_else(|_| malformed())),
                };
                Message::CallResponse { id: text("id")?, outcome }
            }
            _ => return None,
        };
        Some((from, message))
    }

    /// Whether it is repeated periodically, so that it is not worth showing.
    pub fn is_routine(&self) -> bool {
        matches!(self, Message::Status(_) | Message::Presence(PresenceUpdate { share: Some(_), .. }))
    }
}

fn texts(json: &Json) -> Vec<String> {
    json.as_array().into_iter().flatten().filter_map(Json::as_str).map(String::from).collect()
}

fn status_json(s: &Status) -> Json {
    let digests: BTreeMap<&str, String> = s.digests.iter().map(|(name, d)| (name.as_str(), d.to_string())).collect();
    json!({
        "run": s.run, "sent": s.sent, "instance": s.instance.to_json(), "link": s.link.to_json(),
        "topics": s.topics.iter().map(SystemRow::to_json).collect::<Vec<_>>(),
        "alarms": s.alarms.iter().take(MAX_ALARMS).map(SystemRow::to_json).collect::<Vec<_>>(),
        "digests": digests, "reads": [s.reads.start(), s.reads.end()],
    })
}

fn row<R: SystemRow>(json: &Json) -> Option<R> {
    R::read(json.as_object()?).ok()
}

fn rows<R: SystemRow>(json: &Json, most: usize) -> Vec<R> {
    json.as_array().into_iter().flatten().take(most).filter_map(row).collect()
}

fn read_status(data: &Json) -> Option<Status> {
    let reads = |i: usize| data["reads"][i].as_u64().and_then(|v| u32::try_from(v).ok()).unwrap_or(1);
    let digest = |(topic, digest): (&String, &Json)| Some((topic.clone(), digest.as_str()?.parse().ok()?));
    Some(Status {
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
pub fn presence_row(row: PresenceRow) -> Row {
    row.cells().into_iter().map(Value::from).collect()
}

fn presence_json(update: &PresenceUpdate) -> Json {
    let shown = |row: &Row| -> Json {
        let named = PresenceRow::SHAPE.columns.iter().zip(row.iter());
        named.map(|((name, _), value)| (name.to_string(), value.to_json())).collect::<Map<_, _>>().into()
    };
    let one = |(at, row): &(Location, Option<Row>)| match row {
        Some(row) => shown(row),
        None => json!({"place": &*at.0, "client": at.1, "gone": true}),
    };
    let people: Vec<Json> = update.people.iter().map(one).collect();
    let mut data = json!({"run": update.run, "number": update.number, "people": people});
    if let Some((index, of)) = update.share {
        (data["index"], data["of"]) = (index.into(), of.into());
    }
    data
}

/// `None` also if a row is not of the sender's own clients: an instance reports no others.
fn read_presence(from: &str, data: &Json) -> Option<PresenceUpdate> {
    let one = |one: &Map<String, Json>| {
        if one.get("gone") == Some(&Json::Bool(true)) {
            return Some(((one.get("place")?.as_str()?.into(), one.get("client")?.as_u64()?), None));
        }
        let row = PresenceRow::read(one).ok().filter(|row| row.instance == from)?;
        Some(((row.place.as_str().into(), row.client), Some(presence_row(row))))
    };
    let people = data["people"].as_array().into_iter().flatten().filter_map(Json::as_object);
    let number = |of: &str| data[of].as_u64().and_then(|n| usize::try_from(n).ok());
    Some(PresenceUpdate {
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
    fn messages_survive_the_wire() {
        let instance = InstanceRow { name: "north".into(), changes: 1 << 60, ..InstanceRow::default() };
        let status = Status {
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
        let people = vec![(("quay".into(), 3), Some(presence_row(someone))), (("quay".into(), 4), None)];
        let update = |share| Message::Presence(PresenceUpdate { run: 7, number: 9, share, people: people.clone() });
        let event = CloudEvent::new("tide", "/g", "1".into(), rfc3339(1), json!({"level": 2}));
        let drain = Call::Drain { instance: Some("south".into()) };
        for message in [
            Message::Status(Box::new(status)),
            Message::Leaving { run: 7 },
            update(None),
            update(Some((1, 3))),
            Message::HistoryRequest { topics: vec!["tide".into()], whom: Some("south".into()) },
            Message::HistoryRequest { topics: vec![], whom: None },
            Message::HistoryResponse { request: "a".into(), topic: "tide".into(), floor: None, events: vec![event] },
            Message::call_request("c".into(), "south".into(), &drain),
            Message::CallResponse { id: "c".into(), outcome: Ok(json!({"done": 1})) },
            Message::CallResponse { id: "c".into(), outcome: Err(RpcError::new(code::LIMIT, "full")) },
        ] {
            let event = message.to_event("north", "e".into(), 1);
            let event = CloudEvent::read(&event.to_bytes()).unwrap();
            assert_eq!(Message::read(&event), Some(("north", message)));
        }
        // An instance reports its own clients only.
        let forged = update(None).to_event("south", "e".into(), 1);
        assert_eq!(Message::read(&forged), None);
    }
}
