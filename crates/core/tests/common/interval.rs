//! What a source that is called `s` hands out.

use std::sync::Arc;

use gossip_core::position::{CommitTime, Interval, Position, RowChange, Transaction};

/// An interval of one transaction, the one after the position before.
pub fn interval(at: u64, changes: Vec<RowChange>) -> Arc<Interval> {
    let (position, committed) = (Position::at(at), CommitTime::default());
    let transaction = Transaction { position, committed, number: 0, inexact_after: None, changes };
    Arc::new(Interval {
        source: "s".into(),
        epoch: 1,
        from: Position::at(at - 1),
        to: position,
        transactions: vec![Arc::new(transaction)],
        resets: vec![],
        settled: position,
        timeline: 0,
        mark: 0,
        reader: "one".into(),
        read_at: 0,
    })
}
