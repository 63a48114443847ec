//! The source, its reader and the relay of its intervals.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use gossip_core::engine::Only;
use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, Shows, Transaction, Visibility, fold};
use gossip_core::schema::{ColumnSet, Key, Row, TableName};
use gossip_core::value::Value;
use rand::Rng;

use crate::client::id_of;
use crate::world::{Plain, TABLES, changed, to_row};
use crate::{Cluster, Hidden};

impl Cluster {
    pub fn write(&mut self) {
        let mut changes = Vec::new();
        self.head = Position::at(self.head.commit + self.rng.random_range(2..5));
        let mut before = BTreeMap::new();
        for _ in 0..self.rng.random_range(1..5) {
            let which = [0, 0, 0, 1, 1, 2][self.rng.random_range(0..6)];
            let id = (which, self.rng.random_range(0..[12, 6, 4][which]));
            if self.hidden.iter().any(|h| h.before.contains_key(&id)) {
                continue;
            }
            let old = self.rows.get(&id).copied();
            before.entry(id).or_insert(old);
            let new = changed(which, old.as_ref(), &mut self.rng);
            match &new {
                Some(p) => drop(self.rows.insert(id, *p)),
                None => drop(self.rows.remove(&id)),
            }
            let row = |p: &Plain| to_row(id.1, p);
            changes.push(RowChange {
                table: TableName::plain(TABLES[which]),
                key: [Value::Int(id.1)].into(),
                old: if self.old_values { Old::Known(old.as_ref().map(row)) } else { Old::Unknown },
                new: new.as_ref().map(row),
                untold: ColumnSet::default(),
            });
        }
        let changes = fold(changes);
        let committed = CommitTime { from: 0, to: 0 };
        let mut xid = 0;
        if self.by_visibility {
            // Numbers are given out in another order than transactions end.
            let open = |xid: &u64| self.hidden.iter().all(|h| h.xid != *xid);
            let open: Vec<u64> = self.running.iter().copied().filter(open).collect();
            xid = open[self.rng.random_range(0..open.len())];
            self.running.insert(self.next_xid);
            self.next_xid += 1;
            let delay = if self.rng.random_bool(0.3) { self.rng.random_range(1..25) } else { 0 };
            self.hidden.push(Hidden { until: self.step + delay, xid, position: self.head, before });
        }
        self.unread.push(Arc::new(Transaction { position: self.head, committed, xid, joined_after: None, changes }));
        self.history.insert(self.head, self.rows.clone());
    }

    pub fn reveal(&mut self, all: bool) {
        let step = self.step;
        let running = &mut self.running;
        self.hidden.retain(|h| {
            let stays = h.until > step && !all;
            if !stays {
                running.remove(&h.xid);
            }
            stays
        });
    }

    /// What a snapshot of a table taken now shows, and its rows: those that are wanted.
    pub fn snapshot(&self, of: &TableName, only: Option<&Only>) -> (Shows, Vec<Row>) {
        let mut rows = self.rows.clone();
        for (id, before) in self.hidden.iter().flat_map(|h| &h.before) {
            match before {
                Some(p) => drop(rows.insert(*id, *p)),
                None => drop(rows.remove(id)),
            }
        }
        let which = TABLES.iter().position(|t| *t == &*of.name).unwrap();
        let rows = rows.iter().filter(|((table, _), _)| *table == which).map(|((_, id), p)| to_row(*id, p));
        let wanted = |row: &Row| only.is_none_or(|o| o.iter().any(|(c, values)| values.contains(&row[*c])));
        let rows = rows.filter(wanted).collect();
        if !self.by_visibility {
            return (Shows::UpTo(self.head), rows);
        }
        let running: Vec<u64> = self.running.iter().copied().collect();
        let xmin = running.first().copied().unwrap_or(self.next_xid);
        (Shows::Visible(Arc::new(Visibility { xmin, xmax: self.next_xid, running }), self.head), rows)
    }

    /// Some transactions in parts, each part in an interval of its own. Which and how depends only on the log, so that
    /// a part is the same whoever reads it.
    fn in_parts(interval: Interval) -> Vec<Interval> {
        let mut intervals = Vec::new();
        let mut from = interval.from;
        let mut next = Interval { transactions: vec![], ..interval.clone() };
        for t in interval.transactions {
            if t.joined_after.is_some() || t.changes.len() < 2 || t.position.commit % 3 > 0 || t.position.index > 0 {
                next.transactions.push(t);
                continue;
            }
            let (last, first) = t.changes.split_last().unwrap();
            let part =
                |position, change: &RowChange| Transaction { position, changes: vec![change.clone()], ..(*t).clone() };
            for (i, change) in first.iter().enumerate() {
                let position = Position::part(t.position.commit, i as u32 + 1);
                next.transactions.push(Arc::new(part(position, change)));
                let done = Interval { from, to: position, ..next.clone() };
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
        let change = |(table, key): (TableName, Key)| {
            let which = TABLES.iter().position(|t| *t == &*table.name).unwrap();
            let id = id_of(&key);
            let row = |at| self.history[&at].get(&(which, id)).map(|p| to_row(id, p));
            let (old, new) = (Old::Known(row(interval.from)), row(interval.to));
            RowChange { table, key, old, new, untold: ColumnSet::default() }
        };
        let changes = touched.into_iter().map(change).collect();
        let joined = Transaction { joined_after: Some(interval.from), changes, ..(**last).clone() };
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
            lineage: 0,
        };
        // A new reader may begin further back than the old one ended.
        if self.faults
            && self.rng.random_bool(0.1)
            && let Some(last) = self.published.last().cloned()
        {
            interval.from = last.from;
            let again = last.transactions.iter().cloned();
            interval.transactions = again.chain(std::mem::take(&mut interval.transactions)).collect();
        }
        if self.joins {
            self.join_transactions(&mut interval);
        }
        for interval in Self::in_parts(interval) {
            self.publish(Arc::new(interval));
        }
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
