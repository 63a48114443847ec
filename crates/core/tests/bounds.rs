//! No text, however long or deep, costs more than is stated: neither the stack of whoever works on it nor their time.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;
use std::time::{Duration, Instant};

use gossip_core::plan::LiveQuery;
use gossip_core::query::expr::MAX_LIST;
use gossip_core::query::function::EvalError;
use gossip_core::query::{
    Expr, MAX_DEPTH, MAX_FUNCTIONS, MAX_TEXT, QueryError, parse_condition, parse_mask, parse_query,
};
use gossip_core::schema::{Catalog, Column, Table, TableName};
use gossip_core::value::{Type, Value};
use gossip_protocol::spelling::{MAX_NAME, similar};
use proptest::prelude::*;
use serde_json::{Map, Value as Json, json};

fn table() -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns: [("id", Type::Int8), ("body", Type::Text), ("ok", Type::Bool)].into_iter().map(column).collect(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

fn catalog() -> Catalog {
    let mut catalog = Catalog::default();
    catalog.put(table());
    catalog
}

fn depth(e: &Expr) -> usize {
    let of = |es: &[Expr]| es.iter().map(depth).max().unwrap_or(0);
    1 + match e {
        Expr::Cmp(_, a, b) | Expr::LikePlaceholder { of: a, pattern: b, .. } => depth(a).max(depth(b)),
        Expr::Computed(computed) => computed.parts().map(depth).max().unwrap_or(0),
        Expr::And(es) | Expr::Or(es) | Expr::Member { of: es, .. } => of(es),
        Expr::Not(e) | Expr::IsNull(e) | Expr::Like(e, _) | Expr::AnyOf(e, ..) => depth(e),
        Expr::In(e, es) => depth(e).max(of(es)),
        Expr::InValues(e, _) => depth(e),
        _ => 0,
    }
}

/// A row that makes a condition as costly as it can be.
fn costly_row() -> [Value; 3] {
    [Value::Int(i64::MAX), Value::from("x".repeat(1 << 20)), Value::Bool(true)]
}

/// Texts that grow with every operator, and numbers, end at a stated size; a condition has only so many of them.
#[test]
fn what_is_computed_is_bounded() {
    let doubled = format!("length({}body{}) > 0", "(".repeat(30), " || body)".repeat(30));
    let query = understood(&doubled).unwrap();
    assert_eq!(query.condition.holds(&costly_row()[..]), Err(EvalError::TooLong));
    let squared = format!("id{} > 0", " * id::numeric".repeat(55));
    assert_eq!(
        understood(&squared).unwrap().condition.holds(&costly_row()[..]),
        Err(EvalError::OutOfRange(Type::Numeric))
    );
    assert!(understood(&format!("id{} > 0", " + 1".repeat(MAX_FUNCTIONS + 1))).is_err(), "depth or number");
    let many = vec!["lower(body) = 'x'"; MAX_FUNCTIONS + 1].join(" OR ");
    assert!(
        matches!(understood(&many), Err(QueryError::Invalid { message, .. }) if message.starts_with("257 functions"))
    );
}

/// Parses as a client's query and as a rule, on a thread with as little stack as any that works on queries. What is taken
/// goes through everything that walks an expression.
fn understood(condition: &str) -> Result<LiveQuery, QueryError> {
    let text = condition.to_string();
    let work = move || {
        let rule = parse_condition(&text, &table(), &catalog());
        let query = parse_query(&format!("SELECT id FROM t WHERE {text}"), &catalog(), &Map::new())
            .and_then(|q| q.bind(&Map::new(), &Map::new()));
        // A rule takes what has a value on every row.
        let fails = query.as_ref().is_ok_and(|q| !q.condition.is_total());
        assert!(rule.is_ok() || query.is_err() || fails, "{rule:?} {query:?}");
        rule.iter().for_each(|e| assert!(depth(e) <= MAX_DEPTH));
        if let Ok(q) = &query {
            assert!(depth(&q.condition) <= MAX_DEPTH, "{} deep", depth(&q.condition));
            let row = [Value::Int(1), "x".into(), Value::Bool(true)];
            let _ = (q.condition.truth(&row[..]), q.condition.show(&q.table, None).to_string(), q.condition.clone());
        }
        query
    };
    std::thread::Builder::new().stack_size(512 * 1024).spawn(work).unwrap().join().unwrap()
}

#[test]
fn no_text_nests_without_end() {
    let n = 4_000;
    for text in [
        format!("id {}", "IS NULL ".repeat(n)),
        format!("id {}", "IS NOT NULL ".repeat(n)),
        format!("{} ok", "NOT ".repeat(n)),
        format!("{}ok{}", "(".repeat(n), ")".repeat(n)),
        format!("{}1{} = 1", "CAST(".repeat(n), " AS int8)".repeat(n)),
        format!("id = {}1", "- ".repeat(n)),
        format!("id = 1{}", " + id".repeat(n)),
        format!("body = {}body{}", "lower(".repeat(n), ")".repeat(n)),
        format!("{}1{} = 1", "CASE WHEN ok THEN ".repeat(n), " END".repeat(n)),
        format!("{}body{} = ''", "trim(BOTH FROM ".repeat(n), ")".repeat(n)),
        // An operand is copied into each comparison.
        format!("{}id{} = 1", "CASE ".repeat(40), " WHEN 1 THEN 1 WHEN 2 THEN 2 END".repeat(40)),
        format!("{}id{} = 1", "NULLIF(".repeat(40), ", 1)".repeat(40)),
        format!("{}ok{}", "(".repeat(40), " IS NULL IS NULL)".repeat(40)),
        // Each level would double what is below it.
        format!("{}ok{}", "(".repeat(40), " BETWEEN false AND true)".repeat(40)),
    ] {
        let begun = Instant::now();
        let e = understood(&text).expect_err("too deep").to_string();
        assert!(e.contains("at most"), "{e}");
        assert!(begun.elapsed() < Duration::from_secs(5), "{:.40}", text);
    }
    for text in
        ["id::text::text = '1'", "NOT NOT NOT ok", "((((id IS NULL))) IS NULL) IS NOT NULL", "ok BETWEEN false AND ok"]
    {
        understood(text).unwrap();
    }
    let masks = format!("{}body{}", "left(".repeat(n), ", 3)".repeat(n));
    assert!(parse_mask(&masks, &table(), 1).unwrap_err().to_string().contains("at most"));
}

#[test]
fn wide_texts_are_understood_in_little_time() {
    let or = |each: &str| vec![each; MAX_TEXT / (each.len() + 4) - 10].join(" OR ");
    let list = |n: usize| (0..n).map(|i| i.to_string()).collect::<Vec<_>>().join(",");
    for text in [or("id = 1"), or("id IS NULL"), or("body LIKE '%a%'"), format!("id IN ({})", list(9_000))] {
        let begun = Instant::now();
        let _ = understood(&text);
        assert!(begun.elapsed() < Duration::from_secs(5), "{:.40}", text);
    }
}

#[test]
fn long_names_are_refused_and_compared_with_nothing() {
    let long = "a".repeat(60_000);
    let begun = Instant::now();
    for text in [format!("{long} = 1"), format!("t.{long} = 1"), format!("\"{long}\" = 1"), format!("id = :{long}")] {
        let e = understood(&text).unwrap_err().to_string();
        assert!(e.len() < 500, "{:.80}", e);
    }
    let e = parse_query(&format!("SELECT * FROM {long}"), &catalog(), &Map::new()).unwrap_err().to_string();
    assert!(e.contains(&MAX_NAME.to_string()) && e.len() < 500, "{:.80}", e);
    let params: Map<String, Json> = [(long.clone(), json!(1))].into_iter().collect();
    let e = parse_query("SELECT * FROM t", &catalog(), &params).unwrap_err().to_string();
    assert!(e.len() < 500, "{:.80}", e);
    assert_eq!(similar(&long, ["id", "aaa"]), None);
    assert!(begun.elapsed() < Duration::from_secs(5));
}

#[test]
fn the_lists_of_a_query_are_bounded_together() {
    let each = "id = ANY(:l)";
    let text = format!("SELECT id FROM t WHERE {}", vec![each; 1_000].join(" OR "));
    let bind = |n: usize| {
        let params: Map<String, Json> = json!({"l": (0..n).collect::<Vec<_>>()}).as_object().unwrap().clone();
        parse_query(&text, &catalog(), &params).and_then(|q| q.bind(&params, &Map::new()))
    };
    assert!(bind(MAX_LIST / 1_000).is_ok());
    assert!(bind(MAX_LIST / 1_000 + 1).unwrap_err().to_string().contains("more than"));
}

#[test]
fn a_pattern_is_matched_in_time_that_does_not_multiply() {
    let text: Arc<str> = "a".repeat(100_000).into();
    for pattern in ["%a%a%a%a%a%a%a%ab", &format!("%{}b%", "a".repeat(1_000)), &format!("%{}b%", "_a".repeat(500))] {
        let condition = parse_condition(&format!("body LIKE '{pattern}'"), &table(), &catalog()).unwrap();
        let begun = Instant::now();
        assert_eq!(condition.truth(&[Value::Int(1), Value::Text(text.clone()), Value::Null][..]), Ok(Some(false)));
        assert!(begun.elapsed() < Duration::from_secs(2), "{:.20}", pattern);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever words stand behind each other, often: an answer, and none of the bounds is crossed.
    #[test]
    fn any_heap_of_words_is_answered(words in proptest::collection::vec(prop::sample::select(vec![
        "NOT", "(", ")", "id", "ok", "IS NULL", "IS NOT NULL", "BETWEEN", "AND", "OR", "IN", "(1, 2)", "LIKE", "'a_%'",
        "=", "<", "1", "CAST(", "AS text)", "::text", "EXISTS", "(SELECT id FROM t)", "claim.x", "ANY(", "-",
        "+", "*", "/", "||", "lower(", "body", "trim(LEADING", "FROM", "substring(", "CASE", "WHEN", "THEN", "ELSE", "END",
        "ILIKE", "IS DISTINCT FROM", "IS TRUE", "nullif(", ",", "coalesce(body,", "::numeric", "date '2026-11-29'",
    ]), 1..12), times in 1..200_usize) {
        let _ = understood(&words.join(" ").repeat(times));
    }
}
