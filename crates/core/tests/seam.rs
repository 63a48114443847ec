//! A snapshot and the changes beside it are the table at the end, also where changes leave out large values.
#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use gossip_core::plan::EffectivePlan;
use gossip_core::position::{CommitTime, Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::query::parse_query;
use gossip_core::rule::{self, Claims, Permitted, RuleSet, RuleText};
use gossip_core::schema::{Catalog, Column, ColumnSet, Identified, Row, Table, TableName};
use gossip_core::seam::SnapshotMerge;
use gossip_core::value::{Type, Value};
use proptest::prelude::*;
use serde_json::Map;

const BODY: usize = 1;

fn table() -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    Arc::new(Table {
        name: TableName::plain("notes"),
        source: "s".into(),
        columns: [("id", Type::Int8), ("body", Type::Text), ("n", Type::Int8)].into_iter().map(column).collect(),
        key: vec![0],
        old_values: false,
        incarnation: 0,
    })
}

fn plan(query: &str, mask: Option<&str>) -> Arc<EffectivePlan> {
    let mut catalog = Catalog::default();
    catalog.put(table());
    let rule = RuleText {
        table: TableName::plain("notes"),
        role: "r".into(),
        masks: mask.iter().map(|m| ("body".to_string(), m.to_string())).collect(),
        ..RuleText::default()
    };
    let rules = RuleSet::new(vec![rule]);
    assert!(rules.check(&catalog).is_empty(), "{:?}", rules.check(&catalog));
    let claims = Claims { roles: vec!["r".into()], ..Claims::anonymous() };
    let query = parse_query(query, &catalog, &Map::new()).unwrap().bind(&Map::new(), &Map::new()).unwrap();
    Arc::new(rule::fold(query, &Permitted { catalog: &catalog, rules: &rules, claims: &claims }))
}

/// What is done to a row: it comes or is written anew, only its number changes, it moves to another key, it goes.
#[derive(Clone, Debug)]
enum Step {
    Write(i64, i64, i64),
    Count(i64, i64),
    Move(i64, i64),
    Delete(i64),
}

fn step() -> impl Strategy<Value = Step> {
    let id = || 0..4_i64;
    prop_oneof![
        (id(), 0..4_i64, 0..4_i64).prop_map(|(id, body, n)| Step::Write(id, body, n)),
        (id(), 0..4_i64).prop_map(|(id, n)| Step::Count(id, n)),
        (id(), 0..4_i64).prop_map(|(id, n)| Step::Count(id, n)),
        (id(), id()).prop_map(|(from, to)| Step::Move(from, to)),
        id().prop_map(Step::Delete),
    ]
}

type Rows = BTreeMap<i64, Row>;

fn row(id: i64, body: i64, n: i64) -> Row {
    [Value::Int(id), format!("body {body}").as_str().into(), Value::Int(n)].into()
}

/// The changes that a step is told by, where the database leaves out a body that did not change.
fn changes(rows: &mut Rows, step: &Step) -> Vec<RowChange> {
    let told = |id: i64, old: Old, new: Option<Row>, leaves_out: bool| {
        let mut change = RowChange::of(&Identified::new(table()), [Value::Int(id)].into(), old, new);
        if let Some(row) = change.new.as_mut().filter(|_| leaves_out) {
            change.omitted_columns = [BODY].into_iter().collect::<ColumnSet>();
            *row = [row[0].clone(), Value::Null, row[2].clone()].into();
        }
        change
    };
    match *step {
        Step::Write(id, body, n) => {
            let came = rows.insert(id, row(id, body, n)).is_none();
            let old = if came { Old::Known(None) } else { Old::Unknown };
            vec![told(id, old, rows.get(&id).cloned(), false)]
        }
        Step::Count(id, n) => {
            let Some(before) = rows.get(&id) else { return vec![] };
            let new: Row = [before[0].clone(), before[1].clone(), Value::Int(n)].into();
            rows.insert(id, new.clone());
            vec![told(id, Old::Unknown, Some(new), true)]
        }
        Step::Move(from, to) => {
            if from == to || rows.contains_key(&to) {
                return vec![];
            }
            let Some(before) = rows.remove(&from) else { return vec![] };
            let new: Row = [Value::Int(to), before[1].clone(), before[2].clone()].into();
            rows.insert(to, new.clone());
            vec![told(from, Old::Unknown, None, false), told(to, Old::Known(None), Some(new), true)]
        }
        Step::Delete(id) => rows.remove(&id).map(|_| told(id, Old::Unknown, None, false)).into_iter().collect(),
    }
}

proptest! {
    #[test]
    fn what_is_left_out_is_what_it_was(
        steps in prop::collection::vec(step(), 1..24),
        asked in any::<prop::sample::Index>(),
        shown in any::<prop::sample::Index>(),
        kind in 0..4_usize,
    ) {
        let plan = [
            plan("SELECT * FROM notes WHERE n < 3", None),
            plan("SELECT id FROM notes WHERE body <> 'body 1'", None),
            plan("SELECT * FROM notes", Some("left(body, 6)")),
            plan("SELECT id, n FROM notes", None),
        ][kind].clone();
        let (asked, shown) = (asked.index(steps.len()), shown.index(steps.len() + 1));
        let (asked, shown) = (asked.min(shown), asked.max(shown));
        let mut rows: Rows = (0..3).map(|id| (id, row(id, id, id))).collect();
        let mut seam = SnapshotMerge::default();
        let mut in_snapshot = BTreeSet::new();
        // Of each key: whether a change has told its body since the snapshot was asked for, when it came from under
        // another key, and when it was changed last without the body.
        let mut stands: BTreeMap<i64, (bool, Option<usize>, Option<usize>)> = BTreeMap::new();
        for (i, step) in steps.iter().enumerate() {
            if i == shown {
                in_snapshot = snapshot(&mut seam, &plan, &rows, i);
            }
            for change in changes(&mut rows, step) {
                if i >= asked {
                    prop_assert!(seam.overlay(&plan, &transaction(i + 1), &change));
                }
                let Value::Int(id) = change.key[0] else { unreachable!() };
                let (told, moved, left_out) = stands.entry(id).or_default();
                match step {
                    Step::Count(..) => *left_out = Some(i),
                    Step::Move(_, to) if *to == id => (*told, *moved, *left_out) = (false, Some(i), Some(i)),
                    _ => (*told, *moved, *left_out) = (i >= asked && change.new.is_some(), None, None),
                }
            }
        }
        if shown == steps.len() {
            in_snapshot = snapshot(&mut seam, &plan, &rows, shown);
        }
        let lacks = |(id, (told, moved, left_out)): (&i64, &(bool, Option<usize>, Option<usize>))| {
            let later = |at: &Option<usize>| at.is_some_and(|i| i >= shown);
            !told && later(left_out) && (later(moved) || !in_snapshot.contains(id))
        };
        let found = seam.finish(&plan, Position::at(steps.len() as u64)).expect("all is passed");
        match found {
            Ok(found) => {
                let right: Vec<_> = rows
                    .iter()
                    .filter_map(|(id, row)| Some((vec![Value::Int(*id)], shown_of(&plan, row)?)))
                    .collect();
                let found: Vec<_> =
                    found.iter().map(|(key, seen)| (key.to_vec(), plan.shown(seen).map(|(_, v)| v.clone()).collect())).collect();
                prop_assert_eq!(found, right);
            }
            Err(_) => prop_assert!(kind != 3 && stands.iter().any(lacks), "all of it was there"),
        }
    }
}

fn shown_of(plan: &EffectivePlan, row: &Row) -> Option<Vec<Value>> {
    let seen = plan.see(row, &()).unwrap()?;
    Some(plan.shown(&seen).map(|(_, v)| v.clone()).collect())
}

fn transaction(n: usize) -> Transaction {
    Transaction {
        position: Position::at(n as u64),
        committed: CommitTime::default(),
        number: n as u64,
        inexact_after: None,
        changes: vec![],
    }
}

/// Gives a snapshot as the reader does: what is not to be seen does not come. The keys of what came.
fn snapshot(seam: &mut SnapshotMerge, plan: &EffectivePlan, rows: &Rows, after: usize) -> BTreeSet<i64> {
    let seen = || rows.iter().filter(|(_, row)| plan.sees(row, &()));
    seam.rows(plan, seen().map(|(_, row)| row.clone()).collect());
    seam.complete(SnapshotPoint::UpTo(Position::at(after as u64)));
    seen().map(|(id, _)| *id).collect()
}

/// A table whose rows are written all the time, large values apart: whoever comes gets a result from the first snapshot.
#[test]
fn rows_that_are_written_again_and_again_do_not_keep_anybody_waiting() {
    let plan = plan("SELECT * FROM notes", None);
    let mut rows: Rows = (0..100).map(|id| (id, row(id, id, 0))).collect();
    let mut seam = SnapshotMerge::default();
    for n in 1..=1_000 {
        if n == 500 {
            snapshot(&mut seam, &plan, &rows, n - 1);
        }
        for change in changes(&mut rows, &Step::Count(n as i64 % 100, n as i64)) {
            assert!(seam.overlay(&plan, &transaction(n), &change));
        }
    }
    let found = seam.finish(&plan, Position::at(1_000)).unwrap().expect("nothing is missing");
    let right: Vec<_> = rows.values().cloned().collect();
    assert_eq!(found.into_iter().map(|(_, seen)| seen.row).collect::<Vec<_>>(), right);
}
