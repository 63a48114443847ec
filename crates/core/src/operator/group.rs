//! Groups: a row of the result for all rows that have something in common.

use std::collections::BTreeMap;

use super::accumulator::Accumulator;
use super::rows::{Below, cells};
use super::sql_order::Sql;
use crate::plan::{Group, RowDelta, VisibleRow};
use crate::query::function::EvalError;
use crate::schema::Key;
use crate::value::{NULL, Value};

/// Approximate bytes of a group besides its values and its aggregates.
const OF_A_GROUP: usize = 320;

/// What the rows of a group have in common, by SQL's equality.
type Common = Box<[Sql]>;

/// The groups of a feed.
#[derive(Debug)]
pub struct Groups {
    groups: BTreeMap<Common, State>,
    /// Those that have changed since they were handed on last.
    touched: Vec<Common>,
    bytes: usize,
}

/// One group.
#[derive(Debug)]
struct State {
    rows: usize,
    /// The keys as the rows have them: equal ones may look different. The group's own key is the first.
    names: BTreeMap<Key, usize>,
    accumulators: Box<[Accumulator]>,
    /// Its row, as it was handed on last.
    handed_on: Option<(Key, VisibleRow)>,
    /// Whether it is among those that have changed.
    is_touched: bool,
}

impl State {
    fn new(spec: &Group) -> State {
        let accumulators = spec.aggregates.iter().map(Accumulator::new).collect();
        State { rows: 0, names: BTreeMap::new(), accumulators, handed_on: None, is_touched: false }
    }

    fn size(&self) -> usize {
        let names: usize = self.names.keys().map(|key| key.iter().map(Value::size).sum::<usize>()).sum();
        OF_A_GROUP + 2 * names + self.accumulators.iter().map(Accumulator::size).sum::<usize>()
    }

    /// Adds a row, or takes one back.
    fn take(&mut self, key: &[Value], values: Vec<Value>, adds: bool) {
        match adds {
            true => {
                self.rows += 1;
                match self.names.get_mut(key) {
                    Some(n) => *n += 1,
                    None => drop(self.names.insert(key.into(), 1)),
                }
            }
            false => {
                self.rows = self.rows.saturating_sub(1);
                let left = self.names.get_mut(key).map(|n| {
                    *n -= 1;
                    *n
                });
                if left == Some(0) {
                    self.names.remove(key);
                }
            }
        }
        self.count(values, adds);
    }

    /// Adds the values of a row, or takes them back.
    fn count(&mut self, values: Vec<Value>, adds: bool) {
        for (accumulator, value) in self.accumulators.iter_mut().zip(values) {
            accumulator.take(value, adds);
        }
    }

    /// Its key and its row; `None` if `HAVING` leaves it out.
    fn row(&self, spec: &Group) -> Result<Option<(Key, VisibleRow)>, EvalError> {
        let key = self.names.first_key_value().map_or_else(|| Key::from([]), |(key, _)| key.clone());
        let mut row = key.to_vec();
        for (aggregate, accumulator) in spec.aggregates.iter().zip(&self.accumulators) {
            row.push(accumulator.value(aggregate)?);
        }
        let row = VisibleRow { columns: (0..row.len()).collect(), row: row.into() };
        Ok(spec.having.holds(&cells(&row))?.then_some((key, row)))
    }
}

/// What a row is to its group.
struct Part {
    key: Vec<Value>,
    /// For each aggregate the value that it takes of the row; NULL counts for nothing.
    values: Vec<Value>,
}

fn part(spec: &Group, row: &VisibleRow) -> Result<Part, EvalError> {
    let cells = cells(row);
    let key = spec.keys.iter().map(|e| Ok(e.value(&cells)?.into_owned())).collect::<Result<_, EvalError>>()?;
    let mut values = Vec::with_capacity(spec.aggregates.len());
    for aggregate in &spec.aggregates {
        values.push(match &aggregate.of {
            _ if !aggregate.filter.holds(&cells)? => NULL.clone(),
            // All rows count.
            None => Value::Bool(true),
            Some(of) => of.value(&cells)?.into_owned(),
        });
    }
    Ok(Part { key, values })
}

impl Groups {
    /// No rows, and so no groups; but if all rows are one group, that one.
    pub fn new(spec: &Group) -> Groups {
        let mut groups = Groups { groups: BTreeMap::new(), touched: Vec::new(), bytes: 0 };
        if spec.keys.is_empty() {
            let all = State { is_touched: true, ..State::new(spec) };
            groups.bytes += all.size();
            groups.groups.insert(Common::default(), all);
            groups.touched.push(Common::default());
        }
        groups
    }

    /// Takes a row's change.
    ///
    /// # Errors
    /// The query fails on the row.
    pub fn apply(&mut self, spec: &Group, delta: &RowDelta) -> Result<(), EvalError> {
        let (old, new) = (delta.old.as_ref().map(|row| part(spec, row)), delta.new.as_ref().map(|row| part(spec, row)));
        let new = new.transpose()?;
        match (old, new) {
            // As most often: a row stays in its group.
            (Some(Ok(old)), Some(new)) if old.key == new.key => {
                self.change(spec, &new.key, |state| {
                    state.count(old.values, false);
                    state.count(new.values, true);
                });
            }
            (old, new) => {
                if let Some(Ok(old)) = old {
                    self.change(spec, &old.key, |state| state.take(&old.key, old.values, false));
                }
                if let Some(new) = new {
                    self.change(spec, &new.key, |state| state.take(&new.key, new.values, true));
                }
            }
        }
        Ok(())
    }

    /// Changes the group of a key, which may begin with that.
    fn change(&mut self, spec: &Group, key: &[Value], change: impl FnOnce(&mut State)) {
        let common: Common = key.iter().cloned().map(Sql).collect();
        let (mut slot, mut known) = (self.groups.get_mut(&common), 0);
        if let Some(state) = &slot {
            known = state.size();
        } else {
            slot = Some(self.groups.entry(common.clone()).or_insert_with(|| State::new(spec)));
        }
        let Some(state) = slot else { return };
        change(state);
        self.bytes = self.bytes + state.size() - known;
        if !std::mem::replace(&mut state.is_touched, true) {
            self.touched.push(common);
        }
    }

    /// What the changes since the last time did to the groups.
    ///
    /// # Errors
    /// The query fails on a group: an aggregate or `HAVING` has no value.
    pub fn settle(&mut self, spec: &Group) -> Result<Vec<Below>, EvalError> {
        let mut changes = Vec::new();
        let mut touched = std::mem::take(&mut self.touched);
        touched.sort_unstable();
        for common in touched {
            let Some(state) = self.groups.get_mut(&common) else { continue };
            state.is_touched = false;
            let is_there = state.rows > 0 || spec.keys.is_empty();
            let now = if is_there { state.row(spec)? } else { None };
            let before = std::mem::replace(&mut state.handed_on, now.clone());
            if !is_there {
                self.bytes -= state.size();
                self.groups.remove(&common);
            }
            match (before, now) {
                (Some((key, old)), Some((same, new))) if key == same => {
                    changes.push((key, RowDelta { old: Some(old), new: Some(new) }));
                }
                (before, now) => {
                    changes.extend(before.map(|(key, old)| (key, RowDelta { old: Some(old), new: None })));
                    changes.extend(now.map(|(key, new)| (key, RowDelta { old: None, new: Some(new) })));
                }
            }
        }
        changes.retain(|(_, delta)| delta.old != delta.new);
        Ok(changes)
    }

    /// Approximate bytes.
    pub fn size(&self) -> usize {
        self.bytes
    }
}
