//! The cost of one change against many joined feeds, on either side: ten of them are touched by a change of their own table, and
//! ten by one of a partner. Beside it a bare hash look-up with ten evaluations, each with its partner at hand, in turn in the same
//! run.
//!
//! `cargo bench --bench joins` (a number after `--` sets the largest count of feeds).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

mod common;

use std::collections::HashMap;
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::plan::EffectivePlan;
use gossip_core::position::{Old, Position, RowChange, SnapshotPoint};
use gossip_core::query::Subquery;
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::subquery::{Partner, SubqueryResults, ValueSet};
use gossip_core::value::{Type, Value};

use common::{interval_of, median, resident};

/// Feeds of one group, which one change touches.
const GROUP: usize = 10;
const ROUNDS: usize = 5;
const CHANGES: usize = 5_000;

fn table(name: &str, columns: &[(&str, Type)]) -> Arc<Table> {
    let column = |(name, ty): &(&str, Type)| Column { name: (*name).into(), ty: *ty };
    Arc::new(Table {
        name: TableName::plain(name),
        source: "s".into(),
        columns: columns.iter().map(column).collect(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

fn tables() -> [Arc<Table>; 2] {
    let (id, level) = (("id", Type::Int8), ("level", Type::Int8));
    [table("calls", &[id, ("owner", Type::Int8), level]), table("owners", &[id, ("name", Type::Text), level])]
}

fn query(group: usize, place: usize) -> String {
    format!(
        "SELECT c.id, c.level, o.name, o.level AS theirs FROM calls c LEFT JOIN owners o ON o.id = c.owner \
         WHERE c.owner = {group} AND c.level > -{}",
        place + 1
    )
}

fn call(group: usize, level: i64) -> Row {
    [Value::Int(group as i64), Value::Int(group as i64), Value::Int(level)].into()
}

fn owner(group: usize, level: i64) -> Row {
    [Value::Int(group as i64), format!("owner {group}").into(), Value::Int(level)].into()
}

/// Partners at hand.
struct Owners(HashMap<i64, Row>);

impl SubqueryResults for Owners {
    fn set(&self, _: &Subquery) -> Option<&ValueSet> {
        None
    }

    fn partner(&self, _: u64, key: &[Value]) -> Partner<'_> {
        let Value::Int(id) = key[0] else { return Partner::Known(None) };
        Partner::Known(self.0.get(&id))
    }
}

/// An engine with `count` live feeds, and the plans of each group.
fn engine(count: usize) -> (Engine, HashMap<i64, Vec<Arc<EffectivePlan>>>) {
    let rule = |name: &str| RuleText { role: "all".into(), table: TableName::plain(name), ..RuleText::default() };
    let limits = Limits { sent_bytes: 8 << 30, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule("calls"), rule("owners")])), limits);
    tables().into_iter().for_each(|table| drop(engine.handle(Input::Table(table))));
    engine.handle(Input::Interval(interval_of(1, vec![])));
    let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
    let mut groups: HashMap<i64, Vec<Arc<EffectivePlan>>> = HashMap::new();
    for i in 0..count {
        let group = i / GROUP;
        let request = Request { query: query(group, i % GROUP), claims: claims.clone(), ..Request::default() };
        let mut next = engine.handle(Input::Subscribe(i as u64, Box::new(request)));
        while let Some(read) = next.iter().position(|o| matches!(o, Output::FetchSnapshot { .. })) {
            let Output::FetchSnapshot { id, plan, .. } = next.swap_remove(read) else { unreachable!() };
            let row = if plan.joins.is_some() { call(group, 0) } else { owner(group, 0) };
            if plan.joins.is_some() {
                groups.entry(group as i64).or_default().push(plan);
            }
            next.extend(engine.handle(Input::SnapshotRows(id, vec![row])));
            next.extend(engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1)))));
        }
    }
    (engine, groups)
}

fn main() {
    let largest = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(100_000);
    println!("one change, {GROUP} joined feeds touched; µs per change, median of {ROUNDS}");
    println!(
        "{:>10} {:>9} {:>10} {:>12} {:>8} {:>14}",
        "feeds", "side", "engine", "hash + ten", "ratio", "bytes a feed"
    );
    let [calls, owners] = tables().map(Identified::new);
    for count in [10_000, 100_000].into_iter().filter(|c| *c <= largest) {
        let before = resident();
        let (mut engine, plans) = engine(count);
        let bytes = (resident() - before) / count as f64;
        let groups = count / GROUP;
        let mut levels: HashMap<(bool, usize), i64> = HashMap::new();
        let mut at_hand = Owners((0..groups).map(|group| (group as i64, owner(group, 0))).collect());
        let mut at = 1;
        for of_partner in [false, true] {
            let (mut ours, mut bare) = (vec![], vec![]);
            for _ in 0..ROUNDS {
                let mut changed = Vec::new();
                let mut next = |n: usize| {
                    let group = n * 7_919 % groups;
                    let level = levels.entry((of_partner, group)).or_default();
                    let make = if of_partner { owner } else { call };
                    let (old, new) = (make(group, *level), make(group, *level + 1));
                    *level += 1;
                    at += 1;
                    changed.push((group as i64, new.clone()));
                    let table = if of_partner { &owners } else { &calls };
                    interval_of(
                        at,
                        vec![RowChange::of(table, [new[0].clone()].into(), Old::Known(Some(old)), Some(new))],
                    )
                };
                let intervals: Vec<_> = (0..CHANGES).map(&mut next).collect();
                let start = Instant::now();
                let mut deltas = 0;
                for i in intervals {
                    let outputs = engine.handle(Input::Interval(i));
                    deltas += outputs.iter().filter(|o| matches!(o, Output::Delta(..))).count();
                    engine.reuse(outputs);
                }
                ours.push(start.elapsed().as_secs_f64() * 1e6 / CHANGES as f64);
                assert_eq!(deltas, CHANGES * GROUP);

                let own: HashMap<i64, Row> = (0..groups).map(|group| (group as i64, call(group, 1))).collect();
                let start = Instant::now();
                for (group, row) in changed {
                    let row = if of_partner {
                        at_hand.0.insert(group, row);
                        &own[&group]
                    } else {
                        &row.clone()
                    };
                    for plan in &plans[&group] {
                        let _ = black_box(plan.see(row, &at_hand));
                    }
                }
                bare.push(start.elapsed().as_secs_f64() * 1e6 / CHANGES as f64);
            }
            let (ours, bare) = (median(ours), median(bare));
            let side = if of_partner { "partner" } else { "own" };
            println!("{count:>10} {side:>9} {ours:>10.2} {bare:>12.2} {:>8.2} {bytes:>14.0}", ours / bare);
        }
    }
}
