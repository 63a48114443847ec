//! How much room there is for rows that are held, and who has how much of it.

use std::collections::BTreeMap;

use super::Engine;
use super::io::{Limits, Refusal};
use super::materialized::Materialized;
use crate::budget::Owner;
use crate::index::FeedId;

/// The part of the memory for rows beyond which a person or address gets no more results: one in so many.
const OF_ONE: usize = 4;

impl Engine {
    /// The limits on rows hold for running feeds too. If all feeds together hold too much, the largest of whoever holds the
    /// most is closed, not the one that happens to send next.
    pub(super) fn exceeded_limit(&self, id: FeedId, materialized: &Materialized) -> Option<(FeedId, Refusal)> {
        if let Some(refusal) = self.has_too_many_rows(id, materialized.entries.len()) {
            return Some((id, refusal));
        }
        let sent_bytes = self.limits.sent_bytes;
        if self.materialized_bytes <= sent_bytes.saturating_mul(2) {
            return None;
        }
        Some((self.largest_feed().unwrap_or(id), self.limits.keeps_too_much()))
    }

    /// The refusal of so many rows of a feed, if these are too many.
    pub(super) fn has_too_many_rows(&self, id: FeedId, rows: usize) -> Option<Refusal> {
        let Limits { result_rows, joined_rows, .. } = self.limits;
        let is_of_client = |m: &Materialized| m.maintains().is_some_and(|asked| asked.grants().is_some());
        let feed = self.feed(id)?;
        let (what, most) = match &feed.plan.joins {
            Some(_) => ("one result of several tables", joined_rows),
            None if self.materialized(id).is_some_and(is_of_client) => ("a sub-select", joined_rows),
            None => ("one result", result_rows),
        };
        (rows > most).then(|| Refusal::Limit(format!("rows of {what}, at most {most}; narrow the query")))
    }

    /// What the feeds of each person or address hold: bytes of all, and the largest. A shared one counts for who came first.
    fn held_by_owners(&self) -> BTreeMap<Option<&str>, (usize, (usize, FeedId))> {
        let mut owned: BTreeMap<Option<&str>, (usize, (usize, FeedId))> = BTreeMap::new();
        for &id in &self.held_feeds {
            let Some(materialized) = self.materialized(id) else { continue };
            let size = self.bytes_with_subqueries(materialized);
            let first = self.feed(id).and_then(|f| f.subscribers().next()).and_then(|sub| self.subs.get(&sub));
            let owner = first.and_then(|s| s.owner.as_ref()?.in_turn()).map(|owner| &**owner);
            let (total, largest) = owned.entry(owner).or_default();
            *total += size;
            *largest = (*largest).max((size, id));
        }
        owned
    }

    /// The largest feed of the person or address whose feeds hold the most bytes.
    fn largest_feed(&self) -> Option<FeedId> {
        self.held_by_owners().into_values().max().map(|(_, (_, id))| id)
    }

    /// The refusal of another result whose rows are held, if there is no room for it: for any, or for this person or address.
    pub(super) fn has_no_room_for(&mut self, owner: Option<&Owner>) -> Option<Refusal> {
        let all = self.limits.sent_bytes;
        if self.materialized_bytes > all {
            self.drop_all_left_feeds();
        }
        if self.materialized_bytes > all {
            return Some(self.limits.keeps_too_much());
        }
        let most = all / OF_ONE;
        let owner = owner.and_then(Owner::in_turn).filter(|_| self.materialized_bytes > most)?;
        let holds = self.held_by_owners().get(&Some(&**owner)).map_or(0, |(bytes, _)| *bytes);
        let text = || format!("rows kept for the results of one person or address, at most {most} bytes");
        (holds > most).then(|| Refusal::Limit(text()))
    }

    /// The bytes of a feed and of the sub-selects that it asks, which count in full for everybody who asks them.
    fn bytes_with_subqueries(&self, materialized: &Materialized) -> usize {
        let asked = materialized.depends_on.keys().filter_map(|s| self.subquery_sets.sets.get(s));
        let below = asked.filter_map(|set| self.materialized(set.feed)).map(|m| self.bytes_with_subqueries(m));
        let partners = self.bytes_of_partners(materialized);
        materialized.bytes + materialized.operator_bytes + partners + below.sum::<usize>()
    }

    /// Closes the largest result of whoever holds the most.
    pub(super) fn close_largest(&mut self) {
        if let Some(largest) = self.largest_feed() {
            self.fail_materialized(largest, &self.limits.keeps_too_much());
        }
    }

    /// Whether the rows that are being fetched are too many, together with those that are held.
    pub(super) fn fetches_too_much(&self) -> bool {
        let fetching = self.snapshots.values().filter_map(|id| self.materialized(*id)).map(|m| m.fetched_bytes);
        self.materialized_bytes + fetching.sum::<usize>() > self.limits.sent_bytes.saturating_mul(2)
    }
}
