//! Merges a snapshot with the change stream exactly: no gap, no duplicate, no stale row.
//!
//! A snapshot shows its source at some moment, which may be before or after the one that the engine has
//! reached. From its request on, all changes of its table are kept in an overlay, by key, each with the transaction it
//! belongs to. When the snapshot is complete, what it already includes is dropped from the overlay, and once the
//! engine has passed all that the snapshot shows, snapshot and overlay together are the result at the engine's
//! position. Then, and not before, rows leave for clients.
//!
//! Per key only the last change is held. That is enough even if a snapshot is defined by visible transactions and not by
//! a position: who changes a row waits for everybody who changed it before, so a snapshot that shows the last change
//! of a row shows all of them.
//!
//! A change may omit large values that are unchanged. They are taken from the change before it, and if no change since the
//! snapshot's request had them, from the snapshot.

use std::collections::{HashMap, HashSet};

use crate::plan::{EffectivePlan, VisibleRow};
use crate::position::{Old, Position, RowChange, SnapshotPoint, Transaction};
use crate::query::function::EvalError;
use crate::schema::{ByKey, ColumnSet, Key, Row};
use crate::value::Value;

/// Most keys in the overlay; beyond that the snapshot is taken again, because changes outrun it.
pub const MAX_OVERLAY: usize = 200_000;

/// The last change of a key since the snapshot's request: its transaction, and the row as the query sees it.
#[derive(Debug)]
struct Laid {
    position: Position,
    number: u64,
    row: LaidRow,
    /// The whole row; `None` if it is gone or unknown.
    known_row: Option<KnownRow>,
}

#[derive(Debug)]
enum LaidRow {
    There(VisibleRow),
    Gone,
    /// The query fails on it.
    Failed(EvalError),
    /// The changes omit values that the query needs; the snapshot has them.
    Partly,
    /// Only a snapshot that includes the change can say what it did.
    Unclear,
}

/// A row as known from changes.
#[derive(Debug)]
struct KnownRow {
    row: Row,
    /// Columns that the query reads and all changes omitted.
    omitted_columns: ColumnSet,
    /// Set if this change moved the row here from another key: a snapshot without the change has no row under this one.
    moved: Option<(Position, u64)>,
}

/// A snapshot being merged into the stream.
#[derive(Debug, Default)]
pub struct SnapshotMerge {
    /// In order of arrival; each key once.
    rows: ResultRows,
    /// The same rows in full, if changes may omit values.
    whole: Vec<(Key, Row)>,
    /// Rows on which the query fails.
    failed: Vec<(Key, EvalError)>,
    overlay: ByKey<Laid>,
    shows: Option<SnapshotPoint>,
    /// Numbers the rows of tables without a key.
    arrivals: i64,
}

/// Why a snapshot and the changes beside it make no result.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MergeError {
    /// The snapshot has to be taken again, and why.
    Retake(&'static str),
    /// The query fails on a row of the result.
    Failed(EvalError),
}

/// The rows of a result, each with its key, in key order.
pub type ResultRows = Vec<(Key, VisibleRow)>;

/// The row without large values, except for the columns in `keeps`.
fn lean(row: &Row, keeps: &ColumnSet) -> Row {
    if !row.iter().enumerate().any(|(i, value)| value.is_apart() && !keeps.contains(i)) {
        return row.clone();
    }
    row.iter().enumerate().map(|(i, value)| if keeps.contains(i) { value.clone() } else { Value::Null }).collect()
}

/// A row with its omitted values taken from another.
fn filled(row: &Row, left_out: &ColumnSet, from: &Row) -> Row {
    let value = |i: usize| if left_out.contains(i) { &from[i] } else { &row[i] };
    (0..row.len()).map(|i| value(i).clone()).collect()
}

impl SnapshotMerge {
    /// Adds rows of the snapshot, of which the query may see all, some or none.
    pub fn rows(&mut self, plan: &EffectivePlan, rows: Vec<Row>) {
        // Do not keep what is not shown.
        let selected: ColumnSet = plan.project.plain().collect();
        let leaves_out = !plan.table().old_values && plan.is_keyed();
        let read = plan.read();
        for row in rows {
            let seen = plan.see(&row, &());
            if seen == Ok(None) {
                continue;
            }
            let key = self.key(plan.key_of(&row), 0);
            if leaves_out {
                self.whole.push((key.clone(), lean(&row, &read)));
            }
            match seen {
                Ok(Some(mut seen)) => {
                    if !plan.computes() {
                        seen.row = lean(&seen.row, &selected);
                    }
                    self.rows.push((key, seen));
                }
                // Later changes of the row may mend it.
                Err(error) if self.failed.len() <= MAX_OVERLAY => self.failed.push((key, error)),
                _ => {}
            }
        }
    }

    /// The number of rows in the snapshot so far.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// The number of keys that have changed since its request.
    pub fn changed(&self) -> usize {
        self.overlay.len()
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
    pub fn complete(&mut self, shows: SnapshotPoint) {
        self.shows = Some(shows);
    }

    /// What the snapshot shows, once all of it has come.
    pub fn shows(&self) -> Option<&SnapshotPoint> {
        self.shows.as_ref()
    }

    /// Adds a change of the table. `false`: there are too many, and the snapshot has to be taken again.
    #[must_use]
    pub fn overlay(&mut self, plan: &EffectivePlan, t: &Transaction, change: &RowChange) -> bool {
        let key = self.key(change.key.clone(), 1);
        let known_row = self.known_row(plan, t, change, &key);
        let row = match &known_row {
            None if plan.is_about(change) && change.new.is_none() => LaidRow::Gone,
            None => LaidRow::Unclear,
            Some(known_row)
                if !known_row.omitted_columns.is_empty() && plan.is_decided_by_any_of(&known_row.omitted_columns) =>
            {
                LaidRow::Partly
            }
            Some(known_row) => match plan.see(&known_row.row, &()) {
                Err(error) => LaidRow::Failed(error),
                // Whatever was left out.
                Ok(None) => LaidRow::Gone,
                Ok(Some(seen)) if known_row.omitted_columns.is_empty() => LaidRow::There(seen),
                Ok(Some(_)) => LaidRow::Partly,
            },
        };
        self.overlay.insert(key, Laid { position: t.position, number: t.number, row, known_row });
        self.overlay.len() <= MAX_OVERLAY
    }

    /// What is known about a row after a change, from it and from those before it.
    fn known_row(&self, plan: &EffectivePlan, t: &Transaction, change: &RowChange, key: &Key) -> Option<KnownRow> {
        let row = change.new.as_ref().filter(|_| plan.is_about(change))?;
        let omitted_columns: ColumnSet = match change.omitted_columns.is_empty() {
            true => ColumnSet::default(),
            false => {
                let read = plan.read();
                change.omitted_columns.iter().filter(|i| read.contains(*i)).collect()
            }
        };
        let moved = change.old == Old::Known(None) && !omitted_columns.is_empty();
        if omitted_columns.is_empty() || moved {
            return Some(KnownRow {
                row: row.clone(),
                omitted_columns,
                moved: moved.then_some((t.position, t.number)),
            });
        }
        let Some(laid) = self.overlay.get(key) else {
            return Some(KnownRow { row: row.clone(), omitted_columns, moved: None });
        };
        let before = laid.known_row.as_ref()?;
        let row = filled(row, &omitted_columns, &before.row);
        let omitted_columns = omitted_columns.iter().filter(|i| before.omitted_columns.contains(*i)).collect();
        Some(KnownRow { row, omitted_columns, moved: before.moved })
    }

    /// The result at `reached`, once the engine has passed all that the snapshot shows and stands between
    /// transactions.
    ///
    /// # Errors
    /// The snapshot has to be taken again, or the query fails on a row.
    pub fn finish(&mut self, plan: &EffectivePlan, reached: Position) -> Option<Result<ResultRows, MergeError>> {
        let shows = self.shows.as_ref().filter(|s| reached >= s.at() && reached.is_whole())?;
        let mut rows = std::mem::take(&mut self.rows);
        rows.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        let whole = std::mem::take(&mut self.whole);
        let lacks = self.overlay.values().any(|laid| matches!(laid.row, LaidRow::Partly));
        let whole: HashMap<Key, Row> = if lacks { whole.into_iter().collect() } else { HashMap::new() };
        let mut failed: HashMap<Key, EvalError> = std::mem::take(&mut self.failed).into_iter().collect();
        let mut came = Vec::new();
        let mut went = HashSet::new();
        for (key, mut laid) in self.overlay.drain() {
            if shows.has(laid.position, laid.number) {
                // The snapshot includes this, and possibly later changes.
                continue;
            }
            if let (LaidRow::Partly, Some(known_row)) = (&laid.row, &laid.known_row)
                && known_row.moved.is_none_or(|(position, number)| shows.has(position, number))
                && let Some(shown) = whole.get(&key)
            {
                let row = filled(&known_row.row, &known_row.omitted_columns, shown);
                laid.row = match plan.see(&row, &()) {
                    Ok(seen) => seen.map_or(LaidRow::Gone, LaidRow::There),
                    Err(error) => LaidRow::Failed(error),
                };
            }
            failed.remove(&key);
            let place = rows.binary_search_by(|(k, _)| k.cmp(&key));
            match (laid.row, place) {
                (LaidRow::There(seen), Ok(i)) => rows[i].1 = seen,
                (LaidRow::There(seen), Err(_)) => came.push((key, seen)),
                (LaidRow::Gone, Ok(_)) => went.extend([key]),
                (LaidRow::Gone, Err(_)) => {}
                (LaidRow::Failed(error), _) => return Some(Err(MergeError::Failed(error))),
                (LaidRow::Partly | LaidRow::Unclear, _) => {
                    return Some(Err(MergeError::Retake(
                        "a change after the snapshot left out a large value that the snapshot does not have",
                    )));
                }
            }
        }
        // Any of them, but always the same.
        if let Some(error) = failed.into_values().min() {
            return Some(Err(MergeError::Failed(error)));
        }
        if !went.is_empty() {
            rows.retain(|(key, _)| !went.contains(key));
        }
        if !came.is_empty() {
            rows.extend(came);
            rows.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        }
        if !plan.is_keyed() {
            rows.iter_mut().for_each(|(key, _)| *key = Key::from([]));
        }
        Some(Ok(rows))
    }
}
