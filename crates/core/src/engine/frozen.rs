//! What a joined result was at a commit at which not all of its partners were known: it waits for these while the stream goes on, so
//! that a result which always lacks some partner is not silent for ever.

use std::collections::{BTreeSet, HashMap};

use super::asked::{Probe, probe};
use super::materialized::Commit;
use super::subquery_sets::SubquerySets;
use crate::audience::SubId;
use crate::plan::{Scan, VisibleRow};
use crate::position::{Old, Position, Timestamp, Transaction};
use crate::query::Subquery;
use crate::schema::{ByKey, Key, Row};
use crate::subquery::{Partner, SubqueryResults, ValueSet};
use crate::value::Value;

/// The difference between what was sent last and the result at a commit.
#[derive(Debug)]
pub(super) struct Frozen {
    pub(super) commit: Commit,
    pub(super) rows: ByKey<FrozenRow>,
    /// Whether the difference withdraws something.
    pub(super) revokes: bool,
    /// Who waited for the whole result then.
    pub(super) waiting: BTreeSet<SubId>,
    /// How many of what it asks for were known when it was looked last.
    pub(super) known: usize,
    /// The first commit after it that may have changed the result.
    pub(super) changed_since: Option<Position>,
}

/// A row of a difference that is frozen.
#[derive(Debug)]
pub(super) enum FrozenRow {
    /// What was seen of it.
    Seen(Option<VisibleRow>),
    /// Not all of its partners are known.
    Waits {
        row: Row,
        /// What was seen of it, without what is joined.
        own: VisibleRow,
    },
}

/// Under which a difference that is frozen asks for its partners: no row has this key.
pub(super) fn key_of_frozen() -> Key {
    [].into()
}

impl Frozen {
    /// What was seen of a row, if it is one of these.
    pub(super) fn seen(&self, key: &Key) -> Option<&VisibleRow> {
        match self.rows.get(key)? {
            FrozenRow::Seen(seen) => seen.as_ref(),
            FrozenRow::Waits { own, .. } => Some(own),
        }
    }

    /// Bytes of it, about, without the rows that are held.
    pub(super) fn size(&self) -> usize {
        const EACH: usize = 112;
        let of = |row: &FrozenRow| match row {
            FrozenRow::Seen(Some(seen)) => EACH + seen.row.iter().map(Value::size).sum::<usize>(),
            FrozenRow::Seen(None) | FrozenRow::Waits { .. } => EACH,
        };
        self.rows.values().map(of).sum()
    }
}

/// What other tables held at a commit: sub-selects as they are, for one whose set changes ends what is frozen, and partners as they were.
pub(super) struct AsOf<'a> {
    now: &'a SubquerySets,
    changed: HashMap<(u64, Probe), ChangedPartner>,
}

/// A row that has changed since.
pub(super) struct ChangedPartner {
    /// As it was; `None` if that is not known.
    was: Option<Option<Row>>,
    /// As it was after each of these changes; `None` if that is not known.
    since: Vec<Option<Option<Row>>>,
}

impl ChangedPartner {
    /// Whether it can be told as it was: that is known, and no less of it may be seen since.
    pub(super) fn can_be_told(&self, scan: &Scan, subquery_results: &dyn SubqueryResults) -> bool {
        let Some(was) = &self.was else { return false };
        let seen = was.as_ref().and_then(|was| scan.admitted(was, subquery_results));
        let hides = |row: &Row| seen.as_ref().is_some_and(|seen| scan.shows_less(Some(seen), row, subquery_results));
        // Also where it is gone by now, or shown again.
        self.since.iter().all(|row| row.as_ref().is_some_and(|row| !row.as_ref().is_some_and(hides)))
    }
}

impl AsOf<'_> {
    /// What there was before these transactions, which come newest first.
    pub(super) fn before<'a>(
        now: &SubquerySets,
        transactions: impl Iterator<Item = &'a Transaction>,
        is_joined: impl Fn(u64) -> bool,
    ) -> AsOf<'_> {
        let mut changed: HashMap<_, ChangedPartner> = HashMap::new();
        for change in transactions.flat_map(|t| t.changes.iter().rev()).filter(|c| is_joined(c.description)) {
            let Some(probe) = probe(&change.key) else { continue };
            let was = match &change.old {
                Old::Known(was) => Some(was.clone()),
                Old::Unknown => None,
            };
            let partner = changed.entry((change.description, probe));
            let partner = partner.or_insert_with(|| ChangedPartner { was: None, since: Vec::new() });
            partner.was = was;
            partner.since.push(change.omitted_columns.is_empty().then(|| change.new.clone()));
        }
        AsOf { now, changed }
    }

    /// The row under a key, if it has changed since.
    pub(super) fn changed(&self, table: u64, key: &[Value]) -> Option<&ChangedPartner> {
        self.changed.get(&(table, probe(key)?))
    }
}

impl SubqueryResults for AsOf<'_> {
    fn set(&self, of: &Subquery) -> Option<&ValueSet> {
        self.now.set(of)
    }

    fn partner(&self, table: u64, key: &[Value]) -> Partner<'_> {
        match self.changed(table, key).map(|partner| &partner.was) {
            Some(Some(was)) => Partner::Known(was.as_ref()),
            Some(None) => Partner::Unknown,
            None => self.now.partner(table, key),
        }
    }

    fn now(&self) -> Timestamp {
        self.now.now()
    }
}
