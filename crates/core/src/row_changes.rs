//! The stream of row changes: for those who want events and not a result.
//!
//! `gossip.row_changes` is a table that anybody may read, without rows, to which every change of a table adds one: under the
//! rules of that table, as its reader may see it. A row that comes into what somebody may see is inserted for them, one that
//! leaves it is deleted. So every reader has a stream of their own, and equal rights share one.
//!
//! In it are the tables of the source of which each change alone says what it means to a reader: those whose changes carry the
//! row as it was, or of which they may read all rows; and whose rules do not ask other tables.

use std::collections::BTreeMap;
use std::sync::{Arc, LazyLock};

use crate::canonical::{Canonical, Encoder};
use crate::datetime::SINCE_1970;
use crate::feed::{self, ChangeError};
use crate::plan::{EffectivePlan, LiveQuery, Project, VisibleRow};
use crate::position::{Old, RowChange, Timestamp};
use crate::query::Expr;
use crate::rule::{self, Claims, RuleSet};
use crate::schema::{Catalog, Column, Row, Table, TableName};
use crate::value::{Type, Value};
use crate::wire;

/// The table's name.
static NAME: LazyLock<TableName> = LazyLock::new(|| TableName::system("row_changes"));

const COLUMNS: [(&str, Type); 6] = [
    ("table", Type::Text),
    ("op", Type::Text),
    ("key", Type::Json),
    ("row", Type::Json),
    ("was", Type::Json),
    ("at", Type::Timestamptz),
];

/// The name of the table.
pub fn name() -> &'static TableName {
    &NAME
}

/// The table, of the changes of a source.
pub fn table(source: &Arc<str>) -> Table {
    Table {
        name: NAME.clone(),
        source: source.clone(),
        columns: COLUMNS.map(|(name, ty)| Column { name: name.into(), ty }).into(),
        key: Vec::new(),
        old_values: true,
        incarnation: 0,
    }
}

/// What one reader may see of the tables of a source: a plan of all rows and columns for each.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RowChanges(BTreeMap<TableName, EffectivePlan>);

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

impl RowChanges {
    /// Those of a client.
    pub fn of(source: &str, claims: &Claims, rules: &RuleSet, catalog: &Catalog) -> RowChanges {
        let own = |t: &&Arc<Table>| &*t.source == source && !t.name.is_system();
        let plan = |table: &Arc<Table>| {
            let standing = rules.standing(table, claims, catalog);
            let mut columns = crate::schema::ColumnSet::default();
            standing.iter().filter(|s| s.condition.is_ok()).for_each(|s| columns.union_with(s.rule.columns()));
            let project = Project::Columns(columns.iter().collect());
            let query = LiveQuery { table: table.clone(), condition: Expr::always(), arrange: None, project };
            let plan = rule::fold(query, &standing);
            Some((table.name.clone(), plan)).filter(|(_, plan)| says_it_by_itself(plan))
        };
        RowChanges(catalog.iter().filter(own).filter_map(plan).collect())
    }

    /// The tables.
    pub fn tables(&self) -> impl Iterator<Item = &TableName> {
        self.0.keys()
    }

    /// Approximate bytes and nodes of its plans.
    pub fn size(&self) -> (usize, usize) {
        let sizes = self.0.values().map(EffectivePlan::size);
        sizes.fold((0, 0), |(bytes, nodes), (b, n)| (bytes + b + size_of::<EffectivePlan>(), nodes.max(n)))
    }

    /// What a change adds to the stream, and whether it takes back what was sent of the row; `None` if it adds nothing.
    ///
    /// # Errors
    /// It was read under another description of its table, or leaves something out that decides.
    pub fn event(&self, change: &RowChange, at: Timestamp) -> Result<Option<(Row, bool)>, ChangeError> {
        let Some(plan) = self.0.get(&change.table) else { return Ok(None) };
        if change.description != plan.scan.description()
            || (change.new.is_some() && plan.is_decided_by_any_of(&change.omitted_columns))
        {
            return Err(ChangeError::MissingValue);
        }
        let see = |row: &Row| plan.see(row, &());
        let mut new = change.new.as_ref().map(see).transpose()?.flatten();
        let (op, old) = match &change.old {
            Old::Known(old) => match (old.as_ref().map(see).transpose()?.flatten(), &new) {
                (None, None) => return Ok(None),
                (None, Some(_)) => (Op::Insert, None),
                (Some(old), None) => (Op::Delete, Some(old)),
                (Some(old), Some(new)) if shows_the_same(plan, &old, new) => return Ok(None),
                (Some(old), Some(_)) => (Op::Update, Some(old)),
            },
            // All rows may be seen.
            Old::Unknown if new.is_some() => (Op::Update, None),
            Old::Unknown => (Op::Delete, None),
        };
        // What may be seen less is taken back, also of what the row was.
        let revokes = old.is_some() && feed::shows_less(plan, change, &());
        if let Some(new) = &mut new {
            new.columns.remove_all(&change.omitted_columns);
        }
        let json = |seen: &VisibleRow| Value::Json(wire::row_json(plan, seen).into());
        let key = || Value::Json(wire::key_json(&change.key).into());
        let cells = [
            change.table.to_string().into(),
            op.word().into(),
            if plan.open_key() && plan.is_keyed() { key() } else { Value::Null },
            new.as_ref().map_or(Value::Null, json),
            old.as_ref().filter(|_| !revokes).map_or(Value::Null, json),
            Value::Timestamptz(at.saturating_sub(SINCE_1970)),
        ];
        Ok(Some((cells.into(), revokes)))
    }

    /// That a table was emptied at once; `None` if it is not among those that are read.
    pub fn truncated(&self, table: &TableName, at: Timestamp) -> Option<Row> {
        let name = self.0.contains_key(table).then(|| table.to_string())?;
        let at = Value::Timestamptz(at.saturating_sub(SINCE_1970));
        Some([name.into(), "truncate".into(), Value::Null, Value::Null, Value::Null, at].into())
    }
}

/// Whether a change of the table says what it means to the reader, without anything that is remembered.
fn says_it_by_itself(plan: &EffectivePlan) -> bool {
    let grants = plan.scan.grants();
    let knows_all = !grants.is_empty() && grants.iter().all(|g| g.condition.is_const(true));
    !grants.is_empty() && plan.subqueries().is_empty() && (plan.table().old_values || knows_all)
}

fn shows_the_same(plan: &EffectivePlan, old: &VisibleRow, new: &VisibleRow) -> bool {
    plan.shown(old).eq(plan.shown(new))
}

impl Canonical for RowChanges {
    fn encode(&self, to: &mut Encoder) {
        to.number(self.0.len() as u64);
        for (name, plan) in &self.0 {
            name.encode(to);
            to.number(plan.fingerprint);
        }
    }
}
