//! The cost of one change against many feeds of every kind: half of them by equality, a fifth by bounds, and lists,
//! beginnings, windows and counts. Twenty are touched. Beside it a bare hash look-up with twenty evaluations, in turn in the
//! same run.
//!
//! `cargo bench --bench kinds` (a number after `--` sets the largest count of feeds).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

mod common;

use std::collections::HashMap;
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::plan::EffectivePlan;
use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};

use common::{median, resident};

/// Feeds of one group, which one change touches.
const GROUP: usize = 20;
const ROUNDS: usize = 5;
const CHANGES: usize = 5_000;

fn table() -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    Arc::new(Table {
        name: TableName::plain("calls"),
        source: "s".into(),
        columns: [("id", Type::Int8), ("owner", Type::Int8), ("level", Type::Int8), ("name", Type::Text)]
            .map(column)
            .to_vec(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

/// The query of a group's feed.
fn query(group: usize, place: usize) -> String {
    let (low, high) = (group * 1_000, group * 1_000 + 999);
    match place {
        0..10 => format!("SELECT * FROM calls WHERE owner = {group} AND level > -{}", place + 1),
        10..14 => format!("SELECT * FROM calls WHERE id BETWEEN {} AND {}", low + place, high - place),
        14..16 => format!("SELECT * FROM calls WHERE owner IN ({group}, -{}, -{})", 2 * group + 1, place),
        16 => format!("SELECT * FROM calls WHERE name LIKE 'berth {group:08}%'"),
        17..19 => format!("SELECT * FROM calls WHERE owner = {group} ORDER BY level DESC, id LIMIT {}", place - 7),
        _ => format!("SELECT count(*) AS n, sum(level) AS s FROM calls WHERE owner = {group}"),
    }
}

fn row(group: usize, level: i64) -> Row {
    let (id, owner) = (Value::Int(group as i64 * 1_000 + 500), Value::Int(group as i64));
    [id, owner, Value::Int(level), format!("berth {group:08} east").into()].into()
}

fn interval(table: &Identified, at: u64, old: Option<Row>, row: Row) -> Arc<Interval> {
    let change = RowChange::of(table, [row[0].clone()].into(), Old::Known(old), Some(row));
    let (position, committed) = (Position::at(at), CommitTime::default());
    let transaction = Transaction { position, committed, number: 0, inexact_after: None, changes: vec![change] };
    Arc::new(Interval {
        source: "s".into(),
        epoch: 1,
        from: Position::at(at - 1),
        to: position,
        transactions: vec![Arc::new(transaction)],
        resets: vec![],
        settled: Position::default(),
        timeline: 0,
        mark: 0,
        reader: "one".into(),
        read_at: 0,
    })
}

/// An engine with `count` live feeds, and the plans of each group.
fn engine(table: &Identified, count: usize) -> (Engine, HashMap<i64, Vec<Arc<EffectivePlan>>>) {
    let rule = RuleText { role: "all".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let limits = Limits { sent_bytes: 8 << 30, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), limits);
    engine.handle(Input::Table(self::table()));
    engine.handle(Input::Interval(interval(table, 1, None, row(count, 0))));
    let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
    let mut groups: HashMap<i64, Vec<Arc<EffectivePlan>>> = HashMap::new();
    for i in 0..count {
        let request = Request { query: query(i / GROUP, i % GROUP), claims: claims.clone(), ..Request::default() };
        for output in engine.handle(Input::Subscribe(i as u64, Box::new(request))) {
            if let Output::FetchSnapshot { id, plan, .. } = output {
                groups.entry((i / GROUP) as i64).or_default().push(plan);
                engine.handle(Input::SnapshotRows(id, vec![row(i / GROUP, 0)]));
                engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1))));
            }
        }
    }
    (engine, groups)
}

fn main() {
    let largest = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(1_000_000);
    println!("one change, {GROUP} feeds touched; µs per change, median of {ROUNDS}");
    println!("{:>10} {:>10} {:>15} {:>10} {:>14}", "feeds", "engine", "hash + twenty", "ratio", "bytes a feed");
    let table = Identified::new(self::table());
    for count in [10_000, 100_000, 1_000_000].into_iter().filter(|c| *c <= largest) {
        let before = resident();
        let (mut engine, plans) = engine(&table, count);
        let bytes = (resident() - before) / count as f64;
        let groups = count / GROUP;
        let mut levels: HashMap<usize, i64> = HashMap::new();
        let (mut ours, mut bare) = (vec![], vec![]);
        let mut at = 1;
        for _ in 0..ROUNDS {
            let mut rows = Vec::new();
            let intervals: Vec<_> = (0..CHANGES)
                .map(|n| {
                    let group = n * 7_919 % groups;
                    let level = levels.entry(group).or_default();
                    let (old, new) = (row(group, *level), row(group, *level + 1));
                    *level += 1;
                    at += 1;
                    rows.push(new.clone());
                    interval(&table, at, Some(old), new)
                })
                .collect();
            let start = Instant::now();
            let mut deltas = 0;
            for i in intervals {
                let outputs = engine.handle(Input::Interval(i));
                deltas += outputs.iter().filter(|o| matches!(o, Output::Delta(..))).count();
                engine.reuse(outputs);
            }
            ours.push(start.elapsed().as_secs_f64() * 1e6 / CHANGES as f64);
            assert_eq!(deltas, CHANGES * GROUP);

            let start = Instant::now();
            for r in &rows {
                let Value::Int(owner) = r[1] else { unreachable!() };
                for plan in &plans[&owner] {
                    let _ = black_box(plan.see(r, &()));
                }
            }
            bare.push(start.elapsed().as_secs_f64() * 1e6 / CHANGES as f64);
        }
        let (ours, bare) = (median(ours), median(bare));
        println!("{count:>10} {ours:>10.2} {bare:>15.2} {:>10.2} {bytes:>14.0}", ours / bare);
    }
}
