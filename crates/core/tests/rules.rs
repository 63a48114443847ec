//! What rules can say: sub-selects, lists, casts, masks; and that everything else is refused at its place.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use gossip_core::explain::{Passed, explain};
use gossip_core::position::{CommitTime, Old, Position, RowChange, Transaction};
use gossip_core::query::{Expr, Placeholder, parse_condition, parse_mask, parse_query};
use gossip_core::rule::{self, Claims, May, Permitted, RuleSet, RuleText};
use gossip_core::schema::{Catalog, Column, Identified, TOPIC_SOURCE, Table, TableName};
use gossip_core::value::{Type, Value};
use serde_json::{Map, Value as Json, json};

fn table(name: &str, source: &str, key: &[usize], columns: &[(&str, Type)]) -> Arc<Table> {
    let column = |(name, ty): &(&str, Type)| Column { name: (*name).into(), ty: *ty };
    Arc::new(Table {
        name: TableName::plain(name),
        source: source.into(),
        columns: columns.iter().map(column).collect(),
        key: key.to_vec(),
        old_values: true,
        incarnation: 0,
    })
}

fn catalog() -> Catalog {
    let mut catalog = Catalog::default();
    let text = |n| (n, Type::Text);
    let (id, until) = (("id", Type::Int8), ("until", Type::Timestamptz));
    catalog.put(table("calls", "a", &[0], &[id, text("agency"), text("phone"), ("eta", Type::Date)]));
    catalog.put(table("assignments", "a", &[0], &[id, ("call", Type::Int8), text("pilot"), until]));
    catalog.put(table("crews", "a", &[0], &[id, text("member"), text("boss"), ("since", Type::Any)]));
    catalog.put(table("log", "a", &[], &[id]));
    catalog.put(table("elsewhere", "b", &[0], &[id]));
    catalog
}

fn calls() -> Arc<Table> {
    catalog().get(&TableName::plain("calls")).unwrap().clone()
}

#[test]
fn sub_selects_are_understood_and_shown_again() {
    for (text, shown) in [
        (
            "id IN (SELECT call FROM assignments WHERE pilot = claim.sub)",
            "id IN (SELECT call FROM assignments WHERE pilot = claim.sub)",
        ),
        (
            "EXISTS (SELECT 1 FROM assignments a WHERE calls.id = a.call AND pilot LIKE 'A%')",
            "(id) IN (SELECT call FROM assignments WHERE pilot LIKE 'A%')",
        ),
        (
            "NOT EXISTS (SELECT * FROM assignments AS a WHERE a.call = calls.id AND a.pilot IN \
             (SELECT member FROM crews WHERE boss = ANY(claim.team.bosses)))",
            "NOT ((id) IN (SELECT call FROM assignments WHERE pilot IN \
             (SELECT member FROM crews WHERE boss = ANY(claim.team.bosses))))",
        ),
        ("EXISTS (SELECT 1 FROM crews WHERE boss = claim.sub)", "EXISTS (SELECT 1 FROM crews WHERE boss = claim.sub)"),
        ("claim.sub IN (SELECT boss FROM crews)", "claim.sub IN (SELECT boss FROM crews)"),
        ("id = claim.n::int8 AND eta > CAST('2026-11-23' AS date)", "id = claim.n AND eta > '2026-11-23'"),
        ("id::text = claim.sub", "id::text = claim.sub"),
        (
            "id IN (SELECT call FROM assignments WHERE NOW() - interval '1 hour' < until)",
            "id IN (SELECT call FROM assignments WHERE until > now() - interval '1 hours')",
        ),
        ("lower(agency) = left(claim.sub, 3)", "lower(agency) = left(claim.sub, 3)"),
        ("agency ILIKE 'Bay%'", "lower(agency) LIKE 'bay%'"),
        ("agency IS NOT DISTINCT FROM claim.sub", "NOT (agency IS DISTINCT FROM claim.sub)"),
        (
            "CASE WHEN id > 3 THEN 'a' ELSE coalesce(agency, 'b') END = claim.sub",
            "CASE WHEN id > 3 THEN 'a' ELSE coalesce(agency, 'b') END = claim.sub",
        ),
    ] {
        let e = parse_condition(text, &calls(), &catalog()).unwrap_or_else(|e| panic!("{text}: {e}"));
        assert_eq!(e.show(&calls(), None).to_string(), shown);
    }
}

#[test]
fn what_a_rule_cannot_say_is_refused_at_its_place() {
    for (text, column, words) in [
        ("id IN (SELECT call FROM assinments)", 25, "assinments is not known"),
        ("id IN (SELECT id FROM log)", 23, "log has no key"),
        ("id IN (SELECT id FROM elsewhere)", 23, "elsewhere is of another source"),
        ("id IN (SELECT call, id FROM assignments)", 21, "one column is selected"),
        ("id IN (SELECT call FROM assignments WHERE pilot = agency)", 8, "EXISTS (SELECT …)"),
        ("EXISTS (SELECT 1 FROM assignments WHERE call > calls.id)", 1, "in another way"),
        ("EXISTS (SELECT 1 FROM assignments WHERE call = calls.id OR id = 1)", 1, "in another way"),
        ("id IN (SELECT nothing FROM assignments)", 15, "nothing is not known"),
        ("agency IN (SELECT call FROM assignments)", 12, "cannot be compared with"),
        (
            "id IN (SELECT call FROM assignments WHERE pilot IN (SELECT member FROM crews WHERE boss IN (SELECT boss FROM crews)))",
            93,
            "at most 2 levels deep",
        ),
        ("id = (SELECT 1)", 7, "stands after IN or EXISTS"),
        ("agency = ANY(phone)", 14, "this is not a list; expected claim.name"),
        ("agency <> ANY(claim.x)", 11, "only = goes with ANY"),
        ("agency = :p", 10, "a rule has no parameters"),
        ("agency::int8 = 1", 9, "not cast to int8 here"),
        ("id::nothing = 1", 5, "not the name of a type"),
        ("'x'::int8 = id", 1, "not a value of type int8"),
        ("10 / id > 1", 1, "this can fail on a row"),
        ("id = 1 OR agency || 'x' = 'y'", 11, "this can fail on a row"),
        ("eta > now()", 1, "a value of type date beside NOW()"),
        ("EXISTS (SELECT 1 FROM crews WHERE since > now())", 35, "declared as TIMESTAMPTZ"),
        ("id IN (SELECT call FROM assignments WHERE until = now())", 51, "NOW() is not understood here"),
        (
            &beside_now(17),
            1 + 16 * "id IN (SELECT call FROM assignments WHERE until > now()) OR ".len() + 50,
            "at most 16",
        ),
    ] {
        let e = parse_condition(text, &calls(), &catalog()).expect_err(text).to_string();
        assert!(e.contains(words) && e.starts_with(&format!("line 1, column {column}:")), "{text}: {e}");
    }
}

/// A client's sub-selects ask what the client may see, and nothing tells a table that it may not see from one that is not there.
#[test]
fn a_client_asks_other_tables_that_it_may_see() {
    let rule = |t: &str, columns: &[&str]| RuleText {
        role: "all".into(),
        table: TableName::plain(t),
        columns: Some(columns.iter().map(|c| c.to_string()).collect()),
        ..RuleText::default()
    };
    let all = ["id", "agency"];
    let crews = rule("crews", &["id", "member"]);
    let rules = RuleSet::new(vec![rule("calls", &all), crews, rule("log", &["id"]), rule("elsewhere", &["id"])]);
    let claims = Claims { roles: vec!["all".into()], ..Claims::default() };
    let catalog = catalog();
    let permitted = Permitted { catalog: &catalog, rules: &rules, claims: &claims };
    let parsed = |text: &str| parse_query(text, &permitted, &Map::new());
    for condition in [
        "id IN (SELECT id FROM crews)",
        "agency NOT IN (SELECT member FROM crews c WHERE c.id / 2 > 1)",
        "EXISTS (SELECT 1 FROM crews WHERE member = calls.agency) AND NOT EXISTS (SELECT * FROM calls c WHERE c.id = 3)",
    ] {
        let query =
            parsed(&format!("SELECT id FROM calls WHERE {condition}")).unwrap_or_else(|e| panic!("{condition}: {e}"));
        assert!(query.tables().len() <= 2 && query.condition.is_total() && *query.tables()[0].name.name == *"calls");
    }
    let many = ["id IN (SELECT id FROM crews)"; 9].join(" OR ");
    for (condition, words) in [
        ("id IN (SELECT id FROM assignments)", "assignments is not known or not permitted"),
        ("id IN (SELECT id FROM assinments)", "assinments is not known or not permitted"),
        ("id IN (SELECT id FROM crews WHERE boss = 'x')", "column boss is not known or not permitted"),
        ("id IN (SELECT id FROM log)", "log has no key"),
        ("id IN (SELECT id FROM elsewhere)", "elsewhere is of another source"),
        ("id + 1 IN (SELECT id FROM crews)", "only a column is looked for"),
        ("5 IN (SELECT id FROM crews)", "only a column is looked for"),
        ("EXISTS (SELECT id FROM crews WHERE id > calls.id)", "in another way"),
        ("id IN (SELECT id FROM crews GROUP BY id)", "expected"),
        (&many, "at most 8 in one query"),
        ("agency = claim.sub", "claim.sub is not known"),
    ] {
        let e = parsed(&format!("SELECT id FROM calls WHERE {condition}")).expect_err(condition).to_string();
        assert!(e.contains(words), "{condition}: {e}");
    }
    for text in [
        "SELECT id IN (SELECT id FROM crews) AS of_crew FROM calls",
        "SELECT count(*) FROM calls GROUP BY agency HAVING EXISTS (SELECT 1 FROM crews)",
        "SELECT count(*) FILTER (WHERE EXISTS (SELECT 1 FROM crews)) FROM calls",
        "SELECT id FROM calls ORDER BY EXISTS (SELECT 1 FROM crews)",
    ] {
        let e = parsed(text).expect_err(text).to_string();
        assert!(e.contains("a sub-select cannot stand here"), "{text}: {e}");
    }
}

/// Before it is known who asks, a sub-select finds nothing, also where that is denied.
#[test]
fn without_an_asker_nothing_is_found_and_nothing_is_missing() {
    let query = parse_query("SELECT id FROM calls WHERE id NOT IN (SELECT id FROM crews)", &catalog(), &Map::new());
    let query = query.unwrap().bind(&Map::new(), &Map::new()).unwrap();
    let row = [Value::Int(1), Value::Null, Value::Null, Value::Null];
    assert_eq!(query.condition.truth(&row[..]), Ok(None));
}

#[test]
fn a_query_names_its_table_and_columns_as_it_likes() {
    let shown = |text: &str| {
        let query = parse_query(text, &catalog(), &Map::new()).unwrap_or_else(|e| panic!("{text}: {e}"));
        (query.project.plain().collect::<Vec<_>>(), query.condition.show(&query.table, None).to_string())
    };
    for text in [
        "SELECT id, eta FROM calls WHERE id = 1",
        "SELECT c.id, eta FROM calls AS c WHERE c.id = 1;",
        "SELECT C.ID, \"eta\" FROM Calls c WHERE 1::int8 = ((c.id))",
    ] {
        let (select, condition) = shown(text);
        assert_eq!(select, [0, 3], "{text}");
        assert!(condition == "id = 1" || condition == "1 = id", "{text}: {condition}");
    }
    for (text, column, words) in [
        ("SELECT calls.id FROM calls AS c", 14, "calls.id is not known"),
        ("SELECT c.calls.id FROM calls AS c", 8, "more than two parts"),
        ("SELECT id, id FROM calls", 12, "named twice"),
        ("SELECT id, * FROM calls", 12, "named twice"),
        ("SELECT id || 'x' FROM calls", 8, "a column without a name; expected AS"),
        ("SELECT id, agency AS id FROM calls", 12, "a second column id; expected AS"),
        ("SELECT id FROM calls WHERE id || 1 = 'y'", 34, "neither side of || is a text"),
        (
            "SELECT id FROM calls WHERE lowr(agency) = 'y'",
            28,
            "the function lowr is not known here; did you mean lower?",
        ),
        ("SELECT id FROM calls WHERE lower(id) = 'y'", 34, "a value of type int8"),
        ("SELECT id FROM calls WHERE lower(agency, 'x') = 'y'", 28, "lower has 2 arguments; expected 1 argument"),
        ("SELECT id FROM calls WHERE agency + 1 = 2", 28, "a value of type text is not a number"),
        ("SELECT id FROM calls WHERE id % 1.5::float8 = 2", 28, "% is not defined for float8"),
        (
            "SELECT id FROM calls WHERE CASE WHEN id = 1 THEN 1 ELSE 'x' || 'y' END = 1",
            50,
            "a value of type int4 beside one of type text",
        ),
        ("SELECT id FROM calls WHERE count(*) = 1", 28, "count is of many rows"),
        ("SELECT id FROM calls WHERE id = '70000'::int2", 33, "not a value of type int2"),
    ] {
        let e = parse_query(text, &catalog(), &Map::new()).expect_err(text).to_string();
        assert!(e.contains(words) && e.starts_with(&format!("line 1, column {column}:")), "{text}: {e}");
    }
}

/// What is wrong with groups, orders and windows is said at its place.
#[test]
fn a_query_that_arranges_its_rows_says_what_is_wrong() {
    for (text, column, words) in [
        ("SELECT agency, id FROM calls GROUP BY agency", 16, "the rows of a group may differ in id"),
        ("SELECT agency, count(*) FROM calls", 8, "the rows of a group may differ in agency"),
        ("SELECT agency, sum(max(id)) FROM calls GROUP BY agency", 20, "max is of many rows"),
        ("SELECT agency FROM calls GROUP BY count(*)", 35, "count is of many rows"),
        ("SELECT count(*) AS n FROM calls GROUP BY n", 42, "an aggregate in GROUP BY"),
        ("SELECT sum(agency) FROM calls", 12, "a value of type text; expected a number"),
        ("SELECT sum(DISTINCT id) FROM calls", 12, "DISTINCT in sum; expected COUNT(DISTINCT"),
        ("SELECT max(*) FROM calls", 8, "max(*)"),
        ("SELECT lower(agency) FILTER (WHERE true) FROM calls", 36, "lower is not of many rows"),
        ("SELECT id FROM calls LIMIT 3", 28, "it would be any rows"),
        ("SELECT id FROM calls ORDER BY id OFFSET 3", 41, "OFFSET without LIMIT"),
        ("SELECT id FROM calls ORDER BY id LIMIT id", 40, "this is not a number of rows"),
        ("SELECT id FROM calls ORDER BY id LIMIT 1 LIMIT 2", 42, "LIMIT stands there already"),
        ("SELECT id FROM calls ORDER BY 2", 31, "2 is not the place of a column"),
        ("SELECT id FROM calls ORDER BY agency COLLATE \"de\"", 38, "text is ordered by its bytes"),
        ("SELECT DISTINCT ON (agency) id FROM calls", 8, "which row is the first is not said"),
        ("SELECT DISTINCT ON (agency) id FROM calls ORDER BY id, agency", 8, "which row is the first is not said"),
        ("SELECT DISTINCT agency FROM calls ORDER BY id", 44, "the rows of a group may differ in id"),
        ("SELECT DISTINCT count(*) FROM calls", 8, "DISTINCT beside groups"),
        ("SELECT count(*) FROM log", 8, "the rows of log have no key"),
        ("SELECT id FROM log ORDER BY id", 29, "the rows of log have no key"),
        ("SELECT id FROM calls UNION SELECT id FROM log", 22, "one SELECT is supported"),
    ] {
        let e = parse_query(text, &catalog(), &Map::new()).expect_err(text).to_string();
        assert!(e.contains(words) && e.starts_with(&format!("line 1, column {column}:")), "{text}: {e}");
    }
    let bound = |text: &str, n: serde_json::Value| {
        let params = json!({ "n": n }).as_object().cloned().unwrap();
        parse_query(text, &catalog(), &params).and_then(|q| q.bind(&params, &Map::new())).map_err(|e| e.to_string())
    };
    let window = "SELECT id FROM calls ORDER BY id LIMIT :n OFFSET 990";
    assert!(bound(window, json!(10)).is_ok());
    assert!(bound(window, json!(null)).unwrap_err().contains("OFFSET without LIMIT"));
    assert!(bound("SELECT id FROM calls ORDER BY id LIMIT :n", json!(null)).is_ok());
    assert!(bound(window, json!(11)).unwrap_err().contains("together are 1001 rows; at most 1000"));
    assert!(bound(window, json!(-1)).unwrap_err().contains("LIMIT is not a number from 0 to 1000"));
    assert!(bound(window, json!("many")).unwrap_err().contains("parameter :n"));
}

#[test]
fn a_list_that_is_none_grants_nothing_and_an_empty_one_finds_nothing() {
    let e = parse_condition("agency = ANY(claim.list)", &calls(), &catalog()).unwrap();
    let fill =
        |claims: serde_json::Value| e.bind(Placeholder::Claim, claims.as_object().unwrap()).map(Expr::canonicalize);
    for claims in [
        json!({}),
        json!({"list": "a"}),
        json!({"list": null}),
        json!({"list": [1]}),
        json!({"list": vec!["x"; 10_001]}),
    ] {
        assert!(fill(claims.clone()).is_err(), "{claims}");
    }
    assert!(fill(json!({"list": []})).unwrap().is_const(false));
    assert_eq!(
        fill(json!({"list": ["b", "a", "b"]})).unwrap().show(&calls(), None).to_string(),
        "agency IN ('a', 'b')"
    );
}

#[test]
fn masks_are_values_of_the_columns_type() {
    let row = |phone: Value| [Value::Int(7), "Dunmore".into(), phone, Value::Null];
    let value = |text: &str, phone: &str| parse_mask(text, &calls(), 2).unwrap().value(&row(phone.into()));
    assert_eq!(value("'…' || right(phone, 4)", "00441234"), "…1234".into());
    assert_eq!(value("left(agency, 1) || left(phone, -3) || right(phone, -3)", "äöü45"), "Däö45".into());
    assert_eq!(value("right(phone, 9)", "12"), "12".into());
    assert_eq!(parse_mask("'x' || phone", &calls(), 2).unwrap().value(&row(Value::Null)), Value::Null);
    assert_eq!(value("upper(left(agency, 2)) || length(phone)", "123"), "DU3".into());
    assert_eq!(value("CASE WHEN id > 5 THEN phone ELSE '' END", "123"), "123".into());
    let at = |text: &str, column| parse_mask(text, &calls(), column).unwrap().value(&row("1".into()));
    assert_eq!((at("NULL", 3), at("-1", 0)), (Value::Null, Value::Int(-1)));
    assert_eq!((at("id / 2", 0), at("id / (id - 7)", 0)), (Value::Int(3), Value::Null), "what fails is not shown");
    let shared = parse_mask("CASE WHEN agency = claim.agency THEN phone END", &calls(), 2).unwrap();
    let bound = |facts: Json| shared.bind(facts.as_object().unwrap()).map(|mask| mask.value(&row("1".into())));
    assert_eq!(bound(json!({"agency": "Dunmore"})), Ok("1".into()));
    assert_eq!(bound(json!({"agency": "Other"})), Ok(Value::Null));
    assert!(bound(json!({})).is_err(), "a claim that is missing grants nothing");
    for (text, column, words) in [
        ("'x'", 0, "not a value of type int8"),
        ("1", 2, "a value of type text"),
        ("left(phone)", 2, "argument"),
        ("left(eta, 1)", 2, "a value of type text"),
        ("phone", 3, "a value of type"),
        ("CASE WHEN id IN (SELECT id FROM calls) THEN phone END", 2, "table"),
        ("CASE WHEN '2026-12-01T00:00Z'::timestamptz < now() THEN phone END", 2, "NOW() is not understood here"),
        ("right(phone, 4) 'x'", 2, "the end of the text"),
    ] {
        let e = parse_mask(text, &calls(), column).expect_err(text).to_string();
        assert!(e.contains(words), "{text}: {e}");
    }
}

/// A condition that asks the time so often.
fn beside_now(times: usize) -> String {
    vec!["id IN (SELECT call FROM assignments WHERE until > now())"; times].join(" OR ")
}

#[test]
fn a_rule_for_publishing_decides_by_the_event_alone() {
    let mut catalog = catalog();
    catalog.put(table("pings", TOPIC_SOURCE, &[0], &[("id", Type::Int8), ("seen", Type::Timestamptz)]));
    for (rows, publish, problem) in [
        ("seen > now()", true, Some("neither other tables nor the time")),
        ("seen > now()", false, None),
        ("id > 0", true, None),
    ] {
        let may = May { read: true, publish };
        let (table, rows) = (TableName::plain("pings"), Some(rows.to_string()));
        let rule = RuleText { role: "all".into(), table, may, rows, ..RuleText::default() };
        let told = RuleSet::new(vec![rule]).check(&catalog).into_iter().map(|p| p.message).next();
        assert_eq!(told.is_some(), problem.is_some(), "{told:?}");
        assert!(problem.is_none_or(|problem| told.is_some_and(|told| told.contains(problem))));
    }
}

#[test]
fn a_changed_membership_is_explained_by_the_rule_that_asks_it() {
    let rule = RuleText {
        role: "pilot".into(),
        table: TableName::plain("calls"),
        rows: Some("id IN (SELECT call FROM assignments WHERE pilot = claim.sub)".into()),
        ..RuleText::default()
    };
    let (rules, catalog) = (RuleSet::new(vec![rule]), catalog());
    let facts = json!({"sub": "ada"}).as_object().unwrap().clone();
    let claims = Claims { roles: vec!["pilot".into()], facts, operator: false };
    let permitted = Permitted { catalog: &catalog, rules: &rules, claims: &claims };
    let query = parse_query("SELECT * FROM calls", &permitted, &Map::new()).unwrap();
    let standing = rules.standing(&calls(), &claims, &catalog);
    let plan = rule::fold(query, &permitted);
    let steps = |table: &str, width: usize| {
        let new = (0..width).map(|_| Value::Int(1)).collect();
        let change = RowChange {
            table: TableName::plain(table),
            description: catalog.identity(&TableName::plain(table)).unwrap(),
            key: [Value::Int(1)].into(),
            old: Old::Known(None),
            new: Some(new),
            omitted_columns: Default::default(),
        };
        let (position, committed) = (Position::at(1), CommitTime::default());
        explain(
            &plan,
            &standing,
            &Transaction { position, committed, number: 0, inexact_after: None, changes: vec![change] },
            &(),
        )
    };
    let of_assignments = steps("assignments", 4);
    assert!(of_assignments[0].text.contains("assignments, which a rule on calls asks"), "{of_assignments:?}");
    assert_eq!(of_assignments[0].verdict, Passed::Yes);
    assert_eq!(steps("crews", 4)[0].verdict, Passed::No, "nobody asks it");
    let unknown = &steps("calls", 4)[1];
    assert!(
        unknown.verdict == Passed::No && unknown.values[0].starts_with("nobody listens under this rule"),
        "{unknown:?}"
    );
}

/// The step of the query speaks of values as the asker sees them, as the verdict does.
#[test]
fn a_masked_value_is_explained_as_its_mask() {
    let rule = RuleText {
        role: "agent".into(),
        table: TableName::plain("calls"),
        masks: [("phone".to_string(), "left(phone, 2) || '…'".to_string())].into(),
        ..RuleText::default()
    };
    let (rules, catalog) = (RuleSet::new(vec![rule]), catalog());
    let claims = Claims { roles: vec!["agent".into()], ..Claims::default() };
    let permitted = Permitted { catalog: &catalog, rules: &rules, claims: &claims };
    let steps = |query: &str| {
        let standing = rules.standing(&calls(), &claims, &catalog);
        let plan = rule::fold(parse_query(query, &permitted, &Map::new()).unwrap(), &permitted);
        let table = catalog.get(&calls().name).unwrap().clone();
        let row = [Value::Int(1), "Dunmore".into(), "0171 555".into(), Value::Null].into();
        let change = RowChange::of(&Identified::new(table), [Value::Int(1)].into(), Old::Known(None), Some(row));
        let (position, committed) = (Position::at(1), CommitTime::default());
        let transaction = Transaction { position, committed, number: 0, inexact_after: None, changes: vec![change] };
        explain(&plan, &standing, &transaction, &())
    };
    let told = steps("SELECT id FROM calls WHERE phone = '0171 555'");
    assert_eq!(told[2].verdict, Passed::No);
    assert!(told[2].values[0].contains("01…") && !told[2].values[0].contains("0171 555 ="), "{told:?}");
    assert_eq!(steps("SELECT id FROM calls WHERE phone = '01…'")[2].verdict, Passed::Yes);
}
