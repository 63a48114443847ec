//! Many subscriptions under rules that depend on who asks: what one change costs and what a subscription takes.
//!
//! First a condition on a claim, ten subscriptions to each claim value; the floor is a bare hash lookup and one
//! evaluation. Then a condition that asks another table, one subscription to each claim value.
//!
//! `cargo bench --bench rights` (a number after `--` sets how many subscriptions, 1,000,000 if absent).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

mod common;

use std::collections::HashMap;
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

use common::{interval, median, resident, table};
use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::plan::EffectivePlan;
use gossip_core::position::{Position, SnapshotPoint};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use serde_json::json;

/// Subscriptions to each claim value.
const SHARED: usize = 10;
const ROUNDS: usize = 5;
const CHANGES: u64 = 20_000;

fn assignments() -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    Arc::new(Table {
        name: TableName::plain("assignments"),
        columns: [("id", Type::Int8), ("call", Type::Int8), ("pilot", Type::Int8)].map(column).to_vec(),
        ..(*table()).clone()
    })
}

/// An engine with so many subscriptions, and the feeds of `calls` by who asks.
fn engine(rows: &str, subscriptions: usize, each: usize) -> (Engine, HashMap<i64, Arc<EffectivePlan>>) {
    let name = TableName::plain("calls");
    let rule = RuleText { role: "all".into(), table: name.clone(), rows: Some(rows.into()), ..RuleText::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
    engine.handle(Input::Table(table()));
    engine.handle(Input::Table(assignments()));
    engine.handle(Input::Interval(interval(1, [Value::Int(0), Value::Int(-1), Value::Int(0)].into())));
    let mut feeds = HashMap::new();
    for i in 0..subscriptions {
        let me = (i / each) as i64;
        let facts = json!({"me": me}).as_object().unwrap().clone();
        let claims = Arc::new(Claims { roles: vec!["all".into()], facts, operator: false });
        let request = Request { query: "SELECT * FROM calls".into(), claims, ..Request::default() };
        let mut outputs = engine.handle(Input::Subscribe(i as u64, Box::new(request)));
        while let Some(output) = outputs.pop() {
            let Output::FetchSnapshot { id, plan: feed, .. } = output else { continue };
            let row: Row = match feed.table().name == name {
                true => [Value::Int(me), Value::Int(me), Value::Int(1)].into(),
                false => [Value::Int(me), Value::Int(me), Value::Int(me)].into(),
            };
            if feed.table().name == name {
                feeds.insert(me, feed);
            }
            outputs.extend(engine.handle(Input::SnapshotRows(id, vec![row])));
            outputs.extend(engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1)))));
        }
    }
    (engine, feeds)
}

/// Microseconds that a change takes that concerns one person.
fn per_change(engine: &mut Engine, at: &mut u64, people: i64) -> f64 {
    // Never as it was before.
    let begun = *at as i64;
    let row = |n: u64| -> Row {
        let who = n as i64 * 7919 % people;
        [Value::Int(who), Value::Int(who), Value::Int(begun + n as i64 + 1)].into()
    };
    let intervals: Vec<_> = (0..CHANGES).map(|i| interval(*at + 1 + i, row(i))).collect();
    *at += CHANGES;
    let start = Instant::now();
    let mut deltas = 0;
    for i in intervals {
        let outputs = engine.handle(Input::Interval(i));
        deltas += outputs.iter().filter(|o| matches!(o, Output::Delta(..))).count();
    }
    assert_eq!(deltas as u64, CHANGES);
    start.elapsed().as_secs_f64() * 1e6 / CHANGES as f64
}

fn main() {
    let subscriptions = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(1_000_000);
    let people = (subscriptions / SHARED) as i64;

    let before = resident();
    let start = Instant::now();
    let (mut engine_of_claims, feeds) = engine("owner = claim.me", subscriptions, SHARED);
    let began = start.elapsed().as_secs_f64() * 1e6 / subscriptions as f64;
    let bytes = (resident() - before) / subscriptions as f64;
    let (mut ours, mut hash, mut at) = (vec![], vec![], 1);
    for _ in 0..ROUNDS {
        ours.push(per_change(&mut engine_of_claims, &mut at, people));
        let start = Instant::now();
        for n in 0..CHANGES as i64 {
            let row: Row = [Value::Int(n), Value::Int(n * 7919 % people), Value::Int(1)].into();
            let Value::Int(owner) = row[1] else { unreachable!() };
            let _ = black_box(feeds[&owner].see(&row, &()));
        }
        hash.push(start.elapsed().as_secs_f64() * 1e6 / CHANGES as f64);
    }
    let (ours, hash) = (median(ours), median(hash));
    println!("owner = claim.me: {subscriptions} subscriptions, {people} claim values");
    println!(
        "  {ours:.2} µs a change (hash + one evaluation {hash:.2}), {bytes:.0} bytes and {began:.1} µs a subscription"
    );

    // The first engine stays, so that its memory is not what the second one takes.
    let before = resident();
    let (mut engine, _) = engine("id IN (SELECT call FROM assignments WHERE pilot = claim.me)", people as usize, 1);
    let bytes = (resident() - before) / people as f64;
    let mut at = 1;
    let ours = median((0..ROUNDS).map(|_| per_change(&mut engine, &mut at, people)).collect());
    println!("id IN (SELECT call FROM assignments WHERE pilot = claim.me): {people} subscriptions and claim values");
    println!("  {ours:.2} µs a change, {bytes:.0} bytes a subscription with one row");
    drop((engine_of_claims, feeds));
}
