//! Gossip's own tables, schema `gossip`: what they hold and how changes of it become a source like any other.
//!
//! Tables that show a state are sampled at most once a second and compared with what they showed before. Streams
//! (`changes`, `verdicts`, `traffic`) only grow; the newest few thousand entries are retained for later subscribers.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use gossip_core::position::{Interval, Old, Position, RowChange, Timestamp};
use gossip_core::schema::{Column, Identified, Key, Row, SYSTEM_SCHEMA, Table, TableName};
use gossip_core::value::Value;
use gossip_protocol::system::{ColumnType, Shape, SystemRow, TABLES};

use gossip_core::local_source::Own;

/// Entries of a stream that are retained.
const MAX_TRANSACTIONS: usize = 2_000;

/// A system table's row as the engine has it.
pub fn values<R: SystemRow>(row: R) -> Row {
    row.cells().into_iter().map(Value::from).collect()
}

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
        let table = |shape: &Shape| {
            let column = |(name, ty): &(&str, ColumnType)| Column { name: (*name).into(), ty: (*ty).into() };
            let table = Table {
                name: TableName::system(shape.name),
                source: SYSTEM_SCHEMA.into(),
                columns: shape.columns.iter().map(column).collect(),
                key: (0..shape.key).collect(),
                old_values: true,
                incarnation: 0,
            };
            (shape.name, Identified::new(Arc::new(table)))
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
    pub fn show<R: SystemRow>(&mut self, rows: impl IntoIterator<Item = R>) {
        let name = R::SHAPE.name;
        let Some(table) = self.tables.get(name) else { return };
        let keyed = |row: R| {
            let row = values(row);
            (table.key_of(&row), row)
        };
        let new: BTreeMap<Key, Row> = rows.into_iter().map(keyed).collect();
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
    pub fn put(&mut self, name: &'static str, row: Row) {
        let Some(table) = self.tables.get(name) else { return };
        let key = table.key_of(&row);
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

    /// Adds a row to a stream.
    pub fn add<R: SystemRow>(&mut self, row: R) {
        let name = R::SHAPE.name;
        let Some(table) = self.tables.get(name) else { return };
        let row = values(row);
        let stream = self.streams.entry(name).or_default();
        if stream.len() == MAX_TRANSACTIONS {
            stream.pop_front();
        }
        stream.push_back(row.clone());
        self.own.push(RowChange::of(table, Key::from([]), Old::Known(None), Some(row)));
    }

    /// The rows of a stream that are kept, the newest first.
    pub fn newest(&self, name: &str) -> impl Iterator<Item = &Row> {
        self.streams.get(name).into_iter().flat_map(|stream| stream.iter().rev())
    }

    /// The changes since the last call as an interval.
    pub fn take(&mut self, now: Timestamp) -> Option<Interval> {
        self.own.take(now, now)
    }

    /// Says where the tables stand, so that snapshots can be joined before anything changes.
    pub fn sign(&self, now: Timestamp) -> Interval {
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
