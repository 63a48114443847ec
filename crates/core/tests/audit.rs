//! A change that is lost without a trace is found by the audit, whatever the feed remembers, and nothing else is.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Output, Request, SnapshotId};
use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;

/// `calls (id, owner, v)` and `crews (id, member)`.
fn table(name: &str, old_values: bool) -> Arc<Table> {
    let columns: &[&str] = if name == "calls" { &["id", "owner", "v"] } else { &["id", "member"] };
    let column = |name: &&str| Column { name: (*name).into(), ty: Type::Int8 };
    Arc::new(Table {
        name: TableName::plain(name),
        source: "s".into(),
        columns: columns.iter().map(column).collect(),
        key: vec![0],
        old_values,
        incarnation: 0,
    })
}

/// The database: rows of both tables by key.
#[derive(Clone, Default)]
struct World {
    calls: BTreeMap<i64, (i64, i64)>,
    crews: BTreeMap<i64, i64>,
}

impl World {
    fn rows(&self, table: &TableName) -> Vec<Row> {
        let row = |values: &[i64]| values.iter().map(|v| Value::Int(*v)).collect::<Row>();
        match &*table.name {
            "calls" => self.calls.iter().map(|(id, (owner, v))| row(&[*id, *owner, *v])).collect(),
            _ => self.crews.iter().map(|(id, member)| row(&[*id, *member])).collect(),
        }
    }
}

struct Bench {
    engine: Engine,
    world: World,
    at: u64,
    old_values: bool,
    fetches: Vec<(SnapshotId, TableName)>,
    audits: Vec<Option<String>>,
    /// Audits that were given up.
    given_up: usize,
    results: usize,
}

impl Bench {
    fn new(old_values: bool, rows: &str) -> Bench {
        let rule = RuleText {
            role: "anonymous".into(),
            table: TableName::plain("calls"),
            rows: Some(rows.into()),
            ..RuleText::default()
        };
        let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
        engine.handle(Input::Table(table("calls", old_values)));
        engine.handle(Input::Table(table("crews", old_values)));
        let mut world = World::default();
        world.calls.extend([(1, (1, 1)), (2, (1, 2)), (3, (2, 3))]);
        world.crews.extend([(1, 1)]);
        let mut bench =
            Bench { engine, world, at: 1, old_values, fetches: vec![], audits: vec![], given_up: 0, results: 0 };
        bench.publish(vec![]);
        let claims = Arc::new(Claims::anonymous());
        let request = Request { query: "SELECT id, v FROM calls".into(), claims, ..Request::default() };
        bench.handle(Input::Subscribe(1, Box::new(request)));
        bench.read();
        assert_eq!(bench.results, 1);
        bench
    }

    fn handle(&mut self, input: Input) {
        for output in self.engine.handle(input) {
            match output {
                Output::FetchSnapshot { id, request, .. } => self.fetches.push((id, request.table.name.clone())),
                Output::CancelSnapshot(id) => self.fetches.retain(|(f, _)| *f != id),
                Output::Audited { difference, rows, .. } => {
                    if rows == 0 && difference.is_none() && !self.world.calls.is_empty() {
                        self.given_up += 1;
                    } else {
                        self.audits.push(difference);
                    }
                }
                Output::Result { .. } => self.results += 1,
                _ => {}
            }
        }
    }

    /// Answers all that is asked for, as the database is now.
    fn read(&mut self) {
        while let Some((id, of)) = self.fetches.pop() {
            let (rows, at) = (self.world.rows(&of), Position::at(self.at));
            self.handle(Input::SnapshotRows(id, rows));
            self.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(at)));
        }
    }

    fn publish(&mut self, changes: Vec<RowChange>) {
        self.at += 1;
        let (at, from) = (Position::at(self.at), Position::at(self.at - 1));
        let committed = CommitTime::default();
        let transaction = Transaction { position: at, committed, number: 0, inexact_after: None, changes };
        self.handle(Input::Interval(Arc::new(Interval {
            source: "s".into(),
            epoch: 1,
            from,
            to: at,
            transactions: vec![Arc::new(transaction)],
            resets: vec![],
            settled: at,
            timeline: 1,
            mark: 0,
            reader: "one".into(),
            read_at: 0,
        })));
    }

    /// Changes a row of `calls`, and tells it or not.
    fn write(&mut self, id: i64, new: Option<(i64, i64)>, told: bool) {
        let change = self.change(id, new);
        self.publish(if told { vec![change] } else { vec![] });
    }

    fn change(&mut self, id: i64, new: Option<(i64, i64)>) -> RowChange {
        let old = match new {
            Some(new) => self.world.calls.insert(id, new),
            None => self.world.calls.remove(&id),
        };
        let row = |(owner, v): (i64, i64)| -> Row { [Value::Int(id), Value::Int(owner), Value::Int(v)].into() };
        let known = if self.old_values { Old::Known(old.map(row)) } else { Old::Unknown };
        RowChange::of(&Identified::new(table("calls", self.old_values)), [Value::Int(id)].into(), known, new.map(row))
    }

    fn audit(&mut self) -> Vec<Option<String>> {
        for _ in 0..4 {
            self.handle(Input::Audit);
            self.read();
        }
        assert_eq!(std::mem::take(&mut self.given_up), 0, "given up");
        std::mem::take(&mut self.audits)
    }
}

/// Rules whose feeds remember in different ways: nothing, what was sent, rows.
const RULES: [(bool, &str); 4] = [
    (true, "owner < 9"),
    (false, "owner < 9"),
    (true, "owner IN (SELECT member FROM crews)"),
    (false, "owner IN (SELECT member FROM crews)"),
];

#[test]
fn what_is_lost_without_a_trace_is_found_and_mended() {
    for (old_values, rows) in RULES {
        for lost in [(1, Some((1, 50))), (4, Some((1, 1))), (2, None)] {
            let mut bench = Bench::new(old_values, rows);
            bench.write(1, Some((1, 7)), true);
            let found = bench.audit();
            assert!(!found.is_empty() && found.iter().all(Option::is_none), "{rows}: {found:?}");
            let before = bench.results;
            bench.write(lost.0, lost.1, false);
            let found = bench.audit();
            assert!(found.iter().any(Option::is_some), "{old_values} {rows}: {lost:?} was not found");
            assert!(bench.results > before, "the client gets the whole result");
            assert!(bench.audit().iter().all(Option::is_none), "mended");
        }
    }
}

/// Only so many feeds of a table carry what they are audited by: those that are gone make room.
#[test]
fn a_feed_is_audited_however_many_came_and_went_before_it() {
    let mut bench = Bench::new(true, "owner < 9");
    for n in 2..40 {
        let (query, claims) = (format!("SELECT id, v FROM calls WHERE v > -{n}"), Arc::new(Claims::anonymous()));
        bench.handle(Input::Subscribe(n, Box::new(Request { query, claims, ..Request::default() })));
        bench.read();
        bench.handle(Input::Unsubscribe(n - 1));
    }
    assert!(!bench.audit().is_empty());
    bench.write(1, Some((1, 50)), false);
    assert!(bench.audit().iter().any(Option::is_some), "it was not found");
    // All of them have begun anew.
    bench.write(2, Some((1, 60)), false);
    assert!(bench.audit().iter().any(Option::is_some), "it was not found a second time");
}

/// What changes by more rows than were to be checked costs more than it is worth: its turn comes again.
#[test]
fn an_audit_is_given_up_where_much_changes_beside_it() {
    for (old_values, rows) in RULES {
        let mut bench = Bench::new(old_values, rows);
        for (many, given_up) in [(9_000, 0), (11_000, 1)] {
            bench.handle(Input::Audit);
            let changes = (10..10 + many).map(|id| bench.change(id, Some((1, many)))).collect();
            bench.publish(changes);
            assert_eq!((bench.given_up, bench.fetches.len()), (given_up, 1 - given_up), "{old_values} {rows}: {many}");
            bench.read();
            bench.given_up = 0;
        }
        bench.write(1, Some((1, 50)), false);
        assert!(bench.audit().iter().any(Option::is_some), "{old_values} {rows}: it was not found");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever is written, also while an audit is under way and its read is of before or of after: nothing is found where
    /// nothing was lost.
    #[test]
    fn nothing_is_found_where_nothing_was_lost(
        which in 0..RULES.len(),
        steps in proptest::collection::vec((0..6_i64, proptest::option::of((0..3_i64, 0..3_i64)), 0..4_u8), 1..30),
    ) {
        let (old_values, rows) = RULES[which];
        let mut bench = Bench::new(old_values, rows);
        for (id, new, step) in steps {
            match step {
                0 => bench.handle(Input::Audit),
                1 => bench.read(),
                _ if new.is_some() || bench.world.calls.contains_key(&id) => bench.write(id, new, true),
                _ => {}
            }
            if bench.world.calls.is_empty() {
                bench.write(9, Some((1, 1)), true);
            }
        }
        bench.read();
        bench.audit();
        prop_assert!(bench.audits.iter().all(Option::is_none), "{:?}", bench.audits);
    }
}
