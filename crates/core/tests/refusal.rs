//! Why a query is refused: what is wrong with it, or which rules there are and what they lack.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Request};
use gossip_core::explain::Passed;
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Table, TableName};
use gossip_core::value::Type;
use serde_json::json;

fn engine() -> Engine {
    let column = |name: &str, ty| Column { name: name.into(), ty };
    let columns = vec![column("id", Type::Int8), column("agency", Type::Text), column("note", Type::Text)];
    let name = TableName::plain("calls");
    let table =
        Table { name: name.clone(), source: "s".into(), columns, key: vec![0], old_values: true, incarnation: 0 };
    let rule = |role: &str, rows: Option<&str>, columns: Option<&[&str]>| RuleText {
        role: role.into(),
        table: name.clone(),
        rows: rows.map(String::from),
        columns: columns.map(|columns| columns.iter().map(|c| c.to_string()).collect()),
        ..RuleText::default()
    };
    let rules = vec![
        rule("control", None, None),
        rule("agent", Some("agency = claim.agency"), Some(&["id", "agency"])),
        rule("agent", Some("agency = claim.team.name"), Some(&["id"])),
    ];
    let mut engine = Engine::new(Arc::new(RuleSet::new(rules)), Limits::default());
    engine.handle(Input::Table(Arc::new(table)));
    engine
}

#[test]
fn each_reason_is_told_with_what_would_help() {
    let engine = engine();
    let why = |role: &str, claims: serde_json::Value, query: &str| {
        let facts = claims.as_object().cloned().unwrap();
        let claims = Arc::new(Claims { roles: vec![role.into()], facts, operator: false });
        let request = Request { query: query.into(), claims, ..Request::default() };
        let e = engine.compile(&request).unwrap_err();
        let steps = engine.refusal_steps(&request, &e).into_iter().filter(|step| step.verdict == Passed::No);
        steps.map(|step| (step.step, step.text, step.values.join("; "))).collect::<Vec<_>>()
    };
    let none = || json!({});
    let own = || json!({"agency": "fen"});
    for (role, claims, query, expected) in [
        ("control", none(), "SELECT * FROM cals", vec![("stream", "table cals is not known", "these stream: calls")]),
        (
            "pilot",
            none(),
            "SELECT id FROM calls",
            vec![("rule", "no rule lets pilot read calls", "agent, control may")],
        ),
        (
            "agent",
            none(),
            "SELECT id FROM calls",
            vec![
                ("rule", "agent on calls:  agency = claim.agency", "claim.agency "),
                ("rule", "agent on calls:  agency = claim.team.name", "claim.team.name "),
            ],
        ),
        (
            "agent",
            own(),
            "SELECT note FROM calls",
            vec![
                ("rule", "agent on calls:  agency = claim.team.name", "claim.team.name "),
                ("columns", "none of these rules shows calls.note", "control may"),
            ],
        ),
        ("agent", own(), "SELECT id FROM calls WHERE", vec![("query", "line 1", "")]),
        ("agent", own(), "SELECT id FROM calls WHERE id = :id", vec![("query", "parameter :id", "")]),
    ] {
        let found = why(role, claims, query);
        assert_eq!(found.len(), expected.len(), "{query}: {found:?}");
        for ((step, text, values), (of, begins, with)) in found.iter().zip(expected) {
            assert!(step == of && text.contains(begins) && values.starts_with(with), "{query}: {found:?}");
        }
    }
    // A column that does not exist is wrong with the query, whoever asks.
    let found = why("control", none(), "SELECT nothing FROM calls");
    assert!(matches!(&found[..], [(step, ..)] if step == "query"), "{found:?}");
}
