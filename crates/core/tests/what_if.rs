//! What other rules would have let be heard is what an engine under those rules does tell.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::feed::Change;
use gossip_core::plan::EffectivePlan;
use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, ColumnSet, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use gossip_core::what_if::Effect;
use proptest::prelude::*;
use serde_json::json;

fn table() -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns: [("id", Type::Int8), ("a", Type::Int8), ("b", Type::Text)].map(column).to_vec(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

fn rules(of: &[usize]) -> Arc<RuleSet> {
    let rule = |rows: Option<&str>, columns: &[&str], mask: Option<&str>| RuleText {
        role: "r".into(),
        table: TableName::plain("t"),
        rows: rows.map(String::from),
        columns: (!columns.is_empty()).then(|| columns.iter().map(ToString::to_string).collect()),
        masks: mask.map(|m| ("b".to_string(), m.to_string())).into_iter().collect(),
        ..RuleText::default()
    };
    let pool = [
        rule(None, &["id", "a"], None),
        rule(Some("a = 1"), &[], None),
        rule(Some("a > claim.n"), &[], None),
        rule(Some("a = 0"), &["id", "a"], Some("left(b, 1) || '…'")),
        rule(Some("a = claim.absent"), &[], None),
    ];
    Arc::new(RuleSet::new(of.iter().map(|i| pool[*i].clone()).collect()))
}

/// What was told of a row.
type Told = BTreeMap<(Position, i64), String>;

fn told(e: &EffectivePlan, c: &Change) -> String {
    let cells = |row| format!("{:?}", e.shown(row).map(|(i, v)| (i, v.clone())).collect::<Vec<_>>());
    match c {
        Change::Add { row, .. } => "add ".to_string() + &cells(row),
        Change::Replace { row, .. } => "replace ".to_string() + &cells(row),
        Change::Remove { .. } => "remove".into(),
    }
}

fn run(rules: Arc<RuleSet>, request: &Request, transactions: &[Arc<Transaction>]) -> (Engine, Told) {
    let mut engine = Engine::new(rules, Limits::default());
    engine.handle(Input::Table(table()));
    let interval = |transactions: Vec<Arc<Transaction>>, from, to| {
        Input::Interval(Arc::new(Interval {
            source: "s".into(),
            epoch: 1,
            from: Position::at(from),
            to: Position::at(to),
            transactions,
            resets: vec![],
            settled: Position::at(to),
            timeline: 0,
            mark: 0,
            reader: "one".into(),
            read_at: 0,
        }))
    };
    engine.handle(interval(vec![], 0, 1));
    for output in engine.handle(Input::Subscribe(1, Box::new(request.clone()))) {
        if let Output::FetchSnapshot { id, .. } = output {
            engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1))));
        }
    }
    let mut all = Told::new();
    for t in transactions {
        let at = t.position.commit;
        for output in engine.handle(interval(vec![t.clone()], at - 1, at)) {
            if let Output::Delta(d, _) = output {
                for c in &d.changes {
                    let [Value::Int(key)] = c.key()[..] else { panic!("{c:?}") };
                    all.insert((d.position, key), told(&d.feed, c));
                }
            }
        }
    }
    (engine, all)
}

/// A key, and what stands under it from then on.
type Step = (i64, Option<(i64, u8)>);

/// Transactions on four keys, each key at most once in each.
fn transactions(steps: Vec<Vec<Step>>) -> Vec<Arc<Transaction>> {
    let mut now: BTreeMap<i64, Row> = BTreeMap::new();
    let mut all = Vec::new();
    for (n, step) in steps.into_iter().enumerate() {
        let mut changes: BTreeMap<i64, RowChange> = BTreeMap::new();
        for (key, to) in step {
            let new = to.map(|(a, b)| -> Row {
                [Value::Int(key), Value::Int(a), format!("{}x", (b'a' + b) as char).as_str().into()].into()
            });
            let old = now.get(&key).cloned();
            if changes.contains_key(&key) || (old.is_none() && new.is_none()) {
                continue;
            }
            match &new {
                Some(row) => drop(now.insert(key, row.clone())),
                None => drop(now.remove(&key)),
            }
            let change = RowChange {
                table: table().name.clone(),
                description: table().identity(),
                key: [Value::Int(key)].into(),
                old: Old::Known(old),
                new,
                omitted_columns: ColumnSet::default(),
            };
            changes.insert(key, change);
        }
        let committed = CommitTime { from: 0, to: 0 };
        let position = Position::at(n as u64 + 2);
        all.push(Arc::new(Transaction {
            position,
            committed,
            number: 0,
            inexact_after: None,
            changes: changes.into_values().collect(),
        }));
    }
    all
}

proptest! {
    #[test]
    fn the_trial_of_rules_tells_what_an_engine_under_them_tells(
        now in prop::collection::vec(0..5usize, 0..3),
        then in prop::collection::vec(0..5usize, 0..3),
        query in prop::sample::select(vec!["SELECT * FROM t", "SELECT id, b FROM t WHERE a < 2", "SELECT a FROM t WHERE b = 'ax'"]),
        steps in prop::collection::vec(
            prop::collection::vec((0..4i64, prop::option::weighted(0.8, (0..3i64, 0..2u8))), 1..4),
            1..20,
        ),
    ) {
        let claims = Claims {
            roles: vec!["r".into()],
            facts: json!({"n": 1}).as_object().unwrap().clone(),
            operator: false,
        };
        let request = Request { query: query.into(), claims: Arc::new(claims), ..Request::default() };
        let transactions = transactions(steps);
        let (engine, heard) = run(rules(&now), &request, &transactions);
        let (_, would) = run(rules(&then), &request, &transactions);
        let outcome = engine.trial(&rules(&then), std::slice::from_ref(&request)).run().remove(0);

        let mut expected = BTreeMap::new();
        for at in heard.keys().chain(would.keys()) {
            match (heard.get(at), would.get(at)) {
                (None, Some(_)) => drop(expected.insert(*at, Effect::More)),
                (Some(_), None) => drop(expected.insert(*at, Effect::Less)),
                (a, b) if a != b => drop(expected.insert(*at, Effect::Otherwise)),
                _ => {}
            }
        }
        let found: BTreeMap<_, _> = outcome.differences.iter().map(|d| {
            let Value::Int(key) = d.row().key[0] else { panic!("a number") };
            ((d.transaction.position, key), d.effect)
        }).collect();
        prop_assert_eq!(&found, &expected);
        let count = |e| expected.values().filter(|f| **f == e).count();
        prop_assert_eq!(
            (outcome.more, outcome.less, outcome.otherwise),
            (count(Effect::More), count(Effect::Less), count(Effect::Otherwise))
        );
    }
}
