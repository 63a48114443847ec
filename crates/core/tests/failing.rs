//! A query fails exactly where it has no value on a row that its client may see: at the subscription, or when a change
//! brings such a row. What the rules withhold never causes an error.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Output, Refusal, Request, SnapshotId};
use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::query::function::EvalError;
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;

const QUERY: &str = "SELECT id FROM t WHERE 10 / v > 2";

/// The rows of `t`: by id, `v` and whether the rules let it be seen.
type Rows = BTreeMap<i64, (i64, bool)>;

fn table(old_values: bool) -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns: [("id", Type::Int8), ("v", Type::Int8), ("open", Type::Bool)].into_iter().map(column).collect(),
        key: vec![0],
        old_values,
        incarnation: 0,
    })
}

fn other() -> Arc<Table> {
    let column = |name: &str| Column { name: name.into(), ty: Type::Int8 };
    let columns = vec![column("id")];
    let name = TableName::plain("members");
    Arc::new(Table { name, source: "s".into(), columns, key: vec![0], old_values: true, incarnation: 0 })
}

fn row(id: i64, (v, open): (i64, bool)) -> Row {
    [Value::Int(id), Value::Int(v), Value::Bool(open)].into()
}

fn interval(at: u64, changes: Vec<RowChange>) -> Arc<Interval> {
    let (number, inexact_after) = (0, None);
    let t =
        Transaction { position: Position::at(at), committed: CommitTime::default(), number, inexact_after, changes };
    Arc::new(Interval {
        source: "s".into(),
        epoch: 1,
        from: Position::at(at - 1),
        to: Position::at(at),
        transactions: vec![Arc::new(t)],
        resets: vec![],
        settled: Position::at(at),
        timeline: 1,
        mark: 0,
        reader: "one".into(),
        read_at: 0,
    })
}

/// The ids in the result, or that the query fails.
fn expected(rows: &Rows) -> Result<Vec<i64>, EvalError> {
    let seen = rows.iter().filter(|(_, (_, open))| *open);
    let mut ids = Vec::new();
    for (id, (v, _)) in seen {
        if 10_i64.checked_div(*v).ok_or(EvalError::DivisionByZero)? > 2 {
            ids.push(*id);
        }
    }
    Ok(ids)
}

/// A client that follows its result, until it is closed.
#[derive(Debug, Default)]
struct Client {
    ids: Option<Vec<i64>>,
    closed: Option<Refusal>,
}

impl Client {
    fn take(&mut self, outputs: &[Output]) {
        use gossip_core::feed::Change;
        let id = |key: &[Value]| if let Value::Int(id) = key[0] { id } else { -1 };
        for o in outputs {
            match o {
                Output::Result { rows, .. } => self.ids = Some(rows.iter().map(|(key, _)| id(key)).collect()),
                Output::Delta(d, _) => {
                    let ids = self.ids.as_mut().unwrap();
                    for c in &d.changes {
                        ids.retain(|i| *i != id(c.key()));
                        if !matches!(c, Change::Remove { .. }) {
                            ids.push(id(c.key()));
                        }
                    }
                    ids.sort_unstable();
                }
                Output::Closed(1, refusal) => self.closed = Some(refusal.clone()),
                _ => {}
            }
        }
    }
}

fn fetched(outputs: &[Output]) -> Option<SnapshotId> {
    let of_t = |o: &Output| match o {
        Output::FetchSnapshot { id, request, .. } if *request.table.name.name == *"t" => Some(*id),
        _ => None,
    };
    outputs.iter().rev().find_map(of_t)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2_000, failure_persistence: None, ..ProptestConfig::default() })]

    /// Steps are changes of a row; the snapshot is read after some of them, and handed over after some more. By a rule of
    /// the row alone, or by one that asks another table, for which the feed keeps its rows.
    #[test]
    fn a_query_fails_where_it_has_no_value_on_a_visible_row(
        steps in prop::collection::vec((0..4_i64, prop::option::weighted(0.8, (-2..6_i64, any::<bool>()))), 1..12),
        subscribe in 0..12_usize,
        read in 0..12_usize,
        arrive in 0..12_usize,
        old_values in any::<bool>(),
        asks in any::<bool>(),
    ) {
        let of = table(old_values);
        let condition = if asks { "open AND 1 IN (SELECT id FROM members)" } else { "open" };
        let rule = RuleText { role: "anonymous".into(), table: of.name.clone(), rows: Some(condition.into()), ..RuleText::default() };
        let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
        engine.handle(Input::Table(of.clone()));
        engine.handle(Input::Table(other()));
        engine.handle(Input::Interval(interval(1, vec![])));
        let subscribe = subscribe.min(steps.len());
        let (read, arrive) = ((subscribe + read).min(steps.len()), (subscribe + read + arrive).min(steps.len()));
        let (mut rows, mut client, mut snapshot, mut shown) = (Rows::new(), Client::default(), None, None);
        let identified = Identified::new(of.clone());
        for i in 0..=steps.len() {
            if i == subscribe {
                let claims = Arc::new(Claims::anonymous());
                let request = Request { query: QUERY.into(), claims, ..Request::default() };
                let mut outputs = engine.handle(Input::Subscribe(1, Box::new(request)));
                // The members come at once.
                while let Some(Output::FetchSnapshot { id, request, .. }) = outputs.iter().rev().find(|o| matches!(o, Output::FetchSnapshot { request, .. } if *request.table.name.name == *"members")).cloned() {
                    let _ = request;
                    engine.handle(Input::SnapshotRows(id, vec![[Value::Int(1)].into()]));
                    outputs = engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(i as u64 + 1))));
                }
                client.take(&outputs);
                snapshot = fetched(&outputs);
                prop_assert!(snapshot.is_some(), "{outputs:?}");
            }
            if i == read {
                shown = Some((rows.clone(), i as u64 + 1));
            }
            if i == arrive && let (Some(id), Some((rows, at))) = (snapshot.take(), shown.take()) {
                let all = rows.iter().map(|(id, r)| row(*id, *r)).collect();
                client.take(&engine.handle(Input::SnapshotRows(id, all)));
                client.take(&engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(at)))));
            }
            // Once there is a result, it is right, or the query has failed.
            if i >= arrive {
                match (&client.closed, expected(&rows)) {
                    (Some(refusal), _) => {
                        prop_assert_eq!(refusal, &Refusal::Failed(EvalError::DivisionByZero));
                        prop_assert!(expected(&rows).is_err(), "closed for {:?}", rows);
                        return Ok(());
                    }
                    (None, Ok(ids)) => prop_assert_eq!(client.ids.as_ref(), Some(&ids)),
                    (None, Err(_)) => prop_assert!(false, "{:?} and the query has not failed", rows),
                }
            }
            let Some((id, new)) = steps.get(i).copied() else { continue };
            let old = match new {
                Some(new) => rows.insert(id, new),
                None => rows.remove(&id),
            };
            let before = if old_values { Old::Known(old.map(|r| row(id, r))) } else { Old::Unknown };
            let change = RowChange::of(&identified, [Value::Int(id)].into(), before, new.map(|r| row(id, r)));
            client.take(&engine.handle(Input::Interval(interval(i as u64 + 2, vec![change]))));
        }
    }
}
