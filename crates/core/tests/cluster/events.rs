//! Topics and presence: messages between instances over the same relay, those who listen, and what each of them
//! must have heard in the end.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use gossip_core::cluster::message::{Message as MemberMessage, presence_row};
use gossip_core::cluster::presence::{Location, PresenceChange};
use gossip_core::cluster::topics::to_cloudevent;
use gossip_core::cluster::{Cluster as Machine, Output as Follows};
use gossip_core::engine::{Engine, Input, Request, Resume, SubId};
use gossip_core::feed::Change;
use gossip_core::local_source::Own;
use gossip_core::position::{Interval, Old, Position, RowChange};
use gossip_core::schema::{Column, Identified, Key, PRESENCE, Row, SYSTEM_SCHEMA, TOPIC_SOURCE, Table, TableName};
use gossip_core::seal::Cursor;
use gossip_core::send_queue::{QueueLimits, SendQueue};
use gossip_core::topic::{ColumnSource, Retention, Topic, TopicEvent};
use gossip_core::value::{Type, Value};
use gossip_protocol::system::{InstanceRow, LinkRow, Moment, PresenceRow, SystemRow};
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{Call, CloudEvent};
use rand::Rng;
use serde_json::json;

use crate::world::{AGENCIES, Person};
use crate::{Cluster, Message, NODES};

const LISTENED: [&str; 3] = ["SELECT * FROM tide", "SELECT * FROM radio", "SELECT * FROM gossip.presence"];
/// The topics by number.
const TOPICS: [&str; 2] = ["tide", "radio"];
/// Events that `radio` keeps.
const KEPT: usize = 6;
/// Microseconds of a step, and when the first one begins.
const STEP: i64 = 100_000;
const BEGIN: i64 = 1_000_000_000;

/// What is said on the relay beside intervals, and by whom.
#[derive(Clone)]
enum Said {
    Event(usize, Arc<CloudEvent>),
    /// By an instance to all: the id of its event, and the message.
    Member(String, Arc<MemberMessage>),
}

/// What one instance knows of the others, of topics and of who is where.
pub struct EventsOf {
    machine: Machine,
    /// Gossip's own tables, as a source.
    own: Own,
    epoch: u64,
    /// The version of the relay's format that it reads last, and the one that it speaks.
    reads: u32,
    pub speaks: u32,
    /// What it says once it has begun.
    first: Vec<Follows>,
    /// (not before this step, by whom, what)
    inbox: Vec<(usize, usize, Said)>,
    /// What it ever took: topic, then what orders events, then the gauge and its level.
    took: BTreeSet<(usize, i64, String, String, String, i64)>,
    /// Who was said to be where.
    said_to_be: Vec<Row>,
    /// The rows of `tide`, as intervals have told them.
    tide: BTreeMap<Key, Row>,
    /// The rows of each table at each position.
    states: BTreeMap<(usize, Position), Vec<Row>>,
    /// Calls of operators that it has passed on.
    calls: BTreeSet<String>,
}

/// Somebody who listens to a topic or to who is where.
pub struct Listener {
    pub engine: usize,
    person: Person,
    what: usize,
    pub queue: SendQueue<Message>,
    /// By key; by arrival where there is none.
    shown: BTreeMap<Key, Row>,
    arrivals: i64,
    position: Option<Position>,
    cursor: Option<Cursor>,
    /// Where its cursor is good: the instance and its run, and the position.
    was: Option<(usize, u64, Position)>,
}

fn topic(which: usize) -> Arc<Topic> {
    let path = |name: &str| ColumnSource::Path(vec![name.into()]);
    let columns = vec![
        ("gauge".into(), Type::Text, path("gauge")),
        ("level".into(), Type::Int8, path("level")),
        ("id".into(), Type::Text, ColumnSource::Id),
    ];
    let (key, keep) =
        if which == 0 { (vec!["gauge".into()], Retention::Last) } else { (vec![], Retention::Newest(KEPT)) };
    Arc::new(Topic::new(TOPICS[which], columns, &key, keep, None).unwrap())
}

fn presence_table() -> Arc<Table> {
    let column = |(name, ty): &(&str, _)| Column { name: (*name).into(), ty: Type::from(*ty) };
    Arc::new(Table {
        name: TableName::system(PRESENCE),
        source: SYSTEM_SCHEMA.into(),
        columns: PresenceRow::SHAPE.columns.iter().map(column).collect(),
        key: vec![0, 1, 2],
        old_values: true,
        incarnation: 0,
    })
}

impl EventsOf {
    pub fn start(n: usize, step: usize, engine: &mut Engine) -> EventsOf {
        for table in [topic(0).table.table().clone(), topic(1).table.table().clone(), presence_table()] {
            engine.handle(Input::Table(table));
        }
        let epoch = (step * NODES + n) as u64 + 1;
        let reads = 1 + epoch as u32 % 3;
        let machine = Machine::new(&n.to_string(), step as u64 + 1, epoch, 1..=reads, &[topic(0), topic(1)]);
        let own = Own::new(SYSTEM_SCHEMA, 0);
        for sign in [machine.topics().sign(0), own.sign(0)] {
            engine.handle(Input::Interval(Arc::new(sign)));
        }
        EventsOf {
            first: machine.request_history(),
            machine,
            own,
            epoch,
            reads,
            speaks: 0,
            inbox: Vec::new(),
            took: BTreeSet::new(),
            said_to_be: Vec::new(),
            tide: BTreeMap::new(),
            states: BTreeMap::new(),
            calls: BTreeSet::new(),
        }
    }

    fn rows(&self, what: usize) -> Vec<Row> {
        match what {
            2 => self.machine.presence().all().cloned().collect(),
            topic => self.machine.topics().snapshot(TOPICS[topic], 0).0,
        }
    }
}

/// The column that rules ask: gauge and place stand first.
fn may(person: &Person, row: &[Value]) -> bool {
    person.agencies.iter().any(|a| row[0] == AGENCIES[*a].into())
}

fn sorted(rows: impl IntoIterator<Item = Row>) -> Vec<Row> {
    let mut rows: Vec<Row> = rows.into_iter().collect();
    rows.sort();
    rows
}

impl Cluster {
    /// A snapshot of one of a node's own tables.
    pub fn own_snapshot(&self, n: usize, table: &TableName) -> (Position, Vec<Row>) {
        let of = &self.nodes[n].events;
        let what = TOPICS.iter().position(|t| *t == &*table.name).unwrap_or(2);
        let at = if what == 2 { of.own.at() } else { of.machine.topics().snapshot(TOPICS[what], 0).1 };
        (at, of.rows(what))
    }

    fn say(&mut self, by: usize, said: &Said) {
        for to in 0..NODES {
            let apart = by != to && [by, to].map(Some).contains(&self.cut);
            let copies = match self.rng.random_range(0..100) {
                _ if apart => 0,
                0..10 if self.faults => 0,
                10..20 if self.faults => 2,
                _ => 1,
            };
            for _ in 0..copies {
                let late = self.faults && self.rng.random_bool(0.2);
                let due = self.step + if late { self.rng.random_range(0..9) } else { 0 };
                self.nodes[to].events.inbox.push((due, by, said.clone()));
            }
        }
    }

    /// Somebody publishes, and tries again elsewhere if unsure.
    pub fn say_something(&mut self) {
        self.published_events += 1;
        let which = self.rng.random_range(0..2);
        let gauge = AGENCIES[self.rng.random_range(0..3)];
        let event = TopicEvent {
            id: self.published_events.to_string().into(),
            source: format!("/{}", self.rng.random_range(0..3)).into(),
            subject: None,
            sender: None,
            // By the clocks of publishers, which differ.
            time: BEGIN + 1_000 + self.step as i64 + self.rng.random_range(-20..20),
            data: json!({"gauge": gauge, "level": self.published_events}),
        };
        let event = Arc::new(to_cloudevent(TOPICS[which], &event));
        let by = self.rng.random_range(0..NODES);
        self.say(by, &Said::Event(which, event.clone()));
        if self.rng.random_bool(0.2) {
            let by = self.rng.random_range(0..NODES);
            self.say(by, &Said::Event(which, event));
        }
    }

    /// Somebody comes to a place at some instance, shows something else there, or leaves.
    pub fn come_or_leave(&mut self) {
        let n = self.rng.random_range(0..NODES);
        let there = self.nodes[n].events.machine.presence().own().len();
        let follows = if there > 0 && self.rng.random_bool(0.5) {
            let one = self.rng.random_range(0..there);
            let of = &mut self.nodes[n].events.machine;
            let at: Option<Location> = of.presence().own().keys().nth(one).cloned();
            of.leave(&at.unwrap())
        } else {
            let (place, client) = (AGENCIES[self.rng.random_range(0..3)], self.rng.random_range(0..3));
            let (data, since) = (json!(self.rng.random_range(0..3)), Moment(rfc3339(0)));
            let row = PresenceRow { place: place.into(), instance: n.to_string(), client, subject: None, data, since };
            self.nodes[n].events.machine.join((place.into(), client), presence_row(row)).unwrap()
        };
        self.follow(n, follows);
    }

    /// An operator asks something of one instance through another.
    pub fn call_elsewhere(&mut self) {
        let (by, to) = (self.rng.random_range(0..NODES), self.rng.random_range(0..NODES));
        let (id, now) = (self.new_id(), self.now());
        let call = Call::Drain { instance: Some(to.to_string()) };
        if let Ok(follows) = self.nodes[by].events.machine.forward_call(id.clone(), &to.to_string(), &call, now) {
            self.nodes[by].events.calls.insert(id);
            self.follow(by, follows);
        }
    }

    fn now(&self) -> i64 {
        BEGIN + self.step as i64 * STEP
    }

    fn new_id(&mut self) -> String {
        self.said += 1;
        format!("m{}", self.said)
    }

    /// What instances say from time to time.
    pub fn tell_others(&mut self) {
        let now = self.now();
        for n in 0..NODES {
            let instance = InstanceRow { name: n.to_string(), ..InstanceRow::default() };
            let follows = self.nodes[n].events.machine.report_status(instance, LinkRow::default(), vec![], now);
            self.follow(n, follows);
        }
    }

    /// Carries out what follows from something at a node.
    fn follow(&mut self, n: usize, follows: Vec<Follows>) {
        let mut moved = Vec::new();
        for one in follows {
            match one {
                Follows::Broadcast(message) => {
                    let id = self.new_id();
                    // In the words of the wire, now and then: it takes its time.
                    let message = match self.said % 20 {
                        0 => {
                            let event = message.to_event(&n.to_string(), id.clone(), self.now());
                            let (_, read) = MemberMessage::read(&CloudEvent::read(&event.to_bytes()).unwrap()).unwrap();
                            assert_eq!(read, message);
                            read
                        }
                        _ => message,
                    };
                    self.say(n, &Said::Member(id, Arc::new(message)));
                }
                Follows::Presence(one) => moved.push(one),
                Follows::Interval(interval) => self.topic_changed(n, interval),
                Follows::UseVersion(version) => self.nodes[n].events.speaks = version,
                Follows::Operate { id, call } => {
                    assert_eq!(call, Call::Drain { instance: Some(n.to_string()) });
                    self.follow(n, vec![Follows::Broadcast(MemberMessage::CallResponse { id, outcome: Ok(json!(n)) })]);
                }
                Follows::Answered { id, .. } => {
                    assert!(self.nodes[n].events.calls.remove(&id), "{id} is answered twice, or to somebody else");
                }
                Follows::Log(_) => {}
            }
        }
        self.moved(n, moved);
    }

    /// A node takes what has come to it.
    pub fn hear(&mut self, n: usize, calm: bool) {
        let (step, now) = (self.step, self.now());
        let mut follows = std::mem::take(&mut self.nodes[n].events.first);
        follows.extend(self.nodes[n].events.machine.tick(now));
        self.follow(n, follows);
        let inbox = std::mem::take(&mut self.nodes[n].events.inbox);
        let (due, later): (Vec<_>, Vec<_>) = inbox.into_iter().partition(|m| calm || m.0 <= step);
        self.nodes[n].events.inbox = later;
        for (_, by, said) in due {
            match said {
                Said::Event(topic, event) => {
                    self.note(n, topic, &event);
                    let (applied, interval) = self.nodes[n].events.machine.apply_event(TOPICS[topic], &event, now);
                    applied.unwrap();
                    interval.into_iter().for_each(|interval| self.topic_changed(n, interval));
                }
                Said::Member(id, message) => {
                    if let MemberMessage::HistoryResponse { topic, events, .. } = &*message {
                        let topic = TOPICS.iter().position(|t| t == topic).unwrap();
                        events.iter().for_each(|event| self.note(n, topic, event));
                    }
                    let message = Arc::unwrap_or_clone(message);
                    let follows = self.nodes[n].events.machine.receive(&by.to_string(), &id, message, now);
                    self.follow(n, follows);
                }
            }
        }
    }

    /// Notes that a node has heard an event.
    fn note(&mut self, n: usize, topic: usize, event: &CloudEvent) {
        let (gauge, level) = (event.data["gauge"].as_str().unwrap().into(), event.data["level"].as_i64().unwrap());
        // Times of one length are in the order of their texts; this one is as good as any other number.
        let time = event.time.as_ref().unwrap()["1970-01-01T00:16:40.".len()..].trim_end_matches('Z').parse().unwrap();
        self.nodes[n].events.took.insert((topic, time, event.source.clone(), event.id.clone(), gauge, level));
    }

    fn topic_changed(&mut self, n: usize, interval: Interval) {
        let of = &mut self.nodes[n].events;
        for change in interval.transactions.iter().flat_map(|t| &t.changes).filter(|c| &*c.table.name == TOPICS[0]) {
            match &change.new {
                Some(row) => drop(of.tide.insert(change.key.clone(), row.clone())),
                None => drop(of.tide.remove(&change.key)),
            }
        }
        of.states.insert((0, interval.to), of.tide.values().cloned().collect());
        self.handle(n, Input::Interval(Arc::new(interval)));
    }

    fn moved(&mut self, n: usize, moved: Vec<PresenceChange>) {
        if moved.is_empty() {
            return;
        }
        let table = presence_table();
        let of = &mut self.nodes[n].events;
        for one in moved {
            let (PresenceChange::Joined(row) | PresenceChange::Left(row)) = &one;
            let key = table.key_of(row);
            let before =
                of.said_to_be.iter().position(|r| table.key_of(r) == key).map(|i| of.said_to_be.swap_remove(i));
            let new = matches!(one, PresenceChange::Joined(_)).then(|| row.clone());
            of.said_to_be.extend(new.clone());
            of.own.push(RowChange::of(&Identified::new(table.clone()), key, Old::Known(before), new));
        }
        assert_eq!(sorted(of.said_to_be.clone()), sorted(of.rows(2)), "who was said to be where");
        let Some(interval) = of.own.take(0, 0) else { return };
        of.states.insert((2, interval.to), of.rows(2));
        self.handle(n, Input::Interval(Arc::new(interval)));
    }

    pub fn listen(&mut self) {
        let (sub, engine) = (self.next, self.rng.random_range(0..NODES));
        self.next += 1;
        let queue = SendQueue::new(QueueLimits { deltas: self.rng.random_range(1..6), bytes: 1_000 });
        let listener = Listener {
            engine,
            person: Person::random(&mut self.rng, 0),
            what: self.rng.random_range(0..3),
            queue,
            shown: BTreeMap::new(),
            arrivals: 0,
            position: None,
            cursor: None,
            was: None,
        };
        let (query, claims) = (LISTENED[listener.what].into(), listener.person.claims());
        self.listeners.insert(sub, listener);
        self.handle(engine, Input::Subscribe(sub, Box::new(Request { query, claims, ..Request::default() })));
    }

    /// A listener's connection is gone; it comes back with what it has, here or elsewhere.
    pub fn listen_again(&mut self, sub: SubId) {
        let Some(mut l) = self.listeners.remove(&sub) else { return };
        let back = self.next;
        self.next += 1;
        l.engine = self.rng.random_range(0..NODES);
        l.queue = SendQueue::new(QueueLimits { deltas: 5, bytes: 1_000 });
        l.position = None;
        let (query, claims) = (LISTENED[l.what].into(), l.person.claims());
        let resume = l.cursor.take().map(|cursor| Box::new(Resume::At(cursor)));
        let engine = l.engine;
        self.listeners.insert(back, l);
        self.handle(engine, Input::Subscribe(back, Box::new(Request { query, claims, resume, ..Request::default() })));
    }

    pub fn listeners_read(&mut self, calm: bool) {
        for sub in self.listeners.keys().copied().collect::<Vec<_>>() {
            if !calm && self.rng.random_bool(0.4) {
                continue;
            }
            for _ in 0..if calm { 20 } else { 2 } {
                self.listener_reads(sub);
            }
            if self.faults && self.rng.random_bool(0.02) {
                let Some(engine) = self.listeners.get(&sub).map(|l| l.engine) else { continue };
                self.handle(engine, Input::Unsubscribe(sub));
                self.listen_again(sub);
            }
        }
    }

    fn listener_reads(&mut self, sub: SubId) {
        let Some(l) = self.listeners.get_mut(&sub) else { return };
        let (source, what) = ([TOPIC_SOURCE, TOPIC_SOURCE, SYSTEM_SCHEMA][l.what], l.what);
        let run = self.nodes[l.engine].events.epoch;
        let cursor = |epoch, p: Position, query| {
            Some(Cursor {
                source: source.into(),
                epoch,
                timeline: 0,
                commit: p.commit,
                index: p.index,
                query,
                moment: 0,
            })
        };
        let Some(message) = l.queue.pop() else {
            let (engine, lagging) = (l.engine, l.queue.take_lagging());
            self.nodes[engine].catch_ups.extend(lagging.into_iter().map(|sub| (self.step, sub)));
            return;
        };
        let name = message.name();
        let put = |l: &mut Listener, key: &Key, row: Row, fresh: bool| {
            assert!(may(&l.person, &row), "{:?} hears {row:?}, which is withheld: {name}", l.person);
            let key = if key.is_empty() {
                assert!(!l.shown.values().any(|r| *r == row), "{row:?} twice: {name}");
                l.arrivals += 1;
                Key::from([Value::Int(l.arrivals)])
            } else {
                key.clone()
            };
            let before = l.shown.insert(key, row);
            assert!(!fresh || before.is_none(), "added twice: {name}");
        };
        match message {
            Message::Result(feed, rows, at, _) => {
                l.shown.clear();
                rows.iter().for_each(|(key, seen)| put(l, key, seen.row.clone(), true));
                (l.position, l.cursor) = (Some(at), cursor(run, at, feed.fingerprint));
                l.was = Some((l.engine, run, at));
            }
            Message::Resumed(at) => {
                assert_eq!(l.was, Some((l.engine, run, at)), "positions of topics are an instance's own");
                l.position = Some(at);
            }
            Message::Delta(delta) => {
                assert!(l.position.is_some_and(|p| p < delta.position), "a delta twice, or before the result");
                l.position = Some(delta.position);
                l.cursor = cursor(delta.term.epoch, delta.position, delta.feed.fingerprint);
                l.was = Some((l.engine, run, delta.position));
                for change in &delta.changes {
                    match change {
                        Change::Add { key, row, instead, .. } => put(l, key, row.row.clone(), !instead),
                        Change::Replace { key, row, .. } => {
                            assert!(l.shown.contains_key(key), "replaced what was not there");
                            put(l, key, row.row.clone(), false);
                        }
                        Change::Remove { key, .. } => assert!(l.shown.remove(key).is_some(), "removed twice"),
                    }
                }
                // What `radio` told is more than what it keeps.
                let state = self.nodes[l.engine].events.states.get(&(what, delta.position));
                if let Some(state) = state.filter(|_| what != 1) {
                    let expected = sorted(state.iter().filter(|r| may(&l.person, r)).cloned());
                    assert_eq!(sorted(l.shown.values().cloned()), expected, "after {name}");
                }
            }
        }
    }

    /// At rest: every instance holds the same, which is what follows from all that was heard anywhere and not lost with
    /// its instance, and so does everybody who listens.
    pub fn events_are_the_same_everywhere(&self) {
        let all = |n: usize| &self.nodes[n].events;
        let took: BTreeSet<_> = (0..NODES).flat_map(|n| all(n).took.iter().cloned()).collect();
        let row = |t: &(usize, i64, String, String, String, i64)| -> Row {
            [t.4.as_str().into(), Value::Int(t.5), t.3.as_str().into()].into()
        };
        let newest = |topic: usize| took.iter().rev().filter(move |t| t.0 == topic);
        let last = AGENCIES.iter().filter_map(|gauge| newest(0).find(|t| t.4 == *gauge));
        let expected = [sorted(last.map(row)), sorted(newest(1).take(KEPT).map(row))];
        for n in 0..NODES {
            for (topic, name) in TOPICS.iter().enumerate() {
                assert_eq!(sorted(all(n).rows(topic)), expected[topic], "{name} at {n}");
            }
            let there = sorted((0..NODES).flat_map(|m| all(m).machine.presence().own().values().cloned()));
            assert_eq!(sorted(all(n).rows(2)), there, "who is where, at {n}");
            let newest = (0..NODES).map(|m| all(m).reads).min();
            assert_eq!(Some(all(n).speaks), newest, "the newest version that all read, at {n}");
            assert!(all(n).calls.is_empty(), "calls are answered or given up, at {n}");
        }
        for (sub, l) in &self.listeners {
            assert!(l.position.is_some(), "listener {sub} never got a result");
            let expected = sorted(all(l.engine).rows(l.what).into_iter().filter(|r| may(&l.person, r)));
            let shown = sorted(l.shown.values().cloned());
            match l.what {
                1 => assert!(expected.iter().all(|r| shown.contains(r)), "listener {sub}: {shown:?} of {expected:?}"),
                _ => assert_eq!(shown, expected, "listener {sub} of {}", LISTENED[l.what]),
            }
        }
    }
}
