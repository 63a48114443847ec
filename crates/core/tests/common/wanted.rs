//! Which rows a database hands out of those that are asked for.

use std::cmp::Ordering;

use gossip_core::plan::{RowFilter, Wanted};
use gossip_core::schema::Row;
use gossip_core::value::Value;

/// Whether a row is one of those. A bound is compared as the database does it.
pub fn is_wanted(filter: &RowFilter, row: &Row) -> bool {
    filter.wanted().iter().any(|(column, wanted)| {
        let value = &row[*column];
        let lies = |end: &Option<Value>, beyond: Ordering| {
            end.as_ref().is_none_or(|end| value.sql_cmp(end).is_some_and(|order| order != beyond))
        };
        match wanted {
            Wanted::Any(values) => values.iter().any(|v| v.sql_cmp(value) == Some(Ordering::Equal)),
            Wanted::Within { low, high, prefix } => {
                let begins = |prefix: &str| matches!(value, Value::Text(text) if text.starts_with(prefix));
                let is_between = lies(low, Ordering::Less) && lies(high, Ordering::Greater);
                is_between && prefix.as_ref().is_none_or(|prefix| begins(prefix))
            }
            Wanted::Null => value.is_null(),
        }
    })
}
