//! The cost of one change against many feeds with distinct equality conditions, ten of them matching: the whole engine,
//! beside a naive scan and a bare hash lookup with ten evaluations, in turn in the same run.
//!
//! `cargo bench --bench index` (a number after `--` sets the largest count of feeds).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

mod common;

use std::collections::HashMap;
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::plan::EffectivePlan;
use gossip_core::position::{Position, SnapshotPoint};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Row, TableName};
use gossip_core::value::Value;

use common::{interval, median, table};

const MATCHING: usize = 10;
const ROUNDS: usize = 5;

/// An engine with `count` live feeds `owner = i AND level > y`, ten to an owner.
fn engine(count: usize) -> (Engine, Vec<Arc<EffectivePlan>>) {
    let rule = RuleText { role: "all".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
    engine.handle(Input::Table(table()));
    engine.handle(Input::Interval(interval(1, [Value::Int(0), Value::Int(-1), Value::Int(0)].into())));
    let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
    let mut feeds = Vec::with_capacity(count);
    for i in 0..count {
        let query = format!("SELECT * FROM calls WHERE owner = {} AND level > {}", i / MATCHING, i % MATCHING);
        let request = Request { query, params: Default::default(), claims: claims.clone(), ..Request::default() };
        for output in engine.handle(Input::Subscribe(i as u64, Box::new(request))) {
            if let Output::FetchSnapshot { id, plan: feed, .. } = output {
                feeds.push(feed);
                engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1))));
            }
        }
    }
    (engine, feeds)
}

fn main() {
    let largest = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(1_000_000);
    println!("one change, ten feeds matching; µs per change, median of {ROUNDS}");
    println!("{:>10} {:>12} {:>14} {:>12} {:>16}", "feeds", "engine", "hash + ten", "scan", "engine / hash");
    for count in [10_000, 100_000, 1_000_000].into_iter().filter(|c| *c <= largest) {
        let (mut engine, feeds) = engine(count);
        let mut by_owner: HashMap<i64, Vec<Arc<EffectivePlan>>> = HashMap::new();
        for (i, f) in feeds.iter().enumerate() {
            by_owner.entry((i / MATCHING) as i64).or_default().push(f.clone());
        }
        let owners = (count / MATCHING) as i64;
        let row = |n: i64| -> Row { [Value::Int(n), Value::Int(n * 7919 % owners), Value::Int(100)].into() };
        let (mut ours, mut hash, mut scan) = (vec![], vec![], vec![]);
        let mut at = 1;
        for _ in 0..ROUNDS {
            let n = 20_000;
            let intervals: Vec<_> = (0..n).map(|i| interval(at + 1 + i as u64, row(i))).collect();
            at += n as u64;
            let start = Instant::now();
            let mut deltas = 0;
            for i in intervals {
                let outputs = engine.handle(Input::Interval(i));
                deltas += outputs.iter().filter(|o| matches!(o, Output::Delta(..))).count();
                engine.reuse(outputs);
            }
            ours.push(start.elapsed().as_secs_f64() * 1e6 / n as f64);
            assert_eq!(deltas, n as usize * MATCHING);

            let rows: Vec<Row> = (0..n).map(row).collect();
            let start = Instant::now();
            for r in &rows {
                let Value::Int(owner) = r[1] else { unreachable!() };
                for f in &by_owner[&owner] {
                    let _ = black_box(f.see(r, &()));
                }
            }
            hash.push(start.elapsed().as_secs_f64() * 1e6 / n as f64);

            let few = (2_000_000 / count).max(2);
            let start = Instant::now();
            for r in rows.iter().take(few) {
                let found = feeds.iter().filter(|f| f.sees(r, &())).count();
                assert_eq!(black_box(found), MATCHING);
            }
            scan.push(start.elapsed().as_secs_f64() * 1e6 / few as f64);
        }
        let (ours, hash, scan) = (median(ours), median(hash), median(scan));
        println!("{count:>10} {ours:>12.2} {hash:>14.2} {scan:>12.0} {:>16.2}", ours / hash);
    }
}
