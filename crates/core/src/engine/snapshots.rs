//! Snapshots on their way, and the moment in which one meets the stream.

use std::sync::Arc;

use super::commit::Commit;
use super::io::{Output, Refusal, SnapshotId};
use super::memory::Memory;
use super::{Engine, Feed, Joining, Turn};
use crate::feed::Sent;
use crate::index::FeedId;
use crate::position::{Position, SnapshotPoint};
use crate::schema::Row;
use crate::seam::MergeError;

impl Engine {
    fn snapshot_feed(&mut self, id: SnapshotId) -> Option<(FeedId, &mut Feed)> {
        let feed = *self.snapshots.get(&id)?;
        self.feed_mut(feed).map(|f| (feed, f))
    }

    pub(super) fn snapshot_rows(&mut self, id: SnapshotId, rows: Vec<Row>) {
        let Some(&feed_id) = self.snapshots.get(&id) else { return };
        let Engine { feeds, subquery_sets, .. } = self;
        let Some(feed) = feeds.get_mut(feed_id as usize).and_then(Option::as_mut) else { return };
        let taken = feed.take_rows(rows, subquery_sets);
        self.take_early(feed_id);
        let held = self.materialized(feed_id).map_or(0, |m| m.entries.len());
        if let Some(refusal) = self.has_too_many_rows(feed_id, taken.max(held)) {
            self.give_up(feed_id, refusal);
        } else if self.materialized(feed_id).is_some() && self.fetches_too_much() {
            self.drop_all_left_feeds();
            // Not whoever is read now, but who holds the most.
            if self.fetches_too_much() {
                self.close_largest();
            }
        }
    }

    pub(super) fn snapshot_done(&mut self, id: SnapshotId, shows: SnapshotPoint) {
        let Some((feed_id, feed)) = self.snapshot_feed(id) else { return };
        let source = feed.plan.table().source.clone();
        if let Some(joining) = &mut feed.joining {
            joining.seam.complete(shows);
        }
        self.finish_seam(feed_id, &source);
    }

    pub(super) fn snapshot_failed(&mut self, id: SnapshotId, why: String) {
        let attempts = self.limits.attempts;
        let Some((feed_id, feed)) = self.snapshot_feed(id) else { return };
        let Some(joining) = &mut feed.joining else { return };
        joining.failures += 1;
        joining.resting = true;
        let failures = joining.failures;
        // Perhaps it is not what it was when it was described.
        let source = feed.plan.table().source.clone();
        self.out.push(Output::Describe(source));
        if failures >= attempts {
            self.give_up(feed_id, Refusal::Unavailable(why));
        }
    }

    fn give_up(&mut self, id: FeedId, refusal: Refusal) {
        if self.materialized(id).is_some() {
            return self.fail_materialized(id, &refusal);
        }
        let Some(joining) = self.stop_joining(id) else { return };
        for (sub, _) in joining.waiting {
            self.observed.retain(|s| *s != sub);
            if let Some(gone) = self.subs.remove(&sub) {
                self.budget.release(gone.owner.as_deref(), gone.cost);
            }
            self.out.push(Output::Closed(sub, refusal.clone()));
        }
        if self.feed(id).is_some_and(|f| f.live.is_empty()) {
            self.remove_feed(id);
        }
    }

    /// Whether snapshot and overlay together miss nothing: what was taken before the snapshot was asked for, and is
    /// not in the overlay, must be in the snapshot.
    pub(super) fn joins(
        &self,
        source: &Arc<str>,
        (since, settled): (Position, Position),
        shows: &SnapshotPoint,
    ) -> Result<(), String> {
        let Some(state) = self.sources.get(source) else { return Ok(()) };
        if shows.at() < state.floor {
            return Err("the snapshot is older than the stream".into());
        }
        if let SnapshotPoint::Visible(visibility, _) = shows {
            if settled < state.floor {
                let floor = state.floor;
                return Err(format!("what was committed between {settled} and {floor} may not be visible yet"));
            }
            if let Some(number) = state.passed.hidden(visibility, settled, since) {
                return Err(format!(
                    "transaction {number} was committed and is not visible yet; is a synchronous standby missing?"
                ));
            }
        }
        Ok(())
    }

    pub(super) fn finish_seam(&mut self, id: FeedId, source: &Arc<str>) {
        let progress = self.progress(source);
        let Some(reached) = progress.at.filter(|_| !progress.lost) else { return };
        // One that could not be joined is taken again at the next tick, however much arrives until then.
        let Some(joining) = self.feed(id).and_then(|f| f.joining.as_ref()).filter(|j| !j.resting) else { return };
        let Some(shows) = joining.seam.shows() else { return };
        if let Err(why) = self.joins(source, (joining.since, joining.settled), shows) {
            let snapshot = joining.snapshot;
            return self.snapshot_failed(snapshot, why);
        }
        if self.materialized(id).is_some() {
            if reached >= shows.at() && reached.is_whole() {
                let commit = Commit { term: progress.term(), position: reached, at: self.clock };
                self.fetch_completed(id, source, commit);
            }
            return;
        }
        let Some(feed) = self.feed_mut(id) else { return };
        let plan = feed.plan.clone();
        let Some(joining) = &mut feed.joining else { return };
        let rows = match joining.seam.finish(&plan, reached) {
            None => return,
            Some(Ok(rows)) => rows,
            Some(Err(MergeError::Retake(why))) => {
                let snapshot = joining.snapshot;
                return self.snapshot_failed(snapshot, why.into());
            }
            Some(Err(MergeError::Failed(error))) => return self.give_up(id, Refusal::Failed(error)),
        };
        // What waits is older than these rows: it is for those who were there before.
        self.flush_pending(id);
        let Some(joining) = self.joined(id) else { return };
        let track = !plan.table().old_values && plan.is_keyed();
        if track && self.feed(id).is_some_and(|f| f.live.is_empty() && f.memory.tracked().is_some()) {
            // Nobody was listening meanwhile: what is remembered as sent is out of date.
            self.forget_sent(id);
        }
        if self.feed(id).is_some_and(|f| f.live.is_empty()) {
            self.drop_digest(id);
            if !track && joining.request == plan.snapshot(&()) {
                self.carry_digest(id, &plan, &rows);
            }
        }
        if let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) {
            feed.live.extend(joining.waiting.iter().map(|(s, _)| *s));
            if track && feed.memory.tracked().is_none() {
                let mut sent = Sent::default();
                let sent_by = &mut self.tables.entry(plan.table().name.clone()).or_default().sent_by;
                for (key, seen) in &rows {
                    sent.note(&plan, key.clone(), seen);
                    sent_by.entry(key.clone()).or_default().push(id);
                }
                feed.memory = Memory::Tracked(Box::new(sent));
            }
        }
        let rows = Arc::new(rows);
        let is_whole = joining.request == plan.snapshot(&());
        let in_database = !plan.table().name.is_system() && !plan.table().is_topic();
        self.recent.forget(id);
        if is_whole && in_database && self.feed(id).is_some_and(|f| f.pending.is_none()) {
            self.recent.keep(id, &rows, self.clock);
        }
        let (to, term) = (joining.waiting, progress.term());
        self.out.push(Output::Result { to, feed: plan, rows, term, position: reached });
    }

    /// Takes the joining of a snapshot that is complete, so that there is nothing to cancel.
    pub(super) fn joined(&mut self, id: FeedId) -> Option<Box<Joining>> {
        if let Some(joining) = self.feed(id).and_then(|f| f.joining.as_ref()) {
            let snapshot = joining.snapshot;
            self.snapshots.remove(&snapshot);
        }
        self.stop_joining(id)
    }

    pub(super) fn tick(&mut self) {
        let between = self.sources.values().all(|s| s.unfinished.is_none());
        while let Some((due, id)) = self.paced.first().copied().filter(|(due, _)| between && *due <= self.clock) {
            if self.materialized(id).is_some_and(|m| m.held.is_some_and(|held| held.due == due)) {
                self.paced.remove(&(due, id));
                self.settle_later(id);
            } else if self.is_settled(id) {
                self.flush_pending(id);
            } else {
                // Some of it may no longer be seen: send it together with the withdrawal.
                self.paced.remove(&(due, id));
            }
        }
        self.recent.pass_time(self.clock);
        if between {
            self.drop_left_feeds();
        }
        self.take_turns();
        let resting = |f: &Feed| f.joining.as_ref().is_some_and(|j| j.resting && j.turn != Turn::Waits);
        let again: Vec<FeedId> =
            (0..self.feeds.len() as FeedId).filter(|&i| self.feed(i).is_some_and(resting)).collect();
        again.into_iter().for_each(|id| self.retake_snapshot(id));
    }
}
