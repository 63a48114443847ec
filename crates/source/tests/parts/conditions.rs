//! Of a table those rows are read on which a condition may hold: never too few, and seldom all.

use std::cell::Cell;
use std::collections::BTreeSet;

use gossip_core::plan::{RowFilter, SnapshotRequest};
use gossip_core::schema::Key;
use gossip_core::value::Value;
use gossip_source::Source;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use crate::table::{ON_POSTGRESQL, ON_SQLITE, cases, described, on_postgresql, on_sqlite, plan, read};

/// A comparison of a column with one of the values that it has, as far as the query language has both.
fn comparison(columns: Vec<(&'static str, &'static [&'static str])>) -> impl Strategy<Value = String> {
    let ops = prop::sample::select(vec!["=", "<", "<=", ">", ">=", "LIKE", "IN", "IS NULL"]);
    let numbers = any::<[prop::sample::Index; 2]>();
    (prop::sample::select(columns), ops, numbers).prop_map(|((column, values), op, [a, b])| {
        let (a, b) = (a.get(values), b.get(values));
        let text = a.trim_matches('\'');
        match op {
            "LIKE" => format!("{column} LIKE '{}%'", text.replace('\\', "\\\\")),
            "IN" => format!("{column} IN ({a}, {b})"),
            "IS NULL" => format!("{column} IS NULL"),
            op => format!("{column} {op} {a}"),
        }
    })
}

fn condition(columns: Vec<(&'static str, &'static [&'static str])>) -> impl Strategy<Value = String> {
    let each = prop::collection::vec(comparison(columns), 1..=3);
    (each, any::<bool>()).prop_map(|(each, all)| each.join(if all { " AND " } else { " OR " }))
}

fn run(source: &dyn Source, columns: &[(&'static str, &'static [&'static str])]) {
    let table = described(source);
    let whole = read(source, &SnapshotRequest::whole(&table));
    let (known, read_all) = (Cell::new(0), Cell::new(0));
    let keyed = [("k", &["'a'", "'B'", "'ä'", "'it''s'"] as &[_]), ("m", &["0", "7", "17"])];
    let columns = keyed.iter().chain(columns).copied().collect();
    let config = Config { cases: cases() * 5, failure_persistence: None, ..Config::default() };
    let check = |condition: String| {
        let Some(plan) = plan(&table, &format!("WHERE {condition}")) else { return Ok(()) };
        known.set(known.get() + 1);
        let rows = read(source, &plan.snapshot(&()));
        read_all.set(read_all.get() + u32::from(rows.len() == whole.len()));
        let keys: BTreeSet<Key> = rows.iter().map(|row| plan.key_of(row)).collect();
        for row in whole.iter().filter(|row| plan.sees(row, &())) {
            prop_assert!(keys.contains(&plan.key_of(row)), "{condition}: {row:?} is missing of {}", rows.len());
        }
        Ok(())
    };
    TestRunner::new(config).run(&condition(columns), check).unwrap();
    // What no database can be asked for is what a client may ask for.
    let place = table.columns.iter().position(|c| &*c.name == "s").unwrap();
    for text in ["\0", "a\0b", "'; DROP TABLE t; --", "\\'; DROP TABLE t; --"] {
        let filter = RowFilter::of_values(&table, [(place, vec![Value::from(text)])]);
        read(source, &SnapshotRequest { filter, ..SnapshotRequest::whole(&table) });
    }
    assert_eq!(read(source, &SnapshotRequest::whole(&table)).len(), whole.len());
    eprintln!("{} conditions, of which {} read all rows", known.get(), read_all.get());
    assert!(known.get() > cases() && read_all.get() < known.get() / 4, "{} of {}", read_all.get(), known.get());
}

#[test]
fn postgresql_hands_out_the_rows_of_a_condition() {
    let (_server, source) = on_postgresql();
    run(&*source, &ON_POSTGRESQL);
}

#[test]
fn sqlite_hands_out_the_rows_of_a_condition() {
    let (_dir, _db, source) = on_sqlite();
    run(&*source, &ON_SQLITE);
}
