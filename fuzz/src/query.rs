//! Query texts, of clients and in rules and masks.

use std::sync::{Arc, LazyLock};

use gossip_core::plan::LiveQuery;
use gossip_core::query::{Expr, parse_condition, parse_mask, parse_query, parse_trusted_query};
use gossip_core::schema::{Catalog, Column, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use serde_json::{Map, Value as Json, json};

use crate::text;

struct World {
    table: Arc<Table>,
    catalog: Catalog,
    rows: Vec<Row>,
    given: Map<String, Json>,
}

static WORLD: LazyLock<World> = LazyLock::new(|| {
    let columns = [
        ("id", Type::Int8),
        ("body", Type::Text),
        ("ok", Type::Bool),
        ("weight", Type::Float8),
        ("price", Type::Numeric),
        ("at", Type::Timestamptz),
        ("day", Type::Date),
        ("extra", Type::Json),
        ("bytes", Type::Bytea),
        ("who", Type::Uuid),
    ];
    let table = |name: &str| {
        Arc::new(Table {
            name: TableName::plain(name),
            source: "s".into(),
            columns: columns.map(|(name, ty)| Column { name: name.into(), ty }).into(),
            key: vec![0],
            old_values: true,
            incarnation: 0,
        })
    };
    let mut catalog = Catalog::default();
    catalog.put(table("t"));
    catalog.put(table("other"));
    let null = Row::from(vec![Value::Null; columns.len()]);
    let mut some = null.to_vec();
    some[..4].clone_from_slice(&[Value::Int(-1), "x%_\\\u{301}é".into(), Value::Bool(true), Value::Float(f64::NAN)]);
    let given = json!({"a": 1, "b": "x", "c": [1, 2, null], "d": null, "e": 1.5, "f": true, "g": {"h": ["i"]}});
    let Json::Object(given) = given else { unreachable!() };
    World { table: table("t"), catalog, rows: vec![null, some.into()], given }
});

/// Takes a text for a query, a rule's condition and a mask.
pub fn run(data: &[u8]) {
    let (world, text) = (&*WORLD, text(data));
    for parse in [parse_query, parse_trusted_query] {
        let parsed = parse(&text, &world.catalog, &world.given);
        let Ok(query) = parsed.and_then(|q| q.bind(&world.given, &world.given)) else { continue };
        reads_the_same(world, &query);
    }
    if let Ok(condition) = parse_condition(&text, &world.table, &world.catalog) {
        let _ = condition.show(&world.table, None).to_string();
        world.rows.iter().for_each(|row| _ = condition.truth(&row[..]));
    }
    for column in 0..world.table.columns.len() {
        if let Ok(mask) = parse_mask(&text, &world.table, column) {
            world.rows.iter().for_each(|row| drop(mask.value(row)));
        }
    }
}

/// What people are shown of a query means what the query means. Of computed values it does not show the types of constants,
/// which decide about overflow.
fn reads_the_same(world: &World, query: &LiveQuery) {
    let mut computes = false;
    query.condition.for_each(&mut |e| computes |= matches!(e, Expr::Computed(_)));
    if computes {
        world.rows.iter().for_each(|row| _ = query.condition.truth(&row[..]));
        return;
    }
    let shown = query.condition.show(&query.table, None).to_string();
    let again = parse_query(&format!("SELECT * FROM t WHERE {shown}"), &world.catalog, &Map::new());
    let again = again.and_then(|q| q.bind(&Map::new(), &Map::new()));
    for row in &world.rows {
        let truth = query.condition.truth(&row[..]);
        if let Ok(again) = &again {
            assert_eq!(truth, again.condition.truth(&row[..]), "{shown}");
        }
    }
}
