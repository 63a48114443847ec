//! What lookups have found, who asks them, and what a change of it means for those.

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
    /// What is known of other tables.
    pub fn subquery_results(&self) -> &dyn SubqueryResults {
        &self.subquery_sets
    }

    /// What a lookup finds, once all of it is known.
    pub(super) fn subquery_values(&self, subquery: &Subquery) -> Option<&ValueSet> {
        self.subquery_sets.0.get(subquery).filter(|a| self.is_settled(a.feed)).map(|a| &a.values)
    }

    /// The feed of a lookup that is asked by another one; it begins if nobody has asked it yet.
    pub(super) fn read_subquery(&mut self, subquery: &Arc<Subquery>, by: FeedId) -> FeedId {
        if let Some(maintained) = self.subquery_sets.0.get_mut(subquery) {
            maintained.by.push(by);
            return maintained.feed;
        }
        let id = self.new_feed(Arc::new(EffectivePlan::of_subquery(subquery)), 0, Some(subquery.clone()));
        let maintained = MaintainedSet { values: ValueSet::default(), feed: id, by: vec![by] };
        self.subquery_sets.0.insert(subquery.clone(), maintained);
        self.settle_later(id);
        id
    }

    /// Takes a feed that ends off the lookups that it asks; those that nobody asks any more end too.
    pub(super) fn release_subqueries(&mut self, id: FeedId, materialized: &Materialized) {
        self.materialized_bytes -= materialized.bytes;
        if let Some(subquery) = &materialized.maintains {
            self.subquery_sets.0.remove(subquery);
        }
        for subquery in materialized.depends_on.keys() {
            let Some(maintained) = self.subquery_sets.0.get_mut(subquery) else { continue };
            maintained.by.retain(|f| *f != id);
            if maintained.by.is_empty() {
                let feed = maintained.feed;
                self.remove_feed(feed);
            }
        }
        self.unsettled.retain(|(_, f)| *f != id);
    }

    /// The clients' subscriptions that depend on a feed, through lookups.
    pub(super) fn dependents(&self, id: FeedId) -> Vec<SubId> {
        let Some(feed) = self.feed(id) else { return Vec::new() };
        let mut all: Vec<SubId> = feed.live.as_slice().to_vec();
        all.extend(feed.waiting().iter().map(|(s, _)| *s));
        if let Some(maintained) =
            feed.memory.materialized().and_then(|k| k.maintains.as_ref()).and_then(|l| self.subquery_sets.0.get(l))
        {
            all.extend(maintained.by.iter().flat_map(|f| self.dependents(*f)));
        }
        all
    }

    pub(super) fn subqueries_are_settled(&self, materialized: &Materialized) -> bool {
        materialized.depends_on.keys().all(|l| self.subquery_sets.0.get(l).is_some_and(|a| self.is_settled(a.feed)))
    }

    /// Lets nothing be read any more that is unsent of a feed and of those that ask it.
    pub(super) fn revoke_unsent(&mut self, id: FeedId) {
        let Some(feed) = self.feed(id) else { return };
        let Some(materialized) = feed.memory.materialized() else { return };
        let maintained = materialized.maintains.as_ref().and_then(|l| self.subquery_sets.0.get(l));
        let by = maintained.map(|a| a.by.clone()).unwrap_or_default();
        if !feed.live.is_empty() {
            self.out.push(Output::Revoke(feed.live.clone()));
        }
        by.into_iter().for_each(|f| self.revoke_unsent(f));
    }

    /// Brings the found values of a lookup up to date, and what is kept by those who ask it.
    pub(super) fn update_set(&mut self, id: FeedId) {
        let Engine { feeds, subquery_sets, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let plan = feed.plan.clone();
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        let Some(subquery) = materialized.maintains.clone() else { return };
        let dirty: Vec<Key> = std::mem::take(&mut materialized.dirty).into_iter().collect();
        materialized.revokes = false;
        let values = |row: &Row| -> Found { subquery.columns.iter().map(|&c| row[c].clone()).collect() };
        let (mut changes, mut now_sent) = (Vec::new(), Vec::new());
        for key in dirty {
            let Some(entry) = materialized.entries.get(&key) else { continue };
            let now = entry.now.as_ref().and_then(|row| plan.see(row, subquery_sets));
            let found = |seen: &VisibleRow| values(&seen.row);
            changes.push((entry.sent.as_ref().map(found), now.as_ref().map(found)));
            now_sent.push((key, now));
        }
        let Some(maintained) = subquery_sets.0.get_mut(&subquery) else { return };
        let crossed = maintained.values.apply(changes);
        for (key, sent) in now_sent {
            self.put(id, key, |entry| entry.sent = sent);
        }
        if let Some(materialized) = self.materialized_mut(id) {
            materialized.dirty.clear();
        }
        let by = self.subquery_sets.0.get(&subquery).map(|a| a.by.clone()).unwrap_or_default();
        for feed in by {
            if !crossed.is_empty() {
                self.set_changed(feed, &subquery, &crossed);
            }
            self.settle_later(feed);
        }
    }

    /// The values that a lookup finds are others now: what a feed kept is judged anew, and what may have come in is
    /// wanted.
    fn set_changed(&mut self, id: FeedId, subquery: &Arc<Subquery>, crossed: &Crossed) {
        if self.audit.as_ref().is_some_and(|a| a.feed == id) {
            // Other rows were asked for than those that it has now.
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
        // A fetch that has not begun asks for what is found then.
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
        let mut changed = Vec::new();
        for (key, entry) in &materialized.entries {
            let Some(row) = &entry.now else { continue };
            let now = plan.see(row, subquery_sets);
            let gone = now.is_none();
            if gone || now != entry.sent {
                let lost = |sent: &VisibleRow| now.as_ref().is_none_or(|n| shows_less(&plan, sent, n));
                materialized.revokes |= entry.sent.as_ref().is_some_and(lost);
                changed.push((key.clone(), gone));
            }
        }
        for (key, gone) in changed {
            self.put(id, key, |entry| {
                if gone {
                    entry.now = None;
                }
            });
        }
    }
}

/// The columns whose values are looked for with this lookup; `None` if something else is too.
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
