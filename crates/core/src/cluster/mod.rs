//! The cluster as one of its instances sees it: which other instances there are and their status, who is present where,
//! the events that topics keep, and operators' calls to other instances.
//!
//! A state machine like the engine beside it: received messages, this instance's own actions and the time come in;
//! messages to broadcast, changes of tables and results of calls come out. The driver only moves messages.
//!
//! - Every instance broadcasts its status every second, and every few seconds who is present at it ([`presence`]); changes
//!   of that at once. An instance that is silent for a while is dropped, with everybody present at it. None of this is
//!   stored: an instance that starts knows the others after a second or two.
//! - [`topics`] are the events that each instance keeps. An instance that starts requests what it has missed; digests
//!   reveal whether two instances keep the same ([`anti_entropy`]).
//! - [`message`] are all messages between instances.

pub mod anti_entropy;
pub mod message;
pub mod presence;
pub mod topics;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::Hasher;
use std::ops::RangeInclusive;
use std::sync::Arc;

use gossip_protocol::system::{AlarmRow, InstanceRow, LinkRow, TopicRow};
use gossip_protocol::{Call, CloudEvent, RpcError, code};
use serde_json::Value as Json;
use siphasher::sip::SipHasher13;

use crate::position::{Interval, Micros, Timestamp};
use crate::schema::Row;
use crate::topic::{Floor, Retention, Topic};
use anti_entropy::AntiEntropy;
use message::{Message, Status};
use presence::{Location, MAX_PEOPLE, Presence, PresenceChange};
use topics::{Applied, Topics, to_cloudevent};

/// Silence after which an instance is dropped, in microseconds.
pub const GONE_AFTER: Micros = 4_000_000;

/// A presence round goes out with every so many status reports.
const ROUND_EVERY: u64 = 2;

/// Other instances that are known at a time.
const MAX_MEMBERS: usize = 1_000;

/// Places of one client.
const MAX_PLACES: usize = 100;

/// How long another instance has to answer a call, in microseconds.
const CALL_TIMEOUT: Micros = 30_000_000;

/// Calls that wait for responses at a time.
const MAX_PENDING_CALLS: usize = 64;

/// Bytes of events in one history response, about.
const HISTORY_BYTES: usize = 64 * 1024;

/// History requests are answered within this time, by each instance after a delay of its own, unless another one was
/// first.
const RESPOND_WITHIN: Micros = 300_000;

/// History requests that wait to be answered; further ones are dropped. Digests reveal later what was not answered.
const MAX_HISTORY_REQUESTS: usize = 1_000;

/// What the driver has to do.
#[derive(Clone, Debug, PartialEq)]
pub enum Output {
    /// Send a message to all instances.
    Broadcast(Message),
    /// Send intervals in this version of the relay format.
    UseVersion(u32),
    /// Change `gossip.presence`.
    Presence(PresenceChange),
    /// Hand the change of a topic's table to the engine.
    Interval(Interval),
    /// Carry out an operator's call for another instance, and broadcast its [`Message::CallResponse`].
    Operate {
        /// The call's id.
        id: String,
        /// The call.
        call: Call,
    },
    /// A forwarded call has a result, or has timed out.
    Answered {
        /// The call's id.
        id: String,
        /// Its result.
        outcome: Result<Json, RpcError>,
    },
    /// Log something for operators.
    Log(Notice),
}

/// Something for operators to read in the log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Notice {
    /// An instance has been silent for too long.
    Silent(String),
    /// Another instance has the same name.
    SameName,
    /// There is no version of the relay format that all instances read.
    NoCommonVersion,
    /// An instance keeps other events of these topics, which are requested from it.
    TopicsDiffer(String, Vec<String>),
}

/// Why somebody cannot join a place; with the limit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum JoinError {
    /// Too many people are present at this instance.
    TooManyPeople(usize),
    /// The client is at too many places.
    TooManyPlaces(usize),
}

/// Another instance.
#[derive(Debug)]
struct Member {
    last_seen: Timestamp,
    status: Box<Status>,
}

/// The cluster as one of its instances sees it.
#[derive(Debug)]
pub struct Cluster {
    name: Arc<str>,
    /// The versions of the relay format that this instance reads.
    reads: RangeInclusive<u32>,
    members: BTreeMap<String, Member>,
    presence: Presence,
    /// How many places each client is at.
    places: HashMap<u64, usize>,
    anti_entropy: AntiEntropy,
    topics: Topics,
    /// Topics requested by others, by when to respond and the request's id.
    history_requests: BTreeMap<(Timestamp, String), BTreeSet<String>>,
    /// Forwarded calls by id: the instance that has to answer, and until when.
    pending_calls: HashMap<String, (String, Timestamp)>,
    reports: u64,
    round_trip: Option<Micros>,
    warned_of_name: bool,
    stopping: bool,
    no_common_version: bool,
}

impl Cluster {
    /// Without any other instances yet. `run` is when this instance started, by its clock; `epoch` tells the positions of
    /// its topics from those of all other runs; `reads` are the versions of the relay format that it reads.
    pub fn new(name: &str, run: u64, epoch: u64, reads: RangeInclusive<u32>, topics: &[Arc<Topic>]) -> Cluster {
        Cluster {
            name: name.into(),
            reads,
            members: BTreeMap::new(),
            presence: Presence::new(run),
            places: HashMap::new(),
            anti_entropy: AntiEntropy::default(),
            topics: Topics::new(topics, epoch),
            history_requests: BTreeMap::new(),
            pending_calls: HashMap::new(),
            reports: 0,
            round_trip: None,
            warned_of_name: false,
            stopping: false,
            no_common_version: false,
        }
    }

    /// The topics of this instance.
    pub fn topics(&self) -> &Topics {
        &self.topics
    }

    /// Who is present where.
    pub fn presence(&self) -> &Presence {
        &self.presence
    }

    /// The others' rows of `gossip.instances`.
    pub fn instances(&self) -> impl Iterator<Item = InstanceRow> + '_ {
        self.members.values().map(|m| m.status.instance.clone())
    }

    /// The others' rows of `gossip.links`.
    pub fn links(&self) -> impl Iterator<Item = LinkRow> + '_ {
        self.members.values().map(|m| m.status.link.clone())
    }

    /// The others' rows of `gossip.topics`.
    pub fn other_topics(&self) -> impl Iterator<Item = TopicRow> + '_ {
        self.members.values().flat_map(|m| m.status.topics.iter().cloned())
    }

    /// The others' rows of `gossip.alarms`.
    pub fn alarms(&self) -> impl Iterator<Item = AlarmRow> + '_ {
        self.members.values().flat_map(|m| m.status.alarms.iter().cloned())
    }

    /// This instance's own rows of `gossip.topics`.
    pub fn local_topics(&self) -> Vec<TopicRow> {
        self.topics.iter().map(|(name, ..)| name).filter_map(|name| self.topics.row(name, &self.name)).collect()
    }

    /// How long the last message to all took to come back.
    pub fn round_trip(&self) -> Option<Micros> {
        self.round_trip
    }

    /// Requests from the others the events that topics keep: at the start, and after the relay was unreachable.
    pub fn request_history(&self) -> Vec<Output> {
        let kept = self.topics.iter().filter(|(_, s, _)| s.topic().keep != Retention::Nothing);
        let topics: Vec<String> = kept.map(|(name, ..)| name.to_string()).collect();
        if topics.is_empty() {
            return vec![];
        }
        vec![Output::Broadcast(Message::HistoryRequest { topics, whom: None })]
    }

    /// Reports this instance's status; to be called every second.
    pub fn report_status(
        &mut self,
        instance: InstanceRow,
        link: LinkRow,
        alarms: Vec<AlarmRow>,
        now: Timestamp,
    ) -> Vec<Output> {
        if self.stopping {
            return vec![];
        }
        let mut digests = BTreeMap::new();
        for (name, state, _) in self.topics.iter() {
            self.anti_entropy.record_local(name, state.digest());
            digests.insert(name.to_string(), state.digest());
        }
        let (run, reads, topics) = (self.presence.run(), self.reads.clone(), self.local_topics());
        let status = Status { run, sent: now, instance, link, topics, alarms, digests, reads };
        let mut out = vec![Output::Broadcast(Message::Status(Box::new(status)))];
        self.reports += 1;
        if self.reports.is_multiple_of(ROUND_EVERY) {
            out.extend(self.presence.round().into_iter().map(|update| Output::Broadcast(Message::Presence(update))));
        }
        self.drop_silent_members(now, &mut out);
        self.choose_version(&mut out);
        out
    }

    /// The newest version that all instances read, so that they can be upgraded one by one.
    fn choose_version(&mut self, out: &mut Vec<Output>) {
        let common =
            |a: RangeInclusive<u32>, b: &RangeInclusive<u32>| *a.start().max(b.start())..=*a.end().min(b.end());
        let all = self.members.values().map(|m| &m.status.reads).fold(self.reads.clone(), common);
        if !all.is_empty() {
            self.no_common_version = false;
            out.push(Output::UseVersion(*all.end()));
        } else if !std::mem::replace(&mut self.no_common_version, true) {
            out.push(Output::Log(Notice::NoCommonVersion));
        }
    }

    fn drop_silent_members(&mut self, now: Timestamp, out: &mut Vec<Output>) {
        let silent = |(_, m): &(&String, &Member)| now.saturating_sub(m.last_seen) > GONE_AFTER;
        let gone: Vec<String> = self.members.iter().filter(silent).map(|(name, _)| name.clone()).collect();
        for name in gone {
            self.drop_member(&name, out);
            out.push(Output::Log(Notice::Silent(name)));
        }
    }

    /// Drops an instance, and everybody present at it.
    fn drop_member(&mut self, name: &str, out: &mut Vec<Output>) {
        self.members.remove(name);
        self.anti_entropy.forget(name);
        out.extend(self.presence.forget(name).into_iter().map(Output::Presence));
    }

    /// Answers the history requests that are due, and gives up calls that nobody has answered.
    pub fn tick(&mut self, now: Timestamp) -> Vec<Output> {
        let mut out = Vec::new();
        let later = self.history_requests.split_off(&(now.saturating_add(1), String::new()));
        for ((_, request), topics) in std::mem::replace(&mut self.history_requests, later) {
            topics.iter().for_each(|topic| self.respond(&request, topic, &mut out));
        }
        let expired = self.pending_calls.extract_if(|_, (_, until)| *until < now);
        out.extend(expired.map(|(id, (instance, _))| {
            let text = format!("not available now: instance {instance} does not answer");
            Output::Answered { id, outcome: Err(RpcError::new(code::UNAVAILABLE, text)) }
        }));
        out
    }

    /// Takes a message of the instance `from`, which may be this one; `id` is that of the message's event.
    pub fn receive(&mut self, from: &str, id: &str, message: Message, now: Timestamp) -> Vec<Output> {
        let mut out = Vec::new();
        let own = *from == *self.name;
        match message {
            Message::Status(status) if own => self.local_status(&status, now, &mut out),
            // This instance knows what it has said. Above all it must not answer its own requests: the others would take
            // them for answered.
            _ if own => {}
            Message::Status(status) => self.member_status(from, status, now, &mut out),
            Message::Leaving { run } => {
                if self.members.get(from).is_some_and(|m| m.status.run == run) {
                    self.drop_member(from, &mut out);
                }
            }
            Message::Presence(update) => {
                // Of known instances only, so that everybody goes with their instance.
                if self.members.get(from).is_some_and(|m| m.status.run == update.run) {
                    out.extend(self.presence.receive(from, update).into_iter().map(Output::Presence));
                }
            }
            Message::HistoryRequest { topics, whom } => {
                if whom.is_none_or(|whom| *whom == *self.name) {
                    self.history_requested(id, topics, now);
                }
            }
            Message::HistoryResponse { request, topic, floor, events } => {
                self.history_requests.retain(|(_, waiting), _| *waiting != request);
                self.apply_history(&topic, floor, events, now, &mut out);
            }
            Message::CallRequest { id, instance, method, params } if *instance == *self.name => {
                match Call::read(&method, params) {
                    Ok(call) => out.push(Output::Operate { id, call }),
                    Err(e) => out.push(Output::Broadcast(Message::CallResponse { id, outcome: Err(e) })),
                }
            }
            Message::CallRequest { .. } => {}
            Message::CallResponse { id, outcome } => {
                if self.pending_calls.get(&id).is_some_and(|(instance, _)| instance == from) {
                    self.pending_calls.remove(&id);
                    out.push(Output::Answered { id, outcome });
                }
            }
        }
        out
    }

    fn local_status(&mut self, status: &Status, now: Timestamp, out: &mut Vec<Output>) {
        if status.run == self.presence.run() {
            self.round_trip = Some(now.saturating_sub(status.sent));
        } else if !std::mem::replace(&mut self.warned_of_name, true) {
            out.push(Output::Log(Notice::SameName));
        }
    }

    fn member_status(&mut self, from: &str, mut status: Box<Status>, now: Timestamp, out: &mut Vec<Output>) {
        // An instance reports only itself.
        if status.instance.name != from {
            return;
        }
        status.alarms.retain(|alarm| alarm.instance == from);
        status.instance.here = false;
        match self.members.get(from) {
            // A late message of an earlier run.
            Some(m) if m.status.run > status.run => return,
            None if self.members.len() >= MAX_MEMBERS => return,
            // It was restarted, and its clients are gone.
            Some(m) if m.status.run < status.run => self.drop_member(from, out),
            _ => {}
        }
        let mut differ = Vec::new();
        for (topic, digest) in &status.digests {
            if self.anti_entropy.compare(from, topic, *digest, now) {
                differ.push(topic.clone());
            }
        }
        self.members.insert(from.into(), Member { last_seen: now, status });
        if !differ.is_empty() {
            out.push(Output::Log(Notice::TopicsDiffer(from.into(), differ.clone())));
            out.push(Output::Broadcast(Message::HistoryRequest { topics: differ, whom: Some(from.into()) }));
        }
    }

    /// Notes a history request, to be answered after a delay that differs between instances but is not random.
    fn history_requested(&mut self, request: &str, topics: Vec<String>, now: Timestamp) {
        // Each topic once, however often a request names it.
        let topics: BTreeSet<String> = topics.into_iter().filter(|name| self.topics.get(name).is_some()).collect();
        if topics.is_empty() || self.history_requests.len() >= MAX_HISTORY_REQUESTS {
            return;
        }
        let mut hasher = SipHasher13::new();
        hasher.write(self.name.as_bytes());
        hasher.write(request.as_bytes());
        let delay = (hasher.finish() % RESPOND_WITHIN.unsigned_abs()).cast_signed();
        self.history_requests.insert((now + delay, request.into()), topics);
    }

    fn respond(&self, request: &str, topic: &str, out: &mut Vec<Output>) {
        let Some((_, state, _)) = self.topics.iter().find(|(name, ..)| *name == topic) else { return };
        let response = |events: Vec<CloudEvent>| {
            let (request, topic, floor) = (request.to_string(), topic.to_string(), state.floor().cloned());
            Output::Broadcast(Message::HistoryResponse { request, topic, floor, events })
        };
        let (mut events, mut bytes) = (Vec::new(), 0);
        for e in state.events() {
            let event = to_cloudevent(topic, e);
            bytes += event.to_bytes().len();
            events.push(event);
            if bytes > HISTORY_BYTES {
                out.push(response(std::mem::take(&mut events)));
                bytes = 0;
            }
        }
        if !events.is_empty() {
            out.push(response(events));
        }
    }

    fn apply_history(
        &mut self,
        topic: &str,
        floor: Option<Floor>,
        events: Vec<CloudEvent>,
        now: Timestamp,
        out: &mut Vec<Output>,
    ) {
        if let Some(floor) = floor {
            self.topics.raise_floor(topic, floor);
        }
        for event in events {
            // A malformed one has been counted.
            let (_, interval) = self.apply_event(topic, &event, now);
            out.extend(interval.map(Output::Interval));
        }
    }

    /// Applies an event to its topic. Returns what it did, or why it does not fit, and the change of the topic's table if
    /// there is one.
    pub fn apply_event(
        &mut self,
        topic: &str,
        event: &CloudEvent,
        now: Timestamp,
    ) -> (Result<Applied, String>, Option<Interval>) {
        let applied = self.topics.apply(topic, event, now);
        let interval = if applied == Ok(Applied::Changed) { self.topics.take(now) } else { None };
        (applied, interval)
    }

    /// Somebody who is permitted to joins a place here, or changes their row there.
    ///
    /// # Errors
    /// A limit is reached.
    pub fn join(&mut self, at: Location, row: Row) -> Result<Vec<Output>, JoinError> {
        if !self.presence.own().contains_key(&at) {
            if self.presence.own().len() >= MAX_PEOPLE {
                return Err(JoinError::TooManyPeople(MAX_PEOPLE));
            }
            let places = self.places.entry(at.1).or_default();
            if *places >= MAX_PLACES {
                return Err(JoinError::TooManyPlaces(MAX_PLACES));
            }
            *places += 1;
        }
        let update = self.presence.join(at, row.clone());
        Ok(vec![Output::Broadcast(Message::Presence(update)), Output::Presence(PresenceChange::Joined(row))])
    }

    /// Somebody leaves a place here. Nothing if they were not there.
    pub fn leave(&mut self, at: &Location) -> Vec<Output> {
        let Some((row, update)) = self.presence.leave(at) else { return vec![] };
        if let Some(places) = self.places.get_mut(&at.1) {
            *places -= 1;
            if *places == 0 {
                self.places.remove(&at.1);
            }
        }
        vec![Output::Broadcast(Message::Presence(update)), Output::Presence(PresenceChange::Left(row))]
    }

    /// A client has disconnected, and leaves all its places.
    pub fn leave_everywhere(&mut self, client: u64) -> Vec<Output> {
        if !self.places.contains_key(&client) {
            return vec![];
        }
        let places: Vec<Location> = self.presence.own().keys().filter(|(_, c)| *c == client).cloned().collect();
        places.iter().flat_map(|at| self.leave(at)).collect()
    }

    /// This instance shuts down: everybody present at it leaves, and the others need not wait for it.
    pub fn stop(&mut self) -> Vec<Output> {
        self.stopping = true;
        let (update, run) = (self.presence.leave_all(), self.presence.run());
        vec![Output::Broadcast(Message::Presence(update)), Output::Broadcast(Message::Leaving { run })]
    }

    /// Forwards an operator's call to another instance; [`Output::Answered`] follows. `id` is unique to the call.
    ///
    /// # Errors
    /// There is no such instance, or too many calls are pending.
    pub fn forward_call(
        &mut self,
        id: String,
        instance: &str,
        call: &Call,
        now: Timestamp,
    ) -> Result<Vec<Output>, RpcError> {
        if !self.members.contains_key(instance) {
            let shown: String = instance.chars().take(60).collect();
            let known: Vec<&str> = self.members.keys().map(String::as_str).chain([&*self.name]).collect();
            let text = format!("there is no instance {shown}; known: {}", known.join(", "));
            return Err(RpcError::new(code::UNKNOWN_NAME, text));
        }
        if self.pending_calls.len() >= MAX_PENDING_CALLS {
            let text = format!("limit reached: calls that wait for other instances, at most {MAX_PENDING_CALLS}");
            return Err(RpcError::new(code::LIMIT, text));
        }
        self.pending_calls.insert(id.clone(), (instance.into(), now + CALL_TIMEOUT));
        Ok(vec![Output::Broadcast(Message::call_request(id, instance.into(), call))])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::topic::ColumnSource;
    use crate::value::Type;
    use gossip_protocol::timestamp::rfc3339;
    use serde_json::json;

    fn instance(name: &str) -> InstanceRow {
        InstanceRow { name: name.into(), ..InstanceRow::default() }
    }

    fn status(name: &str, run: u64, reads: RangeInclusive<u32>) -> Message {
        let (instance, link, digests) = (instance(name), LinkRow::default(), BTreeMap::new());
        let (topics, alarms) = (vec![], vec![]);
        Message::Status(Box::new(Status { run, sent: 0, instance, link, topics, alarms, digests, reads }))
    }

    fn report(c: &mut Cluster, now: Timestamp) -> Vec<Output> {
        c.report_status(instance("north"), LinkRow::default(), vec![], now)
    }

    fn cluster(name: &str) -> Cluster {
        let columns = vec![("text".into(), Type::Text, ColumnSource::Path(vec!["text".into()]))];
        let notes = Topic::new("notes", columns, &[], Retention::Newest(8), None).unwrap();
        Cluster::new(name, 1, 1, 1..=1, &[Arc::new(notes)])
    }

    fn request(topics: &[&str]) -> Message {
        Message::HistoryRequest { topics: topics.iter().map(ToString::to_string).collect(), whom: None }
    }

    #[test]
    fn the_newest_common_version_is_used() {
        let mut c = Cluster::new("north", 1, 1, 2..=4, &[]);
        let used =
            |out: Vec<Output>| out.into_iter().find_map(|o| if let Output::UseVersion(v) = o { Some(v) } else { None });
        assert_eq!(used(report(&mut c, 0)), Some(4));
        c.receive("south", "", status("south", 1, 1..=3), 0);
        assert_eq!(used(report(&mut c, 0)), Some(3));
        c.receive("west", "", status("west", 1, 5..=6), 0);
        let out = report(&mut c, 0);
        assert!(out.contains(&Output::Log(Notice::NoCommonVersion)));
        assert_eq!(used(out), None);
        assert!(!report(&mut c, 0).contains(&Output::Log(Notice::NoCommonVersion)), "logged once");
        // An instance that is gone does not count any more.
        c.receive("south", "", status("south", 1, 1..=3), GONE_AFTER);
        let out = report(&mut c, GONE_AFTER + 1);
        assert!(out.contains(&Output::Log(Notice::Silent("west".into()))));
        assert_eq!(used(out), Some(3));
    }

    #[test]
    fn an_instance_speaks_for_itself_only_and_an_earlier_run_not_at_all() {
        let mut c = cluster("north");
        assert_eq!(c.receive("south", "", status("west", 1, 1..=1), 0), vec![]);
        assert!(c.members.is_empty());
        c.receive("south", "", status("south", 5, 1..=1), 0);
        c.receive("south", "", status("south", 4, 1..=1), 9);
        c.receive("south", "", Message::Leaving { run: 4 }, 9);
        assert!(c.members.contains_key("south"));
        c.receive("south", "", Message::Leaving { run: 5 }, 9);
        assert!(c.members.is_empty());
        assert_eq!(c.receive("north", "", status("north", 2, 1..=1), 0), vec![Output::Log(Notice::SameName)]);
        // A time that no clock shows.
        let Message::Status(mut forged) = status("north", 1, 1..=1) else { unreachable!() };
        forged.sent = Timestamp::MIN;
        assert_eq!(c.receive("north", "", Message::Status(forged), 1), vec![]);
    }

    #[test]
    fn a_call_is_answered_once_and_by_the_instance_it_was_for_or_times_out() {
        let (mut north, mut south) = (cluster("north"), cluster("south"));
        let drain = Call::Drain { instance: Some("south".into()) };
        assert!(north.forward_call("c".into(), "south", &drain, 0).is_err(), "not known yet");
        north.receive("south", "", status("south", 1, 1..=1), 0);
        let out = north.forward_call("c".into(), "south", &drain, 0).unwrap();
        let [Output::Broadcast(sent)] = &out[..] else { panic!("{out:?}") };
        assert_eq!(north.receive("north", "", sent.clone(), 0), vec![], "not for oneself");
        let operate = Output::Operate { id: "c".into(), call: drain.clone() };
        assert_eq!(south.receive("north", "", sent.clone(), 0), vec![operate]);
        let response = Message::CallResponse { id: "c".into(), outcome: Ok(json!({})) };
        let answered = Output::Answered { id: "c".into(), outcome: Ok(json!({})) };
        assert_eq!(north.receive("west", "", response.clone(), 1), vec![], "not asked");
        assert_eq!(north.receive("south", "", response.clone(), 1), vec![answered]);
        assert_eq!(north.receive("south", "", response, 1), vec![]);
        north.forward_call("d".into(), "south", &drain, 0).unwrap();
        assert_eq!(north.tick(CALL_TIMEOUT), vec![]);
        let out = north.tick(CALL_TIMEOUT + 1);
        assert!(matches!(&out[..], [Output::Answered { id, outcome: Err(_) }] if id == "d"), "{out:?}");
        for i in 0..MAX_PENDING_CALLS {
            north.forward_call(i.to_string(), "south", &drain, 0).unwrap();
        }
        assert!(north.forward_call("more".into(), "south", &drain, 0).is_err());
    }

    #[test]
    fn a_history_request_is_answered_once_for_each_topic_and_not_by_oneself() {
        let mut north = cluster("north");
        let event = CloudEvent::new("notes", "/desk", "1".into(), rfc3339(1), json!({"text": "hello"}));
        assert_eq!(north.apply_event("notes", &event, 1).0, Ok(Applied::Changed));
        let respond = |c: &mut Cluster| c.tick(RESPOND_WITHIN).len();
        // An instance must not take its own request for an answered one.
        north.receive("north", "a", request(&["notes"]), 0);
        assert_eq!(respond(&mut north), 0);
        north.receive("south", "b", request(&["notes", "notes", "none", "notes"]), 0);
        assert_eq!(respond(&mut north), 1);
        // Another instance was first.
        north.receive("south", "c", request(&["notes"]), 0);
        let response =
            Message::HistoryResponse { request: "c".into(), topic: "notes".into(), floor: None, events: vec![] };
        north.receive("west", "", response, 0);
        assert_eq!(respond(&mut north), 0);
        for i in 0..MAX_HISTORY_REQUESTS + 5 {
            north.receive("south", &i.to_string(), request(&["notes"]), 0);
        }
        assert_eq!(respond(&mut north), MAX_HISTORY_REQUESTS);
    }
}
