//! A change is only ever applied to a table that is described as the change says.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Output, Request, ResyncReason, SnapshotId};
use gossip_core::position::{
    CommitTime, Interval, Old, Position, Reset, ResetReason, RowChange, SnapshotPoint, Transaction, fold,
};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;

fn table(columns: &[&str], incarnation: u64) -> Arc<Table> {
    let column = |name: &&str| Column { name: (*name).into(), ty: Type::Int8 };
    Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns: columns.iter().map(column).collect(),
        key: vec![0],
        old_values: true,
        incarnation,
    })
}

fn row(values: &[i64]) -> Row {
    values.iter().map(|v| Value::Int(*v)).collect()
}

fn interval(at: u64, changes: Vec<RowChange>, resets: Vec<Reset>) -> Arc<Interval> {
    let transaction = Transaction {
        position: Position::at(at),
        committed: CommitTime::default(),
        number: 0,
        inexact_after: None,
        changes,
    };
    Arc::new(Interval {
        source: "s".into(),
        epoch: 1,
        from: Position::at(at - 1),
        to: Position::at(at),
        transactions: vec![Arc::new(transaction)],
        resets,
        settled: Position::at(at),
        timeline: 1,
        mark: 0,
        reader: "one".into(),
        read_at: 0,
    })
}

fn insert(of: &Arc<Table>, values: &[i64]) -> RowChange {
    RowChange::of(&Identified::new(of.clone()), [Value::Int(values[0])].into(), Old::Known(None), Some(row(values)))
}

/// An engine with a subscription to all of `t`, whose rules withhold `secret`.
fn engine(of: &Arc<Table>, every: i64) -> (Engine, SnapshotId) {
    let rule = RuleText {
        role: "anonymous".into(),
        table: of.name.clone(),
        columns: Some(vec!["id".into(), "v".into()]),
        ..RuleText::default()
    };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
    engine.handle(Input::Table(of.clone()));
    engine.handle(Input::Interval(interval(1, vec![], vec![])));
    let claims = Arc::new(Claims::anonymous());
    let request =
        Request { query: "SELECT * FROM t".into(), claims, every, observed: every == 0, ..Request::default() };
    let outputs = engine.handle(Input::Subscribe(1, Box::new(request)));
    let fetch = fetched(&outputs).unwrap();
    (engine, fetch)
}

fn fetched(outputs: &[Output]) -> Option<SnapshotId> {
    outputs.iter().rev().find_map(|o| if let Output::FetchSnapshot { id, .. } = o { Some(*id) } else { None })
}

fn shown(outputs: &[Output]) -> Vec<i64> {
    let mut all = Vec::new();
    for o in outputs {
        let cells = |feed: &gossip_core::plan::EffectivePlan, seen: &gossip_core::plan::VisibleRow| -> Vec<i64> {
            let number = |(_, v): (usize, &Value)| if let Value::Int(i) = v { *i } else { -1 };
            feed.shown(seen).map(number).collect()
        };
        match o {
            Output::Result { feed, rows, .. } => all.extend(rows.iter().flat_map(|(_, seen)| cells(feed, seen))),
            Output::Delta(d, _) => all.extend(d.changes.iter().flat_map(|c| match c {
                gossip_core::feed::Change::Remove { .. } => vec![],
                gossip_core::feed::Change::Add { row, .. } | gossip_core::feed::Change::Replace { row, .. } => {
                    cells(&d.feed, row)
                }
            })),
            _ => {}
        }
    }
    all
}

#[test]
fn a_row_of_another_shape_is_not_applied_and_the_table_is_read_anew() {
    let before = table(&["id", "v", "secret"], 1);
    // The column `v` was dropped, and `secret` stands in its place.
    for after in [table(&["id", "secret"], 2), table(&["id", "w", "v", "secret"], 2), table(&["id", "v", "secret"], 2)]
    {
        for joined in [false, true] {
            for every in [0, 1_000] {
                let (mut engine, fetch) = engine(&before, every);
                if joined {
                    engine.handle(Input::SnapshotDone(fetch, SnapshotPoint::UpTo(Position::at(1))));
                }
                let values: Vec<i64> = (0..after.columns.len() as i64).map(|i| 7 + 100 * i).collect();
                let mut outputs = engine.handle(Input::Interval(interval(2, vec![insert(&after, &values)], vec![])));
                outputs.extend(engine.handle(Input::Tick));
                assert_eq!(shown(&outputs), Vec::<i64>::new(), "{after:?}");
                assert!(outputs.iter().any(|o| matches!(o, Output::Describe(source) if &**source == "s")));
                let again = fetched(&outputs).expect("read anew");
                assert!(again != fetch);
                // Until it is known how the table is described, nothing is shown.
                let mut outputs = engine.handle(Input::SnapshotFailed(again, "changed".into()));
                outputs.extend(engine.handle(Input::Described("s".into(), vec![after.clone()])));
                let gone = after.column("v", false).is_none();
                outputs.extend(engine.handle(Input::Tick));
                if let Some(fetch) = fetched(&outputs) {
                    let shape: Vec<i64> = values.iter().map(|v| v + 1).collect();
                    outputs.extend(engine.handle(Input::SnapshotRows(fetch, vec![row(&shape)])));
                    outputs.extend(engine.handle(Input::SnapshotDone(fetch, SnapshotPoint::UpTo(Position::at(2)))));
                    let v = after.column("v", false).unwrap();
                    assert_eq!(shown(&outputs), [8, shape[v]], "{after:?}");
                    assert!(outputs.iter().any(|o| matches!(o, Output::Result { to, .. }
                        if to.iter().all(|(_, why)| !joined || *why == ResyncReason::SchemaChanged))));
                } else {
                    assert!(gone && outputs.iter().any(|o| matches!(o, Output::Closed(1, _))), "{outputs:?}");
                }
            }
        }
    }
}

#[test]
fn a_table_that_is_gone_closes_its_subscriptions_with_the_reason() {
    let of = table(&["id", "v", "secret"], 1);
    let (mut engine, fetch) = engine(&of, 0);
    engine.handle(Input::SnapshotDone(fetch, SnapshotPoint::UpTo(Position::at(1))));
    let gone = Reset { name: of.name.clone(), table: None, why: ResetReason::SchemaChanged };
    let outputs = engine.handle(Input::Interval(interval(2, vec![], vec![gone])));
    let closed =
        outputs.iter().find_map(|o| if let Output::Closed(1, why) = o { Some(format!("{why:?}")) } else { None });
    assert!(closed.unwrap().contains("does not stream"), "{outputs:?}");
}

/// What was lost on the way may have said that a table was altered, or that it is gone: nobody goes on by what was known.
#[test]
fn after_a_gap_the_tables_are_described_anew() {
    for altered in [true, false] {
        let before = table(&["id", "v", "secret"], 1);
        let (mut engine, fetch) = engine(&before, 0);
        engine.handle(Input::SnapshotDone(fetch, SnapshotPoint::UpTo(Position::at(1))));
        let outputs = engine.handle(Input::Interval(interval(9, vec![], vec![])));
        assert!(outputs.iter().any(|o| matches!(o, Output::Heal { .. })));
        let mut outputs = engine.handle(Input::Healed { source: "s".into(), intervals: None });
        outputs.extend(engine.handle(Input::Tick));
        assert!(outputs.iter().any(|o| matches!(o, Output::Describe(source) if &**source == "s")), "{outputs:?}");
        // The one that reads it has seen that it is another one now.
        let again = fetched(&outputs).expect("read anew");
        engine.handle(Input::SnapshotFailed(again, "changed".into()));
        let after = table(&["id", "secret", "v"], 2);
        let there = if altered { vec![after] } else { vec![] };
        let mut outputs = engine.handle(Input::Described("s".into(), there));
        outputs.extend(engine.handle(Input::Tick));
        if altered {
            let fetch = fetched(&outputs).expect("read as it is now");
            engine.handle(Input::SnapshotRows(fetch, vec![row(&[1, 2, 3])]));
            let outputs = engine.handle(Input::SnapshotDone(fetch, SnapshotPoint::UpTo(Position::at(9))));
            assert_eq!(shown(&outputs), [1, 3]);
        } else {
            assert!(outputs.iter().any(|o| matches!(o, Output::Closed(1, _))), "{outputs:?}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 500, failure_persistence: None, ..ProptestConfig::default() })]

    /// A table that is altered in the middle of a transaction has rows of two shapes in it.
    #[test]
    fn changes_of_two_shapes_are_folded_into_one_that_nobody_applies(shapes in proptest::collection::vec(0..3_usize, 1..6)) {
        let tables = [table(&["id", "v"], 1), table(&["id"], 2), table(&["id", "v", "w"], 3)];
        let change = |n: &usize| {
            let width = tables[*n].columns.len();
            let mut c = insert(&tables[*n], &vec![1; width]);
            c.omitted_columns = (1..width).collect();
            c.old = Old::Unknown;
            c
        };
        let folded = fold(shapes.iter().map(change));
        prop_assert_eq!(folded.len(), 1);
        let one = shapes.iter().all(|s| *s == shapes[0]);
        let known = tables.iter().any(|t| t.identity() == folded[0].description);
        prop_assert_eq!(known, one);
    }
}
