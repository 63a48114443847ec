//! PostgreSQL is the oracle for what a condition means: same rows, same condition, same answer.
#![allow(clippy::unwrap_used)]

use std::cell::{Cell, RefCell};
use std::sync::Arc;

use gossip_core::plan::LiveQuery;
use gossip_core::query::{Visible, parse_query};
use gossip_core::schema::{Column, ColumnSet, Table, TableName};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use serde_json::Map;

const COLUMNS: [(&str, Type); 13] = [
    ("id", Type::Int8),
    ("n", Type::Int8),
    ("x", Type::Float8),
    ("t", Type::Text),
    ("u", Type::Text),
    ("b", Type::Bool),
    ("d", Type::Date),
    ("ts", Type::Timestamp),
    ("tz", Type::Timestamptz),
    ("r", Type::Float4),
    ("c", Type::Bpchar),
    ("g", Type::Uuid),
    ("e", Type::Enum),
];

/// Texts of values of the columns from the sixth on, as PostgreSQL reads them; used as rows and in conditions.
const TEXTS: [&[&str]; 7] = [
    &["2026-11-23", "2026-11-24", "0044-03-15 BC", "infinity", "-infinity", "12026-01-01"],
    &["2026-11-23 00:00:00", "2026-11-23 14:12:23.5", "infinity", "0001-01-01 00:00:00 BC", "2026-11-24T00:00:00"],
    &[
        "2026-11-23 14:12:23.5+00",
        "2026-11-23 20:00:00+05:30",
        "2026-11-23T14:12:23.5Z",
        "-infinity",
        "9999-12-31 23:59:59+00",
    ],
    &["0.1", "0.5", "-3", "1e30", "16777217", "NaN"],
    &["ab", "ab  ", "a", "", "ä"],
    &[
        "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11",
        "A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A12",
        "{00000000000000000000000000000001}",
    ],
    &["sad", "so so", "happy"],
];

struct One(Arc<Table>);

impl Visible for One {
    fn table(&self, _: Option<&str>, _: &str, _: bool) -> Option<(Arc<Table>, ColumnSet)> {
        Some((self.0.clone(), self.0.all_columns()))
    }

    fn names(&self) -> Vec<String> {
        vec![]
    }
}

fn table() -> Arc<Table> {
    let columns = COLUMNS.iter().map(|(n, ty)| Column { name: (*n).into(), ty: *ty }).collect();
    Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns,
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

fn number() -> impl Strategy<Value = String> {
    let some = ["0", "1", "-1", "1.5", "2.50", "9007199254740993", "9007199254740992", "-9223372036854775808", "1e3"];
    prop::sample::select(some.to_vec()).prop_map(String::from)
}

fn text() -> impl Strategy<Value = String> {
    let some = ["''", "'a'", "'A'", "'ab'", "'a%'", "'ä'", "'_b'", "'z'", "'it''s'", "'a\\'"];
    prop::sample::select(some.to_vec()).prop_map(String::from)
}

/// Conditions as text, most of them sensible.
fn condition() -> impl Strategy<Value = String> {
    let op = || prop::sample::select(vec!["=", "<>", "<", "<=", ">", ">=", "!="]);
    let numeric = || prop_oneof![Just("n".to_string()), Just("x".to_string()), number(), Just("'1'".to_string())];
    let textual = || prop_oneof![Just("t".to_string()), Just("u".to_string()), text()];
    // A column of its own kind beside a text of it, in quotes as people write them.
    let typed = || {
        (0..TEXTS.len(), 0..6usize, 0..6usize).prop_map(|(kind, a, b)| {
            let quoted = |i: usize| format!("'{}'", TEXTS[kind][i % TEXTS[kind].len()]);
            (COLUMNS[6 + kind].0, quoted(a), quoted(b))
        })
    };
    let days = || prop::sample::select(vec!["d", "ts", "tz"]);
    let single = || {
        prop_oneof![
            Just("r".to_string()),
            Just("x".to_string()),
            Just("n".to_string()),
            number(),
            Just("0.1".to_string())
        ]
    };
    let leaf = prop_oneof![
        (typed(), op()).prop_map(|((c, a, _), o)| format!("{c} {o} {a}")),
        (typed()).prop_map(|(c, a, b)| format!("{c} BETWEEN {a} AND {b}")),
        (typed()).prop_map(|(c, a, b)| format!("{c} NOT IN ({a}, {b})")),
        (days(), op(), days()).prop_map(|(a, o, b)| format!("{a} {o} {b}")),
        (single(), op(), single()).prop_map(|(a, o, b)| format!("{a} {o} {b}")),
        (numeric(), op(), numeric()).prop_map(|(a, o, b)| format!("{a} {o} {b}")),
        (textual(), op(), textual()).prop_map(|(a, o, b)| format!("{a} {o} {b}")),
        (numeric(), numeric(), numeric()).prop_map(|(a, b, c)| format!("{a} BETWEEN {b} AND {c}")),
        (numeric(), prop::collection::vec(numeric(), 1..4)).prop_map(|(a, l)| format!("{a} NOT IN ({})", l.join(", "))),
        (textual(), prop::collection::vec(textual(), 1..4))
            .prop_map(|(a, l)| format!("{a} IN ({}, NULL)", l.join(", "))),
        (textual(), text()).prop_map(|(a, p)| format!("{a} LIKE {p}")),
        (textual(), text()).prop_map(|(a, p)| format!("{a} NOT LIKE {p} ESCAPE 'a'")),
        prop::sample::select(vec!["n", "x", "t", "b"]).prop_map(|c| format!("{c} IS NULL")),
        prop::sample::select(vec!["n", "x", "t", "b"]).prop_map(|c| format!("{c} IS NOT NULL")),
        Just("b".to_string()),
        Just("b = true".to_string()),
        Just("NULL".to_string()),
        Just("n = NULL".to_string()),
    ];
    leaf.prop_recursive(4, 24, 3, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} AND {b}")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} OR {b})")),
            inner.clone().prop_map(|a| format!("NOT ({a})")),
            (inner.clone(), inner).prop_map(|(a, b)| format!("({a}) = ({b}) IS NULL")),
        ]
    })
}

fn rows() -> Vec<Vec<Value>> {
    let n = [None, Some(0), Some(1), Some(-1), Some(9_007_199_254_740_993), Some(i64::MIN)];
    let x =
        [None, Some(0.0), Some(1.5), Some(-1.0), Some(9_007_199_254_740_992.0), Some(f64::NAN), Some(f64::INFINITY)];
    let t = [None, Some(""), Some("a"), Some("A"), Some("ab"), Some("ä"), Some("a%"), Some("it's")];
    let mut rows = Vec::new();
    for i in 0..120usize {
        let pick = |k: usize, m: usize| (i * k + i / m) % m;
        rows.push(vec![
            Value::Int(i as i64),
            n[pick(7, n.len())].map_or(Value::Null, Value::Int),
            x[pick(5, x.len())].map_or(Value::Null, Value::Float),
            t[pick(3, t.len())].map_or(Value::Null, Value::text),
            t[pick(11, t.len())].map_or(Value::Null, Value::text),
            [Value::Null, Value::Bool(true), Value::Bool(false)][pick(2, 3)].clone(),
        ]);
        for (k, texts) in TEXTS.iter().enumerate() {
            let text = texts.get(pick(k + 2, texts.len() + 1));
            let read = |t: &&str| Value::from_text(t, COLUMNS[6 + k].1).unwrap_or_else(|| panic!("{t}"));
            rows[i].push(text.map_or(Value::Null, read));
        }
    }
    rows
}

#[test]
fn conditions_mean_what_postgresql_says() {
    let server = testbed::Postgres::start();
    let mut pg = postgres::Client::connect(&server.url(), postgres::NoTls).unwrap();
    pg.batch_execute(
        "SET TimeZone = 'UTC'; CREATE TYPE mood AS ENUM ('sad', 'so so', 'happy');
         CREATE TABLE t (id int8 PRIMARY KEY, n int8, x float8, t text, u text, b bool, d date, ts timestamp,
           tz timestamptz, r float4, c char(4), g uuid, e mood)",
    )
    .unwrap();
    let rows = rows();
    for r in &rows {
        let values: Vec<String> = r
            .iter()
            .map(|v| match v {
                Value::Float(x) if x.is_nan() => "'NaN'".into(),
                Value::Float4(x) if x.is_nan() => "'NaN'".into(),
                Value::Float(x) if x.is_infinite() => "'Infinity'".into(),
                // Years are written here as ISO 8601 counts them, which PostgreSQL does not read.
                Value::Date(_) | Value::Timestamp(_) | Value::Timestamptz(_) => match v.to_string() {
                    t if t.starts_with("'-0043") => "'0044-03-15 BC'".into(),
                    t if t.starts_with("'0000") => "'0001-01-01 00:00:00 BC'".into(),
                    t => t.replace("'+", "'"),
                },
                v => v.to_string(),
            })
            .collect();
        pg.batch_execute(&format!("INSERT INTO t VALUES ({})", values.join(", "))).unwrap();
    }
    let one = One(table());
    let mut runner = TestRunner::new(Config { cases: 3_000, failure_persistence: None, ..Config::default() });
    let agreed = Cell::new(0);
    let pg = RefCell::new(pg);
    runner
        .run(&condition(), |condition| {
            let sql = format!("SELECT id FROM t WHERE {condition}");
            let theirs = pg.borrow_mut().query(&format!("{sql} ORDER BY id"), &[]);
            let ours = parse_query(&sql, &one, &Map::new()).and_then(|q| q.bind(&Map::new(), &Map::new()));
            match (ours, theirs) {
                (Ok(LiveQuery { condition: c, .. }), Ok(theirs)) => {
                    let theirs: Vec<i64> = theirs.iter().map(|r| r.get(0)).collect();
                    let found = rows.iter().filter(|r| c.holds(&r[..]) == Ok(true));
                    let ours: Vec<i64> = found.map(|r| if let Value::Int(i) = r[0] { i } else { -1 }).collect();
                    prop_assert_eq!(ours, theirs, "{}", sql);
                    agreed.set(agreed.get() + 1);
                }
                // What PostgreSQL refuses, or only for some rows, need not be taken here; what is refused here says so.
                (Err(_), _) | (_, Err(_)) => {}
            }
            Ok(())
        })
        .unwrap();
    assert!(agreed.get() > 1_500, "only {} conditions could be compared", agreed.get());
}
