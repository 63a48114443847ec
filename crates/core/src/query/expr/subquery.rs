//! Sub-selects: whose they are, what they ask for, what makes two of them one.

use std::cmp::Ordering;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use super::{Expr, Grant, Subquery};
use crate::canonical::{Canonical as _, Encoder};
use crate::schema::Table;
use crate::value::Value;

impl Subquery {
    /// That of a rule, which sees the whole table. Its condition has a value on every row.
    pub fn of_rule(table: Arc<Table>, columns: Vec<usize>, condition: Expr) -> Subquery {
        let all = Grant::of_rows(condition.canonicalize(), table.all_columns());
        Subquery::new(table, columns, Some([all].into()), Expr::always())
    }

    /// That of a client's query, of whom it is not yet known what they may see.
    pub fn of_client(table: Arc<Table>, columns: Vec<usize>, condition: Expr) -> Subquery {
        Subquery::new(table, columns, None, condition.canonicalize())
    }

    fn new(table: Arc<Table>, columns: Vec<usize>, grants: Option<Box<[Grant]>>, condition: Expr) -> Subquery {
        let mut subquery = Subquery { table, columns, grants, condition, fingerprint: [0; 16] };
        let mut identity = Encoder::new("look-up");
        subquery.encode(&mut identity);
        subquery.fingerprint.copy_from_slice(&identity.digest()[..16]);
        subquery
    }

    /// The same for somebody who may see this of its table.
    pub fn seen_by(&self, grants: Vec<Grant>) -> Subquery {
        Subquery::new(self.table.clone(), self.columns.clone(), Some(grants.into()), self.condition.clone())
    }

    /// What may be seen of its table; `None` if it is not known who asks.
    pub fn grants(&self) -> Option<&[Grant]> {
        self.grants.as_deref()
    }

    /// The client's condition, on what may be seen.
    pub fn condition(&self) -> &Expr {
        &self.condition
    }

    /// All its conditions: the client's, and those of what may be seen.
    pub fn conditions(&self) -> impl Iterator<Item = &Expr> {
        self.grants.iter().flatten().map(|g| &g.condition).chain([&self.condition])
    }

    /// The same with its conditions replaced.
    ///
    /// # Errors
    /// Those of `f`.
    pub fn try_map<E>(&self, mut f: impl FnMut(&Expr) -> Result<Expr, E>) -> Result<Subquery, E> {
        let mut granted = |g: &Grant| Ok(Grant { condition: f(&g.condition)?.canonicalize(), ..g.clone() });
        let grants = self.grants.as_ref().map(|all| all.iter().map(&mut granted).collect()).transpose()?;
        let condition = f(&self.condition)?.canonicalize();
        Ok(Subquery::new(self.table.clone(), self.columns.clone(), grants, condition))
    }

    /// Whether its result changes as time passes.
    pub fn changes_with_time(&self) -> bool {
        let mut found = false;
        for condition in self.conditions() {
            condition.for_each_moment(&mut |_, _| found = true);
            condition.for_each(&mut |e| {
                if let Expr::Member { subquery, .. } = e {
                    found |= subquery.changes_with_time();
                }
            });
        }
        found
    }

    /// Whether its result is always empty.
    pub fn is_empty(&self) -> bool {
        let admits_nothing = self.grants.as_ref().is_some_and(|all| all.iter().all(Grant::is_void));
        admits_nothing || self.condition.is_const(false) || self.condition == Expr::Const(Value::Null)
    }
}

impl PartialEq for Subquery {
    fn eq(&self, other: &Self) -> bool {
        self.fingerprint == other.fingerprint
    }
}

impl Eq for Subquery {}

impl Hash for Subquery {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.fingerprint.hash(state);
    }
}

impl PartialOrd for Subquery {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Subquery {
    fn cmp(&self, other: &Self) -> Ordering {
        self.fingerprint.cmp(&other.fingerprint)
    }
}
