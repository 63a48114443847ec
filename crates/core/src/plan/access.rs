//! How a plan's rows are found: by the values they must have.
//!
//! A condition that can only be true where a column equals one of a few values is found by those values, in the index
//! and in the database; any other condition has to be evaluated for every change.

use std::sync::Arc;

use super::EffectivePlan;
use crate::query::expr::MAX_LIST;
use crate::query::{CmpOp, Expr};
use crate::subquery::SubqueryResults;
use crate::value::Value;

/// More values than this and a condition is not indexed.
const MAX_ANCHORS: usize = MAX_LIST;

/// The same for the values of sub-selects, which change: the feed is then indexed again.
const MAX_FOUND: usize = 256;

/// Rows wanted from a snapshot: those where any of these columns has one of its values. Others may be returned too.
pub type RowFilter = Arc<Vec<(usize, Vec<Value>)>>;

/// A column and a value that it must equal.
pub type EqPredicate = (usize, Value);

/// What a row needs to be in the result of a query: one of these values, or there is no such short list.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AccessPath(Option<Vec<EqPredicate>>);

impl AccessPath {
    /// Whether every change may touch what needs this.
    pub fn is_scan(&self) -> bool {
        self.0.is_none()
    }

    /// The columns and values, one of which a row must have; `None` where every change has to be looked at.
    pub fn anchors(&self) -> Option<&[EqPredicate]> {
        self.0.as_deref()
    }

    /// What a plan needs, given what the sub-selects of its rules have found.
    pub fn of(plan: &EffectivePlan, subquery_results: &dyn SubqueryResults) -> AccessPath {
        let Some(found) = values(plan, subquery_results) else { return AccessPath(None) };
        let mut anchors: Vec<EqPredicate> = found.into_iter().filter_map(|(c, v)| Some((c, v.probe()?))).collect();
        anchors.sort();
        anchors.dedup();
        AccessPath((anchors.len() <= MAX_ANCHORS).then_some(anchors))
    }
}

/// The rows that can be in the result of a plan; `None` for all.
pub(super) fn row_filter(plan: &EffectivePlan, subquery_results: &dyn SubqueryResults) -> Option<RowFilter> {
    let mut found = values(plan, subquery_results)?;
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

fn values(e: &EffectivePlan, subquery_results: &dyn SubqueryResults) -> Option<Vec<EqPredicate>> {
    // A column that is hidden behaves as NULL, which equals nothing: the client's equalities still hold on the row.
    // One that is masked is another value: they do not.
    let rules = any(e.scan.grants().iter().map(|g| needed(&g.condition, subquery_results)));
    let masked = e.scan.maskable();
    let asked = needed(e.filter.condition(), subquery_results);
    let asked = asked.filter(|found| !found.iter().any(|(c, _)| masked.contains(*c)));
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
