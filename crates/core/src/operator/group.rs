//! Groups: a row of the result for all rows that have something in common.

use std::collections::{BTreeMap, BTreeSet};

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
    touched: BTreeSet<Common>,
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
}

impl State {
    fn new(spec: &Group) -> State {
        let accumulators = spec.aggregates.iter().map(Accumulator::new).collect();
        State { rows: 0, names: BTreeMap::new(), accumulators, handed_on: None }
    }

    fn size(&self) -> usize {
        let names: usize = self.names.keys().map(|key| key.iter().map(Value::size).sum::<usize>()).sum();
        OF_A_GROUP + 2 * names + self.accumulators.iter().map(Accumulator::size).sum::<usize>()
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
    key: Key,
    /// For each aggregate the value that it takes of the row; NULL counts for nothing.
    values: Vec<Value>,
}

fn part(spec: &Group, row: &VisibleRow) -> Result<Part, EvalError> {
    let cells = cells(row);
    let key = spec.keys.iter().map(|e| Ok(e.value(&cells)?.into_owned())).collect::<Result<Key, EvalError>>()?;
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
        let mut groups = Groups { groups: BTreeMap::new(), touched: BTreeSet::new(), bytes: 0 };
        if spec.keys.is_empty() {
            let all = State::new(spec);
            groups.bytes += all.size();
            groups.groups.insert(Common::default(), all);
            groups.touched.insert(Common::default());
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
        if let Some(Ok(old)) = old {
            self.take(spec, old, false);
        }
        if let Some(new) = new {
            self.take(spec, new, true);
        }
        Ok(())
    }

    fn take(&mut self, spec: &Group, part: Part, adds: bool) {
        let common: Common = part.key.iter().cloned().map(Sql).collect();
        let known = self.groups.get(&common).map(State::size);
        let state = self.groups.entry(common.clone()).or_insert_with(|| State::new(spec));
        match adds {
            true => {
                state.rows += 1;
                *state.names.entry(part.key).or_default() += 1;
            }
            false => {
                state.rows = state.rows.saturating_sub(1);
                let left = state.names.get_mut(&part.key).map(|n| {
                    *n -= 1;
                    *n
                });
                if left == Some(0) {
                    state.names.remove(&part.key);
                }
            }
        }
        for (accumulator, value) in state.accumulators.iter_mut().zip(part.values) {
            accumulator.take(value, adds);
        }
        self.bytes = self.bytes + state.size() - known.unwrap_or(0);
        self.touched.insert(common);
    }

    /// What the changes since the last time did to the groups.
    ///
    /// # Errors
    /// The query fails on a group: an aggregate or `HAVING` has no value.
    pub fn settle(&mut self, spec: &Group) -> Result<Vec<Below>, EvalError> {
        let mut changes = Vec::new();
        for common in std::mem::take(&mut self.touched) {
            let Some(state) = self.groups.get_mut(&common) else { continue };
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
