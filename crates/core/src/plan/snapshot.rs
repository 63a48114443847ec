//! What a plan has to read from its source to start.

use std::sync::Arc;

use super::EffectivePlan;
use super::page::Page;
use super::row_filter::{self, RowFilter};
use crate::schema::{ColumnSet, Table};
use crate::subquery::SubqueryResults;

/// A consistent read of a source.
#[derive(Clone, Debug, PartialEq)]
pub struct SnapshotRequest {
    /// The table.
    pub table: Arc<Table>,
    /// Columns that are needed. Rows keep the table's shape; other columns may be NULL.
    pub columns: ColumnSet,
    /// Rows that are needed; `None` for all.
    pub filter: Option<RowFilter>,
    /// The part that is needed of these; `None` for all.
    pub page: Option<Page>,
}

impl SnapshotRequest {
    /// A whole table.
    pub fn whole(table: &Arc<Table>) -> SnapshotRequest {
        SnapshotRequest { table: table.clone(), columns: table.all_columns(), filter: None, page: None }
    }
}

impl EffectivePlan {
    /// The read this plan needs, given the results of its rules' sub-selects.
    pub fn snapshot(&self, subquery_results: &dyn SubqueryResults) -> SnapshotRequest {
        self.snapshot_of(row_filter::row_filter(self, subquery_results))
    }

    /// In words: which rows are read to begin with.
    pub fn reads(&self, subquery_results: &dyn SubqueryResults) -> String {
        let table = self.table();
        let name = |column: usize| table.columns.get(column).map_or("", |c| &*c.name);
        let rows = match row_filter::row_filter(self, subquery_results) {
            None => "all rows".to_string(),
            Some(filter) if filter.wanted().is_empty() => "no rows".into(),
            Some(filter) => {
                let columns: Vec<&str> = filter.wanted().iter().map(|(column, _)| name(*column)).collect();
                format!("rows by {}", columns.join(", "))
            }
        };
        if self.page_order().is_some() { format!("{rows}, page by page in order") } else { rows }
    }

    /// The same, restricted to some rows.
    pub fn snapshot_of(&self, filter: Option<RowFilter>) -> SnapshotRequest {
        let table = self.table().clone();
        let mut columns = self.read();
        table.key.iter().for_each(|i| columns.insert(*i));
        // Compared to detect that a row shows less than before.
        columns.union_with(&self.scan.maskable());
        SnapshotRequest { table, columns, filter, page: None }
    }
}
