//! Topics as tables: how an event becomes a row, and which events a topic keeps.
//!
//! Every instance receives the same events, some twice, some late, each publisher's in order. What a topic keeps is
//! therefore a function of the set of events and not of their order: for each key the event with the greatest *stamp*,
//! or those with the greatest stamps of all. Two instances that have received the same events keep the same ones, and one that
//! starts later gets the missing ones from another instance.
//!
//! Memory is bounded too, and there the order could matter: once the oldest event was dropped for a large one, an older and
//! small one would fit again. So events that are not newer than what was dropped are never kept, and an
//! instance reports that *floor* together with its events.

use std::collections::{BTreeMap, HashSet, VecDeque};
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use sha2::{Digest, Sha256};

use crate::datetime;
use crate::position::{Micros, Old, RowChange, Timestamp};
use crate::schema::{Column, ColumnSet, Identified, Key, Row, TOPIC_SOURCE, Table, TableName};
use crate::value::{Type, Value};

/// Most rows kept by one topic. With a key, events of further keys are not kept; without, the oldest are dropped.
pub const MAX_RETAINED: usize = 100_000;

/// Approximate bytes kept by one topic. Without a key the oldest events are dropped; with one, an event that needs more is
/// not kept.
pub const MAX_ROOM: usize = 64 << 20;

/// Approximate bytes of an event besides its texts and data.
const EVENT: usize = 256;

/// Approximate bytes of each value of its data.
const NODE: usize = 32;

/// Most ids kept to detect repeated events.
pub const MAX_SEEN: usize = 65_536;

/// An event of a topic.
#[derive(Clone, Debug, PartialEq)]
pub struct TopicEvent {
    /// Its id, unique for its source among the events of one sender.
    pub id: Arc<str>,
    /// The event's source.
    pub source: Arc<str>,
    /// The event's subject, if any.
    pub subject: Option<Arc<str>>,
    /// The subject of the token of the client that published it, if any.
    pub sender: Option<Arc<str>>,
    /// When it happened, by the publisher's clock.
    pub time: Timestamp,
    /// The data.
    pub data: Json,
}

/// Where a column's value comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ColumnSource {
    /// The event's data, by the names of members from the outside in.
    Path(Vec<String>),
    /// The event's id.
    Id,
    /// The event's source.
    Source,
    /// The event's subject.
    Subject,
    /// When it happened; `timestamptz`.
    Time,
    /// The subject of the client that published it.
    Sender,
}

impl ColumnSource {
    /// The attribute of this name.
    pub fn attribute(name: &str) -> Option<ColumnSource> {
        Some(match name {
            "id" => ColumnSource::Id,
            "source" => ColumnSource::Source,
            "subject" => ColumnSource::Subject,
            "time" => ColumnSource::Time,
            "sender" => ColumnSource::Sender,
            _ => return None,
        })
    }
}

/// What a topic keeps for later subscribers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Retention {
    /// Nothing: events are only for current subscribers.
    Nothing,
    /// The last event of each key.
    Last,
    /// This many of the newest events.
    Newest(usize),
    /// The events of this many microseconds.
    During(Micros),
}

/// A topic, as it is declared.
#[derive(Clone, Debug, PartialEq)]
pub struct Topic {
    /// Its table. It has a key if the last event of each key is kept, else none.
    pub table: Identified,
    /// Where the columns' values come from.
    pub from: Vec<ColumnSource>,
    /// What is kept.
    pub keep: Retention,
    /// The column that orders events of a key; the event's time if absent.
    pub order: Option<usize>,
}

impl Topic {
    /// Declares a topic: columns with their types and sources, the names of the key columns and of
    /// the ordering column.
    ///
    /// # Errors
    /// The declaration is inconsistent.
    pub fn new(
        name: &str,
        columns: Vec<(String, Type, ColumnSource)>,
        key: &[String],
        keep: Retention,
        order: Option<&str>,
    ) -> Result<Topic, String> {
        let place = |what: &str, name: &str| {
            let found = columns.iter().position(|(c, ..)| c == name);
            found.ok_or_else(|| format!("{what}: there is no column {name}"))
        };
        if columns.is_empty() {
            return Err("columns: expected at least one".into());
        }
        if keep == Retention::Last && key.is_empty() {
            return Err("keep = \"last\" needs a key: the last event of what?".into());
        }
        if keep != Retention::Last && !key.is_empty() {
            return Err("a key is for keep = \"last\"".into());
        }
        if keep != Retention::Last && order.is_some() {
            return Err("order is for keep = \"last\"".into());
        }
        let key = key.iter().map(|k| place("key", k)).collect::<Result<_, _>>()?;
        let order = order.map(|o| place("order", o)).transpose()?;
        let column = |(name, ty, _): &(String, Type, ColumnSource)| Column { name: name.as_str().into(), ty: *ty };
        let table = Table {
            name: TableName::plain(name),
            source: TOPIC_SOURCE.into(),
            columns: columns.iter().map(column).collect(),
            key,
            old_values: true,
            incarnation: 0,
        };
        let from = columns.into_iter().map(|(.., from)| from).collect();
        Ok(Topic { table: Identified::new(Arc::new(table)), from, keep, order })
    }

    /// The columns that the publisher's data fills.
    pub fn chosen(&self) -> ColumnSet {
        let paths = self.from.iter().enumerate().filter(|(_, from)| matches!(from, ColumnSource::Path(_)));
        paths.map(|(i, _)| i).collect()
    }

    /// The row of an event.
    ///
    /// # Errors
    /// What is malformed, without its value.
    pub fn row(&self, event: &TopicEvent) -> Result<Row, String> {
        let text = |t: &Option<Arc<str>>| t.as_ref().map_or(Value::Null, |t| Value::text(&**t));
        let cell = |(column, from): (&Column, &ColumnSource)| match from {
            ColumnSource::Path(path) => {
                let found = path.iter().try_fold(&event.data, |at, name| at.get(name)).unwrap_or(&Json::Null);
                Value::from_json(found, column.ty).map_err(|e| format!("{}: {e}", column.name))
            }
            ColumnSource::Id => Ok(Value::text(&*event.id)),
            ColumnSource::Source => Ok(Value::text(&*event.source)),
            ColumnSource::Subject => Ok(text(&event.subject)),
            ColumnSource::Time => Ok(Value::Timestamptz(event.time.saturating_sub(datetime::SINCE_1970))),
            ColumnSource::Sender => Ok(text(&event.sender)),
        };
        let row: Row = self.table.columns.iter().zip(&self.from).map(cell).collect::<Result<_, _>>()?;
        let missing = self.table.key.iter().find(|&&i| row[i] == Value::Null);
        match missing {
            Some(&i) => Err(format!("{}: part of the key, and not there", self.table.columns[i].name)),
            None => Ok(row),
        }
    }
}

/// An event's name: the authenticated sender, the source and the id. The sender is part of it so that
/// nobody can suppress or replace another client's event by using its id first.
type Name = (Option<Arc<str>>, Arc<str>, Arc<str>);

/// The order of events: by the declared column, else by the publisher's clock; then by name.
type Stamp = (Value, Timestamp, Name);

/// Approximate bytes of a value; the same on every instance.
fn room_of(json: &Json) -> usize {
    NODE + match json {
        Json::String(text) => text.len(),
        Json::Array(all) => all.iter().map(room_of).sum(),
        Json::Object(all) => all.iter().map(|(name, value)| NODE + name.len() + room_of(value)).sum(),
        Json::Null | Json::Bool(_) | Json::Number(_) => 0,
    }
}

impl TopicEvent {
    fn name(&self) -> Name {
        (self.sender.clone(), self.source.clone(), self.id.clone())
    }

    fn room(&self) -> usize {
        let texts = [Some(&self.id), Some(&self.source), self.subject.as_ref(), self.sender.as_ref()];
        EVENT + room_of(&self.data) + texts.into_iter().flatten().map(|t| t.len()).sum::<usize>()
    }
}

/// The newest event dropped to bound memory: nothing is kept that is not newer.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Floor {
    /// When it happened.
    pub time: Timestamp,
    /// The client that published it, if any.
    #[serde(default)]
    pub sender: Option<String>,
    /// Its source.
    pub source: String,
    /// Its id.
    pub id: String,
}

impl Floor {
    fn at((_, time, (sender, source, id)): &Stamp) -> Floor {
        let sender = sender.as_deref().map(String::from);
        Floor { time: *time, sender, source: source.to_string(), id: id.to_string() }
    }

    fn is_below(&self, (_, time, (sender, source, id)): &Stamp) -> bool {
        (self.time, self.sender.as_deref(), &*self.source, &*self.id) < (*time, sender.as_deref(), source, id)
    }
}

/// An event's share in a digest.
fn mark((_, time, (sender, source, id)): &Stamp) -> u64 {
    let mut hash = Sha256::new();
    hash.update([u8::from(sender.is_some())]);
    for part in [sender.as_deref().unwrap_or("").as_bytes(), source.as_bytes(), id.as_bytes(), &time.to_le_bytes()] {
        hash.update((part.len() as u64).to_le_bytes());
        hash.update(part);
    }
    hash.finalize().iter().take(8).fold(0, |all, byte| all << 8 | u64::from(*byte))
}

/// The outcome of an event.
#[derive(Clone, Debug, PartialEq)]
pub enum TopicUpdate {
    /// It changed the topic's table.
    Changed(RowChange),
    /// It was taken before.
    Repeated,
    /// A later one of the same key was taken before.
    Older,
}

/// What one instance holds of a topic.
#[derive(Debug)]
pub struct TopicState {
    topic: Arc<Topic>,
    /// By key, where the last is kept.
    last: BTreeMap<Key, (Stamp, TopicEvent, Row)>,
    /// By stamp, where events are kept.
    log: BTreeMap<Stamp, (TopicEvent, Row)>,
    /// Over the events that are kept; the same wherever the same ones are.
    digest: u64,
    /// Bytes of what is kept, about, and how many may be.
    used: usize,
    room: usize,
    floor: Option<Floor>,
    seen: HashSet<Name>,
    seen_order: VecDeque<Name>,
}

impl TopicState {
    /// Nothing yet.
    pub fn new(topic: Arc<Topic>) -> TopicState {
        TopicState::with_room(topic, MAX_ROOM)
    }

    /// Nothing yet, and so many bytes for what will be kept.
    fn with_room(topic: Arc<Topic>, room: usize) -> TopicState {
        TopicState {
            topic,
            last: BTreeMap::new(),
            log: BTreeMap::new(),
            digest: 0,
            used: 0,
            room,
            floor: None,
            seen: HashSet::new(),
            seen_order: VecDeque::new(),
        }
    }

    /// The topic.
    pub fn topic(&self) -> &Arc<Topic> {
        &self.topic
    }

    /// Takes an event.
    ///
    /// # Errors
    /// Why it is not one of this topic's, without its values.
    pub fn take(&mut self, event: TopicEvent) -> Result<TopicUpdate, String> {
        let row = self.topic.row(&event)?;
        let order = self.topic.order.map_or(Value::Null, |i| row[i].clone());
        let stamp = (order, event.time, event.name());
        if self.is_repeated(&event) || self.log.contains_key(&stamp) {
            return Ok(TopicUpdate::Repeated);
        }
        let change = |key: Key, old: Option<Row>, row: Row| {
            TopicUpdate::Changed(RowChange::of(&self.topic.table, key, Old::Known(old), Some(row)))
        };
        match self.topic.keep {
            Retention::Nothing => Ok(change(Key::from([]), None, row)),
            Retention::Last => {
                let key = self.topic.table.key_of(&row);
                let before = self.last.get(&key);
                if before.is_some_and(|(of, ..)| *of >= stamp) {
                    return Ok(TopicUpdate::Older);
                }
                if before.is_none() && self.last.len() >= MAX_RETAINED {
                    return Err(format!("more than {MAX_RETAINED} keys"));
                }
                let (needs, frees) = (event.room(), before.map_or(0, |(_, event, _)| event.room()));
                if needs > frees && self.used - frees + needs > self.room {
                    return Err(format!("the topic holds {} MiB: there is no room for more", self.room >> 20));
                }
                let taken = change(key.clone(), before.map(|(.., row)| row.clone()), row.clone());
                self.digest ^= mark(&stamp) ^ before.map_or(0, |(of, ..)| mark(of));
                self.used = self.used - frees + needs;
                self.last.insert(key, (stamp, event, row));
                Ok(taken)
            }
            Retention::Newest(_) | Retention::During(_) => {
                let taken = change(Key::from([]), None, row.clone());
                if self.floor.as_ref().is_none_or(|floor| floor.is_below(&stamp)) {
                    self.digest ^= mark(&stamp);
                    self.used += event.room();
                    self.log.insert(stamp, (event, row));
                    self.let_go();
                }
                Ok(taken)
            }
        }
    }

    /// Whether an event of this name was taken lately; notes it.
    fn is_repeated(&mut self, event: &TopicEvent) -> bool {
        let name = event.name();
        if !self.seen.insert(name.clone()) {
            return true;
        }
        self.seen_order.push_back(name);
        if self.seen_order.len() > MAX_SEEN
            && let Some(oldest) = self.seen_order.pop_front()
        {
            self.seen.remove(&oldest);
        }
        false
    }

    fn let_go(&mut self) {
        let newest = self.log.last_key_value().map_or(0, |(stamp, _)| stamp.1);
        while let Some((stamp, _)) = self.log.first_key_value() {
            let too_many = match self.topic.keep {
                Retention::Newest(n) => self.log.len() > n.min(MAX_RETAINED),
                Retention::During(time) => self.log.len() > MAX_RETAINED || stamp.1 < newest.saturating_sub(time),
                Retention::Last | Retention::Nothing => false,
            };
            let too_large = self.used > self.room;
            if too_large {
                self.floor = self.floor.take().max(Some(Floor::at(stamp)));
            }
            if !too_many && !too_large {
                return;
            }
            self.let_oldest_go();
        }
    }

    fn let_oldest_go(&mut self) {
        if let Some((stamp, (event, _))) = self.log.pop_first() {
            self.digest ^= mark(&stamp);
            self.used -= event.room();
        }
    }

    /// The newest dropped event, for an instance that requests the kept ones.
    pub fn floor(&self) -> Option<&Floor> {
        self.floor.as_ref()
    }

    /// Another instance has dropped everything that is not newer than this.
    pub fn raise_floor(&mut self, floor: Floor) {
        while self.log.first_key_value().is_some_and(|(stamp, _)| !floor.is_below(stamp)) {
            self.let_oldest_go();
        }
        self.floor = self.floor.take().max(Some(floor));
    }

    /// The rows for a new subscriber.
    pub fn rows(&self, now: Timestamp) -> Vec<Row> {
        let since = match self.topic.keep {
            Retention::During(time) => now.saturating_sub(time),
            _ => Timestamp::MIN,
        };
        let kept = self.log.iter().filter(|(stamp, _)| stamp.1 >= since).map(|(_, (_, row))| row.clone());
        self.last.values().map(|(.., row)| row.clone()).chain(kept).collect()
    }

    /// The kept events.
    pub fn events(&self) -> impl Iterator<Item = &TopicEvent> {
        self.last.values().map(|(_, event, _)| event).chain(self.log.values().map(|(event, _)| event))
    }

    /// A digest of the kept events.
    pub fn digest(&self) -> u64 {
        self.digest
    }

    /// Number of kept events.
    pub fn len(&self) -> usize {
        self.last.len() + self.log.len()
    }

    /// Whether none is kept.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    fn topic(keep: Retention, order: Option<&str>) -> Arc<Topic> {
        let path = |p: &str| ColumnSource::Path(p.split('.').map(String::from).collect());
        let columns = vec![
            ("gauge".into(), Type::Text, path("gauge")),
            ("level".into(), Type::Int8, path("level.cm")),
            ("at".into(), Type::Timestamptz, ColumnSource::Time),
            ("by".into(), Type::Text, ColumnSource::Sender),
        ];
        let key = if keep == Retention::Last { vec!["gauge".to_string()] } else { vec![] };
        Arc::new(Topic::new("tide", columns, &key, keep, order).unwrap())
    }

    fn event(id: u32, source: u8, time: i64, gauge: u8, level: i64) -> TopicEvent {
        TopicEvent {
            id: id.to_string().into(),
            source: format!("/{source}").into(),
            subject: None,
            sender: Some("ada".into()),
            time,
            data: json!({"gauge": format!("g{gauge}"), "level": {"cm": level}}),
        }
    }

    fn held(keep: Retention, order: Option<&str>, events: &[TopicEvent]) -> (TopicState, Vec<RowChange>) {
        held_within(MAX_ROOM, keep, order, events)
    }

    fn held_within(
        room: usize,
        keep: Retention,
        order: Option<&str>,
        events: &[TopicEvent],
    ) -> (TopicState, Vec<RowChange>) {
        let mut state = TopicState::with_room(topic(keep, order), room);
        let take = |e: &TopicEvent| match state.take(e.clone()) {
            Ok(TopicUpdate::Changed(change)) => Some(change),
            _ => None,
        };
        let changes = events.iter().filter_map(take).collect();
        (state, changes)
    }

    #[test]
    fn an_event_becomes_a_row_or_says_what_does_not_fit() {
        let topic = topic(Retention::Last, None);
        let row = topic.row(&event(1, 1, 1_000_000, 7, 341)).unwrap();
        assert_eq!(row[..2], [Value::text("g7"), Value::Int(341)]);
        assert_eq!(row[2].to_json(), "1970-01-01T00:00:01.000000Z");
        assert_eq!(row[3], Value::text("ada"));
        let with = |data: Json| topic.row(&TopicEvent { data, ..event(1, 1, 0, 1, 1) });
        assert_eq!(with(json!({"gauge": "g"})).unwrap()[1], Value::Null, "what is not there is NULL");
        assert!(with(json!({"gauge": "g", "level": {"cm": "high"}})).unwrap_err().starts_with("level: expected"));
        assert!(with(json!({"level": {"cm": 3}})).unwrap_err().starts_with("gauge: part of the key"));
        assert!(with(json!("text")).is_err());
        let columns = || vec![("a".to_string(), Type::Text, ColumnSource::Id)];
        for (key, keep, order, why) in [
            (vec![], Retention::Last, None, "needs a key"),
            (vec!["b".to_string()], Retention::Last, None, "no column b"),
            (vec!["a".to_string()], Retention::Newest(3), None, "a key is for"),
            (vec!["a".to_string()], Retention::Last, Some("c"), "no column c"),
        ] {
            assert!(Topic::new("t", columns(), &key, keep, order).unwrap_err().contains(why));
        }
    }

    #[test]
    fn what_is_kept_is_bounded_and_old_events_leave() {
        let events: Vec<_> = (0..10).map(|i| event(i, 1, i64::from(i) * 1_000_000, 1, i64::from(i))).collect();
        let (state, changes) = held(Retention::Newest(3), None, &events);
        assert_eq!((state.len(), changes.len()), (3, 10), "all are told, three are kept");
        let (state, _) = held(Retention::During(2_000_000), None, &events);
        assert_eq!(state.len(), 3);
        assert_eq!(state.rows(10_000_000).len(), 2, "by the clock of whoever asks");
        let (state, changes) = held(Retention::Nothing, None, &events);
        assert_eq!((state.len(), changes.len()), (0, 10));
        let (mut state, _) = held(Retention::Last, Some("level"), &events);
        assert_eq!(state.take(event(99, 1, 99_000_000, 1, 4)), Ok(TopicUpdate::Older), "a column decides");
        assert_eq!(state.take(event(9, 1, 0, 1, 50)), Ok(TopicUpdate::Repeated));
    }

    #[test]
    fn nobody_suppresses_anothers_event_by_its_name() {
        let (mut state, _) = held(Retention::Newest(9), None, &[event(1, 1, 5, 1, 10)]);
        let of = |sender: Option<&str>| TopicEvent { sender: sender.map(Arc::from), ..event(1, 1, 5, 1, 20) };
        for sender in [Some("eve"), None] {
            assert!(matches!(state.take(of(sender)), Ok(TopicUpdate::Changed(_))), "{sender:?}");
            assert_eq!(state.take(of(sender)), Ok(TopicUpdate::Repeated));
        }
        assert_eq!((state.take(of(Some("ada"))), state.len()), (Ok(TopicUpdate::Repeated), 3));
    }

    #[test]
    fn what_a_key_needs_beyond_the_room_is_refused_and_what_is_there_stays() {
        let large = |id: u32, gauge: u8, bytes: usize| {
            let data = json!({"gauge": format!("g{gauge}"), "more": "x".repeat(bytes)});
            TopicEvent { data, ..event(id, 1, i64::from(id), gauge, 1) }
        };
        let (mut state, _) = held_within(5_000, Retention::Last, None, &[large(1, 1, 2_000), large(2, 2, 1_000)]);
        assert!(state.take(large(3, 3, 2_000)).unwrap_err().contains("no room"));
        assert!(state.take(large(4, 2, 3_000)).unwrap_err().contains("no room"));
        assert!(matches!(state.take(large(5, 1, 10)), Ok(TopicUpdate::Changed(_))), "what needs less is always taken");
        assert!(matches!(state.take(large(6, 3, 2_000)), Ok(TopicUpdate::Changed(_))), "and makes room");
        assert_eq!(state.len(), 3);
    }

    /// In an order that a seed decides.
    fn mixed<T>(mut all: Vec<T>, mut seed: u64) -> Vec<T> {
        for i in (1..all.len()).rev() {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            all.swap(i, (seed >> 33) as usize % (i + 1));
        }
        all
    }

    proptest! {
        /// The same where the room is not enough for all, also for an instance that starts later and then hears what
        /// came late.
        #[test]
        fn what_is_held_within_the_room_does_not_depend_on_the_order(
            sizes in prop::collection::vec(prop_oneof![0..200usize, 2_000..4_000usize], 1..40),
            seeds in any::<[u64; 3]>(),
            keep in prop_oneof![(5..30usize).prop_map(Retention::Newest), (5..40i64).prop_map(Retention::During)],
            room in 1_000..12_000usize,
        ) {
            let large = |(i, size): (usize, &usize)| TopicEvent {
                data: json!({"gauge": "x".repeat(*size)}),
                ..event(i as u32, 1, i as i64, 1, 1)
            };
            let events: Vec<TopicEvent> = sizes.iter().enumerate().map(large).collect();
            let (a, told) = held_within(room, keep, None, &events);
            prop_assert_eq!(told.len(), events.len(), "all are told");
            prop_assert!(a.used <= room && a.used == a.events().map(TopicEvent::room).sum::<usize>());
            let (b, _) = held_within(room, keep, None, &mixed(events.clone(), seeds[0]));
            // Some come to both only after the third has asked.
            let order = mixed(events.clone(), seeds[1]);
            let (before, after) = order.split_at(seeds[2] as usize % (order.len() + 1));
            let (asked, _) = held_within(room, keep, None, before);
            let (mut late, _) = held_within(room, keep, None, &asked.events().cloned().collect::<Vec<_>>());
            asked.floor().cloned().into_iter().for_each(|floor| late.raise_floor(floor));
            after.iter().for_each(|e| drop(late.take(e.clone())));
            for other in [&b, &late] {
                prop_assert_eq!(other.rows(0), a.rows(0));
                prop_assert_eq!((other.digest(), other.used), (a.digest(), a.used));
            }
        }

        /// Whatever order events arrive in, and however often: what is kept is the same, and the reported changes lead to it.
        #[test]
        fn what_is_held_does_not_depend_on_the_order(
            events in prop::collection::vec((0..40u32, 0..3u8, 0..20i64, 0..4u8, 0..10i64), 1..60),
            seed in any::<u64>(),
            keep in prop_oneof![Just(Retention::Last), (1..20usize).prop_map(Retention::Newest), (0..10i64).prop_map(Retention::During)],
            by_level in any::<bool>(),
        ) {
            let mut known = BTreeMap::new();
            // An id names one event.
            for (id, source, time, gauge, level) in events {
                known.entry((id, source)).or_insert_with(|| event(id, source, time, gauge, level));
            }
            let events: Vec<TopicEvent> = known.into_values().collect();
            let mixed = mixed(events.iter().chain(&events).cloned().collect(), seed);
            let order = (keep == Retention::Last && by_level).then_some("level");
            let (a, _) = held(keep, order, &events);
            let (b, told) = held(keep, order, &mixed);
            prop_assert_eq!(a.rows(0), b.rows(0));
            // One that starts later holds the same after it has taken what another one keeps.
            let (late, _) = held(keep, order, &b.events().cloned().collect::<Vec<_>>());
            prop_assert_eq!(late.rows(0), a.rows(0));
            prop_assert_eq!([b.digest(), late.digest()], [a.digest(); 2]);
            let without: Vec<TopicEvent> = a.events().skip(1).cloned().collect();
            prop_assert_ne!(held(keep, order, &without).0.digest(), a.digest());
            if keep == Retention::Last {
                let mut rows: BTreeMap<Key, Row> = BTreeMap::new();
                for c in told {
                    prop_assert_eq!(c.old, Old::Known(rows.get(&c.key).cloned()), "what was there before is told");
                    rows.insert(c.key, c.new.unwrap());
                }
                prop_assert_eq!(rows.into_values().collect::<Vec<_>>(), a.rows(0));
            }
        }
    }
}
