//! Masks: what a rule shows instead of a column's value: an expression on the row, of the column's type.
//!
//! A masked column has the mask's value wherever the client's query names it, also in conditions, so that a query
//! cannot probe the hidden value.

use serde_json::{Map, Value as Json};

pub use crate::query::expr::Mask;
use crate::query::{Beside, Expr, Placeholder, PlaceholderError};
use crate::schema::ColumnSet;
use crate::value::Value;

impl Mask {
    /// A mask of an expression that asks no other table.
    pub(crate) fn new(expr: Expr) -> Mask {
        Mask(expr)
    }

    /// The mask for a client with these claims.
    ///
    /// # Errors
    /// It names a claim that the client lacks.
    pub fn bind(&self, claims: &Map<String, Json>) -> Result<Mask, PlaceholderError> {
        Ok(Mask(self.0.bind(Placeholder::Claim, claims)?.canonicalize()))
    }

    /// The value for a row.
    pub fn value(&self, row: &[Value]) -> Value {
        // What cannot be said is not shown.
        self.0.value(&Beside { row, subquery_results: &() }).map_or(Value::Null, |v| v.into_owned())
    }

    /// Adds the columns that it reads.
    pub fn reads(&self, columns: &mut ColumnSet) {
        self.0.for_each_column(&mut |i| columns.insert(i));
    }

    /// Calls `look` for every claim that it names.
    pub fn for_each_claim(&self, look: &mut impl FnMut(&str)) {
        self.0.for_each_claim(look);
    }
}
