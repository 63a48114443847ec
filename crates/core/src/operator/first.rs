//! The first row of each group: `DISTINCT ON`.

use std::collections::{BTreeMap, BTreeSet};

use super::ranked::Ranked;
use super::rows::{Below, cells};
use super::sorted::{Place, Ties};
use super::sql_order::Sql;
use crate::plan::{Arrange, RowDelta, VisibleRow};
use crate::query::function::EvalError;
use crate::schema::{ByKey, Key};

/// What those have in common of which the first is taken, by SQL's equality.
type Common = Box<[Sql]>;

/// All rows below, by what they have in common.
#[derive(Debug)]
pub struct Firsts {
    ties: Ties,
    groups: BTreeMap<Common, Group>,
    rows: ByKey<(Common, Place, VisibleRow)>,
    bytes: usize,
}

#[derive(Debug, Default)]
struct Group {
    ranked: Ranked<Place>,
    /// Its first row, under the values that it has in common with the others, as it was handed on last.
    handed_on: Option<(Key, VisibleRow)>,
}

impl Firsts {
    /// No rows.
    pub fn new(ties: Ties) -> Firsts {
        Firsts { ties, groups: BTreeMap::new(), rows: ByKey::default(), bytes: 0 }
    }

    /// Takes changes of the rows; returns what that does to the first ones, under the values that their rows have in common.
    ///
    /// # Errors
    /// What a row is ordered by, or has in common with others, has no value.
    pub fn apply(&mut self, arrange: &Arrange, changes: Vec<Below>) -> Result<Vec<Below>, EvalError> {
        let terms = &arrange.order;
        let mut touched = BTreeSet::new();
        for (key, delta) in changes {
            let new = match delta.new {
                Some(row) => Some((self.common(arrange, &row)?, Place::of(terms, self.ties, &key, &row)?, row)),
                None => None,
            };
            if let Some((common, place, _)) = self.rows.remove(&key) {
                self.bytes -= place.size();
                if let Some(group) = self.groups.get_mut(&common) {
                    group.ranked.remove(&place, |a, b| a.cmp(b, terms));
                }
                touched.insert(common);
            }
            if let Some((common, place, row)) = new {
                self.bytes += place.size();
                let group = self.groups.entry(common.clone()).or_default();
                group.ranked.insert(place.clone(), |a, b| a.cmp(b, terms));
                touched.insert(common.clone());
                self.rows.insert(key, (common, place, row));
            }
        }
        Ok(touched.into_iter().flat_map(|common| self.hand_on(common)).collect())
    }

    fn common(&self, arrange: &Arrange, row: &VisibleRow) -> Result<Common, EvalError> {
        arrange.first.iter().map(|e| Ok(Sql(e.value(&cells(row))?.into_owned()))).collect()
    }

    fn hand_on(&mut self, common: Common) -> Vec<Below> {
        let Some(group) = self.groups.get_mut(&common) else { return Vec::new() };
        let first = group.ranked.from(0).next().and_then(|place| self.rows.get(&place.key));
        let now = first.map(|(common, _, row)| {
            let values = common.iter().map(|v| v.0.clone());
            (values.collect::<Key>(), row.clone())
        });
        let before = std::mem::replace(&mut group.handed_on, now.clone());
        if now.is_none() {
            self.groups.remove(&common);
        }
        match (before, now) {
            (before, now) if before == now => Vec::new(),
            (Some((key, old)), Some((same, new))) if key == same => {
                vec![(key, RowDelta { old: Some(old), new: Some(new) })]
            }
            (before, now) => {
                let gone = before.map(|(key, old)| (key, RowDelta { old: Some(old), new: None }));
                let came = now.map(|(key, new)| (key, RowDelta { old: None, new: Some(new) }));
                gone.into_iter().chain(came).collect()
            }
        }
    }

    /// Approximate bytes.
    pub fn size(&self) -> usize {
        2 * self.bytes
    }
}
