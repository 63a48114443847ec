//! Random queries of every kind, and the rows that they are asked of.

use std::sync::Arc;

use gossip_core::schema::{Column, Table, TableName};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;
use proptest::sample::select;

/// The columns of `t`, with their types here and in SQL.
pub const COLUMNS: [(&str, Type, &str); 8] = [
    ("id", Type::Int8, "int8 PRIMARY KEY"),
    ("g", Type::Int4, "int4"),
    ("v", Type::Int4, "int4"),
    ("n", Type::Numeric, "numeric"),
    ("x", Type::Float8, "float8"),
    ("s", Type::Text, "text"),
    ("b", Type::Bool, "bool"),
    ("open", Type::Bool, "bool"),
];

/// The values of the columns after the first: few, so that there are ties, equal numbers with other digits, and NULL.
const VALUES: [&[&str]; 7] = [
    &["", "1", "2", "3"],
    &["", "0", "1", "2", "-4"],
    &["", "1.0", "1.00", "2.5", "-1", "NaN"],
    &["", "0.5", "-0.25", "4", "NaN", "-Infinity", "-0"],
    &["", "a", "ab", "b", "c"],
    &["", "t", "f"],
    &["t", "f"],
];

/// The texts of a row's values after its id; an empty one is NULL.
pub type Texts = Vec<&'static str>;

pub fn texts() -> impl Strategy<Value = Texts> {
    VALUES.map(|values| select(values).boxed()).to_vec()
}

/// The value of a column.
pub fn value(column: usize, text: &str) -> Value {
    match COLUMNS[column].1 {
        _ if text.is_empty() => Value::Null,
        Type::Numeric if text != "NaN" => Value::decimal(text).unwrap(),
        ty => Value::from_text(text, ty).unwrap(),
    }
}

pub fn row(id: i64, texts: &Texts) -> Vec<Value> {
    let values = texts.iter().enumerate().map(|(i, text)| value(i + 1, text));
    [Value::Int(id)].into_iter().chain(values).collect()
}

pub fn table(old_values: bool) -> Arc<Table> {
    Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns: COLUMNS.iter().map(|(name, ty, _)| Column { name: (*name).into(), ty: *ty }).collect(),
        key: vec![0],
        old_values,
        incarnation: 0,
    })
}

/// What a query does with its rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    Computed,
    Ordered,
    Window,
    Grouped,
    Whole,
    Having,
    TopGroups,
    Distinct,
    First,
}

pub const KINDS: [Kind; 9] = [
    Kind::Computed,
    Kind::Ordered,
    Kind::Window,
    Kind::Grouped,
    Kind::Whole,
    Kind::Having,
    Kind::TopGroups,
    Kind::Distinct,
    Kind::First,
];

/// A query. Columns that are equal in SQL but may look different are called `k…`.
#[derive(Clone, Debug)]
pub struct Query {
    pub kind: Kind,
    pub text: String,
}

fn condition() -> impl Strategy<Value = String> {
    let all = [
        "v > 0",
        "s IS NOT NULL",
        "g IN (1, 2)",
        "b",
        "n < 2 OR v = 1",
        "x > 0",
        "s LIKE 'a%'",
        "v + g > 1",
        "10 / v < 9",
    ];
    select(all.to_vec()).prop_map(String::from)
}

/// What is asked of another table.
fn asked() -> impl Strategy<Value = String> {
    let all = [
        "g IN (SELECT og FROM o WHERE ow > 0)",
        "g IN (SELECT og FROM o)",
        "v IN (SELECT ow FROM o WHERE oopen)",
        "g NOT IN (SELECT og FROM o WHERE ow > 0)",
        "g NOT IN (SELECT og FROM o)",
        "EXISTS (SELECT 1 FROM o WHERE og = t.g AND ow > 0)",
        "EXISTS (SELECT 1 FROM o WHERE og = t.g AND ow = t.v)",
        "EXISTS (SELECT 1 FROM o WHERE ow = 2)",
        "NOT EXISTS (SELECT 1 FROM o WHERE og = t.g)",
        "NOT EXISTS (SELECT 1 FROM o x WHERE x.og = t.g AND 2 / ow > 1)",
        "g IN (SELECT og FROM o WHERE ow IN (SELECT og FROM o x WHERE x.oopen))",
        "(v > 0 OR g IN (SELECT og FROM o WHERE ow = 1))",
        "(b IS TRUE) = (g IN (SELECT og FROM o))",
    ];
    select(all.to_vec()).prop_map(String::from)
}

/// What is joined, and what has to hold of it.
fn joined() -> impl Strategy<Value = String> {
    let joins = [
        " JOIN o ON o.oid = t.g",
        " LEFT JOIN o ON o.oid = g",
        " LEFT JOIN o ON oid = g AND ow > 0",
        " JOIN o ON oid = g AND ow <> v",
        " LEFT JOIN o ON o.oid = v LEFT JOIN o q ON q.oid = o.og",
        " JOIN o ON o.oid = g JOIN o q ON q.oid = o.og AND q.oopen",
        " LEFT JOIN o ON oid = g AND 2 / ow > 0",
        " LEFT JOIN o ON o.oid = g JOIN o q ON q.oid = g",
    ];
    let conditions = [
        "",
        "",
        " WHERE o.ow > 0",
        " WHERE o.oid IS NULL",
        " WHERE o.ow = 1 OR v > 0",
        " WHERE v > 0",
        " WHERE o.og = 1 AND b",
        " WHERE o.ow IN (1, 2) AND g IN (SELECT og FROM o r)",
        " WHERE o.og IN (SELECT ow FROM o r WHERE r.oopen)",
    ];
    (select(joins.to_vec()), select(conditions.to_vec())).prop_map(|(join, condition)| format!("{join}{condition}"))
}

/// A query that names columns of the tables that it joins too, and perhaps writes these tables the other way round.
fn with_joined(kind: Kind, text: String, turned: bool) -> String {
    if !text.contains(" JOIN ") {
        return text;
    }
    // All that is shown is ordered by where rows are told apart by nothing else.
    let all = if kind == Kind::Distinct && text.contains(" ORDER BY ") { ", j0, j1" } else { "" };
    let text = format!("{text}{all}");
    let text = match kind {
        Kind::Computed | Kind::Ordered | Kind::Window | Kind::First | Kind::Distinct => {
            text.replacen(" FROM t ", ", o.ow AS j0, o.oopen AS j1 FROM t ", 1)
        }
        Kind::Grouped | Kind::Whole | Kind::Having | Kind::TopGroups => {
            text.replace("sum(v)", "sum(o.ow)").replace("count(v)", "count(o.oid)").replace("v % 2", "o.ow")
        }
    };
    if turned { text.replace("FROM t JOIN o ON", "FROM o JOIN t ON") } else { text }
}

fn filter() -> impl Strategy<Value = String> {
    let some = || condition().prop_map(|c| format!(" WHERE {c}"));
    let with_others = (asked(), prop::option::weighted(0.3, condition())).prop_map(|(asked, more)| match more {
        Some(more) => format!(" WHERE {asked} AND ({more})"),
        None => format!(" WHERE {asked}"),
    });
    prop_oneof![2 => Just(String::new()), 1 => some(), 3 => with_others, 3 => joined()]
}

fn key() -> impl Strategy<Value = &'static str> {
    select(vec!["g", "s", "b", "n", "x", "v % 2", "coalesce(g, 0)"])
}

fn aggregate() -> impl Strategy<Value = String> {
    let all = [
        "count(*)",
        "count(v)",
        "count(DISTINCT v)",
        "count(DISTINCT n)",
        "sum(v)",
        "sum(n)",
        "sum(x)",
        "sum(id)",
        "avg(v)",
        "avg(n)",
        "avg(x)",
        "min(v)",
        "max(v)",
        "min(s)",
        "max(x)",
        "bool_and(b)",
        "bool_or(b)",
        "every(v > 0)",
        "min(g + v)",
    ];
    let of = prop_oneof![6 => select(all.to_vec()).prop_map(String::from), 1 => Just("sum(12 / v)".to_string())];
    (of, prop::option::weighted(0.3, condition())).prop_map(|(of, filter)| match filter {
        Some(filter) => format!("{of} FILTER (WHERE {filter})"),
        None => of,
    })
}

fn direction() -> impl Strategy<Value = &'static str> {
    select(vec!["", " DESC", " NULLS FIRST", " DESC NULLS LAST", " ASC"])
}

fn window() -> impl Strategy<Value = String> {
    let offset =
        prop::option::weighted(0.3, 0..3_u32).prop_map(|o| o.map_or(String::new(), |o| format!(" OFFSET {o}")));
    (0..4_u32, offset).prop_map(|(limit, offset)| format!(" LIMIT {limit}{offset}"))
}

/// Parts of `ORDER BY`, each once.
fn terms(of: Vec<String>, least: usize) -> impl Strategy<Value = String> {
    let most = of.len().min(3).max(least);
    let terms = prop::sample::subsequence(of, least..=most).prop_shuffle();
    (terms, prop::collection::vec(direction(), 3)).prop_map(|(terms, directions)| {
        let terms: Vec<String> =
            terms.iter().zip(directions).map(|(term, direction)| format!("{term}{direction}")).collect();
        terms.join(", ")
    })
}

fn columns() -> impl Strategy<Value = String> {
    let all = ["id", "g", "v", "n", "x", "s", "b"].map(String::from).to_vec();
    prop::sample::subsequence(all, 1..5).prop_map(|c| c.join(", "))
}

fn orders() -> Vec<String> {
    ["g", "v", "n", "x", "s", "b", "v + g", "id % 3"].map(String::from).to_vec()
}

fn grouped(having: bool, top: bool) -> impl Strategy<Value = String> {
    let parts = (
        prop::collection::btree_set(key(), 1..3),
        prop::collection::vec(aggregate(), 0..4),
        filter(),
        direction(),
        direction(),
        window(),
        0..3_u32,
    );
    parts.prop_map(move |(keys, aggregates, filter, first, then, window, least)| {
        let keys: Vec<&str> = keys.into_iter().collect();
        let named = keys.iter().enumerate().map(|(i, key)| format!("{key} AS k{i}"));
        let counted = aggregates.iter().enumerate().map(|(i, a)| format!("{a} AS a{i}"));
        let items = named.chain(counted).collect::<Vec<_>>().join(", ");
        let having = if having { format!(" HAVING count(*) > {least}") } else { String::new() };
        let mut order = String::new();
        if top {
            let by_count = format!("count(*){first}");
            let rest = keys.iter().map(|key| format!("{key}{then}"));
            order = format!(" ORDER BY {}{window}", [by_count].into_iter().chain(rest).collect::<Vec<_>>().join(", "));
        }
        format!("SELECT {items} FROM t{filter} GROUP BY {}{having}{order}", keys.join(", "))
    })
}

/// Queries of a kind. Rows of an order are all told apart.
pub fn query(kind: Kind) -> BoxedStrategy<Query> {
    let text: BoxedStrategy<String> = match kind {
        Kind::Computed => (columns(), filter())
            .prop_map(|(c, f)| format!("SELECT {c}, coalesce(v, 0) + 1 AS a0, s || '!' AS a1, 6 / v AS a2 FROM t{f}"))
            .boxed(),
        Kind::Ordered => (columns(), filter(), terms(orders(), 1))
            .prop_map(|(c, f, o)| format!("SELECT {c} FROM t{f} ORDER BY {o}, id"))
            .boxed(),
        Kind::Window => (columns(), filter(), terms(orders(), 0), window(), direction())
            .prop_map(|(c, f, o, w, d)| {
                let comma = if o.is_empty() { "" } else { ", " };
                format!("SELECT {c}, v * 2 AS a0 FROM t{f} ORDER BY {o}{comma}id{d}{w}")
            })
            .boxed(),
        Kind::Grouped => grouped(false, false).boxed(),
        Kind::Having => grouped(true, false).boxed(),
        Kind::TopGroups => grouped(false, true).boxed(),
        Kind::Whole => (prop::collection::vec(aggregate(), 1..4), filter())
            .prop_map(|(all, f)| {
                let all: Vec<String> = all.iter().enumerate().map(|(i, a)| format!("{a} AS a{i}")).collect();
                format!("SELECT {} FROM t{f}", all.join(", "))
            })
            .boxed(),
        Kind::Distinct => (prop::collection::btree_set(key(), 1..3), filter(), any::<bool>(), direction())
            .prop_map(|(keys, f, ordered, d)| {
                let items: Vec<String> = keys.iter().enumerate().map(|(i, key)| format!("{key} AS k{i}")).collect();
                let order: Vec<String> = (0..keys.len()).map(|i| format!("k{i}{d}")).collect();
                let order = if ordered { format!(" ORDER BY {}", order.join(", ")) } else { String::new() };
                format!("SELECT DISTINCT {} FROM t{f}{order}", items.join(", "))
            })
            .boxed(),
        Kind::First => (key(), columns(), filter(), terms(orders(), 0), prop::option::of(window()), direction())
            .prop_map(|(key, c, f, o, w, d)| {
                let comma = if o.is_empty() { "" } else { ", " };
                let w = w.unwrap_or_default();
                format!("SELECT DISTINCT ON ({key}) {key} AS k0, {c} FROM t{f} ORDER BY {key}{d}, {o}{comma}id{w}")
            })
            .boxed(),
    };
    (text, any::<bool>()).prop_map(move |(text, turned)| Query { kind, text: with_joined(kind, text, turned) }).boxed()
}
