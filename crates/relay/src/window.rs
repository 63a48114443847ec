//! The newest intervals of each source, for those who missed some.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use gossip_core::position::{Interval, Position};

/// Intervals remembered per source.
const MAX_INTERVALS: usize = 4_096;

/// Row changes in them.
const MAX_CHANGES: usize = 20_000;

/// The row changes in an interval.
pub fn size(interval: &Interval) -> usize {
    interval.transactions.iter().map(|t| t.changes.len()).sum()
}

#[derive(Default)]
struct Materialized {
    intervals: VecDeque<Arc<Interval>>,
    changes: usize,
    last: Option<Arc<Interval>>,
}

/// The intervals received last, by source. Sources are few: only those that the caller admits.
#[derive(Default)]
pub struct Window {
    sources: HashMap<Arc<str>, Materialized>,
}

impl Window {
    /// Takes an interval. One that is not newer than what is known of its source changes nothing.
    pub fn add(&mut self, interval: &Arc<Interval>) {
        let kept = self.sources.entry(interval.source.clone()).or_default();
        let newer = |last: &Arc<Interval>| (last.epoch, last.to) <= (interval.epoch, interval.to);
        // A reader that has been replaced may still speak.
        if !kept.last.as_ref().is_none_or(newer) {
            return;
        }
        let before = kept.last.replace(interval.clone());
        if before.is_some_and(|b| b.timeline != interval.timeline) {
            kept.intervals.clear();
            kept.changes = 0;
        }
        if interval.from < interval.to && kept.intervals.back().is_none_or(|b| b.to < interval.to) {
            kept.intervals.push_back(interval.clone());
            kept.changes += size(interval);
            while kept.intervals.len() > MAX_INTERVALS || (kept.changes > MAX_CHANGES && kept.intervals.len() > 1) {
                kept.changes -= kept.intervals.pop_front().map_or(0, |i| size(&i));
            }
        }
    }

    /// Forgets the intervals, but not where the sources are.
    pub fn forget(&mut self) {
        for kept in self.sources.values_mut() {
            kept.intervals.clear();
            kept.changes = 0;
        }
    }

    /// Everything after a position; `None` if something of it is missing, or there is nothing.
    pub fn since(&self, source: &str, after: Position) -> Option<Vec<Arc<Interval>>> {
        let kept = self.sources.get(source)?;
        let since = unbroken(after, kept.intervals.iter().cloned())?;
        // A heartbeat may have announced more than has arrived.
        let reaches = since.last()?.to >= kept.last.as_ref()?.to;
        reaches.then_some(since)
    }

    /// The last interval of a source, heartbeats included.
    pub fn last(&self, source: &str) -> Option<Arc<Interval>> {
        self.sources.get(source)?.last.clone()
    }

    /// The last of every source.
    pub fn all_last(&self) -> impl Iterator<Item = &Arc<Interval>> {
        self.sources.values().filter_map(|k| k.last.as_ref())
    }
}

/// What follows a position without a gap; `None` if something is missing or nothing follows.
pub fn unbroken(after: Position, all: impl IntoIterator<Item = Arc<Interval>>) -> Option<Vec<Arc<Interval>>> {
    let (mut at, mut since) = (after, Vec::new());
    for i in all {
        if i.to <= at {
            continue;
        }
        // The source itself may have a gap, when its log was lost; that one cannot be filled.
        if i.from > at {
            return None;
        }
        at = i.to;
        since.push(i);
    }
    (!since.is_empty()).then_some(since)
}

/// Says only where a source is: what happened before is in snapshots.
pub fn sign(last: &Interval) -> Interval {
    Interval { from: last.to, transactions: vec![], resets: vec![], ..last.clone() }
}
