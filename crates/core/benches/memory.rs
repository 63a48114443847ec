//! What subscriptions take of memory: feeds of their own, and further subscriptions to feeds that others have too. What a
//! client takes by itself, its claims among it, is there before.
//!
//! `cargo bench --bench memory` (a number after `--` sets how many subscriptions, 1,000,000 if absent).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

mod common;

use std::sync::Arc;

use common::{interval, resident, table};
use gossip_core::budget::{Cost, Owner, Shares};
use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::position::{Position, SnapshotPoint};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::TableName;
use gossip_core::value::Value;
use serde_json::json;

/// Subscriptions of each client.
const EACH: usize = 10;

/// Somebody, as the connection knows them.
fn client(n: usize) -> (Arc<Claims>, Arc<Owner>) {
    let facts = json!({"sub": n.to_string()}).as_object().unwrap().clone();
    let claims = Claims { roles: vec!["all".into()], facts, operator: false };
    let text = |s: String| Some(s.as_str().into());
    let owner = Owner { connection: text(n.to_string()), subject: text(n.to_string()), address: text("::1".into()) };
    (Arc::new(claims), Arc::new(owner))
}

/// Bytes that each of so many subscriptions takes, given the query of the nth.
fn each(clients: &[(Arc<Claims>, Arc<Owner>)], query: impl Fn(usize) -> String) -> f64 {
    let rule = RuleText { role: "all".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let all = Cost { bytes: usize::MAX, scanned: usize::MAX };
    let shares = Shares { connection: all, subject: all, address: all, instance: all };
    let most = Limits { shares, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), most);
    engine.handle(Input::Table(table()));
    engine.handle(Input::Interval(interval(1, [Value::Int(0), Value::Int(-1), Value::Int(0)].into())));
    let (before, count) = (resident(), clients.len() * EACH);
    for i in 0..count {
        let (claims, owner) = clients[i / EACH].clone();
        let request = Request { query: query(i), claims, owner: Some(owner), ..Request::default() };
        let mut outputs = engine.handle(Input::Subscribe(i as u64, Box::new(request)));
        while let Some(output) = outputs.pop() {
            match output {
                Output::FetchSnapshot { id, .. } => {
                    outputs.extend(engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1)))));
                }
                Output::Closed(_, why) => panic!("{why:?}"),
                _ => {}
            }
        }
    }
    let bytes = (resident() - before) / count as f64;
    assert_eq!(engine.counts().1, count);
    // The next engine is not to be put where this one was.
    std::mem::forget(engine);
    bytes
}

fn main() {
    let count: usize = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(1_000_000);
    let clients: Vec<_> = (0..count / EACH).map(client).collect();
    println!("bytes a subscription, {count} of them, {EACH} to a client");
    let own = each(&clients, |i| format!("SELECT * FROM calls WHERE owner = {} AND level > {}", i / EACH, i % EACH));
    println!("  on a feed of its own: {own:.0}");
    let shared = each(&clients, |i| format!("SELECT * FROM calls WHERE owner = 1 AND level > {}", i % EACH));
    println!("  on a feed that others have too: {shared:.0}");
}
