//! Feeds that hold their rows, because their result depends on other tables too, or on all rows together.
//!
//! A rule may query another table: `id IN (SELECT call FROM assignments WHERE pilot = claim.sub)`. Each sub-select is a feed
//! of its own, without subscribers, whose values are in `Engine::subquery_sets`; equal sub-selects share one. A feed that
//! depends on one holds its rows, so that a change of the set's values can be turned into a change of the result: a row
//! whose value left the set is removed, a row whose grants changed is evaluated again. Rows that may have entered are
//! fetched, only those, and until they are there the feed is silent; then it sends the difference between what it sent
//! last and what holds now, at one position of the stream.
//!
//! This file maintains and fetches; [`super::differences`] sends, and [`super::subqueries`] maintains the sets. What a query
//! groups or orders is made of the rows when they are sent ([`Operators`]).
//!
//! Everything that a transaction does to the sets is applied before anything is sent, so that rights are those at its end.
//! These feeds send a transaction that comes in parts at its end.

use std::collections::hash_map::Entry as Slot;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use super::commit::Commit;
use super::history::History;
use super::io::{Output, Refusal, ResyncReason};
use super::materialized::{Entry, Materialized, MissingRows, Seen};
use super::memory::Memory;
use super::moments::Moments;
use super::serves::Serves;
use super::subquery_sets::SubquerySets;
use super::told::Told;
use super::window::Window;
use super::{Engine, Feed, Joining, Turn};
use crate::audience::SubId;
use crate::explain::Tally;
use crate::index::FeedId;
use crate::latest::Latest;
use crate::operator::{Operators, Ties};
use crate::plan::{AccessPath, EffectivePlan, RowFilter, SnapshotRequest};
use crate::position::{Micros, Old, RowChange};
use crate::schema::{ByKey, ColumnSet, Key, KeySet, Row};
use crate::seam::{MAX_OVERLAY, SnapshotMerge};
use crate::value::Value;

pub(super) const CLIENTS: u8 = u8::MAX;

impl Engine {
    /// The memory that a new feed starts with. Registers it with the sub-selects that it depends on.
    pub(super) fn initial_memory(&mut self, id: FeedId, plan: &EffectivePlan, serves: Serves) -> Memory {
        let depends_on = plan.subqueries();
        if serves == Serves::Clients && !plan.is_held() {
            return Memory::Stateless;
        }
        let mut level = 0;
        for subquery in depends_on.keys() {
            let feed = self.read_subquery(subquery, id);
            let below = self.materialized(feed).map_or(0, |k| k.level);
            level = level.max(below + 1);
        }
        Memory::Materialized(Box::new(Materialized {
            depends_on,
            level: if serves == Serves::Clients { CLIENTS } else { level },
            // Of what is asked for by keys there is nothing to begin with.
            loaded: serves == Serves::Joins,
            serves,
            rules_ask: plan.rules_ask(),
            asks: plan.joins.is_some().then(Box::default),
            entries: ByKey::default(),
            dirty: Latest::default(),
            changed_since: KeySet::default(),
            fetched: Vec::new(),
            missing: MissingRows::Nothing,
            waiting: Vec::new(),
            access_path: AccessPath::of(plan, &self.subquery_sets),
            revokes: false,
            bytes: 0,
            operators: Operators::of(plan, Ties::ByHash(self.order_key)).map(Box::new),
            operator_bytes: 0,
            held: None,
            fetched_bytes: 0,
            moments: Moments::default(),
            window: Window::of(plan, self.limits.reserve).map(Box::new),
            told: Told::default(),
            history: History::default(),
            left_at: None,
        }))
    }

    pub(super) fn materialized(&self, id: FeedId) -> Option<&Materialized> {
        self.feed(id).and_then(|f| f.memory.materialized())
    }

    pub(super) fn materialized_mut(&mut self, id: FeedId) -> Option<&mut Materialized> {
        self.feed_mut(id).and_then(|f| f.memory.materialized_mut())
    }

    /// The access path under which a feed is indexed.
    pub(super) fn access_path(&self, id: FeedId, plan: &EffectivePlan) -> AccessPath {
        self.materialized(id).map_or_else(|| AccessPath::of(plan, &()), |k| k.access_path.clone())
    }

    /// Whether what a feed has sent is its result at the engine's position.
    pub(super) fn is_settled(&self, id: FeedId) -> bool {
        let Some(feed) = self.feed(id) else { return false };
        let Some(materialized) = feed.memory.materialized() else { return true };
        materialized.loaded
            && feed.joining.is_none()
            && materialized.missing.is_nothing()
            && !materialized.is_dirty()
            && materialized.is_answered()
            && materialized.frozen().is_none()
            && !self.lacks_partners(id)
            && self.subqueries_are_settled(materialized)
    }

    /// Applies a change of the table to a feed's rows. Sent later.
    pub(super) fn take_change(&mut self, id: FeedId, change: &RowChange) {
        if self.materialized(id).is_some_and(Materialized::is_for_joins) {
            return self.take_partner_change(id, change);
        }
        let Engine { feeds, subquery_sets, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        let key = change.key.clone();
        let mut outrun = false;
        let is_reading = feed.joining.is_some();
        let is_behind = |materialized: &Materialized, row: &Row, unknown: &ColumnSet| {
            !is_reading && materialized.is_behind(&feed.plan, &change.key, row, unknown)
        };
        if feed.joining.is_some() {
            materialized.changed_since.insert(key.clone());
            outrun = materialized.changed_since.len() > MAX_OVERLAY;
        }
        let mut new = change.new.clone();
        if let Some(row) = new.as_mut().filter(|_| !change.omitted_columns.is_empty()) {
            let same_row = change.old != Old::Known(None);
            match materialized.entries.get(&key).and_then(|e| e.now.as_ref()).filter(|_| same_row) {
                Some(before) => {
                    let value = |i: usize| if change.omitted_columns.contains(i) { &before[i] } else { &row[i] };
                    *row = (0..row.len()).map(|i| value(i).clone()).collect();
                }
                None if is_behind(materialized, row, &change.omitted_columns) => new = None,
                None if feed.plan.reads_any_of(&change.omitted_columns) => {
                    // It may be in the result now, with values that only the table has.
                    let decides = feed.plan.is_decided_by_any_of(&change.omitted_columns);
                    if decides || feed.plan.sees(row, subquery_sets) {
                        materialized.missing.add_row(feed.plan.table(), &key);
                    }
                    new = None;
                }
                None => {}
            }
        }
        let seen = new.as_ref().map(|row| feed.plan.see(row, subquery_sets));
        // Whether the query fails on a row that may be seen is known only when all of the transaction is.
        let fails = matches!(seen, Some(Err(_)));
        let seen = seen.and_then(|seen| seen.unwrap_or(None));
        let is_coming = |row: &Row| feed.plan.next_change(row, subquery_sets).is_some();
        let is_behind = new.as_ref().is_some_and(|row| is_behind(materialized, row, &ColumnSet::default()));
        // Whether its partners are as they should be may change without it.
        let is_own = |row: &Row| feed.plan.joins.is_some() && feed.plan.sees(row, subquery_sets);
        let is_held = |row: &Row| is_own(row) || is_coming(row);
        let stays = !is_behind && (seen.is_some() || fails || new.as_ref().is_some_and(is_held));
        let now = (new.as_ref(), seen.as_ref().filter(|_| !is_behind));
        materialized.revokes |= materialized.is_withdrawn(&feed.plan, change, now, subquery_sets);
        let seen = match materialized.sees_rows_alone(&feed.plan) && !fails {
            true => Seen::Known(seen.filter(|_| !is_behind)),
            false => Seen::OfEntry,
        };
        if stays || materialized.entries.contains_key(&key) {
            self.put_as_seen(id, key, seen, |entry| entry.now = new.filter(|_| stays));
        }
        if outrun {
            self.retake_snapshot(id);
        }
        self.settle_later(id);
    }

    /// Subscribers know all that has changed: forgets what they knew before.
    pub(super) fn forget_told(&mut self, id: FeedId) {
        let Some(materialized) = self.materialized_mut(id) else { return };
        for key in materialized.told.take_keys() {
            // Some were kept only so that changes of them are found.
            if self.materialized(id).is_some_and(|m| m.entries.get(&key).is_some_and(Entry::is_empty)) {
                self.put(id, key, |_| ());
            }
        }
    }

    pub(super) fn settle_later(&mut self, id: FeedId) {
        let level = self.materialized(id).map_or(CLIENTS, |k| k.level);
        self.unsettled.insert((level, id));
    }

    /// Changes an entry, which may differ then from what was sent.
    pub(super) fn put(&mut self, id: FeedId, key: Key, change: impl FnOnce(&mut Entry)) {
        self.put_as_seen(id, key, Seen::OfEntry, change);
    }

    fn put_as_seen(&mut self, id: FeedId, key: Key, seen: Seen, change: impl FnOnce(&mut Entry)) {
        let is_left = self.put_quietly(id, key.clone(), change);
        if let Some(materialized) = self.materialized_mut(id).filter(|_| is_left) {
            if let Some(asks) = &mut materialized.asks {
                asks.changed.insert(key.clone());
            }
            materialized.dirty.note(key, seen);
        }
    }

    /// Changes an entry, drops it if nothing is left of it, and keeps count of the memory. Returns whether it is still there.
    pub(super) fn put_quietly(&mut self, id: FeedId, key: Key, change: impl FnOnce(&mut Entry)) -> bool {
        let Engine { feeds, tables, subquery_sets, materialized_bytes, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return false };
        let Some(materialized) = feed.memory.materialized_mut() else { return false };
        let timed = feed.plan.depends_on_time;
        let slot = materialized.entries.entry(key.clone());
        let fresh = matches!(slot, Slot::Vacant(_));
        let entry = slot.or_default();
        let before = if fresh { 0 } else { entry.size() } + materialized.moments.size();
        change(entry);
        if timed {
            materialized.moments.note(&feed.plan, &key, entry.now.as_ref(), subquery_sets);
        }
        let gone = entry.is_empty() && materialized.told.get(&key).is_none();
        let after = if gone { 0 } else { entry.size() } + materialized.moments.size();
        materialized.bytes = materialized.bytes + after - before;
        *materialized_bytes = *materialized_bytes + after - before;
        if gone {
            materialized.entries.remove(&key);
            if let Some(asks) = &mut materialized.asks {
                asks.changed.insert(key.clone());
            }
        }
        // Without old values a row that leaves is found only by its key.
        if !feed.plan.table().old_values && fresh != gone {
            tables.entry(feed.plan.table().name.clone()).or_default().note(id, &key, !gone);
        }
        if timed {
            self.wake_at_next_moment(id);
        }
        !gone
    }

    /// A fetch is complete and the stream has passed its position.
    pub(super) fn fetch_completed(&mut self, id: FeedId, source: &Arc<str>, commit: Commit) {
        self.joined(id);
        let Some(plan) = self.feed(id).map(|f| f.plan.clone()) else { return };
        let Some(materialized) = self.materialized_mut(id) else { return };
        if materialized.is_for_joins() {
            materialized.fetched_bytes = 0;
            let rows = std::mem::take(&mut materialized.fetched);
            self.partners_read(id, rows);
            self.settle_later(id);
            self.settle(source, commit);
            return;
        }
        materialized.loaded = true;
        if let Some(window) = &mut materialized.window {
            window.note_done(&plan);
        }
        // For keys that changed since the request, the stream's row is newer.
        materialized.fetched_bytes = 0;
        self.take_fetched(id);
        if let Some(materialized) = self.materialized_mut(id) {
            materialized.changed_since = KeySet::default();
        }
        self.let_go_behind_boundary(id);
        self.settle_later(id);
        self.settle(source, commit);
    }

    /// Takes rows of a fetch, but for those that have changed since it was requested: the stream's row is newer.
    fn take_fetched(&mut self, id: FeedId) {
        let Some(materialized) = self.materialized_mut(id) else { return };
        materialized.fetched_bytes = 0;
        for row in std::mem::take(&mut materialized.fetched) {
            let Engine { feeds, subquery_sets, .. } = self;
            let Some(feed) = feeds.get(id as usize).and_then(Option::as_ref) else { return };
            let Some(materialized) = feed.memory.materialized() else { return };
            let key = feed.plan.key_of(&row);
            if !materialized.changed_since.contains(&key) && feed.plan.sees_at_any_time(&row, subquery_sets) {
                self.put(id, key, |entry| entry.now = Some(row));
            }
        }
    }

    /// Takes rows of a feed's first fetch as they come, so that there is not all of it to be done when it is complete, and everybody
    /// else waits. Nobody is told anything before. The stream brings what was read too early to where the fetch is.
    pub(super) fn take_early(&mut self, id: FeedId) {
        let is_first = |m: &&Materialized| !m.loaded && !m.is_for_joins();
        let Some(materialized) = self.materialized(id).filter(is_first) else { return };
        let settled = self.subqueries_are_settled(materialized);
        self.take_fetched(id);
        if settled {
            self.ask_partners(id);
            self.begin_set(id);
        }
    }

    /// Forgets what was taken of a first fetch that is requested again.
    pub(super) fn forget_early(&mut self, id: FeedId) {
        let Some(materialized) = self.materialized(id).filter(|m| !m.loaded && !m.is_for_joins()) else { return };
        let keys: Vec<Key> = materialized.entries.keys().cloned().collect();
        keys.into_iter().for_each(|key| self.put(id, key, |entry| entry.now = None));
    }

    /// Closes everything that depends on a feed whose rows cannot be read.
    pub(super) fn fail_materialized(&mut self, id: FeedId, refusal: &Refusal) {
        let is_subquery = self.materialized(id).is_some_and(Materialized::is_subquery);
        let dependents = self.dependents_that_wait(id);
        self.close_all(dependents, refusal);
        if self.materialized(id).is_some_and(Materialized::is_for_joins) {
            // Those who know all that they asked for go on.
            self.stop_joining(id);
            self.read_partners_again(id);
        }
        if self.is_left(id) {
            self.remove_feed(id);
        } else if is_subquery {
            // It would stay for feeds that nobody listens to, and fail again.
            self.drop_all_left_feeds();
        }
    }

    /// Lets go of rows that stand behind those that a window's feed holds. Returns whether there were any.
    pub(super) fn let_go_behind_boundary(&mut self, id: FeedId) -> bool {
        let Some(feed) = self.feed(id) else { return false };
        let Some(materialized) = feed.memory.materialized().filter(|m| m.window.is_some()) else { return false };
        let none = ColumnSet::default();
        let is_behind = |key: &Key, row: &Row| materialized.is_behind(&feed.plan, key, row, &none);
        let behind =
            materialized.entries.iter().filter(|(key, e)| e.now.as_ref().is_some_and(|row| is_behind(key, row)));
        let behind: Vec<Key> = behind.map(|(key, _)| key.clone()).collect();
        let some = !behind.is_empty();
        behind.into_iter().for_each(|key| self.put(id, key, |entry| entry.now = None));
        some
    }

    /// Drops all rows and fetches them again. Subscribers wait for a new result.
    pub(super) fn refetch_all(&mut self, id: FeedId, why: ResyncReason) {
        if self.is_left(id) {
            return self.remove_feed(id);
        }
        if self.materialized(id).is_some_and(Materialized::is_for_joins) {
            return self.forget_partners(id);
        }
        self.unfreeze(id);
        let Some(feed) = self.feed_mut(id) else { return };
        let live = std::mem::take(&mut feed.live);
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        materialized.history.clear();
        materialized.waiting.extend(live.as_slice().iter().map(|s| (*s, why)));
        materialized.loaded = false;
        materialized.missing = MissingRows::Nothing;
        materialized.fetched.clear();
        materialized.fetched_bytes = 0;
        if let Some(window) = &mut materialized.window {
            window.reset();
        }
        let maintains = materialized.maintains().is_some();
        let keys: Vec<Key> = materialized.entries.keys().cloned().collect();
        live.as_slice().iter().for_each(|s| self.out.push(Output::Discard(*s)));
        self.reset_operators(id);
        for key in keys {
            // A sub-select's values stay in its set until the new ones are known.
            self.put(id, key, |entry| {
                entry.now = None;
                if !maintains {
                    entry.sent = None;
                }
            });
        }
        if self.stop_joining(id).is_some() || maintains || self.materialized(id).is_some_and(|k| !k.waiting.is_empty())
        {
            self.settle_later(id);
        }
    }

    /// Settles at the engine's position, between two transactions.
    pub(super) fn settle_now(&mut self) {
        let source = |id: &FeedId| self.feed(*id).map(|f| f.plan.table().source.clone());
        let sources: BTreeSet<Arc<str>> = self.unsettled.iter().filter_map(|(_, id)| source(id)).collect();
        for source in sources {
            let progress = self.progress(&source);
            let position = progress.at.unwrap_or_default();
            self.settle(&source, Commit { term: progress.term(), position, at: self.clock });
        }
    }

    /// Lets every changed feed of a source fetch what it misses, or send. Sub-selects first.
    pub(super) fn settle(&mut self, source: &Arc<str>, commit: Commit) -> HashMap<FeedId, Tally> {
        let mut sent = HashMap::new();
        let mut stays = BTreeSet::new();
        let mut looked_at = 0;
        // In the middle of a transaction nothing is settled.
        let between = self.sources.get(source).is_none_or(|s| s.unfinished.is_none());
        if self.materialized_bytes > self.limits.sent_bytes.saturating_mul(2) {
            self.drop_all_left_feeds();
        }
        while let Some((level, id)) = self.unsettled.pop_first() {
            self.later.postponed.remove(&id);
            let Some(feed) = self.feed(id) else { continue };
            let Some(materialized) = feed.memory.materialized() else { continue };
            if !between || feed.plan.table().source != *source {
                stays.insert((level, id));
                continue;
            }
            if materialized.asks.is_some() && materialized.loaded && feed.joining.is_none() {
                self.ask_partners(id);
            }
            let Some(feed) = self.feed(id) else { continue };
            let Some(materialized) = feed.memory.materialized() else { continue };
            let lacks = !materialized.loaded || !materialized.missing.is_nothing() || self.lacks_partners(id);
            let answered = lacks || materialized.is_answered();
            let rows = materialized.dirty.len();
            let settled = self.subqueries_are_settled(materialized);
            let waits = feed.joining.is_some() || !settled || !answered;
            if lacks && self.is_left(id) {
                // Nothing is read for nobody.
                self.remove_feed(id);
                continue;
            }
            // Also where it waits: the stream goes on meanwhile.
            if let Some((largest, refusal)) = self.exceeded_limit(id, materialized) {
                self.fail_materialized(largest, &refusal);
                if largest != id && self.feed(largest).is_none() {
                    self.unsettled.insert((level, id));
                }
                continue;
            }
            if waits || lacks {
                self.cannot_send(id, commit, !lacks && !answered && settled);
            }
            if waits {
                // The feed that it waits for schedules it again.
                continue;
            }
            if lacks {
                self.fetch(id);
            } else if level == CLIENTS && rows > self.limits.large && looked_at > self.limits.large {
                self.postpone(id, commit);
            } else if level == CLIENTS {
                looked_at += rows;
                self.unfreeze(id);
                let tally = self.emit_difference(id, commit, None);
                // Nobody asks where nobody is observed.
                sent.extend(tally.filter(|_| !self.observed.is_empty()).map(|tally| (id, tally)));
            } else {
                self.update_set(id);
            }
        }
        self.unsettled = stays;
        sent
    }

    /// What holds now cannot be sent yet. Where partners are all that is `awaited`, what held at an earlier commit perhaps can be.
    fn cannot_send(&mut self, id: FeedId, commit: Commit, awaited: bool) {
        let withdraws = |m: &Materialized| m.revokes || m.is_subquery() && m.is_dirty();
        if self.materialized(id).is_some_and(withdraws) {
            // Unsent deltas with what was removed are discarded now.
            self.revoke_unsent(id);
        }
        self.note_untold(id, commit.position);
        self.send_up_to_unknown(id, commit, awaited);
    }

    /// Asks for the rows that are missing.
    pub(super) fn fetch(&mut self, id: FeedId) {
        if self.audit.as_ref().is_some_and(|a| a.feed == id) {
            // It would find these missing, in what is held or in what it has read.
            self.stop_audit();
        }
        self.forget_early(id);
        let next = self.next_snapshot;
        let (since, settled) = self.source_position(id);
        let of_partners = self.partners_to_read(id);
        let Engine { feeds, subquery_sets, tables, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        if let Some(missing) = of_partners {
            materialized.missing = missing;
        }
        let loaded = materialized.loaded;
        let held = materialized.held_in_order(&feed.plan);
        let window = materialized.window.as_mut();
        let request = match std::mem::take(&mut materialized.missing) {
            MissingRows::With(by_column) if loaded => {
                let values = by_column.into_iter().map(|(c, values)| (c, values.into_iter().collect()));
                let only = RowFilter::of_values(feed.plan.table(), values);
                let request = feed.plan.snapshot_of(only);
                SnapshotRequest { page: window.and_then(|w| w.held_page()), ..request }
            }
            missing => {
                let behind = loaded && missing.is_nothing();
                let page = window.map(|w| if behind { w.next_page(held) } else { w.first_page() });
                SnapshotRequest { page, ..feed.plan.snapshot(subquery_sets) }
            }
        };
        materialized.changed_since.clear();
        materialized.fetched.clear();
        materialized.fetched_bytes = 0;
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
        self.out.push(Output::FetchSnapshot { id: next, plan, request: Box::new(request) });
    }
}

impl Feed {
    /// Takes rows of a snapshot, and says how many there are of it now.
    pub(super) fn take_rows(&mut self, rows: Vec<Row>, subquery_sets: &SubquerySets) -> usize {
        match (&mut self.memory, &mut self.joining) {
            (Memory::Materialized(materialized), _) => {
                // What is found later in other tables is fetched then.
                if let Some(window) = &mut materialized.window {
                    rows.iter().for_each(|row| window.note_read(&self.plan, row));
                }
                let asked =
                    subquery_sets.asked.get(&self.plan.scan.description()).filter(|_| materialized.is_for_joins());
                let is_wanted = |row: &Row| asked.is_none_or(|asked| asked.wants(self.plan.table(), row));
                let wanted =
                    rows.into_iter().filter(|row| is_wanted(row) && self.plan.sees_at_any_time(row, subquery_sets));
                for row in wanted {
                    materialized.fetched_bytes += row.iter().map(Value::size).sum::<usize>();
                    materialized.fetched.push(row);
                }
                materialized.fetched.len()
            }
            (_, Some(joining)) => {
                joining.seam.rows(&self.plan, rows);
                joining.seam.len()
            }
            (_, None) => 0,
        }
    }

    /// Microseconds between two deltas, at least; 0 for one per transaction.
    pub(super) fn every(&self) -> Micros {
        self.pending.as_ref().map_or(0, |p| p.every())
    }

    /// What it is shared by.
    pub(super) fn shared_by(&self) -> (&Arc<EffectivePlan>, Micros) {
        (&self.plan, self.every())
    }

    /// All who hear it or wait for its result.
    pub(super) fn subscribers(&self) -> impl Iterator<Item = SubId> {
        self.live.as_slice().iter().copied().chain(self.waiting().iter().map(|(sub, _)| *sub))
    }

    /// Who waits for the whole result.
    pub(super) fn waiting(&self) -> &[(SubId, ResyncReason)] {
        match (self.memory.materialized(), &self.joining) {
            (Some(materialized), _) => &materialized.waiting,
            (None, Some(joining)) => &joining.waiting,
            (None, None) => &[],
        }
    }
}
