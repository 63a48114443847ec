//! Feeds that hold their rows and that nobody listens to any more: they stay a while, for those who come back.

use super::Engine;
use super::materialized::Materialized;
use crate::audience::SubId;
use crate::index::FeedId;
use crate::position::Timestamp;

/// How long a feed stays, in microseconds.
const LINGERS: Timestamp = 30_000_000;

/// Feeds that stay, at most.
const MAX: usize = 256;

/// Parts of the conditions of one that every change of its table is evaluated for, at most.
const MAX_SCANNED: usize = 32;

/// The part of the memory for rows that they may take: one in so many.
const SHARE: usize = 4;

impl Engine {
    /// A subscriber goes. The last one leaves a feed behind that stays a while, if it is of use to those who come back.
    pub(super) fn leave(&mut self, sub: SubId) {
        let (feed, now) = (self.subs.get(&sub).map(|s| s.feed), self.clock);
        if let Some(materialized) = feed.and_then(|id| self.materialized_mut(id)) {
            materialized.history.keep_until(now.saturating_add(LINGERS));
        }
        let is_last = |id: &FeedId| self.feed(*id).is_some_and(|f| f.subscribers().all(|other| other == sub));
        let stays = feed.filter(|id| is_last(id) && self.is_of_use(*id));
        let Some(id) = stays else { return self.unsubscribe(sub) };
        self.observed.retain(|s| *s != sub);
        let Some(gone) = self.subs.remove(&sub) else { return };
        self.budget.release(gone.owner.as_deref(), gone.cost);
        let Some(feed) = self.feed_mut(id) else { return };
        feed.live.remove(sub);
        if let Some(materialized) = feed.memory.materialized_mut() {
            materialized.left_at = Some(now);
        }
        self.lingering.0.push_back((now, id));
        while self.lingering.0.len() > MAX || self.lingering_bytes() > self.limits.sent_bytes / SHARE {
            self.drop_longest_left();
        }
    }

    /// Whether a feed's result is there and follows from positions alone, so that somebody can go on from where they were.
    /// Nor may it cost much that nobody pays for.
    fn is_of_use(&self, id: FeedId) -> bool {
        let Some(feed) = self.feed(id).filter(|f| !f.plan.changes_with_time) else { return false };
        let materialized = feed.memory.materialized().filter(|m| m.loaded && m.waiting.is_empty());
        let is_cheap = |m: &Materialized| !m.access_path.is_broad() || feed.plan.size().1 <= MAX_SCANNED;
        materialized.is_some_and(|m| m.history.has_begun() && is_cheap(m))
    }

    /// Whether a feed of clients has none any more.
    pub(super) fn is_left(&self, id: FeedId) -> bool {
        let left = |f: &super::Feed| f.memory.materialized().is_some_and(|m| m.left_at.is_some());
        self.feed(id).is_some_and(|f| left(f) && f.subscribers().next().is_none())
    }

    fn lingering_bytes(&self) -> usize {
        let left = self.lingering.0.iter().filter(|(since, id)| self.was_left_at(*id, *since));
        left.filter_map(|(_, id)| self.materialized(*id)).map(|m| m.bytes + m.operator_bytes).sum()
    }

    fn was_left_at(&self, id: FeedId, since: Timestamp) -> bool {
        self.is_left(id) && self.materialized(id).is_some_and(|m| m.left_at == Some(since))
    }

    fn drop_longest_left(&mut self) {
        if let Some((since, id)) = self.lingering.0.pop_front()
            && self.was_left_at(id, since)
        {
            self.remove_feed(id);
        }
    }

    /// Lets go of feeds that were left long ago. A clock that was set back makes that all of them.
    pub(super) fn drop_left_feeds(&mut self) {
        let is_over = |since: Timestamp, now: Timestamp| now.saturating_sub(since) > LINGERS || now < since;
        while self.lingering.0.front().is_some_and(|(since, _)| is_over(*since, self.clock)) {
            self.drop_longest_left();
        }
    }

    /// Lets go of all feeds that were left: their memory is wanted.
    pub(super) fn drop_all_left_feeds(&mut self) {
        while !self.lingering.0.is_empty() {
            self.drop_longest_left();
        }
    }
}
