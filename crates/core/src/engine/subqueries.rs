//! Maintaining the sets of rules' sub-selects, and what a change of a set means for the feeds that depend on it.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::Engine;
use super::io::Output;
use super::materialized::{Materialized, MissingRows, shows_less};
use super::subquery_sets::MaintainedSet;
use crate::audience::SubId;
use crate::index::FeedId;
use crate::plan::{AccessPath, EffectivePlan, VisibleRow};
use crate::query::{Expr, Subquery};
use crate::schema::{Key, Row};
use crate::subquery::{Crossed, Found, SubqueryResults, ValueSet};

impl Engine {
    /// The values of rules' sub-selects.
    pub fn subquery_results(&self) -> &dyn SubqueryResults {
        &self.subquery_sets
    }

    /// The values of a sub-select, once they are complete.
    pub(super) fn subquery_values(&self, subquery: &Subquery) -> Option<&ValueSet> {
        self.subquery_sets.sets.get(subquery).filter(|a| self.is_settled(a.feed)).map(|a| &a.values)
    }

    /// The feed of a sub-select that another feed depends on; created for the first that does.
    pub(super) fn read_subquery(&mut self, subquery: &Arc<Subquery>, by: FeedId) -> FeedId {
        if let Some(maintained) = self.subquery_sets.sets.get_mut(subquery) {
            maintained.dependents.push(by);
            return maintained.feed;
        }
        let id = self.new_feed(Arc::new(EffectivePlan::of_subquery(subquery)), 0, Some(subquery.clone()));
        let maintained = MaintainedSet { values: ValueSet::default(), feed: id, dependents: vec![by] };
        self.subquery_sets.sets.insert(subquery.clone(), maintained);
        self.settle_later(id);
        id
    }

    /// Releases the sub-selects of a feed that ends; those without dependents end too.
    pub(super) fn release_subqueries(&mut self, id: FeedId, materialized: &Materialized) {
        self.materialized_bytes -= materialized.bytes + materialized.operator_bytes;
        if let Some(subquery) = &materialized.maintains {
            self.subquery_sets.sets.remove(subquery);
        }
        for subquery in materialized.depends_on.keys() {
            let Some(maintained) = self.subquery_sets.sets.get_mut(subquery) else { continue };
            maintained.dependents.retain(|f| *f != id);
            if maintained.dependents.is_empty() {
                let feed = maintained.feed;
                self.remove_feed(feed);
            }
        }
        self.unsettled.retain(|(_, f)| *f != id);
    }

    /// The clients' subscriptions that depend on a feed, through sub-selects.
    pub(super) fn dependents(&self, id: FeedId) -> Vec<SubId> {
        let Some(feed) = self.feed(id) else { return Vec::new() };
        let mut all: Vec<SubId> = feed.live.as_slice().to_vec();
        all.extend(feed.waiting().iter().map(|(s, _)| *s));
        if let Some(maintained) =
            feed.memory.materialized().and_then(|k| k.maintains.as_ref()).and_then(|l| self.subquery_sets.sets.get(l))
        {
            all.extend(maintained.dependents.iter().flat_map(|f| self.dependents(*f)));
        }
        all
    }

    pub(super) fn subqueries_are_settled(&self, materialized: &Materialized) -> bool {
        materialized.depends_on.keys().all(|l| self.subquery_sets.sets.get(l).is_some_and(|a| self.is_settled(a.feed)))
    }

    /// Discards what is unsent of a feed and of those that depend on it.
    pub(super) fn revoke_unsent(&mut self, id: FeedId) {
        let Some(feed) = self.feed(id) else { return };
        let Some(materialized) = feed.memory.materialized() else { return };
        let maintained = materialized.maintains.as_ref().and_then(|l| self.subquery_sets.sets.get(l));
        let by = maintained.map(|a| a.dependents.clone()).unwrap_or_default();
        if !feed.live.is_empty() {
            self.out.push(Output::Revoke(feed.live.clone()));
        }
        if let Some(materialized) = self.materialized_mut(id) {
            materialized.history.withdraw();
        }
        by.into_iter().for_each(|f| self.revoke_unsent(f));
    }

    /// Brings a sub-select's set up to date, and the rows of the feeds that depend on it.
    pub(super) fn update_set(&mut self, id: FeedId) {
        let Engine { feeds, subquery_sets, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let plan = feed.plan.clone();
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        let Some(subquery) = materialized.maintains.clone() else { return };
        let dirty = materialized.dirty.take();
        materialized.revokes = false;
        let values = |row: &Row| -> Found { subquery.columns.iter().map(|&c| row[c].clone()).collect() };
        let (mut changes, mut now_sent) = (Vec::new(), Vec::new());
        for (key, _) in dirty {
            let Some(entry) = materialized.entries.get(&key) else { continue };
            // A rule's conditions have a value on every row.
            let now = entry.now.as_ref().and_then(|row| plan.see(row, subquery_sets).unwrap_or(None));
            let found = |seen: &VisibleRow| values(&seen.row);
            changes.push((entry.sent.as_ref().map(found), now.as_ref().map(found)));
            now_sent.push((key, now));
        }
        let Some(maintained) = subquery_sets.sets.get_mut(&subquery) else { return };
        let crossed = maintained.values.apply(changes);
        for (key, sent) in now_sent {
            self.put_quietly(id, key, |entry| entry.sent = sent);
        }
        let by = self.subquery_sets.sets.get(&subquery).map(|a| a.dependents.clone()).unwrap_or_default();
        for feed in by {
            if !crossed.is_empty() {
                self.set_changed(feed, &subquery, &crossed);
            }
            self.settle_later(feed);
        }
    }

    /// A sub-select's set has changed: a feed's rows are evaluated again, and rows that may have entered are fetched.
    fn set_changed(&mut self, id: FeedId, subquery: &Arc<Subquery>, crossed: &Crossed) {
        if self.audit.as_ref().is_some_and(|a| a.feed == id) {
            // The audit reads other rows than the feed has now.
            self.stop_audit();
        }
        let Engine { feeds, subquery_sets, tables, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let plan = feed.plan.clone();
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        let access_path = AccessPath::of(&plan, subquery_sets);
        if access_path != materialized.access_path {
            let index = &mut tables.entry(plan.table().name.clone()).or_default().index;
            index.remove(id, &materialized.access_path);
            index.insert(id, &access_path);
            materialized.access_path = access_path;
        }
        let more_admits = materialized.depends_on.get(subquery).copied().unwrap_or(false);
        // A fetch that has not begun will use the set as it is then.
        if materialized.loaded || feed.joining.is_some() {
            // A condition can come true also because less of a row is visible.
            let less_may_show = plan.may_read_hidden();
            match columns_compared(&plan, subquery) {
                _ if more_admits && crossed.came.is_empty() && !less_may_show => {}
                Some(columns) if more_admits => columns.into_iter().for_each(|c| {
                    let changed = crossed.came.iter().chain(crossed.went.iter().filter(|_| less_may_show));
                    materialized.missing.add(c, changed.filter_map(|f| f.first().cloned()));
                }),
                _ => materialized.missing = MissingRows::All,
            }
        }
        let is_held = |key: &Key| materialized.entries.get(key).is_some_and(|entry| entry.now.is_some());
        materialized.revokes |= materialized.told.has_any_but(is_held);
        let mut changed = Vec::new();
        for (key, entry) in &materialized.entries {
            let Some(row) = &entry.now else { continue };
            let now = plan.see(row, subquery_sets);
            let gone = now == Ok(None) && !plan.sees_at_any_time(row, subquery_sets);
            let now = now.unwrap_or(None);
            let differs = gone || now != entry.sent;
            // When a row comes or goes by itself may have changed, too.
            if differs || plan.depends_on_time {
                let lost = |sent: &VisibleRow| now.as_ref().is_none_or(|n| shows_less(&plan, sent, n));
                materialized.revokes |= entry.sent.as_ref().is_some_and(lost);
                changed.push((key.clone(), gone, differs));
            }
        }
        for (key, gone, differs) in changed {
            if differs {
                self.put(id, key, |entry| entry.now = entry.now.take().filter(|_| !gone));
            } else {
                self.put_quietly(id, key, |_| ());
            }
        }
    }
}

/// The columns that are compared with this sub-select; `None` if anything else is.
fn columns_compared(plan: &EffectivePlan, subquery: &Arc<Subquery>) -> Option<BTreeSet<usize>> {
    let mut columns = Some(BTreeSet::new());
    for g in plan.scan.grants() {
        g.condition.for_each(&mut |e| match e {
            Expr::Member { of, subquery: l, .. } if l == subquery => match (of.first(), &mut columns) {
                (Some(Expr::Column(c)), Some(found)) => drop(found.insert(*c)),
                _ => columns = None,
            },
            _ => {}
        });
    }
    columns
}
