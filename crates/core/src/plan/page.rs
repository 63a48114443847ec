//! Which part of a table a window needs: so many of its first rows, as the database has them in order.
//!
//! A window is paged where the order of the rows means the same in every database: `ORDER BY` names columns that all who ask
//! see as they are, the key decides between rows that it leaves equal, and time changes nothing. Whatever the condition is, the
//! database may hand out rows that it does not hold on: they are tested again, and counted as read.

use std::sync::Arc;

use super::EffectivePlan;
use crate::query::Expr;
use crate::value::{Type, Value};

/// The first rows of a table behind a place, in an order.
#[derive(Clone, Debug, PartialEq)]
pub struct Page {
    /// The order; the columns of the key are the last.
    pub order: Arc<[PageTerm]>,
    /// The values of these columns behind which it begins; `None` for the first rows.
    pub after: Option<Vec<Value>>,
    /// The values of these columns with which it ends at the latest.
    pub until: Option<Vec<Value>>,
    /// Rows, at most; `None` for all.
    pub limit: Option<usize>,
}

/// A column in the order of a page.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PageTerm {
    /// The column.
    pub column: usize,
    /// Whether the largest is the first.
    pub descending: bool,
    /// Whether NULL is before everything else.
    pub nulls_first: bool,
}

/// Whether all databases have values of this type in the order that they have here. Text is in that of its bytes.
fn has_one_order(ty: Type) -> bool {
    use Type::{Date, Float4, Float8, Int2, Int4, Int8, Numeric, Text, Timestamp, Timestamptz, Uuid};
    matches!(ty, Int2 | Int4 | Int8 | Float4 | Float8 | Numeric | Text | Uuid | Date | Timestamp | Timestamptz)
}

/// The same for those of a key, which are compared as they are stored.
fn has_one_order_in_keys(ty: Type) -> bool {
    has_one_order(ty) && !matches!(ty, Type::Float4 | Type::Float8 | Type::Numeric)
}

impl EffectivePlan {
    /// The order in which a window's rows can be read page by page; `None` where it needs all of them.
    pub fn page_order(&self) -> Option<Arc<[PageTerm]>> {
        let table = self.table();
        let arrange = self.arrange.as_ref().filter(|_| self.is_window() && self.is_ordered())?;
        let in_database = !table.name.is_system() && !table.is_topic() && !table.key.is_empty();
        if !in_database || !self.scan.open_key() || self.depends_on_time || self.joins.is_some() {
            return None;
        }
        let ty = |column: usize| table.columns.get(column).map(|c| c.ty);
        let term = |term: &super::SortTerm| match &term.value {
            Expr::Column(column) if self.scan.is_open(*column) && ty(*column).is_some_and(has_one_order) => {
                Some(PageTerm { column: *column, descending: term.descending, nulls_first: term.nulls_first })
            }
            _ => None,
        };
        let key = |column: &usize| {
            let term = PageTerm { column: *column, descending: false, nulls_first: false };
            ty(*column).is_some_and(has_one_order_in_keys).then_some(term)
        };
        arrange.order.iter().map(term).chain(table.key.iter().map(key)).collect()
    }
}
