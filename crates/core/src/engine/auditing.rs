//! The self-audit: from time to time what a running feed holds is compared with a fresh read of the same rows at the same
//! position. A difference means that something was lost on the way; it is reported, and every feed of the
//! table takes a new snapshot.
//!
//! A feed on a table with old values remembers no rows. So that it can be audited all the same, some feeds of every table
//! carry a [`Digest`] from their first result on: a sum over the hashes of their rows, which each delta brings up to date.
//! What is lost to a table is lost to all its feeds, so that a few are enough. Feeds that remember what they sent, or keep
//! their rows, are compared row by row; of those that changed meanwhile the stream knows better.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::audit::{Audit, Digest, Fresh};
use super::io::{Output, ResyncReason, SnapshotId};
use super::materialized::Materialized;
use super::memory::Memory;
use super::{Engine, Feed};
use crate::index::FeedId;
use crate::plan::{EffectivePlan, SnapshotRequest};
use crate::position::{RowChange, SnapshotPoint, Transaction};
use crate::schema::{Key, Row};
use crate::seam::ResultRows;
use crate::subquery::SubqueryResults;

/// Feeds of one table that carry a digest.
const DIGESTS: usize = 8;

/// Feeds that are looked at in one turn for one that can be audited.
const LOOKED_AT: FeedId = 100_000;

/// Rows of a result beyond which it is not audited: reading it would cost more than it is worth.
pub const MAX_ROWS: usize = 100_000;

/// Rows of the table that may change while a result is read, beyond as many as it has: an audit is not to cost more than
/// what it checks. A feed that is given up so has its turn again later.
const MAX_CHANGED: usize = 10_000;

impl Engine {
    /// Whether a feed can be audited at all.
    fn is_auditable(&self, id: FeedId) -> bool {
        let Some(feed) = self.feed(id) else { return false };
        let table = feed.plan.table();
        let summed = || self.digests.get(&id).and_then(|digest| usize::try_from(digest.rows).ok());
        let few = feed.memory.rows().or_else(summed).is_some_and(|rows| rows <= MAX_ROWS);
        // Of those that change as time passes it would have to be known when the rows were read.
        // What it reads for others follows from what they ask for.
        let is_for_joins = feed.memory.materialized().is_some_and(Materialized::is_for_joins);
        few && !is_for_joins
            && self.is_settled(id)
            && !feed.plan.depends_on_time
            && feed.joining.is_none()
            && !table.name.is_system()
            && !table.is_topic()
            && !table.key.is_empty()
    }

    /// Has a feed whose first result this is carry a digest, unless enough of its table do.
    pub(super) fn carry_digest(&mut self, id: FeedId, plan: &EffectivePlan, rows: &ResultRows) {
        let on_table = self.tables.entry(plan.table().name.clone()).or_default();
        if on_table.carriers < DIGESTS && self.digests.insert(id, Digest::of(plan, rows)).is_none() {
            on_table.carriers += 1;
        }
    }

    /// Forgets the digest of a feed, if it has one: the feed is gone, or begins anew.
    pub(super) fn drop_digest(&mut self, id: FeedId) {
        let Some(feed) = self.feeds.get(id as usize).and_then(Option::as_ref) else { return };
        if self.digests.remove(&id).is_some()
            && let Some(on_table) = self.tables.get_mut(&feed.plan.table().name)
        {
            on_table.carriers -= 1;
        }
    }

    /// Begins to audit the next feed in turn, unless an audit is under way or there is nothing to be audited.
    pub(super) fn audit(&mut self) {
        if self.audit.is_some() {
            return;
        }
        let count = self.feeds.len() as FeedId;
        let after = |i: FeedId| (self.audited.wrapping_add(1).wrapping_add(i)) % count.max(1);
        let looked_at = count.min(LOOKED_AT);
        let Some(id) = (0..looked_at).map(after).find(|id| self.is_auditable(*id)) else {
            // The next time it goes on behind these.
            self.audited = after(looked_at.saturating_sub(1));
            return;
        };
        self.audited = id;
        let (since, settled) = self.source_position(id);
        let Some(feed) = self.feed(id) else { return };
        let plan = feed.plan.clone();
        let page = feed.memory.materialized().and_then(|m| m.window.as_ref()?.held_page());
        let request = SnapshotRequest { page, ..plan.snapshot(&self.subquery_sets) };
        let fresh = match feed.memory {
            Memory::Stateless => Fresh::Whole(Box::default()),
            _ => Fresh::ByKey { rows: Vec::new(), passed: HashSet::new(), shows: None },
        };
        let snapshot = self.next_snapshot;
        self.next_snapshot += 1;
        self.audit = Some(Audit { feed: id, plan: plan.clone(), snapshot, since, settled, fresh });
        self.out.push(Output::FetchSnapshot { id: snapshot, plan, request: Box::new(request) });
    }

    /// Gives an audit up: what it would be compared with is not what it was.
    pub(super) fn stop_audit(&mut self) {
        if let Some(audit) = self.audit.take() {
            self.out.push(Output::CancelSnapshot(audit.snapshot));
            self.out.push(Output::Audited { feed: audit.plan, rows: 0, difference: None });
        }
    }

    /// Rows for the audit; `false` if they are not.
    pub(super) fn audit_rows(&mut self, id: SnapshotId, read: &mut Vec<Row>) -> bool {
        let Some(audit) = self.audit.as_mut().filter(|a| a.snapshot == id) else { return false };
        let read = std::mem::take(read);
        let many = match &mut audit.fresh {
            Fresh::Whole(seam) => {
                seam.rows(&audit.plan, read);
                seam.len() > 2 * MAX_ROWS
            }
            Fresh::ByKey { rows, .. } => {
                rows.extend(read);
                rows.len() > 2 * MAX_ROWS
            }
        };
        if many {
            self.stop_audit();
        }
        true
    }

    /// The audit's read is complete, or has failed; `false` if it is another one.
    pub(super) fn audit_done(&mut self, id: SnapshotId, shown: Option<SnapshotPoint>) -> bool {
        let Some(audit) = self.audit.as_mut().filter(|a| a.snapshot == id) else { return false };
        match (shown, &mut audit.fresh) {
            (None, _) => {
                self.stop_audit();
                return true;
            }
            (Some(shown), Fresh::Whole(seam)) => seam.complete(shown),
            (Some(shown), Fresh::ByKey { shows, .. }) => *shows = Some(shown),
        }
        let source = audit.plan.table().source.clone();
        self.finish_audit(&source);
        true
    }

    /// A change of the table that is audited.
    pub(super) fn audit_change(&mut self, t: &Transaction, change: &RowChange) {
        let Some(audit) = &mut self.audit else { return };
        if audit.plan.table().name != change.table {
            return;
        }
        let fits = match &mut audit.fresh {
            Fresh::Whole(seam) => seam.overlay(&audit.plan, t, change) && seam.changed() <= MAX_CHANGED + seam.len(),
            Fresh::ByKey { rows, passed, .. } => {
                passed.insert(change.key.clone());
                passed.len() <= MAX_CHANGED + rows.len()
            }
        };
        if !fits {
            self.stop_audit();
        }
    }

    /// Compares, once the stream has passed all that was read.
    pub(super) fn finish_audit(&mut self, source: &Arc<str>) {
        let progress = self.progress(source);
        let Some(reached) = progress.at.filter(|at| !progress.lost && at.is_whole()) else { return };
        let Some(audit) = self.audit.as_ref().filter(|a| a.plan.table().source == *source) else { return };
        let shows = match &audit.fresh {
            Fresh::Whole(seam) => seam.shows(),
            Fresh::ByKey { shows, .. } => shows.as_ref(),
        };
        let Some(shows) = shows.filter(|s| reached >= s.at()) else { return };
        if self.joins(source, (audit.since, audit.settled), shows).is_err() || !self.is_auditable(audit.feed) {
            return self.stop_audit();
        }
        let Some(audit) = self.audit.take() else { return };
        let plan = audit.plan;
        let compared = match audit.fresh {
            Fresh::Whole(mut seam) => match seam.finish(&plan, reached) {
                Some(Ok(rows)) => {
                    let fresh = Digest::of(&plan, &rows);
                    self.digests.get(&audit.feed).map(|held| {
                        let text = format!("{} rows are held and {} are there", held.rows, fresh.rows);
                        (rows.len(), (*held != fresh).then_some(text))
                    })
                }
                _ => None,
            },
            Fresh::ByKey { rows, passed, .. } => self.compare_by_key(audit.feed, &plan, rows, &passed),
        };
        let (rows, difference) = compared.unwrap_or_default();
        if difference.is_some() {
            let on_table = self.tables.get(&plan.table().name);
            let mut feeds: Vec<FeedId> = on_table.map(|t| t.feeds.iter().copied().collect()).unwrap_or_default();
            feeds.sort_unstable();
            // Cursors from before are of what was wrong.
            self.resets.insert(plan.table().name.clone(), reached);
            feeds.into_iter().for_each(|id| self.renew(id, ResyncReason::Gap));
        }
        self.out.push(Output::Audited { feed: plan, rows, difference });
    }

    /// Compares what a feed remembers of its rows with what was read.
    fn compare_by_key(
        &self,
        id: FeedId,
        plan: &EffectivePlan,
        rows: Vec<Row>,
        passed: &HashSet<Key>,
    ) -> Option<(usize, Option<String>)> {
        let feed: &Feed = self.feed(id)?;
        let fresh: HashMap<Key, Row> = rows.into_iter().map(|r| (plan.key_of(&r), r)).collect();
        let read = fresh.len();
        let subquery_results: &dyn SubqueryResults = &self.subquery_sets;
        let (mut differ, mut seen) = (0_usize, HashSet::new());
        feed.memory.rows()?;
        let window = feed.memory.materialized().and_then(|m| m.window.as_ref());
        let is_behind = |key: &Key, row: &Row| window.is_some_and(|w| w.is_behind(plan, key, row));
        let fresh: HashMap<Key, Row> = fresh.into_iter().filter(|(key, row)| !is_behind(key, row)).collect();
        let plan = &*plan.of_rows();
        for key in feed.memory.keys().filter(|k| !passed.contains(*k)) {
            seen.insert(key.clone());
            let same = fresh.get(key).is_some_and(|row| feed.memory.matches(plan, key, row, subquery_results));
            differ += usize::from(!same);
        }
        let unknown = |(key, row): &(&Key, &Row)| {
            !passed.contains(*key) && !seen.contains(*key) && plan.sees(row, subquery_results)
        };
        differ += fresh.iter().filter(unknown).count();
        Some((read, (differ > 0).then(|| format!("{differ} rows differ"))))
    }
}
