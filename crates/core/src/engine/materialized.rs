//! What a feed keeps whose rules ask other tables; [`keeping`](super::keeping) keeps it.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use super::io::ResyncReason;
use crate::audience::SubId;
use crate::plan::{AccessPath, EffectivePlan, VisibleRow};
use crate::position::{Micros, Position, Term};
use crate::query::Subquery;
use crate::schema::{Key, Row};
use crate::value::Value;

/// Different values after which all rows are fetched instead of those that have one of them.
const MAX_MISSING: usize = 10_000;

/// A row under a key: as it is in the table, if it is in the result now, and as it was told last.
#[derive(Debug, Default)]
pub(super) struct Entry {
    pub(super) now: Option<Row>,
    pub(super) sent: Option<VisibleRow>,
}

impl Entry {
    pub(super) fn size(&self) -> usize {
        let of = |row: &Row| row.iter().map(Value::size).sum::<usize>();
        96 + self.now.as_ref().or(self.sent.as_ref().map(|s| &s.row)).map_or(0, of)
    }
}

/// Rows that may have come into a result and are to be fetched.
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

/// What such a feed keeps.
#[derive(Debug)]
pub(super) struct Materialized {
    /// What its rules ask, and whether only more found values can admit more rows.
    pub(super) depends_on: BTreeMap<Arc<Subquery>, bool>,
    /// The lookup whose values it keeps up to date, if it is one.
    pub(super) maintains: Option<Arc<Subquery>>,
    /// 0 for lookups that ask nothing, more for those that ask, most for clients' feeds: in this order they settle.
    pub(super) level: u8,
    pub(super) entries: HashMap<Key, Entry>,
    /// Keys whose entry may differ from what was told.
    pub(super) dirty: BTreeSet<Key>,
    /// Keys that changed since the fetch under way was asked for: of these it may be out of date.
    pub(super) changed_since: HashSet<Key>,
    /// Rows of the fetch under way. Only when it is complete it is known whether they are to be believed.
    pub(super) fetched: Vec<Row>,
    /// Whether all rows have been fetched once.
    pub(super) loaded: bool,
    pub(super) missing: MissingRows,
    /// Who waits for the whole result.
    pub(super) waiting: Vec<(SubId, ResyncReason)>,
    /// What the feed stands under in the index.
    pub(super) access_path: AccessPath,
    /// What was withdrawn is among what is to be told.
    pub(super) revokes: bool,
    /// Bytes of entries, about.
    pub(super) bytes: usize,
}

/// Where in the stream something is told.
#[derive(Clone, Copy, Debug)]
pub(super) struct Commit {
    pub term: Term,
    pub position: Position,
    pub at: Micros,
}

/// Whether less may be seen of a row than was told: a column is hidden now, or a mask may stand where its value stood.
pub(super) fn shows_less(plan: &EffectivePlan, sent: &VisibleRow, now: &VisibleRow) -> bool {
    !now.columns.covers(&sent.columns) || plan.scan.maskable().iter().any(|c| sent.row[c] != now.row[c])
}

impl Materialized {
    /// Whether it is the feed of a lookup, which nobody subscribes to.
    pub(super) fn is_subquery(&self) -> bool {
        self.maintains.is_some()
    }
}
