//! The source, its reader and the relay of its intervals.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use gossip_core::plan::SnapshotRequest;
use gossip_core::position::{
    CommitTime, Interval, Old, Position, Reset, ResetReason, RowChange, SnapshotPoint, Transaction, Visibility, fold,
};
use gossip_core::schema::{ColumnSet, Identified, Key, Row, TableName};
use gossip_core::value::Value;
use rand::Rng;
use rand::rngs::StdRng;

use crate::client::id_of;
use crate::world::{Plain, TABLES, changed, has_secret, table, table as table_of, to_row};
use crate::{Cluster, Hidden};

/// A value of a row that is too large to stand in every change of it.
fn large(row: Option<&Plain>) -> Option<i64> {
    match row {
        Some(Plain::Call((.., note))) => note.filter(|n| *n > 2),
        _ => None,
    }
}

impl Cluster {
    fn old(&self, (_, id): (usize, i64), row: Option<Plain>) -> Old {
        if self.old_values { Old::Known(row.map(|p| to_row(id, &p, self.altered))) } else { Old::Unknown }
    }

    fn came_in(&mut self, (which, id): (usize, i64)) {
        if which == 0 {
            self.came.insert(id, self.head);
        }
    }

    /// A change of a row as the stream tells it, perhaps without what is large in it.
    fn told(&self, (which, id): (usize, i64), old: Old, new: Option<Plain>, leaves_out: bool) -> RowChange {
        let mut row = new.map(|p| to_row(id, &p, self.altered).to_vec());
        let note = 4 + usize::from(has_secret(self.altered));
        let omitted_columns: ColumnSet =
            [note].into_iter().filter(|_| leaves_out && large(new.as_ref()).is_some()).collect();
        for i in omitted_columns.iter() {
            row.iter_mut().for_each(|r| r[i] = Value::Null);
        }
        let (table, key) = (TableName::plain(TABLES[which]), [Value::Int(id)].into());
        let description = table_of(which, self.old_values, self.altered).identity();
        RowChange { table, description, key, old, new: row.map(Into::into), omitted_columns }
    }

    pub fn write(&mut self) {
        let mut changes = Vec::new();
        self.head = Position::at(self.head.commit + self.rng.random_range(2..5));
        let mut before = BTreeMap::new();
        for _ in 0..self.rng.random_range(1..5) {
            let which = [0, 0, 0, 1, 1, 2][self.rng.random_range(0..6)];
            let any = |rng: &mut StdRng| (which, rng.random_range(0..[12, 6, 4][which]));
            let (id, other) = (any(&mut self.rng), any(&mut self.rng));
            if self.hidden.iter().any(|h| h.before.contains_key(&id) || h.before.contains_key(&other)) {
                continue;
            }
            let old = self.rows.get(&id).copied();
            before.entry(id).or_insert(old);
            if old.is_some() && !self.rows.contains_key(&other) && self.rng.random_bool(0.2) {
                // It gets another key, and nothing else changes.
                before.entry(other).or_insert(None);
                self.rows.remove(&id);
                self.rows.extend(old.map(|p| (other, p)));
                self.came_in(other);
                changes.push(self.told(id, self.old(id, old), None, false));
                changes.push(self.told(other, Old::Known(None), old, self.leaves_out));
                continue;
            }
            let new = changed(which, old.as_ref(), &mut self.rng);
            if old.is_none() {
                self.came_in(id);
            }
            match &new {
                Some(p) => drop(self.rows.insert(id, *p)),
                None => drop(self.rows.remove(&id)),
            }
            let as_it_was = large(old.as_ref()) == large(new.as_ref());
            changes.push(self.told(id, self.old(id, old), new, self.leaves_out && old.is_some() && as_it_was));
        }
        let emptied = self.rng.random_range(0..TABLES.len());
        let locked = self.hidden.iter().any(|h| h.before.keys().any(|(which, _)| *which == emptied));
        let mut at_once = false;
        if !self.joins && !locked && self.rng.random_bool(0.03) {
            // What it had told of the table before stays in the stream.
            at_once = true;
            self.rows.retain(|(which, _), _| *which != emptied);
            let table = Some(table(emptied, self.old_values, self.altered));
            let reset = Reset { name: TableName::plain(TABLES[emptied]), table, why: ResetReason::Truncated };
            self.emptied.insert((self.head, reset.name.clone()));
            self.resets.insert(self.head, reset);
        } else if !self.joins && self.hidden.is_empty() && self.rng.random_bool(0.03) {
            // What the transaction did before that has the shape of before.
            at_once = true;
            self.altered += 1;
            let table = Some(table(0, self.old_values, self.altered));
            let reset = Reset { name: TableName::plain(TABLES[0]), table, why: ResetReason::SchemaChanged };
            self.emptied.insert((self.head, reset.name.clone()));
            self.resets.insert(self.head, reset);
        }
        let changes = fold(changes);
        let committed = CommitTime { from: 0, to: 0 };
        let mut number = 0;
        if self.by_visibility {
            // Numbers are given out in another order than transactions end.
            let open = |number: &u64| self.hidden.iter().all(|h| h.number != *number);
            let open: Vec<u64> = self.running.iter().copied().filter(open).collect();
            number = open[self.rng.random_range(0..open.len())];
            self.running.insert(self.next_number);
            self.next_number += 1;
            let delay = if self.rng.random_bool(0.3) && !at_once { self.rng.random_range(1..25) } else { 0 };
            self.hidden.push(Hidden { until: self.step + delay, number, position: self.head, before });
        }
        self.unread.push(Arc::new(Transaction {
            position: self.head,
            committed,
            number,
            inexact_after: None,
            changes,
        }));
        self.history.insert(self.head, self.rows.clone());
    }

    pub fn reveal(&mut self, all: bool) {
        let step = self.step;
        let running = &mut self.running;
        self.hidden.retain(|h| {
            let stays = h.until > step && !all;
            if !stays {
                running.remove(&h.number);
            }
            stays
        });
    }

    /// What a snapshot taken now shows, and its rows: those that are wanted, with nothing in the columns that are not.
    pub fn snapshot(&self, request: &SnapshotRequest) -> (SnapshotPoint, Vec<Row>) {
        let mut rows = self.rows.clone();
        for (id, before) in self.hidden.iter().flat_map(|h| &h.before) {
            match before {
                Some(p) => drop(rows.insert(*id, *p)),
                None => drop(rows.remove(id)),
            }
        }
        let which = TABLES.iter().position(|t| *t == &*request.table.name.name).unwrap();
        let rows =
            rows.iter().filter(|((table, _), _)| *table == which).map(|((_, id), p)| to_row(*id, p, self.altered));
        let SnapshotRequest { columns, filter, page, .. } = request;
        let wanted = |row: &Row| filter.as_ref().is_none_or(|filter| crate::wanted::is_wanted(filter, row));
        let value = |(i, v): (usize, &Value)| if columns.contains(i) { v.clone() } else { Value::Null };
        let rows: Vec<Row> = rows.filter(wanted).map(|row| row.iter().enumerate().map(value).collect()).collect();
        let rows = page.iter().fold(rows, |rows, page| crate::page::page(page, rows));
        if !self.by_visibility {
            return (SnapshotPoint::UpTo(self.head), rows);
        }
        let running: Vec<u64> = self.running.iter().copied().collect();
        let all_below = running.first().copied().unwrap_or(self.next_number);
        (
            SnapshotPoint::Visible(Arc::new(Visibility { all_below, none_from: self.next_number, running }), self.head),
            rows,
        )
    }

    /// Some transactions in parts, each part in an interval of its own. Which and how depends only on the log, so that
    /// a part is the same whoever reads it.
    fn in_parts(interval: Interval) -> Vec<Interval> {
        let mut intervals = Vec::new();
        let mut from = interval.from;
        let mut next = Interval { transactions: vec![], ..interval.clone() };
        for t in interval.transactions {
            if t.inexact_after.is_some() || t.changes.len() < 2 || t.position.commit % 3 > 0 || t.position.index > 0 {
                next.transactions.push(t);
                continue;
            }
            let (last, first) = t.changes.split_last().unwrap();
            let part =
                |position, change: &RowChange| Transaction { position, changes: vec![change.clone()], ..(*t).clone() };
            for (i, change) in first.iter().enumerate() {
                let position = Position::part(t.position.commit, i as u32 + 1);
                next.transactions.push(Arc::new(part(position, change)));
                let done = Interval { from, to: position, resets: vec![], ..next.clone() };
                (from, next.transactions) = (position, vec![]);
                intervals.push(done);
            }
            next.transactions.push(Arc::new(part(t.position, last)));
        }
        intervals.push(Interval { from, ..next });
        intervals
    }

    /// What a reader says that sees only the states before and after.
    fn join_transactions(&self, interval: &mut Interval) {
        let Some(last) = interval.transactions.last() else { return };
        let touched =
            |t: &Arc<Transaction>| t.changes.iter().map(|c| (c.table.clone(), c.key.clone())).collect::<Vec<_>>();
        let touched: BTreeSet<(TableName, Key)> = interval.transactions.iter().flat_map(touched).collect();
        let change = |(name, key): (TableName, Key)| {
            let which = TABLES.iter().position(|t| *t == &*name.name).unwrap();
            let id = id_of(&key);
            let row = |at| self.history[&at].get(&(which, id)).map(|p| to_row(id, p, self.altered));
            let (old, new) = (Old::Known(row(interval.from)), row(interval.to));
            RowChange::of(&Identified::new(table_of(which, self.old_values, self.altered)), key, old, new)
        };
        let changes = touched.into_iter().map(change).collect();
        let joined = Transaction { inexact_after: Some(interval.from), changes, ..(**last).clone() };
        interval.transactions = vec![Arc::new(joined)];
    }

    /// The reader reads what is there and hands it to the relay.
    pub fn read(&mut self) {
        if self.faults && self.rng.random_bool(0.03) {
            self.epoch += 1;
        }
        let from = self.published.last().map_or(Position::at(0), |i| i.to);
        let transactions = std::mem::take(&mut self.unread);
        let to = transactions.last().map_or(from, |t| t.position);
        let mut interval = Interval {
            source: "harbour".into(),
            epoch: self.epoch,
            from,
            to,
            transactions,
            resets: vec![],
            reader: "one".into(),
            read_at: 0,
            settled: match self.hidden.iter().map(|h| h.position.commit).min() {
                Some(first) => Position::at(first - 1),
                None => to,
            },
            timeline: 0,
            mark: 0,
        };
        // A new reader may begin further back than the old one ended.
        if self.faults
            && self.rng.random_bool(0.1)
            && let Some(last) = self.published.last().cloned()
            && last.resets.iter().all(|r| r.why == ResetReason::Described)
        {
            interval.from = last.from;
            let again = last.transactions.iter().cloned();
            interval.transactions = again.chain(std::mem::take(&mut interval.transactions)).collect();
        }
        if self.joins {
            self.join_transactions(&mut interval);
        }
        let is_altered = self.resets.values().any(|r| r.why == ResetReason::SchemaChanged);
        if !is_altered && self.rng.random_bool(0.1) {
            // As a reader does that begins: it matters only where a table is not as it was.
            let described = |n| Reset {
                name: TableName::plain(TABLES[n]),
                table: Some(table(n, self.old_values, self.altered)),
                why: ResetReason::Described,
            };
            interval.resets = (0..TABLES.len()).map(described).collect();
        }
        for interval in self.up_to_resets(interval).into_iter().flat_map(Self::in_parts) {
            self.publish(Arc::new(interval));
        }
    }

    /// An interval ends where a table was emptied.
    fn up_to_resets(&mut self, mut interval: Interval) -> Vec<Interval> {
        let mut intervals = Vec::new();
        for (at, reset) in std::mem::take(&mut self.resets) {
            let ends = interval.transactions.iter().position(|t| t.position == at).unwrap();
            let later = interval.transactions.split_off(ends + 1);
            let mut resets = std::mem::take(&mut interval.resets);
            resets.retain(|r| r.name != reset.name);
            resets.push(reset);
            intervals.push(Interval { to: at, resets, settled: interval.settled.min(at), ..interval.clone() });
            (interval.from, interval.transactions) = (at, later);
        }
        if intervals.is_empty() || !interval.transactions.is_empty() {
            intervals.push(interval);
        }
        intervals
    }

    fn publish(&mut self, interval: Arc<Interval>) {
        self.published.push(interval.clone());
        for (n, node) in self.nodes.iter_mut().enumerate() {
            let copies = match self.rng.random_range(0..100) {
                _ if self.cut == Some(n) => 0,
                0..10 if self.faults => 0,
                10..20 if self.faults => 2,
                _ => 1,
            };
            for _ in 0..copies {
                let delay = if self.faults && self.rng.random_bool(0.2) { self.rng.random_range(0..9) } else { 0 };
                node.inbox.push((self.step + delay, interval.clone()));
            }
            // A reader that was replaced and does not know it yet.
            if self.faults && self.rng.random_bool(0.05) {
                let stale = Interval { epoch: self.epoch.saturating_sub(1), ..(*interval).clone() };
                node.inbox.push((self.step + 5, Arc::new(stale)));
            }
        }
    }
}
