//! Order: where a change stands in its source, which stretch of that order a message covers, and what is missing.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use crate::schema::{Key, Row, Table, TableName};

/// Microseconds since 1970-01-01T00:00:00Z.
pub type Micros = i64;

/// A place in a source's change order. A pure function of the source's log, so the same on every instance.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Position {
    /// The log's own number for the commit: the highest change-log sequence it wrote (SQLite) or its LSN.
    pub commit: u64,
    /// Tells apart what shares a commit number.
    pub index: u32,
}

impl Position {
    /// The position of a commit.
    pub fn at(commit: u64) -> Position {
        Position { commit, index: 0 }
    }
}

impl fmt::Display for Position {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.commit)?;
        if self.index > 0 { write!(f, ".{}", self.index) } else { Ok(()) }
    }
}

impl FromStr for Position {
    type Err = ();

    fn from_str(s: &str) -> Result<Self, ()> {
        let (commit, index) = s.split_once('.').unwrap_or((s, "0"));
        Ok(Position { commit: commit.parse().map_err(drop)?, index: index.parse().map_err(drop)? })
    }
}

/// What is known of a row before a change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Old {
    /// The row as it was, or that there was none.
    Known(Option<Row>),
    /// The source does not say.
    Unknown,
}

/// What one transaction did to one row, in the end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RowChange {
    /// The row's table.
    pub table: TableName,
    /// The row's key. Empty for tables without one.
    pub key: Key,
    /// The row before the transaction.
    pub old: Old,
    /// The row after it; `None` if it is gone.
    pub new: Option<Row>,
}

/// When a commit happened: not before `from` and not after `to`. The two are equal where the source tells exactly.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct CommitTime {
    /// Earliest possible time.
    pub from: Micros,
    /// Latest possible time.
    pub to: Micros,
}

/// A whole transaction, or several adjacent ones that became visible together. Each key stands in it once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Transaction {
    /// Its place; of the last one where there are several.
    pub position: Position,
    /// When it was committed.
    pub committed: CommitTime,
    /// The rows it changed.
    pub changes: Vec<RowChange>,
}

/// Why all feeds of a table need a new snapshot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ResetWhy {
    /// The table was altered, recreated, or lost the triggers that follow it.
    SchemaChanged,
    /// So much changed at once that a snapshot is cheaper than the changes.
    TooLarge,
}

/// A table whose changes were not brought row by row up to the end of an interval.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reset {
    /// Its name.
    pub name: TableName,
    /// Its description from now on; `None` if it is gone.
    pub table: Option<Arc<Table>>,
    /// What happened.
    pub why: ResetWhy,
}

/// What a reader says about the stretch `(from, to]` of its source. Empty ones are heartbeats.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Interval {
    /// The source.
    pub source: Arc<str>,
    /// The reader's term of office. Every take-over has a higher one.
    pub epoch: u64,
    /// Where it begins, itself not included.
    pub from: Position,
    /// Where it ends, itself included.
    pub to: Position,
    /// What happened in it, in commit order.
    pub transactions: Vec<Arc<Transaction>>,
    /// Tables to be read anew. They take effect at `to`.
    pub resets: Vec<Reset>,
    /// The instance that read it.
    pub reader: Arc<str>,
    /// When it was read, by the reader's clock.
    pub read_at: Micros,
}

/// How an interval continues what is already known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Continues {
    /// Nothing in it is new.
    Nothing,
    /// Everything after the known position is new and nothing is missing.
    Seamlessly,
    /// Something between the known position and `from` is missing.
    AfterGap,
    /// It comes from a reader that has been replaced.
    OutOfOffice,
}

/// How far a source has been followed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Progress {
    /// The reader's epoch.
    pub epoch: u64,
    /// The last position taken; `None` before the first.
    pub at: Option<Position>,
    /// What follows `at` is lost: the next interval that ends later is taken, wherever it begins.
    pub lost: bool,
}

impl Progress {
    /// Compares an interval with what has been taken so far. The first one ever is taken as it is.
    pub fn judge(&self, interval: &Interval) -> Continues {
        let Some(at) = self.at else { return Continues::Seamlessly };
        if interval.epoch < self.epoch {
            Continues::OutOfOffice
        } else if at >= interval.to {
            Continues::Nothing
        } else if at < interval.from && !self.lost {
            Continues::AfterGap
        } else {
            Continues::Seamlessly
        }
    }
}

/// Folds the changes of a transaction so that each key stands in it once: as it was before the first, as it is after
/// the last. What cancels out is left out.
pub fn fold(changes: impl IntoIterator<Item = RowChange>) -> Vec<RowChange> {
    let mut places = std::collections::HashMap::new();
    let mut folded: Vec<RowChange> = Vec::new();
    for change in changes {
        if change.key.is_empty() {
            folded.push(change);
            continue;
        }
        match places.entry((change.table.clone(), change.key.clone())) {
            std::collections::hash_map::Entry::Occupied(place) => {
                let place: &usize = place.get();
                folded[*place].new = change.new;
            }
            std::collections::hash_map::Entry::Vacant(place) => {
                place.insert(folded.len());
                folded.push(change);
            }
        }
    }
    folded.retain(|c| c.old != Old::Known(c.new.clone()));
    folded
}
