//! Sub-selects of rules: `IN (SELECT …)` and `EXISTS (SELECT …)`, as the sets of values that they ask another table
//! for.
//!
//! What a sub-select compares with the row around it must stand as an equality in its `WHERE`; the rest of the
//! condition is about the other table alone, so that equal sets are kept once however many rows they are held against.

use std::sync::Arc;

use super::keyword::Keyword;
use super::lexer::{Location, Token, invalid};
use super::{Parser, Result, Scope, Size, Typed};
use crate::query::{CmpOp, Expr, QueryError, Subquery};
use crate::value::Type;
use gossip_protocol::spelling::similar;

/// Sub-selects within sub-selects: a rule asks a table that asks a table.
const MAX_LEVELS: usize = 2;

/// The `WHERE` of a sub-select.
struct Filter {
    /// What is compared with the row around it, with the column of the sub-select's own table.
    apart: Vec<(Expr, usize)>,
    /// The rest.
    condition: Expr,
    size: Size,
}

impl Parser<'_> {
    /// After `value IN (`.
    pub(super) fn in_subquery(&mut self, left: Typed) -> Result<Typed> {
        let at = self.at();
        self.enter()?;
        self.next += 1;
        let selected = self.next;
        self.skip_to_from()?;
        self.from()?;
        let rest = std::mem::replace(&mut self.next, selected);
        let column = self.column("the name of one column")?;
        if self.keyword() != Keyword::From {
            return Err(self.unexpected("FROM: one column is selected"));
        }
        self.next = rest;
        let Filter { mut apart, condition, size: inner_size } = self.filter(at)?;
        if !apart.is_empty() {
            return Err(invalid(at, "a sub-select after IN that speaks of the row around it", "EXISTS (SELECT …)"));
        }
        let Some(Scope { table, .. }) = self.scopes.pop() else { return Err(self.unexpected("a table")) };
        let inner = self.leaf(Expr::Column(column), Some(table.columns[column].ty), at)?;
        let (value_at, size) = (left.at, left.size.beside(inner_size));
        let (value, _) = self.pair(left, inner)?;
        apart.push((value, column));
        self.node(member(table, apart, condition, false), Some(Type::Bool), value_at, size)
    }

    /// From `EXISTS` on.
    pub(super) fn exists(&mut self) -> Result<Typed> {
        let at = self.at();
        self.next += 1;
        self.need(&Token::LParen, "( and SELECT")?;
        if self.keyword() != Keyword::Select {
            return Err(self.unexpected("SELECT"));
        }
        self.enter()?;
        self.next += 1;
        self.skip_to_from()?;
        self.from()?;
        let Filter { apart, condition, size } = self.filter(at)?;
        let Some(Scope { table, .. }) = self.scopes.pop() else { return Err(self.unexpected("a table")) };
        self.node(member(table, apart, condition, true), Some(Type::Bool), at, size)
    }

    fn enter(&self) -> Result<()> {
        if self.catalog.is_none() {
            return Err(self.unexpected("a list of values; only rules may ask other tables"));
        }
        if self.scopes.len() > MAX_LEVELS {
            return Err(self.unexpected(format!("a value; sub-selects stand at most {MAX_LEVELS} levels deep")));
        }
        Ok(())
    }

    fn from(&mut self) -> Result<()> {
        let (mut name, mut quoted, at) = self.name("the name of a table")?;
        let mut schema = None;
        if self.take(&Token::Period) {
            schema = Some(name);
            (name, quoted, _) = self.name("the name of a table")?;
        }
        let source = self.scopes.first().map(|s| s.table.source.clone());
        let of_source = |s: &Arc<crate::schema::Table>| Some(&s.source) == source.as_ref();
        let Some(catalog) = self.catalog else { return Err(self.unexpected("a list of values")) };
        let full = schema.as_ref().map_or(name.clone(), |s| format!("{s}.{name}"));
        let table = match catalog.find(schema.as_deref(), &name, quoted) {
            Some(table) if !of_source(table) => {
                return Err(invalid(at, format!("{full} is of another source"), "a table of the same source"));
            }
            Some(table) if table.key.is_empty() => {
                let message = format!("{full} has no key, so that rows that leave it cannot be told");
                return Err(invalid(at, message, "a table with a primary key"));
            }
            Some(table) => table.clone(),
            None => {
                let names: Vec<String> = catalog.iter().filter(|t| of_source(t)).map(|t| t.name.to_string()).collect();
                let similar = similar(&full, names.iter().map(String::as_str));
                return Err(QueryError::NotKnown {
                    line: at.line,
                    column: at.column,
                    kind: "table",
                    name: full,
                    similar,
                });
            }
        };
        let named = self.take_keyword(Keyword::As);
        let other = matches!(self.peek(), Token::Word(_)) && !self.keyword().is_reserved();
        let alias = if named || other { Some(self.name("another name for the table")?.0) } else { None };
        self.scopes.push(Scope { visible: table.all_columns(), table, alias });
        Ok(())
    }

    /// `WHERE` and the closing bracket: what is compared with the row around, and the rest.
    fn filter(&mut self, at: Location) -> Result<Filter> {
        let (condition, size) = if self.take_keyword(Keyword::Where) {
            let e = self.expression(0)?;
            let size = e.size;
            (self.condition(e)?, size)
        } else {
            (Expr::always(), Size::default())
        };
        self.need(&Token::RParen, "AND, OR or )")?;
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

fn member(table: Arc<crate::schema::Table>, apart: Vec<(Expr, usize)>, condition: Expr, exists: bool) -> Expr {
    let (of, columns) = apart.into_iter().unzip();
    Expr::Member { of, subquery: Arc::new(Subquery::new(table, columns, condition)), exists }
}
