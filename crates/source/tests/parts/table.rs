//! A table with values of many types that are hard to compare, on real databases.

use std::path::Path;
use std::sync::Arc;

use gossip_core::plan::{EffectivePlan, Grant, Masks, SnapshotRequest};
use gossip_core::query::{Expr, parse_trusted_query};
use gossip_core::schema::{Catalog, Row, Table};
use gossip_source::{Settings, Source};
use serde_json::Map;

pub fn cases() -> u32 {
    std::env::var("PROPTEST_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(200)
}

/// The plan of a query of the table by somebody who may see all of it; `None` if it is none.
pub fn plan(table: &Arc<Table>, rest: &str) -> Option<EffectivePlan> {
    let mut catalog = Catalog::default();
    catalog.put(table.clone());
    let query = parse_trusted_query(&format!("SELECT * FROM t {rest}"), &catalog, &Map::new()).ok()?;
    let query = query.bind(&Map::new(), &Map::new()).ok()?;
    let columns = query.table.all_columns();
    Some(EffectivePlan::new(query, vec![Grant { condition: Expr::always(), columns, masks: Masks::new() }], vec![]))
}

pub fn read(source: &dyn Source, request: &SnapshotRequest) -> Vec<Row> {
    let mut rows = Vec::new();
    let mut take = |piece: Vec<Row>| {
        rows.extend(piece);
        true
    };
    source.snapshot(request, &mut take).unwrap().unwrap();
    rows
}

/// The table as the source describes it.
pub fn described(source: &dyn Source) -> Arc<Table> {
    source.describe().unwrap().into_iter().find(|t| &*t.name.name == "t").unwrap()
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

/// Its columns on PostgreSQL, and values of those behind the key.
pub const ON_POSTGRESQL: [(&str, &[&str]); 10] = [
    ("i", &["1", "2", "NULL", "-9223372036854775808", "9223372036854775807"]),
    ("f", &["0.1", "'NaN'", "'-Infinity'", "'Infinity'", "-0.0", "0", "NULL", "1e-300"]),
    ("f4", &["0.1", "'NaN'", "3.4e38", "NULL"]),
    ("d", &["1.0", "1.00", "'NaN'", "NULL", "123456789012345678901234567890.5", "-2"]),
    ("s", TEXTS),
    ("u", &["NULL", "'00000000-0000-4000-8000-000000000001'", "'ffffffff-0000-4000-8000-000000000001'"]),
    ("day", &["NULL", "'2026-11-29'", "'infinity'", "'-infinity'", "'0044-03-15 BC'"]),
    ("ts", &["NULL", "'2026-11-29 12:00:00.000001'", "'infinity'", "'0044-03-15 00:00:00 BC'"]),
    ("tz", &["NULL", "'2026-11-29 12:00:00+02'", "'2026-11-29 11:00:00+01'", "'-infinity'"]),
    ("v", TEXTS),
];

/// The same on SQLite.
pub const ON_SQLITE: [(&str, &[&str]); 3] = [
    ("i", &["1", "2", "NULL", "-9223372036854775808", "9223372036854775807"]),
    ("f", &["0.1", "-9e999", "9e999", "-0.0", "0", "NULL", "1e-300"]),
    ("s", TEXTS),
];

/// The table on a PostgreSQL whose texts are not ordered by their bytes: by a column's collation, or by that of the database, whose
/// name in the C library says nothing of it.
pub fn on_postgresql() -> (testbed::Postgres, Arc<dyn Source>) {
    let server = testbed::Postgres::start();
    let mut db = postgres::Client::connect(&server.url(), postgres::NoTls).unwrap();
    let icu = "LOCALE_PROVIDER icu ICU_LOCALE 'en-US' LC_COLLATE 'C' LC_CTYPE 'C' ENCODING 'UTF8'";
    db.batch_execute(&format!("CREATE DATABASE harbour TEMPLATE template0 {icu}")).unwrap();
    let url = server.url().replace("/postgres", "/harbour");
    let mut db = postgres::Client::connect(&url, postgres::NoTls).unwrap();
    let values = ON_POSTGRESQL.map(|(_, values)| values);
    let schema = "CREATE TABLE t (k text COLLATE \"und-x-icu\", m int4, i int8, f float8, f4 float4, d numeric, \
                  s text COLLATE \"und-x-icu\", u uuid, day date, ts timestamp, tz timestamptz, v varchar(9), \
                  PRIMARY KEY (k, m));";
    db.batch_execute(&format!("{schema}{}", inserts(&values))).unwrap();
    let settings = Settings { name: "s".into(), url, tables: vec!["t".into()], ..Settings::default() };
    let source = gossip_source::from_settings(&settings, Path::new("/")).unwrap();
    (server, source)
}

/// The table in an SQLite file, whose texts are equal whatever their case.
pub fn on_sqlite() -> (tempfile::TempDir, rusqlite::Connection, Arc<dyn Source>) {
    let dir = tempfile::tempdir().unwrap();
    let db = rusqlite::Connection::open(dir.path().join("t.db")).unwrap();
    let values = ON_SQLITE.map(|(_, values)| values);
    let schema = "CREATE TABLE t (k TEXT COLLATE NOCASE, m INTEGER, i INTEGER, f REAL, s TEXT COLLATE NOCASE, \
                  PRIMARY KEY (k, m));";
    db.execute_batch(&format!("PRAGMA journal_mode = WAL; {schema}{}", inserts(&values))).unwrap();
    let settings =
        Settings { name: "s".into(), url: "sqlite:t.db".into(), tables: vec!["t".into()], ..Settings::default() };
    let source = gossip_source::from_settings(&settings, dir.path()).unwrap();
    source.carry_out(&source.plan().unwrap().statements).unwrap();
    (dir, db, source)
}
