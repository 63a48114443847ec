//! Sub-selects: sets of another table's values, maintained like live queries.
//!
//! `id IN (SELECT call FROM assignments WHERE pilot = claim.sub)` holds where a row's `id` is among the values that the
//! sub-select returns. Equal sub-selects, claims bound, are maintained once for all feeds that depend on them.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use crate::position::Timestamp;
use crate::query::{Expr, Subquery};
use crate::schema::Row;
use crate::value::Value;

/// The results of sub-selects, and when they are that.
pub trait SubqueryResults {
    /// The result of one sub-select; `None` if it is unknown, so that a rule that needs it admits nothing.
    fn set(&self, of: &Subquery) -> Option<&ValueSet>;

    /// The row under a key of a table that is joined and has this description ([`Table::identity`](crate::schema::Table::identity)).
    fn partner(&self, _: u64, _: &[Value]) -> Partner<'_> {
        Partner::Unknown
    }

    /// What `NOW()` is: whole seconds, in microseconds since 2000.
    fn now(&self) -> Timestamp {
        0
    }
}

/// What is known of a row of another table.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Partner<'a> {
    /// Nothing yet.
    Unknown,
    /// What there is under its key, whatever may be seen of it.
    Known(Option<&'a Row>),
}

/// No results are known.
impl SubqueryResults for () {
    fn set(&self, _: &Subquery) -> Option<&ValueSet> {
        None
    }
}

/// A row of a sub-select: one value per column.
pub type Found = Arc<[Value]>;

/// A bag of values with SQL's `IN`.
#[derive(Clone, Debug, Default)]
pub struct ValueSet {
    /// By their probes, which are equal if SQL's `=` holds.
    by_probe: HashMap<Box<[Value]>, Vec<(Found, u32)>>,
    /// Those with a `NULL`, which equal nothing.
    with_null: HashMap<Found, u32>,
}

fn probe(values: &[Value]) -> Option<Box<[Value]>> {
    values.iter().map(Value::probe).collect()
}

fn equal(a: &[Value], b: &[Value]) -> bool {
    a.iter().zip(b).all(|(a, b)| a.sql_cmp(b) == Some(Ordering::Equal))
}

impl ValueSet {
    /// Adds one row. Returns whether it was not there before.
    pub fn add(&mut self, found: Found) -> bool {
        let Some(probe) = probe(&found) else {
            let count = self.with_null.entry(found).or_default();
            *count += 1;
            return *count == 1;
        };
        let alike = self.by_probe.entry(probe).or_default();
        match alike.iter_mut().find(|(f, _)| *f == found) {
            Some((_, count)) => {
                *count += 1;
                false
            }
            None => {
                alike.push((found, 1));
                true
            }
        }
    }

    /// Removes one row. Returns whether it is no longer there.
    pub fn take(&mut self, found: &Found) -> bool {
        let Some(probe) = probe(found) else {
            let Some(count) = self.with_null.get_mut(found) else { return false };
            *count -= 1;
            return *count == 0 && self.with_null.remove(found).is_some();
        };
        let Some(alike) = self.by_probe.get_mut(&probe) else { return false };
        let Some(place) = alike.iter().position(|(f, _)| f == found) else { return false };
        alike[place].1 -= 1;
        if alike[place].1 > 0 {
            return false;
        }
        alike.swap_remove(place);
        if alike.is_empty() {
            self.by_probe.remove(&probe);
        }
        true
    }

    /// SQL's `IN`: unknown if a `NULL` decides.
    pub fn has(&self, values: &[Value]) -> Option<bool> {
        if self.is_empty() {
            return Some(false);
        }
        let probe = probe(values)?;
        if self.by_probe.get(&probe).is_some_and(|alike| alike.iter().any(|(f, _)| equal(f, values))) {
            return Some(true);
        }
        if self.with_null.is_empty() { Some(false) } else { None }
    }

    /// Whether it is empty.
    pub fn is_empty(&self) -> bool {
        self.by_probe.is_empty() && self.with_null.is_empty()
    }

    /// The values of the first column that rows can equal.
    pub fn firsts(&self) -> impl Iterator<Item = &Value> {
        self.by_probe.values().flatten().filter_map(|(f, _)| f.first())
    }

    /// Number of distinct rows.
    pub fn len(&self) -> usize {
        self.by_probe.values().map(Vec::len).sum::<usize>() + self.with_null.len()
    }
}

impl ValueSet {
    /// Whether the set was empty before a change that it has taken, or is now, or a `NULL` came or went: then what is in no row of
    /// the change may be in the set, or not, as it was not before.
    pub fn begins_or_ends_with(&self, crossed: &Crossed) -> bool {
        let began = crossed.went.is_empty() && self.len() == crossed.came.len();
        let with_null = |found: &Found| found.iter().any(Value::is_null);
        began || self.is_empty() || crossed.came.iter().chain(&crossed.went).any(with_null)
    }
}

/// The values that entered and left a sub-select's result.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Crossed {
    /// Entered.
    pub came: HashSet<Found>,
    /// Left.
    pub went: HashSet<Found>,
}

impl Crossed {
    /// The first values of what entered or left that something can be equal to, as they are looked up.
    pub fn first_probes(&self) -> HashSet<Value> {
        self.came.iter().chain(&self.went).filter_map(|found| found.first()?.probe()).collect()
    }

    /// Whether nothing entered or left.
    pub fn is_empty(&self) -> bool {
        self.came.is_empty() && self.went.is_empty()
    }
}

impl ValueSet {
    /// Applies changes, each as the old and the new row. A value that other rows still have, or
    /// that entered and left, is not reported.
    pub fn apply(&mut self, changes: impl IntoIterator<Item = (Option<Found>, Option<Found>)>) -> Crossed {
        let Crossed { mut came, mut went } = Crossed::default();
        for (before, after) in changes {
            if before == after {
                continue;
            }
            if let Some(found) = after
                && self.add(found.clone())
                && !went.remove(&found)
            {
                came.insert(found);
            }
            if let Some(found) = before
                && self.take(&found)
                && !came.remove(&found)
            {
                went.insert(found);
            }
        }
        Crossed { came, went }
    }
}

/// The sub-selects in conditions, each once, and whether only additions to its result can make a condition true on more
/// rows.
pub fn subqueries_of<'a>(conditions: impl IntoIterator<Item = &'a Expr>) -> BTreeMap<Arc<Subquery>, bool> {
    let mut found = BTreeMap::new();
    conditions.into_iter().for_each(|c| find_subqueries(c, true, &mut found));
    found
}

fn find_subqueries(condition: &Expr, more_admits: bool, found: &mut BTreeMap<Arc<Subquery>, bool>) {
    match condition {
        Expr::Member { subquery, of, .. } => {
            let only_more = found.entry(subquery.clone()).or_insert(true);
            *only_more &= more_admits;
            of.iter().for_each(|e| find_subqueries(e, false, found));
        }
        Expr::And(es) | Expr::Or(es) => es.iter().for_each(|e| find_subqueries(e, more_admits, found)),
        Expr::Not(e) => find_subqueries(e, !more_admits, found),
        // Anything else may invert a truth value.
        e => {
            let mut inner = Vec::new();
            e.for_each(&mut |part| {
                if let Expr::Member { subquery, .. } = part {
                    inner.push(subquery);
                }
            });
            found.extend(inner.into_iter().map(|subquery| (subquery.clone(), false)));
        }
    }
}
