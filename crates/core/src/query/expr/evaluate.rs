//! Evaluates expressions, conditions by SQL's three-valued logic. An error is a value like any other: it counts only
//! where it decides.

use std::borrow::Cow;
use std::cmp::Ordering;

use super::{CmpOp, Computed, Expr};
use crate::position::Timestamp;
use crate::query::function::EvalError;
use crate::schema::ColumnSet;
use crate::subquery::SubqueryResults;
use crate::value::{NULL, Value};

/// The columns of a row as an expression sees them.
pub trait Cells {
    /// The value of column `i`; `NULL` if it is hidden.
    fn cell(&self, i: usize) -> &Value;

    /// The results of sub-selects, where they are known.
    fn subquery_results(&self) -> &dyn SubqueryResults {
        &()
    }

    /// What `NOW()` is, in microseconds since 2000; only where a condition may name it.
    fn now(&self) -> Timestamp {
        0
    }
}

impl Cells for [Value] {
    fn cell(&self, i: usize) -> &Value {
        &self[i]
    }
}

/// A row with only some columns visible; the others behave as `NULL`.
pub struct Masked<'a> {
    /// The whole row, masks applied.
    pub row: &'a [Value],
    /// The visible columns.
    pub visible: &'a ColumnSet,
    /// The results of sub-selects, and what `NOW()` is.
    pub subquery_results: &'a dyn SubqueryResults,
}

impl Cells for Masked<'_> {
    fn cell(&self, i: usize) -> &Value {
        if self.visible.contains(i) { &self.row[i] } else { &NULL }
    }

    fn subquery_results(&self) -> &dyn SubqueryResults {
        self.subquery_results
    }

    fn now(&self) -> Timestamp {
        self.subquery_results.now()
    }
}

/// A whole row, with the results of sub-selects.
pub struct Beside<'a> {
    /// The row.
    pub row: &'a [Value],
    /// The results of sub-selects.
    pub subquery_results: &'a dyn SubqueryResults,
}

impl Cells for Beside<'_> {
    fn cell(&self, i: usize) -> &Value {
        &self.row[i]
    }

    fn subquery_results(&self) -> &dyn SubqueryResults {
        self.subquery_results
    }

    fn now(&self) -> Timestamp {
        self.subquery_results.now()
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

/// The truth value of a condition: `None` is SQL's unknown.
pub type Truth = Result<Option<bool>, EvalError>;

impl Expr {
    /// The condition's truth value on a row.
    ///
    /// # Errors
    /// A part that decides about it has no value: `false AND` an error is false, and `true OR` an error is true, in any
    /// order.
    pub fn truth<C: Cells + ?Sized>(&self, row: &C) -> Truth {
        match self {
            Expr::Cmp(op, a, b) => match (a.leaf(row), b.leaf(row)) {
                (Some(a), Some(b)) => Ok(a.sql_cmp(b).map(|o| op.holds(o))),
                _ => Ok(a.value(row)?.sql_cmp(&*b.value(row)?).map(|o| op.holds(o))),
            },
            Expr::And(all) => {
                let mut result = Ok(Some(true));
                for e in all {
                    match e.truth(row) {
                        Ok(Some(true)) => {}
                        Ok(Some(false)) => return Ok(Some(false)),
                        other => result = result.and(other),
                    }
                }
                result
            }
            Expr::Or(any) => {
                let mut result = Ok(Some(false));
                for e in any {
                    match e.truth(row) {
                        Ok(Some(false)) => {}
                        Ok(Some(true)) => return Ok(Some(true)),
                        other => result = result.and(other),
                    }
                }
                result
            }
            Expr::Not(e) => Ok(e.truth(row)?.map(|b| !b)),
            Expr::IsNull(e) => Ok(Some(e.value(row)?.is_null())),
            Expr::In(e, list) => {
                let value = e.value(row)?;
                let mut result = Ok(Some(false));
                for candidate in list {
                    match candidate.value(row).map(|c| value.sql_cmp(&c)) {
                        Ok(Some(Ordering::Equal)) => return Ok(Some(true)),
                        Ok(None) => result = result.map(|_| None),
                        Ok(Some(_)) => {}
                        Err(e) => result = result.and(Err(e)),
                    }
                }
                result
            }
            Expr::InValues(e, list) => Ok(list.has(&*e.value(row)?)),
            Expr::Like(e, pattern) => match &*e.value(row)? {
                Value::Text(s) => Ok(Some(pattern.matches(s))),
                _ => Ok(None),
            },
            Expr::Member { of, subquery, exists } => {
                let Some(found) = row.subquery_results().set(subquery) else { return Ok(None) };
                let of = of.iter().map(|e| e.value(row).map(Cow::into_owned)).collect::<Result<Vec<Value>, _>>()?;
                Ok(if *exists { Some(found.has(&of) == Some(true)) } else { found.has(&of) })
            }
            // Unbound placeholders are unknown.
            Expr::LikePlaceholder { .. } | Expr::Placeholder(..) | Expr::AnyOf(..) | Expr::Outer(_) => Ok(None),
            Expr::Const(v) => Ok(as_truth(v)),
            Expr::Column(i) => Ok(as_truth(row.cell(*i))),
            Expr::Computed(computed) => computed.value(row).map(|v| as_truth(&v)),
        }
    }

    /// Whether the condition is true on a row: neither false nor unknown.
    ///
    /// # Errors
    /// As [`Expr::truth`].
    pub fn holds<C: Cells + ?Sized>(&self, row: &C) -> Result<bool, EvalError> {
        self.truth(row).map(|truth| truth == Some(true))
    }

    /// Its value on a row.
    ///
    /// # Errors
    /// It has none.
    pub fn value<'a, C: Cells + ?Sized>(&'a self, row: &'a C) -> Result<Cow<'a, Value>, EvalError> {
        match (self.leaf(row), self) {
            (Some(v), _) => Ok(Cow::Borrowed(v)),
            (None, Expr::Computed(computed)) => computed.value(row),
            (None, _) => self.truth(row).map(|truth| Cow::Owned(truth.map_or(Value::Null, Value::Bool))),
        }
    }

    fn leaf<'a, C: Cells + ?Sized>(&'a self, row: &'a C) -> Option<&'a Value> {
        match self {
            Expr::Const(v) => Some(v),
            Expr::Column(i) => Some(row.cell(*i)),
            _ => None,
        }
    }
}

impl Computed {
    fn value<'a, C: Cells + ?Sized>(&'a self, row: &'a C) -> Result<Cow<'a, Value>, EvalError> {
        match self {
            Computed::Function(function, of) => {
                let mut args = Vec::with_capacity(of.len());
                for e in of {
                    args.push(e.value(row)?.into_owned());
                }
                function.value(&args).map(Cow::Owned)
            }
            Computed::Case { arms, otherwise } => {
                for (condition, value) in arms {
                    if condition.holds(row)? {
                        return value.value(row);
                    }
                }
                otherwise.value(row)
            }
            Computed::Coalesce(of) => {
                for e in of {
                    let value = e.value(row)?;
                    if !value.is_null() {
                        return Ok(value);
                    }
                }
                Ok(Cow::Owned(Value::Null))
            }
            Computed::Extreme { greatest, of } => {
                let mut found: Option<Cow<'a, Value>> = None;
                let wanted = if *greatest { Ordering::Greater } else { Ordering::Less };
                for e in of {
                    let value = e.value(row)?;
                    let better = found.as_ref().is_none_or(|f| value.sql_cmp(f) == Some(wanted));
                    if !value.is_null() && better {
                        found = Some(value);
                    }
                }
                Ok(found.unwrap_or(Cow::Owned(Value::Null)))
            }
            Computed::Distinct(a, b) => {
                let (a, b) = (a.value(row)?, b.value(row)?);
                let same = match (a.is_null(), b.is_null()) {
                    (false, false) => a.sql_cmp(&b) == Some(Ordering::Equal),
                    (a, b) => a == b,
                };
                Ok(Cow::Owned(Value::Bool(!same)))
            }
            Computed::Now(offset) => Ok(Cow::Owned(Value::Timestamptz(row.now().saturating_add(*offset)))),
        }
    }
}

pub(super) fn as_truth(v: &Value) -> Option<bool> {
    match v {
        Value::Bool(b) => Some(*b),
        _ => None,
    }
}
