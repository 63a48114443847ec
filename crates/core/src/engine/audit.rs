//! An audit under way, and the sums of results that it is about.

use std::collections::HashSet;
use std::hash::{BuildHasher, Hash, Hasher};
use std::sync::Arc;

use foldhash::quality::FixedState;

use super::io::SnapshotId;
use crate::index::FeedId;
use crate::plan::{EffectivePlan, VisibleRow};
use crate::position::{Old, Position, RowChange, SnapshotPoint};
use crate::schema::{Key, Row};
use crate::seam::{ResultRows, SnapshotMerge};

/// The sum over a result's rows. Two results with the same digest are the same, but for a chance of 1 in 2^128.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Digest {
    sum: u128,
    pub(super) rows: i64,
}

impl Digest {
    pub(super) fn of(plan: &EffectivePlan, rows: &ResultRows) -> Digest {
        let mut digest = Digest::default();
        rows.iter().for_each(|(key, seen)| digest.add(plan, key, seen));
        digest
    }

    fn add(&mut self, plan: &EffectivePlan, key: &Key, seen: &VisibleRow) {
        self.sum = self.sum.wrapping_add(hash(plan, key, seen));
        self.rows += 1;
    }

    fn take(&mut self, plan: &EffectivePlan, key: &Key, seen: &VisibleRow) {
        self.sum = self.sum.wrapping_sub(hash(plan, key, seen));
        self.rows -= 1;
    }

    /// Takes in what a change did to the result.
    pub(super) fn change(&mut self, plan: &EffectivePlan, change: &RowChange) {
        // A feed whose query fails on a row is closed, so the digest does not matter then.
        let see = |row: &Row| plan.see(row, &()).unwrap_or(None);
        if let Old::Known(Some(old)) = &change.old
            && let Some(seen) = see(old)
        {
            self.take(plan, &change.key, &seen);
        }
        if let Some(seen) = change.new.as_ref().and_then(see) {
            self.add(plan, &change.key, &seen);
        }
    }
}

/// What of a row is shown, as 128 bits. Never leaves the process.
fn hash(plan: &EffectivePlan, key: &Key, seen: &VisibleRow) -> u128 {
    let half = |seed: u64| {
        let mut hasher = FixedState::with_seed(seed).build_hasher();
        key.hash(&mut hasher);
        for (column, value) in plan.shown(seen) {
            column.hash(&mut hasher);
            value.hash(&mut hasher);
        }
        u128::from(hasher.finish())
    };
    half(1) << 64 | half(2)
}

/// An audit under way.
#[derive(Debug)]
pub(super) struct Audit {
    pub(super) feed: FeedId,
    pub(super) plan: Arc<EffectivePlan>,
    pub(super) snapshot: SnapshotId,
    pub(super) since: Position,
    pub(super) settled: Position,
    pub(super) fresh: Fresh,
}

/// What was read for it.
#[derive(Debug)]
pub(super) enum Fresh {
    /// To be brought exactly to a position, and summed up.
    Whole(Box<SnapshotMerge>),
    /// Rows, and keys that have changed since the request.
    ByKey { rows: Vec<Row>, passed: HashSet<Key>, shows: Option<SnapshotPoint> },
}
