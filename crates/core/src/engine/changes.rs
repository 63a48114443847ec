//! What was read from sources: intervals taken in order, gaps, altered tables, and the deltas that follow.

use std::collections::HashMap;
use std::sync::Arc;

use super::io::{Delta, Output, SubId, Why};
use super::{Engine, Feed};
use crate::explain::{self, Tally, Verdict};
use crate::feed::{self, Change};
use crate::index::FeedId;
use crate::position::{Continues, Interval, Position, Progress, Reset, ResetWhy, Transaction};

impl Engine {
    pub(super) fn interval(&mut self, interval: Arc<Interval>) {
        let followed = self.sources.entry(interval.source.clone()).or_default();
        match followed.progress.judge(&interval) {
            Continues::Nothing | Continues::OutOfOffice => {
                // An empty interval of a new reader still tells of its office.
                let p = &mut followed.progress;
                p.epoch = p.epoch.max(interval.epoch);
            }
            Continues::AfterGap => {
                if followed.ahead.len() < self.limits.ahead {
                    followed.ahead.push_back(interval.clone());
                }
                let after = followed.progress.at.unwrap_or_default();
                if !std::mem::replace(&mut followed.healing, true) {
                    self.out.push(Output::Heal { source: interval.source.clone(), after });
                }
            }
            Continues::Seamlessly => self.take(interval),
        }
    }

    pub(super) fn healed(&mut self, source: &Arc<str>, intervals: Option<Vec<Arc<Interval>>>) {
        let given_up = intervals.is_none();
        let followed = self.sources.entry(source.clone()).or_default();
        followed.healing = false;
        let ahead = std::mem::take(&mut followed.ahead);
        intervals.into_iter().flatten().for_each(|i| self.interval(i));
        for i in ahead {
            // What was missing may have come late, by itself.
            if given_up && self.progress(source).judge(&i) == Continues::AfterGap {
                // It is not to be had: begin anew where the stream goes on.
                self.sources.entry(source.clone()).or_default().progress.lost = true;
                self.renew_source(source, Why::Gap);
            }
            self.interval(i);
        }
    }

    fn renew_source(&mut self, source: &Arc<str>, why: Why) {
        let own = |f: &Feed| f.effective.table.source == *source;
        let ids: Vec<FeedId> = (0..self.feeds.len() as FeedId).filter(|&i| self.feed(i).is_some_and(own)).collect();
        ids.into_iter().for_each(|id| self.renew(id, why));
    }

    pub(super) fn take(&mut self, interval: Arc<Interval>) {
        let before = self.progress(&interval.source).at;
        for t in &interval.transactions {
            // The first interval ever may begin anywhere; later ones may overlap what is known.
            if before.is_none_or(|at| t.position > at) {
                self.transaction_in(&interval, t);
            }
        }
        let followed = self.sources.entry(interval.source.clone()).or_default();
        if before.is_none() || followed.progress.lost {
            followed.floor = interval.from;
        }
        followed.progress =
            Progress { epoch: interval.epoch.max(followed.progress.epoch), at: Some(interval.to), lost: false };
        interval.resets.iter().for_each(|r| self.reset(r, interval.to));
        let joining: Vec<FeedId> = self
            .tables
            .values()
            .flat_map(|t| t.joining.iter().copied())
            .filter(|&i| self.feed(i).is_some_and(|f| f.effective.table.source == interval.source))
            .collect();
        joining.into_iter().for_each(|id| self.finish_seam(id, &interval.source));
    }

    fn reset(&mut self, reset: &Reset, at: Position) {
        self.resets.insert(reset.name.clone(), at);
        let on_table = self.tables.get(&reset.name);
        let feeds: Vec<FeedId> = on_table.map(|t| t.feeds.iter().copied().collect()).unwrap_or_default();
        match &reset.table {
            Some(table) => self.catalog.put(table.clone()),
            None => drop(self.catalog.remove(&reset.name)),
        }
        let why = match reset.why {
            ResetWhy::SchemaChanged => Why::SchemaChanged,
            ResetWhy::TooLarge => Why::Gap,
        };
        for id in feeds {
            let Some(feed) = self.feed(id) else { continue };
            if reset.table.as_ref() == Some(&feed.effective.table) {
                self.renew(id, why);
                continue;
            }
            let waiting = feed.joining.iter().flat_map(|j| j.waiting.iter().map(|(s, _)| *s));
            let subs: Vec<SubId> = feed.live.as_slice().iter().copied().chain(waiting).collect();
            subs.into_iter().for_each(|sub| self.recompile(sub, why));
        }
    }

    fn transaction_in(&mut self, interval: &Arc<Interval>, t: &Arc<Transaction>) {
        let source = &interval.source;
        let mut touched = std::mem::take(&mut self.touched);
        touched.clear();
        for (i, change) in t.changes.iter().enumerate() {
            let Some(on_table) = self.tables.get(&change.table) else { continue };
            let old = match &change.old {
                crate::position::Old::Known(old) => old.as_ref(),
                crate::position::Old::Unknown => None,
            };
            on_table.index.touched(old, change.new.as_ref(), |f| touched.push((f, i as u32)));
            if let Some(holders) = on_table.holders.get(&change.key) {
                touched.extend(holders.iter().map(|f| (*f, i as u32)));
            }
            if !on_table.joining.is_empty() {
                let joining: Vec<FeedId> = on_table.joining.iter().copied().collect();
                joining.into_iter().for_each(|id| self.overlay(id, t.position, change));
            }
        }
        touched.sort_unstable();
        touched.dedup();
        // What follows from this transaction is told under the epoch that read it, also where that is a new one.
        let epoch = interval.epoch.max(self.progress(source).epoch);
        let matched = self.evaluate(epoch, t, &touched);
        self.touched = touched;
        self.tell_verdicts(source, epoch, t, &matched);
        if self.window.len() >= self.limits.window
            && let Some((source, t)) = self.window.pop_front()
            && let Some(followed) = self.sources.get_mut(&source)
        {
            followed.remembered = followed.remembered.max(t.position);
        }
        self.window.push_back((source.clone(), t.clone()));
        self.out.push(Output::Taken(interval.clone(), t.clone()));
    }

    fn overlay(&mut self, id: FeedId, position: Position, change: &crate::position::RowChange) {
        let Some(feed) = self.feed_mut(id) else { return };
        let effective = feed.effective.clone();
        if feed.joining.as_mut().is_some_and(|j| !j.seam.overlay(&effective, position, change)) {
            self.take_again(id);
        }
    }

    /// Evaluates the feeds that a transaction may touch, and returns what matched, by feed.
    fn evaluate(&mut self, epoch: u64, t: &Arc<Transaction>, touched: &[(FeedId, u32)]) -> HashMap<FeedId, Tally> {
        let observing = !self.observed.is_empty();
        self.out.reserve(touched.len() + self.observed.len() + 1);
        let (mut matched, mut full) = (HashMap::new(), Vec::new());
        for group in touched.chunk_by(|a, b| a.0 == b.0) {
            let id = group[0].0;
            let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) else { continue };
            if feed.live.is_empty() {
                continue;
            }
            let effective = feed.effective.clone();
            let mut changes = Vec::with_capacity(group.len());
            for (_, i) in group {
                let row = &t.changes[*i as usize];
                let Some(change) = feed::change(&effective, row, feed.sent.as_deref_mut()) else { continue };
                if feed.sent.is_some() {
                    let holders = &mut self.tables.entry(row.table.clone()).or_default().holders;
                    let of_key = holders.entry(row.key.clone()).or_default();
                    of_key.retain(|f| *f != id);
                    match change {
                        Change::Remove { .. } if of_key.is_empty() => drop(holders.remove(&row.key)),
                        Change::Remove { .. } => {}
                        _ => of_key.push(id),
                    }
                }
                changes.push(change);
            }
            if changes.is_empty() {
                continue;
            }
            feed.deltas += 1;
            if observing {
                matched.insert(id, Tally::of(&changes));
            }
            let (position, at) = (t.position, t.committed.to);
            let delta = Arc::new(Delta { feed: effective, epoch, position, at, changes, skipped: 0 });
            if let Some(pending) = &mut feed.pending {
                let due = pending.take_in(delta, self.clock.saturating_add(feed.every));
                self.paced.insert((due, id));
                if pending.is_full() {
                    full.push(id);
                }
            } else {
                self.out.push(Output::Delta(delta, feed.live.clone()));
            }
        }
        full.into_iter().for_each(|id| self.tell_pending(id));
        matched
    }

    fn tell_verdicts(&mut self, source: &Arc<str>, epoch: u64, t: &Transaction, matched: &HashMap<FeedId, Tally>) {
        for sub in &self.observed {
            let Some(s) = self.subs.get(sub) else { continue };
            let Some(feed) = self.feeds.get(s.feed as usize).and_then(Option::as_ref) else { continue };
            if feed.effective.table.source != *source {
                continue;
            }
            let waiting = feed.joining.as_ref().is_some_and(|j| j.waiting.iter().any(|(w, _)| w == sub));
            let (verdict, tally) = match matched.get(&s.feed) {
                _ if waiting => (explain::verdict(&feed.effective, t).min(Verdict::Folded), Tally::default()),
                Some(tally) => (Verdict::Matched, *tally),
                None => (explain::verdict(&feed.effective, t).min(Verdict::Unchanged), Tally::default()),
            };
            let (source, position) = (source.clone(), t.position);
            self.out.push(Output::Verdict { sub: *sub, source, epoch, position, verdict, tally });
        }
    }
}
