//! What a rule lets somebody see.

use super::{Expr, Grant, Masks};
use crate::schema::ColumnSet;
use crate::value::Value;

impl Grant {
    /// All of these columns where a condition holds.
    pub fn of_rows(condition: Expr, columns: ColumnSet) -> Grant {
        Grant { condition, columns, masks: Masks::new() }
    }

    /// Whether it shows a column as it is.
    pub(crate) fn shows(&self, column: usize) -> bool {
        self.columns.contains(column) && !self.masks.iter().any(|(masked, _)| *masked == column)
    }

    /// Whether it never admits a row.
    pub(crate) fn is_void(&self) -> bool {
        self.condition.is_const(false) || self.condition == Expr::Const(Value::Null)
    }

    /// Whether it admits every row, unmasked.
    pub(crate) fn is_of_all_rows(&self) -> bool {
        self.condition.is_const(true) && self.masks.is_empty()
    }
}
