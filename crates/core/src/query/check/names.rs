//! Which column, or claim, a name means.

use std::sync::Arc;

use gossip_protocol::spelling::similar;

use super::scope::{Part, not_known};
use super::{Checker, Result, Typed};
use crate::query::syntax::{Ast, Ident, Location, Node, invalid};
use crate::query::{Expr, Placeholder, QueryError};
use crate::value::Type;

impl Checker<'_> {
    /// A column of the row that is spoken of, by its place.
    pub(super) fn own_column(&self, i: usize, at: Location) -> Result<Typed> {
        let ty = self.scopes.last().map(|s| s.table.columns[i].ty);
        self.leaf(Expr::Column(i), ty, at)
    }

    /// The name of a column of the row that is spoken of.
    pub(super) fn column_name(&self, i: usize) -> Arc<str> {
        self.scopes.last().map_or_else(|| "".into(), |s| s.table.columns[i].name.clone())
    }

    /// Whether an expression is the name of a column, and nothing else.
    pub(super) fn names_column(&self, e: &Ast) -> bool {
        let Node::Name(parts) = &e.node else { return false };
        let column = in_table(parts, e.at).ok().and_then(|(table, name)| self.scopes.last()?.column(table, name));
        column.is_some()
    }

    /// A column of the row that is spoken of.
    pub(super) fn column(&self, e: Ast) -> Result<usize> {
        let Node::Name(parts) = e.node else {
            return Err(invalid(e.at, "only columns are supported here", "the name of a column"));
        };
        let (qualifier, column) = in_table(&parts, e.at)?;
        let found = self.scopes.last().and_then(|s| s.column(qualifier, column));
        found.ok_or_else(|| self.unknown_column(qualifier, column))
    }

    /// A claim, a column of the row that is spoken of or, in a sub-select, one of the row around it.
    pub(super) fn name(&self, parts: &[Ident], at: Location) -> Result<Typed> {
        if let [first, path @ ..] = parts
            && self.claims
            && !path.is_empty()
            && first.name.eq_ignore_ascii_case("claim")
        {
            let path = path.iter().map(|part| part.name.as_str()).collect::<Vec<_>>().join(".");
            return self.leaf(Expr::Placeholder(Placeholder::Claim, path.into(), Type::Any), None, at);
        }
        let (qualifier, column) = in_table(parts, at)?;
        let mut inwards = self.scopes.iter().rev();
        let own = inwards.next().and_then(|s| Some((s, s.column(qualifier, column)?)));
        if let Some((scope, i)) = own {
            return self.leaf(Expr::Column(i), Some(scope.table.columns[i].ty), at);
        }
        match inwards.next().and_then(|s| Some((s, s.column(qualifier, column)?))) {
            Some((scope, i)) => self.leaf(Expr::Outer(i), Some(scope.table.columns[i].ty), at),
            None => Err(self.unknown_column(qualifier, column)),
        }
    }

    fn unknown_column(&self, qualifier: Option<&Ident>, column: &Ident) -> QueryError {
        let of_several = self.scopes.last().filter(|s| s.places(qualifier, column).len() > 1);
        if let Some(scope) = of_several {
            let has = |part: &&&Part| part.column(&column.name, column.quoted).is_some();
            let written = scope.written();
            let names: Vec<String> =
                written.iter().filter(has).map(|p| format!("{}.{}", p.name, column.name)).collect();
            return invalid(column.at, format!("{} is a column of several tables", column.name), names.join(" or "));
        }
        let visible = self.scopes.last().map(|s| s.visible.iter().map(|i| &*s.table.columns[i].name));
        let name = qualifier.map_or(column.name.clone(), |q| format!("{}.{}", q.name, column.name));
        not_known("column", column.at, name, visible.and_then(|v| similar(&column.name, v)))
    }
}

/// A column's name with its table's, if that is said.
fn in_table(parts: &[Ident], at: Location) -> Result<(Option<&Ident>, &Ident)> {
    match parts {
        [column] => Ok((None, column)),
        [table, column] => Ok((Some(table), column)),
        _ => Err(invalid(at, "a name of more than two parts", "column or table.column")),
    }
}
