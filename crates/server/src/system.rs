//! Gossip's own tables, schema `gossip`: what they hold and how changes of it become a source like any other.
//!
//! Tables that show a state are sampled at most once a second and compared with what they showed before. Streams
//! (`changes`, `verdicts`) only grow; the newest few thousand entries are kept for those who come later.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use gossip_core::position::{CommitTime, Interval, Micros, Old, Position, RowChange, Transaction};
use gossip_core::schema::{Column, Key, Row, SYSTEM_SCHEMA, Table, TableName};
use gossip_core::value::{Type, Value};

/// Entries of a stream that are kept.
const KEPT: usize = 2_000;

/// Names and types of columns.
type Columns = &'static [(&'static str, Type)];

/// The tables, with their columns. The first column of a table that shows a state is its key.
const TABLES: &[(&str, bool, Columns)] = &[
    (
        "instances",
        true,
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
        ],
    ),
    (
        "tables",
        true,
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
        "feeds",
        true,
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
        true,
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
        "changes",
        false,
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
        ],
    ),
    (
        "verdicts",
        false,
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
    tables: BTreeMap<&'static str, Arc<Table>>,
    states: BTreeMap<&'static str, BTreeMap<Key, Row>>,
    streams: BTreeMap<&'static str, VecDeque<Row>>,
    at: Position,
    pending: Vec<RowChange>,
}

impl SystemTables {
    /// Empty tables.
    pub fn new() -> SystemTables {
        let table = |(name, keyed, columns): &(&'static str, bool, Columns)| {
            let column = |(name, ty): &(&str, Type)| Column { name: (*name).into(), ty: *ty };
            let table = Table {
                name: TableName::system(name),
                source: SYSTEM_SCHEMA.into(),
                columns: columns.iter().map(column).collect(),
                key: if *keyed { vec![0] } else { vec![] },
                old_values: true,
            };
            (*name, Arc::new(table))
        };
        SystemTables {
            tables: TABLES.iter().map(table).collect(),
            states: BTreeMap::new(),
            streams: BTreeMap::new(),
            at: Position::at(1),
            pending: Vec::new(),
        }
    }

    /// The descriptions, for the engine's catalog.
    pub fn tables(&self) -> impl Iterator<Item = &Arc<Table>> {
        self.tables.values()
    }

    /// Sets all rows of a table that shows a state.
    pub fn show(&mut self, name: &'static str, rows: Vec<Vec<Value>>) {
        let Some(table) = self.tables.get(name) else { return };
        let new: BTreeMap<Key, Row> = rows.into_iter().map(|r| (table.key_of(&r), r.into())).collect();
        let old = self.states.entry(name).or_default();
        let keys: std::collections::BTreeSet<&Key> = old.keys().chain(new.keys()).collect();
        for key in keys {
            if old.get(key) != new.get(key) {
                self.pending.push(RowChange {
                    table: table.name.clone(),
                    key: key.clone(),
                    old: Old::Known(old.get(key).cloned()),
                    new: new.get(key).cloned(),
                });
            }
        }
        *old = new;
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
        self.pending.push(RowChange {
            table: table.name.clone(),
            key: Key::from([]),
            old: Old::Known(None),
            new: Some(row),
        });
    }

    /// The changes since the last call as an interval.
    pub fn take(&mut self, now: Micros) -> Option<Interval> {
        if self.pending.is_empty() {
            return None;
        }
        let from = self.at;
        self.at = Position::at(from.commit + 1);
        let changes = std::mem::take(&mut self.pending);
        let committed = CommitTime { from: now, to: now };
        Some(self.interval(from, vec![Arc::new(Transaction { position: self.at, committed, changes })], now))
    }

    /// Says where the tables stand, so that snapshots can be joined before anything changes.
    pub fn sign(&self, now: Micros) -> Interval {
        self.interval(self.at, vec![], now)
    }

    fn interval(&self, from: Position, transactions: Vec<Arc<Transaction>>, now: Micros) -> Interval {
        Interval {
            source: SYSTEM_SCHEMA.into(),
            epoch: 0,
            from,
            to: self.at,
            transactions,
            resets: vec![],
            reader: SYSTEM_SCHEMA.into(),
            read_at: now,
        }
    }

    /// All rows of a table with the position that they show. What is pending is not in the stream yet but in the rows;
    /// so it is taken first.
    pub fn snapshot(&self, name: &str) -> (Vec<Row>, Position) {
        let state = self.states.get(name).into_iter().flat_map(|s| s.values().cloned());
        let stream = self.streams.get(name).into_iter().flatten().cloned();
        (state.chain(stream).collect(), self.at)
    }
}

impl Default for SystemTables {
    fn default() -> Self {
        SystemTables::new()
    }
}
