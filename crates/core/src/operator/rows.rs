//! What passes from one operator to the next.

use crate::plan::{RowDelta, VisibleRow};
use crate::query::Masked;
use crate::schema::Key;

/// A change of the rows below an operator, under a key.
pub type Below = (Key, RowDelta);

/// The row of an operator, for what is computed of it.
pub fn cells(row: &VisibleRow) -> Masked<'_> {
    Masked { row: &row.row, visible: &row.columns, subquery_results: &() }
}
