//! Results that change as time passes: when the condition becomes true or false on a row that a feed holds.
//!
//! `NOW()` is the instance's clock in whole seconds, the same for all feeds. A feed holds the rows of its result and those
//! that come into it by themselves. For each it knows when its condition changes next ([`Moments`]); the engine knows the
//! first of these for each feed, and evaluates those rows again when it comes.

use std::collections::{BTreeSet, HashMap};

use super::Engine;
use super::io::ResyncReason;
use crate::datetime::SINCE_1970;
use crate::index::FeedId;
use crate::plan::EffectivePlan;
use crate::position::Timestamp;
use crate::schema::{Key, Row};
use crate::subquery::SubqueryResults;
use crate::value::Value;

/// `NOW()` is a whole second.
const SECOND: Timestamp = 1_000_000;

/// A clock that goes back by so much was set: what was dropped because its time had passed may be wanted again. One that goes
/// back by less stands still.
const SET_BACK: Timestamp = 5 * SECOND;

/// Approximate bytes of a row's moment besides its key, which stands there twice.
const OF_A_MOMENT: usize = 128;

/// When the condition changes next on the rows of a feed, in microseconds since 2000.
#[derive(Debug, Default)]
pub(super) struct Moments {
    in_order: BTreeSet<(Timestamp, Key)>,
    of: HashMap<Key, Timestamp>,
    bytes: usize,
    /// The moment under which the engine knows the feed.
    known: Option<Timestamp>,
}

impl Moments {
    /// Notes when the condition changes on a row.
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
    fn passed(&self, now: Timestamp) -> Vec<Key> {
        self.in_order.iter().take_while(|(at, _)| *at <= now).map(|(_, key)| key.clone()).collect()
    }

    /// Approximate bytes.
    pub(super) fn size(&self) -> usize {
        self.bytes
    }
}

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

    /// When the condition changes on some row, by the clock.
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
            for key in materialized.moments.passed(now) {
                let Engine { feeds, subquery_sets, .. } = self;
                let feed = feeds.get(id as usize).and_then(Option::as_ref);
                let row = feed.and_then(|f| f.memory.materialized()?.entries.get(&key)?.now.clone());
                let stays = row.is_some_and(|row| plan.sees_at_any_time(&row, subquery_sets));
                self.put(id, key, |entry| entry.now = entry.now.take().filter(|_| stays));
            }
            self.wake_at_next_moment(id);
            self.settle_later(id);
        }
    }

    /// Sees to it that a feed is looked at when the condition changes next on one of its rows.
    pub(super) fn wake_at_next_moment(&mut self, id: FeedId) {
        let Some(materialized) = self.materialized_mut(id) else { return };
        let next = materialized.moments.in_order.first().map(|(at, _)| *at);
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
