//! The stream of row changes: for those who want events and not a result.
//!
//! `gossip.row_changes` is a table that anybody may read, without rows, to which every change of a table adds one: under the
//! rules of that table, as its reader may see it. A row that comes into what somebody may see is inserted for them, one that
//! leaves it is deleted. So every reader has a stream of their own, and equal rights share one.
//!
//! In it are the tables of the source of which each change alone says what it means to a reader: those whose changes carry the
//! row as it was, or of which they may read all rows; and whose rules ask neither other tables nor the time.

use std::sync::Arc;

use crate::datetime::SINCE_1970;
use crate::feed::{self, ChangeError};
use crate::json;
use crate::plan::{EffectivePlan, LiveQuery, PlansOfTables, Project, VisibleRow};
use crate::position::{Old, RowChange, Timestamp};
use crate::query::Expr;
use crate::rule::{self, Claims, Permitted, RuleSet};
use crate::schema::{Catalog, Column, ColumnSet, ROW_CHANGES, Row, Table, TableName};
use crate::value::{Type, Value};

const COLUMNS: [(&str, Type); 6] = [
    ("table", Type::Text),
    ("op", Type::Text),
    ("key", Type::Json),
    ("row", Type::Json),
    ("was", Type::Json),
    ("at", Type::Timestamptz),
];

/// The table, of the changes of a source.
pub fn table(source: &Arc<str>) -> Table {
    Table {
        name: TableName::system(ROW_CHANGES),
        source: source.clone(),
        columns: COLUMNS.map(|(name, ty)| Column { name: name.into(), ty }).into(),
        key: Vec::new(),
        old_values: true,
        incarnation: 0,
    }
}

/// What a change is to a reader.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Op {
    Insert,
    Update,
    Delete,
}

impl Op {
    fn word(self) -> &'static str {
        match self {
            Op::Insert => "insert",
            Op::Update => "update",
            Op::Delete => "delete",
        }
    }
}

/// The plans of a client.
pub fn plans_of(source: &str, claims: &Claims, rules: &RuleSet, catalog: &Catalog) -> PlansOfTables {
    let own = |t: &&Arc<Table>| &*t.source == source && !t.name.is_system();
    let plan = |table: &Arc<Table>| {
        let standing = rules.standing(table, claims, catalog);
        let mut columns = ColumnSet::default();
        standing.iter().filter(|s| s.condition.is_ok()).for_each(|s| columns.union_with(s.rule.columns()));
        let project = Project::Columns(columns.iter().collect());
        let query =
            LiveQuery { table: table.clone(), joins: [].into(), condition: Expr::always(), arrange: None, project };
        let plan = rule::fold(query, &Permitted { catalog, rules, claims });
        Some((table.name.clone(), plan)).filter(|(_, plan)| says_it_by_itself(plan))
    };
    catalog.iter().filter(own).filter_map(plan).collect()
}

/// What a change adds to the stream, and whether it takes back what was sent of the row; `None` if it adds nothing.
///
/// # Errors
/// It was read under another description of its table, or leaves something out that decides.
pub fn event(plans: &PlansOfTables, change: &RowChange, at: Timestamp) -> Result<Option<(Row, bool)>, ChangeError> {
    let Some(plan) = plans.get(&change.table) else { return Ok(None) };
    if change.description != plan.scan.description()
        || (change.new.is_some() && plan.is_decided_by_any_of(&change.omitted_columns))
    {
        return Err(ChangeError::MissingValue);
    }
    let see = |row: &Row| plan.see(row, &());
    let mut new = change.new.as_ref().map(see).transpose()?.flatten();
    if let Some(new) = &mut new {
        new.columns.remove_all(&change.omitted_columns);
    }
    let (op, old) = match &change.old {
        Old::Known(old) => match (old.as_ref().map(see).transpose()?.flatten(), &new) {
            (None, None) => return Ok(None),
            (None, Some(_)) => (Op::Insert, None),
            (Some(old), None) => (Op::Delete, Some(old)),
            (Some(old), Some(new)) if shows_the_same(plan, &old, new, &change.omitted_columns) => return Ok(None),
            (Some(old), Some(_)) => (Op::Update, Some(old)),
        },
        // All rows may be seen.
        Old::Unknown if new.is_some() => (Op::Update, None),
        Old::Unknown => (Op::Delete, None),
    };
    // What may be seen less is taken back, also of what the row was.
    let revokes = old.is_some() && feed::shows_less(plan, change, &());
    let shown = |seen: &VisibleRow| Value::Json(json::row_json(plan, seen).into());
    let key = || Value::Json(json::key_json(&change.key).into());
    let cells = [
        change.table.to_string().into(),
        op.word().into(),
        if plan.open_key() && plan.is_keyed() { key() } else { Value::Null },
        new.as_ref().map_or(Value::Null, shown),
        old.as_ref().filter(|_| !revokes).map_or(Value::Null, shown),
        Value::Timestamptz(at.saturating_sub(SINCE_1970)),
    ];
    Ok(Some((cells.into(), revokes)))
}

/// That a table was emptied at once; `None` if it is not among those that are read.
pub fn truncated(plans: &PlansOfTables, table: &TableName, at: Timestamp) -> Option<Row> {
    let name = plans.contains_key(table).then(|| table.to_string())?;
    let at = Value::Timestamptz(at.saturating_sub(SINCE_1970));
    Some([name.into(), "truncate".into(), Value::Null, Value::Null, Value::Null, at].into())
}

/// Whether a change of the table says what it means to the reader, without anything that is remembered.
fn says_it_by_itself(plan: &EffectivePlan) -> bool {
    let grants = plan.scan.grants();
    let knows_all = !grants.is_empty() && grants.iter().all(|g| g.condition.is_const(true));
    let by_the_row = plan.subqueries().is_empty() && !plan.scan.depends_on_time();
    !grants.is_empty() && by_the_row && (plan.table().old_values || knows_all)
}

/// Whether two rows show the same, of which one leaves values out that are as they were.
fn shows_the_same(plan: &EffectivePlan, old: &VisibleRow, new: &VisibleRow, omitted: &ColumnSet) -> bool {
    let mut old = old.clone();
    old.columns.remove_all(omitted);
    plan.shown(&old).eq(plan.shown(new))
}
