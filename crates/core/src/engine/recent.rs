//! Results that were read a moment ago, for those who ask the same before anything has changed in them: when everybody comes at
//! once, the database is read once.
//!
//! Whatever may touch a feed makes its result forgotten, whether or not it changes it.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use crate::index::FeedId;
use crate::position::Timestamp;
use crate::seam::ResultRows;
use crate::value::Value;

/// How long a result is kept, in microseconds.
const KEPT: Timestamp = 2_000_000;

/// Rows of a result that is kept, at most.
const MAX_ROWS: usize = 10_000;

/// Bytes of all results that are kept, about.
const MAX_BYTES: usize = 32 << 20;

/// Results that are kept, at most.
const MAX: usize = 1_000;

/// A result that is kept.
#[derive(Debug)]
struct Kept {
    rows: Arc<ResultRows>,
    bytes: usize,
    since: Timestamp,
}

/// The results, by feed.
#[derive(Debug, Default)]
pub(super) struct RecentResults {
    results: HashMap<FeedId, Kept>,
    /// In the order in which they came, those that are forgotten too.
    order: VecDeque<(FeedId, Timestamp)>,
    bytes: usize,
}

fn size(rows: &ResultRows) -> usize {
    /// Bytes of a row besides its values.
    const OF_A_ROW: usize = 96;
    let of = |values: &[Value]| values.iter().map(Value::size).sum::<usize>();
    rows.iter().map(|(key, row)| OF_A_ROW + of(key) + of(&row.row)).sum()
}

impl RecentResults {
    pub(super) fn is_empty(&self) -> bool {
        self.results.is_empty()
    }

    /// Keeps a result, and lets the oldest go for it.
    pub(super) fn keep(&mut self, id: FeedId, rows: &Arc<ResultRows>, now: Timestamp) {
        self.forget(id);
        if rows.len() > MAX_ROWS {
            return;
        }
        let bytes = size(rows);
        self.bytes += bytes;
        self.results.insert(id, Kept { rows: rows.clone(), bytes, since: now });
        self.order.push_back((id, now));
        while (self.bytes > MAX_BYTES || self.order.len() > MAX) && !self.order.is_empty() {
            self.drop_oldest();
        }
    }

    /// The result of a feed, if it is still what it was.
    pub(super) fn get(&self, id: FeedId, now: Timestamp) -> Option<Arc<ResultRows>> {
        let kept = self.results.get(&id)?;
        (now.saturating_sub(kept.since) <= KEPT && now >= kept.since).then(|| kept.rows.clone())
    }

    /// Something may have changed in it.
    pub(super) fn forget(&mut self, id: FeedId) {
        if let Some(kept) = self.results.remove(&id) {
            self.bytes -= kept.bytes;
        }
    }

    fn drop_oldest(&mut self) {
        if let Some((id, since)) = self.order.pop_front()
            && self.results.get(&id).is_some_and(|kept| kept.since == since)
        {
            self.forget(id);
        }
    }

    /// Lets go of what is too old.
    pub(super) fn pass_time(&mut self, now: Timestamp) {
        // A clock that was set back makes them old, too.
        while self.order.front().is_some_and(|(_, since)| now.saturating_sub(*since) > KEPT || now < *since) {
            self.drop_oldest();
        }
    }
}
