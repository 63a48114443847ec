//! A table read page by page, in whatever order, is the table in the order that windows have.

use std::sync::Arc;

use gossip_core::operator::{Place, Ties};
use gossip_core::plan::{EffectivePlan, Page, SnapshotRequest, VisibleRow};
use gossip_core::schema::{Key, Row, Table};
use gossip_core::value::Value;
use gossip_source::Source;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use crate::table::{cases, described, on_postgresql, on_sqlite, plan, read};

fn read_page(source: &dyn Source, table: &Arc<Table>, page: Option<Page>) -> Vec<Row> {
    read(source, &SnapshotRequest { page, ..SnapshotRequest::whole(table) })
}

/// All rows in the order that a window has them in.
fn sorted(plan: &EffectivePlan, rows: Vec<Row>) -> Vec<Row> {
    let terms = &plan.arrange.as_ref().unwrap().order;
    let place = |row: &Row| {
        let whole = VisibleRow { row: row.clone(), columns: plan.table().all_columns() };
        Place::of(terms, Ties::ByKey, &plan.key_of(row), &whole).unwrap()
    };
    let mut placed: Vec<(Place, Row)> = rows.into_iter().map(|row| (place(&row), row)).collect();
    placed.sort_by(|(a, _), (b, _)| a.cmp(b, terms));
    placed.into_iter().map(|(_, row)| row).collect()
}

/// Reads the table in pages of so many rows, and a part of it up to each row where one ended.
fn hold_against_whole(source: &dyn Source, table: &Arc<Table>, order: &str, limit: usize) -> Result<(), TestCaseError> {
    let plan = plan(table, &format!("ORDER BY {order} LIMIT 1")).unwrap();
    let terms = plan.page_order().unwrap();
    let all = sorted(&plan, read_page(source, table, None));
    let values = |row: &Row| terms.iter().map(|term| row[term.column].clone()).collect::<Vec<_>>();
    let keys = |rows: &[Row]| rows.iter().map(|row| table.key_of(row)).collect::<Vec<Key>>();
    let mut read_so_far: Vec<Row> = Vec::new();
    loop {
        let after = read_so_far.last().map(values);
        let page = Page { order: terms.clone(), after, until: None, limit: Some(limit) };
        let rows = read_page(source, table, Some(page));
        prop_assert!(rows.len() <= limit, "{order}: {} rows of {limit}", rows.len());
        let last = rows.len() < limit;
        read_so_far.extend(rows);
        if last {
            break;
        }
        prop_assert!(read_so_far.len() <= all.len(), "{order}: rows come again");
        let until = read_so_far.last().map(values);
        let up_to = read_page(source, table, Some(Page { order: terms.clone(), after: None, until, limit: None }));
        prop_assert_eq!(keys(&up_to), keys(&all[..read_so_far.len()]), "{} up to {}", order, read_so_far.len());
    }
    prop_assert_eq!(keys(&read_so_far), keys(&all), "{} in pages of {}", order, limit);
    Ok(())
}

fn order(columns: &[&str]) -> impl Strategy<Value = String> {
    let directions = ["", " DESC", " NULLS FIRST", " DESC NULLS LAST"];
    let columns: Vec<String> = columns.iter().map(|c| (*c).to_string()).collect();
    let terms = prop::sample::subsequence(columns, 1..=3).prop_shuffle();
    (terms, prop::collection::vec(prop::sample::select(directions.to_vec()), 3)).prop_map(|(terms, directions)| {
        let terms = terms.iter().zip(directions).map(|(term, direction)| format!("{term}{direction}"));
        terms.collect::<Vec<_>>().join(", ")
    })
}

fn run(source: &dyn Source, columns: &[&str]) {
    let table = described(source);
    let mut runner = TestRunner::new(Config { cases: cases(), failure_persistence: None, ..Config::default() });
    let check = |(order, limit): (String, usize)| hold_against_whole(source, &table, &order, limit);
    runner.run(&(order(columns), 3..30_usize), check).unwrap();
}

#[test]
fn pages_of_postgresql_are_the_table() {
    let (_server, source) = on_postgresql();
    run(&*source, &["k", "m", "i", "f", "f4", "d", "s", "u", "day", "ts", "tz", "v"]);
}

#[test]
fn pages_of_sqlite_are_the_table() {
    let (_dir, db, source) = on_sqlite();
    run(&*source, &["k", "m", "i", "f", "s"]);

    // Where values are of other types than their column, whose order is their own, all rows are read.
    db.execute_batch("UPDATE t SET i = 'many' WHERE m = 3; UPDATE t SET i = x'00' WHERE m = 5").unwrap();
    let table = source.describe().unwrap().remove(0);
    let terms = plan(&table, "ORDER BY i DESC NULLS LAST LIMIT 1").unwrap().page_order().unwrap();
    let rows = read_page(&*source, &table, Some(Page { order: terms, after: None, until: None, limit: Some(3) }));
    let keys = rows.iter().map(|row| table.key_of(row)).collect::<std::collections::BTreeSet<Key>>();
    assert_eq!(keys.len(), 70);
    assert!(rows.iter().any(|row| row[2] == Value::from("many")));
}
