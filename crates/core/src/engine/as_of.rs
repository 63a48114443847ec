//! What other tables held at an earlier commit.

use std::collections::HashMap;

use super::probe::{Probe, probe};
use super::subquery_sets::SubquerySets;
use crate::plan::Scan;
use crate::position::{Old, Timestamp, Transaction};
use crate::query::Subquery;
use crate::schema::Row;
use crate::subquery::{Partner, SubqueryResults, ValueSet};
use crate::value::Value;

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
