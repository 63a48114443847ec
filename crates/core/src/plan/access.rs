//! How a plan's rows are found: by the values they must have.
//!
//! A condition that can only be true where a column equals one of a few values, lies within bounds, or is `NULL` is found by
//! that; any other condition has to be evaluated for every change. Of several parts that must all hold, the one that is true of
//! the fewest rows is used, as far as that can be told from its kind.

use std::fmt::Write as _;
use std::sync::Arc;

use super::EffectivePlan;
use crate::intervals::{Bounds, Coarse};
use crate::query::expr::MAX_LIST;
use crate::query::{CmpOp, Expr};
use crate::schema::Table;
use crate::subquery::SubqueryResults;
use crate::value::{Type, Value};

/// More anchors than this and a condition is not indexed.
const MAX_ANCHORS: usize = MAX_LIST;

/// The same for the values of sub-selects, which change: the feed is then indexed again.
const MAX_FOUND: usize = 256;

/// Rows wanted from a snapshot: those where any of these columns has one of its values. Others may be returned too.
pub type RowFilter = Arc<Vec<(usize, Vec<Value>)>>;

/// What a column must be for a row to be in the result of a query.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Anchor {
    /// This value; of an [`AccessPath`] its probe.
    Value(Value),
    /// Within these bounds.
    Within(Bounds),
    /// `NULL`.
    Null,
}

impl Anchor {
    /// How many rows it may be true of, beside others: nobody counts them.
    fn weight(&self) -> usize {
        match self {
            Anchor::Value(_) => 1,
            Anchor::Within(Bounds { low: Some(_), high: Some(_) }) => 1_000,
            Anchor::Within(_) => 100_000,
            Anchor::Null => 1_000_000,
        }
    }
}

/// Columns with what they must be, of which one has to be true.
type Anchors = Vec<(usize, Anchor)>;

/// What a row needs to be in the result of a query: one of these, or there is no such short list.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AccessPath(Option<Anchors>);

impl AccessPath {
    /// Whether a change may touch what needs this for more than a few of its values: it is evaluated as often as clients
    /// choose.
    pub fn is_broad(&self) -> bool {
        self.0.as_ref().is_none_or(|all| all.iter().any(|(_, anchor)| !matches!(anchor, Anchor::Value(_))))
    }

    /// The columns, one of which a row must have as it says; `None` where every change has to be looked at.
    pub fn anchors(&self) -> Option<&[(usize, Anchor)]> {
        self.0.as_deref()
    }

    /// What a plan needs, given what the sub-selects of its rules have found.
    pub fn of(plan: &EffectivePlan, subquery_results: &dyn SubqueryResults) -> AccessPath {
        let Some(found) = anchors(plan, subquery_results) else { return AccessPath(None) };
        let probe = |(column, anchor)| match anchor {
            // What equals nothing is not looked for.
            Anchor::Value(v) => Some((column, Anchor::Value(v.probe()?))),
            other => Some((column, other)),
        };
        let mut anchors: Anchors = found.into_iter().filter_map(probe).collect();
        anchors.sort();
        anchors.dedup();
        AccessPath((anchors.len() <= MAX_ANCHORS).then_some(anchors))
    }

    /// In words: by which columns changes lead to the feed.
    pub fn text(&self, table: &Table) -> String {
        let Some(anchors) = &self.0 else { return "every change of the table".into() };
        let mut text = String::new();
        for (kind, word) in [(0, "values of "), (1, "bounds of "), (2, "NULL in ")] {
            let is = |anchor: &Anchor| match anchor {
                Anchor::Value(_) => 0,
                Anchor::Within(_) => 1,
                Anchor::Null => 2,
            };
            let mut columns: Vec<&str> = anchors
                .iter()
                .filter(|(_, anchor)| is(anchor) == kind)
                .filter_map(|(column, _)| table.columns.get(*column).map(|c| &*c.name))
                .collect();
            columns.dedup();
            if !columns.is_empty() {
                // Writing to a string cannot fail.
                let _ = write!(text, "{}{word}{}", if text.is_empty() { "" } else { "; " }, columns.join(", "));
            }
        }
        if text.is_empty() { "no change".into() } else { text }
    }
}

/// The rows that can be in the result of a plan; `None` for all.
pub(super) fn row_filter(plan: &EffectivePlan, subquery_results: &dyn SubqueryResults) -> Option<RowFilter> {
    let value = |(column, anchor)| if let Anchor::Value(v) = anchor { Some((column, v)) } else { None };
    let mut found: Vec<(usize, Value)> =
        anchors(plan, subquery_results)?.into_iter().map(value).collect::<Option<_>>()?;
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

fn anchors(e: &EffectivePlan, subquery_results: &dyn SubqueryResults) -> Option<Anchors> {
    let table = e.table();
    // A column that is hidden behaves as NULL, which equals nothing and lies within nothing: what the client asks still holds
    // on the row itself. One that is masked is another value: it does not; and one that is hidden may seem to be NULL.
    let rules = any(e.scan.grants().iter().map(|g| needed(&g.condition, table, subquery_results)));
    let masked = e.scan.maskable();
    let asked = needed(e.filter.condition(), table, subquery_results);
    let is_open = |(column, anchor): &(usize, Anchor)| match anchor {
        Anchor::Null => e.scan.is_open(*column),
        _ => !masked.contains(*column),
    };
    narrower(rules, asked.filter(|found| found.iter().all(is_open)))
}

fn needed(e: &Expr, table: &Table, subquery_results: &dyn SubqueryResults) -> Option<Anchors> {
    match e {
        Expr::Const(Value::Bool(false) | Value::Null) => Some(Vec::new()),
        Expr::Cmp(op, a, b) => match (&**a, &**b) {
            (Expr::Column(c), Expr::Const(v)) => compared(*c, *op, v),
            (Expr::Const(v), Expr::Column(c)) => compared(*c, op.flipped(), v),
            _ => None,
        },
        Expr::IsNull(a) => match &**a {
            Expr::Column(c) => Some(vec![(*c, Anchor::Null)]),
            _ => None,
        },
        Expr::Like(a, pattern) => match &**a {
            Expr::Column(c) if table.columns.get(*c).is_some_and(|c| c.ty == Type::Text) => {
                Some(vec![(*c, Anchor::Within(beginning(&pattern.prefix())?))])
            }
            _ => None,
        },
        Expr::In(a, list) => match &**a {
            Expr::Column(c) => {
                let value = |e: &Expr| match e {
                    Expr::Const(v) => Some((*c, Anchor::Value(v.clone()))),
                    _ => None,
                };
                list.iter().map(value).collect()
            }
            _ => None,
        },
        Expr::InValues(a, list) => match &**a {
            Expr::Column(c) => Some(list.as_slice().iter().map(|v| (*c, Anchor::Value(v.clone()))).collect()),
            _ => None,
        },
        Expr::Member { of, subquery, .. } => match of.first() {
            Some(Expr::Column(c)) => {
                let found = subquery_results.set(subquery).filter(|found| found.len() <= MAX_FOUND)?;
                Some(found.firsts().map(|v| (*c, Anchor::Value(v.clone()))).collect())
            }
            _ => None,
        },
        Expr::And(all) => all.iter().map(|e| needed(e, table, subquery_results)).fold(None, narrower),
        Expr::Or(each) => any(each.iter().map(|e| needed(e, table, subquery_results))),
        _ => None,
    }
}

/// What a comparison with a value needs.
fn compared(column: usize, op: CmpOp, v: &Value) -> Option<Anchors> {
    if v.is_null() {
        return Some(Vec::new());
    }
    let (low, high) = match op {
        CmpOp::Eq => return Some(vec![(column, Anchor::Value(v.clone()))]),
        CmpOp::Ne => return None,
        CmpOp::Lt | CmpOp::Le => (None, Some(Coarse::of(v)?)),
        CmpOp::Gt | CmpOp::Ge => (Some(Coarse::of(v)?), None),
    };
    Some(vec![(column, Anchor::Within(Bounds { low, high }))])
}

/// The texts that begin with a prefix, and few others; `None` for all texts.
fn beginning(prefix: &str) -> Option<Bounds> {
    if prefix.is_empty() {
        return None;
    }
    // The first text that is above all of them: with the next character in place of the last one that has one.
    let mut above: Vec<char> = prefix.chars().collect();
    let mut high = None;
    while let Some(last) = above.pop() {
        let next = ((u32::from(last) + 1)..=u32::from(char::MAX)).find_map(char::from_u32);
        if let Some(next) = next {
            above.push(next);
            high = Some(Coarse::Text(above.iter().collect::<String>().into()));
            break;
        }
    }
    Some(Bounds { low: Some(Coarse::Text(prefix.into())), high })
}

fn any(each: impl Iterator<Item = Option<Anchors>>) -> Option<Anchors> {
    each.collect::<Option<Vec<_>>>().map(|v| v.into_iter().flatten().collect())
}

/// The anchors of two conditions that must both hold: those of one of them are enough.
fn narrower(a: Option<Anchors>, b: Option<Anchors>) -> Option<Anchors> {
    match (a, b) {
        (Some(a), Some(b)) => {
            // Two bounds of one column are one, narrower.
            if let ([(c, Anchor::Within(x))], [(d, Anchor::Within(y))]) = (&a[..], &b[..])
                && c == d
            {
                return Some(vec![(*c, Anchor::Within(x.clone().within(y.clone())))]);
            }
            let weight = |anchors: &Anchors| anchors.iter().map(|(_, anchor)| anchor.weight()).sum::<usize>();
            Some(if weight(&a) <= weight(&b) { a } else { b })
        }
        (a, b) => a.or(b),
    }
}
