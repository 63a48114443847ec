//! The index finds every feed whose result a row is in, whatever its condition and whatever its rules hide.
#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Request};
use gossip_core::index::TableIndex;
use gossip_core::plan::{AccessPath, EffectivePlan};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;

const COLUMNS: [(&str, Type); 10] = [
    ("id", Type::Int8),
    ("n", Type::Int8),
    ("q", Type::Numeric),
    ("x", Type::Float8),
    ("t", Type::Text),
    ("d", Type::Date),
    ("m", Type::Timestamp),
    ("b", Type::Bool),
    // Arrays of these.
    ("words", Type::Text),
    ("numbers", Type::Float8),
];

/// The type of a column.
fn type_of(column: usize) -> Type {
    let (_, ty) = COLUMNS[column];
    if column < COLUMNS.len() - ARRAYS { ty } else { Type::array(ty) }
}

/// Columns that are arrays: the last ones.
const ARRAYS: usize = 2;

/// Texts of values of the columns after the first.
const VALUES: [&[&str]; 9] = [
    &["0", "1", "2", "9007199254740992", "9007199254740993"],
    &["0", "1.0", "1.5", "2", "1e30", "9007199254740993"],
    &["0", "1", "1.5", "NaN", "Infinity", "9007199254740992"],
    &["", "a", "ab", "abc", "b", "\u{10ffff}", "\u{d7ff}x"],
    &["2024-02-28", "2024-02-29", "infinity"],
    &["2024-02-28 23:59:59", "2024-02-29 00:00:00", "2024-02-29 12:00:00", "-infinity"],
    &["true", "false"],
    &["[]", r#"["a"]"#, r#"["a","b",null]"#, r#"[["b"],["c"]]"#, "[null]"],
    &["[]", "[1]", "[1.5,2,null]", r#"[["NaN"],[0]]"#, "[9007199254740992]"],
];

fn table() -> Arc<Table> {
    Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns: (0..COLUMNS.len()).map(|i| Column { name: COLUMNS[i].0.into(), ty: type_of(i) }).collect(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

/// A comparison of a column with a value of its type.
fn part() -> impl Strategy<Value = String> {
    let ops = prop::sample::select(vec!["=", "<", "<=", ">", ">=", "<>"]);
    // Of arrays one asks what is in them.
    let of_values = 1..COLUMNS.len() - ARRAYS;
    (of_values, 0..20_usize, 0..20_usize, ops, 0..10).prop_map(|(column, i, j, op, form)| {
        let name = COLUMNS[column].0;
        let values = VALUES[column - 1];
        let (v, w) = (values[i % values.len()], values[j % values.len()]);
        match form {
            0 => format!("{name} BETWEEN '{v}' AND '{w}'"),
            1 => format!("{name} IN ('{v}', '{w}')"),
            2 => format!("{name} IS NULL"),
            3 => format!("t LIKE '{}%'", VALUES[3][i % VALUES[3].len()]),
            // Values of other types than the column's.
            4 => format!("{} {op} {}", ["n", "q", "x"][i % 3], ["1", "1.5", "9007199254740993", "2e0"][j % 4]),
            5 => format!("d {op} m"),
            8 => {
                let (v, w) = (["a", "b", "c", "d"][i % 4], ["a", "b", "NULL", "c"][j % 4]);
                let forms = [
                    format!("'{v}' = ANY (words)"),
                    format!("words @> '{{{v},{w}}}'"),
                    format!("words && '{{{v},{w}}}'"),
                    "words && '{}'".to_string(),
                    "words @> '{}'".to_string(),
                ];
                forms[(i + j) % forms.len()].clone()
            }
            9 => {
                let (v, w) = (["1", "1.5", "NaN", "9007199254740993"][i % 4], ["0", "2", "NULL"][j % 3]);
                [format!("numbers @> '{{{v}}}'"), format!("numbers && '{{{v},{w}}}'")][j % 2].clone()
            }
            _ => format!("{name} {op} '{v}'"),
        }
    })
}

fn condition() -> impl Strategy<Value = String> {
    part().prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            3 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} AND {b})")),
            2 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} OR {b})")),
            1 => inner.prop_map(|a| format!("NOT ({a})")),
        ]
    })
}

fn row() -> impl Strategy<Value = Row> {
    prop::collection::vec(prop::option::weighted(0.85, 0..20_usize), COLUMNS.len() - 1).prop_map(|picks| {
        let value = |(c, pick): (usize, Option<usize>)| match pick {
            None => Value::Null,
            Some(i) => Value::from_text(VALUES[c][i % VALUES[c].len()], type_of(c + 1)).unwrap_or(Value::Null),
        };
        [Value::Int(1)].into_iter().chain(picks.into_iter().enumerate().map(value)).collect()
    })
}

/// Rules that show all, only some rows, only some columns, another column where a condition holds, or another value.
fn rules(kind: usize, condition: &str) -> Vec<RuleText> {
    let all = RuleText { role: "all".into(), table: TableName::plain("t"), ..RuleText::default() };
    let some = |columns: &[&str]| Some(columns.iter().map(|c| (*c).to_string()).collect());
    match kind {
        0 => vec![all],
        1 => vec![RuleText { rows: Some(condition.into()), ..all }],
        2 => {
            let few = RuleText { columns: some(&["id", "q", "x", "d", "m", "b"]), ..all.clone() };
            vec![few, RuleText { rows: Some(condition.into()), ..all }]
        }
        3 => vec![RuleText {
            masks: BTreeMap::from([("n".into(), "1".into()), ("t".into(), "left(t, 1)".into())]),
            ..all
        }],
        _ => vec![
            RuleText { masks: BTreeMap::from([("n".into(), "NULL".into())]), ..all.clone() },
            RuleText { rows: Some(condition.into()), ..all },
        ],
    }
}

fn plan(query: &str, rules: Vec<RuleText>) -> Option<EffectivePlan> {
    let mut engine = Engine::new(Arc::new(RuleSet::new(rules)), Limits::default());
    engine.handle(Input::Table(table()));
    let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
    engine.compile(&Request { query: query.into(), claims, ..Request::default() }).ok()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 3_000, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn who_sees_a_row_is_found(
        asked in prop::collection::vec((condition(), 0..5_usize, condition()), 1..12),
        rows in prop::collection::vec(row(), 1..12),
        gone in any::<u16>(),
    ) {
        let feeds: Vec<EffectivePlan> = asked
            .iter()
            .filter_map(|(condition, kind, of_rule)| plan(&format!("SELECT * FROM t WHERE {condition}"), rules(*kind, of_rule)))
            .collect();
        let mut index = TableIndex::default();
        let path = |plan: &EffectivePlan| AccessPath::of(plan, &());
        feeds.iter().enumerate().for_each(|(i, plan)| index.insert(i as u32, &path(plan)));
        let is_gone = |i: usize| gone & (1 << i) != 0;
        for leaves in [false, true] {
            if leaves {
                (0..feeds.len()).filter(|i| is_gone(*i)).for_each(|i| index.remove(i as u32, &path(&feeds[i])));
            }
            for row in &rows {
                for (old, new) in [(None, Some(row)), (Some(row), None), (Some(row), Some(&rows[0]))] {
                    let mut found = HashSet::new();
                    index.touched(old, new, |feed| {
                        found.insert(feed);
                    });
                    for (i, plan) in feeds.iter().enumerate() {
                        let sees = [old, new].into_iter().flatten().any(|row| plan.sees(row, &()));
                        let present = !(leaves && is_gone(i));
                        prop_assert!(!sees || !present || found.contains(&(i as u32)), "{} is not found for {:?}", plan.to_sql(), row);
                        prop_assert!(present || !found.contains(&(i as u32)), "{} is found and gone", plan.to_sql());
                    }
                }
            }
        }
    }
}

/// A condition with a value, bounds, a beginning or `NULL` costs nothing for changes of other rows.
#[test]
fn changes_of_other_rows_do_not_lead_to_a_feed() {
    let all = rules(0, "");
    let other: Row = [
        Value::Int(1),
        Value::Int(50),
        Value::Int(50),
        Value::Float(50.0),
        "zebra".into(),
        Value::Date(0),
        Value::Timestamp(0),
        Value::Bool(true),
        Value::Json(r#"["c"]"#.into()),
        Value::Null,
    ]
    .into();
    for (condition, words) in [
        ("n = 3", "values of n"),
        ("n IN (1, 2, 3) AND q > 0", "values of n"),
        ("n BETWEEN 3 AND 9", "bounds of n"),
        ("q > 60", "bounds of q"),
        ("x < 2.5 AND x > 1 AND q > 0", "bounds of x"),
        ("t LIKE 'ab%'", "bounds of t"),
        ("n IS NULL AND q > 0 AND t LIKE '%b'", "bounds of q"),
        ("n IS NULL", "NULL in n"),
        ("n = 3 OR t LIKE 'ab%' OR b IS NULL", "values of n; bounds of t; NULL in b"),
        ("d > '2024-02-28'", "bounds of d"),
        ("'a' = ANY (words) AND n > 0", "elements of words"),
        ("words @> '{a,b}' OR numbers && '{1,2}'", "elements of words, numbers"),
        ("words && '{}'", "no change"),
        ("words @> '{}'", "every change of the table"),
        ("t LIKE '%a'", "every change of the table"),
        ("n <> 3", "every change of the table"),
    ] {
        let plan = plan(&format!("SELECT * FROM t WHERE {condition}"), all.clone()).unwrap();
        let path = AccessPath::of(&plan, &());
        assert_eq!(path.text(plan.table()), words, "{condition}");
        let mut index = TableIndex::default();
        index.insert(1, &path);
        let mut found = 0;
        index.touched(None, Some(&other), |_| found += 1);
        let leads = words == "every change of the table" || condition.starts_with("n IS NULL AND q > 0");
        assert_eq!(found > 0, leads, "{condition}");
    }
}
