//! Results that were read a moment ago, for those who ask the same before anything has changed in them: when everybody comes at
//! once, the database is read once.
//!
//! Whatever may touch a feed makes its result forgotten, whether or not it changes it.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use crate::index::FeedId;
use crate::position::Timestamp;
use crate::seam::ResultRows;

/// How long a result is kept, in microseconds.
const KEPT: Timestamp = 2_000_000;

/// Rows of all results that are kept; a larger result is not.
const MAX_ROWS: usize = 100_000;

/// Results that are kept, at most.
const MAX: usize = 1_000;

/// The results, by feed.
#[derive(Debug, Default)]
pub(super) struct RecentResults {
    results: HashMap<FeedId, (Arc<ResultRows>, Timestamp)>,
    /// In the order in which they came, those that are forgotten too.
    order: VecDeque<(FeedId, Timestamp)>,
    rows: usize,
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
        self.rows += rows.len();
        self.results.insert(id, (rows.clone(), now));
        self.order.push_back((id, now));
        while self.rows > MAX_ROWS || self.order.len() > MAX {
            self.drop_oldest();
        }
    }

    /// The result of a feed, if it is still what it was.
    pub(super) fn get(&self, id: FeedId, now: Timestamp) -> Option<Arc<ResultRows>> {
        let (rows, since) = self.results.get(&id)?;
        (now.saturating_sub(*since) <= KEPT && now >= *since).then(|| rows.clone())
    }

    /// Something may have changed in it.
    pub(super) fn forget(&mut self, id: FeedId) {
        if let Some((rows, _)) = self.results.remove(&id) {
            self.rows -= rows.len();
        }
    }

    fn drop_oldest(&mut self) {
        if let Some((id, since)) = self.order.pop_front()
            && self.results.get(&id).is_some_and(|(_, of)| *of == since)
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
