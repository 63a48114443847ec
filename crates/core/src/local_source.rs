//! Changes made in this process, as a source like any other: Gossip's own tables, and topics.

use std::sync::Arc;

use crate::position::{CommitTime, Interval, Position, RowChange, Timestamp, Transaction, fold};

/// A local source: its position, and pending changes.
#[derive(Debug)]
pub struct Own {
    source: Arc<str>,
    epoch: u64,
    at: Position,
    pending: Vec<RowChange>,
}

impl Own {
    /// A source without changes yet. Cursors are valid as long as the epoch is the same.
    pub fn new(source: &str, epoch: u64) -> Own {
        Own { source: source.into(), epoch, at: Position::at(1), pending: Vec::new() }
    }

    /// Adds a change.
    pub fn push(&mut self, change: RowChange) {
        self.pending.push(change);
    }

    /// Its position, without pending changes.
    pub fn at(&self) -> Position {
        self.at
    }

    /// Its position, as operators and publishers see it.
    pub fn position(&self) -> String {
        format!("{}:{}", self.source, self.at)
    }

    /// The pending changes as an interval of one transaction, made at `committed`.
    pub fn take(&mut self, committed: Timestamp, now: Timestamp) -> Option<Interval> {
        if self.pending.is_empty() {
            return None;
        }
        let changes = fold(std::mem::take(&mut self.pending));
        if changes.is_empty() {
            return None;
        }
        let from = self.at;
        self.at = Position::at(from.commit + 1);
        let committed = CommitTime { from: committed, to: committed };
        Some(self.interval(
            from,
            vec![Arc::new(Transaction { position: self.at, committed, number: 0, inexact_after: None, changes })],
            now,
        ))
    }

    /// An empty interval at its position, so that snapshots can be merged before anything changes.
    pub fn sign(&self, now: Timestamp) -> Interval {
        self.interval(self.at, vec![], now)
    }

    fn interval(&self, from: Position, transactions: Vec<Arc<Transaction>>, now: Timestamp) -> Interval {
        Interval {
            source: self.source.clone(),
            epoch: self.epoch,
            from,
            to: self.at,
            transactions,
            resets: vec![],
            settled: Position::default(),
            timeline: 0,
            mark: 0,
            reader: self.source.clone(),
            read_at: now,
        }
    }
}
