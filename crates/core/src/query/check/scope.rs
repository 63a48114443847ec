//! Which table and which column a name means.

use std::sync::Arc;

use gossip_protocol::spelling::similar;

use super::{Checker, Result, Typed};
use crate::query::syntax::{Ast, Ident, Item, Location, Node, TableRef, invalid};
use crate::query::{Expr, Placeholder, QueryError, Visible};
use crate::schema::{Catalog, ColumnSet, Table};
use crate::value::Type;

/// A table whose columns may be named.
pub(super) struct Scope {
    pub(super) table: Arc<Table>,
    /// The other name that the table was given.
    pub(super) alias: Option<String>,
    pub(super) visible: ColumnSet,
}

fn not_known(kind: &'static str, at: Location, name: String, similar: Option<String>) -> QueryError {
    QueryError::NotKnown { line: at.line, column: at.column, kind, name, similar }
}

/// The table that a client's query reads, with the columns that the client may name.
pub(super) fn of_client(from: TableRef, visible: &dyn Visible) -> Result<Scope> {
    let schema = from.schema.as_ref().map(|s| s.name.as_str());
    if let Some((table, visible)) = visible.table(schema, &from.table.name, from.table.quoted) {
        return Ok(Scope { table, alias: from.alias.map(|a| a.name), visible });
    }
    let (name, names) = (from.full(), visible.names());
    let similar = similar(&name, names.iter().map(String::as_str));
    Err(not_known("table", from.at(), name, similar))
}

/// The table that a rule's sub-select asks: one of the same source as the rule's own, with a key.
pub(super) fn of_rule(from: TableRef, own: &Table, catalog: &Catalog) -> Result<Scope> {
    let schema = from.schema.as_ref().map(|s| s.name.as_str());
    let (at, full) = (from.at(), from.full());
    match catalog.find(schema, &from.table.name, from.table.quoted) {
        Some(table) if table.source != own.source => {
            Err(invalid(at, format!("{full} is of another source"), "a table of the same source"))
        }
        Some(table) if table.key.is_empty() => {
            let message = format!("{full} has no key, so that rows that leave it cannot be told");
            Err(invalid(at, message, "a table with a primary key"))
        }
        Some(table) => {
            let alias = from.alias.map(|a| a.name);
            Ok(Scope { table: table.clone(), alias, visible: table.all_columns() })
        }
        None => {
            let of_source = catalog.iter().filter(|t| t.source == own.source);
            let names: Vec<String> = of_source.map(|t| t.name.to_string()).collect();
            let similar = similar(&full, names.iter().map(String::as_str));
            Err(not_known("table", at, full, similar))
        }
    }
}

impl Scope {
    fn column(&self, qualifier: Option<&Ident>, column: &Ident) -> Option<usize> {
        let own = self.alias.as_deref().unwrap_or(&self.table.name.name);
        if qualifier.is_some_and(|q| !own.eq_ignore_ascii_case(&q.name)) {
            return None;
        }
        self.table.column(&column.name, column.quoted).filter(|&i| self.visible.contains(i))
    }
}

impl Checker<'_> {
    /// The selected columns.
    pub(super) fn items(&self, items: Vec<Item>) -> Result<Vec<usize>> {
        let mut select = Vec::new();
        for item in items {
            let e = match item {
                Item::Expr(e) => e,
                Item::Star(at) if !select.is_empty() => {
                    return Err(invalid(at, "* beside other columns", "either * or names of columns"));
                }
                Item::Star(_) => {
                    select.extend(self.scopes.last().into_iter().flat_map(|s| s.visible.iter()));
                    continue;
                }
            };
            let at = e.at;
            let column = self.column(e)?;
            if select.contains(&column) {
                return Err(invalid(at, "this column is named twice", "each column once"));
            }
            select.push(column);
        }
        Ok(select)
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
