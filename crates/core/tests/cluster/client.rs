//! Clients of the source's tables: they come, go, read slowly, change their rights, and hold what they read against
//! what they may be shown.

use std::collections::BTreeMap;

use gossip_core::engine::{Input, Request, Resume, ResyncReason, SubId};
use gossip_core::feed::Change;
use gossip_core::plan::{EffectivePlan, VisibleRow};
use gossip_core::position::Position;
use gossip_core::schema::Key;
use gossip_core::seal::Cursor;
use gossip_core::send_queue::{QueueLimits, SendQueue};
use gossip_core::value::Value;
use rand::Rng;

use crate::world::{ARRANGED, COLUMNS, Person, Plain, QUERIES, Shown, WINDOWS, World, key_of_status};
use crate::{Cluster, Message, NODES};

pub struct Client {
    pub engine: usize,
    pub person: Person,
    pub query: usize,
    pub queue: SendQueue<Message>,
    pub shown: Shown,
    /// The keys of its rows in their order, where they have one.
    order: Vec<i64>,
    pub position: Option<Position>,
    pub reads: f64,
    every: i64,
    /// Which key its token is signed with.
    pub key: usize,
    /// The fingerprint of the last effective plan, as a cursor has it.
    pub fingerprint: u64,
    /// It came back and has not been answered yet.
    asked_to_resume: bool,
    /// It has parts of a transaction and not all of it.
    pub unfinished: bool,
}

impl Client {
    /// What it shows is the result, in its order if it has one.
    pub fn hold_against(&self, world: &World, at: &dyn std::fmt::Display) {
        let expected = self.person.in_order(self.query, world);
        if WINDOWS.contains(&self.query) {
            let order: Vec<i64> = expected.iter().map(|(id, _)| *id).collect();
            assert_eq!(self.order, order, "{:?} {:?} {at}", self.person, QUERIES[self.query]);
        }
        let expected: Shown = expected.into_iter().collect();
        assert_eq!(self.shown, expected, "{:?} {:?} {at}", self.person, QUERIES[self.query]);
    }

    /// Has rows take their places: all that left or has a place is taken out, then what has one is put in, the foremost first.
    fn put_in_place(&mut self, changes: &[Change]) {
        let mut placed = BTreeMap::new();
        for change in changes {
            let id = id_of(change.key());
            match change {
                Change::Remove { .. } => self.order.retain(|other| *other != id),
                Change::Add { place: Some(place), .. } | Change::Replace { place: Some(place), .. } => {
                    self.order.retain(|other| *other != id);
                    placed.insert(*place, id);
                }
                Change::Add { .. } => panic!("{change:?} comes without a place"),
                Change::Replace { .. } => {}
            }
        }
        placed.into_iter().for_each(|(place, id)| self.order.insert(place, id));
    }
}

impl Cluster {
    /// Nothing is read of what may not be seen any more where the client's engine stands.
    fn hold_against_rights(&self, c: &Client, message: &Message) {
        if ARRANGED.contains(&c.query) {
            // What is in a group is not seen of it.
            return;
        }
        let at = self.nodes[c.engine].engine.progress("harbour").at.unwrap_or_default();
        let Some(world) = self.history.get(&at) else { return };
        let of = match message {
            Message::Result(_, _, of, _) | Message::Resumed(of) => *of,
            Message::Delta(delta) => delta.position,
        };
        let rows: Vec<(&Key, &VisibleRow, &EffectivePlan)> = match message {
            Message::Result(feed, rows, ..) => rows.iter().map(|(k, row)| (k, row, &**feed)).collect(),
            Message::Resumed(_) => vec![],
            Message::Delta(delta) => {
                let told = delta.changes.iter().filter_map(|c| match c {
                    Change::Add { key, row, .. } | Change::Replace { key, row, .. } => Some((key, row, &*delta.feed)),
                    Change::Remove { .. } => None,
                });
                told.collect()
            }
        };
        for (key, row, feed) in rows {
            let id = id_of(key);
            let Some(Plain::Call(call)) = world.get(&(0, id)) else { continue };
            // One that was deleted and came again is another row, and one that left the result by itself was not taken
            // back when it was withheld later.
            let still = |w: &World| match w.get(&(0, id)) {
                Some(Plain::Call(call)) => {
                    c.person.may(id, call, w).is_none() || c.person.expected(c.query, w).contains_key(&id)
                }
                _ => false,
            };
            let another = self.came.get(&id).is_some_and(|came| *came > of);
            if of > at || another || !self.history.range(of..=at).all(|(_, w)| still(w)) {
                continue;
            }
            let may = c.person.may(id, call, world);
            let told = project(feed, row);
            let Some(may) = may else {
                panic!("{:?} at {at} reads {told:?}, which is withheld: {}", c.person, message.name())
            };
            let unmasked = |c: &str| match (c, may.get(c), told.get(c)) {
                ("note", Some(Value::Int(-1)), Some(told)) => *told != Value::Int(-1),
                ("agency", Some(Value::Text(may)), Some(Value::Text(told))) => {
                    may.ends_with('…') && !told.ends_with('…')
                }
                _ => false,
            };
            // The pilot is of another table.
            let of_call = told.keys().filter(|c| **c != "pilot");
            let hidden: Vec<_> = of_call.filter(|c| !may.contains_key(**c) || unmasked(c)).collect();
            assert!(hidden.is_empty(), "{:?} at {at} reads {hidden:?} of {told:?}: {}", c.person, message.name());
        }
    }

    /// A client reads one message and holds it against what may be shown.
    pub fn client_reads(&mut self, sub: SubId) {
        let Some(c) = self.clients.get_mut(&sub) else { return };
        let message = c.queue.pop();
        let c = &self.clients[&sub];
        message.iter().for_each(|m| self.hold_against_rights(c, m));
        if matches!(message, Some(Message::Delta(_))) {
            let query = c.query;
            self.note_reached(&format!("deltas of query {query}"));
        }
        let Some(c) = self.clients.get_mut(&sub) else { return };
        match message {
            None => {
                let (engine, lagging) = (c.engine, c.queue.take_lagging());
                // The engine hears of it a little later, and goes on delivering meanwhile.
                let due = self.step + self.rng.random_range(0..4);
                self.nodes[engine].catch_ups.extend(lagging.into_iter().map(|s| (due, s)));
            }
            Some(Message::Result(feed, rows, position, why)) => {
                // A first result that was discarded unsent is followed by one that says why.
                assert!(why != ResyncReason::First || c.position.is_none(), "a second first result");
                assert!(why != ResyncReason::ResumedTooLate || c.asked_to_resume, "it had no cursor");
                c.asked_to_resume = false;
                c.fingerprint = feed.fingerprint;
                c.shown = rows.iter().map(|(k, seen)| (id_of(k), project(&feed, seen))).collect();
                c.order = rows.iter().map(|(k, _)| id_of(k)).collect();
                c.unfinished = false;
                c.hold_against(&self.history[&position], &format!("result at {position}"));
                c.position = Some(position);
            }
            Some(Message::Resumed(position)) => {
                assert!(std::mem::take(&mut c.asked_to_resume), "resumed without asking");
                assert_eq!(c.position, Some(position), "resumed somewhere else");
                let query = c.query;
                self.note_reached(&format!("resumed query {query}"));
            }
            Some(Message::Delta(delta)) => {
                assert!(!c.asked_to_resume, "a delta before the answer");
                assert!(c.position.is_some_and(|p| p < delta.position), "a delta twice, or before the result");
                c.position = Some(delta.position);
                for change in &delta.changes {
                    let id = id_of(change.key());
                    let before = c.shown.get(&id).cloned();
                    let after = match change {
                        Change::Add { row, .. } => Some(project(&delta.feed, row)),
                        Change::Replace { row, .. } => {
                            // What it leaves out is as it was.
                            let mut after = before.clone().unwrap_or_default();
                            after.extend(project(&delta.feed, row));
                            Some(after)
                        }
                        Change::Remove { .. } => None,
                    };
                    let moves = matches!(change, Change::Replace { place: Some(_), .. });
                    let same = before == after && !moves;
                    // What changed twice between two deltas may be as it was.
                    assert!(!same || c.every > 0 && after.is_some(), "{change:?} at {} is nothing", delta.position);
                    assert!(
                        before.is_some() || matches!(change, Change::Add { .. }),
                        "{change:?} of what was not there"
                    );
                    if let Some(was) = change.was() {
                        assert_eq!(Some(project(&delta.feed, was)), before, "{change:?} says what was");
                    }
                    if let (Change::Replace { changed, .. }, Some(before), Some(after)) = (change, &before, &after) {
                        let told: Vec<&str> = changed.iter().map(|i| name_of(&delta.feed, i)).collect();
                        let differs = |c: &&&str| before.get(**c) != after.get(**c);
                        let kept_quiet: Vec<_> = after.keys().filter(differs).filter(|c| !told.contains(c)).collect();
                        assert!(kept_quiet.is_empty(), "{change:?} does not name {kept_quiet:?}");
                    }
                    match after {
                        Some(row) => drop(c.shown.insert(id, row)),
                        None => drop(c.shown.remove(&id)),
                    }
                }
                if WINDOWS.contains(&c.query) {
                    c.put_in_place(&delta.changes);
                }
                c.unfinished = delta.more;
                if !delta.more {
                    c.hold_against(&self.history[&delta.position], &format!("{sub} after {}", delta.position));
                }
            }
        }
    }

    pub fn arrive(&mut self) {
        let (sub, engine) = (self.next, self.rng.random_range(0..NODES));
        self.next += 1;
        let person = Person::random(&mut self.rng, self.nodes[engine].law);
        let query = self.rng.random_range(0..QUERIES.len());
        let limits = QueueLimits { deltas: self.rng.random_range(1..6), bytes: 1_000 };
        let reads = self.rng.random_range(0.05..1.0);
        let queue = SendQueue::new(limits);
        let every = if self.rng.random_bool(0.3) { self.rng.random_range(1..20) } else { 0 };
        let client = Client {
            engine,
            person,
            query,
            queue,
            shown: Shown::new(),
            order: Vec::new(),
            position: None,
            reads,
            every,
            key: self.rng.random_range(0..3),
            fingerprint: 0,
            asked_to_resume: false,
            unfinished: false,
        };
        self.clients.insert(sub, client);
        let observed = every == 0 && self.rng.random_bool(0.2);
        self.subscribe(sub, observed, None);
    }

    fn subscribe(&mut self, sub: SubId, observed: bool, resume: Option<Resume>) {
        let Some(c) = self.clients.get(&sub) else { return };
        let (query, claims, every) = (QUERIES[c.query].into(), c.person.claims(), c.every);
        let resume = resume.map(Box::new);
        let request = Request { query, claims, observed, every, resume, ..Request::default() };
        self.handle(c.engine, Input::Subscribe(sub, Box::new(request)));
    }

    /// A client's connection breaks, and it comes back with its cursor, here or at another instance. What was unread
    /// is lost to it.
    pub fn come_back(&mut self, sub: SubId) {
        let Some(mut c) = self.clients.remove(&sub) else { return };
        self.handle(c.engine, Input::Leave(sub));
        let back = self.next;
        self.next += 1;
        c.engine = self.rng.random_range(0..NODES);
        c.queue = SendQueue::new(QueueLimits { deltas: 5, bytes: 1_000 });
        let position = c.position;
        c.asked_to_resume = position.is_some();
        let (epoch, query) = (self.epoch, c.fingerprint);
        let cursor = position.map(|p| Cursor {
            source: "harbour".into(),
            epoch,
            timeline: 0,
            commit: p.commit,
            index: p.index,
            query,
            moment: 0,
        });
        if self.rng.random_bool(0.1) {
            c.person = Person::random(&mut self.rng, 0);
        }
        c.person.law = self.nodes[c.engine].law;
        self.clients.insert(back, c);
        self.subscribe(back, false, cursor.map(Resume::At));
    }

    pub fn random_client(&mut self) -> Option<SubId> {
        let n = self.clients.len();
        (n > 0).then(|| self.rng.random_range(0..n)).and_then(|i| self.clients.keys().nth(i).copied())
    }
}

pub fn id_of(key: &Key) -> i64 {
    match key[..] {
        [Value::Int(id)] => id,
        // That of a group.
        [ref status @ Value::Text(_)] => key_of_status(status),
        _ => panic!("{key:?}"),
    }
}

pub fn project(feed: &EffectivePlan, seen: &VisibleRow) -> BTreeMap<&'static str, Value> {
    let value = |v: &Value| match v {
        // However many digits it has.
        Value::Numeric(n) => Value::from(n.to_string()),
        v => v.clone(),
    };
    feed.shown(seen).map(|(i, v)| (name_of(feed, i), value(v))).collect()
}

fn name_of(feed: &EffectivePlan, place: usize) -> &'static str {
    let name = feed.project.name(place, feed.table());
    COLUMNS
        .into_iter()
        .chain(["calls", "pilot"])
        .find(|c| *c == name)
        .unwrap_or_else(|| panic!("{name} is shown to somebody"))
}
