//! Whether a table has the indexes by which the rows of conditions are found.
//!
//! SQLite is asked how it would read them: what it can use depends on more than an index's columns.

use gossip_core::plan::LookUp;
use rusqlite::Connection;

use super::schema::{Described, Lookup, count_rows, describe};
use super::{SqliteSource, quote};
use crate::{Condition, Finding, Result};

/// Rows of a table below which reading all of it costs no more than an index is worth.
const SMALL: u64 = 10_000;

/// Finds the conditions whose rows are found by no index.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn check(source: &SqliteSource, conditions: &[Condition]) -> Result<Vec<Finding>> {
    let mut db = source.connect()?;
    let mut findings = Vec::new();
    for wanted in &source.tables {
        let Lookup::Table(table) = describe(&db, wanted)? else { continue };
        let own: Vec<&Condition> = conditions.iter().filter(|c| is_of(c, &table)).collect();
        if own.is_empty() || count_rows(&mut db, &table.name).is_some_and(|rows| rows < SMALL) {
            continue;
        }
        for c in own {
            let missing = missing(&db, &table, c)?;
            if missing.is_empty() {
                continue;
            }
            let columns: Vec<&str> = missing.iter().map(|(column, _)| *column).collect();
            let create: Vec<String> = missing.iter().map(|(column, how)| create(&table.name, column, *how)).collect();
            let columns = columns.join(", ");
            let text =
                format!("{} finds its rows by {columns}, of which there is no index: all rows are read", c.place);
            findings.push(Finding { blocks: false, about: wanted.clone(), text, fix: Some(create.join(";\n")) });
        }
    }
    Ok(findings)
}

fn is_of(c: &Condition, table: &Described) -> bool {
    c.table.schema.is_empty() && c.table.name.eq_ignore_ascii_case(&table.name)
}

/// The columns of a condition that want an index.
fn missing<'a>(db: &Connection, table: &Described, c: &'a Condition) -> Result<Vec<(&'a str, LookUp)>> {
    let first = c.first_by.as_deref().map(|first| (first, LookUp::Ordered));
    if let Some((column, how)) = first
        && is_found(db, &table.name, column, how)?
    {
        return Ok(Vec::new());
    }
    let by = c.found_by.iter().map(|(column, how)| (column.as_str(), *how));
    let by: Vec<(&str, LookUp)> = if c.found_by.is_empty() { first.into_iter().collect() } else { by.collect() };
    let mut missing = Vec::new();
    for (column, how) in by {
        if !is_found(db, &table.name, column, how)? {
            missing.push((column, how));
        }
    }
    Ok(missing)
}

/// Whether SQLite would find rows by this column, asked for them as a snapshot asks.
fn is_found(db: &Connection, table: &str, column: &str, how: LookUp) -> Result<bool> {
    let column = quote(column);
    let condition = match how {
        LookUp::Equal => format!("{column} = ?1"),
        LookUp::Ordered | LookUp::Begins => {
            format!("{column} COLLATE BINARY >= ?1 AND {column} COLLATE BINARY <= ?2")
        }
    };
    let mut s = db.prepare(&format!("EXPLAIN QUERY PLAN SELECT * FROM {} WHERE {condition}", quote(table)))?;
    let mut rows = s.raw_query();
    let mut found = false;
    while let Some(row) = rows.next()? {
        found |= row.get::<_, String>(3)?.starts_with("SEARCH");
    }
    Ok(found)
}

/// The SQL that makes an index.
fn create(table: &str, column: &str, how: LookUp) -> String {
    let (name, in_order) = match how {
        LookUp::Equal => (format!("{table}_by_{column}"), ""),
        LookUp::Ordered | LookUp::Begins => (format!("{table}_by_{column}_in_order"), " COLLATE BINARY"),
    };
    format!("CREATE INDEX {} ON {} ({}{in_order})", quote(&name), quote(table), quote(column))
}
