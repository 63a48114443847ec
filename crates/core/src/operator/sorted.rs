//! Rows in the order of `ORDER BY`.

use std::cmp::Ordering;
use std::hash::{Hash as _, Hasher as _};
use std::sync::Arc;

use siphasher::sip::SipHasher13;

use super::ranked::Ranked;
use super::rows::{Below, cells};
use super::sql_order;
use crate::plan::{Arrange, SortTerm, VisibleRow};
use crate::query::function::EvalError;
use crate::schema::{ByKey, Key};
use crate::value::Value;

/// Approximate bytes of a row besides its key and its sort values.
const OF_A_ROW: usize = 160;

/// What decides between rows that `ORDER BY` leaves equal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ties {
    /// Their keys.
    ByKey,
    /// Hashes of their keys under this key, where the keys themselves are hidden and so is their order.
    ByHash([u64; 2]),
}

/// Where a row stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    values: Arc<[Value]>,
    tie: u64,
    /// Its key.
    pub key: Key,
}

impl Place {
    /// The place of a row.
    ///
    /// # Errors
    /// What it is ordered by has no value.
    pub fn of(terms: &[SortTerm], ties: Ties, key: &Key, row: &VisibleRow) -> Result<Place, EvalError> {
        let cells = cells(row);
        let mut failed = None;
        // Of a known length: they are put where they stay.
        let values = terms.iter().map(|term| match term.value.value(&cells) {
            Ok(value) => value.into_owned(),
            Err(error) => {
                failed = Some(error);
                Value::Null
            }
        });
        let values: Arc<[Value]> = values.collect();
        if let Some(error) = failed {
            return Err(error);
        }
        let tie = match ties {
            Ties::ByKey => 0,
            Ties::ByHash([a, b]) => {
                let mut hasher = SipHasher13::new_with_keys(a, b);
                key.hash(&mut hasher);
                hasher.finish()
            }
        };
        Ok(Place { values, tie, key: key.clone() })
    }

    /// The order of two places.
    pub fn cmp(&self, other: &Place, terms: &[SortTerm]) -> Ordering {
        let by_terms = terms.iter().zip(self.values.iter().zip(&*other.values)).map(|(term, (a, b))| {
            match (a.is_null(), b.is_null()) {
                (true, true) => Ordering::Equal,
                (true, false) if term.nulls_first => Ordering::Less,
                (false, true) if !term.nulls_first => Ordering::Less,
                (true, false) | (false, true) => Ordering::Greater,
                _ if term.descending => sql_order::compare(b, a),
                _ => sql_order::compare(a, b),
            }
        });
        let unequal = by_terms.into_iter().find(|order| order.is_ne());
        unequal.unwrap_or_else(|| (self.tie, &self.key).cmp(&(other.tie, &other.key)))
    }

    /// The values that it is ordered by, before its key.
    pub fn values(&self) -> &[Value] {
        &self.values
    }

    /// Approximate bytes of a row that stands here.
    pub fn size(&self) -> usize {
        OF_A_ROW + self.values.iter().chain(&*self.key).map(Value::size).sum::<usize>()
    }
}

/// All rows below, in their order.
#[derive(Debug)]
pub struct Sorted {
    ties: Ties,
    ranked: Ranked<Place>,
    rows: ByKey<(Place, VisibleRow)>,
    bytes: usize,
}

impl Sorted {
    /// No rows.
    pub fn new(ties: Ties) -> Sorted {
        Sorted { ties, ranked: Ranked::default(), rows: ByKey::default(), bytes: 0 }
    }

    /// Takes changes of the rows; returns the keys of those that changed.
    ///
    /// # Errors
    /// What a row is ordered by has no value.
    pub fn apply(&mut self, arrange: &Arrange, changes: Vec<Below>) -> Result<Vec<Key>, EvalError> {
        let terms = &arrange.order;
        let mut touched = Vec::with_capacity(changes.len());
        for (key, delta) in changes {
            let new = match delta.new {
                Some(row) => Some((Place::of(terms, self.ties, &key, &row)?, row)),
                None => None,
            };
            let now = new.as_ref().map(|(place, _)| place.clone());
            let before = match new {
                Some(new) => self.rows.insert(key.clone(), new),
                None => self.rows.remove(&key),
            };
            let before = before.map(|(place, _)| place);
            self.bytes += now.as_ref().map_or(0, Place::size);
            self.bytes -= before.as_ref().map_or(0, Place::size);
            let cmp = |a: &Place, b: &Place| a.cmp(b, terms);
            match (before, now) {
                (Some(before), Some(now)) if before == now => {}
                (Some(before), Some(now)) => self.ranked.replace(&before, now, cmp),
                (Some(before), None) => drop(self.ranked.remove(&before, cmp)),
                (None, Some(now)) => self.ranked.insert(now, cmp),
                (None, None) => {}
            }
            touched.push(key);
        }
        Ok(touched)
    }

    /// A row with its place.
    pub fn get(&self, key: &Key) -> Option<&(Place, VisibleRow)> {
        self.rows.get(key)
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// The place of the row that has so many before it.
    pub fn place(&self, rank: usize) -> Option<&Place> {
        self.ranked.from(rank).next()
    }

    /// How many rows come up to this place, with the one that stands there.
    pub fn up_to(&self, arrange: &Arrange, place: &Place) -> usize {
        let before = self.rank(arrange, place);
        before + usize::from(self.place(before) == Some(place))
    }

    /// How many rows come before this place.
    pub fn rank(&self, arrange: &Arrange, place: &Place) -> usize {
        self.ranked.rank(|other| other.cmp(place, &arrange.order))
    }

    /// How many other rows come before one, wherever that stands now.
    ///
    /// # Errors
    /// What it is ordered by has no value.
    pub fn rank_of(&self, arrange: &Arrange, key: &Key, row: &VisibleRow) -> Result<usize, EvalError> {
        let place = Place::of(&arrange.order, self.ties, key, row)?;
        let itself = self.get(key).is_some_and(|(own, _)| own.cmp(&place, &arrange.order).is_lt());
        Ok(self.rank(arrange, &place) - usize::from(itself))
    }

    /// The rows from this place on, in order.
    pub fn from(&self, place: usize) -> impl Iterator<Item = &Key> {
        self.ranked.from(place).map(|p| &p.key)
    }

    /// Approximate bytes.
    pub fn size(&self) -> usize {
        self.bytes
    }
}
