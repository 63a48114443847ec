//! From a changed row to the feeds that it may touch.
//!
//! An effective condition that can only be true where a column equals one of a few values is found by those values; all
//! others are looked at for every change. The index may name too many feeds, never too few: what it names is evaluated.

use std::collections::HashMap;
use std::sync::Arc;

use foldhash::fast::RandomState;

use crate::engine::io::RowFilter;
use crate::query::expr::MAX_LIST;
use crate::query::{CmpOp, Expr};
use crate::rule::EffectiveQuery;
use crate::schema::Row;
use crate::subquery::SubqueryResults;
use crate::value::Value;

/// A feed of one engine.
pub type FeedId = u32;

/// More values than this and a condition is not indexed.
const MAX_ANCHORS: usize = MAX_LIST;

/// The same for what lookups find: it changes, and a feed is entered anew then.
const MAX_FOUND: usize = 256;

/// A column and a value that it must equal.
type EqPredicate = (usize, Value);

/// The feeds that need a value of a column, by its probe.
type ByValue = HashMap<Value, Vec<FeedId>, RandomState>;

/// The feeds on one table, by what their conditions need.
#[derive(Debug, Default)]
pub struct TableIndex {
    /// Per column that conditions need.
    by_value: Vec<(usize, ByValue)>,
    /// Feeds that every change may touch.
    always: Vec<FeedId>,
}

impl TableIndex {
    /// Enters a feed under what it needs.
    pub fn insert(&mut self, feed: FeedId, needs: &AccessPath) {
        let AccessPath(Some(anchors)) = needs else { return self.always.push(feed) };
        for (column, value) in anchors {
            let place = match self.by_value.iter().position(|(c, _)| c == column) {
                Some(i) => i,
                None => {
                    self.by_value.push((*column, HashMap::default()));
                    self.by_value.len() - 1
                }
            };
            self.by_value[place].1.entry(value.clone()).or_default().push(feed);
        }
    }

    /// Takes a feed out. `needs` must be what it was entered under.
    pub fn remove(&mut self, feed: FeedId, needs: &AccessPath) {
        match needs {
            AccessPath(None) => self.always.retain(|f| *f != feed),
            AccessPath(Some(anchors)) => {
                for (column, value) in anchors {
                    let Some((_, map)) = self.by_value.iter_mut().find(|(c, _)| c == column) else { continue };
                    if let Some(feeds) = map.get_mut(value) {
                        feeds.retain(|f| *f != feed);
                        if feeds.is_empty() {
                            map.remove(value);
                        }
                    }
                }
            }
        }
        self.by_value.retain(|(_, map)| !map.is_empty());
    }

    /// Calls `found` for every feed whose result may have the old or the new row. May name a feed more than once.
    pub fn touched(&self, old: Option<&Row>, new: Option<&Row>, mut found: impl FnMut(FeedId)) {
        self.always.iter().for_each(|f| found(*f));
        for (column, map) in &self.by_value {
            let old = old.map(|r| &r[*column]);
            let new = new.map(|r| &r[*column]);
            let mut look = |v: Option<&Value>| {
                if let Some(feeds) = v.and_then(Value::probe).and_then(|p| map.get(&p)) {
                    feeds.iter().for_each(|f| found(*f));
                }
            };
            look(new);
            if old != new {
                look(old);
            }
        }
    }
}

/// What a row needs to be in the result of a query: one of these values, or there is no such short list.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AccessPath(Option<Vec<EqPredicate>>);

impl AccessPath {
    /// Whether every change may touch what needs this.
    pub fn is_scan(&self) -> bool {
        self.0.is_none()
    }

    /// What `effective` needs, given what its lookups have found.
    pub fn of(effective: &EffectiveQuery, subquery_results: &dyn SubqueryResults) -> AccessPath {
        let Some(found) = values(effective, subquery_results) else { return AccessPath(None) };
        let mut anchors: Vec<EqPredicate> = found.into_iter().filter_map(|(c, v)| Some((c, v.probe()?))).collect();
        anchors.sort();
        anchors.dedup();
        AccessPath((anchors.len() <= MAX_ANCHORS).then_some(anchors))
    }
}

/// Rows that can be in the result of `effective`, as a snapshot is asked for them; `None` for all.
pub fn only(effective: &EffectiveQuery, subquery_results: &dyn SubqueryResults) -> Option<RowFilter> {
    let mut found = values(effective, subquery_results)?;
    found.sort();
    found.dedup();
    let mut only: Vec<(usize, Vec<Value>)> = Vec::new();
    for (column, value) in found {
        match only.last_mut().filter(|(c, _)| *c == column) {
            Some((_, values)) => values.push(value),
            None => only.push((column, vec![value])),
        }
    }
    Some(Arc::new(only))
}

fn values(e: &EffectiveQuery, subquery_results: &dyn SubqueryResults) -> Option<Vec<EqPredicate>> {
    // A column that is hidden behaves as NULL, which equals nothing: the client's equalities still hold on the row.
    // One that is masked is another value: they do not.
    let rules = any(e.grants.iter().map(|g| needed(&g.condition, subquery_results)));
    let masked = |c: usize| e.grants.iter().any(|g| g.masks.iter().any(|(m, _)| *m == c));
    let asked = needed(&e.condition, subquery_results).filter(|found| !found.iter().any(|(c, _)| masked(*c)));
    shorter(rules, asked)
}

fn needed(e: &Expr, subquery_results: &dyn SubqueryResults) -> Option<Vec<EqPredicate>> {
    match e {
        Expr::Const(Value::Bool(false) | Value::Null) => Some(Vec::new()),
        Expr::Cmp(CmpOp::Eq, a, b) => match (&**a, &**b) {
            (Expr::Column(c), Expr::Const(v)) | (Expr::Const(v), Expr::Column(c)) => Some(vec![(*c, v.clone())]),
            _ => None,
        },
        Expr::In(a, list) => match &**a {
            Expr::Column(c) => {
                let value = |e: &Expr| match e {
                    Expr::Const(v) => Some((*c, v.clone())),
                    _ => None,
                };
                list.iter().map(value).collect()
            }
            _ => None,
        },
        Expr::InValues(a, list) => match &**a {
            Expr::Column(c) => Some(list.as_slice().iter().map(|v| (*c, v.clone())).collect()),
            _ => None,
        },
        Expr::Member { of, subquery, .. } => match of.first() {
            Some(Expr::Column(c)) => {
                let found = subquery_results.set(subquery).filter(|found| found.len() <= MAX_FOUND)?;
                Some(found.firsts().map(|v| (*c, v.clone())).collect())
            }
            _ => None,
        },
        Expr::And(all) => all.iter().map(|e| needed(e, subquery_results)).fold(None, shorter),
        Expr::Or(each) => any(each.iter().map(|e| needed(e, subquery_results))),
        _ => None,
    }
}

fn any(each: impl Iterator<Item = Option<Vec<EqPredicate>>>) -> Option<Vec<EqPredicate>> {
    each.collect::<Option<Vec<_>>>().map(|v| v.into_iter().flatten().collect())
}

fn shorter(a: Option<Vec<EqPredicate>>, b: Option<Vec<EqPredicate>>) -> Option<Vec<EqPredicate>> {
    match (a, b) {
        (Some(a), Some(b)) => Some(if a.len() <= b.len() { a } else { b }),
        (a, b) => a.or(b),
    }
}
