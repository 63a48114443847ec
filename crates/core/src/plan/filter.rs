//! Keeping the rows on which the client's condition holds.

use super::Admitted;
use crate::canonical::{Canonical, Encoder};
use crate::query::function::EvalError;
use crate::query::{Expr, Masked};
use crate::subquery::SubqueryResults;

/// The client's condition, evaluated on what the scan admits: a withheld column is NULL.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Filter(Expr);

impl Filter {
    /// Canonicalizes the condition.
    pub fn new(condition: Expr) -> Filter {
        Filter(condition.canonicalize())
    }

    /// The condition.
    pub fn condition(&self) -> &Expr {
        &self.0
    }

    /// Whether every row passes.
    pub fn passes_all(&self) -> bool {
        self.0.is_const(true)
    }

    /// Whether it compares something with `NOW()`.
    pub fn depends_on_time(&self) -> bool {
        let mut found = false;
        self.0.for_each_moment(&mut |_, _| found = true);
        found
    }

    /// Whether a row passes: the condition is true on it, neither false nor unknown.
    ///
    /// # Errors
    /// The condition has no value on this row.
    pub fn passes(&self, admitted: &Admitted<'_>, subquery_results: &dyn SubqueryResults) -> Result<bool, EvalError> {
        self.0.holds(&Masked { row: &admitted.row, visible: &admitted.columns, subquery_results })
    }
}

impl Canonical for Filter {
    fn encode(&self, to: &mut Encoder) {
        self.0.encode(to);
    }
}
