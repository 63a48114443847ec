//! Rows of other tables that joined results look for: each table is read by a feed of its own, only the rows that are asked for,
//! once for all who ask, raw; what each may see of them is up to the plan that asks.
//!
//! A key that is asked for stays registered as long as somebody asks, whether there is a row under it or not: so a row that comes later
//! reaches those who miss it. A result is not sent while a row that it asks for is not known yet: nobody is shown that there is none
//! where it is merely late.

use std::collections::BTreeSet;

use super::Engine;
use super::asked::{Asked, AskedRow, size};
use super::io::Refusal;
use super::materialized::{Materialized, MissingRows, Seen};
use super::probe::{Probe, probe};
use super::serves::Serves;
use crate::audience::SubId;
use crate::index::FeedId;
use crate::plan::{EffectivePlan, LiveQuery, Project};
use crate::position::{Old, RowChange};
use crate::query::Expr;
use crate::query::expr::Grant;
use crate::schema::{Key, Row};

impl Engine {
    /// The table that a feed joins at a place.
    fn joined_table(&self, id: FeedId, side: usize) -> Option<u64> {
        let joins = self.feed(id)?.plan.joins.as_ref()?;
        Some(joins.sides().get(side)?.scan().description())
    }

    /// Has what a joined feed asks for follow from its rows: those that have changed are looked at again, and not all that wait.
    pub(super) fn ask_partners(&mut self, id: FeedId) {
        let Some(materialized) = self.materialized_mut(id) else { return };
        let Some(asks) = &mut materialized.asks else { return };
        for key in std::mem::take(&mut asks.changed) {
            self.ask_for(id, key);
        }
    }

    fn ask_for(&mut self, id: FeedId, key: Key) {
        let Engine { feeds, subquery_sets, .. } = self;
        let Some(feed) = feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let Some(materialized) = feed.memory.materialized_mut() else { return };
        let row = materialized.entries.get(&key).and_then(|entry| entry.now.as_ref());
        let wanted = row.map(|row| feed.plan.partners_of(row, subquery_sets)).unwrap_or_default();
        let mut now: Vec<(usize, Probe, Key)> = Vec::new();
        now.extend(wanted.into_iter().filter_map(|(side, key)| Some((side, probe(&key)?, key))));
        if self.set_asks(id, key.clone(), now)
            && let Some(materialized) = self.materialized_mut(id)
        {
            // Of what had happened to these before, it was not told.
            materialized.dirty.note(key, Seen::OfEntry);
        }
    }

    /// Has what is asked for under the key of a row be this from now on. Returns whether it was something else.
    pub(super) fn set_asks(&mut self, id: FeedId, key: Key, now: Vec<(usize, Probe, Key)>) -> bool {
        let most = self.limits.fan_out;
        let Some(asks) = self.materialized_mut(id).and_then(|m| m.asks.as_mut()) else { return false };
        let is_same = |before: &[(usize, Probe)]| {
            before.len() == now.len()
                && before.iter().zip(&now).all(|((s, p), (side, probe, _))| s == side && p == probe)
        };
        if asks.of.get(&key).map_or(now.is_empty(), |before| is_same(before)) {
            return false;
        }
        let mut too_many = None;
        let before = asks.of.remove(&key).unwrap_or_default();
        let (mut come, mut gone) = (Vec::new(), Vec::new());
        for (side, probe) in &before {
            if now.iter().any(|(s, p, _)| s == side && p == probe) {
                continue;
            }
            let place = (*side, probe.clone());
            let is_last = asks.by.get_mut(&place).is_some_and(|rows| rows.remove(&key) && rows.is_empty());
            if is_last {
                asks.by.remove(&place);
                asks.unknown.remove(&place);
                gone.push(place);
            }
        }
        for (side, probe, wanted) in &now {
            let rows = asks.by.entry((*side, probe.clone())).or_default();
            if rows.is_empty() {
                come.push((*side, probe.clone(), wanted.clone()));
            }
            rows.insert(key.clone());
            // What is frozen asks for them, too.
            let frozen = usize::from(rows.first().is_some_and(|key| key.is_empty()));
            if rows.len() - frozen > most {
                too_many = Some(*side);
            }
        }
        if !now.is_empty() {
            asks.of.insert(key, now.into_iter().map(|(side, probe, _)| (side, probe)).collect());
        }
        // What is asked for now first, so that a table is not let go and begun again.
        come.into_iter().for_each(|(side, probe, key)| self.ask(id, side, probe, key));
        gone.into_iter().for_each(|(side, probe)| self.ask_no_more(id, side, &probe));
        if let Some(side) = too_many {
            self.close_for_fan_out(id, side);
        }
        true
    }

    /// Closes a feed that has too many rows with the same partner in a table that it joins.
    fn close_for_fan_out(&mut self, id: FeedId, side: usize) {
        let joins = self.feed(id).and_then(|f| f.plan.joins.as_ref());
        let Some(side) = joins.and_then(|joins| joins.sides().get(side)) else { return };
        let (table, most) = (&side.scan().table().name, self.limits.fan_out);
        let text =
            format!("rows of one result with the same row of {table} beside them, at most {most}; narrow the query");
        self.fail_materialized(id, &Refusal::Limit(text));
    }

    /// Asks for one row of a table that a feed joins.
    fn ask(&mut self, id: FeedId, side: usize, probe: Probe, key: Key) {
        let Some(description) = self.joined_table(id, side) else { return };
        if !self.subquery_sets.asked.contains_key(&description) {
            let joins = self.feed(id).and_then(|f| f.plan.joins.as_ref());
            let Some(table) = joins.and_then(|j| j.sides().get(side)).map(|s| s.scan().table().clone()) else { return };
            let columns = table.all_columns();
            let project = Project::Columns(columns.iter().collect());
            let query = LiveQuery { table, joins: [].into(), condition: Expr::always(), arrange: None, project };
            let plan = EffectivePlan::new(query, vec![Grant::of_rows(Expr::always(), columns)], Vec::new());
            let feed = self.new_feed(plan.into(), 0, Serves::Joins);
            self.subquery_sets.asked.insert(description, Asked::new(feed));
        }
        let Engine { subquery_sets, materialized_bytes, .. } = self;
        let Some(asked) = subquery_sets.asked.get_mut(&description) else { return };
        let feed = asked.feed;
        let mut added = 0;
        let row = asked.rows.entry(probe.clone()).or_insert_with(|| {
            let row = AskedRow { key, known: None, by: BTreeSet::new() };
            added = size(&row);
            row
        });
        row.by.insert((id, side));
        let is_known = row.known.is_some();
        if !is_known {
            asked.want(id, &probe);
        }
        asked.bytes += added;
        *materialized_bytes += added;
        if !is_known && let Some(asks) = self.materialized_mut(id).and_then(|m| m.asks.as_mut()) {
            asks.unknown.insert((side, probe));
        }
        if !is_known {
            self.settle_later(feed);
        }
    }

    fn ask_no_more(&mut self, id: FeedId, side: usize, probe: &Probe) {
        let Some(description) = self.joined_table(id, side) else { return };
        self.release_partner(description, (id, side), probe);
    }

    /// Releases what a feed has asked for of a table that it joins at a place.
    pub(super) fn release_partner(&mut self, description: u64, by: (FeedId, usize), probe: &Probe) {
        let Engine { subquery_sets, materialized_bytes, .. } = self;
        let Some(asked) = subquery_sets.asked.get_mut(&description) else { return };
        let Some(row) = asked.rows.get_mut(probe) else { return };
        row.by.remove(&by);
        let is_left = row.by.is_empty();
        if !row.by.iter().any(|(other, _)| *other == by.0) {
            asked.want_no_more(by.0, probe);
        }
        if !is_left {
            return;
        }
        let Some(row) = asked.rows.get(probe) else { return };
        let freed = size(row);
        asked.rows.remove(probe);
        asked.unread.remove(probe);
        asked.reading.remove(probe);
        asked.bytes -= freed;
        *materialized_bytes -= freed;
        if asked.rows.is_empty() {
            let feed = asked.feed;
            self.subquery_sets.asked.remove(&description);
            self.remove_feed(feed);
        }
    }

    /// The description of the table whose rows a feed reads for others.
    fn read_for_joins(&self, id: FeedId) -> Option<u64> {
        let feed = self.feed(id).filter(|f| f.memory.materialized().is_some_and(Materialized::is_for_joins))?;
        Some(feed.plan.scan.description())
    }

    /// The feeds that ask for rows that a feed reads.
    pub(super) fn askers(&self, id: FeedId) -> BTreeSet<FeedId> {
        let asked = self.read_for_joins(id).and_then(|of| self.subquery_sets.asked.get(&of));
        asked.iter().flat_map(|a| a.rows.values()).flat_map(|row| row.by.iter().map(|(id, _)| *id)).collect()
    }

    /// The subscriptions that depend on a feed and wait for it: all of them, unless it reads rows for others, who may know theirs.
    pub(super) fn dependents_that_wait(&self, id: FeedId) -> Vec<SubId> {
        if self.read_for_joins(id).is_none() {
            return self.dependents(id);
        }
        let waits = |asker: &FeedId| self.materialized(*asker).is_some_and(|m| !m.is_answered());
        self.askers(id).into_iter().filter(waits).flat_map(|asker| self.dependents(asker)).collect()
    }

    /// What is missing of the rows that are asked for, to be read now.
    pub(super) fn partners_to_read(&mut self, id: FeedId) -> Option<MissingRows> {
        let description = self.read_for_joins(id)?;
        let column = *self.feed(id)?.plan.table().key.first()?;
        let asked = self.subquery_sets.asked.get_mut(&description)?;
        let mut missing = MissingRows::Nothing;
        missing.add(column, asked.next_to_read().iter().filter_map(|key| key.first().cloned()));
        Some(missing)
    }

    /// A read has failed: what is still asked for of it is read the next time.
    pub(super) fn read_partners_again(&mut self, id: FeedId) {
        let Some(description) = self.read_for_joins(id) else { return };
        let Some(asked) = self.subquery_sets.asked.get_mut(&description) else { return };
        for probe in std::mem::take(&mut asked.reading) {
            let by = asked.rows.get(&probe).map(|row| row.by.clone()).unwrap_or_default();
            by.into_iter().for_each(|(by, _)| asked.want(by, &probe));
        }
        if !asked.unread.is_empty() {
            self.settle_later(id);
        }
    }

    /// Whether rows are asked for that are neither known nor being read.
    pub(super) fn lacks_partners(&self, id: FeedId) -> bool {
        let asked = self.read_for_joins(id).and_then(|of| self.subquery_sets.asked.get(&of));
        asked.is_some_and(|asked| !asked.unread.is_empty())
    }

    /// The rows that were asked for have been read: those that are not among them are not there.
    pub(super) fn partners_read(&mut self, id: FeedId, rows: Vec<Row>) {
        let Some(description) = self.read_for_joins(id) else { return };
        let Some(table) = self.feed(id).map(|f| f.plan.table().clone()) else { return };
        let Engine { subquery_sets, materialized_bytes, .. } = self;
        let Some(asked) = subquery_sets.asked.get_mut(&description) else { return };
        let before = asked.bytes;
        let mut told: Vec<Probe> = asked.reading.iter().cloned().collect();
        // In an order that a seed repeats.
        told.sort_unstable();
        for row in rows {
            // What the stream has told since is newer, and not among these any more.
            if let Some(probe) = probe(&table.key_of(&row)).filter(|probe| asked.reading.contains(probe)) {
                asked.learn(&probe, Some(row));
            }
        }
        for probe in std::mem::take(&mut asked.reading) {
            asked.learn(&probe, None);
        }
        *materialized_bytes = *materialized_bytes + asked.bytes - before;
        told.iter().for_each(|probe| self.tell_askers(description, probe));
    }

    /// A change of a table that is joined.
    pub(super) fn take_partner_change(&mut self, id: FeedId, change: &RowChange) {
        let Some(description) = self.read_for_joins(id) else { return };
        let Some(probe) = probe(&change.key) else { return };
        let Some(asked) = self.subquery_sets.asked.get_mut(&description) else { return };
        let Some(row) = asked.rows.get(&probe) else { return };
        // Of what was not known yet it is known now what it was.
        let old = row.known.clone().or_else(|| match &change.old {
            Old::Known(was) => Some(was.clone()),
            Old::Unknown => None,
        });
        let by = row.by.clone();
        let mut new = change.new.clone();
        if let Some(row) = new.as_mut().filter(|_| !change.omitted_columns.is_empty()) {
            match old.as_ref().and_then(Option::as_ref) {
                Some(before) => {
                    let value = |i: usize| if change.omitted_columns.contains(i) { &before[i] } else { &row[i] };
                    *row = (0..row.len()).map(|i| value(i).clone()).collect();
                }
                None => return self.forget_partner(description, &probe),
            }
        }
        let before = asked.bytes;
        asked.learn(&probe, new.clone());
        self.materialized_bytes = self.materialized_bytes + asked.bytes - before;
        let Engine { feeds, subquery_sets, .. } = self;
        for (feed, side) in by {
            let Some(feed) = feeds.get_mut(feed as usize).and_then(Option::as_mut) else { continue };
            let plan = feed.plan.clone();
            let Some(side) = plan.joins.as_ref().and_then(|j| j.sides().get(side)) else { continue };
            let was = old.as_ref().and_then(Option::as_ref).and_then(|row| side.scan().admitted(row, subquery_sets));
            let hides =
                |row: &Row| was.as_ref().is_some_and(|was| side.scan().shows_less(Some(was), row, subquery_sets));
            if let Some(materialized) = feed.memory.materialized_mut() {
                materialized.revokes |= new.as_ref().is_some_and(hides);
            }
        }
        self.tell_askers(description, &probe);
    }

    /// A row has changed, and some of its values are not known: it is read.
    fn forget_partner(&mut self, description: u64, probe: &Probe) {
        let Some(asked) = self.subquery_sets.asked.get_mut(&description) else { return };
        let Some(row) = asked.rows.get_mut(probe) else { return };
        row.known = None;
        // The read under way may be of before.
        asked.reading.remove(probe);
        let (feed, by) = (asked.feed, row.by.clone());
        by.iter().for_each(|(by, _)| asked.want(*by, probe));
        for (asker, side) in by {
            let Some(materialized) = self.materialized_mut(asker) else { continue };
            let Some(asks) = &mut materialized.asks else { continue };
            let place = (side, probe.clone());
            for key in asks.by.get(&place).into_iter().flatten().filter(|key| !key.is_empty()) {
                materialized.dirty.note(key.clone(), Seen::OfEntry);
            }
            asks.unknown.insert(place);
        }
        self.settle_later(feed);
    }

    /// Reads all rows anew that are asked for; those who ask wait.
    pub(super) fn forget_partners(&mut self, id: FeedId) {
        let Some(description) = self.read_for_joins(id) else { return };
        self.stop_joining(id);
        // What waits as of an earlier commit cannot be told any more. Perhaps nobody else asks.
        let askers = self.askers(id);
        askers.into_iter().for_each(|asker| self.unfreeze(asker));
        let Some(asked) = self.subquery_sets.asked.get_mut(&description) else { return };
        let mut keys: Vec<Probe> = Vec::new();
        for (probe, row) in &mut asked.rows {
            row.known = None;
            keys.push(probe.clone());
        }
        asked.reading.clear();
        let bytes: usize = asked.rows.values().map(size).sum();
        let before = std::mem::replace(&mut asked.bytes, bytes);
        self.materialized_bytes = self.materialized_bytes + bytes - before;
        keys.sort_unstable();
        for probe in keys {
            self.forget_partner(description, &probe);
        }
    }

    /// The bytes of the rows that a feed asks for, about.
    pub(super) fn bytes_of_partners(&self, materialized: &Materialized) -> usize {
        let Some(asks) = &materialized.asks else { return 0 };
        let all = self.subquery_sets.asked.values();
        let (bytes, rows) = all.fold((0, 0), |(bytes, rows), a| (bytes + a.bytes, rows + a.rows.len()));
        asks.by.len() * (bytes / rows.max(1))
    }

    /// Has all rows looked at again that have this partner.
    fn tell_askers(&mut self, description: u64, probe: &Probe) {
        let asked = self.subquery_sets.asked.get(&description);
        let by = asked.and_then(|a| a.rows.get(probe)).map(|row| row.by.clone()).unwrap_or_default();
        for (id, side) in by {
            let Some(feed) = self.feed_mut(id) else { continue };
            // What is looked for by way of it is another one now, perhaps.
            let leads_on = feed.plan.joins.as_ref().is_some_and(|joins| side + 1 < joins.sides().len());
            let Some(materialized) = feed.memory.materialized_mut() else { continue };
            let Some(asks) = &mut materialized.asks else { continue };
            let place = (side, probe.clone());
            asks.unknown.remove(&place);
            for key in asks.by.get(&place).into_iter().flatten().filter(|key| !key.is_empty()) {
                if leads_on {
                    asks.changed.insert(key.clone());
                }
                materialized.dirty.note(key.clone(), Seen::OfEntry);
            }
            self.settle_later(id);
        }
    }
}
