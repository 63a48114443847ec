//! Which feed an equal plan at an equal pace already has.

use std::hash::BuildHasher as _;
use std::sync::Arc;

use foldhash::fast::FixedState;
use hashbrown::HashTable;

use super::Feed;
use crate::index::FeedId;
use crate::plan::EffectivePlan;
use crate::position::Micros;

/// Feeds by plan and pace. Holds numbers only: the feeds have the plans, and there may be a million of them.
#[derive(Debug, Default)]
pub(super) struct SharedFeeds(HashTable<FeedId>);

fn hash(plan: &EffectivePlan, every: Micros) -> u64 {
    FixedState::default().hash_one((plan.fingerprint, every))
}

fn hash_of(feeds: &[Option<Feed>], id: FeedId) -> u64 {
    let feed = feeds.get(id as usize).and_then(Option::as_ref);
    feed.map_or(0, |f| hash(&f.plan, f.every()))
}

impl SharedFeeds {
    /// The feed of a plan at a pace.
    pub(super) fn find(&self, feeds: &[Option<Feed>], plan: &Arc<EffectivePlan>, every: Micros) -> Option<FeedId> {
        let same = |id: &FeedId| {
            let feed = feeds.get(*id as usize).and_then(Option::as_ref);
            feed.is_some_and(|f| f.every() == every && f.plan == *plan)
        };
        self.0.find(hash(plan, every), same).copied()
    }

    /// Enters a feed that stands among `feeds`; no other has its plan and pace.
    pub(super) fn insert(&mut self, feeds: &[Option<Feed>], id: FeedId) {
        self.0.insert_unique(hash_of(feeds, id), id, |id| hash_of(feeds, *id));
    }

    /// Takes a feed out that still stands among `feeds`.
    pub(super) fn remove(&mut self, feeds: &[Option<Feed>], id: FeedId) {
        if let Ok(entry) = self.0.find_entry(hash_of(feeds, id), |other| *other == id) {
            entry.remove();
        }
    }
}
