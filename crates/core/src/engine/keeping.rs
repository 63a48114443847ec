//! Feeds that keep their rows, because what they show depends on other tables too.
//!
//! A rule may ask another table: `id IN (SELECT call FROM assignments WHERE pilot = claim.sub)`. Such a lookup is a feed
//! of its own, without subscribers, whose found values stand in `Engine::known`; equal lookups are one. A feed that
//! asks keeps its rows, so that it can tell what a change of the found values does to a result: a row whose value is
//! found no more is removed, one that changed hands is judged anew. Rows that may have come in are fetched, just those,
//! and meanwhile the feed is silent; then it tells the difference between what it told last and what holds now, at one
//! position of the stream.
//!
//! This file keeps, fetches and tells; [`super::subqueries`] has what is found and who asks.
//!
//! Everything that a transaction does to found values is taken in before anything is told of it, so that rights are
//! those at its end. A transaction that comes in parts is told by these feeds at its end.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use super::io::{Delta, Limits, Output, Refusal, ResyncReason};
use super::kept::{Entry, Materialized, Moment, Wanted, shows_less};
use super::known::Known;
use super::memory::Memory;
use super::{Engine, Feed, Joining, Turn};
use crate::audience::SubId;
use crate::explain::Tally;
use crate::feed;
use crate::index::FeedId;
use crate::plan::{AccessPath, EffectivePlan, RowFilter, VisibleRow};
use crate::position::{Old, RowChange};
use crate::query::Subquery;
use crate::schema::{Key, Row};
use crate::seam::{MAX_OVERLAY, SnapshotMerge};

const CLIENTS: u8 = u8::MAX;

impl Engine {
    /// What a new feed has to keep, if it has to. Enters it with the lookups that it asks.
    pub(super) fn keep(&mut self, id: FeedId, plan: &EffectivePlan, finds: Option<Arc<Subquery>>) -> Memory {
        let depends_on = plan.subqueries();
        if depends_on.is_empty() && finds.is_none() {
            return Memory::Stateless;
        }
        let mut level = 0;
        for subquery in depends_on.keys() {
            let feed = self.asked_by(subquery, id);
            let below = self.kept(feed).map_or(0, |k| k.level);
            level = level.max(below + 1);
        }
        Memory::Materialized(Box::new(Materialized {
            depends_on,
            level: if finds.is_some() { level } else { CLIENTS },
            finds,
            entries: HashMap::new(),
            dirty: BTreeSet::new(),
            passed: HashSet::new(),
            fetched: Vec::new(),
            loaded: false,
            wanted: Wanted::Nothing,
            waiting: Vec::new(),
            needs: AccessPath::of(plan, &self.known),
            revokes: false,
            bytes: 0,
        }))
    }

    pub(super) fn kept(&self, id: FeedId) -> Option<&Materialized> {
        self.feed(id).and_then(|f| f.memory.materialized())
    }

    pub(super) fn kept_mut(&mut self, id: FeedId) -> Option<&mut Materialized> {
        self.feed_mut(id).and_then(|f| f.memory.materialized_mut())
    }

    /// What a feed that keeps its rows stands under in the index.
    pub(super) fn needs(&self, id: FeedId, plan: &EffectivePlan) -> AccessPath {
        self.kept(id).map_or_else(|| AccessPath::of(plan, &()), |k| k.needs.clone())
    }

    /// Whether what a feed tells is what holds where the engine stands.
    pub(super) fn is_settled(&self, id: FeedId) -> bool {
        let Some(feed) = self.feed(id) else { return false };
        let Some(kept) = feed.memory.materialized() else { return true };
        kept.loaded
            && feed.joining.is_none()
            && kept.wanted.is_nothing()
            && kept.dirty.is_empty()
            && self.asks_are_settled(kept)
    }

    /// Takes a change of the table into what a feed keeps. Told later.
    pub(super) fn take_in(&mut self, id: FeedId, change: &RowChange) {
        let Engine { feeds, known, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let Some(kept) = feed.memory.materialized_mut() else { return };
        let key = change.key.clone();
        let mut outrun = false;
        if feed.joining.is_some() {
            kept.passed.insert(key.clone());
            outrun = kept.passed.len() > MAX_OVERLAY;
        }
        let mut new = change.new.clone();
        if let Some(row) = new.as_mut().filter(|_| !change.omitted_columns.is_empty()) {
            let same_row = change.old != Old::Known(None);
            match kept.entries.get(&key).and_then(|e| e.now.as_ref()).filter(|_| same_row) {
                Some(before) => {
                    let value = |i: usize| if change.omitted_columns.contains(i) { &before[i] } else { &row[i] };
                    *row = (0..row.len()).map(|i| value(i).clone()).collect();
                }
                None if feed.plan.reads_any_of(&change.omitted_columns) => {
                    // It may be in the result now, with values that only the table has.
                    kept.wanted = Wanted::All;
                    new = None;
                }
                None => {}
            }
        }
        let seen = new.as_ref().and_then(|row| feed.plan.see(row, known));
        let told = kept.entries.get(&key).and_then(|e| e.told.as_ref());
        // What its rules do not admit any more is not to be sent any more either. Whether it is they who let a row go is
        // known only at the end of the transaction, when the row is not at hand any more.
        kept.revokes |= match (told, &seen) {
            (None, _) => false,
            (Some(told), Some(seen)) => shows_less(&feed.plan, told, seen),
            (Some(_), None) => new.is_some(),
        };
        if seen.is_some() || kept.entries.contains_key(&key) {
            self.put(id, key, |entry| entry.now = seen.and(new));
        }
        if outrun {
            self.take_again(id);
        }
        self.settle_later(id);
    }

    pub(super) fn settle_later(&mut self, id: FeedId) {
        let level = self.kept(id).map_or(CLIENTS, |k| k.level);
        self.unsettled.insert((level, id));
    }

    /// Changes an entry, drops it if nothing is left of it, and keeps count of the memory.
    pub(super) fn put(&mut self, id: FeedId, key: Key, change: impl FnOnce(&mut Entry)) {
        let Engine { feeds, tables, kept_bytes, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let Some(kept) = feed.memory.materialized_mut() else { return };
        let fresh = !kept.entries.contains_key(&key);
        let entry = kept.entries.entry(key.clone()).or_default();
        let before = if fresh { 0 } else { entry.size() };
        change(entry);
        let gone = entry.now.is_none() && entry.told.is_none();
        let after = if gone { 0 } else { entry.size() };
        kept.bytes = kept.bytes + after - before;
        *kept_bytes = *kept_bytes + after - before;
        kept.dirty.insert(key.clone());
        if gone {
            kept.entries.remove(&key);
            kept.dirty.remove(&key);
        }
        // Without old values a row that leaves is found only by its key.
        if !feed.plan.table().old_values && fresh != gone {
            tables.entry(feed.plan.table().name.clone()).or_default().note(id, &key, !gone);
        }
    }

    /// What is kept has a limit also for those who are there: by as much again, then whoever would be told next ends.
    fn outgrows(&self, kept: &Materialized) -> Option<Refusal> {
        let Limits { result_rows, sent_bytes, .. } = self.limits;
        if kept.entries.len() > result_rows {
            return Some(Refusal::Limit(format!("rows of one result, at most {result_rows}; narrow the query")));
        }
        let text = || format!("rows kept for rules that ask other tables, at most {sent_bytes} bytes");
        (self.kept_bytes > sent_bytes.saturating_mul(2)).then(|| Refusal::Limit(text()))
    }

    /// A fetch is complete and the stream has passed all that it shows.
    pub(super) fn kept_fetched(&mut self, id: FeedId, source: &Arc<str>, moment: Moment) {
        self.joined(id);
        let Some(kept) = self.kept_mut(id) else { return };
        kept.loaded = true;
        // What changed since it was asked for is known better already.
        let passed = std::mem::take(&mut kept.passed);
        for row in std::mem::take(&mut kept.fetched) {
            let Some(feed) = self.feed(id) else { return };
            let key = feed.plan.key_of(&row);
            if !passed.contains(&key) && feed.plan.sees(&row, &self.known) {
                self.put(id, key, |entry| entry.now = Some(row));
            }
        }
        self.settle_later(id);
        self.settle(source, moment);
    }

    /// Ends everything that depends on a feed whose rows are not to be had.
    pub(super) fn fail_kept(&mut self, id: FeedId, refusal: &Refusal) {
        let dependents = self.dependents(id);
        self.close_all(dependents, refusal);
    }

    /// Forgets all rows; they are fetched anew. Those who heard the feed wait for the whole result.
    pub(super) fn keep_anew(&mut self, id: FeedId, why: ResyncReason) {
        let Some(feed) = self.feed_mut(id) else { return };
        let live = std::mem::take(&mut feed.live);
        let Some(kept) = feed.memory.materialized_mut() else { return };
        kept.waiting.extend(live.as_slice().iter().map(|s| (*s, why)));
        kept.loaded = false;
        kept.wanted = Wanted::Nothing;
        kept.fetched.clear();
        let finds = kept.finds.is_some();
        let keys: Vec<Key> = kept.entries.keys().cloned().collect();
        live.as_slice().iter().for_each(|s| self.out.push(Output::Discard(*s)));
        for key in keys {
            // What a lookup told stays told, until it is known what is found now.
            self.put(id, key, |entry| {
                entry.now = None;
                if !finds {
                    entry.told = None;
                }
            });
        }
        if self.stop_joining(id).is_some() || finds || self.kept(id).is_some_and(|k| !k.waiting.is_empty()) {
            self.settle_later(id);
        }
    }

    /// Settles where the engine stands, between two transactions.
    pub(super) fn settle_now(&mut self) {
        let source = |id: &FeedId| self.feed(*id).map(|f| f.plan.table().source.clone());
        let sources: BTreeSet<Arc<str>> = self.unsettled.iter().filter_map(|(_, id)| source(id)).collect();
        for source in sources {
            let progress = self.progress(&source);
            let position = progress.at.unwrap_or_default();
            self.settle(&source, Moment { term: progress.term(), position, at: self.clock });
        }
    }

    /// Lets every feed of a source that something was taken into go on: fetch what is missing, or tell. Lookups first.
    pub(super) fn settle(&mut self, source: &Arc<str>, moment: Moment) -> HashMap<FeedId, Tally> {
        let mut told = HashMap::new();
        let mut stays = BTreeSet::new();
        // In the middle of a transaction nothing is settled.
        let between = self.sources.get(source).is_none_or(|s| s.unfinished.is_none());
        while let Some((level, id)) = self.unsettled.pop_first() {
            let Some(feed) = self.feed(id) else { continue };
            let Some(kept) = feed.memory.materialized() else { continue };
            if !between || feed.plan.table().source != *source {
                stays.insert((level, id));
                continue;
            }
            let waits = feed.joining.is_some() || !self.asks_are_settled(kept);
            let lacks = !kept.loaded || !kept.wanted.is_nothing();
            let outgrows = self.outgrows(kept);
            if (waits || lacks) && (kept.revokes || kept.is_subquery() && !kept.dirty.is_empty()) {
                // It cannot tell yet what is gone; what tells of it is not to be read meanwhile.
                self.unsend(id);
            }
            if waits {
                // Whoever is waited for brings it back.
                continue;
            }
            if lacks {
                self.fetch(id);
            } else if let Some(refusal) = outgrows {
                self.fail_kept(id, &refusal);
            } else if level == CLIENTS {
                let tally = self.tell_kept(id, moment);
                if tally != Tally::default() {
                    told.insert(id, tally);
                }
            } else {
                self.tell_found(id);
            }
        }
        self.unsettled = stays;
        told
    }

    /// Asks for the rows that are missing.
    fn fetch(&mut self, id: FeedId) {
        let next = self.next_snapshot;
        let (since, settled) = self.stands(id);
        let Engine { feeds, known, tables, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let Some(kept) = feed.memory.materialized_mut() else { return };
        let request = match std::mem::take(&mut kept.wanted) {
            Wanted::With(by_column) if kept.loaded => {
                let values = by_column.into_iter().map(|(c, values)| (c, values.into_iter().collect()));
                feed.plan.snapshot_of(Some(RowFilter::new(values.collect())))
            }
            _ => feed.plan.snapshot(known),
        };
        kept.passed.clear();
        kept.fetched.clear();
        feed.joining = Some(Box::new(Joining {
            snapshot: next,
            seam: SnapshotMerge::default(),
            since,
            settled,
            waiting: Vec::new(),
            failures: 0,
            resting: false,
            turn: Turn::Taken(None),
            request: request.clone(),
        }));
        let plan = feed.plan.clone();
        tables.entry(plan.table().name.clone()).or_default().joining.insert(id);
        self.next_snapshot += 1;
        self.snapshots.insert(next, id);
        self.out.push(Output::FetchSnapshot { id: next, plan, request });
    }

    /// Tells clients the difference between what they were told last and what holds now, and those who wait all of it.
    fn tell_kept(&mut self, id: FeedId, moment: Moment) -> Tally {
        let Engine { feeds, known, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return Tally::default() };
        let Some(kept) = feed.memory.materialized_mut() else { return Tally::default() };
        let plan = feed.plan.clone();
        let revokes = std::mem::take(&mut kept.revokes);
        let mut changes = Vec::new();
        for key in std::mem::take(&mut kept.dirty) {
            let Some(entry) = kept.entries.get(&key) else { continue };
            let now = entry.now.as_ref().and_then(|row| plan.see(row, known));
            if let Some(change) = feed::between(&plan, key, entry.told.as_ref(), now) {
                changes.push(change);
            }
        }
        let tally = Tally::of(&changes);
        for change in &changes {
            let told = match change {
                feed::Change::Add { row, .. } | feed::Change::Replace { row, .. } => Some(row.clone()),
                feed::Change::Remove { .. } => None,
            };
            self.put(id, change.key().clone(), |entry| entry.told = told);
        }
        let waiting = match self.kept_mut(id) {
            None => return tally,
            Some(kept) => {
                kept.dirty.clear();
                std::mem::take(&mut kept.waiting)
            }
        };
        let waits = self.feed(id).and_then(|f| f.pending.as_ref()).and_then(|p| p.due());
        self.paced.extend(waits.map(|due| (due, id)));
        let Moment { term, position, at } = moment;
        if !changes.is_empty() && self.feed(id).is_some_and(|f| !f.live.is_empty()) {
            let feed = plan.clone();
            let delta = Delta { feed, term, position, at, changes, skipped: 0, revokes, more: false };
            self.tell(id, Arc::new(delta));
        }
        if !waiting.is_empty() {
            self.tell_pending(id);
            let Some(feed) = self.feed_mut(id) else { return tally };
            feed.live.extend(waiting.iter().map(|(s, _)| *s));
            let told = feed.memory.materialized().into_iter().flat_map(|k| &k.entries);
            let mut rows: Vec<(Key, VisibleRow)> =
                told.filter_map(|(k, e)| Some((k.clone(), e.told.clone()?))).collect();
            rows.sort_unstable_by(|a, b| a.0.cmp(&b.0));
            self.fresh.extend(waiting.iter().map(|(s, _)| *s));
            self.out.push(Output::Result { to: waiting, feed: plan, rows: Arc::new(rows), term, position });
        }
        tally
    }
}

impl Feed {
    /// Takes rows of a snapshot, and says how many there are of it now.
    pub(super) fn take_rows(&mut self, rows: Vec<Row>, known: &Known) -> usize {
        match (&mut self.memory, &mut self.joining) {
            (Memory::Materialized(kept), _) => {
                // What is found later in other tables is fetched then.
                kept.fetched.extend(rows.into_iter().filter(|row| self.plan.sees(row, known)));
                kept.fetched.len()
            }
            (_, Some(joining)) => {
                joining.seam.rows(&self.plan, rows);
                joining.seam.len()
            }
            (_, None) => 0,
        }
    }

    /// Who waits for the whole result.
    pub(super) fn waiting(&self) -> &[(SubId, ResyncReason)] {
        match (self.memory.materialized(), &self.joining) {
            (Some(kept), _) => &kept.waiting,
            (None, Some(joining)) => &joining.waiting,
            (None, None) => &[],
        }
    }
}
