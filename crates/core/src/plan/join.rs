//! Rows of other tables beside those of a query's own: each row has one partner in each, found by its whole key, or none.

use std::borrow::Cow;
use std::sync::Arc;

use super::{Admitted, Scan, VisibleRow};
use crate::canonical::{Canonical, Encoder};
use crate::query::function::EvalError;
use crate::query::{Expr, Masked, Subquery};
use crate::schema::{ColumnSet, Key, Table};
use crate::subquery::{Partner, SubqueryResults, subqueries_of};
use crate::value::Value;

/// A table that is joined to those before it, before it is known who asks.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Join {
    /// The table.
    pub table: Arc<Table>,
    /// What its key is equal to: columns of the row so far, in the order of the key.
    pub key: Box<[Expr]>,
    /// What else has to hold for a row to be the partner, on the row with it.
    pub condition: Expr,
    /// Whether a row without a partner stays, with `NULL` in its place.
    pub is_left: bool,
}

/// What the row of several tables is like whose columns stand one behind another: the key is that of the first.
pub fn joined_shape<'a>(tables: impl Iterator<Item = &'a Table> + Clone) -> Table {
    let columns = tables.clone().flat_map(|table| table.columns.iter().cloned()).collect();
    let first = tables.into_iter().next();
    Table {
        name: first.map(|t| t.name.clone()).unwrap_or_default(),
        source: first.map_or_else(|| "".into(), |t| t.source.clone()),
        columns,
        key: first.map(|t| t.key.clone()).unwrap_or_default(),
        old_values: first.is_some_and(|t| t.old_values),
        incarnation: first.map_or(0, |t| t.incarnation),
    }
}

/// A [`Join`] for one client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Side {
    scan: Scan,
    key: Box<[Expr]>,
    condition: Expr,
    is_left: bool,
    /// The place of its first column in the row.
    first: usize,
}

/// All tables that are joined to a query's own, for one client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Joins {
    sides: Box<[Side]>,
    shape: Arc<Table>,
    /// What follows from the query's condition for the rows of its own table alone: rows on which it does not hold need no partners.
    of_own: Expr,
}

impl Side {
    /// What the client may see of its table.
    pub fn scan(&self) -> &Scan {
        &self.scan
    }

    /// The columns of its key, each with what it is equal to.
    pub fn found_by(&self) -> impl Iterator<Item = (usize, &Expr)> {
        self.scan.table().key.iter().copied().zip(&self.key)
    }

    /// What else has to hold for a row to be the partner.
    pub fn condition(&self) -> &Expr {
        &self.condition
    }

    /// Whether a row without a partner stays.
    pub fn is_left(&self) -> bool {
        self.is_left
    }

    /// The key of the partner of a row; `None` if a part of it is `NULL`.
    fn key(&self, row: &VisibleRow, subquery_results: &dyn SubqueryResults) -> Result<Option<Key>, EvalError> {
        let cells = Masked { row: &row.row, visible: &row.columns, subquery_results };
        let values =
            self.key.iter().map(|e| e.value(&cells).map(Cow::into_owned)).collect::<Result<Vec<Value>, _>>()?;
        Ok((!values.iter().any(Value::is_null)).then(|| values.into()))
    }

    /// A row with the partner that is found by this key, or without one; `None` if it needs one and has none, or if it is not known yet
    /// whether it has.
    fn join(
        &self,
        row: VisibleRow,
        key: Option<&Key>,
        subquery_results: &dyn SubqueryResults,
    ) -> Result<Option<VisibleRow>, EvalError> {
        let partner = match key.map(|key| subquery_results.partner(self.scan.description(), key)) {
            None => None,
            Some(Partner::Unknown) => return Ok(None),
            Some(Partner::Known(partner)) => partner,
        };
        let admitted = partner.and_then(|partner| self.scan.admit(partner, subquery_results));
        let mut joined = admitted.as_ref().map(|partner| self.beside(&row, Some(partner)));
        if let Some(with) = joined.as_ref().filter(|_| !self.condition.is_const(true)) {
            let cells = Masked { row: &with.row, visible: &with.columns, subquery_results };
            if !self.condition.holds(&cells)? {
                joined = None;
            }
        }
        Ok(joined.or_else(|| self.is_left.then(|| self.beside(&row, None))))
    }

    /// The row with a partner, or with `NULL` in its place, of which all is seen that ever is.
    fn beside(&self, row: &VisibleRow, partner: Option<&Admitted<'_>>) -> VisibleRow {
        let width = self.scan.table().columns.len();
        let (nulls, granted);
        let (values, seen): (&[Value], &ColumnSet) = match partner {
            Some(partner) => (&partner.row, &partner.columns),
            None => {
                (nulls, granted) = (vec![Value::Null; width], self.scan.granted());
                (&nulls, &granted)
            }
        };
        let mut columns = row.columns.clone();
        seen.iter().for_each(|i| columns.insert(self.first + i));
        VisibleRow { row: row.row.iter().chain(values).cloned().collect(), columns }
    }
}

impl Joins {
    /// The joins of a query on `own`, with what its client may see of each, and the query's condition.
    pub(super) fn new(own: &Arc<Table>, joins: Vec<(Join, Scan)>, condition: &Expr) -> Joins {
        let shape =
            joined_shape([own].into_iter().chain(joins.iter().map(|(join, _)| &join.table)).map(|table| &**table));
        let mut first = own.columns.len();
        let mut sides = Vec::with_capacity(joins.len());
        for (Join { table, key, condition, is_left }, scan) in joins {
            sides.push(Side { scan, key, condition, is_left, first });
            first += table.columns.len();
        }
        let mut joins = Joins { sides: sides.into(), shape: Arc::new(shape), of_own: Expr::always() };
        joins.of_own = joins.implied(own.columns.len(), condition);
        joins
    }

    /// What follows from a condition for the rows of the first table, which has so many columns.
    fn implied(&self, width: usize, condition: &Expr) -> Expr {
        let all = match condition {
            Expr::And(all) => &all[..],
            one => std::slice::from_ref(one),
        };
        let within = |e: &Expr, from: usize, to: usize| {
            let mut is = true;
            e.for_each_column(&mut |i| is &= (from..to).contains(&i));
            is
        };
        let own = all.iter().filter(|e| within(e, 0, width)).cloned();
        // A partner that has to be there and to be like this is looked for among those that are.
        let of_side = |side: &Side| {
            let end = side.first + side.scan.table().columns.len();
            let suits = |e: &&Expr| {
                let mut names_one = false;
                e.for_each_column(&mut |_| names_one = true);
                names_one && e.is_total() && within(e, side.first, end) && subqueries_of([*e]).is_empty()
            };
            let wanted: Vec<Expr> = all.iter().filter(suits).map(|e| moved(e, side.first)).collect();
            match (&side.key[..], &side.scan.table().key[..]) {
                ([Expr::Column(own)], [key]) if *own < width && !side.is_left && !wanted.is_empty() => {
                    let table = side.scan.table().clone();
                    let asked = Subquery::of_client(table, vec![*key], Expr::And(wanted));
                    let subquery = Arc::new(asked.seen_by(side.scan.grants().to_vec()));
                    Some(Expr::Member { of: vec![Expr::Column(*own)], subquery, exists: true })
                }
                _ => None,
            }
        };
        Expr::And(own.chain(self.sides.iter().filter_map(of_side)).collect()).canonicalize()
    }

    /// The tables that are joined, in the order in which they are found.
    pub fn sides(&self) -> &[Side] {
        &self.sides
    }

    /// What the row of all tables is like.
    pub fn shape(&self) -> &Arc<Table> {
        &self.shape
    }

    /// What follows from the query's condition for the rows of its own table alone.
    pub fn of_own(&self) -> &Expr {
        &self.of_own
    }

    /// The table that a column is of, by its place in [`Joins::sides`], with its place in that; `None` for the query's own.
    pub(super) fn side_of(&self, column: usize) -> Option<(&Side, usize)> {
        self.sides.iter().rev().find(|side| side.first <= column).map(|side| (side, column - side.first))
    }

    /// All its conditions and what partners are found by.
    pub(super) fn exprs(&self) -> impl Iterator<Item = &Expr> {
        self.sides.iter().flat_map(|side| side.key.iter().chain([&side.condition]))
    }

    /// The conditions under which rows of the joined tables are admitted.
    pub fn conditions(&self) -> impl Iterator<Item = &Expr> {
        self.sides.iter().flat_map(|side| side.scan.conditions())
    }

    /// The row with its partners; `None` if it has not those that it needs, or if it is not known yet whether it has.
    ///
    /// # Errors
    /// What a partner is looked for by, or what has to hold of it, has no value.
    pub fn beside_partners(
        &self,
        own: Admitted<'_>,
        subquery_results: &dyn SubqueryResults,
    ) -> Result<Option<VisibleRow>, EvalError> {
        let mut row = own.into_visible();
        for side in &self.sides {
            let key = side.key(&row, subquery_results)?;
            match side.join(row, key.as_ref(), subquery_results)? {
                Some(joined) => row = joined,
                None => return Ok(None),
            }
        }
        Ok(Some(row))
    }

    /// The tables, by their places, and the keys that a row's partners are looked for by, as far as the partners are known by which
    /// others are found.
    pub fn wanted(&self, own: Admitted<'_>, subquery_results: &dyn SubqueryResults) -> Vec<(usize, Key)> {
        let mut wanted = Vec::with_capacity(self.sides.len());
        let mut row = own.into_visible();
        for (i, side) in self.sides.iter().enumerate() {
            // Where it fails nothing more is looked for; the query fails there.
            let Ok(key) = side.key(&row, subquery_results) else { break };
            wanted.extend(key.clone().map(|key| (i, key)));
            if i + 1 == self.sides.len() {
                break;
            }
            let Ok(Some(joined)) = side.join(row, key.as_ref(), subquery_results) else { break };
            row = joined;
        }
        wanted
    }
}

/// An expression on the columns of one table, whose first stands at `first` in the row, as one on that table.
fn moved(e: &Expr, first: usize) -> Expr {
    match e {
        Expr::Column(i) => Expr::Column(i - first),
        e => {
            let Ok(e) = e.try_map(|part| Ok::<_, std::convert::Infallible>(moved(part, first)));
            e
        }
    }
}

impl Canonical for Joins {
    fn encode(&self, to: &mut Encoder) {
        to.number(self.sides.len() as u64);
        for side in &self.sides {
            side.scan.encode(to);
            to.list(&side.key);
            side.condition.encode(to);
            to.tag(side.is_left.into());
        }
    }
}
