//! The tables whose columns may be named.

use std::sync::Arc;

use gossip_protocol::spelling::similar;

use crate::query::syntax::{Ident, Location, TableRef, invalid};
use crate::query::{QueryError, Visible};
use crate::schema::{Catalog, ColumnSet, Table};

type Result<T> = std::result::Result<T, QueryError>;

/// A table whose columns may be named.
pub(super) struct Scope {
    pub(super) table: Arc<Table>,
    /// The other name that the table was given.
    pub(super) alias: Option<String>,
    pub(super) visible: ColumnSet,
}

pub(super) fn not_known(kind: &'static str, at: Location, name: String, similar: Option<String>) -> QueryError {
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

/// The table that a client's sub-select asks: one of the same database as the query's own.
pub(super) fn beside(from: TableRef, own: &Table, visible: &dyn Visible) -> Result<Scope> {
    let (at, full) = (from.at(), from.full());
    let scope = of_client(from, visible)?;
    let of_database = |table: &Table| !table.name.is_system() && !table.is_topic();
    if !of_database(own) || !of_database(&scope.table) {
        let message = format!("{} and {full} are not both tables of a database", own.name);
        return Err(invalid(at, message, "a sub-select of one table in a query of another"));
    }
    of_same_source(&scope.table, own, at, &full)?;
    Ok(scope)
}

/// Refuses a table that a sub-select cannot ask: another source stands at another place, and of a table without a key it is not
/// known which rows leave.
fn of_same_source(table: &Table, own: &Table, at: Location, full: &str) -> Result<()> {
    if table.source != own.source {
        return Err(invalid(at, format!("{full} is of another source"), "a table of the same source"));
    }
    if table.key.is_empty() {
        let message = format!("{full} has no key, so that rows that leave it cannot be told");
        return Err(invalid(at, message, "a table with a primary key"));
    }
    Ok(())
}

/// The table that a rule's sub-select asks: one of the same source as the rule's own, with a key.
pub(super) fn of_rule(from: TableRef, own: &Table, catalog: &Catalog) -> Result<Scope> {
    let schema = from.schema.as_ref().map(|s| s.name.as_str());
    let (at, full) = (from.at(), from.full());
    match catalog.find(schema, &from.table.name, from.table.quoted) {
        Some(table) => {
            of_same_source(table, own, at, &full)?;
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
    pub(super) fn column(&self, qualifier: Option<&Ident>, column: &Ident) -> Option<usize> {
        let own = self.alias.as_deref().unwrap_or(&self.table.name.name);
        if qualifier.is_some_and(|q| !own.eq_ignore_ascii_case(&q.name)) {
            return None;
        }
        self.table.column(&column.name, column.quoted).filter(|&i| self.visible.contains(i))
    }
}
