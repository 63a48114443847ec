//! `jsonb @> jsonb` of random documents is what PostgreSQL says it is; what is no document, and no list, is refused.
#![allow(clippy::unwrap_used, clippy::panic)]

use std::sync::Arc;

use gossip_core::query::{Placeholder, parse_trusted_query};
use gossip_core::schema::{Catalog, Column, Table, TableName};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;
use proptest::strategy::ValueTree as _;
use proptest::test_runner::{Config, TestRunner};
use serde_json::{Map, Value as Json, json};

fn catalog() -> Catalog {
    let mut catalog = Catalog::default();
    let columns = [("id", Type::Int8), ("k", Type::Jsonb), ("tags", Type::array(Type::Text))];
    catalog.put(Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns: columns.map(|(name, ty)| Column { name: name.into(), ty }).into(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    }));
    catalog
}

/// Documents of few values, so that one often contains another.
fn documents() -> impl Strategy<Value = Json> {
    let single =
        prop::sample::select(vec![json!(null), json!(true), json!(1), json!(1.0), json!(2), json!("1"), json!("é")]);
    single.prop_recursive(3, 8, 3, |inner| {
        let keys = prop::sample::select(vec!["a", "b"]).prop_map(String::from);
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..3).prop_map(Json::from),
            prop::collection::btree_map(keys, inner, 0..3).prop_map(|map| json!(map)),
        ]
    })
}

#[test]
fn documents_contain_what_postgresql_says_they_do() {
    let server = testbed::Postgres::start();
    let mut pg = postgres::Client::connect(&server.url(), postgres::NoTls).unwrap();
    let catalog = catalog();
    let pairs = prop::collection::vec((documents(), documents()), 500);
    let (mut contained, mut not) = (0, 0);
    let mut runner = TestRunner::new(Config { cases: 8, failure_persistence: None, ..Config::default() });
    for _ in 0..8 {
        let pairs = pairs.new_tree(&mut runner).unwrap().current();
        let texts: Vec<(String, String)> = pairs.iter().map(|(a, b)| (a.to_string(), b.to_string())).collect();
        let (own, wanted): (Vec<&str>, Vec<&str>) = texts.iter().map(|(a, b)| (a.as_str(), b.as_str())).unzip();
        let sql =
            "SELECT a::jsonb @> b::jsonb FROM unnest($1::text[], $2::text[]) WITH ORDINALITY AS t(a, b, n) ORDER BY n";
        let theirs = pg.query(sql, &[&own, &wanted]).unwrap();
        for ((own, wanted), theirs) in texts.iter().zip(theirs) {
            let query = format!("SELECT id FROM t WHERE k @> '{wanted}'");
            let condition = parse_trusted_query(&query, &catalog, &Map::new()).unwrap().condition;
            let row = [Value::Int(1), Value::Json(own.as_str().into())];
            let theirs: bool = theirs.get(0);
            assert_eq!(condition.truth(&row[..]), Ok(Some(theirs)), "{own} @> {wanted}");
            *(if theirs { &mut contained } else { &mut not }) += 1;
        }
    }
    assert!(contained > 100 && not > 1_000, "{contained} and {not}");
}

#[test]
fn what_is_no_document_and_no_list_is_refused() {
    let (catalog, zeros) = (catalog(), |n: usize| vec!["0"; n].join(","));
    let long = [format!("k @> '[{}]'", zeros(64)), format!("id = ANY ('{{{}}}')", zeros(257))];
    for (condition, column, words) in [
        ("k @> '{\"a\":'", 29, "this text is not read as JSON: EOF"),
        ("k @> k", 29, "a document in quotes or a parameter"),
        (&long[0], 29, "a document with 65 values; expected at most 64"),
        ("tags @> '{a'", 32, "not a list of values of type text"),
        ("tags @> '{{a}}'", 32, "not a list of values of type text"),
        ("id = ANY ('{x}')", 34, "not a list of values of type int8"),
        (&long[1], 34, "a list of 257 values; expected at most 256"),
    ] {
        let query = format!("SELECT id FROM t WHERE {condition}");
        let e = parse_trusted_query(&query, &catalog, &Map::new()).expect_err(condition).to_string();
        assert!(e.starts_with(&format!("line 1, column {column}:")) && e.contains(words), "{condition}: {e}");
    }
    let params = json!({"p": vec![0; 64]}).as_object().cloned().unwrap();
    let query = parse_trusted_query("SELECT id FROM t WHERE k @> :p", &catalog, &params).unwrap();
    let e = query.condition.bind(Placeholder::Param, &params).unwrap_err();
    assert_eq!((&*e.name, &*e.problem), ("p", "is a document with 65 values; here at most 64"));
}
