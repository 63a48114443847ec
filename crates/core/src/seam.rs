//! Joining a snapshot with the change stream exactly: no gap, no double, no stale row.
//!
//! A snapshot shows its source at a moment of its own, which may be before or after the one that the engine has
//! reached. From when it is asked for, all changes of its table are laid over it, by key, each with the transaction it
//! is of. When it is known what the snapshot shows, what it already contains is dropped from the overlay, and once the
//! engine has passed all that the snapshot shows, snapshot and overlay together are the result at the engine's
//! position. Then, and not before, rows leave for clients.
//!
//! Per key only the last change is kept. That is enough also where a snapshot goes by visible transactions and not by
//! a position: who changes a row waits for everybody who changed it before, so a snapshot that shows the last change
//! of a row shows all of them.

use std::collections::{HashMap, HashSet};

use crate::position::{Position, RowChange, Shows, Transaction};
use crate::rule::{Effective, Seen};
use crate::schema::{Key, Row};
use crate::value::Value;

/// Overlaid keys beyond this and the snapshot is taken again: changes outrun it.
pub const MAX_OVERLAY: usize = 200_000;

/// The last change of a key since the snapshot was asked for: whose it is, and the row as the query sees it then.
#[derive(Debug)]
struct Laid {
    position: Position,
    xid: u64,
    row: LaidRow,
}

#[derive(Debug)]
enum LaidRow {
    There(Seen),
    Gone,
    /// The change does not tell what the query needs; only a snapshot that has it can.
    Untold,
}

/// A snapshot on its way into the stream.
#[derive(Debug, Default)]
pub struct Seam {
    /// In the order in which they came; each key once.
    rows: ResultRows,
    overlay: HashMap<Key, Laid>,
    shows: Option<Shows>,
    /// Gives rows of tables without a key something to stand under.
    arrivals: i64,
}

/// The rows of a result, each with its key, in key order.
pub type ResultRows = Vec<(Key, Seen)>;

impl Seam {
    /// Takes some rows of the snapshot, of which the query may see all, some or none.
    pub fn rows(&mut self, effective: &Effective, rows: Vec<Row>) {
        for row in rows {
            let Some(mut seen) = effective.see(&row, &()) else { continue };
            let key = self.key(effective.key_of(&row), 0);
            let unselected = |i: &usize| !effective.select.contains(i) && seen.row[*i].is_apart();
            if (0..row.len()).any(|i| unselected(&i)) {
                // A large result is not to hold what it does not show.
                let keep = |i: usize| if effective.select.contains(&i) { seen.row[i].clone() } else { Value::Null };
                seen.row = (0..row.len()).map(keep).collect();
            }
            self.rows.push((key, seen));
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

    /// Marks the snapshot complete: all rows have come.
    pub fn complete(&mut self, shows: Shows) {
        self.shows = Some(shows);
    }

    /// What the snapshot shows, once all of it has come.
    pub fn shows(&self) -> Option<&Shows> {
        self.shows.as_ref()
    }

    /// Takes a change of the table. `false`: there are too many and the snapshot has to be taken again.
    #[must_use]
    pub fn overlay(&mut self, effective: &Effective, t: &Transaction, change: &RowChange) -> bool {
        let row = match &change.new {
            _ if !effective.is_about(change) => LaidRow::Untold,
            Some(_) if !change.untold.is_empty() && effective.reads_any_of(&change.untold) => LaidRow::Untold,
            Some(row) => effective.see(row, &()).map_or(LaidRow::Gone, LaidRow::There),
            None => LaidRow::Gone,
        };
        let key = self.key(change.key.clone(), 1);
        self.overlay.insert(key, Laid { position: t.position, xid: t.xid, row });
        self.overlay.len() <= MAX_OVERLAY
    }

    /// The result at `reached`, once the engine has passed all that the snapshot shows and stands between
    /// transactions; or why the snapshot has to be taken again.
    pub fn finish(&mut self, effective: &Effective, reached: Position) -> Option<Result<ResultRows, &'static str>> {
        let shows = self.shows.as_ref().filter(|s| reached >= s.at() && reached.is_whole())?;
        let mut rows = std::mem::take(&mut self.rows);
        rows.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        let mut came = Vec::new();
        let mut went = HashSet::new();
        for (key, laid) in self.overlay.drain() {
            if shows.has(laid.position, laid.xid) {
                // The snapshot has seen this already, and possibly what came after it.
                continue;
            }
            let place = rows.binary_search_by(|(k, _)| k.cmp(&key));
            match (laid.row, place) {
                (LaidRow::There(seen), Ok(i)) => rows[i].1 = seen,
                (LaidRow::There(seen), Err(_)) => came.push((key, seen)),
                (LaidRow::Gone, Ok(_)) => went.extend([key]),
                (LaidRow::Gone, Err(_)) => {}
                (LaidRow::Untold, _) => return Some(Err("a change after the snapshot left out a large value")),
            }
        }
        if !went.is_empty() {
            rows.retain(|(key, _)| !went.contains(key));
        }
        if !came.is_empty() {
            rows.extend(came);
            rows.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        }
        if effective.table.key.is_empty() {
            rows.iter_mut().for_each(|(key, _)| *key = Key::from([]));
        }
        Some(Ok(rows))
    }
}
