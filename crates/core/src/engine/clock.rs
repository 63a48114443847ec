//! Results that change as time passes: feeds are looked at when a condition, theirs or a rule's, changes on one of their rows.
//!
//! `NOW()` is the instance's clock in whole seconds, the same for all feeds. A feed holds the rows of its result and those
//! that come into it by themselves. For each it knows when that changes next ([`Moments`]); the engine knows the first of these
//! for each feed, and evaluates those rows again when it comes.

use super::Engine;
use super::io::ResyncReason;
use super::moments::Moments;
use crate::datetime::SINCE_1970;
use crate::index::FeedId;
use crate::position::Timestamp;

/// `NOW()` is a whole second.
const SECOND: Timestamp = 1_000_000;

/// A clock that goes back by so much was set: what was dropped because its time had passed may be wanted again. One that goes
/// back by less stands still.
const SET_BACK: Timestamp = SECOND;

impl Engine {
    /// Tells the time, at which the inputs that follow happen.
    pub fn set_clock(&mut self, now: Timestamp) {
        self.clock = now;
        let moment = now.saturating_sub(SINCE_1970).div_euclid(SECOND).saturating_mul(SECOND);
        let before = self.subquery_sets.moment;
        self.clock_was_set_back |= moment < before.saturating_sub(SET_BACK);
        if moment > before || self.clock_was_set_back {
            self.subquery_sets.moment = moment;
        }
    }

    /// When something changes by itself, by the clock.
    pub(super) fn next_moment(&self) -> Option<Timestamp> {
        self.timed.first().map(|(at, _)| at.saturating_add(SINCE_1970))
    }

    /// Evaluates the rows again whose moment has come. They are sent later.
    pub(super) fn pass_time(&mut self) {
        if std::mem::take(&mut self.clock_was_set_back) {
            let timed = |id: &FeedId| self.feed(*id).is_some_and(|f| f.plan.depends_on_time);
            let feeds: Vec<FeedId> = (0..self.feeds.len() as FeedId).filter(timed).collect();
            feeds.into_iter().for_each(|id| self.renew(id, ResyncReason::Gap));
        }
        let now = self.subquery_sets.moment;
        while let Some((at, id)) = self.timed.first().copied().filter(|(at, _)| *at <= now) {
            self.timed.remove(&(at, id));
            let Some(feed) = self.feed(id) else { continue };
            let plan = feed.plan.clone();
            let Some(materialized) = self.materialized_mut(id) else { continue };
            materialized.moments.known = None;
            let mut withdraws = false;
            for key in materialized.moments.passed(now) {
                let Engine { feeds, subquery_sets, .. } = self;
                let feed = feeds.get_mut(id as usize).and_then(Option::as_mut);
                let Some(materialized) = feed.and_then(|f| f.memory.materialized_mut()) else { continue };
                withdraws |= materialized.is_withdrawn_by_time(&plan, &key, subquery_sets);
                let row = materialized.entries.get(&key).and_then(|entry| entry.now.clone());
                let stays = row.is_some_and(|row| plan.sees_at_any_time(&row, subquery_sets));
                self.put(id, key, |entry| entry.now = entry.now.take().filter(|_| stays));
            }
            if withdraws {
                self.withdraw_by_time(id);
            }
            self.wake_at_next_moment(id);
            self.settle_later(id);
        }
    }

    /// Rules show less of a feed's rows from now on. In the middle of a transaction that is not sent before its end, and what is
    /// unsent does not wait for that.
    fn withdraw_by_time(&mut self, id: FeedId) {
        if let Some(materialized) = self.materialized_mut(id) {
            materialized.revokes = true;
        }
        let source = self.feed(id).and_then(|f| self.sources.get(&f.plan.table().source));
        if source.is_some_and(|s| s.unfinished.is_some()) {
            self.revoke_unsent(id);
        }
    }

    /// Sees to it that a feed is looked at when one of its rows changes next by itself.
    pub(super) fn wake_at_next_moment(&mut self, id: FeedId) {
        let Some(materialized) = self.materialized_mut(id) else { return };
        let next = materialized.moments.first();
        let before = std::mem::replace(&mut materialized.moments.known, next);
        if before != next {
            before.map(|at| self.timed.remove(&(at, id)));
            self.timed.extend(next.map(|at| (at, id)));
        }
    }

    /// A feed is gone: nothing of it changes any more.
    pub(super) fn forget_moments(&mut self, id: FeedId, moments: &Moments) {
        moments.known.map(|at| self.timed.remove(&(at, id)));
    }
}
