//! How a plan's rows are found: by the values they must have.
//!
//! A condition that can only be true where a column equals one of a few values, has one of them as an element, lies within
//! bounds, or is `NULL` is found by that; any other condition has to be evaluated for every change. Of several parts that must
//! all hold, the one that is true of the fewest rows is used, as far as that can be told from its kind.

use std::fmt::Write as _;

use super::{EffectivePlan, Range};
use crate::bounds::Bounds;
use crate::query::expr::{Computed, MAX_LIST};
use crate::query::function::{Function, document};
use crate::query::{CmpOp, Expr};
use crate::schema::Table;
use crate::subquery::SubqueryResults;
use crate::value::{Type, Value};

/// More anchors than this and a condition is not indexed.
const MAX_ANCHORS: usize = MAX_LIST;

/// The same for the values of sub-selects, which change: the feed is then indexed again.
const MAX_FOUND: usize = 256;

/// What a column must be for a row to be in the result of a query.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Anchor {
    /// This value; of an [`AccessPath`] its probe.
    Value(Value),
    /// An array of which this is the probe of an element, and this the type of its elements.
    Element(Type, Value),
    /// Within these bounds.
    Within(Bounds),
    /// `NULL`.
    Null,
}

/// Columns with what they must be, of which one has to be true.
type Anchors = Vec<(usize, Anchor)>;

/// What a condition needs of a column.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Need {
    Value(Value),
    Element(Type, Value),
    Within(Range),
    Null,
}

impl Need {
    /// How many rows it may be true of, beside others: nobody counts them.
    fn weight(&self) -> usize {
        match self {
            Need::Value(_) => 1,
            Need::Element(..) => 100,
            Need::Within(range) if range.is_closed() => 1_000,
            Need::Within(_) => 100_000,
            Need::Null => 1_000_000,
        }
    }
}

/// Columns with what they must have, of which one has to be so.
pub(super) type Needs = Vec<(usize, Need)>;

/// What a row needs to be in the result of a query: one of these, or there is no such short list.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AccessPath(Option<Anchors>);

impl AccessPath {
    /// Whether a change may touch what needs this for more than a few of its values: it is evaluated as often as clients
    /// choose.
    pub fn is_broad(&self) -> bool {
        self.0
            .as_ref()
            .is_none_or(|all| all.iter().any(|(_, anchor)| !matches!(anchor, Anchor::Value(_) | Anchor::Element(..))))
    }

    /// The columns, one of which a row must have as it says; `None` where every change has to be looked at.
    pub fn anchors(&self) -> Option<&[(usize, Anchor)]> {
        self.0.as_deref()
    }

    /// What a plan needs, given what the sub-selects of its rules have found.
    pub fn of(plan: &EffectivePlan, subquery_results: &dyn SubqueryResults) -> AccessPath {
        let Some(found) = needs(plan, subquery_results, By::Index) else { return AccessPath(None) };
        let anchor = |(column, need)| match need {
            // What equals nothing is not looked for.
            Need::Value(v) => Some((column, Anchor::Value(v.probe()?))),
            Need::Element(ty, v) => Some((column, Anchor::Element(ty, v.probe()?))),
            Need::Within(range) => Some((column, Anchor::Within(range.bounds()))),
            Need::Null => Some((column, Anchor::Null)),
        };
        let mut anchors: Anchors = found.into_iter().filter_map(anchor).collect();
        anchors.sort();
        anchors.dedup();
        AccessPath((anchors.len() <= MAX_ANCHORS).then_some(anchors))
    }

    /// In words: by which columns changes lead to the feed.
    pub fn text(&self, table: &Table) -> String {
        let Some(anchors) = &self.0 else { return "every change of the table".into() };
        let mut text = String::new();
        for (kind, word) in [(0, "values of "), (1, "elements of "), (2, "bounds of "), (3, "NULL in ")] {
            let is = |anchor: &Anchor| match anchor {
                Anchor::Value(_) => 0,
                Anchor::Element(..) => 1,
                Anchor::Within(_) => 2,
                Anchor::Null => 3,
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

/// Who is to find rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum By {
    /// The index of feeds.
    Index,
    /// A database, which is not asked for elements of arrays.
    Database,
}

/// What a row in the result of a plan has; `None` if nothing is known of it.
pub(super) fn needs(e: &EffectivePlan, subquery_results: &dyn SubqueryResults, by: By) -> Option<Needs> {
    let table = e.table();
    // A column that is hidden behaves as NULL, which equals nothing and lies within nothing: what the client asks still holds
    // on the row itself. One that is masked is another value: it does not; and one that is hidden may seem to be NULL.
    let rules = any(e.scan.grants().iter().map(|g| needed(&g.condition, table, subquery_results, by)));
    let masked = e.scan.maskable();
    let asked = needed(e.condition_of_own(), table, subquery_results, by);
    let is_open = |(column, need): &(usize, Need)| match need {
        Need::Null => e.scan.is_open(*column),
        _ => !masked.contains(*column),
    };
    narrower(rules, asked.filter(|found| found.iter().all(is_open)))
}

/// What a condition needs; `None` if nothing is known of it.
pub(super) fn needed(e: &Expr, table: &Table, subquery_results: &dyn SubqueryResults, by: By) -> Option<Needs> {
    match e {
        Expr::Const(Value::Bool(false) | Value::Null) => Some(Vec::new()),
        Expr::Cmp(op, a, b) => match (&**a, &**b) {
            (Expr::Column(c), Expr::Const(v)) => compared(*c, *op, v),
            (Expr::Const(v), Expr::Column(c)) => compared(*c, op.flipped(), v),
            _ => None,
        },
        Expr::IsNull(a) => match &**a {
            Expr::Column(c) => Some(vec![(*c, Need::Null)]),
            _ => None,
        },
        Expr::Like(a, pattern) => match &**a {
            Expr::Column(c) if table.columns.get(*c).is_some_and(|c| c.ty == Type::Text) => {
                Some(vec![(*c, Need::Within(Range::beginning(&pattern.prefix())?))])
            }
            _ => None,
        },
        Expr::In(a, list) => match &**a {
            Expr::Column(c) => {
                let value = |e: &Expr| match e {
                    Expr::Const(v) => Some((*c, Need::Value(v.clone()))),
                    _ => None,
                };
                list.iter().map(value).collect()
            }
            _ => None,
        },
        Expr::InValues(a, list) => match &**a {
            Expr::Column(c) => Some(list.as_slice().iter().map(|v| (*c, Need::Value(v.clone()))).collect()),
            _ => None,
        },
        Expr::Member { of, subquery, .. } => match of.first() {
            Some(Expr::Column(c)) => {
                let found = subquery_results.set(subquery).filter(|found| found.len() <= MAX_FOUND)?;
                Some(found.firsts().map(|v| (*c, Need::Value(v.clone()))).collect())
            }
            _ => None,
        },
        Expr::Computed(computed) => match &**computed {
            Computed::Function(function, args) if by == By::Index => of_arrays(*function, args),
            _ => None,
        },
        Expr::And(all) => all.iter().map(|e| needed(e, table, subquery_results, by)).fold(None, narrower),
        Expr::Or(each) => any(each.iter().map(|e| needed(e, table, subquery_results, by))),
        _ => None,
    }
}

/// What a condition on the elements of an array needs.
fn of_arrays(function: Function, args: &[Expr]) -> Option<Needs> {
    let need = |column: &usize, ty: Type, v: Value| (*column, Need::Element(ty, v));
    match (function, args) {
        (Function::ElementOf(ty), [Expr::Const(v), Expr::Column(c)]) => Some(vec![need(c, ty, v.clone())]),
        (Function::Contains(ty), [Expr::Column(c), Expr::Const(all)]) => {
            // Any of them will do: the row has all.
            Some(vec![need(c, ty, document::elements(ty, all)?.pop()?)])
        }
        (Function::Overlaps(ty), [Expr::Column(c), Expr::Const(any)] | [Expr::Const(any), Expr::Column(c)]) => {
            Some(document::elements(ty, any)?.into_iter().map(|v| need(c, ty, v)).collect())
        }
        _ => None,
    }
}

/// What a comparison with a value needs.
fn compared(column: usize, op: CmpOp, v: &Value) -> Option<Needs> {
    if v.is_null() {
        return Some(Vec::new());
    }
    let need = if op == CmpOp::Eq { Need::Value(v.clone()) } else { Need::Within(Range::compared(op, v)?) };
    Some(vec![(column, need)])
}

fn any(each: impl Iterator<Item = Option<Needs>>) -> Option<Needs> {
    each.collect::<Option<Vec<_>>>().map(|v| v.into_iter().flatten().collect())
}

/// What two conditions need that must both hold: those of one of them are enough.
fn narrower(a: Option<Needs>, b: Option<Needs>) -> Option<Needs> {
    match (a, b) {
        (Some(a), Some(b)) => {
            // Two bounds of one column are one, narrower.
            if let ([(c, Need::Within(x))], [(d, Need::Within(y))]) = (&a[..], &b[..])
                && c == d
            {
                return Some(vec![(*c, Need::Within(x.clone().within(y.clone())))]);
            }
            let weight = |needs: &Needs| needs.iter().map(|(_, need)| need.weight()).sum::<usize>();
            Some(if weight(&a) <= weight(&b) { a } else { b })
        }
        (a, b) => a.or(b),
    }
}
