//! Which rows of a table a snapshot has to read, as a database can be asked for them.
//!
//! It may find too many rows and never too few: they are all tested again. So a condition is asked for only where a database
//! compares these values as it is done here.

use std::sync::Arc;

use super::access::{self, By, Need, Needs};
use super::{EffectivePlan, Range};
use crate::bounds::Coarse;
use crate::schema::Table;
use crate::subquery::SubqueryResults;
use crate::value::{Type, Value};

/// What a row must have in a column.
#[derive(Clone, Debug, PartialEq)]
pub enum Wanted {
    /// One of these values, none of which is `NULL`.
    Any(Vec<Value>),
    /// A value between these two, both included, where there are such. Texts are in the order of their bytes.
    Within {
        /// The least.
        low: Option<Value>,
        /// The greatest.
        high: Option<Value>,
        /// With what it begins, if it is a text and that is known.
        prefix: Option<Arc<str>>,
    },
    /// `NULL`.
    Null,
}

/// Rows wanted from a snapshot: those of which any of these columns has what is said. Others may be returned too.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RowFilter(Arc<[(usize, Wanted)]>);

impl RowFilter {
    /// Rows in which any of these columns has one of its values; `None` for all rows, if a database cannot be asked for these.
    pub fn of_values(table: &Table, values: impl IntoIterator<Item = (usize, Vec<Value>)>) -> Option<RowFilter> {
        let wanted = values.into_iter().map(|(column, values)| Some((column, any(table, column, values)?)));
        Some(RowFilter(wanted.collect::<Option<_>>()?))
    }

    /// The columns, of which one must have what is said. Without any, no row is wanted.
    pub fn wanted(&self) -> &[(usize, Wanted)] {
        &self.0
    }
}

fn any(table: &Table, column: usize, values: Vec<Value>) -> Option<Wanted> {
    let ty = table.columns.get(column)?.ty;
    let known = values.iter().filter(|v| !v.is_null()).map(|v| comparable(v, ty));
    Some(Wanted::Any(known.collect::<Option<_>>()?))
}

/// A value as a database compares a column with it, if it does so as it is done here. The column's values are rounded as those
/// of floating point are, so that what lies strictly beyond a value may be equal to it, and never the other way around.
fn comparable(v: &Value, ty: Type) -> Option<Value> {
    match (ty, v) {
        (Type::Int2 | Type::Int4 | Type::Int8, Value::Int(_))
        | (Type::Numeric, Value::Int(_) | Value::Numeric(_))
        | (Type::Text | Type::Uuid, Value::Text(_))
        | (Type::Date | Type::Timestamp, Value::Date(_) | Value::Timestamp(_))
        | (Type::Timestamptz, Value::Timestamptz(_)) => Some(v.clone()),
        (Type::Float4 | Type::Float8, _) => match Coarse::of(v)? {
            Coarse::Number(x) => Some(Value::Float(x)),
            _ => None,
        },
        _ => None,
    }
}

/// The same of a range; `None` if nothing is left of it.
fn within(range: &Range, ty: Type) -> Option<Wanted> {
    let [low, high] = range.ends().map(|end| end.and_then(|v| comparable(v, ty)));
    let prefix = range.prefix().filter(|_| ty == Type::Text).cloned();
    (low.is_some() || high.is_some()).then_some(Wanted::Within { low, high, prefix })
}

/// The rows that can be in the result of a plan; `None` for all.
pub(super) fn row_filter(plan: &EffectivePlan, subquery_results: &dyn SubqueryResults) -> Option<RowFilter> {
    of_needs(plan.table(), access::needs(plan, subquery_results, By::Database)?)
}

/// The rows that have what is needed; `None` for all, if a database cannot be asked for these.
pub(super) fn of_needs(table: &Table, needs: Needs) -> Option<RowFilter> {
    let mut values: Vec<(usize, Value)> = Vec::new();
    let mut others = Vec::new();
    for (column, need) in needs {
        match need {
            Need::Value(v) => values.push((column, v)),
            Need::Within(range) => others.push((column, within(&range, table.columns.get(column)?.ty)?)),
            Need::Null => others.push((column, Wanted::Null)),
            Need::Element(..) => return None,
        }
    }
    values.sort();
    values.dedup();
    let each = values.chunk_by(|(a, _), (b, _)| a == b);
    let each = each.filter_map(|of| Some((of.first()?.0, of.iter().map(|(_, v)| v.clone()).collect::<Vec<_>>())));
    let RowFilter(equal) = RowFilter::of_values(table, each)?;
    Some(RowFilter(equal.iter().cloned().chain(others).collect()))
}
