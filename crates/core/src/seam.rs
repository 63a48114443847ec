//! Joining a snapshot with the change stream exactly: no gap, no double, no stale row.
//!
//! A snapshot shows its source at a position of its own, which may be before or after the one that the engine has
//! reached. From the moment it is asked for, all changes of its table are laid over it, by key and with their
//! positions. When the snapshot's position is known, what it already contains is dropped from the overlay, and once the
//! engine has reached that position, snapshot and overlay together are the result at the engine's position. Then, and
//! not before, rows leave for clients.

use std::collections::HashMap;

use crate::position::{Position, RowChange};
use crate::rule::{Effective, Seen};
use crate::schema::{Key, Row};
use crate::value::Value;

/// Overlaid keys beyond this and the snapshot is taken again: changes outrun it.
pub const MAX_OVERLAY: usize = 200_000;

/// A snapshot on its way into the stream.
#[derive(Debug, Default)]
pub struct Seam {
    rows: HashMap<Key, Seen>,
    overlay: HashMap<Key, (Position, Option<Seen>)>,
    at: Option<Position>,
    /// Gives rows of tables without a key something to stand under.
    arrivals: i64,
}

/// The rows of a result, each with its key, in key order.
pub type ResultRows = Vec<(Key, Seen)>;

impl Seam {
    /// Takes some rows of the snapshot, of which the query may see all, some or none.
    pub fn rows(&mut self, effective: &Effective, rows: Vec<Row>) {
        for row in rows {
            let Some(seen) = effective.see(&row) else { continue };
            let key = self.key(effective.key_of(&row), 0);
            self.rows.insert(key, seen);
        }
    }

    /// The number of rows in the snapshot so far.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether no rows have come so far.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    fn key(&mut self, key: Key, class: i64) -> Key {
        if !key.is_empty() {
            return key;
        }
        self.arrivals += 1;
        [Value::Int(class), Value::Int(self.arrivals)].into()
    }

    /// Marks the snapshot complete: all rows have come and they show the source at `at`.
    pub fn complete(&mut self, at: Position) {
        self.at = Some(at);
    }

    /// The position that the snapshot shows, once all of it has come.
    pub fn stands_at(&self) -> Option<Position> {
        self.at
    }

    /// Takes a change of the table. `false`: there are too many and the snapshot has to be taken again.
    #[must_use]
    pub fn overlay(&mut self, effective: &Effective, position: Position, change: &RowChange) -> bool {
        let seen = change.new.as_ref().and_then(|r| effective.see(r));
        let key = self.key(change.key.clone(), 1);
        self.overlay.insert(key, (position, seen));
        self.overlay.len() <= MAX_OVERLAY
    }

    /// The result at `reached`, once the engine has reached the snapshot.
    pub fn finish(&mut self, effective: &Effective, reached: Position) -> Option<ResultRows> {
        let at = self.at.filter(|at| reached >= *at)?;
        let mut rows = std::mem::take(&mut self.rows);
        for (key, (position, seen)) in self.overlay.drain() {
            match seen {
                // The snapshot has seen this already, and possibly what came after it.
                _ if position <= at => {}
                Some(seen) => drop(rows.insert(key, seen)),
                None => drop(rows.remove(&key)),
            }
        }
        let mut rows: ResultRows = rows.into_iter().collect();
        rows.sort_by(|a, b| a.0.cmp(&b.0));
        if effective.table.key.is_empty() {
            rows.iter_mut().for_each(|(key, _)| *key = Key::from([]));
        }
        Some(rows)
    }
}
