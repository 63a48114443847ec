//! What is remembered of a group's rows for one aggregate, so that a row can be taken back.

use std::collections::BTreeMap;

use super::sql_order::{Exact, Sql};
use super::sum::Sum;
use crate::plan::{Aggregate, AggregateFunction};
use crate::query::function::EvalError;
use crate::value::Value;

/// Approximate bytes of an accumulator, and of a value that it remembers; what is long about it is shared with its row.
const OF_ONE: usize = 160;
const OF_A_VALUE: usize = 80;

/// The state of one aggregate over the rows of one group.
#[derive(Debug)]
pub enum Accumulator {
    /// How many values there are.
    Count(i64),
    /// How often each value is there.
    Distinct(BTreeMap<Sql, usize>),
    /// The sum.
    Sum(Box<Sum>),
    /// How often each value is there; of those equal in SQL, always the same one is shown.
    Extreme(BTreeMap<Exact, usize>),
    /// How many values are false, and true.
    Truth([i64; 2]),
}

impl Accumulator {
    /// The state without a row.
    pub fn new(aggregate: &Aggregate) -> Accumulator {
        match aggregate.function {
            AggregateFunction::Count if aggregate.distinct => Accumulator::Distinct(BTreeMap::new()),
            AggregateFunction::Count => Accumulator::Count(0),
            AggregateFunction::Sum | AggregateFunction::Avg => Accumulator::Sum(Box::default()),
            AggregateFunction::Min | AggregateFunction::Max => Accumulator::Extreme(BTreeMap::new()),
            AggregateFunction::And | AggregateFunction::Or => Accumulator::Truth([0; 2]),
        }
    }

    /// Adds a value, or takes one back. NULL counts for nothing.
    pub fn take(&mut self, value: Value, adds: bool) {
        let by = if adds { 1 } else { -1 };
        match (self, value) {
            (_, Value::Null) => {}
            (Accumulator::Count(count), _) => *count += by,
            (Accumulator::Distinct(values), value) => count(values, Sql(value), adds),
            (Accumulator::Extreme(values), value) => count(values, Exact(value), adds),
            (Accumulator::Sum(sum), value) => sum.add(&value, by),
            (Accumulator::Truth(counts), Value::Bool(b)) => counts[usize::from(b)] += by,
            (Accumulator::Truth(_), _) => {}
        }
    }

    /// The aggregate's value.
    ///
    /// # Errors
    /// Its type cannot hold it.
    pub fn value(&self, aggregate: &Aggregate) -> Result<Value, EvalError> {
        Ok(match (self, aggregate.function) {
            (Accumulator::Count(count), _) => Value::Int(*count),
            (Accumulator::Distinct(values), _) => Value::Int(values.len() as i64),
            (Accumulator::Sum(sum), AggregateFunction::Avg) => sum.average(aggregate.ty())?,
            (Accumulator::Sum(sum), _) => sum.value(aggregate.ty())?,
            (Accumulator::Extreme(values), function) => {
                let largest = function == AggregateFunction::Max;
                let found = if largest { values.last_key_value() } else { values.first_key_value() };
                found.map_or(Value::Null, |(value, _)| value.0.clone())
            }
            (Accumulator::Truth([0, 0]), _) => Value::Null,
            (Accumulator::Truth([no, _]), AggregateFunction::And) => Value::Bool(*no == 0),
            (Accumulator::Truth([_, yes]), _) => Value::Bool(*yes > 0),
        })
    }

    /// Approximate bytes.
    pub fn size(&self) -> usize {
        OF_ONE
            + OF_A_VALUE
                * match self {
                    Accumulator::Distinct(values) => values.len(),
                    Accumulator::Extreme(values) => values.len(),
                    _ => 0,
                }
    }
}

/// Counts one more of a value, or one less.
fn count<T: Ord>(values: &mut BTreeMap<T, usize>, value: T, adds: bool) {
    if adds {
        *values.entry(value).or_default() += 1;
    } else if let Some(left) = values.get_mut(&value) {
        *left -= 1;
        if *left == 0 {
            values.remove(&value);
        }
    }
}
