//! Joined results that wait for partners are sent in the order of commits: what has changed up to one commit is frozen and sent as of
//! that commit once its partners are known, however many more are asked for meanwhile. Partners are read as they are by then; those
//! that have changed since are taken as they were, by what the transactions in between say.
//!
//! Only waiting for partners is bridged so. What is withdrawn is not to be sent any more, and where a sub-select's set changes rights
//! are others: then the difference is formed anew, at the newest commit, as it is where a transaction in between does not say what a
//! partner was.

use std::collections::BTreeSet;

use super::Engine;
use super::as_of::AsOf;
use super::commit::Commit;
use super::frozen::{Frozen, FrozenRow, key_of_frozen};
use super::materialized::Seen;
use super::probe::{Probe, probe};
use crate::index::FeedId;
use crate::plan::EffectivePlan;
use crate::schema::{ByKey, Key};
use crate::subquery::{Partner, SubqueryResults as _};

/// What has become of a difference that is frozen.
enum Thawed {
    /// Some of its partners are not known yet.
    Waits,
    /// All of them are.
    Known,
    /// What some were cannot be known any more.
    Lost,
}

impl Engine {
    /// Goes on with a feed that cannot send what holds now: sends what was frozen, if its partners are known by now, and freezes what
    /// has changed since, if partners are all that is `awaited`.
    pub(super) fn send_up_to_unknown(&mut self, id: FeedId, commit: Commit, awaited: bool) {
        if self.frozen(id).is_some() {
            match self.thaw(id) {
                Thawed::Waits => return,
                Thawed::Known => self.emit_frozen(id),
                Thawed::Lost => self.unfreeze(id),
            }
        }
        if awaited && self.feed(id).is_some_and(|f| f.joining.is_none() && !f.plan.depends_on_time) {
            self.freeze(id, commit);
        }
    }

    fn frozen(&self, id: FeedId) -> Option<&Frozen> {
        self.materialized(id).and_then(|m| m.frozen())
    }

    fn take_frozen(&mut self, id: FeedId) -> Option<Frozen> {
        let frozen = *self.materialized_mut(id)?.asks.as_mut()?.frozen.take()?;
        self.set_asks(id, key_of_frozen(), Vec::new());
        Some(frozen)
    }

    fn freeze(&mut self, id: FeedId, commit: Commit) {
        let seen = match self.look_at_dirty(id) {
            Ok(seen) => seen,
            Err(error) => return self.fail(id, error),
        };
        let Some(materialized) = self.materialized_mut(id) else { return };
        let Some(asks) = &mut materialized.asks else { return };
        if seen.is_empty() && materialized.waiting.is_empty() {
            return;
        }
        let mut rows = ByKey::default();
        for (key, seen) in seen {
            let waits = asks.of.get(&key).is_some_and(|of| of.iter().any(|asked| asks.unknown.contains(asked)));
            let row = materialized.entries.get(&key).and_then(|entry| entry.now.clone()).filter(|_| waits);
            rows.insert(key, (seen, row));
        }
        let waiting = materialized.waiting.iter().map(|(sub, _)| *sub).collect();
        let revokes = std::mem::take(&mut materialized.revokes);
        let Engine { feeds, subquery_sets, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let freeze = |(key, (seen, row)): (Key, (_, Option<_>))| {
            let own = row.as_ref().and_then(|row| feed.plan.scan.admit(row, subquery_sets));
            let own = own.map(|admitted| admitted.into_visible());
            let frozen = match (row, own) {
                (Some(row), Some(own)) => FrozenRow::Waits { row, own },
                _ => FrozenRow::Seen(seen),
            };
            (key, frozen)
        };
        let rows = rows.into_iter().map(freeze).collect();
        let frozen = Frozen { commit, rows, revokes, waiting, known: 0, changed_since: None };
        if let Some(asks) = feed.memory.materialized_mut().and_then(|m| m.asks.as_mut()) {
            asks.frozen = Some(Box::new(frozen));
        }
        self.count_operators(id);
        // It asks for itself from now on: its rows may change, and then ask for others.
        if matches!(self.thaw(id), Thawed::Known) {
            self.emit_frozen(id);
        }
    }

    /// Looks at the rows that waited for partners, as these were.
    fn thaw(&mut self, id: FeedId) -> Thawed {
        let Engine { feeds, subquery_sets, window, sources, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return Thawed::Lost };
        let plan = feed.plan.clone();
        let source = &plan.table().source;
        let Some(asks) = feed.memory.materialized_mut().and_then(|m| m.asks.as_mut()) else { return Thawed::Lost };
        let Some(frozen) = &mut asks.frozen else { return Thawed::Lost };
        let asked = asks.of.get(&key_of_frozen()).map(|asked| &asked[..]).unwrap_or_default();
        let mut rest = asked.iter().skip(frozen.known);
        if let Some(n) = rest.position(|place| asks.unknown.contains(place)) {
            frozen.known += n;
            return Thawed::Waits;
        }
        frozen.known = 0;
        let at = frozen.commit.position;
        if sources.get(source).is_none_or(|state| state.remembered > at) {
            return Thawed::Lost;
        }
        let since = window.iter().rev().filter(|(of, _)| of == source).map(|(_, t)| &**t);
        let as_of = AsOf::before(subquery_sets, since.take_while(|t| t.position > at), |d| joins(&plan, d));
        let mut asked: Vec<(usize, Probe, Key)> = Vec::new();
        for frozen in frozen.rows.values_mut() {
            let FrozenRow::Waits { row, .. } = frozen else { continue };
            let wanted = plan.partners_of(row, &as_of);
            let Some(joins) = &plan.joins else { return Thawed::Lost };
            let scan = |side: usize| joins.sides().get(side).map(|side| side.scan());
            let is_unknown = |(side, key): &(usize, Key)| {
                scan(*side).is_none_or(|scan| as_of.partner(scan.description(), key) == Partner::Unknown)
            };
            let cannot_be_told = |(side, key): &(usize, Key)| {
                let changed = scan(*side).and_then(|scan| Some((scan, as_of.changed(scan.description(), key)?)));
                changed.is_some_and(|(scan, partner)| !partner.can_be_told(scan, &as_of))
            };
            if wanted.iter().any(cannot_be_told) {
                return Thawed::Lost;
            }
            if wanted.iter().any(is_unknown) {
                asked.extend(wanted.into_iter().filter_map(|(side, key)| Some((side, probe(&key)?, key))));
                continue;
            }
            match plan.see(row, &as_of) {
                Ok(seen) => *frozen = FrozenRow::Seen(seen),
                // Where it fails is found out when it is sent.
                Err(_) => return Thawed::Lost,
            }
        }
        asked.sort_unstable_by(|a, b| (a.0, &a.1).cmp(&(b.0, &b.1)));
        asked.dedup_by(|a, b| (a.0, &a.1) == (b.0, &b.1));
        let is_known = asked.is_empty();
        self.set_asks(id, key_of_frozen(), asked);
        if is_known { Thawed::Known } else { Thawed::Waits }
    }

    fn emit_frozen(&mut self, id: FeedId) {
        let Some(frozen) = self.take_frozen(id) else { return };
        let (commit, changed_since) = (frozen.commit, frozen.changed_since);
        self.emit_difference(id, commit, Some(frozen));
        if let (Some(since), Some(materialized)) = (changed_since, self.materialized_mut(id)) {
            materialized.history.note_untold(since);
        }
    }

    /// Has what was frozen sent with what has changed since, at a later commit.
    pub(super) fn unfreeze(&mut self, id: FeedId) {
        let Some(Frozen { rows, revokes, .. }) = self.take_frozen(id) else { return };
        let Some(materialized) = self.materialized_mut(id) else { return };
        materialized.revokes |= revokes;
        let mut keys: BTreeSet<Key> = rows.into_keys().collect();
        keys.retain(|key| materialized.entries.contains_key(key));
        keys.into_iter().for_each(|key| materialized.dirty.note(key, Seen::OfEntry));
        self.count_operators(id);
        self.settle_later(id);
    }
}

/// Whether a plan joins the table of this description.
fn joins(plan: &EffectivePlan, description: u64) -> bool {
    let sides = plan.joins.iter().flat_map(|joins| joins.sides());
    sides.map(|side| side.scan().description()).any(|of| of == description)
}
