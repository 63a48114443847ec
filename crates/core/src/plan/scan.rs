//! Reading a table under the rules.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;

use crate::canonical::{Canonical, Encoder};
use crate::query::expr::Grant;
use crate::query::{Beside, Expr, Subquery};
use crate::schema::{ColumnSet, Row, Table};
use crate::subquery::{SubqueryResults, subqueries_of};
use crate::value::Value;

/// A table under the rules: the rows they admit, the visible columns of each, and masks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Scan {
    table: Arc<Table>,
    grants: Box<[Grant]>,
    description: u64,
    open_key: bool,
    depends_on_time: bool,
}

/// A row as the reader of a plan sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VisibleRow {
    /// The whole row, masks applied.
    pub row: Row,
    /// The columns of it that may be shown, and whose values are known.
    pub columns: ColumnSet,
}

impl VisibleRow {
    /// Fills columns that are missing here from an earlier version of the row.
    pub fn fill_missing_from(&mut self, earlier: &VisibleRow) {
        let mut missing = earlier.columns.clone();
        missing.remove_all(&self.columns);
        if missing.is_empty() {
            return;
        }
        let value = |i: usize| if missing.contains(i) { &earlier.row[i] } else { &self.row[i] };
        self.row = (0..self.row.len()).map(|i| value(i).clone()).collect();
        self.columns.union_with(&missing);
    }
}

/// A row that the rules admit. Borrowed where possible: most admitted rows turn out to be outside the query.
#[derive(Clone, Debug, PartialEq)]
pub struct Admitted<'a> {
    /// The row, masks applied.
    pub row: Cow<'a, Row>,
    /// The columns of it that may be seen.
    pub columns: Cow<'a, ColumnSet>,
}

impl Admitted<'_> {
    /// The owned row.
    pub fn into_visible(self) -> VisibleRow {
        VisibleRow { row: self.row.into_owned(), columns: self.columns.into_owned() }
    }
}

impl Scan {
    /// A table under these grants. Rows that no grant admits do not exist for the plan.
    pub fn new(table: Arc<Table>, grants: Vec<Grant>) -> Scan {
        let mut merged: Vec<Grant> = Vec::with_capacity(grants.len());
        for grant in grants {
            match merged.iter_mut().find(|g| g.columns == grant.columns && g.masks == grant.masks) {
                Some(g) => {
                    let before = std::mem::replace(&mut g.condition, Expr::always());
                    g.condition = Expr::Or(vec![before, grant.condition]);
                }
                None => merged.push(grant),
            }
        }
        for g in &mut merged {
            g.condition = std::mem::replace(&mut g.condition, Expr::always()).canonicalize();
        }
        // Drop grants that never hold, and those covered by an unmasked grant of all rows.
        merged.retain(|g| !g.is_void());
        let all: Vec<ColumnSet> = merged.iter().filter(|g| g.is_of_all_rows()).map(|g| g.columns.clone()).collect();
        merged.retain(|g| !all.iter().any(|a| a.covers(&g.columns) && (*a != g.columns || !g.is_of_all_rows())));
        merged.sort();
        let open_key = merged.iter().all(|g| table.key.iter().all(|&i| g.shows(i)));
        let mut depends_on_time = false;
        merged.iter().for_each(|g| g.condition.for_each_moment(&mut |_, _| depends_on_time = true));
        Scan { description: table.identity(), table, grants: merged.into(), open_key, depends_on_time }
    }

    /// The table.
    pub fn table(&self) -> &Arc<Table> {
        &self.table
    }

    /// The grants, in canonical order.
    pub fn grants(&self) -> &[Grant] {
        &self.grants
    }

    /// The identity of the table's description: rows of changes with another one have another shape.
    pub fn description(&self) -> u64 {
        self.description
    }

    /// Whether the key columns are visible wherever a row is.
    pub fn open_key(&self) -> bool {
        self.open_key
    }

    /// Whether what it admits changes as time passes; not by what the rules ask of other tables.
    pub fn depends_on_time(&self) -> bool {
        self.depends_on_time
    }

    /// Whether a column is visible and unmasked on every admitted row.
    pub fn is_open(&self, column: usize) -> bool {
        self.grants.iter().all(|g| g.shows(column))
    }

    /// Columns that are visible on at least some rows.
    pub fn granted(&self) -> ColumnSet {
        let mut all = ColumnSet::default();
        self.grants.iter().for_each(|g| all.union_with(&g.columns));
        all
    }

    /// Columns that are masked on some rows: they can show less than before without being hidden.
    pub fn maskable(&self) -> ColumnSet {
        self.grants.iter().flat_map(|g| &g.masks).map(|(column, _)| *column).collect()
    }

    /// The rules' sub-selects, each once, and whether only additions to its result can admit more rows.
    pub fn subqueries(&self) -> BTreeMap<Arc<Subquery>, bool> {
        subqueries_of(self.conditions())
    }

    /// The conditions of its grants.
    pub fn conditions(&self) -> impl Iterator<Item = &Expr> {
        self.grants.iter().map(|g| &g.condition)
    }

    /// Calls `look` for every column that decides what is admitted or shown, with repetition.
    pub(super) fn for_each_column(&self, look: &mut dyn FnMut(usize)) {
        self.grants.iter().for_each(|g| g.condition.for_each_column(&mut |i| look(i)));
        let mut shown = ColumnSet::default();
        self.grants.iter().flat_map(|g| &g.masks).for_each(|(_, m)| m.reads(&mut shown));
        shown.iter().for_each(look);
    }

    /// Whether any of these columns decides what is admitted, or is shown masked.
    pub(crate) fn decides_by_any_of(&self, columns: &ColumnSet) -> bool {
        let mut found = self.maskable().iter().any(|i| columns.contains(i));
        self.for_each_column(&mut |i| found |= columns.contains(i));
        found
    }

    /// The columns visible on this row, masked or not; `None` if the row is withheld.
    pub fn admitted(&self, row: &[Value], subquery_results: &dyn SubqueryResults) -> Option<Cow<'_, ColumnSet>> {
        let beside = Beside { row, subquery_results };
        let mut found: Option<Cow<'_, ColumnSet>> = None;
        for g in &self.grants {
            let known = found.as_ref().is_some_and(|f| f.covers(&g.columns));
            if known || g.condition.holds(&beside) != Ok(true) {
                continue;
            }
            match &mut found {
                None => found = Some(Cow::Borrowed(&g.columns)),
                Some(f) => f.to_mut().union_with(&g.columns),
            }
        }
        found
    }

    /// Whether less may be seen of a row than before, when these columns of it were visible; all that are granted, if that is
    /// not known. Where something is masked now, it may have been shown.
    pub fn shows_less(&self, before: Option<&ColumnSet>, row: &Row, subquery_results: &dyn SubqueryResults) -> bool {
        let Some(now) = self.admit(row, subquery_results) else { return true };
        let hides = match before {
            Some(before) => !now.columns.covers(before),
            None => !now.columns.covers(&self.granted()),
        };
        hides || self.maskable().iter().any(|i| now.row[i] != row[i])
    }

    /// The row under the rules; `None` if it is withheld.
    pub fn admit<'a>(&'a self, row: &'a Row, subquery_results: &dyn SubqueryResults) -> Option<Admitted<'a>> {
        let columns = self.admitted(row, subquery_results)?;
        Some(Admitted { row: self.mask(row, subquery_results), columns })
    }

    /// The row with the masks of the grants that admit it. A column that any of them shows unmasked is not masked; if
    /// several mask it differently, one mask is used, always the same.
    fn mask<'a>(&self, row: &'a Row, subquery_results: &dyn SubqueryResults) -> Cow<'a, Row> {
        if self.grants.iter().all(|g| g.masks.is_empty()) {
            return Cow::Borrowed(row);
        }
        let beside = Beside { row, subquery_results };
        let admitting: Vec<&Grant> = self.grants.iter().filter(|g| g.condition.holds(&beside) == Ok(true)).collect();
        let mut masked = row.to_vec();
        let mut done = ColumnSet::default();
        for (column, mask) in admitting.iter().flat_map(|g| &g.masks) {
            if !done.contains(*column) && !admitting.iter().any(|g| g.shows(*column)) {
                masked[*column] = mask.value(row);
                done.insert(*column);
            }
        }
        Cow::Owned(masked.into())
    }
}

impl Canonical for Scan {
    fn encode(&self, to: &mut Encoder) {
        self.table.encode(to);
        to.list(&self.grants);
    }
}
