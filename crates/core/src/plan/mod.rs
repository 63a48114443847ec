//! What a live query does with the rows of its table: operators, one file each.
//!
//! ```text
//! row ──► scan ──► [ join ] ──► filter ──► [ group ──► first ──► order ] ──► project ──► feed
//!         rules      partners    condition    of all rows together            columns
//! ```
//!
//! The [`Scan`] is a barrier: everything above it sees only rows and columns that the rules admit, with masks applied. The
//! [`Filter`] keeps rows on which the client's condition holds; the [`Project`] defines the result's columns, and nothing
//! downstream may assume that they are the table's. All three are linear: their output for a row depends on that row
//! alone, so the output of a change is the new row's minus the old row's ([`RowDelta`]), and no state is needed. What a query
//! [`Arrange`]s depends on all rows together; the state that this takes is in [`operator`](crate::operator). A sub-select in a
//! rule is a semi-join, whose state is the [`ValueSet`](crate::subquery::ValueSet) of the sub-select.
//!
//! A plan also knows what it has to read from its source to start ([`SnapshotRequest`]).

mod access;
mod arrange;
mod filter;
mod group;
mod join;
mod live_query;
mod look_up;
mod moments;
mod page;
mod project;
mod range;
mod row_filter;
mod scan;
mod snapshot;
mod sql;

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use crate::canonical::{Canonical as _, Encoder};
use crate::position::{Old, RowChange};
pub use crate::query::expr::{Grant, Masks};
use crate::query::function::EvalError;
use crate::query::{Expr, Masked, Subquery};
use crate::schema::{ColumnSet, Key, Row, Table, TableName};
use crate::subquery::{SubqueryResults, subqueries_of};
use crate::value::Value;
pub use access::{AccessPath, Anchor};
pub use arrange::{Arrange, MAX_WINDOW, SortTerm};
pub use filter::Filter;
pub use group::{Aggregate, AggregateFunction, Group};
pub use join::{Join, Joins, Side, joined_shape};
pub use live_query::LiveQuery;
pub use look_up::{LookUp, look_ups};
pub use page::{Page, PageTerm};
pub use project::{Item, OutputColumn, Project};
use range::Range;
pub use row_filter::{RowFilter, Wanted};
pub use scan::{Admitted, Scan, VisibleRow};
pub use snapshot::SnapshotRequest;

/// The plan of a live query with one client's rules folded in. Equal plans share a feed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EffectivePlan {
    /// The rows and columns that the rules admit.
    pub scan: Scan,
    /// The tables that are joined to it. What follows speaks of the columns of all of them, one behind another.
    pub joins: Option<Box<Joins>>,
    /// The client's condition.
    pub filter: Filter,
    /// What the client wants of all rows together, if anything.
    pub arrange: Option<Box<Arrange>>,
    /// The client's columns.
    pub project: Project,
    /// Whether the feed of the plan keeps rows as the scan admits them, and computes those of the result from these.
    pub projects_late: bool,
    /// Whether rows come into the result, or leave it, as time passes; not by what the rules ask of other tables.
    pub depends_on_time: bool,
    /// Whether its result changes as time passes, also by what the rules ask of other tables.
    pub changes_with_time: bool,
    /// What the reader may see of each table, if it is the stream of row changes that is read.
    pub row_changes: Option<Arc<PlansOfTables>>,
    /// A short hash of the plan, the same on every instance.
    pub fingerprint: u64,
    /// The columns that decide what is in the result, where it shows rows as they are and nothing else decides.
    decisive: Option<ColumnSet>,
    /// Whether its columns are all of the table's, in their order: what differs is at the same place there then, and need not
    /// be looked up in memory of its own.
    has_places_of_table: bool,
}

impl Hash for EffectivePlan {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.fingerprint.hash(state);
    }
}

/// What one reader may see of the tables of a source: a plan of all rows and columns for each.
pub type PlansOfTables = BTreeMap<TableName, EffectivePlan>;

/// What a change of one row does to an operator's output: at most one row less and one row more, under one key.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RowDelta {
    /// The row before.
    pub old: Option<VisibleRow>,
    /// The row after.
    pub new: Option<VisibleRow>,
}

impl EffectivePlan {
    /// The plan of a query under these grants on its table, and these on each that is joined to it.
    pub fn new(query: LiveQuery, grants: Vec<Grant>, on_joined: Vec<Vec<Grant>>) -> EffectivePlan {
        let LiveQuery { table, joins, condition, arrange, project } = query;
        let filter = Filter::new(condition);
        let side = |(join, grants): (Join, Vec<Grant>)| {
            let scan = Scan::new(join.table.clone(), grants);
            (join, scan)
        };
        let sides: Vec<(Join, Scan)> = joins.into_iter().zip(on_joined).map(side).collect();
        let joins = (!sides.is_empty()).then(|| Box::new(Joins::new(&table, sides, filter.condition())));
        let scan = Scan::new(table, grants);
        let mut identity = Encoder::new("effective query");
        scan.encode(&mut identity);
        if let Some(joins) = &joins {
            joins.encode(&mut identity);
        }
        filter.encode(&mut identity);
        identity.option(arrange.as_ref(), |a, to| a.encode(to));
        project.encode(&mut identity);
        let computes = matches!(project, Project::Items(_));
        let of_joins = joins.iter().flat_map(|joins| joins.conditions().chain([joins.of_own()]));
        let subqueries = subqueries_of(scan.conditions().chain([filter.condition()]).chain(of_joins));
        let projects_late = arrange.is_some() || joins.is_some() || computes && !subqueries.is_empty();
        let depends_on_time = scan.depends_on_time() || filter.depends_on_time();
        let changes_with_time = depends_on_time || subqueries.keys().any(|asked| asked.changes_with_time());
        let fingerprint = identity.short_digest();
        let mut plan = EffectivePlan {
            scan,
            joins,
            filter,
            arrange,
            project,
            projects_late,
            depends_on_time,
            changes_with_time,
            row_changes: None,
            fingerprint,
            decisive: None,
            has_places_of_table: false,
        };
        let as_they_are = !computes && !plan.is_held() && plan.is_keyed() && plan.scan.maskable().is_empty();
        plan.decisive = as_they_are.then(|| {
            let mut decisive = ColumnSet::default();
            plan.for_each_that_decides(&mut |i| decisive.insert(i));
            decisive
        });
        let columns = plan.table().columns.len();
        plan.has_places_of_table = matches!(&plan.project, Project::Columns(own) if own.iter().copied().eq(0..columns));
        plan
    }

    /// The same, of the changes of these tables.
    pub fn of_row_changes(self, row_changes: PlansOfTables) -> EffectivePlan {
        let mut identity = Encoder::new("row changes");
        identity.number(self.fingerprint);
        identity.number(row_changes.len() as u64);
        for (name, plan) in &row_changes {
            name.encode(&mut identity);
            identity.number(plan.fingerprint);
        }
        EffectivePlan { row_changes: Some(Arc::new(row_changes)), fingerprint: identity.short_digest(), ..self }
    }

    /// The same without what it makes of its rows: what becomes of each row, before it is arranged and computed of.
    pub fn of_rows(&self) -> Cow<'_, EffectivePlan> {
        if !self.projects_late {
            return Cow::Borrowed(self);
        }
        let project = Project::Columns(self.read().iter().collect());
        let has_places_of_table = false;
        Cow::Owned(EffectivePlan { project, has_places_of_table, arrange: None, projects_late: false, ..self.clone() })
    }

    /// The plan of a sub-select, for whoever asks.
    pub fn of_subquery(subquery: &Subquery) -> EffectivePlan {
        let table = subquery.table.clone();
        let query = LiveQuery {
            table,
            joins: [].into(),
            condition: subquery.condition().clone(),
            arrange: None,
            project: Project::Columns(subquery.columns.as_slice().into()),
        };
        EffectivePlan::new(query, subquery.grants().unwrap_or_default().to_vec(), Vec::new())
    }

    /// The table whose rows the result has.
    pub fn table(&self) -> &Arc<Table> {
        self.scan.table()
    }

    /// What the row is like that its expressions speak of: that of its table, or of several.
    pub fn shape(&self) -> &Arc<Table> {
        self.joins.as_ref().map_or_else(|| self.table(), |joins| joins.shape())
    }

    /// Whether a column of that row is visible and unmasked wherever the row is.
    pub fn is_open(&self, column: usize) -> bool {
        match self.joins.as_ref().and_then(|joins| joins.side_of(column)) {
            Some((side, column)) => side.scan().is_open(column),
            None => self.scan.is_open(column),
        }
    }

    /// What has to hold of a row of its own table, whatever is joined to it.
    pub fn condition_of_own(&self) -> &Expr {
        self.joins.as_ref().map_or_else(|| self.filter.condition(), |joins| joins.of_own())
    }

    /// The columns of its result, in the order of the query.
    pub fn output(&self) -> impl Iterator<Item = OutputColumn<'_>> {
        self.project.output(self.table())
    }

    /// Whether keys are sent as they are. Otherwise rules hide part of them, and they are sent as opaque strings.
    pub fn open_key(&self) -> bool {
        // What groups have in common is the value of columns that are seen, or NULL.
        self.has_own_keys() || self.scan.open_key()
    }

    /// Whether the keys of the result's rows are not those of the table's.
    fn has_own_keys(&self) -> bool {
        self.arrange.as_ref().is_some_and(|a| a.group.is_some() || !a.first.is_empty())
    }

    /// Whether rows of the result have keys. Without keys, a result only gains rows.
    pub fn is_keyed(&self) -> bool {
        !self.table().key.is_empty()
    }

    /// Columns that can show less than before, in themselves or in what is computed of them: those that are masked, and those
    /// that are hidden, on some rows.
    pub fn concealable(&self) -> ColumnSet {
        if self.decisive.is_some() {
            return ColumnSet::default();
        }
        let mut found = self.scan.maskable();
        self.project.for_each_computed(&mut |i| {
            if !self.is_open(i) {
                found.insert(i);
            }
        });
        found
    }

    /// Whether a row that is replaced or removed is known as it was: its changes carry it, or its feed holds it.
    pub fn knows_what_was(&self) -> bool {
        self.table().old_values || self.is_held()
    }

    /// Whether its feed holds the rows: its result does not follow from the changes of its table's rows alone.
    pub fn is_held(&self) -> bool {
        self.projects_late || self.depends_on_time || !self.subqueries().is_empty()
    }

    /// Whether its rows are computed, and not the table's own.
    pub fn computes(&self) -> bool {
        matches!(self.project, Project::Items(_))
    }

    /// Whether the result is in an order, so that its rows have places.
    pub fn is_ordered(&self) -> bool {
        self.arrange.as_ref().is_some_and(|a| a.is_ordered())
    }

    /// Whether the result is a part of the rows on which the condition holds: those with certain places.
    pub fn is_window(&self) -> bool {
        let arrange = self.arrange.as_ref().filter(|_| !self.has_own_keys());
        arrange.is_some_and(|a| a.limit().is_some())
    }

    /// The key of a row of the table, empty for tables without one.
    pub fn key_of(&self, row: &[Value]) -> Key {
        self.table().key_of(row)
    }

    /// What becomes of a row of the table: a row of the result, or of what is [`Arrange`]d; `None` if it is withheld or
    /// outside the query.
    ///
    /// # Errors
    /// The query fails on this row, which the reader may see. A row that the rules withhold never causes an error.
    pub fn see(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> Result<Option<VisibleRow>, EvalError> {
        let Some(admitted) = self.scan.admit(row, subquery_results) else { return Ok(None) };
        if let Some(joins) = &self.joins {
            return self.see_joined(joins, admitted, subquery_results);
        }
        if !self.filter.passes(&admitted, subquery_results)? {
            return Ok(None);
        }
        if self.projects_late {
            return Ok(Some(admitted.into_visible()));
        }
        self.project.row(admitted).map(Some)
    }

    fn see_joined(
        &self,
        joins: &Joins,
        own: Admitted<'_>,
        subquery_results: &dyn SubqueryResults,
    ) -> Result<Option<VisibleRow>, EvalError> {
        if self.passes_alone(&own, subquery_results) == Ok(false) {
            return Ok(None);
        }
        let Some(row) = joins.beside_partners(own, subquery_results)? else { return Ok(None) };
        let admitted = Admitted { row: Cow::Borrowed(&row.row), columns: Cow::Borrowed(&row.columns) };
        let passes = self.filter.passes(&admitted, subquery_results)?;
        Ok(passes.then_some(row))
    }

    /// Whether the condition holds on a row of its own table, as far as that does not depend on what is joined to it.
    fn passes_alone(&self, own: &Admitted<'_>, subquery_results: &dyn SubqueryResults) -> Result<bool, EvalError> {
        self.condition_of_own().holds(&Masked { row: &own.row, visible: &own.columns, subquery_results })
    }

    /// Whether the row is in the result, or the query fails on it; cheaper than [`EffectivePlan::see`]. Where tables are joined, whether it
    /// is if its partners are as they should be.
    pub fn sees(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> bool {
        let passes = |admitted| self.passes_alone(&admitted, subquery_results) != Ok(false);
        self.scan.admit(row, subquery_results).is_some_and(passes)
    }

    /// The partners that a row looks for, as far as those are known that they are found by: by the place of their table among those that
    /// are joined, and their key.
    pub fn partners_of(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> Vec<(usize, Key)> {
        let Some(joins) = &self.joins else { return Vec::new() };
        let own = self.scan.admit(row, subquery_results);
        let own = own.filter(|own| self.passes_alone(own, subquery_results) != Ok(false));
        own.map(|own| joins.wanted(own, subquery_results)).unwrap_or_default()
    }

    /// What a change of the table does to the result. `old` is `None` also where the change does not carry the old row.
    ///
    /// # Errors
    /// The query fails on the new row. On the old one it has not, or there would be no result.
    pub fn apply(&self, change: &RowChange, subquery_results: &dyn SubqueryResults) -> Result<RowDelta, EvalError> {
        let see = |row: &Row| self.see(row, subquery_results);
        let old = match &change.old {
            Old::Known(Some(old)) => see(old).unwrap_or(None),
            Old::Known(None) | Old::Unknown => None,
        };
        Ok(RowDelta { old, new: change.new.as_ref().map(see).transpose()?.flatten() })
    }

    /// The places of the result's columns that are among these of the table; `None` if it does not show rows as they are.
    pub(crate) fn places_of(&self, columns: &ColumnSet) -> Option<ColumnSet> {
        self.decisive.as_ref()?;
        if self.has_places_of_table {
            return Some(columns.clone());
        }
        let Project::Columns(own) = &self.project else { return None };
        Some((0..own.len()).filter(|place| columns.contains(own[*place])).collect())
    }

    /// Those of some places of the result at which a row shows something.
    pub(crate) fn visible_places(&self, places: &ColumnSet, seen: &VisibleRow) -> ColumnSet {
        if self.has_places_of_table && seen.columns.covers(places) {
            return places.clone();
        }
        places.iter().filter(|place| self.project.value(*place, seen).is_some()).collect()
    }

    /// Whether a change of these columns may have a row enter or leave the result, or columns of it appear or disappear.
    pub(crate) fn may_decide_by(&self, columns: &ColumnSet) -> bool {
        self.decisive.as_ref().is_none_or(|decisive| decisive.meets(columns))
    }

    /// The visible values of a row with their places in the result.
    pub fn shown<'a>(&'a self, seen: &'a VisibleRow) -> impl Iterator<Item = (usize, &'a Value)> {
        self.project.shown(seen)
    }

    /// A number that follows from the first parts of its conditions: reading it has them at hand.
    pub(crate) fn heads(&self) -> usize {
        self.filter.condition().weight() + self.scan.grants().first().map_or(0, |g| g.condition.weight())
    }

    /// Whether a change is of its table, under the description that it was planned for.
    pub fn is_about(&self, change: &RowChange) -> bool {
        change.table == self.table().name && change.description == self.scan.description()
    }

    /// Approximate bytes of its conditions, and their number of nodes.
    pub fn size(&self) -> (usize, usize) {
        let (mut bytes, mut nodes) = (0, 0);
        for plan in self.row_changes.iter().flat_map(|plans| plans.values()) {
            let (of_bytes, of_nodes) = plan.size();
            bytes += of_bytes + size_of::<EffectivePlan>();
            nodes = nodes.max(of_nodes);
        }
        for asked in self.asked_by_client() {
            let (of_bytes, of_nodes) = EffectivePlan::of_subquery(&asked).size();
            bytes += of_bytes;
            nodes += of_nodes;
        }
        let of_joins = self.joins.iter().flat_map(|joins| joins.conditions().chain(joins.exprs()));
        let conditions = self.scan.conditions().chain([self.filter.condition()]).chain(of_joins);
        let arranged = self.arrange.iter().flat_map(|a| a.exprs());
        for e in conditions.chain(arranged).chain(self.project.exprs()) {
            e.for_each(&mut |e| {
                nodes += 1;
                bytes += std::mem::size_of::<Expr>();
                match e {
                    Expr::Const(v) => bytes += v.size(),
                    // Each stands there and in the index.
                    Expr::InValues(_, list) => bytes += list.as_slice().iter().map(|v| 3 * v.size()).sum::<usize>(),
                    _ => {}
                }
            });
        }
        (bytes, nodes)
    }

    /// Whether the client's condition names a column that is hidden or masked on some rows.
    pub fn may_read_hidden(&self) -> bool {
        let mut found = false;
        self.filter.condition().for_each_column(&mut |c| found |= !self.is_open(c));
        found
    }

    /// The sub-selects of its rules and of the client's condition, each once, and whether only more of what is found can admit
    /// more rows.
    pub fn subqueries(&self) -> BTreeMap<Arc<Subquery>, bool> {
        let of_joins = self.joins.iter().flat_map(|joins| joins.conditions().chain([joins.of_own()]));
        subqueries_of(self.scan.conditions().chain([self.filter.condition()]).chain(of_joins))
    }

    /// Whether rules ask other tables, those on its own table or on one that is joined.
    pub fn rules_ask(&self) -> bool {
        let of_joins = self.joins.iter().flat_map(|joins| joins.conditions());
        !subqueries_of(self.scan.conditions().chain(of_joins)).is_empty()
    }

    /// The sub-selects of the client's condition.
    pub fn asked_by_client(&self) -> impl Iterator<Item = Arc<Subquery>> {
        subqueries_of([self.filter.condition(), self.condition_of_own()]).into_keys()
    }

    /// The other tables that its rules and the client's condition ask, also indirectly.
    pub fn depends_on(&self) -> BTreeSet<TableName> {
        let sides = self.joins.iter().flat_map(|joins| joins.sides());
        let mut found: BTreeSet<TableName> = sides.map(|side| side.scan().table().name.clone()).collect();
        let mut next: Vec<Arc<Subquery>> = self.subqueries().into_keys().collect();
        while let Some(subquery) = next.pop() {
            found.insert(subquery.table.name.clone());
            next.extend(subqueries_of(subquery.conditions()).into_keys());
        }
        found
    }

    /// Whether it reads any of these columns.
    pub fn reads_any_of(&self, columns: &ColumnSet) -> bool {
        self.read_shown().any(|i| columns.contains(i)) || self.is_decided_by_any_of(columns)
    }

    /// The columns of its own table that it reads: those of the result, and those that decide what is in it.
    pub fn read(&self) -> ColumnSet {
        let mut all: ColumnSet = self.read_shown().collect();
        self.for_each_that_decides(&mut |i| all.insert(i));
        let width = self.table().columns.len();
        if self.joins.is_some() { all.iter().filter(|i| *i < width).collect() } else { all }
    }

    /// The table's columns that the result shows as they are.
    fn read_shown(&self) -> impl Iterator<Item = usize> {
        self.project.plain().filter(|_| !self.is_grouped())
    }

    /// Whether the rows of the result are groups.
    fn is_grouped(&self) -> bool {
        self.arrange.as_ref().is_some_and(|a| a.group.is_some())
    }

    /// Whether any of these columns decides what is in the result or how it is shown.
    pub fn is_decided_by_any_of(&self, columns: &ColumnSet) -> bool {
        let mut found = false;
        self.for_each_that_decides(&mut |i| found |= columns.contains(i));
        found
    }

    fn for_each_that_decides(&self, look: &mut dyn FnMut(usize)) {
        self.scan.for_each_column(look);
        self.filter.condition().for_each_column(&mut |i| look(i));
        let of_joins = self.joins.iter().flat_map(|joins| joins.exprs());
        of_joins.for_each(|e| e.for_each_column(&mut |i| look(i)));
        let arranged = self.arrange.iter().flat_map(|a| a.exprs_of_scan());
        arranged.for_each(|e| e.for_each_column(&mut |i| look(i)));
        if !self.is_grouped() {
            self.project.for_each_computed(look);
        }
    }
}
