//! Order: a change's position in its source, the interval that a message covers, and what is missing.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use crate::schema::{ColumnSet, Identified, Key, Row, Table, TableName};

pub use gossip_protocol::timestamp::{Micros, Timestamp};

/// A position in a source's order of changes. A pure function of the source's log, so the same on every instance.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Position {
    /// The log's own number for the commit: the highest change-log sequence it wrote (SQLite) or its LSN.
    pub commit: u64,
    /// Distinguishes the parts of a transaction that is relayed in several; 0 for whole ones and for the last part.
    pub index: u32,
}

impl Position {
    /// The position of a commit.
    pub fn at(commit: u64) -> Position {
        Position { commit, index: 0 }
    }

    /// The position of part `index`, from 1, of a large transaction that is not its last. No other commit can stand
    /// between it and the last part, which has the position of the commit.
    pub fn part(commit: u64, index: u32) -> Position {
        Position { commit: commit.saturating_sub(1), index }
    }

    /// Whether a transaction ends here, so that the state here was committed.
    pub fn is_whole(self) -> bool {
        self.index == 0
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

/// What is known about a row before a change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Old {
    /// The row as it was, or that there was none.
    Known(Option<Row>),
    /// The source does not say.
    Unknown,
}

/// The net effect of one transaction on one row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RowChange {
    /// The row's table.
    pub table: TableName,
    /// The description of the table that these rows conform to: its [`Table::identity`], or [`NO_DESCRIPTION`].
    /// A change is never applied to a table with another description.
    pub description: u64,
    /// The row's key. Empty for tables without one.
    pub key: Key,
    /// The row before the transaction.
    pub old: Old,
    /// The row after it; `None` if it is gone.
    pub new: Option<Row>,
    /// Columns of `new` whose value is omitted; they are `NULL` there. If `old` is unknown they did not change.
    /// If it is known that there was none, the row came from another key, with the values it had there.
    pub omitted_columns: ColumnSet,
}

/// For changes whose rows differ in shape: no table has this identity.
pub const NO_DESCRIPTION: u64 = 0;

impl RowChange {
    /// A change of a row of `table` without omissions.
    pub fn of(table: &Identified, key: Key, old: Old, new: Option<Row>) -> RowChange {
        let (table, description) = (table.name.clone(), table.identity());
        RowChange { table, description, key, old, new, omitted_columns: ColumnSet::default() }
    }

    /// The columns whose value is another one after it, where both rows are known in whole.
    pub fn differing_columns(&self) -> Option<ColumnSet> {
        let (Old::Known(Some(old)), Some(new)) = (&self.old, &self.new) else { return None };
        let differs = |i: &usize| old.get(*i) != new.get(*i);
        (self.omitted_columns.is_empty() && old.len() == new.len()).then(|| (0..new.len()).filter(differs).collect())
    }

    /// Whether the row is the same before and after: see [`Transaction::inexact_after`].
    pub fn is_nothing(&self) -> bool {
        matches!(&self.old, Old::Known(old) if *old == self.new)
    }
}

/// When a commit happened: not before `from` and not after `to`. The two are equal if the source knows exactly.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct CommitTime {
    /// Earliest possible time.
    pub from: Timestamp,
    /// Latest possible time.
    pub to: Timestamp,
}

/// A whole transaction, or several adjacent ones that became visible together. Each key occurs in it once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Transaction {
    /// Its position; that of the last one if there are several.
    pub position: Position,
    /// When it was committed.
    pub committed: CommitTime,
    /// The database's transaction number, which [`Visibility`] refers to; 0 if snapshots are at a position.
    pub number: u64,
    /// Its start, if it may contain other commits: it is the difference between the states there and at `position`,
    /// and cannot be applied in between. It contains each row that any of them touched, even if nothing of that is
    /// left at the end, so that a snapshot from in between can be brought up to date.
    pub inexact_after: Option<Position>,
    /// The rows it changed.
    pub changes: Vec<RowChange>,
}

impl Transaction {
    /// Whether it can be applied to the state at `at`, or is included in it.
    pub fn can_follow(&self, at: Position) -> bool {
        at >= self.position || self.inexact_after.is_none_or(|from| at <= from)
    }
}

/// Which transactions a snapshot includes, by their numbers, for sources that number transactions in another order than the
/// one in which they are committed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Visibility {
    /// All transactions with a lower number had ended.
    pub all_below: u64,
    /// None with this or a higher number had ended.
    pub none_from: u64,
    /// Those in between that were still running, sorted.
    pub running: Vec<u64>,
}

impl Visibility {
    /// Whether the snapshot includes a committed transaction.
    pub fn shows(&self, number: u64) -> bool {
        number < self.all_below || (number < self.none_from && self.running.binary_search(&number).is_err())
    }
}

/// The state of the source that a snapshot shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SnapshotPoint {
    /// Everything up to a position and nothing after it.
    UpTo(Position),
    /// The transactions that were visible to it, all at or before a position.
    Visible(Arc<Visibility>, Position),
}

impl SnapshotPoint {
    /// Once the stream has reached this position, it includes everything that the snapshot shows.
    pub fn at(&self) -> Position {
        match self {
            SnapshotPoint::UpTo(at) | SnapshotPoint::Visible(_, at) => *at,
        }
    }

    /// Whether the snapshot includes a transaction.
    pub fn has(&self, position: Position, number: u64) -> bool {
        match self {
            SnapshotPoint::UpTo(at) => position <= *at,
            SnapshotPoint::Visible(visibility, _) => visibility.shows(number),
        }
    }
}

/// Why all feeds of a table need a new snapshot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ResetReason {
    /// The table was altered or recreated, or lost its triggers.
    SchemaChanged,
    /// A new reader describes it. Matters only if the description differs from the known one:
    /// then it was altered while nobody was reading.
    Described,
    /// All its rows were removed at once, without a change for each.
    Truncated,
    /// So much changed at once that a snapshot is cheaper.
    TooLarge,
}

/// A table that has to be read again at the end of an interval.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reset {
    /// Its name.
    pub name: TableName,
    /// Its description from now on; `None` if it is gone.
    pub table: Option<Arc<Table>>,
    /// What happened.
    pub why: ResetReason,
}

/// The changes of a source in `(from, to]`, as read by a reader. Empty ones are heartbeats.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Interval {
    /// The source.
    pub source: Arc<str>,
    /// The reader's epoch. Every take-over has a higher one.
    pub epoch: u64,
    /// Its start, exclusive.
    pub from: Position,
    /// Its end, inclusive.
    pub to: Position,
    /// Its transactions, in commit order.
    pub transactions: Vec<Arc<Transaction>>,
    /// Tables that have to be read again. They take effect at `to`.
    pub resets: Vec<Reset>,
    /// Every transaction up to here is visible to snapshots taken from now on. A commit can be in the log before
    /// others see it.
    pub settled: Position,
    /// The log that positions refer to; they mean nothing in another.
    pub timeline: u64,
    /// Distinguishes the log up to `to` from another one with the same positions, as after a restore; 0 if the source
    /// detects that in another way.
    pub mark: u64,
    /// The instance that read it.
    pub reader: Arc<str>,
    /// When it was read, by the reader's clock.
    pub read_at: Timestamp,
}

/// How an interval continues what has been received.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Continues {
    /// Nothing in it is new.
    Duplicate,
    /// Everything after the known position is new and nothing is missing.
    Seamlessly,
    /// Something between the known position and `from` is missing.
    AfterGap,
    /// The known position is inside something that cannot be split.
    Overlap,
    /// It comes from a reader that has been replaced.
    StaleEpoch,
    /// It comes from another database behind the same name: everything known is invalid.
    NewTimeline,
}

/// The reader and the log of a position.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Term {
    /// The reader's epoch.
    pub epoch: u64,
    /// The log that positions refer to.
    pub timeline: u64,
}

/// Progress in a source.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Progress {
    /// The reader's epoch.
    pub epoch: u64,
    /// The last position applied; `None` before the first.
    pub at: Option<Position>,
    /// Whether changes after `at` are lost: then the next interval that ends later is applied, wherever it begins.
    pub lost: bool,
    /// The log that positions refer to.
    pub timeline: u64,
}

impl Progress {
    /// The reader and the log.
    pub fn term(&self) -> Term {
        Term { epoch: self.epoch, timeline: self.timeline }
    }

    /// Whether an interval shows that its reader is current: that its log has not gone back, and that it has not lost its
    /// leadership.
    pub fn is_sign_of_life(&self, interval: &Interval) -> bool {
        match self.judge(interval) {
            Continues::StaleEpoch => false,
            Continues::Duplicate => self.at.is_none_or(|at| interval.to >= at),
            Continues::Seamlessly | Continues::AfterGap | Continues::Overlap | Continues::NewTimeline => true,
        }
    }

    /// Compares an interval with the progress so far. The first one ever is accepted as it is.
    pub fn judge(&self, interval: &Interval) -> Continues {
        let Some(at) = self.at else { return Continues::Seamlessly };
        if interval.epoch < self.epoch {
            Continues::StaleEpoch
        } else if interval.timeline != self.timeline {
            Continues::NewTimeline
        } else if at >= interval.to {
            Continues::Duplicate
        } else if at < interval.from && !self.lost {
            Continues::AfterGap
        } else if !self.lost && interval.transactions.iter().any(|t| !t.can_follow(at)) {
            Continues::Overlap
        } else {
            Continues::Seamlessly
        }
    }
}

/// The row after a second change of the same key: what it omits is taken from the first one.
fn told(before: &RowChange, change: RowChange) -> (Option<Row>, ColumnSet) {
    let (Some(earlier), Some(new), false) = (&before.new, &change.new, change.omitted_columns.is_empty()) else {
        return (change.new, change.omitted_columns);
    };
    let mut row = new.to_vec();
    let mut omitted_columns = ColumnSet::default();
    for i in change.omitted_columns.iter() {
        if before.omitted_columns.contains(i) {
            omitted_columns.insert(i);
        } else {
            row[i] = earlier[i].clone();
        }
    }
    (Some(row.into()), omitted_columns)
}

/// Folds the changes of a transaction so that each key occurs once: as it was before the first change, as it is after
/// the last. Changes that cancel out are dropped.
///
/// A row that was replaced under its key by another one with omitted values ends as `Old::Known(None)`: what is
/// omitted is not what the previous row had.
pub fn fold(changes: impl IntoIterator<Item = RowChange>) -> Vec<RowChange> {
    let mut places = std::collections::HashMap::new();
    let mut folded: Vec<RowChange> = Vec::new();
    let mut given_away = std::collections::HashSet::new();
    for change in changes {
        if change.key.is_empty() {
            folded.push(change);
            continue;
        }
        match places.entry((change.table.clone(), change.key.clone())) {
            std::collections::hash_map::Entry::Occupied(place) => {
                let place: usize = *place.get();
                let before = &mut folded[place];
                if before.new.is_none() && !change.omitted_columns.is_empty() {
                    given_away.insert(place);
                }
                if before.description != change.description {
                    // The table was altered in between: the old and the new row differ in shape.
                    (before.new, before.omitted_columns, before.description) =
                        (change.new, change.omitted_columns, NO_DESCRIPTION);
                    continue;
                }
                let (new, omitted_columns) = told(before, change);
                (before.new, before.omitted_columns) = (new, omitted_columns);
            }
            std::collections::hash_map::Entry::Vacant(place) => {
                place.insert(folded.len());
                folded.push(change);
            }
        }
    }
    // Only at the end: the other row may have gone too, or been told whole, and then it is the first one's going that
    // counts.
    for place in given_away {
        let change = &mut folded[place];
        if !change.omitted_columns.is_empty() && change.description != NO_DESCRIPTION {
            change.old = Old::Known(None);
        }
    }
    folded.retain(|c| c.description == NO_DESCRIPTION || c.old != Old::Known(c.new.clone()));
    folded
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use proptest::prelude::*;

    use super::*;
    use crate::value::Value;

    /// The rows of a table by key: a small value, and a large one that a change leaves out where it is as it was.
    type Rows = BTreeMap<i64, (i64, i64)>;

    #[derive(Clone, Copy, Debug)]
    enum Step {
        Insert(i64, i64),
        Small(i64, i64),
        Large(i64, i64),
        Move(i64, i64),
        Delete(i64),
    }

    fn step() -> impl Strategy<Value = Step> {
        (0..5_i64, 0..4_i64, 0..4_i64).prop_map(|(kind, key, other)| match kind {
            0 => Step::Insert(key, other),
            1 => Step::Small(key, other),
            2 => Step::Large(key, other),
            3 => Step::Move(key, other),
            _ => Step::Delete(key),
        })
    }

    fn row(key: i64, (small, large): (i64, i64)) -> Row {
        [Value::Int(key), Value::Int(small), Value::Int(large)].into()
    }

    /// Carries out a step, and says of it what a stream says: with whole old rows, or with nothing but their keys.
    fn carry_out(rows: &mut Rows, step: Step, whole: bool, told: &mut Vec<RowChange>) {
        let mut tell = |key, old: Option<Option<(i64, i64)>>, new: Option<(i64, i64)>, leaves_out: bool| {
            let omitted_columns: ColumnSet = [2].into_iter().filter(|_| leaves_out && !whole).collect();
            let new = new.map(|(small, large)| row(key, (small, if omitted_columns.is_empty() { large } else { 0 })));
            let old = old.map_or(Old::Unknown, |old| Old::Known(old.map(|o| row(key, o))));
            let (table, key) = (TableName::plain("t"), [Value::Int(key)].into());
            told.push(RowChange { table, description: 1, key, old, new, omitted_columns });
        };
        let before = |old| whole.then_some(Some(old));
        let (Step::Insert(key, _) | Step::Small(key, _) | Step::Large(key, _) | Step::Move(key, _) | Step::Delete(key)) =
            step;
        match (step, rows.get(&key).copied()) {
            (Step::Insert(key, v), None) => {
                rows.insert(key, (v, v));
                tell(key, Some(None), Some((v, v)), false);
            }
            (Step::Small(key, v), Some(old)) => {
                rows.insert(key, (v, old.1));
                tell(key, before(old), Some((v, old.1)), true);
            }
            (Step::Large(key, v), Some(old)) => {
                rows.insert(key, (old.0, v));
                tell(key, before(old), Some((old.0, v)), false);
            }
            (Step::Move(key, to), Some(old)) if !rows.contains_key(&to) => {
                rows.remove(&key);
                rows.insert(to, old);
                tell(key, before(old), None, false);
                tell(to, Some(None), Some(old), true);
            }
            (Step::Delete(key), Some(old)) => {
                rows.remove(&key);
                tell(key, before(old), None, false);
            }
            _ => {}
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4_000, failure_persistence: None, ..ProptestConfig::default() })]

        /// Whoever knows the rows before, and asks the table where it is told that a row is another one, knows the rows
        /// after. A row that takes over the key of one that went is where this goes wrong.
        #[test]
        fn folding_tells_what_the_changes_told(
            first in proptest::collection::btree_map(0..4_i64, (0..4_i64, 0..4_i64), 0..4),
            steps in proptest::collection::vec(step(), 0..12),
            whole in any::<bool>(),
        ) {
            let (mut after, mut told) = (first.clone(), Vec::new());
            steps.iter().for_each(|s| carry_out(&mut after, *s, whole, &mut told));
            let (mut known, mut seen) = (first.clone(), BTreeSet::new());
            for c in fold(told) {
                let Value::Int(key) = c.key[0] else { panic!() };
                prop_assert!(seen.insert(key), "each key once");
                if let (Old::Known(old), true) = (&c.old, c.omitted_columns.is_empty()) {
                    prop_assert_eq!(old, &first.get(&key).map(|r| row(key, *r)), "the row as it was");
                }
                let Some(new) = &c.new else {
                    prop_assert!(known.remove(&key).is_some(), "what was not there cannot go");
                    continue;
                };
                let (Value::Int(small), Value::Int(large)) = (&new[1], &new[2]) else { panic!() };
                let large = match (c.omitted_columns.is_empty(), &c.old) {
                    (true, _) => *large,
                    (false, Old::Known(None)) => after[&key].1,
                    (false, _) => known[&key].1,
                };
                known.insert(key, (*small, large));
            }
            prop_assert_eq!(known, after);
        }
    }
}
