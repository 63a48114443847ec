//! The state of a feed that holds its rows; [`materializing`](super::materializing) maintains it.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::asked::Asks;
use super::frozen::Frozen;
use super::history::History;
use super::io::ResyncReason;
use super::moments::Moments;
use super::serves::Serves;
use super::told::Told;
use super::window::Window;
use crate::audience::SubId;
use crate::latest::Latest;
use crate::operator::Operators;
use crate::plan::{AccessPath, EffectivePlan, VisibleRow};
use crate::position::{RowChange, Timestamp};
use crate::query::Subquery;
use crate::schema::{ByKey, ColumnSet, Key, KeySet, Row, Table};
use crate::subquery::SubqueryResults;
use crate::value::Value;

/// Different values after which all rows are fetched instead of those that have one of them.
const MAX_MISSING: usize = 10_000;

/// A row under a key: as it is in the table, if it is in the result, and as it was sent last.
#[derive(Debug, Default)]
pub(super) struct Entry {
    pub(super) now: Option<Row>,
    pub(super) sent: Option<VisibleRow>,
}

impl Entry {
    /// Whether nothing is known of the row any more.
    pub(super) fn is_empty(&self) -> bool {
        self.now.is_none() && self.sent.is_none()
    }

    pub(super) fn size(&self) -> usize {
        let of = |row: &Row| row.iter().map(Value::size).sum::<usize>();
        96 + self.now.as_ref().or(self.sent.as_ref().map(|s| &s.row)).map_or(0, of)
    }
}

/// What is seen of a row that may have changed.
#[derive(Debug)]
pub(super) enum Seen {
    /// This, whatever comes in the same transaction.
    Known(Option<VisibleRow>),
    /// What its entry shows when it is looked at.
    OfEntry,
}

/// Rows that may have entered a result and have to be fetched.
#[derive(Debug, Default)]
pub(super) enum MissingRows {
    #[default]
    Nothing,
    /// Those where the column has one of the values; in an order that a seed repeats.
    With(BTreeMap<usize, BTreeSet<Value>>),
    All,
}

impl MissingRows {
    pub(super) fn is_nothing(&self) -> bool {
        matches!(self, MissingRows::Nothing)
    }

    /// Adds one row of a table, or all if it is not found by one column.
    pub(super) fn add_row(&mut self, table: &Table, key: &Key) {
        match (&table.key[..], &key[..]) {
            ([column], [value]) => self.add(*column, [value.clone()].into_iter()),
            _ => *self = MissingRows::All,
        }
    }

    pub(super) fn add(&mut self, column: usize, values: impl Iterator<Item = Value>) {
        if let MissingRows::Nothing = self {
            *self = MissingRows::With(BTreeMap::new());
        }
        if let MissingRows::With(by_column) = self {
            by_column.entry(column).or_default().extend(values);
            if by_column.values().map(BTreeSet::len).sum::<usize>() > MAX_MISSING {
                *self = MissingRows::All;
            }
        }
    }
}

/// The rows of a feed, and what is pending for them.
#[derive(Debug)]
pub(super) struct Materialized {
    /// The sub-selects of its rules, and whether only more values in a set can admit more rows.
    pub(super) depends_on: BTreeMap<Arc<Subquery>, bool>,
    /// Whom it is for.
    pub(super) serves: Serves,
    /// Whether its rules ask other tables.
    pub(super) rules_ask: bool,
    /// What its rows ask of tables that are joined.
    pub(super) asks: Option<Box<Asks>>,
    /// 0 for sub-selects without sub-selects, more for those above, most for clients' feeds: the order of settling.
    pub(super) level: u8,
    pub(super) entries: ByKey<Entry>,
    /// Keys whose entry may differ from what was sent. One whose entry is gone meanwhile means nothing.
    pub(super) dirty: Latest<Seen>,
    /// Keys that changed since the current fetch was requested: its rows for them may be stale.
    pub(super) changed_since: KeySet,
    /// Rows of the current fetch. They count once it is complete.
    pub(super) fetched: Vec<Row>,
    /// Whether all rows have been fetched once.
    pub(super) loaded: bool,
    pub(super) missing: MissingRows,
    /// Who waits for the whole result.
    pub(super) waiting: Vec<(SubId, ResyncReason)>,
    /// The access path under which the feed is indexed.
    pub(super) access_path: AccessPath,
    /// Whether the next difference withdraws something.
    pub(super) revokes: bool,
    /// Bytes of entries, about.
    pub(super) bytes: usize,
    /// What makes the result of the rows, if it is not the rows themselves; `sent` is then as these have a row.
    pub(super) operators: Option<Box<Operators>>,
    /// Bytes of the operators, about.
    pub(super) operator_bytes: usize,
    /// What the operators have waits for this moment, where subscribers want time between two deltas; and when the newest
    /// of it was committed.
    pub(super) held: Option<Held>,
    /// Bytes of the rows of the current fetch, about.
    pub(super) fetched_bytes: usize,
    /// When its rows come, go or show something else next, where that happens as time passes.
    pub(super) moments: Moments,
    /// How much of the table it holds, where that is enough for its window; `None`: all rows on which its condition holds.
    pub(super) window: Option<Box<Window>>,
    /// What subscribers know of rows whose changes they are not told yet.
    pub(super) told: Told,
    /// What subscribers were told lately.
    pub(super) history: History,
    /// When the last of them left, by the clock.
    pub(super) left_at: Option<Timestamp>,
}

/// When changes are due that wait for their time.
#[derive(Clone, Copy, Debug)]
pub(super) struct Held {
    pub(super) due: Timestamp,
    pub(super) at: Timestamp,
}

/// A row that changed: as it was sent, and as it is.
pub(super) struct Changed {
    pub(super) key: Key,
    pub(super) sent: Option<VisibleRow>,
    pub(super) now: Option<VisibleRow>,
}

/// Whether less may be seen of a row than was sent: a column is hidden now, or a mask may have replaced its value.
pub(super) fn shows_less(plan: &EffectivePlan, sent: &VisibleRow, now: &VisibleRow) -> bool {
    !now.columns.covers(&sent.columns) || plan.scan.maskable().iter().any(|c| sent.row[c] != now.row[c])
}

impl Materialized {
    /// Whether it is for other feeds, and has no subscribers.
    pub(super) fn is_subquery(&self) -> bool {
        self.serves != Serves::Clients
    }

    /// Whether it reads rows for those who join its table.
    pub(super) fn is_for_joins(&self) -> bool {
        self.serves == Serves::Joins
    }

    /// The sub-select whose set it maintains, if it is the feed of one.
    pub(super) fn maintains(&self) -> Option<&Arc<Subquery>> {
        match &self.serves {
            Serves::Set(subquery) => Some(subquery),
            Serves::Clients | Serves::Joins => None,
        }
    }

    /// Whether all is known that its rows ask of tables that are joined.
    pub(super) fn is_answered(&self) -> bool {
        self.asks.as_ref().is_none_or(|asks| asks.are_answered())
    }

    /// What waits for partners as of an earlier commit.
    pub(super) fn frozen(&self) -> Option<&Frozen> {
        self.asks.as_ref().and_then(|asks| asks.frozen.as_deref())
    }

    /// Whether what some entry shows may differ from what was sent.
    pub(super) fn is_dirty(&self) -> bool {
        self.dirty.keys().any(|key| self.entries.contains_key(key))
    }

    /// Whether what is seen of a row follows from the row alone, and from partners of whose changes it is told.
    pub(super) fn sees_rows_alone(&self, plan: &EffectivePlan) -> bool {
        self.depends_on.is_empty() && !plan.depends_on_time
    }

    /// Whether a row stands behind those that are held, as far as can be told without these columns. While rows are read nobody
    /// knows.
    pub(super) fn is_behind(&self, plan: &EffectivePlan, key: &Key, row: &Row, unknown: &ColumnSet) -> bool {
        let window = self.window.as_ref().filter(|w| !w.columns().any(|i| unknown.contains(i)));
        window.is_some_and(|window| window.is_behind(plan, key, row))
    }

    /// Whether a change withdraws something of a row that was sent. `row` is the row with all its values, where these are known,
    /// and `seen` what there is of it now, if it is held. What its rules do not admit any more is not to be sent any more either.
    pub(super) fn is_withdrawn(
        &self,
        plan: &EffectivePlan,
        change: &RowChange,
        (row, seen): (Option<&Row>, Option<&VisibleRow>),
        subquery_results: &dyn SubqueryResults,
    ) -> bool {
        let sent = self.entries.get(&change.key).and_then(|entry| entry.sent.as_ref());
        let frozen = self.frozen().and_then(|frozen| frozen.seen(&change.key));
        let mut known = sent.into_iter().chain(self.told.get(&change.key)).chain(frozen);
        let hides = |sent: &VisibleRow, row: &Row| {
            // Whether it is they who let a row go is known, if they ask other tables, only at the end of the transaction, and if
            // they ask the time, perhaps later: when the row is not at hand any more.
            let later = self.rules_ask || plan.scan.depends_on_time();
            later || plan.scan.shows_less(Some(&sent.columns), row, subquery_results)
        };
        known.any(|sent| match (seen, row, &change.new) {
            (Some(seen), ..) => shows_less(plan, sent, seen),
            (None, Some(row), _) => hides(sent, row),
            (None, None, Some(row)) => plan.scan.decides_by_any_of(&change.omitted_columns) || hides(sent, row),
            (None, None, None) => plan.scan.depends_on_time(),
        })
    }

    /// Whether less may be seen of a row that was sent, because time has passed; or later, when a row that leaves now is not at
    /// hand any more.
    pub(super) fn is_withdrawn_by_time(
        &self,
        plan: &EffectivePlan,
        key: &Key,
        subquery_results: &dyn SubqueryResults,
    ) -> bool {
        let Some(entry) = self.entries.get(key).filter(|_| plan.scan.depends_on_time()) else { return false };
        let Some(row) = &entry.now else { return false };
        let mut known = entry.sent.iter().chain(self.told.get(key));
        let leaves = || !plan.sees(row, subquery_results);
        known.any(|sent| plan.scan.shows_less(Some(&sent.columns), row, subquery_results) || leaves())
    }

    /// Rows of a window that are held in order, up to its boundary.
    pub(super) fn held_in_order(&self, plan: &EffectivePlan) -> usize {
        let Some(operators) = &self.operators else { return 0 };
        match self.window.as_ref().and_then(|window| window.boundary()) {
            Some(boundary) => operators.rows_up_to(plan, boundary),
            None => operators.rows_in_order(),
        }
    }

    /// Whether fewer rows are held than the window needs, though there may be more.
    pub(super) fn falls_short(&self, plan: &EffectivePlan) -> bool {
        self.window.as_ref().is_some_and(|window| window.falls_short(self.held_in_order(plan)))
    }
}
