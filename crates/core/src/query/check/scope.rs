//! The tables whose columns may be named.

use std::sync::Arc;

use gossip_protocol::spelling::similar;

use crate::plan::joined_shape;
use crate::query::syntax::{Ident, Location, TableRef, invalid};
use crate::query::{QueryError, Visible};
use crate::schema::{Catalog, ColumnSet, Table};

type Result<T> = std::result::Result<T, QueryError>;

/// A row whose columns may be named: that of a table, or of several that are joined.
pub(super) struct Scope {
    /// What the row is like.
    pub(super) table: Arc<Table>,
    pub(super) visible: ColumnSet,
    /// The tables whose rows it is made of, with the places of their first columns in it; in the order in which they are found.
    parts: Vec<Part>,
}

/// A table that is named in a query.
#[derive(Clone)]
pub(super) struct Part {
    pub(super) table: Arc<Table>,
    /// What it is called there.
    pub(super) name: String,
    pub(super) visible: ColumnSet,
    /// The place of its first column in the row.
    pub(super) first: usize,
    /// Its place among the tables as they are written.
    pub(super) written: usize,
}

impl Part {
    /// The place of a column in the row.
    pub(super) fn column(&self, name: &str, quoted: bool) -> Option<usize> {
        self.table.column(name, quoted).filter(|&i| self.visible.contains(i)).map(|i| self.first + i)
    }

    /// The places of its columns in the row that may be seen.
    pub(super) fn columns(&self) -> impl Iterator<Item = usize> {
        self.visible.iter().map(|i| self.first + i)
    }
}

pub(super) fn not_known(kind: &'static str, at: Location, name: String, similar: Option<String>) -> QueryError {
    QueryError::NotKnown { line: at.line, column: at.column, kind, name, similar }
}

/// The table that a client's query reads, with the columns that the client may name.
pub(super) fn of_client(from: TableRef, visible: &dyn Visible) -> Result<Scope> {
    let schema = from.schema.as_ref().map(|s| s.name.as_str());
    if let Some((table, visible)) = visible.table(schema, &from.table.name, from.table.quoted) {
        return Ok(Scope::of(table, from.alias.map(|a| a.name), visible));
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
pub(super) fn of_same_source(table: &Table, own: &Table, at: Location, full: &str) -> Result<()> {
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
            Ok(Scope::of(table.clone(), from.alias.map(|a| a.name), table.all_columns()))
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
    /// That of one table, with the other name that it was given.
    pub(super) fn of(table: Arc<Table>, alias: Option<String>, visible: ColumnSet) -> Scope {
        let name = alias.unwrap_or_else(|| table.name.name.to_string());
        Scope {
            parts: vec![Part { table: table.clone(), name, visible: visible.clone(), first: 0, written: 0 }],
            table,
            visible,
        }
    }

    /// That of several tables, whose columns stand one behind another.
    pub(super) fn of_joined(mut parts: Vec<Part>) -> Scope {
        let (mut first, mut visible) = (0, ColumnSet::default());
        for part in &mut parts {
            part.first = first;
            part.columns().for_each(|i| visible.insert(i));
            first += part.table.columns.len();
        }
        let table = joined_shape(parts.iter().map(|part| &*part.table));
        Scope { table: Arc::new(table), visible, parts }
    }

    /// The tables whose rows it is made of.
    pub(super) fn parts(&self) -> &[Part] {
        &self.parts
    }

    /// Those as they are written.
    pub(super) fn written(&self) -> Vec<&Part> {
        let mut parts: Vec<&Part> = self.parts.iter().collect();
        parts.sort_by_key(|part| part.written);
        parts
    }

    /// The places that a name may mean: more than one if it is not said which table's.
    pub(super) fn places(&self, qualifier: Option<&Ident>, column: &Ident) -> Vec<usize> {
        let is_meant = |part: &&Part| qualifier.is_none_or(|q| part.name.eq_ignore_ascii_case(&q.name));
        let parts = self.parts.iter().filter(is_meant);
        parts.filter_map(|part| part.column(&column.name, column.quoted)).collect()
    }

    /// The place that a name means.
    pub(super) fn column(&self, qualifier: Option<&Ident>, column: &Ident) -> Option<usize> {
        match self.places(qualifier, column)[..] {
            [place] => Some(place),
            _ => None,
        }
    }
}
