//! Maintaining the sets of sub-selects, and what a change of a set means for the feeds that depend on it.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::Engine;
use super::io::{Output, Refusal};
use super::materialized::{Materialized, MissingRows, Seen, shows_less};
use super::serves::Serves;
use super::subquery_sets::MaintainedSet;
use crate::audience::SubId;
use crate::index::FeedId;
use crate::plan::{AccessPath, EffectivePlan, VisibleRow};
use crate::query::{Expr, Subquery};
use crate::schema::{ColumnSet, Key, Row};
use crate::subquery::{Crossed, Found, SubqueryResults, ValueSet, subqueries_of};
use crate::value::Value;

impl Engine {
    /// The values of sub-selects.
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
        let id = self.new_feed(Arc::new(EffectivePlan::of_subquery(subquery)), 0, Serves::Set(subquery.clone()));
        let maintained = MaintainedSet { values: ValueSet::default(), is_begun: false, feed: id, dependents: vec![by] };
        self.subquery_sets.sets.insert(subquery.clone(), maintained);
        self.settle_later(id);
        id
    }

    /// Releases the sub-selects of a feed that ends; those without dependents end too.
    pub(super) fn release_subqueries(&mut self, id: FeedId, materialized: &Materialized) {
        self.materialized_bytes -= materialized.bytes + materialized.operator_bytes;
        if let Some(set) = materialized.maintains().and_then(|subquery| self.subquery_sets.sets.remove(subquery)) {
            self.throw_away(materialized.entries.len(), set);
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
            feed.memory.materialized().and_then(Materialized::maintains).and_then(|l| self.subquery_sets.sets.get(l))
        {
            all.extend(maintained.dependents.iter().flat_map(|f| self.dependents(*f)));
        }
        all.extend(self.askers(id).into_iter().flat_map(|f| self.dependents(f)));
        all
    }

    pub(super) fn subqueries_are_settled(&self, materialized: &Materialized) -> bool {
        materialized.depends_on.keys().all(|l| self.subquery_sets.sets.get(l).is_some_and(|a| self.is_settled(a.feed)))
    }

    /// Discards what is unsent of a feed and of those that depend on it.
    pub(super) fn revoke_unsent(&mut self, id: FeedId) {
        self.unfreeze(id);
        let Some(feed) = self.feed(id) else { return };
        let Some(materialized) = feed.memory.materialized() else { return };
        let maintained = materialized.maintains().and_then(|l| self.subquery_sets.sets.get(l));
        let by = maintained.map(|a| a.dependents.clone()).unwrap_or_default();
        if !feed.live.is_empty() {
            self.out.push(Output::Revoke(feed.live.clone()));
        }
        if let Some(materialized) = self.materialized_mut(id) {
            materialized.history.withdraw();
        }
        by.into_iter().for_each(|f| self.revoke_unsent(f));
    }

    /// Takes what has been read of a sub-select's first values.
    pub(super) fn begin_set(&mut self, id: FeedId) {
        let subquery = self.materialized(id).and_then(Materialized::maintains);
        let set = subquery.and_then(|subquery| self.subquery_sets.sets.get(subquery));
        if set.is_some_and(|set| !set.is_begun) {
            self.bring_set_up_to_date(id, false);
        }
    }

    /// Brings a sub-select's set up to date, and the rows of the feeds that depend on it.
    pub(super) fn update_set(&mut self, id: FeedId) {
        self.bring_set_up_to_date(id, true);
    }

    /// The same; before all of it `is_whole`, rows on which it fails are looked at later.
    fn bring_set_up_to_date(&mut self, id: FeedId, is_whole: bool) {
        let Engine { feeds, subquery_sets, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let plan = feed.plan.clone();
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        let Some(subquery) = materialized.maintains().cloned() else { return };
        let dirty = materialized.dirty.take();
        let withdraws = std::mem::take(&mut materialized.revokes);
        // A column that is hidden is NULL.
        let value =
            |seen: &VisibleRow, c: usize| if seen.columns.contains(c) { seen.row[c].clone() } else { Value::Null };
        let (mut changes, mut now_sent, mut again) = (Vec::new(), Vec::new(), Vec::new());
        let is_out = |row: &Row| !plan.sees_at_any_time(row, subquery_sets);
        for (key, _) in dirty {
            let Some(entry) = materialized.entries.get(&key) else { continue };
            let now = match entry.now.as_ref().map(|row| plan.see(row, subquery_sets)).transpose() {
                Ok(now) => now.flatten(),
                Err(_) if !is_whole => {
                    again.push(key);
                    continue;
                }
                Err(error) => return self.fail_materialized(id, &Refusal::Failed(error)),
            };
            let found = |seen: &VisibleRow| -> Found { subquery.columns.iter().map(|&c| value(seen, c)).collect() };
            changes.push((entry.sent.as_ref().map(found), now.as_ref().map(found)));
            // As in a result: what is held is found or may be.
            let is_left = now.is_none() && entry.now.as_ref().is_some_and(is_out);
            now_sent.push((key, now, is_left));
        }
        again.into_iter().for_each(|key| materialized.dirty.note(key, Seen::OfEntry));
        let Some(maintained) = subquery_sets.sets.get_mut(&subquery) else { return };
        maintained.is_begun |= is_whole;
        let crossed = maintained.values.apply(changes);
        let anew = maintained.values.begins_or_ends_with(&crossed);
        for (key, sent, is_left) in now_sent {
            self.put_quietly(id, key, |entry| {
                entry.sent = sent;
                entry.now = entry.now.take().filter(|_| !is_left);
            });
        }
        let by = self.subquery_sets.sets.get(&subquery).map(|a| a.dependents.clone()).unwrap_or_default();
        for feed in by {
            if !crossed.is_empty() {
                self.set_changed(feed, &subquery, &SetChange { crossed: &crossed, anew, withdraws });
            }
            self.settle_later(feed);
        }
    }

    /// A sub-select's set has changed: a feed's rows are evaluated again, and rows that may have entered are fetched.
    fn set_changed(&mut self, id: FeedId, subquery: &Arc<Subquery>, change: &SetChange<'_>) {
        if self.audit.as_ref().is_some_and(|a| a.feed == id) {
            // The audit reads other rows than the feed has now.
            self.stop_audit();
        }
        self.unfreeze(id);
        let Engine { feeds, subquery_sets, tables, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let (plan, every, is_reading) = (feed.plan.clone(), feed.every(), feed.joining.is_some());
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        let access_path = AccessPath::of(&plan, subquery_sets);
        if access_path != materialized.access_path {
            let index = &mut tables.entry(plan.table().name.clone()).or_default().index;
            index.remove(id, &materialized.access_path);
            index.insert(id, &access_path);
            materialized.access_path = access_path;
        }
        let more_admits = materialized.depends_on.get(subquery).copied().unwrap_or(false);
        let columns = compared(&plan, subquery).filter(|(_, exists)| more_admits || *exists || !change.anew);
        let columns = columns.map(|(columns, _)| columns);
        // A fetch that has not begun will use the set as it is then.
        if materialized.loaded || is_reading {
            materialized.miss(&plan, columns.as_ref(), change.crossed, more_admits);
        }
        let of_joined = is_asked_of_joined(&plan, subquery);
        let asks = |condition: &Expr| subqueries_of([condition]).contains_key(subquery);
        let shows_joined = plan.joins.iter().flat_map(|joins| joins.conditions()).any(asks);
        let probes = change.crossed.first_probes();
        let is_concerned = |row: &Row| match &columns {
            Some(columns) if !of_joined => {
                columns.iter().any(|c| row[*c].probe().is_some_and(|probe| probes.contains(&probe)))
            }
            _ => true,
        };
        // What the client's own condition lets go may still be seen. Where rules ask other tables that is known only at the end of the
        // transaction, and where subscribers are told of it later, perhaps only then: when the row is not at hand any more.
        materialized.revokes |= change.withdraws;
        let is_alone = materialized.depends_on.len() == 1 && materialized.asks.is_none() && !plan.is_window();
        let is_told_at_once = is_alone && every == 0 && !is_reading && materialized.missing.is_nothing();
        let may_withdraw = materialized.rules_ask || !is_told_at_once;
        let is_held = |key: &Key| materialized.entries.get(key).is_some_and(|entry| entry.now.is_some());
        materialized.revokes |= may_withdraw && materialized.told.has_any_but(is_held);
        let mut changed = Vec::new();
        for (key, entry) in &materialized.entries {
            let Some(row) = entry.now.as_ref().filter(|row| is_concerned(row)) else { continue };
            let now = plan.see(row, subquery_sets);
            let gone = now == Ok(None) && !plan.sees_at_any_time(row, subquery_sets);
            // Whether the query fails there is found out when all is known.
            let fails = now.is_err();
            let now = now.unwrap_or(None);
            let differs = gone || fails || now != entry.sent;
            // When a row comes or goes by itself may have changed, too, and what it looks for in other tables.
            let looks = differs || plan.joins.is_some();
            if looks || plan.depends_on_time {
                let lost = |sent: &VisibleRow| now.as_ref().is_none_or(|n| shows_less(&plan, sent, n));
                materialized.revokes |= may_withdraw && entry.sent.as_ref().is_some_and(lost);
                // Of a row that is joined more or less may be seen now.
                materialized.revokes |= shows_joined && differs && entry.sent.is_some();
                changed.push((key.clone(), gone, looks));
            }
        }
        for (key, gone, looks) in changed {
            if looks {
                self.put(id, key, |entry| entry.now = entry.now.take().filter(|_| !gone));
            } else {
                self.put_quietly(id, key, |_| ());
            }
        }
    }
}

/// How a sub-select's set has changed.
struct SetChange<'a> {
    crossed: &'a Crossed,
    /// Whether `IN` may have another truth value also of values that neither came nor went: `NULL` was found or is not any more,
    /// or anything at all.
    anew: bool,
    /// Whether something that was found may not be seen any more.
    withdraws: bool,
}

impl Materialized {
    /// Notes which rows may have entered the result with a change of a set, of which these columns are looked for; `None` if it is not
    /// known which rows it concerns.
    fn miss(&mut self, plan: &EffectivePlan, columns: Option<&BTreeSet<usize>>, crossed: &Crossed, more_admits: bool) {
        // A condition can come true also because less of a row is visible.
        let less_may_show = plan.may_read_hidden();
        if more_admits && crossed.came.is_empty() && !less_may_show {
            return;
        }
        let Some(columns) = columns else {
            self.missing = MissingRows::All;
            return;
        };
        for c in columns {
            let went = crossed.went.iter().filter(|_| less_may_show || !more_admits);
            self.missing.add(*c, crossed.came.iter().chain(went).filter_map(|f| f.first().cloned()));
        }
    }
}

/// The columns whose own values are compared with this sub-select, and whether only by `EXISTS`; `None` if anything else is.
fn compared(plan: &EffectivePlan, subquery: &Arc<Subquery>) -> Option<(BTreeSet<usize>, bool)> {
    let mut found = Some((BTreeSet::new(), true));
    let mut look = |condition: &Expr, masked: &ColumnSet| {
        condition.for_each(&mut |e| match e {
            Expr::Member { of, subquery: asked, exists } if asked == subquery => match (of.first(), &mut found) {
                (Some(Expr::Column(c)), Some((columns, only_exists))) if !masked.contains(*c) => {
                    columns.insert(*c);
                    *only_exists &= exists;
                }
                _ => found = None,
            },
            _ => {}
        });
    };
    plan.scan.conditions().for_each(|condition| look(condition, &ColumnSet::default()));
    // Of a masked column the client's condition sees another value.
    look(plan.condition_of_own(), &plan.scan.maskable());
    found
}

/// Whether a sub-select decides about rows of tables that are joined, or together with these.
fn is_asked_of_joined(plan: &EffectivePlan, subquery: &Arc<Subquery>) -> bool {
    let Some(joins) = &plan.joins else { return false };
    let asks = |condition: &Expr| subqueries_of([condition]).contains_key(subquery);
    let width = plan.table().columns.len();
    let all = match plan.filter.condition() {
        Expr::And(all) => &all[..],
        one => std::slice::from_ref(one),
    };
    let of_others = |e: &&Expr| {
        let mut found = false;
        e.for_each_column(&mut |i| found |= i >= width);
        found
    };
    joins.conditions().any(asks) || all.iter().filter(of_others).any(asks)
}
