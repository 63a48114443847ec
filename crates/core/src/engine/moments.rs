//! When the rows of a feed come into its result, leave it, or show more or less, by themselves.

use std::collections::BTreeSet;

use crate::plan::EffectivePlan;
use crate::position::Timestamp;
use crate::schema::{ByKey, Key, Row};
use crate::subquery::SubqueryResults;
use crate::value::Value;

/// Approximate bytes of a row's moment besides its key, which stands there twice.
const OF_A_MOMENT: usize = 128;

/// When that happens next to each of its rows, in microseconds since 2000.
#[derive(Debug, Default)]
pub(super) struct Moments {
    in_order: BTreeSet<(Timestamp, Key)>,
    of: ByKey<Timestamp>,
    bytes: usize,
    /// The moment under which the engine knows the feed.
    pub(super) known: Option<Timestamp>,
}

impl Moments {
    /// Notes when it happens next to a row.
    pub(super) fn note(&mut self, plan: &EffectivePlan, key: &Key, row: Option<&Row>, results: &dyn SubqueryResults) {
        let size = OF_A_MOMENT + 2 * key.iter().map(Value::size).sum::<usize>();
        if let Some(at) = self.of.remove(key) {
            self.in_order.remove(&(at, key.clone()));
            self.bytes -= size;
        }
        if let Some(at) = row.and_then(|row| plan.next_change(row, results)) {
            self.of.insert(key.clone(), at);
            self.in_order.insert((at, key.clone()));
            self.bytes += size;
        }
    }

    /// The rows whose moment has come.
    pub(super) fn passed(&self, now: Timestamp) -> Vec<Key> {
        self.in_order.iter().take_while(|(at, _)| *at <= now).map(|(_, key)| key.clone()).collect()
    }

    /// When the first of them comes.
    pub(super) fn first(&self) -> Option<Timestamp> {
        self.in_order.first().map(|(at, _)| *at)
    }

    /// Approximate bytes.
    pub(super) fn size(&self) -> usize {
        self.bytes
    }
}
