//! The part of a table that a snapshot is wanted of, as SQL.
//!
//! It may be left out, and is wherever it cannot be said: the caller filters every row again.

use gossip_core::plan::{RowFilter, SnapshotRequest, Wanted};
use gossip_core::schema::{Column, Table};
use gossip_core::value::Value;

use crate::page::{Dialect, PageSql};

/// The end of a `SELECT`: ` WHERE …` with the rows that are wanted, and of a page its order and its length. Nothing for all rows.
pub fn selection(request: &SnapshotRequest, page: Option<&PageSql>, dialect: &impl Dialect) -> String {
    let any = request.filter.as_ref().and_then(|filter| any(&request.table, filter, dialect));
    let of_page = page.map(|p| p.condition.clone()).filter(|c| !c.is_empty());
    let all: Vec<String> = any.map(|any| format!("({any})")).into_iter().chain(of_page).collect();
    let condition = if all.is_empty() { String::new() } else { format!(" WHERE {}", all.join(" AND ")) };
    format!("{condition}{}", page.map_or("", |p| &p.tail))
}

fn any(table: &Table, filter: &RowFilter, dialect: &impl Dialect) -> Option<String> {
    let mut each = Vec::new();
    for (column, wanted) in filter.wanted() {
        let column = table.columns.get(*column)?;
        match wanted {
            Wanted::Any(values) if values.is_empty() => {}
            Wanted::Any(values) => {
                let values = values.iter().map(|v| dialect.compared(v, column)).collect::<Option<Vec<_>>>()?;
                each.push(format!("{} IN ({})", dialect.name(column), values.join(", ")));
            }
            Wanted::Within { low, high, prefix } => {
                each.push(within(column, [low.as_ref(), high.as_ref()], prefix.as_deref(), dialect)?);
            }
            Wanted::Null => each.push(format!("{} IS NULL", dialect.name(column))),
        }
    }
    Some(if each.is_empty() { "1 = 0".into() } else { each.join(" OR ") })
}

/// A range, and for texts with a known beginning that as well: one index knows texts by their bytes, another by how they begin.
fn within(
    column: &Column,
    [low, high]: [Option<&Value>; 2],
    prefix: Option<&str>,
    dialect: &impl Dialect,
) -> Option<String> {
    let ordered = dialect.column(column);
    let end =
        |op: &str, v: Option<&Value>| Some(format!("{} {op} {}", ordered.as_ref()?, dialect.compared(v?, column)?));
    let begins = prefix.and_then(|prefix| dialect.begins(column, prefix));
    let all: Vec<String> = begins.into_iter().chain(end(">=", low)).chain(end("<=", high)).collect();
    (!all.is_empty()).then(|| format!("({})", all.join(" AND ")))
}

/// A pattern of `LIKE` for what begins so.
pub fn pattern(prefix: &str) -> String {
    let mut pattern = String::with_capacity(prefix.len() + 1);
    for c in prefix.chars() {
        if matches!(c, '%' | '_' | '\\') {
            pattern.push('\\');
        }
        pattern.push(c);
    }
    pattern.push('%');
    pattern
}
