//! The engine of Gossip: which rows a live query shows to whom, and what changes in its result when the data changes.
//!
//! A pure state machine. Inputs go in, outputs come out; there is no I/O, no clock, no thread and no global state here,
//! so a whole cluster runs in one thread from one seed (`tests/cluster`). Sockets, databases and brokers belong to
//! the crates around it, which only move bytes.
//!
//! Where to start reading: [`engine`] is the state machine; a subscription's way through it is described there. Then,
//! in the order of a change's travel: [`position`] (order, gaps), [`index`] (which feeds), [`plan`] (what a query does with
//! a row: its operators; [`rule`] says who may see what, [`subquery`] and [`mask`] are parts of rules, [`query`] is what
//! the text of a query means), [`feed`] (what it changes for its subscribers),
//! [`seam`] (how it is merged with a snapshot), [`wire`] (how it is written), [`send_queue`] (how it waits). [`explain`] and
//! [`what_if`] answer developers: why a client did not receive a change, and what other rules would have changed. [`topic`]
//! makes rows of events, [`cluster`] knows the other instances and who is present where; [`local_source`] turns their
//! changes into a source like any other. [`column_pruning`] says which columns have to be relayed, [`canonical`] is the
//! encoding that identities are compared by, [`budget`] limits what subscriptions cost.
//!
//! A live query from its subscription to a first delta:
//!
//! ```
//! use std::sync::Arc;
//!
//! use gossip_core::engine::{Engine, Input, Limits, Output, Request};
//! use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, SnapshotPoint, Transaction};
//! use gossip_core::rule::{Claims, RuleSet, RuleText};
//! use gossip_core::schema::{Column, Table, TableName};
//! use gossip_core::value::{Type, Value};
//!
//! let name = TableName::plain("calls");
//! let column = |name: &str, ty| Column { name: name.into(), ty };
//! let table = Arc::new(Table {
//!     name: name.clone(),
//!     source: "harbour".into(),
//!     columns: vec![column("id", Type::Int8), column("status", Type::Text)],
//!     key: vec![0],
//!     old_values: true,
//!     incarnation: 0,
//! });
//! let everybody = RuleText { role: "anonymous".into(), table: name.clone(), ..RuleText::default() };
//! let mut engine = Engine::new(Arc::new(RuleSet::new(vec![everybody])), Limits::default());
//! engine.handle(Input::Table(table.clone()));
//!
//! let interval = |from, to, transactions| {
//!     Arc::new(Interval {
//!         source: "harbour".into(),
//!         epoch: 1,
//!         from: Position::at(from),
//!         to: Position::at(to),
//!         transactions,
//!         resets: vec![],
//!         settled: Position::default(),
//!         timeline: 0,
//!         mark: 0,
//!         reader: "one".into(),
//!         read_at: 0,
//!     })
//! };
//! engine.handle(Input::Interval(interval(0, 1, vec![])));
//!
//! let claims = Arc::new(Claims::anonymous());
//! let query = "SELECT id FROM calls WHERE status = 'expected'".to_string();
//! let outputs = engine.handle(Input::Subscribe(1, Box::new(Request { query, claims, ..Request::default() })));
//! let snapshot = outputs.iter().find_map(|o| if let Output::FetchSnapshot { id, .. } = o { Some(*id) } else { None });
//! let read = SnapshotPoint::UpTo(Position::at(1));
//! let outputs = engine.handle(Input::SnapshotDone(snapshot.expect("it has to be read"), read));
//! assert!(outputs.iter().any(|o| matches!(o, Output::Result { rows, .. } if rows.is_empty())));
//!
//! let inserted = RowChange {
//!     table: name,
//!     description: table.identity(),
//!     key: [Value::Int(7)].into(),
//!     old: Old::Known(None),
//!     new: Some([Value::Int(7), Value::text("expected")].into()),
//!     omitted_columns: Default::default(),
//! };
//! let transaction = Transaction {
//!     position: Position::at(2),
//!     committed: CommitTime::default(),
//!     number: 0,
//!     inexact_after: None,
//!     changes: vec![inserted],
//! };
//! let outputs = engine.handle(Input::Interval(interval(1, 2, vec![Arc::new(transaction)])));
//! assert!(outputs.iter().any(|o| matches!(o, Output::Delta(delta, to) if delta.changes.len() == 1 && to.as_slice() == [1])));
//! ```

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

pub mod audience;
mod bounds;
pub mod budget;
pub mod canonical;
pub mod cluster;
pub mod coalesce;
pub mod column_pruning;
pub mod datetime;
pub mod engine;
pub mod explain;
pub mod feed;
pub mod index;
mod intervals;
mod json;
mod latest;
pub mod local_source;
pub mod mask;
pub mod operator;
pub mod plan;
pub mod position;
pub mod publication;
pub mod query;
pub mod refusal;
pub mod row_changes;
pub mod rule;
pub mod schema;
pub mod seal;
pub mod seam;
pub mod send_queue;
pub mod subquery;
pub mod topic;
pub mod types;
pub mod value;
pub mod what_if;
pub mod wire;
