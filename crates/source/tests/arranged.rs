//! PostgreSQL is the oracle for what groups, orders, windows and sub-selects are: same rows, same query, same rows of the result
//! in the same order, of the same types.
//!
//! 1,000 cases in every run; more with `PROPTEST_CASES`.
#![allow(clippy::unwrap_used)]

#[path = "../../core/tests/arranged/others.rs"]
#[allow(dead_code, reason = "rules of other tests ask more")]
mod others;
#[path = "../../core/tests/arranged/queries.rs"]
mod queries;

use std::cell::RefCell;
use std::collections::BTreeMap;

use gossip_core::operator::{Operators, Ties};
use gossip_core::plan::{EffectivePlan, RowDelta};
use gossip_core::query::function::{EvalError, Function};
use gossip_core::query::parse_trusted_query;
use gossip_core::rule::{self, Claims, Permitted, RuleSet, RuleText};
use gossip_core::schema::{Catalog, Row, TableName};
use gossip_core::value::{Type, Value};
use postgres::SimpleQueryMessage;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use queries::{COLUMNS, KINDS, Kind, Query, Texts, query, table, texts};
use serde_json::Map;

type Texted = Vec<Vec<Option<String>>>;

fn plan(text: &str) -> EffectivePlan {
    let mut catalog = Catalog::default();
    catalog.put(table(true));
    catalog.put(others::others(true));
    let query = parse_trusted_query(text, &catalog, &Map::new()).unwrap_or_else(|e| panic!("{text}: {e}"));
    let query = query.bind(&Map::new(), &Map::new()).unwrap();
    let all =
        |table: &str| RuleText { role: "anonymous".into(), table: TableName::plain(table), ..RuleText::default() };
    let (rules, claims) = (RuleSet::new(vec![all("t"), all("o")]), Claims::anonymous());
    rule::fold(query, &Permitted { catalog: &catalog, rules: &rules, claims: &claims })
}

/// The result, by the operators that feeds have.
fn ours(plan: &EffectivePlan, rows: &[Row], of_others: &[Row]) -> Result<Vec<Vec<Value>>, EvalError> {
    let sets = others::sets(plan, &|_| of_others.to_vec())?;
    let Some(mut operators) = Operators::of(plan, Ties::ByKey) else {
        let seen = rows.iter().filter_map(|row| plan.see(row, &sets).transpose());
        return seen.map(|row| Ok(row?.row.to_vec())).collect();
    };
    for row in rows {
        let new = plan.see(row, &sets)?;
        operators.apply(plan, plan.key_of(row), RowDelta { old: None, new })?;
    }
    operators.settle(plan)?;
    operators.deliver(plan)?;
    Ok(operators.result().iter().map(|(_, row)| row.row.to_vec()).collect())
}

/// The text of a value as PostgreSQL sends it.
fn text(value: &Value, ty: Type) -> Option<String> {
    match value {
        Value::Null => None,
        Value::Bool(b) => Some(if *b { "t" } else { "f" }.into()),
        Value::Text(s) => Some(s.to_string()),
        v => match Function::Cast(ty, Type::Text).value(std::slice::from_ref(v)) {
            Ok(Value::Text(s)) => Some(s.to_string()),
            other => panic!("{v:?}: {other:?}"),
        },
    }
}

/// Which of several equal numbers a group shows is not PostgreSQL's to say.
fn in_short(name: &str, text: Option<String>) -> Option<String> {
    match text {
        Some(n) if name.starts_with('k') && n.contains('.') => {
            Some(n.trim_end_matches('0').trim_end_matches('.').into())
        }
        Some(n) if name.starts_with('k') && n == "-0" => Some("0".into()),
        text => text,
    }
}

fn theirs(pg: &mut postgres::Client, text: &str) -> Result<Texted, String> {
    let messages = pg.simple_query(text).map_err(|e| e.to_string())?;
    let row = |m: &SimpleQueryMessage| match m {
        SimpleQueryMessage::Row(row) => {
            let cell = |i: usize| in_short(row.columns()[i].name(), row.get(i).map(String::from));
            Some((0..row.len()).map(cell).collect())
        }
        _ => None,
    };
    Ok(messages.iter().filter_map(row).collect())
}

fn compare(
    pg: &mut postgres::Client,
    asked: &Query,
    (rows, of_others): (&[Texts], &[others::Texts]),
) -> Result<&'static str, TestCaseError> {
    let sql = |text: &&str| if text.is_empty() { "NULL".to_string() } else { format!("'{text}'") };
    let insert = |table: &str, id: usize, row: &[&str]| {
        let values: Vec<String> = row.iter().map(sql).collect();
        format!("INSERT INTO {table} VALUES ({id}, {});", values.join(", "))
    };
    let inserts: String = rows.iter().enumerate().map(|(id, row)| insert("t", id, row)).collect();
    let beside: String = of_others.iter().enumerate().map(|(id, row)| insert("o", id, row)).collect();
    pg.batch_execute(&format!("TRUNCATE t, o; {inserts}{beside}")).unwrap();
    let plan = plan(&asked.text);
    let rows: Vec<Row> = rows.iter().enumerate().map(|(id, row)| queries::row(id as i64, row).into()).collect();
    let of_others: Vec<Row> = of_others.iter().enumerate().map(|(id, row)| others::row(id as i64, row)).collect();
    let theirs = theirs(pg, &asked.text);
    let ours = match (ours(&plan, &rows, &of_others), &theirs) {
        (Ok(ours), Ok(_)) => ours,
        (Err(_), Err(_)) => return Ok("fail"),
        // Where a sub-select has not the row, the rest of the condition need not have a value.
        (Ok(_), Err(_)) if asked.text.contains("FROM o") && asked.text.contains("10 / v") => return Ok("fail there"),
        (Ok(_), Err(_)) if asked.text.contains("JOIN o") && asked.text.contains("2 / ow") => return Ok("fail there"),
        // What is computed of rows outside a window need not be known.
        (Ok(_), Err(_)) if matches!(asked.kind, Kind::Window | Kind::TopGroups | Kind::First) => {
            return Ok("fail there");
        }
        // A sub-select is read as a whole here, and there for rows around it, if there are any; and where it is unknown whether it has
        // a row, the rest of the condition need not be looked at there.
        (Err(_), Ok(_)) if asked.text.contains("2 / ow") && pg.simple_query("SELECT 2 / ow FROM o").is_err() => {
            return Ok("fail here");
        }
        (Err(_), Ok(_)) if asked.text.contains("FROM o") && pg.simple_query("SELECT 10 / v FROM t").is_err() => {
            return Ok("fail here");
        }
        // PostgreSQL may stop reading where the window ends; it fails if it has to go on.
        (Err(error), Ok(_)) => {
            let whole = asked.text.split(" LIMIT ").next().unwrap_or_default();
            let found = self::theirs(pg, whole);
            prop_assert!(found.is_err(), "{}: {}, and not {:?}", whole, error, found);
            return Ok("fail here");
        }
        (ours, theirs) => {
            return Err(TestCaseError::fail(format!("{}\n{ours:?}\n{theirs:?}", asked.text)));
        }
    };
    let prepared = pg.prepare(&asked.text).unwrap();
    let types: Vec<(&str, Type)> = plan.output().map(|c| (c.name, c.ty)).collect();
    for ((name, ty), theirs) in types.iter().zip(prepared.columns()) {
        prop_assert_eq!(*name, theirs.name(), "{}", &asked.text);
        let found = if theirs.type_().name() == "unknown" { "text" } else { theirs.type_().name() };
        prop_assert_eq!(&*ty.name(), found, "{} of {}", name, &asked.text);
    }
    let cells = |row: &Vec<Value>| -> Vec<Option<String>> {
        row.iter().zip(&types).map(|(v, (name, ty))| in_short(name, text(v, *ty))).collect()
    };
    let (mut ours, mut theirs): (Texted, Texted) = (ours.iter().map(cells).collect(), theirs.unwrap());
    if !plan.is_ordered() {
        ours.sort();
        theirs.sort();
    }
    prop_assert_eq!(ours, theirs, "{}\non {:?}", &asked.text, rows);
    Ok("agree")
}

#[test]
fn results_are_what_postgresql_makes_of_the_rows() {
    let server = testbed::Postgres::start();
    let mut pg = postgres::Client::connect(&server.url(), postgres::NoTls).unwrap();
    let declared: Vec<String> = COLUMNS.iter().map(|(name, _, ty)| format!("{name} {ty}")).collect();
    let tables = format!(
        "CREATE TEMPORARY TABLE t ({}); CREATE TEMPORARY TABLE o (oid int8 PRIMARY KEY, og int4, ow int4, oopen bool)",
        declared.join(", ")
    );
    pg.batch_execute(&tables).unwrap();
    let cases = std::env::var("PROPTEST_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(1_000);
    let mut runner = TestRunner::new(Config { cases, failure_persistence: None, ..Config::default() });
    let (pg, counts) = (RefCell::new(pg), RefCell::new(BTreeMap::<(Kind, &str), u32>::new()));
    let case = (prop::sample::select(KINDS.to_vec()).prop_flat_map(query), prop::collection::vec(texts(), 0..14));
    let of_others = prop::collection::vec(others::texts(), 0..5);
    let outcome = runner.run(&(case, of_others), |((query, rows), of_others)| {
        let what = compare(&mut pg.borrow_mut(), &query, (&rows, &of_others))?;
        if query.text.contains(" JOIN ") {
            *counts.borrow_mut().entry((query.kind, "joined")).or_default() += 1;
        }
        if query.text.contains("FROM o") {
            *counts.borrow_mut().entry((query.kind, "beside others")).or_default() += 1;
        }
        *counts.borrow_mut().entry((query.kind, what)).or_default() += 1;
        Ok(())
    });
    let counts = counts.into_inner();
    eprintln!("{counts:?}");
    outcome.unwrap();
    for kind in KINDS {
        let agreed = counts.get(&(kind, "agree")).copied().unwrap_or(0);
        assert!(agreed >= cases / 50, "{kind:?}: only {agreed} agreed");
        let joined = counts.get(&(kind, "joined")).copied().unwrap_or(0);
        assert!(joined >= cases / 100, "{kind:?}: only {joined} joined another table");
        let beside = counts.get(&(kind, "beside others")).copied().unwrap_or(0);
        assert!(beside >= cases / 100, "{kind:?}: only {beside} asked another table");
    }
}
