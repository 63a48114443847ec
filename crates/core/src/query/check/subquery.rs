//! Sub-selects, of rules and of clients: `IN (SELECT …)` and `EXISTS (SELECT …)`, as the sets of values that they ask another
//! table for.
//!
//! What a sub-select compares with the row around it must stand as an equality in its `WHERE`; the rest of the
//! condition is about the other table alone, so that equal sets are kept once for any number of outer rows.

use std::sync::Arc;

use super::{Checker, Others, Result, Size, Typed, scope};
use crate::query::syntax::{Ast, Distinct, Item, Join, Location, Select, TableRef, invalid};
use crate::query::{CmpOp, Expr, QueryError, Subquery};
use crate::schema::Table;
use crate::value::Type;

/// Sub-selects within sub-selects: a condition asks a table that asks a table.
const MAX_LEVELS: usize = 2;

/// Sub-selects of one client's query. Each is a result of its own, which is read and kept.
const MAX_SUBQUERIES: usize = 8;

/// The `WHERE` of a sub-select.
struct Filter {
    /// What is compared with the row around it, with the column of the sub-select's own table.
    apart: Vec<(Expr, usize)>,
    /// The rest.
    condition: Expr,
    size: Size,
}

impl Checker<'_> {
    /// `value IN (SELECT column FROM …)`
    pub(super) fn in_subquery(&mut self, value: Ast, select: Select) -> Result<Typed> {
        let value = self.expression(value)?;
        if matches!(self.others, Others::OfClient(_)) && !matches!(value.expr, Expr::Column(_) | Expr::Outer(_)) {
            // Which rows a change of the set concerns is found by the column.
            return Err(invalid(value.at, "only a column is looked for in a sub-select", "column IN (SELECT …)"));
        }
        let Select { at, distinct, items, from, condition, joins, .. } = select;
        alone(&joins)?;
        let table = self.enter(from, &distinct, at)?;
        let mut items = items.into_iter();
        let column = match items.next() {
            Some(Item::Expr(e, _)) => self.column(e)?,
            Some(Item::Star(at, _)) => return Err(invalid(at, "* after IN", "the name of one column")),
            None => return Err(invalid(at, "nothing is selected", "the name of one column")),
        };
        if let Some(second) = items.next() {
            let at = match second {
                Item::Star(at, _) => at,
                Item::Expr(e, _) => e.at,
            };
            return Err(invalid(at, "a second column", "FROM: one column is selected after IN"));
        }
        let Filter { mut apart, condition, size: inner_size } = self.split(condition, at)?;
        if !apart.is_empty() {
            return Err(invalid(at, "a sub-select after IN that speaks of the row around it", "EXISTS (SELECT …)"));
        }
        self.scopes.pop();
        let inner = self.leaf(Expr::Column(column), Some(table.columns[column].ty), at)?;
        let value_at = value.at;
        let (value, _, compared) = self.pair(value, inner)?;
        let size = compared.beside(inner_size);
        apart.push((value, column));
        self.node(self.member(table, apart, condition, false), Some(Type::Bool), value_at, size)
    }

    /// `EXISTS (SELECT … FROM …)`: what is selected does not matter.
    pub(super) fn exists(&mut self, select: Select, at: Location) -> Result<Typed> {
        alone(&select.joins)?;
        let table = self.enter(select.from, &select.distinct, select.at)?;
        let Filter { apart, condition, size } = self.split(select.condition, at)?;
        self.scopes.pop();
        self.node(self.member(table, apart, condition, true), Some(Type::Bool), at, size)
    }

    /// From here on the row of another table is spoken of.
    fn enter(&mut self, from: TableRef, distinct: &Distinct, at: Location) -> Result<Arc<Table>> {
        let Some(own) = self.scopes.first() else { return Err(nowhere(at)) };
        if let Distinct::Rows(at) | Distinct::On(at, _) = distinct {
            return Err(invalid(*at, "DISTINCT makes no difference here", "what is selected"));
        }
        let scope = match self.others {
            Others::None => return Err(nowhere(at)),
            Others::OfRule(catalog) => scope::of_rule(from, &own.table, catalog)?,
            Others::OfClient(_) if self.subqueries >= MAX_SUBQUERIES => {
                let expected = format!("at most {MAX_SUBQUERIES} in one query");
                return Err(invalid(at, "one sub-select too many", expected));
            }
            Others::OfClient(visible) => scope::beside(from, &own.table, visible)?,
        };
        self.subqueries += 1;
        if self.scopes.len() > MAX_LEVELS {
            let expected = format!("a value; sub-selects stand at most {MAX_LEVELS} levels deep");
            return Err(invalid(at, "one sub-select too many", expected));
        }
        let table = scope.table.clone();
        self.scopes.push(scope);
        Ok(table)
    }

    fn member(&self, table: Arc<Table>, apart: Vec<(Expr, usize)>, condition: Expr, exists: bool) -> Expr {
        let (of, columns) = apart.into_iter().unzip();
        let subquery = match self.others {
            Others::OfRule(_) => Subquery::of_rule(table, columns, condition),
            _ => Subquery::of_client(table, columns, condition),
        };
        Expr::Member { of, subquery: Arc::new(subquery), exists }
    }

    /// What is compared with the row around, and the rest.
    fn split(&mut self, condition: Option<Ast>, at: Location) -> Result<Filter> {
        let (condition, size) = self.filter(condition)?;
        let all = match condition {
            Expr::And(all) => all,
            one => vec![one],
        };
        let (mut apart, mut rest) = (Vec::new(), Vec::new());
        for e in all {
            let mut speaks_of_outer = false;
            e.for_each(&mut |e| speaks_of_outer |= matches!(e, Expr::Outer(_)));
            match e {
                e if !speaks_of_outer => rest.push(e),
                Expr::Cmp(CmpOp::Eq, a, b) => match (*a, *b) {
                    (Expr::Outer(o), Expr::Column(c)) | (Expr::Column(c), Expr::Outer(o)) => {
                        apart.push((Expr::Column(o), c));
                    }
                    _ => return Err(only_equal(at)),
                },
                _ => return Err(only_equal(at)),
            }
        }
        Ok(Filter { apart, condition: Expr::And(rest), size })
    }
}

fn only_equal(at: Location) -> QueryError {
    let expected = "column = column, beside the other conditions with AND";
    invalid(at, "a sub-select that compares with the row around it in another way", expected)
}

fn alone(joins: &[Join]) -> Result<()> {
    let one = |join: &Join| invalid(join.at, "a join in a sub-select", "one table; sub-selects may stand in its WHERE");
    joins.first().map_or(Ok(()), |join| Err(one(join)))
}

fn nowhere(at: Location) -> QueryError {
    invalid(at, "a sub-select cannot stand here", "a value; IN (SELECT …) and EXISTS (SELECT …) stand in WHERE")
}
