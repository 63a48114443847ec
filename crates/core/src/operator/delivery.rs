//! What was delivered, and how it differs from what holds now.
//!
//! Places belong to one list: what is delivered is always the difference between the list as it was delivered last and as it
//! is now. A row whose place its neighbours' changes explain has none: take out all removed rows and all that have a place,
//! then insert these in ascending order of their places.

use std::borrow::Cow;

use super::rows::Below;
use super::sorted::{Place, Sorted};
use crate::feed::{self, Change};
use crate::latest::Latest;
use crate::plan::{Admitted, Arrange, EffectivePlan, VisibleRow};
use crate::query::function::EvalError;
use crate::schema::{ByKey, ColumnSet, Key, KeySet};
use crate::seam::ResultRows;
use crate::value::Value;

/// Approximate bytes of a delivered row besides its values.
const OF_A_ROW: usize = 160;

/// The result as it was delivered last, and what has changed below since.
#[derive(Debug, Default)]
pub struct Delivery {
    rows: ByKey<Shown>,
    /// The keys of a window in their order; empty where there is none.
    window: Vec<Key>,
    /// Rows that have changed, where they have no order.
    held: Latest<Option<VisibleRow>>,
    /// Keys of those that have changed, where they have one.
    touched: Latest<()>,
    bytes: usize,
}

/// A row of the result.
#[derive(Debug)]
struct Shown {
    row: VisibleRow,
    /// Where it stands, in an ordered result.
    place: Option<Place>,
}

fn size(key: &Key, row: &VisibleRow) -> usize {
    OF_A_ROW + key.iter().chain(&*row.row).map(Value::size).sum::<usize>()
}

/// The row of the result that a row below becomes.
fn projected(plan: &EffectivePlan, row: &VisibleRow) -> Result<VisibleRow, EvalError> {
    plan.project.row(Admitted { row: Cow::Borrowed(&row.row), columns: Cow::Borrowed(&row.columns) })
}

impl Delivery {
    /// Keeps changed rows until they are delivered.
    pub fn hold(&mut self, changes: Vec<Below>) {
        changes.into_iter().for_each(|(key, delta)| self.held.note(key, delta.new));
    }

    /// Notes which rows of an ordered result have changed.
    pub fn touch(&mut self, keys: Vec<Key>) {
        keys.into_iter().for_each(|key| self.touched.note(key, ()));
    }

    /// Whether something waits to be delivered.
    pub fn holds_something(&self) -> bool {
        !self.held.is_empty() || !self.touched.is_empty()
    }

    /// The difference between what was delivered last and what holds now.
    ///
    /// # Errors
    /// The query fails on a row of the result.
    pub fn deliver(&mut self, plan: &EffectivePlan, sorted: Option<&Sorted>) -> Result<Vec<Change>, EvalError> {
        let mut changes = Vec::new();
        let (Some(sorted), Some(arrange)) = (sorted, &plan.arrange) else {
            for (key, row) in self.held.take() {
                let now = row.map(|row| projected(plan, &row)).transpose()?;
                changes.extend(self.change(plan, key, now, None, None));
            }
            return Ok(changes);
        };
        let touched: Vec<Key> = self.touched.take().into_iter().map(|(key, ())| key).collect();
        match arrange.limit() {
            None => {
                for key in touched {
                    let Some((place, row)) = sorted.get(&key) else {
                        changes.extend(self.change(plan, key, None, None, None));
                        continue;
                    };
                    let now = projected(plan, row)?;
                    let rank = sorted.rank(arrange, place);
                    changes.extend(self.change(plan, key, Some(now), Some(place), Some(rank)));
                }
            }
            Some(limit) if self.is_concerned(arrange, limit, sorted, &touched) => {
                let window = || sorted.from(arrange.offset()).take(limit);
                let moves = !window().eq(&self.window);
                if moves {
                    let stays: KeySet = window().cloned().collect();
                    let leaves = self.window.iter().filter(|key| !stays.contains(*key)).cloned();
                    for key in leaves.collect::<Vec<Key>>() {
                        changes.extend(self.change(plan, key, None, None, None));
                    }
                    self.window = window().cloned().collect();
                }
                for (rank, key) in window().enumerate() {
                    let is_touched = touched.binary_search(key).is_ok();
                    if !is_touched && (!moves || self.rows.contains_key(key)) {
                        continue;
                    }
                    let Some((place, row)) = sorted.get(key) else { continue };
                    let now = projected(plan, row)?;
                    changes.extend(self.change(plan, key.clone(), Some(now), Some(place), Some(rank)));
                }
            }
            Some(_) => {}
        }
        Ok(changes)
    }

    /// Whether the window may differ from what was delivered.
    fn is_concerned(&self, arrange: &Arrange, limit: usize, sorted: &Sorted, touched: &[Key]) -> bool {
        if arrange.offset() > 0 || self.window.len() < limit {
            return !touched.is_empty();
        }
        let within = |key: &Key| {
            self.rows.contains_key(key) || sorted.get(key).is_some_and(|(place, _)| sorted.rank(arrange, place) < limit)
        };
        touched.iter().any(within)
    }

    /// What a row's new state changes, which counts as delivered from here on.
    fn change(
        &mut self,
        plan: &EffectivePlan,
        key: Key,
        now: Option<VisibleRow>,
        place: Option<&Place>,
        rank: Option<usize>,
    ) -> Option<Change> {
        let Some(row) = now else {
            let before = self.rows.remove(&key)?;
            self.bytes -= size(&key, &before.row);
            return feed::between(plan, key, Some(before.row), None);
        };
        self.bytes += size(&key, &row);
        let Some(shown) = self.rows.get_mut(&key) else {
            self.rows.insert(key.clone(), Shown { row: row.clone(), place: place.cloned() });
            return Some(Change::Add { key, row, instead: false, place: rank, was: None });
        };
        self.bytes -= size(&key, &shown.row);
        let before = std::mem::replace(&mut shown.row, row.clone());
        let moves = shown.place.as_ref() != place;
        if moves {
            shown.place = place.cloned();
        }
        let mut change = feed::between(plan, key.clone(), Some(before.clone()), Some(row.clone()));
        if change.is_none() && moves {
            let (changed, was) = (ColumnSet::default(), Some(before));
            change = Some(Change::Replace { key, row, changed, place: None, was });
        }
        match &mut change {
            Some(Change::Add { place, .. }) => *place = rank,
            Some(Change::Replace { place, .. }) => *place = rank.filter(|_| moves),
            _ => {}
        }
        change
    }

    /// The result as it was delivered last: in its order, else in the order of keys.
    pub fn result(&self, sorted: Option<&Sorted>) -> ResultRows {
        let shown = |key: &Key| Some((key.clone(), self.rows.get(key)?.row.clone()));
        match sorted {
            None => {
                let mut rows: ResultRows = self.rows.iter().map(|(key, s)| (key.clone(), s.row.clone())).collect();
                rows.sort_unstable_by(|a, b| a.0.cmp(&b.0));
                rows
            }
            Some(_) if !self.window.is_empty() => self.window.iter().filter_map(shown).collect(),
            Some(sorted) => sorted.from(0).filter_map(shown).collect(),
        }
    }

    /// Whether a row under this key was delivered.
    pub fn shows(&self, key: &Key) -> bool {
        self.rows.contains_key(key)
    }

    /// Approximate bytes.
    pub fn size(&self) -> usize {
        self.bytes
    }
}
