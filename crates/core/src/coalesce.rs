//! Merges the changes of several transactions to one result: for subscribers that want a delta per interval instead of one
//! per transaction.
//!
//! Per key only the net change is held: a row that was added and removed is not sent at all. Rows without a key are all sent, up to
//! a limit beyond which the oldest are dropped and counted.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use crate::engine::io::Delta;
use crate::feed::Change;
use crate::position::{Micros, Timestamp};
use crate::schema::Key;

/// Most rows without a key held back.
pub const MAX_KEYLESS: usize = 4_096;

/// Most changes of keyed rows held back; beyond that, they are sent early.
pub const MAX_KEYED: usize = 100_000;

/// The changes held back.
#[derive(Debug, Default)]
pub struct Pending {
    /// Microseconds between two deltas.
    every: Micros,
    keyed: BTreeMap<Key, Change>,
    keyless: VecDeque<Change>,
    skipped: u64,
    newest: Option<Arc<Delta>>,
    due: Option<Timestamp>,
    /// Whether the last delta sent was not the end of its transaction.
    open: bool,
    /// Whether it contains a withdrawal.
    revokes: bool,
}

impl Pending {
    /// Starts empty. `every` is the time between two deltas, in microseconds.
    pub fn new(every: Micros) -> Pending {
        Pending { every, ..Pending::default() }
    }

    /// The microseconds between two deltas.
    pub fn every(&self) -> Micros {
        self.every
    }

    /// Adds the changes of a delta. Returns when they are due: `every` after `now`, unless something earlier
    /// is waiting already.
    pub fn take_change(&mut self, delta: Arc<Delta>, now: Timestamp) -> Timestamp {
        if delta.revokes {
            // Without a key it is not known which of them show what is taken back.
            self.skipped += self.keyless.len() as u64;
            self.keyless.clear();
        }
        for change in &delta.changes {
            if !delta.feed.is_keyed() {
                if self.keyless.len() >= MAX_KEYLESS {
                    self.keyless.pop_front();
                    self.skipped += 1;
                }
                self.keyless.push_back(change.clone());
            } else {
                let left = match self.keyed.remove(change.key()) {
                    None => Some(change.clone()),
                    Some(before) => merge(before, change.clone()),
                };
                left.map(|left| self.keyed.insert(left.key().clone(), left));
            }
        }
        self.revokes |= delta.revokes;
        self.newest = Some(delta);
        *self.due.get_or_insert(now.saturating_add(self.every))
    }

    /// When it is due, if anything is held back.
    pub fn due(&self) -> Option<Timestamp> {
        self.due
    }

    /// Whether it is due at once: it is full, or contains a withdrawal.
    pub fn is_urgent(&self) -> bool {
        self.revokes || self.keyed.len() >= MAX_KEYED
    }

    /// Records that a part of a transaction was sent directly: its end has to be sent even if it is empty.
    pub fn mark_partial(&mut self) {
        self.open = true;
    }

    /// Everything that waits, as a delta of the newest transaction. `None` if nothing is left.
    pub fn take_out(&mut self) -> Option<Delta> {
        let newest = self.newest.take()?;
        let taken = std::mem::replace(self, Pending::new(self.every));
        let Pending { keyed, keyless, skipped, open, revokes, .. } = taken;
        self.open = !newest.position.is_whole();
        let changes: Vec<Change> = keyed.into_values().chain(keyless).collect();
        (!changes.is_empty() || open && !self.open).then(|| Delta {
            feed: newest.feed.clone(),
            term: newest.term,
            position: newest.position,
            at: newest.at,
            changes,
            skipped,
            revokes,
            more: self.open,
        })
    }
}

/// Merges two successive changes of one key; `None` if they cancel out.
fn merge(before: Change, after: Change) -> Option<Change> {
    // Whether the client has the row already, and what it was when it was sent last.
    let had = !matches!(before, Change::Add { instead: false, .. });
    let was = before.was().cloned();
    match (before, after) {
        (_, Change::Remove { key, .. }) => had.then_some(Change::Remove { key, was }),
        (
            Change::Replace { row: earlier, changed: first, .. },
            Change::Replace { key, mut row, mut changed, place, .. },
        ) => {
            row.fill_missing_from(&earlier);
            changed.union_with(&first);
            Some(Change::Replace { key, row, changed, place, was })
        }
        (Change::Add { row: earlier, .. }, Change::Replace { key, mut row, place, .. }) => {
            row.fill_missing_from(&earlier);
            Some(Change::Add { key, row, instead: had, place, was })
        }
        (_, Change::Replace { key, row, place, .. } | Change::Add { key, row, place, .. }) => {
            Some(Change::Add { key, row, instead: had, place, was })
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::engine::{Engine, Input, Limits, Request};
    use crate::plan::VisibleRow;
    use crate::position::Position;
    use crate::position::Term;
    use crate::rule::{Claims, RuleSet, RuleText};
    use crate::schema::ColumnSet;
    use crate::schema::{Column, Table, TableName};
    use crate::value::{Type, Value};

    /// Deltas of one addition each, of rows with and without a key.
    fn deltas(keyed: bool) -> impl Fn(u64) -> Arc<Delta> {
        let (name, role) = (TableName::plain("t"), "all".to_string());
        let rule = RuleText { role: role.clone(), table: name.clone(), ..RuleText::default() };
        let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
        let columns = vec![Column { name: "id".into(), ty: Type::Int8 }];
        let key = if keyed { vec![0] } else { vec![] };
        engine.handle(Input::Table(Arc::new(Table {
            name,
            source: "s".into(),
            columns,
            key,
            old_values: true,
            incarnation: 0,
        })));
        let claims = Arc::new(Claims { roles: vec![role], ..Claims::default() });
        let request = Request { query: "SELECT id FROM t".into(), claims, ..Request::default() };
        let feed = Arc::new(engine.compile(&request).unwrap());
        move |n| {
            let row = VisibleRow { row: [Value::Int(n as i64)].into(), columns: feed.table().all_columns() };
            let key = feed.key_of(&row.row);
            let changes = vec![Change::Add { key, row, instead: false, place: None, was: None }];
            Arc::new(Delta {
                feed: feed.clone(),
                term: Term { epoch: 1, timeline: 0 },
                position: Position::at(n),
                at: 0,
                changes,
                skipped: 0,
                revokes: false,
                more: false,
            })
        }
    }

    #[test]
    fn what_is_held_back_has_a_limit_and_says_what_it_dropped() {
        let (mut pending, delta) = (Pending::new(5), deltas(false));
        for n in 1..=MAX_KEYLESS as u64 + 3 {
            assert_eq!(pending.take_change(delta(n), 10 + n as i64), 16, "due with the first");
        }
        let told = pending.take_out().unwrap();
        assert_eq!(
            (told.changes.len(), told.skipped, told.position),
            (MAX_KEYLESS, 3, Position::at(MAX_KEYLESS as u64 + 3))
        );
        let Change::Add { row, .. } = &told.changes[0] else { panic!("{:?}", told.changes[0]) };
        assert_eq!(row.row[0], Value::Int(4), "the oldest went");
        assert!(pending.take_out().is_none() && pending.due().is_none());

        let (mut pending, delta) = (Pending::default(), deltas(true));
        for n in 1..MAX_KEYED as u64 {
            pending.take_change(delta(n), 1);
        }
        assert!(!pending.is_urgent());
        pending.take_change(delta(MAX_KEYED as u64), 1);
        assert!(pending.is_urgent(), "told before its time");
    }

    /// What shows something that is taken back is not sent together with that.
    #[test]
    fn events_do_not_wait_for_what_takes_them_back() {
        let (mut pending, delta) = (Pending::new(5), deltas(false));
        pending.take_change(delta(1), 10);
        pending.take_change(delta(2), 11);
        pending.take_change(Arc::new(Delta { revokes: true, ..(*delta(3)).clone() }), 12);
        assert!(pending.is_urgent());
        let told = pending.take_out().unwrap();
        assert_eq!((told.changes.len(), told.skipped, told.revokes), (1, 2, true));
    }

    /// A client that got a part of a transaction gets its end, whatever is sent in between, even if nothing is left of it.
    #[test]
    fn the_end_of_what_was_told_in_part_is_told() {
        let (mut pending, delta) = (Pending::default(), deltas(true));
        pending.mark_partial();
        assert!(pending.take_out().is_none(), "nothing waits");
        pending.take_change(Arc::new(Delta { changes: vec![], ..(*delta(5)).clone() }), 1);
        let told = pending.take_out().unwrap();
        assert!(told.changes.is_empty() && !told.more);
        pending.take_change(Arc::new(Delta { changes: vec![], ..(*delta(6)).clone() }), 1);
        assert!(pending.take_out().is_none(), "told once");
    }

    /// A change that omits a large value means that it is unchanged since the change before.
    #[test]
    fn what_a_later_change_leaves_out_is_as_the_earlier_one_told_it() {
        let seen = |a: i64, b: Option<i64>| VisibleRow {
            row: [Value::Int(a), b.map_or(Value::Null, Value::Int)].into(),
            columns: (0..if b.is_some() { 2 } else { 1 }).collect(),
        };
        let key = || Key::from([Value::Int(1)]);
        let replace = |row, changed: &[usize]| Change::Replace {
            key: key(),
            row,
            changed: changed.iter().copied().collect(),
            place: None,
            was: None,
        };
        let merged = merge(replace(seen(1, Some(7)), &[1]), replace(seen(2, None), &[0]));
        assert_eq!(merged, Some(replace(seen(2, Some(7)), &[0, 1])));
        let add = |row| Change::Add { key: key(), row, instead: false, place: None, was: None };
        assert_eq!(merge(add(seen(1, Some(7))), replace(seen(2, None), &[0])), Some(add(seen(2, Some(7)))));
    }

    /// Whoever wants to know what a row was means: when it was sent last.
    #[test]
    fn of_several_changes_the_first_says_what_was() {
        let seen = |n: i64| VisibleRow { row: [Value::Int(n)].into(), columns: [0].into_iter().collect() };
        let (key, changed, place) = (Key::from([Value::Int(1)]), ColumnSet::from_iter([0]), None);
        let replace = |was: i64, is: i64| Change::Replace {
            key: key.clone(),
            row: seen(is),
            changed: changed.clone(),
            place,
            was: Some(seen(was)),
        };
        let remove = |was: i64| Change::Remove { key: key.clone(), was: Some(seen(was)) };
        let add = |is: i64| Change::Add { key: key.clone(), row: seen(is), instead: false, place, was: None };
        let back = merge(remove(1), add(2)).unwrap();
        assert_eq!((back.was(), back.row()), (Some(&seen(1)), Some(&seen(2))));
        for (before, after) in [(replace(1, 2), replace(2, 3)), (replace(1, 2), remove(2)), (back, remove(2))] {
            assert_eq!(merge(before, after).unwrap().was(), Some(&seen(1)));
        }
        assert_eq!(merge(add(1), replace(1, 2)), Some(add(2)));
        assert_eq!(merge(add(1), remove(1)), None);
    }
}
