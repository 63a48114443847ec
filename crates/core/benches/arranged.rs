//! The cost of one change of a table to a result that groups, orders or limits its rows: the whole engine, beside the same
//! change of a plain result, and of a map that holds the same rows, in turn in the same run. Then the bytes that each row of the
//! table takes, as the engine counts them and as the process has grown.
//!
//! `cargo bench --bench arranged` (a number after `--` sets the rows of the table).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

mod common;

use std::collections::BTreeMap;
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::position::{Position, SnapshotPoint};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Row, TableName};
use gossip_core::value::Value;

use common::{interval, median, resident, table};

const CHANGES: i64 = 2_000;
const GROUPS: i64 = 100;

/// Rows of a snapshot that are handed over at once.
const PIECE: usize = 1_000;

const QUERIES: [(&str, &str); 6] = [
    ("plain", "SELECT * FROM calls WHERE level >= 0"),
    ("count of all", "SELECT count(*) AS n, sum(level) AS level FROM calls WHERE level >= 0"),
    ("100 groups", "SELECT owner, count(*) AS n, sum(level) AS level FROM calls WHERE level >= 0 GROUP BY owner"),
    (
        "min, max of 100",
        "SELECT owner, min(level) AS least, max(level) AS most FROM calls WHERE level >= 0 GROUP BY owner",
    ),
    ("first 50", "SELECT * FROM calls WHERE level >= 0 ORDER BY level, id LIMIT 50"),
    ("all in order", "SELECT * FROM calls WHERE level >= 0 ORDER BY level, id"),
];

fn row(id: i64, level: i64) -> Row {
    [Value::Int(id), Value::Int(id % GROUPS), Value::Int(level)].into()
}

/// An engine with one live result of so many rows, and by how many bytes the process has grown for it.
fn engine(query: &str, rows: i64) -> (Engine, f64) {
    let rule = RuleText { role: "all".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let limits = Limits { sent_bytes: 4 << 30, result_rows: usize::MAX, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), limits);
    engine.handle(Input::Table(table()));
    engine.handle(Input::Interval(interval(1, row(0, -1))));
    let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
    let request = Request { query: query.into(), claims, ..Request::default() };
    let before = resident();
    for output in engine.handle(Input::Subscribe(1, Box::new(request))) {
        if let Output::FetchSnapshot { id, .. } = output {
            for from in (1..rows).step_by(PIECE) {
                let until = rows.min(from + PIECE as i64);
                engine.handle(Input::SnapshotRows(id, (from..until).map(|i| row(i, i * 7_919 % rows)).collect()));
            }
            engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1))));
        }
    }
    (engine, resident() - before)
}

fn main() {
    let rows = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(100_000_i64);
    println!("one new row of {rows}; µs per change, median of {CHANGES}");
    println!(
        "{:>16} {:>10} {:>10} {:>14} {:>14} {:>14}",
        "result", "engine", "a map", "engine / map", "bytes counted", "bytes taken"
    );
    for (name, query) in QUERIES {
        let (mut engine, taken) = engine(query, rows);
        let (counted, taken) = (engine.held_bytes() as f64 / rows as f64, taken / rows as f64);
        let mut map: BTreeMap<(i64, i64), Row> = (1..rows).map(|i| ((i * 7_919 % rows, i), row(i, 0))).collect();
        let (mut ours, mut floor) = (vec![], vec![]);
        for n in 0..CHANGES {
            let (id, level) = (rows + n, n * 104_729 % rows);
            let change = interval(n as u64 + 2, row(id, level));
            let begun = Instant::now();
            let told = black_box(engine.handle(Input::Interval(change)));
            ours.push(begun.elapsed().as_nanos() as f64 / 1e3);
            assert!(told.iter().all(|o| !matches!(o, Output::Closed(..))), "{name}");
            let begun = Instant::now();
            black_box(map.insert((level, id), row(id, level)));
            floor.push(begun.elapsed().as_nanos() as f64 / 1e3);
        }
        let (ours, floor) = (median(ours), median(floor));
        let ratio = ours / floor;
        println!("{name:>16} {ours:>10.2} {floor:>10.2} {ratio:>14.1} {counted:>14.0} {taken:>14.0}");
        // The next one is not to be put where this one was.
        std::mem::forget(engine);
    }
}
