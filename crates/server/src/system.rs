//! Gossip's own tables, schema `gossip`: what they hold and how changes of it become a source like any other.
//!
//! Tables that show a state are sampled at most once a second and compared with what they showed before. Streams
//! (`changes`, `verdicts`, `traffic`) only grow; the newest few thousand entries are kept for those who come later.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use gossip_core::position::{Interval, Micros, Old, Position, RowChange};
use gossip_core::schema::{Column, Identified, Key, PRESENCE, Row, SYSTEM_SCHEMA, Table, TableName};
use gossip_core::value::{Type, Value};
use serde_json::{Map, Value as Json};

use gossip_core::local_source::Own;

/// Entries of a stream that are kept.
const KEPT: usize = 2_000;

/// Names and types of columns.
type Columns = &'static [(&'static str, Type)];

/// The tables, with the number of columns, from the first, that are the key; none of a stream.
const TABLES: &[(&str, usize, Columns)] = &[
    (
        "instances",
        1,
        &[
            ("name", Type::Text),
            ("address", Type::Text),
            ("since", Type::Text),
            ("source", Type::Text),
            ("reads", Type::Bool),
            ("reader", Type::Text),
            ("epoch", Type::Int8),
            ("position", Type::Text),
            ("behind_ms", Type::Int8),
            ("state", Type::Text),
            ("clients", Type::Int8),
            ("subscriptions", Type::Int8),
            ("feeds", Type::Int8),
            ("changes", Type::Int8),
            ("deliveries", Type::Int8),
            ("rules", Type::Text),
            ("version", Type::Text),
            ("decisions", Type::Text),
            ("audits", Type::Int8),
            ("audit_differences", Type::Int8),
            ("here", Type::Bool),
        ],
    ),
    (
        "links",
        1,
        &[
            ("instance", Type::Text),
            ("kind", Type::Text),
            ("connected", Type::Bool),
            ("sent", Type::Int8),
            ("heard", Type::Int8),
            ("lost", Type::Int8),
            ("malformed", Type::Int8),
            ("last_malformed", Type::Text),
            ("delay_ms", Type::Float8),
            ("waiting", Type::Int8),
            ("foreign", Type::Text),
        ],
    ),
    (
        "topics",
        2,
        &[
            ("name", Type::Text),
            ("instance", Type::Text),
            ("keep", Type::Text),
            ("kept", Type::Int8),
            ("taken", Type::Int8),
            ("passed", Type::Int8),
            ("malformed", Type::Int8),
            ("last_malformed", Type::Text),
        ],
    ),
    (
        PRESENCE,
        3,
        &[
            ("place", Type::Text),
            ("instance", Type::Text),
            ("client", Type::Int8),
            ("subject", Type::Text),
            ("data", Type::Json),
            ("since", Type::Timestamptz),
        ],
    ),
    (
        "tables",
        1,
        &[
            ("name", Type::Text),
            ("source", Type::Text),
            ("columns", Type::Text),
            ("key", Type::Text),
            ("old_values", Type::Bool),
            ("feeds", Type::Int8),
            ("changes", Type::Int8),
            ("last_change", Type::Text),
            ("roles", Type::Text),
        ],
    ),
    (
        "rules",
        1,
        &[
            ("number", Type::Int8),
            ("role", Type::Text),
            ("table", Type::Text),
            ("may", Type::Text),
            ("rows", Type::Text),
            ("columns", Type::Text),
            ("masks", Type::Text),
            ("line", Type::Int8),
        ],
    ),
    (
        "feeds",
        1,
        &[
            ("id", Type::Int8),
            ("table", Type::Text),
            ("query", Type::Text),
            ("subscriptions", Type::Int8),
            ("deltas", Type::Int8),
        ],
    ),
    (
        "clients",
        1,
        &[
            ("id", Type::Int8),
            ("subject", Type::Text),
            ("roles", Type::Text),
            ("address", Type::Text),
            ("transport", Type::Text),
            ("since", Type::Text),
            ("subscriptions", Type::Text),
            ("waiting", Type::Int8),
            ("waiting_bytes", Type::Int8),
            ("sent", Type::Int8),
            ("caught_up", Type::Int8),
        ],
    ),
    (
        "alarms",
        3,
        &[
            ("instance", Type::Text),
            ("kind", Type::Text),
            ("about", Type::Text),
            ("text", Type::Text),
            ("since", Type::Text),
            ("count", Type::Int8),
        ],
    ),
    (
        "changes",
        0,
        &[
            ("position", Type::Text),
            ("after", Type::Text),
            ("committed_from", Type::Int8),
            ("committed_to", Type::Int8),
            ("read_at", Type::Int8),
            ("received_at", Type::Int8),
            ("reader", Type::Text),
            ("instance", Type::Text),
            ("rows", Type::Int8),
            ("changes", Type::Text),
            ("xid", Type::Int8),
        ],
    ),
    (
        "traffic",
        0,
        &[
            ("at", Type::Int8),
            ("instance", Type::Text),
            ("name", Type::Text),
            ("sender", Type::Text),
            ("what", Type::Text),
            ("left_out", Type::Int8),
        ],
    ),
    (
        "verdicts",
        0,
        &[
            ("position", Type::Text),
            ("instance", Type::Text),
            ("label", Type::Text),
            ("subscription", Type::Int8),
            ("verdict", Type::Text),
            ("added", Type::Int8),
            ("replaced", Type::Int8),
            ("removed", Type::Int8),
            ("at", Type::Int8),
            ("cursor", Type::Text),
        ],
    ),
];

/// What the system tables hold, and the changes that have not been handed to the engine yet.
#[derive(Debug)]
pub struct SystemTables {
    tables: BTreeMap<&'static str, Identified>,
    states: BTreeMap<&'static str, BTreeMap<Key, Row>>,
    streams: BTreeMap<&'static str, VecDeque<Row>>,
    own: Own,
}

impl SystemTables {
    /// Empty tables.
    pub fn new() -> SystemTables {
        let table = |(name, key, columns): &(&'static str, usize, Columns)| {
            let column = |(name, ty): &(&str, Type)| Column { name: (*name).into(), ty: *ty };
            let table = Table {
                name: TableName::system(name),
                source: SYSTEM_SCHEMA.into(),
                columns: columns.iter().map(column).collect(),
                key: (0..*key).collect(),
                old_values: true,
                incarnation: 0,
            };
            (*name, Identified::new(Arc::new(table)))
        };
        SystemTables {
            tables: TABLES.iter().map(table).collect(),
            states: BTreeMap::new(),
            streams: BTreeMap::new(),
            own: Own::new(SYSTEM_SCHEMA, 0),
        }
    }

    /// The descriptions, for the engine's catalog.
    pub fn tables(&self) -> impl Iterator<Item = &Arc<Table>> {
        self.tables.values().map(Identified::table)
    }

    /// Sets all rows of a table that shows a state.
    pub fn show(&mut self, name: &'static str, rows: Vec<Vec<Value>>) {
        let Some(table) = self.tables.get(name) else { return };
        let new: BTreeMap<Key, Row> = rows.into_iter().map(|r| (table.key_of(&r), r.into())).collect();
        let old = self.states.entry(name).or_default();
        let keys: std::collections::BTreeSet<&Key> = old.keys().chain(new.keys()).collect();
        for key in keys {
            if old.get(key) != new.get(key) {
                let before = Old::Known(old.get(key).cloned());
                self.own.push(RowChange::of(table, key.clone(), before, new.get(key).cloned()));
            }
        }
        *old = new;
    }

    /// Sets one row of a table that shows a state.
    pub fn put(&mut self, name: &'static str, row: Vec<Value>) {
        let Some(table) = self.tables.get(name) else { return };
        let (key, row): (Key, Row) = (table.key_of(&row), row.into());
        let old = self.states.entry(name).or_default().insert(key.clone(), row.clone());
        self.own.push(RowChange::of(table, key, Old::Known(old), Some(row)));
    }

    /// Takes out the row that has the key of this one.
    pub fn remove(&mut self, name: &'static str, row: &[Value]) {
        let Some(table) = self.tables.get(name) else { return };
        let key = table.key_of(row);
        if let Some(old) = self.states.entry(name).or_default().remove(&key) {
            self.own.push(RowChange::of(table, key, Old::Known(Some(old)), None));
        }
    }

    /// A row as another instance is told it, by the columns' names.
    pub fn told(&self, name: &str, row: &[Value]) -> Json {
        let Some(table) = self.tables.get(name) else { return Json::Null };
        let cell = |(c, v): (&Column, &Value)| (c.name.to_string(), v.to_json());
        table.columns.iter().zip(row).map(cell).collect::<Map<_, _>>().into()
    }

    /// A row as another instance has told it; `None` if it does not fit.
    pub fn row(&self, name: &str, told: &Map<String, Json>) -> Option<Vec<Value>> {
        let columns = &self.tables.get(name)?.columns;
        let cell = |c: &Column| Value::from_json(told.get(&*c.name).unwrap_or(&Json::Null), c.ty).ok();
        columns.iter().map(cell).collect()
    }

    /// Adds a row to a stream.
    pub fn add(&mut self, name: &'static str, row: Vec<Value>) {
        let Some(table) = self.tables.get(name) else { return };
        let row: Row = row.into();
        let stream = self.streams.entry(name).or_default();
        if stream.len() == KEPT {
            stream.pop_front();
        }
        stream.push_back(row.clone());
        self.own.push(RowChange::of(table, Key::from([]), Old::Known(None), Some(row)));
    }

    /// The changes since the last call as an interval.
    pub fn take(&mut self, now: Micros) -> Option<Interval> {
        self.own.take(now, now)
    }

    /// Says where the tables stand, so that snapshots can be joined before anything changes.
    pub fn sign(&self, now: Micros) -> Interval {
        self.own.sign(now)
    }

    /// All rows of a table with the position that they show. What is pending is not in the stream yet but in the rows;
    /// so it is taken first.
    pub fn snapshot(&self, name: &str) -> (Vec<Row>, Position) {
        let state = self.states.get(name).into_iter().flat_map(|s| s.values().cloned());
        let stream = self.streams.get(name).into_iter().flatten().cloned();
        (state.chain(stream).collect(), self.own.at())
    }
}

impl Default for SystemTables {
    fn default() -> Self {
        SystemTables::new()
    }
}
