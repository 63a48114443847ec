//! Feeds of the stream of row changes: they have no result, so that they begin where the stream stands, and what was lost is
//! said and not made up for.

use std::sync::{Arc, LazyLock};

use super::Engine;
use super::io::{Delta, Output, Refusal, ResyncReason};
use crate::audience::SubId;
use crate::feed::{Change, ChangeError};
use crate::index::FeedId;
use crate::plan::EffectivePlan;
use crate::position::{Position, Reset, ResetReason, RowChange, Timestamp};
use crate::row_changes;
use crate::schema::{ROW_CHANGES, Row, TableName};

/// The stream's table.
static ROW_CHANGES_TABLE: LazyLock<TableName> = LazyLock::new(|| TableName::system(ROW_CHANGES));

/// What an event adds to a feed's stream, if it is wanted.
fn added(plan: &EffectivePlan, event: &Row) -> Result<Option<Change>, ChangeError> {
    let row = plan.see(event, &())?;
    Ok(row.map(|row| Change::Add { key: [].into(), row, instead: false, place: None, was: None }))
}

/// What a change of a row is to the readers of a stream of row changes, and whether it takes something back.
///
/// # Errors
/// It cannot be said what it is, or the query fails on it.
pub(super) fn change(
    plan: &EffectivePlan,
    change: &RowChange,
    at: Timestamp,
) -> Result<(Option<Change>, bool), ChangeError> {
    let Some(plans) = &plan.row_changes else { return Ok((None, false)) };
    let Some((event, revokes)) = row_changes::event(plans, change, at)? else { return Ok((None, false)) };
    Ok((added(plan, &event)?, revokes))
}

impl Engine {
    /// The feeds of the stream of row changes, in an order that a seed repeats.
    pub(super) fn row_change_feeds(&self) -> Vec<FeedId> {
        let on_table = self.tables.get(&*ROW_CHANGES_TABLE);
        let mut feeds: Vec<FeedId> = on_table.into_iter().flat_map(|t| t.feeds.iter().copied()).collect();
        feeds.sort_unstable();
        feeds
    }

    /// Lets subscriptions of the stream hear what comes from here on.
    pub(super) fn begin_stream(&mut self, id: FeedId, who: Vec<(SubId, ResyncReason)>) {
        let Some(plan) = self.feed(id).map(|f| f.plan.clone()) else { return };
        let source = self.sources.get(&plan.table().source);
        let Some(progress) = source.map(|s| s.progress).filter(|p| p.at.is_some()) else {
            let refusal = Refusal::Unavailable("the source has not been read yet".into());
            return self.close_all(who.into_iter().map(|(sub, _)| sub).collect(), &refusal);
        };
        self.flush_pending(id);
        let position = progress.at.unwrap_or_default();
        if let Some(feed) = self.feed_mut(id) {
            feed.live.extend(who.iter().map(|(sub, _)| *sub));
        }
        // Where a transaction is under way, they get the rest of it, and its end.
        if let Some(open) = self.sources.get_mut(&plan.table().source).and_then(|s| s.unfinished.as_mut()) {
            open.insert(id);
        }
        let (rows, term) = (Default::default(), progress.term());
        self.out.push(Output::Result { to: who, feed: plan, rows, term, position });
    }

    /// A table is another one, its events were lost, or all of its rows are gone: what may be read of it has changed, or that is
    /// said.
    pub(super) fn tell_streams(&mut self, reset: &Reset) {
        let is_truncated = reset.why == ResetReason::Truncated;
        let why = if is_truncated { ResyncReason::Truncated } else { ResyncReason::SchemaChanged };
        for id in self.row_change_feeds() {
            let Some(plan) = self.feed(id).map(|f| f.plan.clone()) else { continue };
            let subscribers: Vec<SubId> = self.feed(id).map(|f| f.subscribers().collect()).unwrap_or_default();
            subscribers.into_iter().for_each(|sub| self.recompile(sub, why));
            // Whoever reads another table from here on knows by that.
            let stays = self.feed(id).is_some_and(|f| Arc::ptr_eq(&f.plan, &plan));
            let reads = plan.row_changes.as_ref().is_some_and(|plans| plans.contains_key(&reset.name));
            if stays && reads && !is_truncated {
                self.renew(id, ResyncReason::Gap);
            }
        }
        for id in self.row_change_feeds() {
            let Some(plan) = self.feed(id).map(|f| f.plan.clone()).filter(|_| is_truncated) else { continue };
            let event =
                plan.row_changes.as_ref().and_then(|plans| row_changes::truncated(plans, &reset.name, self.clock));
            match event.map(|event| added(&plan, &event)) {
                Some(Ok(Some(change))) => self.emptied.push((id, change)),
                Some(Err(ChangeError::Failed(error))) => self.fail(id, error),
                None | Some(Err(ChangeError::MissingValue) | Ok(None)) => {}
            }
        }
    }

    /// Sends that tables were emptied, where no transaction was sent with it.
    pub(super) fn send_emptied(&mut self, position: Position) {
        for (id, change) in std::mem::take(&mut self.emptied) {
            let Some(feed) = self.feed(id).map(|f| f.plan.clone()) else { continue };
            let term = self.progress(&feed.table().source).term();
            let (at, changes) = (self.clock, vec![change]);
            let delta = Delta { feed, term, position, at, changes, skipped: 0, revokes: false, more: false };
            self.emit(id, Arc::new(delta));
        }
    }
}
