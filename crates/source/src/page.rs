//! The part of a table that a window needs, as SQL: an order, where it begins and ends, and how many rows.
//!
//! Where it cannot be said, it is left out and all rows are read, which is a longer page.

use std::fmt::Write as _;

use gossip_core::plan::{PageTerm, SnapshotRequest};
use gossip_core::schema::Column;
use gossip_core::value::Value;

/// What of an SQL dialect the part of a table is written with.
pub trait Dialect {
    /// A column as it is.
    fn name(&self, column: &Column) -> String;

    /// A column in the order that its values have here; `None` if the database does not know that.
    fn column(&self, column: &Column) -> Option<String>;

    /// A value that a column is compared with; `None` if it cannot be written, or may compare in another way than it does here.
    fn compared(&self, value: &Value, column: &Column) -> Option<String>;

    /// That a text begins so; `None` if the database cannot tell of this column.
    fn begins(&self, column: &Column, prefix: &str) -> Option<String>;

    /// A value of a column; `None` if it cannot be written.
    fn value(&mut self, value: &Value, column: &Column) -> Option<String>;
}

/// The parts of a query.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct PageSql {
    /// What must hold as well; empty for nothing.
    pub condition: String,
    /// ` ORDER BY … LIMIT …`
    pub tail: String,
}

/// The part of the table that a request wants; `None` if it wants all, or if that cannot be said.
pub fn page(request: &SnapshotRequest, dialect: &mut impl Dialect) -> Option<PageSql> {
    let page = request.page.as_ref()?;
    let columns = &request.table.columns;
    let terms: Vec<(PageTerm, &Column)> =
        page.order.iter().map(|term| Some((*term, columns.get(term.column)?))).collect::<Option<_>>()?;
    let mut conditions = Vec::new();
    // A key without a value is none.
    for key in request.table.key.iter().filter_map(|i| columns.get(*i)) {
        conditions.push(format!("{} IS NOT NULL", dialect.column(key)?));
    }
    if let Some(after) = &page.after {
        conditions.push(behind(&terms, after, dialect)?);
    }
    if let Some(until) = &page.until {
        conditions.push(format!("NOT coalesce({}, false)", behind(&terms, until, dialect)?));
    }
    let order: Vec<String> = terms.iter().map(|(term, column)| order(*term, column, dialect)).collect::<Option<_>>()?;
    let limit = page.limit.map(|limit| format!(" LIMIT {limit}")).unwrap_or_default();
    Some(PageSql { condition: conditions.join(" AND "), tail: format!(" ORDER BY {}{limit}", order.join(", ")) })
}

fn order(term: PageTerm, column: &Column, dialect: &impl Dialect) -> Option<String> {
    let direction = if term.descending { " DESC" } else { "" };
    let nulls = if term.nulls_first { " NULLS FIRST" } else { " NULLS LAST" };
    Some(format!("{}{direction}{nulls}", dialect.column(column)?))
}

/// Whether a row stands behind these values: true if it does, else false or NULL.
fn behind(terms: &[(PageTerm, &Column)], values: &[Value], dialect: &mut impl Dialect) -> Option<String> {
    let (mut sql, mut equal) = (String::new(), String::new());
    for ((term, column), value) in terms.iter().zip(values) {
        let name = dialect.column(column)?;
        let (later, same) = match (value.is_null(), term.nulls_first) {
            (true, true) => (format!("{name} IS NOT NULL"), format!("{name} IS NULL")),
            (true, false) => ("false".into(), format!("{name} IS NULL")),
            (false, nulls_first) => {
                let value = dialect.value(value, column)?;
                let op = if term.descending { "<" } else { ">" };
                let nulls = if nulls_first { String::new() } else { format!(" OR {name} IS NULL") };
                (format!("({name} {op} {value}{nulls})"), format!("{name} = {value}"))
            }
        };
        // Writing to a string cannot fail.
        let _ = write!(sql, "{}({equal}{later})", if sql.is_empty() { "" } else { " OR " });
        let _ = write!(equal, "{same} AND ");
    }
    Some(format!("({sql})"))
}
