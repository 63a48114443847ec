//! Which feed an equal plan at an equal pace already has.

use std::hash::BuildHasher as _;
use std::sync::Arc;

use foldhash::fast::FixedState;
use hashbrown::HashTable;

use crate::index::FeedId;
use crate::plan::EffectivePlan;
use crate::position::Micros;

/// Feeds by plan and pace. Holds numbers only: the feeds have the plans, and there may be a million of them.
#[derive(Debug, Default)]
pub(super) struct SharedFeeds(HashTable<FeedId>);

/// What feeds are shared by.
pub(super) type SharedBy<'a> = (&'a Arc<EffectivePlan>, Micros);

fn hash((plan, every): SharedBy<'_>) -> u64 {
    FixedState::default().hash_one((plan.fingerprint, every))
}

impl SharedFeeds {
    /// The feed of a plan at a pace. `of` is what a feed is shared by.
    pub(super) fn find<'a>(&self, by: SharedBy<'_>, of: impl Fn(FeedId) -> Option<SharedBy<'a>>) -> Option<FeedId> {
        self.0.find(hash(by), |id| of(*id).is_some_and(|(plan, every)| every == by.1 && *plan == *by.0)).copied()
    }

    /// Enters a feed; no other has its plan and pace.
    pub(super) fn insert<'a>(&mut self, id: FeedId, of: impl Fn(FeedId) -> Option<SharedBy<'a>>) {
        let hash_of = |id: &FeedId| of(*id).map_or(0, hash);
        self.0.insert_unique(hash_of(&id), id, hash_of);
    }

    /// Takes a feed out.
    pub(super) fn remove(&mut self, id: FeedId, by: SharedBy<'_>) {
        if let Ok(entry) = self.0.find_entry(hash(by), |other| *other == id) {
            entry.remove();
        }
    }
}
