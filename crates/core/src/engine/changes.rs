//! Applying what was read from sources: intervals in order, gaps, altered tables, and the deltas that follow.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use super::audit::Digest;
use super::commit::Commit;
use super::io::{Delta, Output, Refusal, ResyncReason};
use super::{Engine, Feed, Tables, row_events};
use crate::audience::SubId;
use crate::explain::{self, Tally, Verdict};
use crate::feed::{self, Change, ChangeError};
use crate::index::FeedId;
use crate::plan::EffectivePlan;
use crate::position::{Continues, Interval, Old, Position, Progress, Reset, ResetReason, RowChange, Term, Transaction};
use crate::query::function::EvalError;
use crate::schema::{ColumnSet, SYSTEM_SCHEMA, Table, TableName};

/// Feeds whose memory is loaded together.
const BATCH: usize = 64;

/// What a transaction does to feeds.
#[derive(Default)]
struct Evaluated {
    /// What it did to their results.
    matched: HashMap<FeedId, Tally>,
    /// Feeds for which it cannot be said what it did, and why.
    underived: Vec<(FeedId, ChangeError)>,
    /// Feeds that keep their rows, with the changes that concern them.
    materialized: Vec<(FeedId, u32)>,
}

impl Engine {
    pub(super) fn interval(&mut self, interval: Arc<Interval>) {
        let state = self.sources.entry(interval.source.clone()).or_default();
        match state.progress.judge(&interval) {
            Continues::Duplicate => {
                // An empty interval of a new reader still announces its epoch, and what has become visible.
                let p = &mut state.progress;
                p.epoch = p.epoch.max(interval.epoch);
                state.settled = state.settled.max(interval.settled);
            }
            Continues::StaleEpoch => {}
            Continues::AfterGap => {
                if state.ahead.len() < self.limits.ahead {
                    state.ahead.push_back(interval.clone());
                }
                let after = state.progress.at.unwrap_or_default();
                if !std::mem::replace(&mut state.healing, true) {
                    self.out.push(Output::Heal { source: interval.source.clone(), after });
                }
            }
            Continues::Seamlessly => self.take(interval),
            Continues::Overlap => {
                self.restart_source(&interval.source);
                self.take(interval);
            }
            Continues::NewTimeline => {
                self.forget_source(&interval.source);
                self.take(interval);
            }
        }
    }

    pub(super) fn healed(&mut self, source: &Arc<str>, intervals: Option<Vec<Arc<Interval>>>) {
        let given_up = intervals.is_none();
        let state = self.sources.entry(source.clone()).or_default();
        state.healing = false;
        let ahead = std::mem::take(&mut state.ahead);
        intervals.into_iter().flatten().for_each(|i| self.interval(i));
        for i in ahead {
            // What was missing may have come late, by itself.
            if given_up && self.progress(source).judge(&i) == Continues::AfterGap {
                // It is not to be had.
                self.restart_source(source);
            }
            self.interval(i);
        }
    }

    /// The intervals in between are lost: all feeds restart where the stream continues.
    fn restart_source(&mut self, source: &Arc<str>) {
        let state = self.sources.entry(source.clone()).or_default();
        state.progress.lost = true;
        state.unfinished = None;
        self.renew_source(source, ResyncReason::Gap);
        // Perhaps also that a table was altered, or is gone.
        self.out.push(Output::Describe(source.clone()));
    }

    /// Another database stands behind the source: positions, rows and what was sent mean nothing any more.
    pub(super) fn forget_source(&mut self, source: &Arc<str>) {
        self.stop_audit();
        self.sources.remove(source);
        self.window.retain(|(s, _)| s != source);
        self.window_changes = self.window.iter().map(|(_, t)| t.changes.len()).sum();
        let of_source = |name: &TableName| self.catalog.get(name).is_some_and(|t| t.source == *source);
        let gone: Vec<TableName> = self.resets.keys().filter(|n| of_source(n)).cloned().collect();
        self.resets.retain(|name, _| !gone.contains(name));
        self.renew_source(source, ResyncReason::Gap);
        self.out.push(Output::Describe(source.clone()));
    }

    /// Takes what all tables of a source are like. One that is not among them does not stream any more.
    pub(super) fn described(&mut self, source: &Arc<str>, tables: Vec<Arc<Table>>) {
        let at = self.progress(source).at.unwrap_or_default();
        let own = |t: &&Arc<Table>| t.source == *source && !t.name.is_system();
        let known = self.catalog.iter().filter(own).map(|t| t.name.clone());
        let gone: BTreeSet<TableName> = known.filter(|name| !tables.iter().any(|t| t.name == *name)).collect();
        for table in tables {
            self.reset(&Reset { name: table.name.clone(), table: Some(table), why: ResetReason::Described }, at);
        }
        for name in gone {
            self.reset(&Reset { name, table: None, why: ResetReason::SchemaChanged }, at);
        }
    }

    fn renew_source(&mut self, source: &Arc<str>, why: ResyncReason) {
        let own = |f: &Feed| f.plan.table().source == *source;
        let ids: Vec<FeedId> = (0..self.feeds.len() as FeedId).filter(|&i| self.feed(i).is_some_and(own)).collect();
        ids.into_iter().for_each(|id| self.renew(id, why));
    }

    pub(super) fn take(&mut self, interval: Arc<Interval>) {
        let before = self.progress(&interval.source).at;
        let anew = before.is_none() && !self.sources.contains_key(&interval.source);
        let mut resets = &interval.resets[..];
        for t in &interval.transactions {
            // The first interval ever may begin anywhere; later ones may overlap what is known.
            if before.is_some_and(|at| t.position <= at) {
                continue;
            }
            let state = self.sources.entry(interval.source.clone()).or_default();
            if t.number > 0 {
                state.passed.push(t.position, t.number);
            }
            if t.position < interval.to {
                self.transaction_in(&interval, t, &[]);
                continue;
            }
            // Tables that are reset here get a snapshot; what the transaction says of them may be incomplete.
            let taken = std::mem::take(&mut resets).iter().filter(|r| self.reset(r, interval.to));
            let in_whole: Vec<&TableName> = taken.map(|r| &r.name).collect();
            self.transaction_in(&interval, t, &in_whole);
        }
        let state = self.sources.entry(interval.source.clone()).or_default();
        if before.is_none() || state.progress.lost {
            state.floor = interval.from;
        }
        if before.is_none() {
            state.since_epoch = if anew { interval.epoch } else { 0 };
            // What the tables were like when this began may not be what they are where the stream begins.
            self.out.push(Output::Describe(interval.source.clone()));
        }
        let state = self.sources.entry(interval.source.clone()).or_default();
        state.settled = state.settled.max(interval.settled);
        let (epoch, timeline) = (interval.epoch.max(state.progress.epoch), interval.timeline);
        state.progress = Progress { epoch, at: Some(interval.to), lost: false, timeline };
        for r in resets {
            self.reset(r, interval.to);
        }
        self.send_emptied(interval.to);
        let mut joining: Vec<FeedId> = self
            .tables
            .values()
            .flat_map(|t| t.joining.iter().copied())
            .filter(|&i| self.feed(i).is_some_and(|f| f.plan.table().source == interval.source))
            .collect();
        // In an order that a seed repeats.
        joining.sort_unstable();
        joining.into_iter().for_each(|id| self.finish_seam(id, &interval.source));
        if self.audit.is_some() {
            self.finish_audit(&interval.source);
        }
    }

    /// Has a table read in whole from here on; not if it is only described and as it is known.
    pub(super) fn reset(&mut self, reset: &Reset, at: Position) -> bool {
        if reset.why == ResetReason::Described && reset.table.as_ref() == self.catalog.get(&reset.name) {
            return false;
        }
        // Nobody asks for theirs, also where it is a sub-select's table.
        self.drop_all_left_feeds();
        self.resets.insert(reset.name.clone(), at);
        let on_table = self.tables.get(&reset.name);
        let mut feeds: Vec<FeedId> = on_table.map(|t| t.feeds.iter().copied().collect()).unwrap_or_default();
        feeds.sort_unstable();
        match &reset.table {
            Some(table) => self.put_table(table.clone()),
            None => {
                Arc::make_mut(&mut self.catalog).remove(&reset.name);
                self.generation += 1;
            }
        }
        self.tell_streams(reset);
        let why = match reset.why {
            ResetReason::SchemaChanged | ResetReason::Described => ResyncReason::SchemaChanged,
            ResetReason::Truncated => ResyncReason::Truncated,
            ResetReason::TooLarge => ResyncReason::Gap,
        };
        for id in feeds {
            self.recent.forget(id);
            let Some(feed) = self.feed(id) else { continue };
            if reset.table.as_ref() == Some(feed.plan.table()) {
                self.renew(id, why);
                continue;
            }
            let dependents = self.dependents(id);
            let own = |f: &Feed| !f.memory.is_of_subquery();
            if reset.table.is_none() && self.feed(id).is_some_and(own) {
                let text = format!("table {} does not stream any more", reset.name);
                self.close_all(dependents, &Refusal::SchemaChanged(text));
            } else {
                dependents.into_iter().for_each(|sub| self.recompile(sub, why));
            }
        }
        true
    }

    pub(super) fn close_all(&mut self, subs: Vec<SubId>, refusal: &Refusal) {
        for sub in subs {
            self.unsubscribe(sub);
            self.out.push(Output::Closed(sub, refusal.clone()));
        }
    }

    /// Takes a transaction in, but for what it did to the tables that are read in whole after it.
    fn transaction_in(&mut self, interval: &Arc<Interval>, t: &Arc<Transaction>, in_whole: &[&TableName]) {
        let source = &interval.source;
        let mut touched = std::mem::take(&mut self.touched);
        touched.clear();
        let otherwise = self.find_touched(t, in_whole, &mut touched);
        if !self.recent.is_empty() {
            touched.iter().for_each(|(id, _)| self.recent.forget(*id));
        }
        touched.sort_unstable();
        touched.dedup();
        // Deltas of this transaction carry the epoch that read it, even if it is a new one.
        let term = Term { epoch: interval.epoch.max(self.progress(source).epoch), timeline: interval.timeline };
        let state = self.sources.entry(source.clone()).or_default();
        let mut unfinished = state.unfinished.take();
        let Evaluated { mut matched, underived, materialized } = self.evaluate(term, t, &touched, &mut unfinished);
        self.touched = touched;
        if let Some(state) = self.sources.get_mut(source) {
            state.unfinished = unfinished;
        }
        // What waits for partners looks there what these were.
        self.remember(source, t);
        // All changes are applied before any is evaluated: sub-selects are those at the transaction's end.
        materialized.into_iter().for_each(|(id, i)| self.take_change(id, &t.changes[i as usize]));
        self.fresh.clear();
        if !self.unsettled.is_empty() {
            matched.extend(self.settle(source, Commit { term, position: t.position, at: t.committed.to }));
        }
        self.emit_verdicts(source, term, t, &matched);
        for (id, why) in underived {
            match why {
                ChangeError::MissingValue => self.renew(id, ResyncReason::Gap),
                ChangeError::Failed(error) => self.fail(id, error),
            }
        }
        otherwise.into_iter().for_each(|name| self.description_mismatch(name, t.position));
        self.out.push(Output::Taken(interval.clone(), t.clone()));
    }

    /// Finds the feeds that the changes of a transaction may touch, and lays the changes over the snapshots on their way.
    /// Returns the tables of which a change was read under another description than the one that is known here.
    fn find_touched<'a>(
        &mut self,
        t: &'a Arc<Transaction>,
        in_whole: &[&TableName],
        touched: &mut Vec<(FeedId, u32)>,
    ) -> BTreeSet<&'a TableName> {
        let mut otherwise = BTreeSet::new();
        let streams = self.row_change_feeds();
        // They hear of a transaction that emptied a table, whatever else it did.
        touched.extend(self.emptied.iter().map(|(id, _)| (*id, u32::MAX)));
        let mut differing = std::mem::take(&mut self.differing);
        differing.clear();
        for (i, change) in t.changes.iter().enumerate() {
            if in_whole.contains(&&change.table) {
                continue;
            }
            touched.extend(streams.iter().map(|f| (*f, i as u32)));
            let Some(on_table) = self.tables.get(&change.table) else { continue };
            if change.description != on_table.description {
                // Its rows have another shape than the feeds: a value would pass for that of another column.
                otherwise.insert(&change.table);
                continue;
            }
            let old = match &change.old {
                Old::Known(old) => old.as_ref(),
                Old::Unknown => None,
            };
            if change.omitted_columns.is_empty() {
                on_table.index.touched(old, change.new.as_ref(), |f| touched.push((f, i as u32)));
            } else {
                // The index cannot go by a value that is not there.
                touched.extend(on_table.feeds.iter().map(|f| (*f, i as u32)));
            }
            if let Some(sent_by) = on_table.sent_by.get(&change.key) {
                touched.extend(sent_by.iter().map(|f| (*f, i as u32)));
            }
            if touched.last().is_some_and(|(_, of)| *of == i as u32) {
                differing.resize(i, None);
                differing.push(change.differing_columns());
            }
            if !on_table.joining.is_empty() {
                let mut joining: Vec<FeedId> = on_table.joining.iter().copied().collect();
                joining.sort_unstable();
                for id in joining {
                    if self.materialized(id).is_some() {
                        touched.push((id, i as u32));
                    } else {
                        self.overlay(id, t, change);
                    }
                }
            }
            if self.audit.is_some() {
                self.audit_change(t, change);
            }
        }
        self.differing = differing;
        otherwise
    }

    /// A change of a table was read under another description than the one that is known here: what it did is not known.
    /// All feeds of the table take a new snapshot, and the description is requested.
    fn description_mismatch(&mut self, name: &TableName, at: Position) {
        self.resets.insert(name.clone(), at);
        let on_table = self.tables.get(name);
        let mut feeds: Vec<FeedId> = on_table.map(|t| t.feeds.iter().copied().collect()).unwrap_or_default();
        feeds.sort_unstable();
        for id in feeds {
            self.recent.forget(id);
            let under_way = self.feed(id).is_some_and(|f| f.joining.is_some());
            if !under_way || self.feed(id).is_some_and(|f| !f.live.is_empty()) {
                self.renew(id, ResyncReason::SchemaChanged);
            }
            // A snapshot under way lacks it. It is taken again at the next tick, however many such changes come.
            if let Some(joining) = self.feed_mut(id).and_then(|f| f.joining.as_mut()) {
                joining.resting = true;
            }
        }
        if let Some(table) = self.catalog.get(name) {
            self.out.push(Output::Describe(table.source.clone()));
        }
    }

    /// Keeps a transaction in the window and lets the oldest go that it has no more room for.
    fn remember(&mut self, source: &Arc<str>, t: &Arc<Transaction>) {
        self.window.push_back((source.clone(), t.clone()));
        self.window_changes += t.changes.len();
        while (self.window.len() > self.limits.window || self.window_changes > self.limits.window_changes)
            && let Some((source, t)) = self.window.pop_front()
        {
            self.window_changes -= t.changes.len();
            if let Some(state) = self.sources.get_mut(&source) {
                state.remembered = state.remembered.max(t.position);
                if t.inexact_after.is_some() {
                    state.joined_until = state.joined_until.max(t.position);
                }
            }
        }
    }

    fn overlay(&mut self, id: FeedId, t: &Transaction, change: &RowChange) {
        let Some(feed) = self.feed_mut(id) else { return };
        let plan = feed.plan.clone();
        // A resting one will be requested again and will include this change.
        if feed.joining.as_mut().is_some_and(|j| !j.resting && !j.seam.overlay(&plan, t, change)) {
            self.retake_snapshot(id);
        }
    }

    /// Brings what evaluating some feeds begins with into the processor's cache. With a million feeds none of it is there,
    /// and each evaluation would wait for memory several times; read for many feeds at once, it is waited for together.
    fn load(&self, touched: &[(FeedId, u32)]) {
        let feeds = || touched.iter().filter_map(|(id, _)| self.feed(*id));
        std::hint::black_box(feeds().map(|f| f.deltas).fold(0, u64::wrapping_add));
        std::hint::black_box(feeds().map(|f| f.plan.fingerprint).fold(0, u64::wrapping_add));
        std::hint::black_box(feeds().map(|f| f.plan.heads()).fold(0, usize::wrapping_add));
    }

    /// Evaluates the feeds that a transaction may touch. `unfinished` are the feeds that have got parts of the transaction before.
    fn evaluate(
        &mut self,
        term: Term,
        t: &Arc<Transaction>,
        touched: &[(FeedId, u32)],
        unfinished: &mut Option<BTreeSet<FeedId>>,
    ) -> Evaluated {
        let more = !t.position.is_whole();
        let mut open = unfinished.take().unwrap_or_default();
        let mut full = Vec::new();
        let mut evaluated = Evaluated::default();
        self.out.reserve(touched.len() + self.observed.len() + 1);
        let (mut seen, mut loaded) = (0, 0);
        for group in touched.chunk_by(|a, b| a.0 == b.0) {
            if seen >= loaded {
                loaded = touched.len().min(seen + BATCH);
                self.load(&touched[seen..loaded]);
            }
            seen += group.len();
            let id = group[0].0;
            let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) else { continue };
            if feed.memory.materialized().is_some() {
                evaluated.materialized.extend_from_slice(group);
                continue;
            }
            if feed.live.is_empty() {
                continue;
            }
            let mut changes = self.recycled.changes();
            let beside = (self.digests.get_mut(&id), &mut self.tables, &mut self.emptied);
            let revokes = match feed.take_changes(id, group, (t, &self.differing), beside, &mut changes) {
                Ok(revokes) => revokes,
                Err(error) => {
                    evaluated.underived.push((id, error));
                    continue;
                }
            };
            if changes.is_empty() {
                self.recycled.put_changes(changes);
                // Nothing is left of the change, but something else may be unsent.
                self.out.extend(revokes.then(|| Output::Revoke(feed.live.clone())));
                continue;
            }
            let _ = if more { open.insert(id) } else { open.remove(&id) };
            feed.deltas += 1;
            if !self.observed.is_empty() {
                evaluated.matched.insert(id, Tally::of(&changes));
            }
            let (of, position, at) = (feed.plan.clone(), t.position, t.committed.to);
            let delta = Arc::new(Delta { feed: of, term, position, at, changes, skipped: 0, revokes, more });
            if let Some(pending) = &mut feed.pending {
                let due = pending.take_change(delta, self.clock);
                self.paced.insert((due, id));
                if pending.is_urgent() {
                    full.push(id);
                }
            } else {
                self.out.push(Output::Delta(delta, feed.live.clone()));
            }
        }
        if more {
            *unfinished = Some(open);
        } else {
            // The last delta of these feeds did not say that the transaction ends.
            open.into_iter().for_each(|id| self.emit_end(id, term, t));
            full.into_iter().for_each(|id| self.flush_pending(id));
        }
        evaluated
    }

    /// Closes all subscriptions of a feed whose query fails on a row.
    pub(super) fn fail(&mut self, id: FeedId, error: EvalError) {
        let subscribers = self.feed(id).map(|feed| feed.subscribers().collect()).unwrap_or_default();
        self.close_all(subscribers, &Refusal::Failed(error));
        if self.is_left(id) {
            self.remove_feed(id);
        }
    }

    /// Sends the end of a transaction to a feed that was sent parts of it.
    fn emit_end(&mut self, id: FeedId, term: Term, t: &Arc<Transaction>) {
        let Some(feed) = self.feed(id).filter(|f| !f.live.is_empty()) else { return };
        let (of, position, at) = (feed.plan.clone(), t.position, t.committed.to);
        let (changes, revokes) = (vec![], false);
        self.emit(id, Arc::new(Delta { feed: of, term, position, at, changes, skipped: 0, revokes, more: false }));
    }

    /// Sends a delta, or holds it until its time. Between transactions only.
    pub(super) fn emit(&mut self, id: FeedId, delta: Arc<Delta>) {
        let clock = self.clock;
        let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        feed.deltas += u64::from(!delta.changes.is_empty());
        // What operators deliver has waited already, as far as it may.
        let at_once = feed.memory.materialized().is_some_and(|m| m.operators.is_some());
        if let Some(pending) = feed.pending.as_mut().filter(|_| !at_once) {
            let due = pending.take_change(delta, clock);
            self.paced.insert((due, id));
            if pending.is_urgent() {
                self.flush_pending(id);
            }
        } else {
            let live = feed.live.clone();
            self.out.push(Output::Delta(delta, live));
        }
    }

    fn emit_verdicts(&mut self, source: &Arc<str>, term: Term, t: &Transaction, matched: &HashMap<FeedId, Tally>) {
        for sub in &self.observed {
            let Some(s) = self.subs.get(sub) else { continue };
            let Some(feed) = self.feeds.get(s.feed as usize).and_then(Option::as_ref) else { continue };
            if feed.plan.table().source != *source || !is_told_of(&feed.plan, t) {
                continue;
            }
            let silent = feed.memory.materialized().is_some() && !self.is_settled(s.feed);
            let waiting = silent || self.fresh.contains(sub) || feed.waiting().iter().any(|(w, _)| w == sub);
            let keys = t.changes.iter().filter(|c| feed.plan.is_about(c)).map(|c| &c.key);
            let beyond = feed.plan.is_window() && !self.shows_any_of(s.feed, keys);
            let most = if beyond { Verdict::Outside } else { Verdict::Unchanged };
            let verdict = |most| explain::verdict(&feed.plan, t, &self.subquery_sets).min(most);
            let (verdict, tally) = match matched.get(&s.feed) {
                _ if waiting => (verdict(Verdict::Folded), Tally::default()),
                Some(tally) => (Verdict::Matched, *tally),
                None => (verdict(most), Tally::default()),
            };
            let (source, position) = (source.clone(), t.position);
            self.out.push(Output::Verdict { sub: *sub, source, term, position, verdict, tally });
        }
    }
}

/// Whether operators are told what became of a transaction for a plan. Verdicts themselves stand in one of Gossip's own tables, and
/// to tell of those would never end; of presence is told what happens to it.
fn is_told_of(plan: &EffectivePlan, t: &Transaction) -> bool {
    let table = plan.table();
    !table.is_of_operators() && (*table.source != *SYSTEM_SCHEMA || t.changes.iter().any(|c| plan.is_about(c)))
}

/// What evaluating a feed brings up to date beside it: its digest, what the table knows of it, which tables were emptied.
type Beside<'a> = (Option<&'a mut Digest>, &'a mut Tables, &'a mut Vec<(FeedId, Change)>);

impl Feed {
    /// What a transaction does to the result or adds to the stream, into `changes`, and whether that takes anything back.
    #[inline]
    fn take_changes(
        &mut self,
        id: FeedId,
        touched: &[(FeedId, u32)],
        (t, differing): (&Transaction, &[Option<ColumnSet>]),
        (digest, tables, emptied): Beside<'_>,
        changes: &mut Vec<Change>,
    ) -> Result<bool, ChangeError> {
        if self.plan.row_changes.is_some() {
            return self.events(id, touched, t, emptied, changes);
        }
        let columns = |i: usize| differing.get(i).and_then(Option::as_ref);
        let rows = touched.iter().map(|(_, i)| (&t.changes[*i as usize], columns(*i as usize)));
        self.changes(id, rows, digest, tables, changes)
    }

    /// What a transaction adds to the stream of row changes, into `changes`, and whether that takes anything back. `emptied` are
    /// the tables that it emptied, which come first.
    fn events(
        &self,
        id: FeedId,
        touched: &[(FeedId, u32)],
        t: &Transaction,
        emptied: &mut Vec<(FeedId, Change)>,
        changes: &mut Vec<Change>,
    ) -> Result<bool, ChangeError> {
        changes.extend(emptied.extract_if(.., |(of, _)| *of == id).map(|(_, change)| change));
        let mut revokes = false;
        for row in touched.iter().filter_map(|(_, i)| t.changes.get(*i as usize)) {
            let (change, takes_back) = row_events::change(&self.plan, row, t.committed.to)?;
            revokes |= takes_back;
            changes.extend(change);
        }
        Ok(revokes)
    }

    /// What changes of rows do to the result, into `changes`, and whether that takes anything back; brings up to date what
    /// is remembered of it.
    #[inline]
    fn changes<'a>(
        &mut self,
        id: FeedId,
        rows: impl Iterator<Item = (&'a RowChange, Option<&'a ColumnSet>)>,
        mut digest: Option<&mut Digest>,
        tables: &mut Tables,
        changes: &mut Vec<Change>,
    ) -> Result<bool, ChangeError> {
        let Feed { plan, memory, .. } = self;
        let mut revokes = false;
        for (row, differing) in rows {
            if let Some(digest) = &mut digest {
                digest.change(plan, row);
            }
            let Some(change) = feed::change_of(plan, row, differing, &(), memory.tracked_mut())? else {
                revokes |= plan.computes() && feed::conceals(plan, row, &());
                continue;
            };
            if memory.tracked().is_some() {
                let on_table = tables.entry(row.table.clone()).or_default();
                on_table.note(id, &row.key, !matches!(change, Change::Remove { .. }));
            }
            revokes |= feed::revokes(plan, &change, row, &());
            changes.push(change);
        }
        Ok(revokes)
    }
}
