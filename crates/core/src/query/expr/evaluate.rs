//! What a condition says of a row, by SQL's three-valued logic. It cannot fail: whatever could go wrong is refused when a
//! condition is parsed or its parameters are bound.

use std::cmp::Ordering;

use super::{CmpOp, Expr};
use crate::schema::ColumnSet;
use crate::subquery::SubqueryResults;
use crate::value::{NULL, Value};

/// The columns of a row as an expression sees them.
pub trait Cells {
    /// The value of column `i`; `NULL` if it is hidden.
    fn cell(&self, i: usize) -> &Value;

    /// What another table holds is asked for, where that is known.
    fn subquery_results(&self) -> &dyn SubqueryResults {
        &()
    }
}

impl Cells for [Value] {
    fn cell(&self, i: usize) -> &Value {
        &self[i]
    }
}

/// A row of which only some columns may be seen; the others behave as `NULL`.
pub struct Masked<'a> {
    /// The whole row, masks applied.
    pub row: &'a [Value],
    /// The columns that may be seen.
    pub visible: &'a ColumnSet,
}

impl Cells for Masked<'_> {
    fn cell(&self, i: usize) -> &Value {
        if self.visible.contains(i) { &self.row[i] } else { &NULL }
    }
}

/// A whole row, in front of what other tables hold.
pub struct Beside<'a> {
    /// The row.
    pub row: &'a [Value],
    /// What other tables hold.
    pub subquery_results: &'a dyn SubqueryResults,
}

impl Cells for Beside<'_> {
    fn cell(&self, i: usize) -> &Value {
        &self.row[i]
    }

    fn subquery_results(&self) -> &dyn SubqueryResults {
        self.subquery_results
    }
}

impl CmpOp {
    fn holds(self, ordering: Ordering) -> bool {
        match self {
            CmpOp::Eq => ordering.is_eq(),
            CmpOp::Ne => ordering.is_ne(),
            CmpOp::Lt => ordering.is_lt(),
            CmpOp::Le => ordering.is_le(),
            CmpOp::Gt => ordering.is_gt(),
            CmpOp::Ge => ordering.is_ge(),
        }
    }
}

impl Expr {
    /// What the condition says of a row: `None` is SQL's unknown.
    pub fn truth<C: Cells + ?Sized>(&self, row: &C) -> Option<bool> {
        match self {
            Expr::Cmp(op, a, b) => match (a.leaf(row), b.leaf(row)) {
                (Some(a), Some(b)) => a.sql_cmp(b).map(|o| op.holds(o)),
                _ => a.scalar(row).sql_cmp(&b.scalar(row)).map(|o| op.holds(o)),
            },
            Expr::And(all) => {
                let mut result = Some(true);
                for e in all {
                    match e.truth(row) {
                        Some(false) => return Some(false),
                        None => result = None,
                        Some(true) => {}
                    }
                }
                result
            }
            Expr::Or(any) => {
                let mut result = Some(false);
                for e in any {
                    match e.truth(row) {
                        Some(true) => return Some(true),
                        None => result = None,
                        Some(false) => {}
                    }
                }
                result
            }
            Expr::Not(e) => e.truth(row).map(|b| !b),
            Expr::IsNull(e) => Some(e.scalar(row).is_null()),
            Expr::In(e, list) => {
                let value = e.scalar(row);
                let mut result = Some(false);
                for candidate in list {
                    match value.sql_cmp(&candidate.scalar(row)) {
                        Some(Ordering::Equal) => return Some(true),
                        None => result = None,
                        Some(_) => {}
                    }
                }
                result
            }
            Expr::InValues(e, list) => match e.leaf(row) {
                Some(value) => list.has(value),
                None => list.has(&e.scalar(row)),
            },
            Expr::Like(e, pattern) => match e.scalar(row) {
                Value::Text(s) => Some(pattern.matches(&s)),
                _ => None,
            },
            Expr::Member { of, subquery, exists } => {
                let found = row.subquery_results().set(subquery)?;
                let of: Vec<Value> = of.iter().map(|e| e.scalar(row)).collect();
                if *exists { Some(found.has(&of) == Some(true)) } else { found.has(&of) }
            }
            // What is not filled in says nothing.
            Expr::LikePlaceholder(..) | Expr::Placeholder(..) | Expr::AnyOf(..) | Expr::Outer(_) | Expr::TextOf(_) => {
                None
            }
            Expr::Const(v) => as_truth(v),
            Expr::Column(i) => as_truth(row.cell(*i)),
        }
    }

    fn leaf<'a, C: Cells + ?Sized>(&'a self, row: &'a C) -> Option<&'a Value> {
        match self {
            Expr::Const(v) => Some(v),
            Expr::Column(i) => Some(row.cell(*i)),
            _ => None,
        }
    }

    fn scalar<C: Cells + ?Sized>(&self, row: &C) -> Value {
        match (self.leaf(row), self) {
            (Some(v), _) => v.clone(),
            (None, Expr::TextOf(e)) => match e.scalar(row) {
                v @ (Value::Int(_) | Value::Bool(_)) => Value::from(v.to_string()),
                v @ Value::Text(_) => v,
                _ => Value::Null,
            },
            (None, _) => self.truth(row).map_or(Value::Null, Value::Bool),
        }
    }
}

pub(super) fn as_truth(v: &Value) -> Option<bool> {
    match v {
        Value::Bool(b) => Some(*b),
        _ => None,
    }
}
