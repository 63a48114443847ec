//! A table read page by page, in whatever order, is the table in the order that windows have: on real databases.
#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::sync::Arc;

use gossip_core::operator::{Place, Ties};
use gossip_core::plan::{EffectivePlan, Grant, Masks, Page, SnapshotRequest, VisibleRow};
use gossip_core::query::{Expr, parse_trusted_query};
use gossip_core::schema::{Catalog, Key, Row, Table};
use gossip_core::value::Value;
use gossip_source::{Settings, Source};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use serde_json::Map;

fn cases() -> u32 {
    std::env::var("PROPTEST_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(200)
}

fn plan(table: &Arc<Table>, order: &str) -> EffectivePlan {
    let mut catalog = Catalog::default();
    catalog.put(table.clone());
    let text = format!("SELECT * FROM t ORDER BY {order} LIMIT 1");
    let query = parse_trusted_query(&text, &catalog, &Map::new()).unwrap_or_else(|e| panic!("{text}: {e}"));
    let query = query.bind(&Map::new(), &Map::new()).unwrap();
    let columns = query.table.all_columns();
    EffectivePlan::new(query, vec![Grant { condition: Expr::always(), columns, masks: Masks::new() }])
}

fn read(source: &dyn Source, table: &Arc<Table>, page: Option<Page>) -> Vec<Row> {
    let mut rows = Vec::new();
    let mut take = |piece: Vec<Row>| {
        rows.extend(piece);
        true
    };
    source.snapshot(&SnapshotRequest { page, ..SnapshotRequest::whole(table) }, &mut take).unwrap().unwrap();
    rows
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
    let plan = plan(table, order);
    let terms = plan.page_order().unwrap();
    let all = sorted(&plan, read(source, table, None));
    let values = |row: &Row| terms.iter().map(|term| row[term.column].clone()).collect::<Vec<_>>();
    let keys = |rows: &[Row]| rows.iter().map(|row| table.key_of(row)).collect::<Vec<Key>>();
    let mut read_so_far: Vec<Row> = Vec::new();
    loop {
        let after = read_so_far.last().map(values);
        let page = Page { order: terms.clone(), after, until: None, limit: Some(limit) };
        let rows = read(source, table, Some(page));
        prop_assert!(rows.len() <= limit, "{order}: {} rows of {limit}", rows.len());
        let last = rows.len() < limit;
        read_so_far.extend(rows);
        if last {
            break;
        }
        prop_assert!(read_so_far.len() <= all.len(), "{order}: rows come again");
        let until = read_so_far.last().map(values);
        let up_to = read(source, table, Some(Page { order: terms.clone(), after: None, until, limit: None }));
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
    let table = source.describe().unwrap().into_iter().find(|t| &*t.name.name == "t").unwrap();
    let mut runner = TestRunner::new(Config { cases: cases(), failure_persistence: None, ..Config::default() });
    let check = |(order, limit): (String, usize)| hold_against_whole(source, &table, &order, limit);
    runner.run(&(order(columns), 3..30_usize), check).unwrap();
}

/// Rows of these values, each column's in turn at a pace of its own, so that many are equal in some and differ in others.
fn inserts(columns: &[&[&str]]) -> String {
    let cell =
        |row: usize, (i, values): (usize, &&[&str])| values[(row * (2 * i + 3) + row / 7) % values.len()].to_string();
    let row = |row: usize| {
        let cells: Vec<String> = columns.iter().enumerate().map(|c| cell(row, c)).collect();
        format!("INSERT INTO t VALUES ('{}', {}, {});", ["a", "B", "ä", "it''s"][row % 4], row / 4, cells.join(", "))
    };
    (0..70).map(row).collect()
}

const TEXTS: &[&str] = &["'a'", "'B'", "'b'", "'Z'", "'ä'", "'a b'", "''", "NULL", "'it''s'", "'\\x'", "'🚢'", "'ﬀ'"];

#[test]
fn pages_of_postgresql_are_the_table() {
    let server = testbed::Postgres::start();
    let mut db = postgres::Client::connect(&server.url(), postgres::NoTls).unwrap();
    let values: [&[&str]; 10] = [
        &["1", "2", "NULL", "-9223372036854775808", "9223372036854775807"],
        &["0.1", "'NaN'", "'-Infinity'", "'Infinity'", "-0.0", "0", "NULL", "1e-300"],
        &["0.1", "'NaN'", "3.4e38", "NULL"],
        &["1.0", "1.00", "'NaN'", "NULL", "123456789012345678901234567890.5", "-2"],
        TEXTS,
        &["NULL", "'00000000-0000-4000-8000-000000000001'", "'ffffffff-0000-4000-8000-000000000001'"],
        &["NULL", "'2026-11-29'", "'infinity'", "'-infinity'", "'0044-03-15 BC'"],
        &["NULL", "'2026-11-29 12:00:00.000001'", "'infinity'", "'0044-03-15 00:00:00 BC'"],
        &["NULL", "'2026-11-29 12:00:00+02'", "'2026-11-29 11:00:00+01'", "'-infinity'"],
        TEXTS,
    ];
    let schema = "CREATE TABLE t (k text COLLATE \"und-x-icu\", m int4, i int8, f float8, f4 float4, d numeric, \
                  s text COLLATE \"und-x-icu\", u uuid, day date, ts timestamp, tz timestamptz, v varchar(9), \
                  PRIMARY KEY (k, m));";
    db.batch_execute(&format!("{schema}{}", inserts(&values))).unwrap();
    let settings = Settings { name: "s".into(), url: server.url(), tables: vec!["t".into()], ..Settings::default() };
    let source = gossip_source::from_settings(&settings, Path::new("/")).unwrap();
    run(&*source, &["k", "m", "i", "f", "f4", "d", "s", "u", "day", "ts", "tz", "v"]);
}

#[test]
fn pages_of_sqlite_are_the_table() {
    let dir = tempfile::tempdir().unwrap();
    let db = rusqlite::Connection::open(dir.path().join("t.db")).unwrap();
    let values: [&[&str]; 3] = [
        &["1", "2", "NULL", "-9223372036854775808", "9223372036854775807"],
        &["0.1", "-9e999", "9e999", "-0.0", "0", "NULL", "1e-300"],
        TEXTS,
    ];
    let schema = "CREATE TABLE t (k TEXT COLLATE NOCASE, m INTEGER, i INTEGER, f REAL, s TEXT COLLATE NOCASE, \
                  PRIMARY KEY (k, m));";
    db.execute_batch(&format!("PRAGMA journal_mode = WAL; {schema}{}", inserts(&values))).unwrap();
    let settings =
        Settings { name: "s".into(), url: "sqlite:t.db".into(), tables: vec!["t".into()], ..Settings::default() };
    let source = gossip_source::from_settings(&settings, dir.path()).unwrap();
    source.carry_out(&source.plan().unwrap().statements).unwrap();
    run(&*source, &["k", "m", "i", "f", "s"]);

    // Where values are of other types than their column, whose order is their own, all rows are read.
    db.execute_batch("UPDATE t SET i = 'many' WHERE m = 3; UPDATE t SET i = x'00' WHERE m = 5").unwrap();
    let table = source.describe().unwrap().remove(0);
    let terms = plan(&table, "i DESC NULLS LAST").page_order().unwrap();
    let rows = read(&*source, &table, Some(Page { order: terms, after: None, until: None, limit: Some(3) }));
    let keys = rows.iter().map(|row| table.key_of(row)).collect::<std::collections::BTreeSet<Key>>();
    assert_eq!(keys.len(), 70);
    assert!(rows.iter().any(|row| row[2] == Value::from("many")));
}
