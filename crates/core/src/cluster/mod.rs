//! The cluster, as one of its instances knows it: who there is and how they stand, who is present where, what is kept of
//! topics, and what operators ask of one instance through another.
//!
//! A state machine like the engine beside it: what is heard, what this instance does and the time come in; messages to all,
//! changes of tables and answers come out. Whoever drives it moves messages, and no more.
//!
//! - Every instance says every second how it stands, and every few seconds who is present at it ([`presence`]); changes of
//!   that it says at once. Whoever is silent for a while is gone, with all that were present there. Nothing of this is kept
//!   anywhere: an instance that starts knows the others after a second or two.
//! - [`topics`] are what each instance holds of events. One that starts asks for what it has missed; whether two hold the
//!   same is compared by digests ([`anti_entropy`]).
//! - [`message`] is all that instances tell each other.

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

use crate::position::{Interval, Micros};
use crate::schema::Row;
use crate::topic::{Keep, Topic};
use anti_entropy::Alike;
use message::{Message, Stands};
use presence::{MAX_PEOPLE, Moved, Presence, Told, Where};
use topics::{Heard, Topics, written};

/// Silence after which an instance is gone, in microseconds.
pub const GONE_AFTER: Micros = 4_000_000;

/// After so many seconds it is said again who is present.
const PEOPLE_EVERY: u64 = 2;

/// Other instances that are known at a time.
const MAX_MEMBERS: usize = 1_000;

/// Places of one client.
const MAX_PLACES: usize = 100;

/// How long another instance has to answer a call, in microseconds.
const PATIENCE: Micros = 30_000_000;

/// Calls that wait for the answers of others.
const MAX_WAITING: usize = 64;

/// Bytes of events in one message of history, about.
const HISTORY_BYTES: usize = 64 * 1024;

/// Within this time instances tell what they keep, each at a moment of its own, unless another one was first.
const ANSWER_WITHIN: Micros = 300_000;

/// Questions about history that are waited with, and those that are remembered as answered.
const MAX_ASKS: usize = 1_000;

/// What follows.
#[derive(Clone, Debug, PartialEq)]
pub enum Output {
    /// All instances are to be told.
    Tell(Message),
    /// Intervals are to be said in this version of the relay's format.
    Speak(u32),
    /// Somebody has come to a place or gone from one.
    Moved(Moved),
    /// A topic has changed.
    Interval(Interval),
    /// Another instance wants an operator's call to be answered here.
    Operate {
        /// The call's id, for [`Cluster::answer`].
        id: String,
        /// The call.
        call: Call,
    },
    /// A call that was passed on is answered, or will not be.
    Answered {
        /// The call's id.
        id: String,
        /// What came of it.
        outcome: Result<Json, RpcError>,
    },
    /// Something that operators read in the log.
    Note(Note),
}

/// Something that operators read in the log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Note {
    /// An instance has been silent for too long.
    Silent(String),
    /// Another instance has the same name.
    SameName,
    /// No version of the relay's format is read by all.
    AtOdds,
    /// An instance holds something else of these topics, and is asked for it.
    Differs(String, Vec<String>),
}

/// Why somebody cannot come to a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Full {
    /// So many are at this instance already.
    People(usize),
    /// The client is at so many places already.
    Places(usize),
}

/// Another instance.
#[derive(Debug)]
struct Member {
    heard: Micros,
    stands: Box<Stands>,
}

/// The cluster, as one instance knows it.
#[derive(Debug)]
pub struct Cluster {
    name: Arc<str>,
    /// The versions of the relay's format that this instance reads.
    reads: RangeInclusive<u32>,
    members: BTreeMap<String, Member>,
    presence: Presence,
    /// How many places each client is at.
    places: HashMap<u64, usize>,
    alike: Alike,
    topics: Topics,
    /// Questions about history that will be answered, and when.
    asked: BTreeMap<(Micros, String), Vec<String>>,
    /// Questions about history that somebody has answered.
    answered: BTreeSet<String>,
    /// Calls that wait for the answers of others: of whom, and until when.
    calls: HashMap<String, (String, Micros)>,
    seconds: u64,
    round_trip: Option<Micros>,
    warned: bool,
    leaving: bool,
    at_odds: bool,
}

impl Cluster {
    /// Nobody else is known yet. `run` is when this instance began, by its clock; `epoch` tells the positions of its
    /// topics from those of all other runs; `reads` are the versions of the relay's format that it reads.
    pub fn new(name: &str, run: u64, epoch: u64, reads: RangeInclusive<u32>, topics: &[Arc<Topic>]) -> Cluster {
        Cluster {
            name: name.into(),
            reads,
            members: BTreeMap::new(),
            presence: Presence::new(run),
            places: HashMap::new(),
            alike: Alike::default(),
            topics: Topics::new(topics, epoch),
            asked: BTreeMap::new(),
            answered: BTreeSet::new(),
            calls: HashMap::new(),
            seconds: 0,
            round_trip: None,
            warned: false,
            leaving: false,
            at_odds: false,
        }
    }

    /// What is held of topics.
    pub fn topics(&self) -> &Topics {
        &self.topics
    }

    /// Who is present where.
    pub fn presence(&self) -> &Presence {
        &self.presence
    }

    /// Whether there is an instance of this name, other than this one.
    pub fn has(&self, name: &str) -> bool {
        self.members.contains_key(name)
    }

    /// The names of the others.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.members.keys().map(String::as_str)
    }

    /// How the others stand, for `gossip.instances`.
    pub fn instances(&self) -> impl Iterator<Item = InstanceRow> + '_ {
        self.members.values().map(|m| m.stands.instance.clone())
    }

    /// For `gossip.links`.
    pub fn links(&self) -> impl Iterator<Item = LinkRow> + '_ {
        self.members.values().map(|m| m.stands.link.clone())
    }

    /// For `gossip.topics`.
    pub fn topics_elsewhere(&self) -> impl Iterator<Item = TopicRow> + '_ {
        self.members.values().flat_map(|m| m.stands.topics.iter().cloned())
    }

    /// For `gossip.alarms`.
    pub fn alarms(&self) -> impl Iterator<Item = AlarmRow> + '_ {
        self.members.values().flat_map(|m| m.stands.alarms.iter().cloned())
    }

    /// How long the last message to all took to come back.
    pub fn round_trip(&self) -> Option<Micros> {
        self.round_trip
    }

    /// What this instance holds of each topic, for `gossip.topics`.
    pub fn topics_here(&self) -> Vec<TopicRow> {
        self.topics.iter().map(|(name, ..)| name).filter_map(|name| self.topics.row(name, &self.name)).collect()
    }

    /// Asks the other instances for what they keep of topics: at the beginning, and where the relay was away.
    pub fn ask_history(&self) -> Vec<Output> {
        let kept = self.topics.iter().filter(|(_, s, _)| s.topic().keep != Keep::Nothing);
        let topics: Vec<String> = kept.map(|(name, ..)| name.to_string()).collect();
        if topics.is_empty() { vec![] } else { vec![Output::Tell(Message::AskHistory { topics, whom: None })] }
    }

    /// Says how this instance stands; every second.
    pub fn stand(&mut self, instance: InstanceRow, link: LinkRow, alarms: Vec<AlarmRow>, now: Micros) -> Vec<Output> {
        if self.leaving {
            return vec![];
        }
        let mut digests = BTreeMap::new();
        for (name, state, _) in self.topics.iter() {
            self.alike.tell(name, state.digest());
            digests.insert(name.to_string(), state.digest());
        }
        let (run, reads, topics) = (self.presence.run(), self.reads.clone(), self.topics_here());
        let stands = Stands { run, sent: now, instance, link, topics, alarms, digests, reads };
        let mut out = vec![Output::Tell(Message::Stands(Box::new(stands)))];
        self.seconds += 1;
        if self.seconds.is_multiple_of(PEOPLE_EVERY) {
            out.extend(self.presence.round().into_iter().map(|told| Output::Tell(Message::People(told))));
        }
        self.let_silent_go(now, &mut out);
        self.agree_on_a_version(&mut out);
        out
    }

    /// The newest version that all read, so that instances can be replaced by newer ones one after the other.
    fn agree_on_a_version(&mut self, out: &mut Vec<Output>) {
        let narrowed =
            |a: RangeInclusive<u32>, b: &RangeInclusive<u32>| *a.start().max(b.start())..=*a.end().min(b.end());
        let all = self.members.values().map(|m| &m.stands.reads).fold(self.reads.clone(), narrowed);
        if !all.is_empty() {
            self.at_odds = false;
            out.push(Output::Speak(*all.end()));
        } else if !std::mem::replace(&mut self.at_odds, true) {
            out.push(Output::Note(Note::AtOdds));
        }
    }

    fn let_silent_go(&mut self, now: Micros, out: &mut Vec<Output>) {
        let silent = |(_, m): &(&String, &Member)| now - m.heard > GONE_AFTER;
        let gone: Vec<String> = self.members.iter().filter(silent).map(|(name, _)| name.clone()).collect();
        for name in gone {
            self.forget(&name, out);
            out.push(Output::Note(Note::Silent(name)));
        }
    }

    /// An instance is gone, and whoever was present there.
    fn forget(&mut self, name: &str, out: &mut Vec<Output>) {
        self.members.remove(name);
        self.alike.forget(name);
        out.extend(self.presence.forget(name).into_iter().map(Output::Moved));
    }

    /// Time passes: what is due is said, and what nobody has answered is given up.
    pub fn tick(&mut self, now: Micros) -> Vec<Output> {
        let mut out = Vec::new();
        let later = self.asked.split_off(&(now.saturating_add(1), String::new()));
        for ((_, ask), topics) in std::mem::replace(&mut self.asked, later) {
            if !self.answered.contains(&ask) {
                topics.iter().for_each(|topic| self.tell_history(&ask, topic, &mut out));
            }
        }
        let late: Vec<String> =
            self.calls.iter().filter(|(_, (_, until))| *until < now).map(|(id, _)| id.clone()).collect();
        for id in late {
            let Some((instance, _)) = self.calls.remove(&id) else { continue };
            let text = format!("not available now: instance {instance} does not answer");
            out.push(Output::Answered { id, outcome: Err(RpcError::new(code::UNAVAILABLE, text)) });
        }
        out
    }

    /// Takes a message. `id` is that of its event, `from` the instance that says it.
    pub fn hear(&mut self, from: &str, id: &str, message: Message, now: Micros) -> Vec<Output> {
        let mut out = Vec::new();
        match message {
            Message::AskHistory { topics, whom } => {
                if whom.is_none_or(|whom| *whom == *self.name) && self.asked.len() < MAX_ASKS {
                    let at = now + self.moment_for(id);
                    self.asked.insert((at, id.into()), topics);
                }
            }
            Message::History { ask, topic, floor, events } => {
                self.hear_history(ask, &topic, floor, events, now, &mut out)
            }
            Message::Call { id, instance, method, params } if *instance == *self.name => {
                match Call::read(&method, params) {
                    Ok(call) => out.push(Output::Operate { id, call }),
                    Err(e) => out.push(Output::Tell(Message::Answer { id, outcome: Err(e) })),
                }
            }
            Message::Call { .. } => {}
            Message::Answer { id, outcome } => {
                if self.calls.remove(&id).is_some() {
                    out.push(Output::Answered { id, outcome });
                }
            }
            Message::Stands(stands) if *from == *self.name => self.hear_own(&stands, now, &mut out),
            Message::Leaves { .. } | Message::People(_) if *from == *self.name => {}
            Message::Stands(stands) => self.hear_stands(from, stands, now, &mut out),
            Message::Leaves { run } => {
                if self.members.get(from).is_some_and(|m| m.stands.run == run) {
                    self.forget(from, &mut out);
                }
            }
            Message::People(told) => {
                // Only of those who count as being there: who is gone takes everybody along.
                if self.members.get(from).is_some_and(|m| m.stands.run == told.run) {
                    out.extend(self.presence.hear(from, told).into_iter().map(Output::Moved));
                }
            }
        }
        out
    }

    fn hear_own(&mut self, stands: &Stands, now: Micros, out: &mut Vec<Output>) {
        if stands.run == self.presence.run() {
            self.round_trip = Some(now.saturating_sub(stands.sent));
        } else if !std::mem::replace(&mut self.warned, true) {
            out.push(Output::Note(Note::SameName));
        }
    }

    fn hear_stands(&mut self, from: &str, mut stands: Box<Stands>, now: Micros, out: &mut Vec<Output>) {
        if stands.instance.name != from {
            return;
        }
        // It said so of itself.
        stands.instance.here = false;
        stands.alarms.retain(|alarm| alarm.instance == from);
        match self.members.get(from) {
            // One that has been started anew since.
            Some(m) if m.stands.run > stands.run => return,
            None if self.members.len() >= MAX_MEMBERS => return,
            // Nobody is there any more who was.
            Some(m) if m.stands.run < stands.run => self.forget(from, out),
            _ => {}
        }
        let mut lacking = Vec::new();
        for (topic, digest) in &stands.digests {
            if self.alike.hear(from, topic, *digest, now) {
                lacking.push(topic.clone());
            }
        }
        self.members.insert(from.into(), Member { heard: now, stands });
        if !lacking.is_empty() {
            out.push(Output::Note(Note::Differs(from.into(), lacking.clone())));
            out.push(Output::Tell(Message::AskHistory { topics: lacking, whom: Some(from.into()) }));
        }
    }

    /// When this instance answers a question of this id, from when it was asked: not all at once, and without chance.
    fn moment_for(&self, ask: &str) -> Micros {
        let mut hasher = SipHasher13::new();
        hasher.write(self.name.as_bytes());
        hasher.write(ask.as_bytes());
        (hasher.finish() % ANSWER_WITHIN.unsigned_abs()).cast_signed()
    }

    fn tell_history(&self, ask: &str, topic: &str, out: &mut Vec<Output>) {
        let Some((_, state, _)) = self.topics.iter().find(|(name, ..)| *name == topic) else { return };
        let message = |events: Vec<CloudEvent>| {
            let (ask, topic, floor) = (ask.to_string(), topic.to_string(), state.floor().cloned());
            Output::Tell(Message::History { ask, topic, floor, events })
        };
        let (mut events, mut bytes) = (Vec::new(), 0);
        for e in state.events() {
            let event = written(topic, e);
            bytes += event.to_bytes().len();
            events.push(event);
            if bytes > HISTORY_BYTES {
                out.push(message(std::mem::take(&mut events)));
                bytes = 0;
            }
        }
        if !events.is_empty() {
            out.push(message(events));
        }
    }

    fn hear_history(
        &mut self,
        ask: String,
        topic: &str,
        floor: Option<crate::topic::Floor>,
        events: Vec<CloudEvent>,
        now: Micros,
        out: &mut Vec<Output>,
    ) {
        if self.answered.len() >= MAX_ASKS {
            self.answered.clear();
        }
        self.answered.insert(ask);
        if let Some(floor) = floor {
            self.topics.raise_floor(topic, floor);
        }
        for event in events {
            // One that does not fit has been counted.
            let (_, interval) = self.event(topic, &event, now);
            out.extend(interval.map(Output::Interval));
        }
    }

    /// Takes an event of a topic; says what became of it, with the change of the topic's table if there is one.
    ///
    /// # Errors
    /// The event does not fit the topic: why, without its values.
    pub fn event(&mut self, topic: &str, event: &CloudEvent, now: Micros) -> (Result<Heard, String>, Option<Interval>) {
        let heard = self.topics.hear(topic, event, now);
        let interval = if heard == Ok(Heard::Changed) { self.topics.take(now) } else { None };
        (heard, interval)
    }

    /// Somebody who may comes to a place here, or says something else there.
    ///
    /// # Errors
    /// There is no room.
    pub fn join(&mut self, at: Where, row: Row) -> Result<Vec<Output>, Full> {
        if !self.presence.own().contains_key(&at) {
            if self.presence.own().len() >= MAX_PEOPLE {
                return Err(Full::People(MAX_PEOPLE));
            }
            let places = self.places.entry(at.1).or_default();
            if *places >= MAX_PLACES {
                return Err(Full::Places(MAX_PLACES));
            }
            *places += 1;
        }
        let told = self.presence.join(at, row.clone());
        Ok(vec![Output::Tell(Message::People(told)), Output::Moved(Moved::Came(row))])
    }

    /// Somebody leaves a place here; nothing follows if they were not there.
    pub fn leave(&mut self, at: &Where) -> Vec<Output> {
        let Some((row, told)) = self.presence.leave(at) else { return vec![] };
        if let Some(places) = self.places.get_mut(&at.1) {
            *places -= 1;
            if *places == 0 {
                self.places.remove(&at.1);
            }
        }
        vec![Output::Tell(Message::People(told)), Output::Moved(Moved::Went(row))]
    }

    /// A client has gone, from wherever it was.
    pub fn leave_everywhere(&mut self, client: u64) -> Vec<Output> {
        if !self.places.contains_key(&client) {
            return vec![];
        }
        let places: Vec<Where> = self.presence.own().keys().filter(|(_, c)| *c == client).cloned().collect();
        places.iter().flat_map(|at| self.leave(at)).collect()
    }

    /// This instance stops: whoever was present at it is not any more, and the others need not wait for it.
    pub fn stop(&mut self) -> Vec<Output> {
        self.leaving = true;
        let (told, run): (Told, u64) = (self.presence.leave_all(), self.presence.run());
        vec![Output::Tell(Message::People(told)), Output::Tell(Message::Leaves { run })]
    }

    /// Passes an operator's call on to the instance that it names; [`Output::Answered`] follows, sooner or later. `id` is
    /// the call's, and no other's.
    ///
    /// # Errors
    /// There is no such instance, or too many calls wait already.
    pub fn call(&mut self, id: String, instance: &str, call: &Call, now: Micros) -> Result<Vec<Output>, RpcError> {
        if !self.has(instance) {
            let shown: String = instance.chars().take(60).collect();
            let known: Vec<&str> = self.names().chain([&*self.name]).collect();
            let text = format!("there is no instance {shown}; known: {}", known.join(", "));
            return Err(RpcError::new(code::UNKNOWN_NAME, text));
        }
        if self.calls.len() >= MAX_WAITING {
            let text = format!("limit reached: calls that wait for other instances, at most {MAX_WAITING}");
            return Err(RpcError::new(code::LIMIT, text));
        }
        self.calls.insert(id.clone(), (instance.into(), now + PATIENCE));
        Ok(vec![Output::Tell(Message::call(id, instance.into(), call))])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn instance(name: &str) -> InstanceRow {
        InstanceRow { name: name.into(), ..InstanceRow::default() }
    }

    fn stands(name: &str, run: u64, reads: RangeInclusive<u32>) -> Message {
        let (instance, link, digests) = (instance(name), LinkRow::default(), BTreeMap::new());
        let (topics, alarms) = (vec![], vec![]);
        Message::Stands(Box::new(Stands { run, sent: 0, instance, link, topics, alarms, digests, reads }))
    }

    fn stand(c: &mut Cluster, now: Micros) -> Vec<Output> {
        c.stand(instance("north"), LinkRow::default(), vec![], now)
    }

    #[test]
    fn the_newest_version_that_all_read_is_spoken() {
        let mut c = Cluster::new("north", 1, 1, 2..=4, &[]);
        let spoken =
            |out: Vec<Output>| out.into_iter().find_map(|o| if let Output::Speak(v) = o { Some(v) } else { None });
        assert_eq!(spoken(stand(&mut c, 0)), Some(4));
        c.hear("south", "", stands("south", 1, 1..=3), 0);
        assert_eq!(spoken(stand(&mut c, 0)), Some(3));
        c.hear("west", "", stands("west", 1, 5..=6), 0);
        let out = stand(&mut c, 0);
        assert!(out.contains(&Output::Note(Note::AtOdds)));
        assert_eq!(spoken(out), None);
        assert!(!stand(&mut c, 0).contains(&Output::Note(Note::AtOdds)), "said once");
        // Who is silent does not count any more.
        c.hear("south", "", stands("south", 1, 1..=3), GONE_AFTER);
        let out = stand(&mut c, GONE_AFTER + 1);
        assert!(out.contains(&Output::Note(Note::Silent("west".into()))));
        assert_eq!(spoken(out), Some(3));
    }

    #[test]
    fn nobody_speaks_for_another_and_an_old_run_says_nothing() {
        let mut c = Cluster::new("north", 1, 1, 1..=1, &[]);
        assert_eq!(c.hear("south", "", stands("west", 1, 1..=1), 0), vec![]);
        assert!(!c.has("south") && !c.has("west"));
        c.hear("south", "", stands("south", 5, 1..=1), 0);
        c.hear("south", "", stands("south", 4, 1..=1), 9);
        c.hear("south", "", Message::Leaves { run: 4 }, 9);
        assert!(c.has("south"));
        c.hear("south", "", Message::Leaves { run: 5 }, 9);
        assert!(!c.has("south"));
        assert_eq!(c.hear("north", "", stands("north", 2, 1..=1), 0), vec![Output::Note(Note::SameName)]);
    }

    #[test]
    fn a_call_is_answered_once_by_whom_it_was_for_or_given_up() {
        let (mut north, mut south) = (Cluster::new("north", 1, 1, 1..=1, &[]), Cluster::new("south", 1, 1, 1..=1, &[]));
        let drain = Call::Drain { instance: Some("south".into()) };
        assert!(north.call("c".into(), "south", &drain, 0).is_err(), "not known yet");
        north.hear("south", "", stands("south", 1, 1..=1), 0);
        let out = north.call("c".into(), "south", &drain, 0).unwrap();
        let [Output::Tell(said)] = &out[..] else { panic!("{out:?}") };
        assert_eq!(north.hear("north", "", said.clone(), 0), vec![], "not for oneself");
        assert_eq!(
            south.hear("north", "", said.clone(), 0),
            vec![Output::Operate { id: "c".into(), call: drain.clone() }]
        );
        let answer = Message::Answer { id: "c".into(), outcome: Ok(json!({})) };
        let answered = Output::Answered { id: "c".into(), outcome: Ok(json!({})) };
        assert_eq!(north.hear("south", "", answer.clone(), 1), vec![answered]);
        assert_eq!(north.hear("south", "", answer, 1), vec![]);
        north.call("d".into(), "south", &drain, 0).unwrap();
        assert_eq!(north.tick(PATIENCE), vec![]);
        let out = north.tick(PATIENCE + 1);
        assert!(matches!(&out[..], [Output::Answered { id, outcome: Err(_) }] if id == "d"), "{out:?}");
        for i in 0..MAX_WAITING {
            north.call(i.to_string(), "south", &drain, 0).unwrap();
        }
        assert!(north.call("more".into(), "south", &drain, 0).is_err());
    }
}
