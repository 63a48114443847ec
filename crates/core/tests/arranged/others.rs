//! The tables that queries and rules ask beside `t`, and what a sub-select finds in them.

use std::cmp::Ordering;
use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::plan::EffectivePlan;
use gossip_core::query::Subquery;
use gossip_core::query::function::EvalError;
use gossip_core::schema::{Column, Row, Table, TableName};
use gossip_core::subquery::{Partner, SubqueryResults, ValueSet, subqueries_of};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;
use proptest::sample::select;

/// The texts of the values of a row of `o` after its id; an empty one is NULL.
pub type Texts = [&'static str; 3];

const COLUMNS: [(&str, Type); 4] = [("oid", Type::Int8), ("og", Type::Int4), ("ow", Type::Int4), ("oopen", Type::Bool)];

fn table(name: &str, columns: &[(&str, Type)], old_values: bool) -> Arc<Table> {
    let columns = columns.iter().map(|(name, ty)| Column { name: (*name).into(), ty: *ty }).collect();
    let name = TableName::plain(name);
    Arc::new(Table { name, source: "s".into(), columns, key: vec![0], old_values, incarnation: 0 })
}

/// `members (id)`.
pub fn members() -> Arc<Table> {
    table("members", &[("id", Type::Int4)], true)
}

/// `o (oid, og, ow, oopen)`.
pub fn others(old_values: bool) -> Arc<Table> {
    table("o", &COLUMNS, old_values)
}

pub fn texts() -> impl Strategy<Value = Texts> {
    let of = |values: &'static [&'static str]| select(values);
    (of(&["", "1", "1", "2", "3"]), of(&["", "0", "1", "2"]), of(&["t", "f"])).prop_map(|(g, w, open)| [g, w, open])
}

pub fn row(id: i64, texts: &Texts) -> Row {
    let value = |(i, text): (usize, &&str)| match *text {
        "" => Value::Null,
        text => Value::from_text(text, COLUMNS[i + 1].1).unwrap(),
    };
    [Value::Int(id)].into_iter().chain(texts.iter().enumerate().map(value)).collect()
}

/// What sub-selects find, and the rows that are joined, by the description of their table.
#[derive(Default)]
pub struct Sets(BTreeMap<Arc<Subquery>, ValueSet>, BTreeMap<u64, Vec<Row>>);

impl SubqueryResults for Sets {
    fn set(&self, of: &Subquery) -> Option<&ValueSet> {
        self.0.get(of)
    }

    fn partner(&self, table: u64, key: &[Value]) -> Partner<'_> {
        let Some(rows) = self.1.get(&table) else { return Partner::Unknown };
        Partner::Known(rows.iter().find(|row| row[0].sql_cmp(&key[0]) == Some(Ordering::Equal)))
    }
}

/// What all sub-selects of a plan find where these are the tables' rows, worked out from nothing.
pub fn sets(plan: &EffectivePlan, rows_of: &dyn Fn(&str) -> Vec<Row>) -> Result<Sets, EvalError> {
    let mut sets = Sets::default();
    for side in plan.joins.iter().flat_map(|joins| joins.sides()) {
        sets.1.insert(side.scan().description(), rows_of(&side.scan().table().name.name));
    }
    for asked in plan.subqueries().into_keys() {
        find(asked, rows_of, &mut sets)?;
    }
    Ok(sets)
}

fn find(asked: Arc<Subquery>, rows_of: &dyn Fn(&str) -> Vec<Row>, sets: &mut Sets) -> Result<(), EvalError> {
    for within in subqueries_of(asked.conditions()).into_keys() {
        find(within, rows_of, sets)?;
    }
    let plan = EffectivePlan::of_subquery(&asked);
    let mut found = ValueSet::default();
    for row in rows_of(&asked.table.name.name) {
        let Some(admitted) = plan.scan.admit(&row, sets) else { continue };
        if plan.filter.passes(&admitted, sets)? {
            let value = |c: &usize| if admitted.columns.contains(*c) { admitted.row[*c].clone() } else { Value::Null };
            found.add(asked.columns.iter().map(value).collect());
        }
    }
    sets.0.insert(asked, found);
    Ok(())
}
