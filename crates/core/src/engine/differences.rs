//! What feeds that hold their rows send: the difference between what they sent last and what holds now.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::Engine;
use super::commit::Commit;
use super::frozen::{Frozen, FrozenRow};
use super::io::{Delta, Output, ResyncReason};
use super::materialized::{Changed, Held, Materialized, Seen};
use crate::audience::SubId;
use crate::explain::Tally;
use crate::feed::{self, Change};
use crate::index::FeedId;
use crate::operator::{Operators, Ties};
use crate::plan::{EffectivePlan, RowDelta, VisibleRow};
use crate::position::Position;
use crate::query::function::EvalError;
use crate::schema::{ByKey, Key, Row};
use crate::seam::ResultRows;

impl Engine {
    /// Sends subscribers the difference between what was sent last and what holds now, or what held at the earlier commit that was
    /// frozen, and a whole result to those who wait. Returns what was changed in the result; `None` if nothing was.
    pub(super) fn emit_difference(&mut self, id: FeedId, commit: Commit, frozen: Option<Frozen>) -> Option<Tally> {
        let materialized = self.materialized_mut(id)?;
        let (revokes, waited, frozen) = match frozen {
            Some(Frozen { revokes, waiting, rows, .. }) => (revokes, Some(waiting), Some(rows)),
            None => (std::mem::take(&mut materialized.revokes), None, None),
        };
        // What only waited for its time is of the last commit that changed it.
        let held = materialized.held.filter(|_| frozen.is_none() && !materialized.is_dirty());
        let changes = match self.changes_of_result(id, commit, revokes, frozen) {
            Ok(Some(changes)) => changes,
            // They wait for their time.
            Ok(None) => {
                self.materialized_mut(id)?.history.note_untold(commit.position);
                return Some(Tally::default());
            }
            Err(error) => {
                self.fail(id, error);
                return None;
            }
        };
        let tally = Tally::of(&changes);
        // Who came after that commit perhaps knows more already.
        let is_due = |sub: &SubId| waited.as_ref().is_none_or(|waited| waited.contains(sub));
        let waiting = self.materialized_mut(id).map(|m| m.waiting.extract_if(.., |(sub, _)| is_due(sub)).collect());
        let waiting: Vec<(SubId, ResyncReason)> = waiting.unwrap_or_default();
        let waits = self.feed(id).and_then(|f| f.pending.as_ref()).and_then(|p| p.due());
        self.paced.extend(waits.map(|due| (due, id)));
        let Commit { term, position, at } = commit;
        let at = held.map_or(at, |held| held.at);
        let plan = self.feed(id)?.plan.clone();
        let of = |feed| Delta { feed, term, position, at, changes, skipped: 0, revokes, more: false };
        let delta = (tally != Tally::default()).then(|| Arc::new(of(plan.clone())));
        self.note_told(id, position, delta.as_ref(), revokes);
        if self.feed(id).is_some_and(|f| !f.live.is_empty()) {
            if let Some(delta) = delta {
                self.emit(id, delta);
            } else if revokes {
                // What is unsent may contain what is withdrawn, even where nothing is left of the change.
                self.revoke_unsent(id);
            }
        }
        if !waiting.is_empty() {
            self.flush_pending(id);
            let rows = Arc::new(self.whole_result(id));
            self.feed_mut(id)?.live.extend(waiting.iter().map(|(s, _)| *s));
            self.fresh.extend(waiting.iter().map(|(s, _)| *s));
            self.out.push(Output::Result { to: waiting, feed: plan, rows, term, position });
        }
        (tally != Tally::default()).then_some(tally)
    }

    /// Notes that a commit may have changed the result, and is told later.
    pub(super) fn note_untold(&mut self, id: FeedId, position: Position) {
        let Some(materialized) = self.materialized_mut(id) else { return };
        materialized.history.note_untold(position);
        let frozen = materialized.asks.as_mut().and_then(|asks| asks.frozen.as_mut());
        if let Some(frozen) = frozen.filter(|frozen| position > frozen.commit.position) {
            frozen.changed_since.get_or_insert(position);
        }
    }

    /// Notes what is told, for those who come back.
    fn note_told(&mut self, id: FeedId, position: Position, delta: Option<&Arc<Delta>>, withdraws: bool) {
        let Engine { feeds, materialized_bytes, clock, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let Some(materialized) = feed.memory.materialized_mut().filter(|_| !feed.plan.changes_with_time) else {
            return;
        };
        let before = materialized.history.size();
        let (history, rows) = (&mut materialized.history, materialized.entries.len());
        history.note_told(position, delta, withdraws, (rows, *clock));
        let after = materialized.history.size();
        materialized.operator_bytes = materialized.operator_bytes + after - before;
        *materialized_bytes = *materialized_bytes + after - before;
    }

    /// The changes of the result since the last time; `None` if they wait for their time.
    fn changes_of_result(
        &mut self,
        id: FeedId,
        commit: Commit,
        revokes: bool,
        frozen: Option<ByKey<FrozenRow>>,
    ) -> Result<Option<Vec<Change>>, EvalError> {
        let is_frozen = frozen.is_some();
        let Some(plan) = self.feed(id).map(|f| f.plan.clone()) else { return Ok(Some(Vec::new())) };
        let changed = match frozen {
            Some(rows) => self.frozen_rows(id, rows),
            None => self.changed_rows(id)?,
        };
        if self.materialized(id).is_some_and(|m| m.operators.is_none()) {
            let between = |c: &Changed| feed::between(&plan, c.key.clone(), c.sent.clone(), c.now.clone());
            let changes = changed.iter().filter_map(between).collect();
            self.forget_told_if_nothing_waits(id);
            self.note_sent(id, changed);
            self.count_operators(id);
            return Ok(Some(changes));
        }
        self.arrange(id, &plan, changed)?;
        if self.reads_on(id, revokes) {
            self.count_operators(id);
            return Ok(None);
        }
        // What has changed since is not looked at yet.
        if !is_frozen && self.lets_go(id) {
            let changed = self.changed_rows(id)?;
            self.arrange(id, &plan, changed)?;
        }
        if self.waits_for_its_time(id, commit, revokes) {
            self.count_operators(id);
            return Ok(None);
        }
        let operators = self.materialized_mut(id).and_then(|m| m.operators.as_mut());
        let changes = operators.map_or(Ok(Vec::new()), |operators| operators.deliver(&plan))?;
        self.forget_told(id);
        self.count_operators(id);
        Ok(Some(changes))
    }

    /// Has a feed's operators take the rows that have changed.
    fn arrange(&mut self, id: FeedId, plan: &EffectivePlan, changed: Vec<Changed>) -> Result<(), EvalError> {
        if let Some(operators) = self.materialized_mut(id).and_then(|m| m.operators.as_mut()) {
            for Changed { key, sent, now } in &changed {
                operators.apply(plan, key.clone(), RowDelta { old: sent.clone(), new: now.clone() })?;
            }
            operators.settle(plan)?;
        }
        self.note_sent(id, changed);
        Ok(())
    }

    /// Reads on behind the rows of a window where too few are left: it is never shown with less than there is. What is
    /// withdrawn goes from what is unsent at once.
    fn reads_on(&mut self, id: FeedId, revokes: bool) -> bool {
        let Some(plan) = self.feed(id).map(|f| f.plan.clone()) else { return false };
        let Some(materialized) = self.materialized_mut(id).filter(|m| m.falls_short(&plan)) else { return false };
        materialized.revokes |= revokes;
        let is_full = materialized.told.is_full();
        if revokes || is_full {
            self.revoke_unsent(id);
        }
        if is_full {
            // They know nothing any more that is not written.
            self.forget_told(id);
        }
        self.fetch(id);
        true
    }

    /// Lets rows of a window go where far more are held than it needs. Returns whether any went.
    fn lets_go(&mut self, id: FeedId) -> bool {
        let Some(plan) = self.feed(id).map(|f| f.plan.clone()) else { return false };
        let Some(materialized) = self.materialized_mut(id) else { return false };
        let held = materialized.held_in_order(&plan);
        let (Some(window), Some(operators)) = (&mut materialized.window, &materialized.operators) else { return false };
        let end = window.end(held).and_then(|rank| operators.place(rank));
        let Some(end) = end.cloned() else { return false };
        window.cut(end);
        self.let_go_behind_boundary(id)
    }

    /// The rows that may have changed since the last time. Those that are in the result are known as sent from now on; of the
    /// others [`Engine::note_sent`] lets go.
    fn changed_rows(&mut self, id: FeedId) -> Result<Vec<Changed>, EvalError> {
        let Engine { feeds, subquery_sets, .. } = self;
        let feed = feeds.get_mut(id as usize).and_then(Option::as_mut);
        let Some((feed, materialized)) = feed.and_then(|f| Some((&f.plan, f.memory.materialized_mut()?))) else {
            return Ok(Vec::new());
        };
        let dirty = materialized.dirty.take();
        let (mut changed, mut left) = (Vec::with_capacity(dirty.len()), Vec::new());
        for (key, seen) in dirty {
            let Some(entry) = materialized.entries.get_mut(&key) else { continue };
            let of_entry = || Ok(entry.now.as_ref().map(|row| feed.see(row, subquery_sets)).transpose()?.flatten());
            let now = match seen {
                Seen::Known(seen) => {
                    debug_assert_eq!(Ok(&seen), of_entry().as_ref(), "{key:?}");
                    seen
                }
                Seen::OfEntry => of_entry()?,
            };
            // It failed with what other tables had before the end of the transaction: a row that is held is one that is in the result or
            // may come into it.
            let is_out = |row: &Row| !feed.sees_at_any_time(row, subquery_sets);
            if now.is_none() && entry.now.as_ref().is_some_and(is_out) {
                left.push(key.clone());
            }
            if now == entry.sent {
                continue;
            }
            let sent = match &now {
                // Its entry stays as large as it is.
                Some(_) => std::mem::replace(&mut entry.sent, now.clone()),
                None => entry.sent.clone(),
            };
            changed.push(Changed { key, sent, now });
        }
        for key in left {
            self.put_quietly(id, key, |entry| entry.now = None);
        }
        Ok(changed)
    }

    /// What is seen of the rows that may have changed since the last time, and are looked at with this. Lets go of those that are not in
    /// the result and will not come into it.
    pub(super) fn look_at_dirty(&mut self, id: FeedId) -> Result<Vec<(Key, Option<VisibleRow>)>, EvalError> {
        let Engine { feeds, subquery_sets, .. } = self;
        let feed = feeds.get_mut(id as usize).and_then(Option::as_mut);
        let Some((plan, materialized)) = feed.and_then(|f| Some((&f.plan, f.memory.materialized_mut()?))) else {
            return Ok(Vec::new());
        };
        let (mut seen, mut left) = (Vec::new(), Vec::new());
        for (key, _) in materialized.dirty.take() {
            let Some(entry) = materialized.entries.get(&key) else { continue };
            let now = entry.now.as_ref().map(|row| plan.see(row, subquery_sets)).transpose()?.flatten();
            if now.is_none() && entry.now.as_ref().is_some_and(|row| !plan.sees_at_any_time(row, subquery_sets)) {
                left.push(key.clone());
            }
            seen.push((key, now));
        }
        for key in left {
            self.put_quietly(id, key, |entry| entry.now = None);
        }
        Ok(seen)
    }

    /// The rows of a difference that was frozen. Those that are in the result are known as sent from now on, also where nothing is held of
    /// them any more.
    fn frozen_rows(&mut self, id: FeedId, rows: ByKey<FrozenRow>) -> Vec<Changed> {
        let mut changed = Vec::new();
        // In an order that a seed repeats.
        let rows: BTreeMap<Key, FrozenRow> = rows.into_iter().collect();
        for (key, row) in rows {
            let FrozenRow::Seen(now) = row else { continue };
            let Some(materialized) = self.materialized_mut(id) else { break };
            let entry = materialized.entries.get(&key);
            let sent = entry.and_then(|entry| entry.sent.clone());
            if entry.is_none() && now.is_some() {
                materialized.dirty.note(key.clone(), Seen::OfEntry);
            }
            if now == sent {
                continue;
            }
            if now.is_some() {
                self.put_quietly(id, key.clone(), |entry| entry.sent = now.clone());
            }
            changed.push(Changed { key, sent, now });
        }
        changed
    }

    /// Lets go of rows that are not in the result any more, and notes what subscribers know of those that changed.
    fn note_sent(&mut self, id: FeedId, changed: Vec<Changed>) {
        let Some(feed) = self.feed(id) else { return };
        let (plan, may_wait) = (feed.plan.clone(), feed.every() > 0);
        // Elsewhere they are told at once.
        let waits = |m: &Materialized| may_wait || m.told.holds_something() || m.falls_short(&plan);
        if let Some(materialized) = self.materialized_mut(id).filter(|m| waits(m)) {
            materialized.told.note(changed.iter().map(|c| (&c.key, c.sent.as_ref())));
        }
        for Changed { key, .. } in changed.into_iter().filter(|c| c.now.is_none()) {
            self.put_quietly(id, key, |entry| entry.sent = None);
        }
    }

    /// Begins anew to note what subscribers know of rows that change, where nothing waits that they are not told; if too many rows
    /// have changed, nothing waits any longer.
    fn forget_told_if_nothing_waits(&mut self, id: FeedId) {
        let Some(feed) = self.feed(id) else { return };
        if feed.memory.materialized().is_some_and(|m| m.told.is_full()) {
            self.flush_pending(id);
        } else if feed.pending.as_ref().is_none_or(|p| p.due().is_none()) {
            self.forget_told(id);
        }
    }

    /// Whether what the operators of a feed have to deliver waits, because its subscribers want time between two deltas.
    /// What is withdrawn never does.
    fn waits_for_its_time(&mut self, id: FeedId, commit: Commit, revokes: bool) -> bool {
        let clock = self.clock;
        let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) else { return false };
        let (every, has_live) = (feed.every(), !feed.live.is_empty());
        let Some(materialized) = feed.memory.materialized_mut() else { return false };
        let holds = materialized.operators.as_ref().is_some_and(|o| o.holds_something());
        let due = materialized.held.map_or(clock.saturating_add(every), |held| held.due);
        let may_wait = !revokes && materialized.waiting.is_empty() && !materialized.told.is_full();
        let waits = every > 0 && holds && has_live && may_wait && due > clock;
        if let Some(held) = materialized.held.take() {
            self.paced.remove(&(held.due, id));
        }
        if waits {
            materialized.held = Some(Held { due, at: commit.at });
            self.paced.insert((due, id));
        }
        waits
    }

    /// The whole result, as it was sent last.
    fn whole_result(&self, id: FeedId) -> ResultRows {
        let Some(materialized) = self.materialized(id) else { return Vec::new() };
        if let Some(operators) = &materialized.operators {
            return operators.result();
        }
        let sent = materialized.entries.iter().filter_map(|(key, entry)| Some((key.clone(), entry.sent.clone()?)));
        let mut rows: ResultRows = sent.collect();
        rows.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        rows
    }

    /// Keeps count of the memory that the operators of a feed take, and what waits for its time.
    pub(super) fn count_operators(&mut self, id: FeedId) {
        let Engine { feeds, materialized_bytes, .. } = self;
        let feed = feeds.get_mut(id as usize).and_then(Option::as_mut);
        let Some(materialized) = feed.and_then(|f| f.memory.materialized_mut()) else { return };
        let operators = materialized.operators.as_ref().map_or(0, |o| o.size());
        let asks = materialized.asks.as_ref().map_or(0, |asks| asks.size());
        let now = operators + materialized.told.size() + materialized.history.size() + asks;
        let before = std::mem::replace(&mut materialized.operator_bytes, now);
        *materialized_bytes = *materialized_bytes + now - before;
    }

    /// A feed's operators begin again, without a row: so do its subscribers.
    pub(super) fn reset_operators(&mut self, id: FeedId) {
        let ties = Ties::ByHash(self.order_key);
        let Some(feed) = self.feed_mut(id) else { return };
        let plan = feed.plan.clone();
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        materialized.operators = Operators::of(&plan, ties).map(Box::new);
        if let Some(held) = materialized.held.take() {
            self.paced.remove(&(held.due, id));
        }
        self.forget_told(id);
        self.count_operators(id);
    }

    /// Whether a feed whose result is a part of its rows shows any of these.
    pub(super) fn shows_any_of<'a>(&self, id: FeedId, mut keys: impl Iterator<Item = &'a Key>) -> bool {
        let operators = self.materialized(id).and_then(|m| m.operators.as_ref());
        operators.is_none_or(|operators| keys.any(|key| operators.shows(key)))
    }
}
