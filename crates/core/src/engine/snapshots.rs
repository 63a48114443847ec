//! Snapshots on their way, and the moment in which one meets the stream.

use std::sync::Arc;

use super::io::{Output, Refusal, SnapshotId};
use super::{Engine, Feed};
use crate::feed::Sent;
use crate::index::FeedId;
use crate::position::Position;
use crate::schema::Row;

impl Engine {
    fn snapshot_feed(&mut self, id: SnapshotId) -> Option<(FeedId, &mut Feed)> {
        let feed = *self.snapshots.get(&id)?;
        self.feed_mut(feed).map(|f| (feed, f))
    }

    pub(super) fn snapshot_rows(&mut self, id: SnapshotId, rows: Vec<Row>) {
        let limit = self.limits.result_rows;
        let Some((feed_id, feed)) = self.snapshot_feed(id) else { return };
        let effective = feed.effective.clone();
        let Some(joining) = &mut feed.joining else { return };
        joining.seam.rows(&effective, rows);
        if joining.seam.len() > limit {
            let text = format!("rows of one result, at most {limit}; narrow the query");
            self.give_up(feed_id, Refusal::Limit(text));
        }
    }

    pub(super) fn snapshot_done(&mut self, id: SnapshotId, at: Position) {
        let Some((feed_id, feed)) = self.snapshot_feed(id) else { return };
        let source = feed.effective.table.source.clone();
        if let Some(joining) = &mut feed.joining {
            joining.seam.complete(at);
        }
        self.finish_seam(feed_id, &source);
    }

    pub(super) fn snapshot_failed(&mut self, id: SnapshotId, why: String) {
        let attempts = self.limits.attempts;
        let Some((feed_id, feed)) = self.snapshot_feed(id) else { return };
        let Some(joining) = &mut feed.joining else { return };
        joining.failures += 1;
        joining.resting = true;
        if joining.failures >= attempts {
            self.give_up(feed_id, Refusal::Unavailable(why));
        }
    }

    fn give_up(&mut self, id: FeedId, refusal: Refusal) {
        let Some(joining) = self.stop_joining(id) else { return };
        for (sub, _) in joining.waiting {
            self.observed.retain(|s| *s != sub);
            self.subs.remove(&sub);
            self.out.push(Output::Closed(sub, refusal.clone()));
        }
        if self.feed(id).is_some_and(|f| f.live.is_empty()) {
            self.remove_feed(id);
        }
    }

    pub(super) fn finish_seam(&mut self, id: FeedId, source: &Arc<str>) {
        let progress = self.progress(source);
        let Some(reached) = progress.at.filter(|_| !progress.lost) else { return };
        let floor = self.sources.get(source).map_or(Position::default(), |s| s.floor);
        let Some(feed) = self.feed_mut(id) else { return };
        let effective = feed.effective.clone();
        let Some(joining) = &mut feed.joining else { return };
        if joining.seam.stands_at().is_some_and(|at| at < floor) {
            let snapshot = joining.snapshot;
            return self.snapshot_failed(snapshot, "the snapshot is older than the stream".into());
        }
        let Some(rows) = joining.seam.finish(&effective, reached) else { return };
        // What waits is older than these rows: it is for those who were there before.
        self.tell_pending(id);
        let Some(joining) = self.stop_joining(id) else { return };
        // Nothing is to be cancelled: the snapshot is complete.
        self.out.retain(|o| !matches!(o, Output::CancelSnapshot(s) if *s == joining.snapshot));
        let track = !effective.table.old_values && !effective.table.key.is_empty();
        if track && self.feed(id).is_some_and(|f| f.live.is_empty() && f.sent.is_some()) {
            // Nobody was listening meanwhile: what is remembered as sent is out of date.
            self.forget_holders(id);
            self.feeds[id as usize].iter_mut().for_each(|f| f.sent = None);
        }
        if let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) {
            feed.live.extend(joining.waiting.iter().map(|(s, _)| *s));
            if track && feed.sent.is_none() {
                let mut sent = Sent::default();
                let holders = &mut self.tables.entry(effective.table.name.clone()).or_default().holders;
                for (key, seen) in &rows {
                    sent.note(&effective, key.clone(), seen);
                    holders.entry(key.clone()).or_default().push(id);
                }
                feed.sent = Some(Box::new(sent));
            }
        }
        self.out.push(Output::Result {
            to: joining.waiting,
            feed: effective,
            rows: Arc::new(rows),
            epoch: progress.epoch,
            position: reached,
        });
    }

    pub(super) fn tick(&mut self) {
        while let Some((due, id)) = self.paced.first().copied()
            && due <= self.clock
        {
            self.tell_pending(id);
        }
        let resting = |f: &Feed| f.joining.as_ref().is_some_and(|j| j.resting);
        let again: Vec<FeedId> =
            (0..self.feeds.len() as FeedId).filter(|&i| self.feed(i).is_some_and(resting)).collect();
        again.into_iter().for_each(|id| self.take_again(id));
    }
}
