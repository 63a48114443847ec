//! A table and its changes, for benchmarks of the engine alone.
#![allow(dead_code, clippy::unwrap_used)]

use std::sync::{Arc, LazyLock};

use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, Transaction};
use gossip_core::schema::{Column, Row, Table, TableName};
use gossip_core::value::Type;

pub fn table() -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    Arc::new(Table {
        name: TableName::plain("calls"),
        source: "s".into(),
        columns: [("id", Type::Int8), ("owner", Type::Int8), ("level", Type::Int8)].map(column).to_vec(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

pub fn interval(at: u64, row: Row) -> Arc<Interval> {
    // As a source does, which knows it before it reads a change.
    static DESCRIPTION: LazyLock<u64> = LazyLock::new(|| table().identity());
    let changes = vec![RowChange {
        table: TableName::plain("calls"),
        description: *DESCRIPTION,
        key: [row[0].clone()].into(),
        old: Old::Known(None),
        new: Some(row),
        omitted_columns: Default::default(),
    }];
    interval_of(at, changes)
}

/// An interval of one transaction.
pub fn interval_of(at: u64, changes: Vec<RowChange>) -> Arc<Interval> {
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
        resets: vec![],
        settled: Position::default(),
        timeline: 0,
        mark: 0,
        reader: "one".into(),
        read_at: 0,
    })
}

/// Bytes of memory that the process takes.
pub fn resident() -> f64 {
    let statm = std::fs::read_to_string("/proc/self/statm").unwrap();
    statm.split(' ').nth(1).unwrap().parse::<f64>().unwrap() * 4096.0
}

pub fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}
