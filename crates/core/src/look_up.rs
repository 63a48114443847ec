//! What a rule asks another table for: a set of values, kept up to date like a live query.
//!
//! `id IN (SELECT call FROM assignments WHERE pilot = claim.sub)` holds where a row's `id` is among the values that the
//! look-up finds. Equal look-ups, claims filled in, are kept once for all feeds that ask them.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use crate::canonical::{Canonical as _, Encoder};
use crate::query::Expr;
use crate::query::expr::write_name;
use crate::schema::Table;
use crate::value::Value;

/// `SELECT columns FROM table WHERE condition`, as a set.
#[derive(Clone, Debug)]
pub struct LookUp {
    /// The table that is asked.
    pub table: Arc<Table>,
    /// The columns whose values are looked for; none where only the presence of a row matters.
    pub columns: Vec<usize>,
    /// Which of its rows count.
    pub condition: Expr,
    /// Differs where anything of the above does: look-ups stand in maps that are asked for every row.
    fingerprint: [u8; 16],
}

impl LookUp {
    /// Brings the condition into its agreed form.
    pub fn new(table: Arc<Table>, columns: Vec<usize>, condition: Expr) -> LookUp {
        let condition = condition.normal();
        let mut look_up = LookUp { table, columns, condition, fingerprint: [0; 16] };
        let mut identity = Encoder::new("look-up");
        look_up.encode(&mut identity);
        look_up.fingerprint.copy_from_slice(&identity.digest()[..16]);
        look_up
    }

    /// Whether no row can ever count.
    pub fn is_empty(&self) -> bool {
        self.condition.is_const(false) || self.condition == Expr::Const(Value::Null)
    }
}

impl PartialEq for LookUp {
    fn eq(&self, other: &Self) -> bool {
        self.fingerprint == other.fingerprint
    }
}

impl Eq for LookUp {}

impl Hash for LookUp {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.fingerprint.hash(state);
    }
}

impl PartialOrd for LookUp {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for LookUp {
    fn cmp(&self, other: &Self) -> Ordering {
        self.fingerprint.cmp(&other.fingerprint)
    }
}

impl fmt::Display for LookUp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SELECT ")?;
        if self.columns.is_empty() {
            f.write_str("1")?;
        }
        for (i, c) in self.columns.iter().enumerate() {
            f.write_str(if i > 0 { ", " } else { "" })?;
            write_name(f, &self.table.columns[*c].name)?;
        }
        write!(f, " FROM {}", self.table.name)?;
        if self.condition.is_const(true) {
            Ok(())
        } else {
            write!(f, " WHERE {}", self.condition.show(&self.table, None))
        }
    }
}

/// The values that look-ups have found.
pub trait Sets {
    /// The values of one look-up; `None` if it is not known, so that a rule that needs it admits nothing.
    fn set(&self, of: &LookUp) -> Option<&ValueSet>;
}

/// Nothing is known of other tables.
impl Sets for () {
    fn set(&self, _: &LookUp) -> Option<&ValueSet> {
        None
    }
}

/// One value per column of a look-up.
pub type Found = Arc<[Value]>;

/// A bag of found values, with SQL's notion of what is among them.
#[derive(Clone, Debug, Default)]
pub struct ValueSet {
    /// By their probes, which are equal where SQL's `=` holds.
    by_probe: HashMap<Box<[Value]>, Vec<(Found, u32)>>,
    /// Those with a `NULL`, which are equal to nothing.
    with_null: HashMap<Found, u32>,
}

fn probe(values: &[Value]) -> Option<Box<[Value]>> {
    values.iter().map(Value::probe).collect()
}

fn equal(a: &[Value], b: &[Value]) -> bool {
    a.iter().zip(b).all(|(a, b)| a.sql_cmp(b) == Some(Ordering::Equal))
}

impl ValueSet {
    /// Adds what one row holds. Whether it was not there before.
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

    /// Takes what one row held away. Whether it is not there any more.
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

    /// Whether the values are among those found, as SQL's `IN` says it: unknown where a `NULL` stands in the way.
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

    /// Whether nothing was found.
    pub fn is_empty(&self) -> bool {
        self.by_probe.is_empty() && self.with_null.is_empty()
    }

    /// The values of the first column that rows can equal.
    pub fn firsts(&self) -> impl Iterator<Item = &Value> {
        self.by_probe.values().flatten().filter_map(|(f, _)| f.first())
    }

    /// Different values.
    pub fn len(&self) -> usize {
        self.by_probe.values().map(Vec::len).sum::<usize>() + self.with_null.len()
    }
}
